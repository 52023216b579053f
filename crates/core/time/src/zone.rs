//! IANA time zones, and the one rule by which a civil time becomes an instant.

use std::{fmt, str::FromStr};

use chrono::{
    DateTime, Datelike, LocalResult, NaiveDate, NaiveDateTime, NaiveTime, Offset, TimeDelta,
    TimeZone, Utc,
};
use chrono_tz::Tz;
use serde::{Deserialize, Serialize};

use crate::nearest::suggestion;

/// A time zone by its IANA name, such as `Atlantic/Faroe`. A value of this type is valid.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Zone(Tz);

/// The name is not in the IANA time zone database.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error(
    "\"{given}\" is not an IANA time zone.{suggestion} Names look like \"Atlantic/Faroe\" or \"UTC\"."
)]
pub struct UnknownZone {
    given: String,
    suggestion: String,
}

impl Zone {
    /// Coordinated universal time, in which no clock is ever changed.
    pub fn utc() -> Self {
        Self(Tz::UTC)
    }

    pub const UTC: Zone = Zone(Tz::UTC);

    pub fn name(&self) -> &'static str {
        self.0.name()
    }

    /// What a wall clock in this zone shows at `instant`.
    pub fn local(&self, instant: DateTime<Utc>) -> NaiveDateTime {
        instant.with_timezone(&self.0).naive_local()
    }

    /// The instant at which a wall clock in this zone shows `local`.
    ///
    /// - In a spring gap, where no clock ever shows `local`: the first valid instant after
    ///   the gap.
    /// - In an autumn fold, where clocks show `local` twice: the first of the two.
    pub fn instant(&self, local: NaiveDateTime) -> DateTime<Utc> {
        match self.0.from_local_datetime(&local) {
            LocalResult::Single(at) => at.with_timezone(&Utc),
            LocalResult::Ambiguous(first, _) => first.with_timezone(&Utc),
            LocalResult::None => self.end_of_gap(local),
        }
    }

    /// The first instant of a civil date: usually its midnight, later where midnight falls
    /// into a gap. A date that the zone skipped whole begins where the next one begins.
    pub fn start_of(&self, date: NaiveDate) -> DateTime<Utc> {
        self.instant(date.and_time(NaiveTime::MIN))
    }

    /// Seconds east of UTC at `instant`.
    pub fn offset_seconds(&self, instant: DateTime<Utc>) -> i32 {
        self.0
            .offset_from_utc_datetime(&instant.naive_utc())
            .fix()
            .local_minus_utc()
    }

    /// The last instant in `(after, until]` at which the offset changed, if there is one.
    /// Changes closer together than the interval are found one at a time from its end.
    pub(crate) fn last_change(
        &self,
        after: DateTime<Utc>,
        until: DateTime<Utc>,
    ) -> Option<DateTime<Utc>> {
        let target = self.offset_seconds(until);
        if self.offset_seconds(after) == target {
            return None;
        }
        let (mut low, mut high) = (after.timestamp(), until.timestamp());
        while high - low > 1 {
            let middle = low + (high - low) / 2;
            if self.offset_seconds(at_second(middle)) == target {
                high = middle
            } else {
                low = middle
            }
        }
        Some(at_second(high))
    }

    /// RFC 3339 with this zone's offset: `2026-10-25T00:00:00+01:00`, with as many digits
    /// behind the second as there are.
    pub fn rfc3339(&self, instant: DateTime<Utc>) -> String {
        instant
            .with_timezone(&self.0)
            .to_rfc3339_opts(chrono::SecondsFormat::AutoSi, false)
    }

    /// A time for people: `Sunday 25 October 2026, 07:30`.
    pub fn readable(&self, instant: DateTime<Utc>) -> String {
        self.local(instant)
            .format("%A %-d %B %Y, %H:%M")
            .to_string()
    }

    fn end_of_gap(&self, local: NaiveDateTime) -> DateTime<Utc> {
        // No clock in the zone is more than 26 hours from UTC, so the change lies between.
        let guess = local.and_utc();
        let (mut low, mut high) = (
            (guess - TimeDelta::hours(26)).timestamp(),
            (guess + TimeDelta::hours(26)).timestamp(),
        );
        while high - low > 1 {
            let middle = low + (high - low) / 2;
            if self.local(at_second(middle)) > local {
                high = middle
            } else {
                low = middle
            }
        }
        at_second(high)
    }
}

/// Whole seconds since 1970. The callers stay within chrono's range of years.
fn at_second(seconds: i64) -> DateTime<Utc> {
    DateTime::from_timestamp(seconds, 0).unwrap_or(DateTime::<Utc>::MAX_UTC)
}

/// The Monday to Sunday civil date index used to align weeks.
pub(crate) fn week_start(date: NaiveDate, starts: chrono::Weekday) -> NaiveDate {
    date - TimeDelta::days(i64::from(date.weekday().days_since(starts)))
}

impl FromStr for Zone {
    type Err = UnknownZone;

    fn from_str(given: &str) -> Result<Self, Self::Err> {
        given.parse().map(Zone).map_err(|_| UnknownZone {
            given: given.to_owned(),
            suggestion: suggestion(given, chrono_tz::TZ_VARIANTS.iter().map(|zone| zone.name())),
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
