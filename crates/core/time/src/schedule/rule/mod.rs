//! Recurrence rules of RFC 5545 (3.3.10), unrolled in civil time.
//!
//! What the standard leaves open is decided so, and written down in the documentation:
//!
//! - `BYSETPOS` counts within the whole period, the first one too, even where it began before
//!   the first time of the rule;
//! - weeks are numbered as ISO 8601 numbers them, from the day that `WKST` names; a date
//!   belongs to the period of its calendar year, whatever the year of its week;
//! - `BYWEEKNO` without a day means all days of the week;
//! - a rule finds nothing after the year 9999.

mod expand;
mod parts;

use chrono::{DateTime, NaiveDateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};

use crate::schedule::ImpossibleSchedule;
use expand::Pattern;
pub use parts::BadRule;
use parts::{Parts, Until};

/// A recurrence rule with its first civil time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "(String, NaiveDateTime)", into = "(String, NaiveDateTime)")]
pub struct Rule {
    text: String,
    first: NaiveDateTime,
    pattern: Box<Pattern>,
    /// The last civil time that it may have: that of `UNTIL`, or of the last that is counted.
    last: Option<NaiveDateTime>,
    /// The last instant that it may have.
    until: Option<DateTime<Utc>>,
}

/// No clock anywhere has been so far from UTC.
const FARTHEST_OFFSET: TimeDelta = TimeDelta::hours(16);

impl Rule {
    /// Reads `FREQ=MONTHLY;BYDAY=1MO`, with or without a leading `RRULE:`.
    ///
    /// `UNTIL` with a `Z` is an instant; without, it is civil time, and a date alone is meant
    /// to its end.
    ///
    /// ```
    /// use maple_lark_time::schedule::Rule;
    /// let first = "2026-12-01T07:30:00".parse().unwrap();
    /// let rule = Rule::new("FREQ=MONTHLY;BYDAY=1MO,FR", first).unwrap();
    /// let found: Vec<String> = rule.occurrences().take(3).map(|at| at.to_string()).collect();
    /// assert_eq!(found, ["2026-12-04 07:30:00", "2026-12-07 07:30:00", "2026-12-11 07:30:00"]);
    /// ```
    ///
    /// # Errors
    /// Where the text is no such rule, or it never fires.
    pub fn new(text: &str, first: NaiveDateTime) -> Result<Self, ImpossibleSchedule> {
        Self::read(text, first).map_err(|reason| ImpossibleSchedule::Rule {
            text: crate::english::shortened(text),
            reason,
        })
    }

    fn read(text: &str, first: NaiveDateTime) -> Result<Self, BadRule> {
        let parts = Parts::read(text)?;
        let (count, until) = (parts.count, parts.until);
        let pattern = Box::new(Pattern::new(parts, first));
        let mut last = None;
        if let Some(count) = count {
            // Counted once; from then on the rule ends at a time like any other.
            last = Some(pattern.from(first).take(count as usize).last());
        }
        let (mut civil, mut instant) = (None, None);
        match until {
            Some(Until::Civil(at)) if at < first => return Err(BadRule::EndsBeforeStart),
            Some(Until::Instant(at)) if at.naive_utc() + FARTHEST_OFFSET < first => {
                return Err(BadRule::EndsBeforeStart);
            }
            Some(Until::Civil(at)) => civil = Some(at),
            Some(Until::Instant(at)) => instant = Some(at),
            None => {}
        }
        let rule = Self {
            text: text.trim().trim_start_matches("RRULE:").to_owned(),
            first,
            last: match last {
                Some(None) => return Err(BadRule::Never),
                Some(counted) => counted,
                None => civil,
            },
            until: instant,
            pattern,
        };
        let fires = rule.occurrences().next().is_some();
        fires.then_some(rule).ok_or(BadRule::Never)
    }

    /// The first occurrence strictly after `after`.
    pub(crate) fn next(&self, after: NaiveDateTime) -> Option<NaiveDateTime> {
        let next = self.occurrences_from(after).find(|at| *at > after)?;
        self.last.is_none_or(|last| next <= last).then_some(next)
    }

    /// All occurrences, oldest first, up to `UNTIL` if that is a civil time, or as many as
    /// `COUNT` says; see [`Rule::until`].
    pub fn occurrences(&self) -> impl Iterator<Item = NaiveDateTime> + '_ {
        self.occurrences_from(self.first)
    }

    /// Those at or after `from`.
    pub(crate) fn occurrences_from(
        &self,
        from: NaiveDateTime,
    ) -> impl Iterator<Item = NaiveDateTime> + '_ {
        let last = self.last;
        self.pattern
            .from(from)
            .take_while(move |at| last.is_none_or(|last| *at <= last))
    }

    /// The instant, if `UNTIL` names one, after which an occurrence does not count any more.
    #[must_use]
    pub fn until(&self) -> Option<DateTime<Utc>> {
        self.until
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
mod tests;
