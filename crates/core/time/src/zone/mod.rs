//! IANA time zones, and the one rule by which a civil time becomes an instant.
//!
//! Rules are those of the IANA time zone database: a copy is bundled, and whoever runs this
//! program may give it newer ones, such as the system's (see [`use_rules`]). Offsets count in
//! seconds, as those before about 1900 had them; after the last rule of a zone its yearly
//! pattern goes on for ever.

mod rules;
mod table;

use std::{
    fmt,
    hash::{Hash, Hasher},
    str::FromStr,
};

use chrono::{
    DateTime, Datelike, FixedOffset, NaiveDate, NaiveDateTime, NaiveTime, SubsecRound, TimeDelta,
    Utc,
};
use serde::{Deserialize, Serialize};

use crate::{english::shortened, nearest::suggestion};
pub use rules::{BadRules, Rules, RulesInUse, rules_in_use, use_rules};

/// A time zone by its IANA name, such as `Atlantic/Faroe`. A value of this type is valid.
/// Zones are equal if their names are.
#[derive(Clone, Copy, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Zone(&'static rules::Entry);

/// A half-open stretch of time without a change of the clock.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Stretch {
    pub(crate) from: DateTime<Utc>,
    pub(crate) to: DateTime<Utc>,
    /// Seconds east of UTC.
    pub(crate) offset: i32,
}

/// The name is not in the IANA time zone database.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[error(
    "\"{given}\" is not an IANA time zone.{suggestion} Names look like \"Atlantic/Faroe\" or \"UTC\"."
)]
pub struct UnknownZone {
    given: String,
    suggestion: String,
}

impl Zone {
    /// Coordinated universal time, in which no clock is ever changed.
    pub const UTC: Zone = Zone(&rules::UTC);

    /// The names of all zones, sorted.
    #[must_use]
    pub fn names() -> Vec<String> {
        rules::names()
    }

    /// A zone whose rules are those in these bytes (TZif, RFC 9636), whatever rules others of
    /// its name have: what was worked out with them can be worked out again.
    ///
    /// # Errors
    /// If the bytes hold no rules.
    pub fn with_rules(name: &str, bytes: &[u8]) -> Result<Self, BadRules> {
        rules::fixed(name, bytes).map(Self)
    }

    /// The rules that are in use for this zone's name, as TZif (RFC 9636).
    #[must_use]
    pub fn rules(&self) -> Option<Vec<u8>> {
        rules::bytes_of(self.name())
    }

    /// Its IANA name.
    #[must_use]
    pub fn name(&self) -> &'static str {
        self.0.name
    }

    /// What a wall clock in this zone shows at `instant`.
    #[must_use]
    pub fn local(&self, instant: DateTime<Utc>) -> NaiveDateTime {
        instant.naive_utc() + TimeDelta::seconds(i64::from(self.offset_seconds(instant)))
    }

    /// The instant at which a wall clock in this zone shows `local`.
    ///
    /// - In a spring gap, where no clock ever shows `local`: the first valid instant after
    ///   the gap.
    /// - In an autumn fold, where clocks show `local` twice: the first of the two.
    #[must_use]
    pub fn instant(&self, local: NaiveDateTime) -> DateTime<Utc> {
        self.instant_or_gap(local).0
    }

    /// The same, and whether `local` is in a gap.
    pub(crate) fn instant_or_gap(&self, local: NaiveDateTime) -> (DateTime<Utc>, bool) {
        let shown = local.and_utc();
        let (second, gap) = self.0.table().instant(shown.timestamp());
        let moved = shown + TimeDelta::seconds(second - shown.timestamp());
        // Whatever the fraction of a second, the first instant after a gap is a whole one.
        let moved = if gap { moved.trunc_subsecs(0) } else { moved };
        (moved, gap)
    }

    /// The first instant of a civil date: usually its midnight, later where midnight falls
    /// into a gap. A date that the zone skipped whole begins where the next one begins.
    #[must_use]
    pub fn start_of(&self, date: NaiveDate) -> DateTime<Utc> {
        self.instant(date.and_time(NaiveTime::MIN))
    }

    /// Whether the zone's calendar has this date: Samoa's has no 30 December 2011.
    #[must_use]
    pub fn has(&self, date: NaiveDate) -> bool {
        self.start_of(date) < self.start_of(date + TimeDelta::days(1))
    }

    /// Seconds east of UTC at `instant`.
    #[must_use]
    pub fn offset_seconds(&self, instant: DateTime<Utc>) -> i32 {
        self.0.table().offset(instant.timestamp())
    }

    /// The last instant in `(after, until]` at which the offset changed, if there is one.
    pub(crate) fn last_change(
        &self,
        after: DateTime<Utc>,
        until: DateTime<Utc>,
    ) -> Option<DateTime<Utc>> {
        let table = self.0.table();
        let last = table
            .between(after.timestamp(), until.timestamp())
            .next_back()?;
        DateTime::from_timestamp(last.at, 0)
    }

    /// The stretches of `[from, to)` in which the offset stays the same, with their offsets in
    /// seconds east of UTC, oldest first.
    pub(crate) fn stretches(&self, from: DateTime<Utc>, to: DateTime<Utc>) -> Vec<Stretch> {
        let table = self.0.table();
        let (mut start, mut stretches) = (from, Vec::new());
        let mut offset = table.offset(from.timestamp());
        for change in table.between(from.timestamp(), to.timestamp() - 1) {
            let Some(at) = DateTime::from_timestamp(change.at, 0) else {
                break;
            };
            stretches.push(Stretch {
                from: start,
                to: at,
                offset,
            });
            (start, offset) = (at, change.offset);
        }
        if start < to {
            stretches.push(Stretch {
                from: start,
                to,
                offset,
            });
        }
        stretches
    }

    /// RFC 3339 with this zone's offset: `2026-10-25T00:00:00+01:00`, with as many digits
    /// behind the second as there are.
    #[must_use]
    pub fn rfc3339(&self, instant: DateTime<Utc>) -> String {
        // RFC 3339 has no seconds in offsets; those of old local times are cut off.
        let minutes = self.offset_seconds(instant).div_euclid(60);
        let Some(offset) = FixedOffset::east_opt(minutes * 60) else {
            return instant.to_rfc3339();
        };
        instant
            .with_timezone(&offset)
            .to_rfc3339_opts(chrono::SecondsFormat::AutoSi, false)
    }

    /// A time for people: `Sunday 25 October 2026, 07:30`.
    #[must_use]
    pub fn readable(&self, instant: DateTime<Utc>) -> String {
        self.readable_in(instant, DateForm::Words)
    }

    /// The same with its day in a form: `Sunday 2026-10-25, 07:30`.
    #[must_use]
    pub fn readable_in(&self, instant: DateTime<Utc>, form: DateForm) -> String {
        self.local(instant)
            .format(&format!("%A {}, %H:%M", form.day()))
            .to_string()
    }
}

