//! When the documents of a run are worth sending.

use std::{fmt, str::FromStr};

use maple_lark_data::status::Status;

use crate::problem::Placed;

/// When a run's documents are worth a mail.
#[derive(Debug, Clone, PartialEq, Default)]
pub enum SendWhen {
    /// Whatever is in them.
    #[default]
    Always,
    /// When one of these queries has a row.
    Rows(Vec<Placed<String>>),
    /// When something in the document is at least this bad.
    Status(Status),
    /// When any, or all, of these are true of the key figures.
    Figures {
        /// What is asked of their key figures.
        conditions: Vec<Placed<Condition>>,
        /// Whether all of it must hold, instead of any of it.
        all: bool,
    },
    /// When the status is another than in the run before.
    Change,
}

/// What is asked of one key figure: `payments_failed >= 20`, `bookings changed by 10 %`.
#[derive(Debug, Clone, PartialEq)]
pub struct Condition {
    /// The key figure's name.
    pub figure: String,
    /// What is asked of it.
    pub test: Test,
}

/// What a condition asks of a key figure.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Test {
    /// It is more than this.
    Above(f64),
    /// It is this or more.
    AtLeast(f64),
    /// It is less than this.
    Below(f64),
    /// It is this or less.
    AtMost(f64),
    /// By so much against the comparison window.
    ChangedBy(f64),
    /// By so many percent of what it was.
    ChangedByPercent(f64),
}

#[derive(Debug, thiserror::Error, PartialEq, Eq)]
/// The text is no condition. The message says why.
#[error(
    "\"{0}\" is no condition such as \"payments_failed >= 20\" or \"bookings changed by 10 %\""
)]
pub struct BadCondition(String);

impl FromStr for Condition {
    type Err = BadCondition;

    fn from_str(text: &str) -> Result<Self, BadCondition> {
        let bad = || BadCondition(text.to_owned());
        let number = |text: &str| {
            text.trim()
                .parse::<f64>()
                .ok()
                .filter(|number| number.is_finite())
        };
        let (figure, test) = if let Some((figure, by)) = text.split_once(" changed by ") {
            let test = match by.trim().strip_suffix('%') {
                Some(percent) => number(percent).map(Test::ChangedByPercent),
                None => number(by).map(Test::ChangedBy),
            };
            (figure, test)
        } else {
            let at = text.find(['<', '>']).ok_or_else(bad)?;
            let (figure, rest) = text.split_at(at);
            let test = match (&rest[..1], rest[1..].strip_prefix('=')) {
                (">", Some(rest)) => number(rest).map(Test::AtLeast),
                (">", None) => number(&rest[1..]).map(Test::Above),
                (_, Some(rest)) => number(rest).map(Test::AtMost),
                (_, None) => number(&rest[1..]).map(Test::Below),
            };
            (figure, test)
        };
        let figure = figure.trim();
        let named = !figure.is_empty() && !figure.contains(char::is_whitespace);
        named
            .then_some(())
            .and(test)
            .map(|test| Condition {
                figure: figure.to_owned(),
                test,
            })
            .ok_or_else(bad)
    }
}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let figure = &self.figure;
        match self.test {
            Test::Above(limit) => write!(f, "{figure} > {limit}"),
            Test::AtLeast(limit) => write!(f, "{figure} >= {limit}"),
            Test::Below(limit) => write!(f, "{figure} < {limit}"),
            Test::AtMost(limit) => write!(f, "{figure} <= {limit}"),
            Test::ChangedBy(amount) => write!(f, "{figure} changed by {amount}"),
            Test::ChangedByPercent(percent) => write!(f, "{figure} changed by {percent} %"),
        }
    }
}

impl Condition {
    /// Whether it is true of a figure, given what it was in the comparison window; nothing
    /// where that cannot be said.
    #[must_use]
    pub fn holds(&self, now: Option<f64>, before: Option<f64>) -> Option<bool> {
        let now = now?;
        Some(match self.test {
            Test::Above(limit) => now > limit,
            Test::AtLeast(limit) => now >= limit,
            Test::Below(limit) => now < limit,
            Test::AtMost(limit) => now <= limit,
            Test::ChangedBy(amount) => (now - before?).abs() >= amount,
            Test::ChangedByPercent(_) if before? == 0.0 => now != 0.0,
            Test::ChangedByPercent(percent) => ((now - before?) / before? * 100.0).abs() >= percent,
        })
    }
}
