//! Recurrences whose notation is an open standard: crontab expressions and RFC 5545 rules.
//!
//! Both are evaluated in civil time, so that the gap and fold rule of the schedule holds
//! for them as it does for every other form.

use std::str::FromStr;

use chrono::{Datelike, Months, NaiveDate, NaiveDateTime, TimeDelta, TimeZone};
use croner::{
    Cron,
    parser::{CronParser, Seconds, Year},
};
use rrule::{Frequency, RRule, RRuleSet, Tz, Unvalidated};
use serde::{Deserialize, Serialize};

use crate::schedule::ImpossibleSchedule;

/// A five-field crontab expression that fires at least once. When day of the month and day
/// of the week are both restricted, a date that fits either is chosen, as crontab(5) says;
/// a field that begins with a star does not count as restricted.
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
        let bad = |reason: String| ImpossibleSchedule::Crontab {
            text: text.to_owned(),
            reason,
        };
        let fields = text.split_whitespace().count();
        if fields != 5 && !text.trim().starts_with('@') {
            return Err(bad(format!(
                "it has {fields} fields instead of five: minute, hour, day of month, month, day of week"
            )));
        }
        // As crontab(5) has it: a field that begins with a star, "*/2" too, is not restricted,
        // and then a date has to fit both of the fields for days.
        let mut days = text.split_whitespace().skip(2).step_by(2);
        let both = days.any(|field| field.starts_with('*'));
        let parser = CronParser::builder()
            .seconds(Seconds::Disallowed)
            .year(Year::Disallowed)
            .dom_and_dow(both)
            .build();
        let parsed = parser.parse(text).map_err(|error| bad(error.to_string()))?;
        let crontab = Self {
            text: text.to_owned(),
            parsed: Box::new(parsed),
        };
        let start = NaiveDate::from_ymd_opt(2000, 1, 1).and_then(|date| date.and_hms_opt(0, 0, 0));
        match start.and_then(|start| crontab.next(start)) {
            Some(_) => Ok(crontab),
            None => Err(bad("it never fires: no date fits it".to_owned())),
        }
    }
}

impl Crontab {
    pub(crate) fn next(&self, after: NaiveDateTime) -> Option<NaiveDateTime> {
        self.parsed.find_next_occurrence(&after, false).ok()
    }

    pub(crate) fn words(&self) -> String {
        let described = self.parsed.describe();
        format!(
            "by the crontab expression \"{}\" ({})",
            self.text,
            described.trim_end_matches('.').to_lowercase()
        )
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
        let bad = |reason: String| ImpossibleSchedule::Rule {
            text: text.to_owned(),
            reason,
        };
        let body = text.trim().trim_start_matches("RRULE:");
        // Civil time stands in for UTC, so an UNTIL has to be read as UTC too.
        let body: Vec<String> = body
            .split(';')
            .map(|part| {
                if part.starts_with("UNTIL=") && !part.ends_with('Z') {
                    format!(
                        "{}Z",
                        if part.len() == 14 {
                            format!("{part}T235959")
                        } else {
                            part.to_owned()
                        }
                    )
                } else {
                    part.to_owned()
                }
            })
            .collect();
        let parsed: RRule<Unvalidated> = body
            .join(";")
            .parse()
            .map_err(|error: rrule::RRuleError| bad(error.to_string()))?;
        let set = parsed
            .build(Tz::UTC.from_utc_datetime(&first))
            .map_err(|error| bad(error.to_string()))?;
        let rule = Self {
            text: body.join(";"),
            first,
            set: Box::new(set),
        };
        match rule.next(first - TimeDelta::seconds(1)) {
            Some(_) => Ok(rule),
            None => Err(bad("it never fires: no date fits it".to_owned())),
        }
    }

    /// The first occurrence strictly after `after`.
    ///
    /// A rule without `COUNT` is not unrolled from its beginning but from shortly before
    /// `after`: moving its first time by a whole number of its periods changes nothing.
    pub(crate) fn next(&self, after: NaiveDateTime) -> Option<NaiveDateTime> {
        let near = self.rebased(after);
        near.as_ref()
            .unwrap_or(&self.set)
            .into_iter()
            .take(MOST_STEPS)
            .map(|at| at.naive_utc())
            .find(|at| *at > after && *at >= self.first)
    }

