//! Days that have a name: holidays and maintenance, in one zone.

use std::collections::BTreeMap;

use chrono::{Datelike, NaiveDate, Weekday};

/// The named days of one or more calendars, in one zone.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NamedDays(BTreeMap<NaiveDate, String>);

impl From<BTreeMap<NaiveDate, String>> for NamedDays {
    fn from(days: BTreeMap<NaiveDate, String>) -> Self {
        Self(days)
    }
}

impl NamedDays {
    /// The name of `date`, if it has one.
    pub fn name(&self, date: NaiveDate) -> Option<&str> {
        self.0.get(&date).map(String::as_str)
    }

    /// Whether a date has a name.
    #[must_use]
    pub fn contains(&self, date: NaiveDate) -> bool {
        self.0.contains_key(&date)
    }

    /// Monday to Friday and without a name.
    #[must_use]
    pub fn is_working_day(&self, date: NaiveDate) -> bool {
        !matches!(date.weekday(), Weekday::Sat | Weekday::Sun) && !self.contains(date)
    }

    /// The days of both; a day that both name keeps its first name.
    #[must_use]
    pub fn join(mut self, other: NamedDays) -> Self {
        for (date, name) in other.0 {
            self.0.entry(date).or_insert(name);
        }
        self
    }

    /// The named days in `[from, to)`.
    pub fn between(
        &self,
        from: NaiveDate,
        to: NaiveDate,
    ) -> impl Iterator<Item = (NaiveDate, &str)> {
        self.0
            .range(from..to.max(from))
            .map(|(date, name)| (*date, name.as_str()))
    }
}
