//! ISO 8601 durations, with the calendar part kept apart from the elapsed part.

use std::{fmt, str::FromStr};

use chrono::{DateTime, Months, TimeDelta, Utc};
use serde::{Deserialize, Serialize};

use crate::zone::Zone;

/// A duration as ISO 8601 writes it, `P7D`, `PT24H`, `P1M`, `PT15M`, or as people say it: `7 days`,
/// `24 hours`, `1 day and 6 hours`.
///
/// Days, weeks, months and years are civil: `P1D` before noon is noon of the day before,
/// whether that day had 23, 24 or 25 hours. Hours, minutes and seconds are elapsed time:
/// `PT24H` is always 86,400 seconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Span {
    /// Months, years as twelve of them.
    pub months: u32,
    /// Days, weeks as seven of them.
    pub days: u32,
    /// Seconds, hours and minutes among them.
    pub seconds: u64,
}

/// A text that is no duration.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[error(
    "\"{given}\" is not a duration: {reason}. Examples: \"15 minutes\", \"24 hours\", or as ISO 8601 has it \"PT15M\", \"P7D\", \"P1M\"."
)]
pub struct BadSpan {
    given: String,
    reason: &'static str,
}

impl Span {
    /// The length when it has no civil part, which alone has a fixed length.
    #[must_use]
    pub fn elapsed(&self) -> Option<TimeDelta> {
        (self.months == 0 && self.days == 0).then(|| self.seconds_delta())
    }

    /// The instant this span before `instant`, civil parts counted in `zone`.
    ///
    /// A day of the month that does not exist becomes the month's last; a civil time in a
    /// gap or a fold is resolved as [`Zone::instant`] says.
    #[must_use]
    pub fn before(&self, instant: DateTime<Utc>, zone: Zone) -> DateTime<Utc> {
        let moved = if self.months == 0 && self.days == 0 {
            instant
        } else {
            let local = zone.local(instant);
            let local = local
                .checked_sub_months(Months::new(self.months))
                .unwrap_or(local);
            zone.instant(local - TimeDelta::days(i64::from(self.days)))
        };
        moved - self.seconds_delta()
    }

    fn seconds_delta(&self) -> TimeDelta {
        // Parsing refuses spans over a hundred years, which is far inside the range.
        TimeDelta::seconds(self.seconds as i64)
    }

    /// For people: `7 days`, `24 hours`, `1 month`.
    #[must_use]
    pub fn readable(&self) -> String {
        let mut parts = Vec::new();
        let mut push = |n: u64, word: &str| {
            if n > 0 {
                parts.push(format!("{n} {word}{}", if n == 1 { "" } else { "s" }));
            }
        };
        push(u64::from(self.months / 12), "year");
        push(u64::from(self.months % 12), "month");
        push(u64::from(self.days), "day");
        push(self.seconds / 3600, "hour");
        push(self.seconds / 60 % 60, "minute");
        push(self.seconds % 60, "second");
        parts.join(" ")
    }
}

const HUNDRED_YEARS: u64 = 100 * 366;

impl FromStr for Span {
    type Err = BadSpan;

    fn from_str(given: &str) -> Result<Self, BadSpan> {
        let bad = |reason| BadSpan {
            given: given.to_owned(),
            reason,
        };
        if given.trim_start().starts_with(|c: char| c.is_ascii_digit()) {
            return in_words(given);
        }
        let body = given
            .strip_prefix('P')
            .ok_or_else(|| bad("it must begin with P, or with a number as in \"15 minutes\""))?;
        let (date, time) = match body.split_once('T') {
            Some((_, "")) => return Err(bad("nothing follows the T")),
            Some((date, time)) => (date, time),
            None => (body, ""),
        };
        let part = |text: &str, letters: &[(char, u64)]| -> Result<u64, BadSpan> {
            let (mut total, mut rest, mut next) = (0u64, text, 0);
            while !rest.is_empty() {
                let at = rest
                    .find(|c: char| !c.is_ascii_digit())
                    .ok_or_else(|| bad("a number has no letter behind it"))?;
                let letter = rest[at..].chars().next().unwrap_or(' ');
                let number: u64 = rest[..at]
                    .parse()
                    .map_err(|_| bad("a letter has no whole number before it"))?;
                let index = letters[next..]
                    .iter()
                    .position(|(l, _)| *l == letter)
                    .ok_or_else(|| bad("its letters are unknown or out of order"))?;
                total = number
                    .checked_mul(letters[next + index].1)
                    .and_then(|n| total.checked_add(n))
                    .ok_or_else(|| bad("it is too long"))?;
                next += index + 1;
                rest = &rest[at + letter.len_utf8()..];
            }
            Ok(total)
        };
        let days_at = date
            .find('Y')
            .or(None)
            .max(date.find('M'))
            .map_or(0, |i| i + 1);
        let months = part(&date[..days_at], &[('Y', 12), ('M', 1)])?;
        let days = part(&date[days_at..], &[('W', 7), ('D', 1)])?;
        let seconds = part(time, &[('H', 3600), ('M', 60), ('S', 1)])?;
        bounded(months, days, seconds).map_err(bad)
    }
}

fn bounded(months: u64, days: u64, seconds: u64) -> Result<Span, &'static str> {
    if months == 0 && days == 0 && seconds == 0 {
        return Err("it has no length");
    }
    if months / 12 > 100 || days > HUNDRED_YEARS || seconds > HUNDRED_YEARS * 86_400 {
        return Err("it is longer than a hundred years");
    }
    Ok(Span {
        months: months as u32,
        days: days as u32,
        seconds,
    })
}

