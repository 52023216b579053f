//! Which civil dates a schedule names.

use chrono::{Datelike, NaiveDate, TimeDelta, Weekday};
use serde::{Deserialize, Serialize};

use crate::{
    english,
    english::{WEEKDAYS, weekday_name},
    named_days::NamedDays,
    zone::week_start,
};

/// A choice of civil dates. Lists in it are never empty.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Days {
    /// All dates.
    Every,
    /// Sorted from Monday, without doubles.
    On(Vec<Weekday>),
    /// Every `step`th day, counted from `from`.
    EveryNth {
        /// How many days from one to the next.
        step: u32,
        /// The date that is counted from.
        from: NaiveDate,
    },
    /// The named weekdays of every `step`th week, counted from the ISO week of `from`.
    EveryNthWeek {
        /// How many weeks from one to the next.
        step: u32,
        /// The weekdays, sorted from Monday.
        on: Vec<Weekday>,
        /// A date of the week that is counted from.
        from: NaiveDate,
    },
    /// These days of every month that has them.
    Monthly(Vec<MonthDay>),
    /// Month and day of the month.
    Yearly(Vec<(u32, u32)>),
}

/// A day of a month. A month that has no such day has no run, as in RFC 5545.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum MonthDay {
    /// The 1st to the 31st.
    Date(u32),
    /// The last date.
    Last,
    /// The last Monday to Friday that the schedule's calendar does not name.
    LastWorkingDay,
    /// The nth weekday: which one, from 1, and the weekday from Monday as 0.
    Nth(u32, u8),
    /// The last of a weekday, which counts from Monday as 0.
    LastWeekday(u8),
}

const ORDINALS: [&str; 5] = ["first", "second", "third", "fourth", "fifth"];

impl MonthDay {
    /// Reads `15`, `last`, `last-working-day`, `first monday` … `fifth friday`, `last friday`.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.trim().to_lowercase();
        match text.as_str() {
            "last" => return Some(Self::Last),
            "last-working-day" | "last working day" => return Some(Self::LastWorkingDay),
            _ => {}
        }
        if let Ok(date) = text.parse() {
            return (1..=31).contains(&date).then_some(Self::Date(date));
        }
        let (which, day) = text.split_once(' ')?;
        let day = english::weekday_from_name(day.trim())?.num_days_from_monday() as u8;
        if which == "last" {
            return Some(Self::LastWeekday(day));
        }
        let nth = ORDINALS.iter().position(|word| *word == which)? as u32 + 1;
        Some(Self::Nth(nth, day))
    }

    fn is(self, date: NaiveDate, named: Option<&NamedDays>) -> bool {
        let weekday = date.weekday().num_days_from_monday() as u8;
        let last = |date: NaiveDate| (date + TimeDelta::days(1)).month() != date.month();
        match self {
            Self::Date(day) => date.day() == day,
            Self::Last => last(date),
            Self::LastWorkingDay => {
                let working = |date: NaiveDate| {
                    date.weekday().num_days_from_monday() < 5
                        && !named.is_some_and(|named| named.contains(date))
                };
                working(date)
                    && !date
                        .iter_days()
                        .skip(1)
                        .take_while(|later| later.month() == date.month())
                        .any(working)
            }
            Self::Nth(nth, day) => weekday == day && (date.day() - 1) / 7 + 1 == nth,
            Self::LastWeekday(day) => {
                weekday == day && (date + TimeDelta::days(7)).month() != date.month()
            }
        }
    }

    fn words(self) -> String {
        let weekday = |day: u8| weekday_name(Weekday::try_from(day).unwrap_or(Weekday::Mon));
        match self {
            Self::Date(day) => format!("the {}", ordinal(day)),
            Self::Last => "the last day".to_owned(),
            Self::LastWorkingDay => "the last working day (Monday to Friday)".to_owned(),
            Self::Nth(nth, day) => format!(
                "the {} {}",
                ORDINALS[(nth as usize - 1).min(4)],
                weekday(day)
            ),
            Self::LastWeekday(day) => format!("the last {}", weekday(day)),
        }
    }
}

/// `1st`, `22nd`, `13th`.
fn ordinal(day: u32) -> String {
    let ending = match (day % 10, day % 100) {
        (_, 11..=13) => "th",
        (1, _) => "st",
        (2, _) => "nd",
        (3, _) => "rd",
        _ => "th",
    };
    format!("{day}{ending}")
}

impl Days {
    /// Whether a date is chosen; a choice of working days looks at the named days.
    #[must_use]
    pub fn contains(&self, date: NaiveDate, named: Option<&NamedDays>) -> bool {
        match self {
            Days::Every => true,
            Days::On(days) => days.contains(&date.weekday()),
            Days::EveryNth { step, from } => {
                (date - *from).num_days().rem_euclid(i64::from(*step)) == 0
            }
            Days::EveryNthWeek { step, on, from } => {
                let weeks = (week_start(date, Weekday::Mon) - week_start(*from, Weekday::Mon))
                    .num_days()
                    / 7;
                on.contains(&date.weekday()) && weeks.rem_euclid(i64::from(*step)) == 0
            }
            Days::Monthly(days) => days.iter().any(|day| day.is(date, named)),
            Days::Yearly(days) => days.contains(&(date.month(), date.day())),
        }
    }

    /// The first date at or after `date` that is chosen. Every choice that passed the
    /// checks of a schedule has one within 28 years at most, one whole round of weekdays
    /// and leap years but for the turns of centuries, which add up to twelve.
    pub(crate) fn next(&self, date: NaiveDate, named: Option<&NamedDays>) -> Option<NaiveDate> {
        date.iter_days()
            .take(366 * 40)
            .find(|date| self.contains(*date, named))
    }

    /// For people: `every Monday and Thursday`, `on the last Friday of every month`.
    pub(crate) fn words(&self) -> String {
        let weekdays = |days: &[Weekday]| {
            english::list(
                &days
                    .iter()
                    .map(|day| weekday_name(*day).to_owned())
                    .collect::<Vec<_>>(),
            )
        };
        let nth = |step: u32, unit: &str| {
            if step == 2 {
                format!("every other {unit}")
            } else {
                format!("every {step} {unit}s")
            }
        };
        match self {
            Days::Every => "every day".to_owned(),
            Days::On(days) if days.as_slice() == &WEEKDAYS[..5] => {
                "every weekday (Monday to Friday)".to_owned()
            }
            Days::On(days) => format!("every {}", weekdays(days)),
            Days::EveryNth { step, from } => format!(
                "{}, counted from {}",
                nth(*step, "day"),
                from.format("%-d %B %Y")
            ),
            Days::EveryNthWeek { step, on, from } => {
                format!(
                    "{} on {}, counted from the week of {}",
                    nth(*step, "week"),
                    weekdays(on),
                    from.format("%-d %B %Y")
                )
            }
            Days::Monthly(days) => format!(
                "on {} of every month",
                english::list(&days.iter().map(|day| day.words()).collect::<Vec<_>>())
            ),
            Days::Yearly(days) => {
                let names: Vec<String> = days
                    .iter()
                    .filter_map(|(month, day)| NaiveDate::from_ymd_opt(2024, *month, *day))
                    .map(|date| date.format("%-d %B").to_string())
                    .collect();
                format!("on {} of every year", english::list(&names))
            }
        }
    }
}
