//! Crontab expressions, evaluated in civil time, so that the gap and fold rule of the schedule
//! holds for them as it does for every other form.

use std::str::FromStr;

use chrono::{NaiveDate, NaiveDateTime};
use croner::{
    Cron,
    parser::{CronParser, Seconds, Year},
};
use serde::{Deserialize, Serialize};

use crate::{english::shortened, schedule::ImpossibleSchedule};

/// Why a text is no crontab expression that can be followed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
#[allow(missing_docs, reason = "each variant says it in its message")]
pub enum BadCrontab {
    #[error("it has {0} fields instead of five: minute, hour, day of month, month, day of week")]
    Fields(usize),
    #[error("a question mark has no meaning here; write *")]
    QuestionMark,
    #[error("in \"{0}\" nothing stands before or behind a comma")]
    EmptyItem(String),
    #[error("\"{text}\" is no {field}")]
    Field { field: &'static str, text: String },
    #[error(
        "\"{0}\" is no name for an expression; there are @yearly, @monthly, @weekly, @daily and @hourly"
    )]
    Name(String),
    #[error("it never fires: no date fits it")]
    Never,
}

const FIELDS: [&str; 5] = [
    "minute (0 to 59)",
    "hour (0 to 23)",
    "day of the month (1 to 31)",
    "month (1 to 12, or jan to dec)",
    "day of the week (0 to 7, or sun to sat)",
];

impl BadCrontab {
    /// Finds the field that cannot be read, by reading each with stars for all others.
    fn of(fields: &[&str]) -> Self {
        let [name] = fields else {
            let parser = CronParser::builder()
                .seconds(Seconds::Disallowed)
                .year(Year::Disallowed)
                .build();
            let wrong = |place: &usize| {
                let mut alone = ["*"; 5];
                alone[*place] = fields[*place];
                parser.parse(&alone.join(" ")).is_err()
            };
            let place = (0..fields.len().min(5)).find(wrong).unwrap_or_default();
            return Self::Field {
                field: FIELDS[place],
                text: shortened(fields[place]),
            };
        };
        Self::Name(shortened(name))
    }
}

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
        let bad = |reason: BadCrontab| ImpossibleSchedule::Crontab {
            text: shortened(text),
            reason,
        };
        let fields: Vec<&str> = text.split_whitespace().collect();
        if fields.len() != 5 && !text.trim().starts_with('@') {
            return Err(bad(BadCrontab::Fields(fields.len())));
        }
        for field in &fields {
            if field.contains('?') {
                return Err(bad(BadCrontab::QuestionMark));
            }
            if field.split(',').any(str::is_empty) {
                return Err(bad(BadCrontab::EmptyItem(shortened(field))));
            }
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
        let parsed = parser
            .parse(text)
            .map_err(|_| bad(BadCrontab::of(&fields)))?;
        let crontab = Self {
            text: text.to_owned(),
            parsed: Box::new(parsed),
        };
        let start = NaiveDate::from_ymd_opt(2000, 1, 1).and_then(|date| date.and_hms_opt(0, 0, 0));
        match start.and_then(|start| crontab.next(start)) {
            Some(_) => Ok(crontab),
            None => Err(bad(BadCrontab::Never)),
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