    /// All occurrences, oldest first.
    pub(crate) fn occurrences(&self) -> impl Iterator<Item = NaiveDateTime> + '_ {
        self.set.into_iter().map(|at| at.naive_utc())
    }

    /// The rule with its first time moved on to at least two periods before `after`, or
    /// nothing if it has to be unrolled from its own.
    fn rebased(&self, after: NaiveDateTime) -> Option<RRuleSet> {
        let rule = self.set.get_rrule().first()?;
        if rule.get_count().is_some() || after <= self.first {
            return None;
        }
        let interval = i64::from(rule.get_interval().max(1));
        let passed = after - self.first;
        let by = |period: TimeDelta| {
            let periods = passed.num_seconds() / (period.num_seconds() * interval) - 2;
            (periods > 0)
                .then(|| self.first + TimeDelta::seconds(period.num_seconds() * interval * periods))
        };
        let moved = match rule.get_freq() {
            Frequency::Secondly => by(TimeDelta::seconds(1)),
            Frequency::Minutely => by(TimeDelta::minutes(1)),
            Frequency::Hourly => by(TimeDelta::hours(1)),
            Frequency::Daily => by(TimeDelta::days(1)),
            Frequency::Weekly => by(TimeDelta::days(7)),
            // What day of the month or year is meant was written into the rule when it was
            // checked, so the first time may be moved to a day that every month has.
            Frequency::Monthly => {
                let months = i64::from(after.year() - self.first.year()) * 12
                    + i64::from(after.month())
                    - i64::from(self.first.month());
                let periods = months / interval - 2;
                let first = self.first.with_day(1)?;
                (periods > 0).then(|| first + Months::new((periods * interval) as u32))
            }
            Frequency::Yearly => {
                let periods = i64::from(after.year() - self.first.year()) / interval - 2;
                let first = self.first.with_day(1)?.with_month(1)?;
                (periods > 0).then(|| first + Months::new((periods * interval * 12) as u32))
            }
        }?;
        Some(RRuleSet::new(Tz::UTC.from_utc_datetime(&moved)).rrule(rule.clone()))
    }

    pub(crate) fn words(&self) -> String {
        format!(
            "by the calendar rule {}, first considered on {}",
            self.text,
            self.first.format("%-d %B %Y at %H:%M")
        )
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

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(200))]

        /// Unrolling from near the instant asked for gives what unrolling from the rule's
        /// own beginning gives.
        #[test]
        fn a_rule_is_the_same_from_wherever_it_is_unrolled(
            text in proptest::sample::select(vec![
                "FREQ=DAILY;INTERVAL=3", "FREQ=WEEKLY;INTERVAL=2;BYDAY=MO,FR", "FREQ=WEEKLY;INTERVAL=3;WKST=SU;BYDAY=SU,SA", "FREQ=WEEKLY",
                "FREQ=MONTHLY;BYDAY=-1FR", "FREQ=MONTHLY;INTERVAL=5", "FREQ=MONTHLY;BYMONTHDAY=31", "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2",
                "FREQ=YEARLY", "FREQ=YEARLY;INTERVAL=2;BYMONTH=2;BYMONTHDAY=29", "FREQ=YEARLY;BYWEEKNO=20", "FREQ=YEARLY;BYYEARDAY=200", "FREQ=HOURLY;INTERVAL=7",
                "FREQ=DAILY;UNTIL=20350101T000000Z", "FREQ=DAILY;COUNT=700", "FREQ=MONTHLY;COUNT=20;BYDAY=1SU,-1SU",
            ]),
            first_day in 0i64..2000,
            minute in 0i64..1440,
            asked in 0i64..6000,
        ) {
            let day = NaiveDate::from_ymd_opt(2020, 1, 1).unwrap();
            let first = day.and_hms_opt(0, 0, 0).unwrap() + TimeDelta::days(first_day) + TimeDelta::minutes(minute);
            let Ok(rule) = Rule::new(text, first) else { return Ok(()) };
            let after = day.and_hms_opt(12, 0, 0).unwrap() + TimeDelta::days(asked);
            prop_assert_eq!(rule.next(after), rule.occurrences().find(|at| *at > after), "{} from {}", text, first);
        }
    }
}
