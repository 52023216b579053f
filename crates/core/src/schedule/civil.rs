//! Recurrences whose notation is an open standard: crontab expressions and RFC 5545 rules.
//!
//! Both are evaluated in civil time, so that the gap and fold rule of the schedule holds
//! for them as it does for every other form.

use std::str::FromStr;

use chrono::{NaiveDate, NaiveDateTime, TimeZone};
use croner::{
    Cron,
    parser::{CronParser, Seconds, Year},
};
use rrule::{RRule, RRuleSet, Tz, Unvalidated};
use serde::{Deserialize, Serialize};

use super::ImpossibleSchedule;

/// A five-field crontab expression that fires at least once. When day of the month and day
/// of the week are both restricted, a date that fits either is chosen, as crontab(5) says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Crontab {
    text: String,
    parsed: Box<Cron>,
}

impl Eq for Crontab {}

impl FromStr for Crontab {
    type Err = ImpossibleSchedule;

    fn from_str(text: &str) -> Result<Self, ImpossibleSchedule> {
        let bad = |reason: String| ImpossibleSchedule::Crontab { text: text.to_owned(), reason };
        let fields = text.split_whitespace().count();
        if fields != 5 && !text.trim().starts_with('@') {
            return Err(bad(format!("it has {fields} fields instead of five: minute, hour, day of month, month, day of week")));
        }
        let parser = CronParser::builder().seconds(Seconds::Disallowed).year(Year::Disallowed).build();
        let parsed = parser.parse(text).map_err(|error| bad(error.to_string()))?;
        let crontab = Self { text: text.to_owned(), parsed: Box::new(parsed) };
        let start = NaiveDate::from_ymd_opt(2000, 1, 1).and_then(|date| date.and_hms_opt(0, 0, 0));
        match start.and_then(|start| crontab.next(start)) {
            Some(_) => Ok(crontab),
            None => Err(bad("it never fires: no date fits it".to_owned())),
        }
    }
}

impl Crontab {
    pub(super) fn next(&self, after: NaiveDateTime) -> Option<NaiveDateTime> {
        self.parsed.find_next_occurrence(&after, false).ok()
    }

    pub(super) fn words(&self) -> String {
        let described = self.parsed.describe();
        format!("by the crontab expression \"{}\" ({})", self.text, described.trim_end_matches('.').to_lowercase())
    }
}

impl TryFrom<String> for Crontab {
    type Error = ImpossibleSchedule;

    fn try_from(text: String) -> Result<Self, ImpossibleSchedule> {
        text.parse()
    }
}

impl From<Crontab> for String {
    fn from(crontab: Crontab) -> String {
        crontab.text
    }
}

/// An RFC 5545 recurrence rule with its first civil time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "(String, NaiveDateTime)", into = "(String, NaiveDateTime)")]
pub struct Rule {
    text: String,
    first: NaiveDateTime,
    set: Box<RRuleSet>,
}

impl Eq for Rule {}

/// A rule that finds nothing is given up after this many candidates.
const MOST_STEPS: usize = 200_000;

impl Rule {
    /// Reads `FREQ=MONTHLY;BYDAY=1MO`, with or without a leading `RRULE:`. `UNTIL` is taken
    /// as civil time.
    pub fn new(text: &str, first: NaiveDateTime) -> Result<Self, ImpossibleSchedule> {
        let bad = |reason: String| ImpossibleSchedule::Rule { text: text.to_owned(), reason };
        let body = text.trim().trim_start_matches("RRULE:");
        // Civil time stands in for UTC, so an UNTIL has to be read as UTC too.
        let body: Vec<String> = body
            .split(';')
            .map(|part| {
                if part.starts_with("UNTIL=") && !part.ends_with('Z') {
                    format!("{}Z", if part.len() == 14 { format!("{part}T235959") } else { part.to_owned() })
                } else {
                    part.to_owned()
                }
            })
            .collect();
        let parsed: RRule<Unvalidated> = body.join(";").parse().map_err(|error: rrule::RRuleError| bad(error.to_string()))?;
        let set = parsed.build(Tz::UTC.from_utc_datetime(&first)).map_err(|error| bad(error.to_string()))?;
        let rule = Self { text: body.join(";"), first, set: Box::new(set) };
        match rule.next(first - chrono::TimeDelta::seconds(1)) {
            Some(_) => Ok(rule),
            None => Err(bad("it never fires: no date fits it".to_owned())),
        }
    }

    pub(super) fn next(&self, after: NaiveDateTime) -> Option<NaiveDateTime> {
        self.set.into_iter().take(MOST_STEPS).map(|at| at.naive_utc()).find(|at| *at > after)
    }

    pub(super) fn words(&self) -> String {
        format!("by the calendar rule {}, first considered on {}", self.text, self.first.format("%-d %B %Y at %H:%M"))
    }
}

impl TryFrom<(String, NaiveDateTime)> for Rule {
    type Error = ImpossibleSchedule;

    fn try_from((text, first): (String, NaiveDateTime)) -> Result<Self, ImpossibleSchedule> {
        Rule::new(&text, first)
    }
}

impl From<Rule> for (String, NaiveDateTime) {
    fn from(rule: Rule) -> Self {
        (rule.text, rule.first)
    }
}