/// How days are written for people.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum DateForm {
    /// `22 November 2026`.
    #[default]
    Words,
    /// `2026-11-22`, as ISO 8601 has it.
    Iso,
}

impl DateForm {
    /// The form of a day, for [`chrono::format`].
    pub(crate) fn day(self) -> &'static str {
        match self {
            Self::Words => "%-d %B %Y",
            Self::Iso => "%F",
        }
    }

    /// The same with short months: `22 Nov 2026`.
    pub(crate) fn short_day(self) -> &'static str {
        match self {
            Self::Words => "%-d %b %Y",
            Self::Iso => "%F",
        }
    }
}

/// The Monday to Sunday civil date index used to align weeks.
pub(crate) fn week_start(date: NaiveDate, starts: chrono::Weekday) -> NaiveDate {
    date - TimeDelta::days(i64::from(date.weekday().days_since(starts)))
}

impl FromStr for Zone {
    type Err = UnknownZone;

    fn from_str(given: &str) -> Result<Self, Self::Err> {
        rules::find(given).map(Zone).ok_or_else(|| {
            let names = Zone::names();
            UnknownZone {
                suggestion: suggestion(&shortened(given), names.iter().map(String::as_str)),
                given: shortened(given),
            }
        })
    }
}

impl TryFrom<String> for Zone {
    type Error = UnknownZone;

    fn try_from(given: String) -> Result<Self, Self::Error> {
        given.parse()
    }
}

impl From<Zone> for String {
    fn from(zone: Zone) -> String {
        zone.name().to_owned()
    }
}

impl PartialEq for Zone {
    fn eq(&self, other: &Self) -> bool {
        self.name() == other.name()
    }
}

impl Eq for Zone {}

impl Hash for Zone {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.name().hash(state);
    }
}

impl fmt::Display for Zone {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl fmt::Debug for Zone {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Zone({})", self.name())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn local(text: &str) -> NaiveDateTime {
        NaiveDateTime::parse_from_str(text, "%Y-%m-%d %H:%M").unwrap()
    }

    fn instant(zone: &str, text: &str) -> String {
        zone.parse::<Zone>()
            .unwrap()
            .instant(local(text))
            .to_rfc3339()
    }

    #[test]
    fn a_time_in_a_spring_gap_is_the_first_valid_instant_after_it() {
        assert_eq!(
            instant("Atlantic/Faroe", "2026-03-29 01:30"),
            "2026-03-29T01:00:00+00:00"
        );
        assert_eq!(
            instant("Australia/Lord_Howe", "2026-10-04 02:10"),
            "2026-10-03T15:30:00+00:00"
        );
    }

    #[test]
    fn a_time_in_an_autumn_fold_is_its_first_occurrence() {
        assert_eq!(
            instant("Atlantic/Faroe", "2026-10-25 01:30"),
            "2026-10-25T00:30:00+00:00"
        );
    }

    #[test]
    fn a_date_that_was_skipped_begins_where_the_next_begins() {
        let apia: Zone = "Pacific/Apia".parse().unwrap();
        let skipped = NaiveDate::from_ymd_opt(2011, 12, 30).unwrap();
        assert_eq!(
            apia.start_of(skipped),
            apia.start_of(skipped.succ_opt().unwrap())
        );
    }

    #[test]
    fn a_mistyped_zone_names_the_nearest_one() {
        let error = "Atlantic/Faroes".parse::<Zone>().unwrap_err().to_string();
        assert!(
            error.contains("Did you mean \"Atlantic/Faroe\"?"),
            "{error}"
        );
    }
}