/// A duration as people say it: `15 minutes`, `2 h`, `1 day and 6 hours`.
fn in_words(given: &str) -> Result<Span, BadSpan> {
    let bad = |reason| BadSpan {
        given: given.to_owned(),
        reason,
    };
    let (mut months, mut days, mut seconds) = (0u64, 0u64, 0u64);
    let mut rest = given.trim();
    while !rest.is_empty() {
        let digits = rest.len() - rest.trim_start_matches(|c: char| c.is_ascii_digit()).len();
        let number: u64 = rest[..digits]
            .parse()
            .map_err(|_| bad("a number must stand before each word"))?;
        let after = rest[digits..].trim_start();
        let letters = after.len()
            - after
                .trim_start_matches(|c: char| c.is_ascii_alphabetic())
                .len();
        let (sum, factor) = match after[..letters].to_ascii_lowercase().as_str() {
            "year" | "years" => (&mut months, 12),
            "month" | "months" => (&mut months, 1),
            "week" | "weeks" => (&mut days, 7),
            "day" | "days" | "d" => (&mut days, 1),
            "hour" | "hours" | "h" => (&mut seconds, 3600),
            "minute" | "minutes" | "min" => (&mut seconds, 60),
            "second" | "seconds" | "sec" | "s" => (&mut seconds, 1),
            _ => {
                return Err(bad(
                    "its words are years, months, weeks, days, hours, minutes and seconds",
                ));
            }
        };
        *sum = number
            .checked_mul(factor)
            .and_then(|added| sum.checked_add(added))
            .ok_or_else(|| bad("it is too long"))?;
        rest = after[letters..].trim_start_matches([' ', ',']);
        rest = rest.strip_prefix("and ").unwrap_or(rest).trim_start();
    }
    bounded(months, days, seconds).map_err(bad)
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("P")?;
        for (n, letter) in [
            (self.months / 12, 'Y'),
            (self.months % 12, 'M'),
            (self.days, 'D'),
        ] {
            if n > 0 {
                write!(f, "{n}{letter}")?;
            }
        }
        if self.seconds > 0 {
            f.write_str("T")?;
            for (n, letter) in [
                (self.seconds / 3600, 'H'),
                (self.seconds / 60 % 60, 'M'),
                (self.seconds % 60, 'S'),
            ] {
                if n > 0 {
                    write!(f, "{n}{letter}")?;
                }
            }
        }
        Ok(())
    }
}

impl TryFrom<String> for Span {
    type Error = BadSpan;

    fn try_from(given: String) -> Result<Self, BadSpan> {
        given.parse()
    }
}

impl From<Span> for String {
    fn from(span: Span) -> String {
        span.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::zone::Zone;

    #[test]
    fn civil_and_elapsed_parts_are_read_apart() {
        let span: Span = "P1Y2M3W4DT5H6M7S".parse().unwrap();
        assert_eq!(
            span,
            Span {
                months: 14,
                days: 25,
                seconds: 5 * 3600 + 6 * 60 + 7
            }
        );
        assert_eq!("PT90M".parse::<Span>().unwrap().to_string(), "PT1H30M");
        assert_eq!("P7D".parse::<Span>().unwrap().readable(), "7 days");
        for (said, written) in [
            ("15 minutes", "PT15M"),
            (" 24h", "PT24H"),
            ("1 day and 6 hours", "P1DT6H"),
            ("1 Day, 30 min", "P1DT30M"),
            ("2 weeks", "P14D"),
            ("1 year 2 months", "P1Y2M"),
            ("90 s", "PT1M30S"),
        ] {
            assert_eq!(said.parse::<Span>().unwrap().to_string(), written, "{said}");
        }
    }

    #[test]
    fn what_is_not_a_duration_is_refused_with_the_reason() {
        for (text, reason) in [
            ("h24", "must begin with P"),
            ("24 hors", "its words are"),
            ("24", "its words are"),
            ("0 days", "no length"),
            ("1 day hours", "a number must stand"),
            ("900 years", "hundred years"),
            ("P", "no length"),
            ("PT", "nothing follows"),
            ("PT5", "no letter"),
            ("PTM", "no whole number"),
            ("PT5M3H", "out of order"),
            ("P1.5D", "out of order"),
            ("P900Y", "hundred years"),
            ("PT99999999999999999999H", "no whole number"),
        ] {
            let error = text.parse::<Span>().unwrap_err().to_string();
            assert!(error.contains(reason), "{text}: {error}");
        }
    }

    #[test]
    fn a_civil_day_before_a_25_hour_day_keeps_the_wall_clock_time() {
        let zone: Zone = "Atlantic/Faroe".parse().unwrap();
        let noon_after: DateTime<Utc> = "2026-10-25T12:00:00Z".parse().unwrap();
        assert_eq!(
            "P1D"
                .parse::<Span>()
                .unwrap()
                .before(noon_after, zone)
                .to_rfc3339(),
            "2026-10-24T11:00:00+00:00"
        );
        assert_eq!(
            "PT24H"
                .parse::<Span>()
                .unwrap()
                .before(noon_after, zone)
                .to_rfc3339(),
            "2026-10-24T12:00:00+00:00"
        );
    }
}
