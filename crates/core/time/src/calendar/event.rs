//! One event of a calendar, with all its occurrences.

use std::{collections::BTreeSet, sync::Arc};

use chrono::{DateTime, Datelike, NaiveDate, NaiveDateTime, NaiveTime, TimeDelta, Utc};
use icalendar::parser::{Component, Property};

use super::{LAST_YEAR, MOST_DAYS, MOST_OCCURRENCES, Said};
use crate::{
    english::shortened,
    schedule::{ImpossibleSchedule, Rule},
    span::{BadSpan, Span},
    zone::Zone,
};

/// Why an event cannot be read, and which of its properties is to be mended.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{property}: {reason}")]
pub(super) struct BadEvent {
    pub(super) property: &'static str,
    reason: Reason,
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
enum Reason {
    #[error("the event has none, so nobody knows when it begins")]
    Missing,
    #[error(
        "\"{0}\" is not a date such as 20261224 or a time such as 20261224T180000, with Z at its end if it is in UTC"
    )]
    NotATime(String),
    #[error(
        "its time zone \"{0}\" is not an IANA time zone; export the calendar with names such as \"Atlantic/Faroe\""
    )]
    Zone(String),
    #[error("{0}")]
    Duration(#[from] BadSpan),
    #[error("a duration of an event is made of weeks, days, hours, minutes and seconds")]
    Months,
    #[error("the event ends before it begins")]
    EndsBeforeStart,
    #[error("the event is longer than {MOST_DAYS} days")]
    TooLong,
    #[error("{0}")]
    Rule(#[from] ImpossibleSchedule),
}

fn bad(property: &'static str, reason: impl Into<Reason>) -> BadEvent {
    BadEvent {
        property,
        reason: reason.into(),
    }
}

#[derive(Debug, Clone, PartialEq)]
pub(super) struct Occurrence {
    pub(super) said: Arc<Said>,
    pub(super) time: Time,
}

impl Occurrence {
    /// What it is called.
    pub(super) fn name(&self) -> &str {
        match self.said.title.as_str() {
            "" => "unnamed",
            title => title,
        }
    }
}

/// When an occurrence is: half-open, on dates, at civil times of whatever zone it is read
/// in, or at instants.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Time {
    Dates(NaiveDate, NaiveDate),
    Civil(NaiveDateTime, NaiveDateTime),
    Instants(DateTime<Utc>, DateTime<Utc>),
}

impl Time {
    /// First date and the date after the last, as the clocks of `zone` show them.
    pub(super) fn dates(self, zone: Zone) -> (NaiveDate, NaiveDate) {
        let civil = |from: NaiveDateTime, to: NaiveDateTime| {
            // What ends at midnight does not touch the day that begins there.
            let last = if to > from && to.time() == NaiveTime::MIN {
                to.date()
            } else {
                to.date() + TimeDelta::days(1)
            };
            (from.date(), last.max(from.date() + TimeDelta::days(1)))
        };
        match self {
            Time::Dates(from, to) => (from, to),
            Time::Civil(from, to) => civil(from, to),
            // Where midnight falls into a gap, what ends with the day before ends behind it.
            Time::Instants(from, to) => {
                let end = zone.local(to);
                let midnight = to > from && zone.start_of(end.date()) == to;
                let end = if midnight {
                    end.date().and_time(NaiveTime::MIN)
                } else {
                    end
                };
                civil(zone.local(from), end)
            }
        }
    }

    /// When it begins and ends, as the clocks of `zone` have it.
    pub(super) fn instants(self, zone: Zone) -> (DateTime<Utc>, DateTime<Utc>) {
        match self {
            Time::Dates(from, to) => (zone.start_of(from), zone.start_of(to)),
            Time::Civil(from, to) => {
                let from = zone.instant(from);
                (from, zone.instant(to).max(from))
            }
            Time::Instants(from, to) => (from, to),
        }
    }

    /// How many days it names, more or less.
    pub(super) fn days(self) -> i64 {
        let (from, to) = self.dates(Zone::UTC);
        (to - from).num_days()
    }
}

/// A start or an end as an event writes it.
#[derive(Debug, Clone, Copy)]
pub(super) enum When {
    Date(NaiveDate),
    Civil(NaiveDateTime),
    InZone(NaiveDateTime, Zone),
}

/// How long an event is.
#[derive(Debug, Clone, Copy)]
enum Length {
    /// From one time of its own wall clock to another: a day is a day, however long.
    Civil(TimeDelta),
    /// Elapsed time between clocks of two zones.
    Elapsed(TimeDelta),
    /// Days of the wall clock and elapsed time after them.
    Nominal { days: TimeDelta, time: TimeDelta },
}

impl Length {
    fn usual(self) -> TimeDelta {
        match self {
            Length::Civil(length) | Length::Elapsed(length) => length,
            Length::Nominal { days, time } => days + time,
        }
    }
}

impl When {
    pub(super) fn read(name: &'static str, property: &Property<'_>) -> Result<Self, BadEvent> {
        Self::read_one(name, property, property.val.as_str())
    }

    fn read_one(name: &'static str, property: &Property<'_>, text: &str) -> Result<Self, BadEvent> {
        let text = text.trim();
        let not_a_time = || bad(name, Reason::NotATime(shortened(text)));
        if text.len() == 8 {
            return NaiveDate::parse_from_str(text, "%Y%m%d")
                .map(When::Date)
                .map_err(|_| not_a_time());
        }
        let (civil, utc) = match text.strip_suffix('Z') {
            Some(civil) => (civil, true),
            None => (text, false),
        };
        let civil =
            NaiveDateTime::parse_from_str(civil, "%Y%m%dT%H%M%S").map_err(|_| not_a_time())?;
        if utc {
            return Ok(When::InZone(civil, Zone::UTC));
        }
        let zone = property
            .params
            .iter()
            .find(|parameter| parameter.key.as_str().eq_ignore_ascii_case("TZID"))
            .and_then(|parameter| parameter.val.as_ref());
        let Some(zone) = zone else {
            return Ok(When::Civil(civil));
        };
        let zone = zone.as_str().trim_matches('"');
        zone.parse()
            .map(|zone| When::InZone(civil, zone))
            .map_err(|_| bad(name, Reason::Zone(shortened(zone))))
    }

    /// As its own wall clock shows it.
    pub(super) fn civil(self) -> NaiveDateTime {
        match self {
            When::Date(date) => date.and_time(NaiveTime::MIN),
            When::Civil(at) | When::InZone(at, _) => at,
        }
    }

    /// The same kind of time at another civil time.
    fn at(self, civil: NaiveDateTime) -> Self {
        match self {
            When::Date(_) => When::Date(civil.date()),
            When::Civil(_) => When::Civil(civil),
            When::InZone(_, zone) => When::InZone(civil, zone),
        }
    }

    /// How long it is from here to an end.
    fn length_to(self, end: When) -> Length {
        match (self, end) {
            (When::InZone(from, zone), When::InZone(to, other)) if zone != other => {
                Length::Elapsed(other.instant(to) - zone.instant(from))
            }
            _ => Length::Civil(end.civil() - self.civil()),
        }
    }

    /// The occurrence that begins here. Its end goes by its own zone, across a change of the
    /// hour too.
    fn until(self, length: Length) -> Time {
        match self {
            When::Date(date) => Time::Dates(date, date + length.usual().max(TimeDelta::days(1))),
            When::Civil(at) => Time::Civil(at, at + length.usual()),
            When::InZone(at, zone) => {
                let from = zone.instant(at);
                let to = match length {
                    Length::Civil(length) => zone.instant(at + length),
                    Length::Elapsed(length) => from + length,
                    Length::Nominal { days, time } if days.is_zero() => from + time,
                    Length::Nominal { days, time } => zone.instant(at + days) + time,
                };
                Time::Instants(from, to.max(from))
            }
        }
    }
}

/// All occurrences of an event but those that were moved; none of one that is cancelled.
pub(super) fn read(
    event: &Component<'_>,
    moved: &BTreeSet<NaiveDateTime>,
) -> Result<Vec<Occurrence>, BadEvent> {
    if value(event, "STATUS").is_some_and(|status| status.eq_ignore_ascii_case("CANCELLED")) {
        return Ok(Vec::new());
    }
    let text = |name| event.find_prop(name).map_or_else(String::new, text_of);
    let said = Arc::new(Said {
        title: text("SUMMARY"),
        location: text("LOCATION"),
        categories: text("CATEGORIES"),
        description: text("DESCRIPTION"),
    });
    let start = event
        .find_prop("DTSTART")
        .ok_or_else(|| bad("DTSTART", Reason::Missing))?;
    let start = When::read("DTSTART", start)?;
    let length = length(event, start)?;
    let mut times = BTreeSet::from([start.civil()]);
    if let Some(text) = value(event, "RRULE") {
        // The first occurrence counts even where the rule would not give it.
        let rule = Rule::new(text, start.civil()).map_err(|error| bad("RRULE", error))?;
        let past = |at: NaiveDateTime| {
            let until = rule.until();
            until.is_some_and(|until| match start {
                When::InZone(_, zone) => zone.instant(at) > until,
                When::Civil(_) => at > until.naive_utc(),
                When::Date(_) => at.date() > until.date_naive(),
            })
        };
        let found = rule
            .occurrences()
            .take_while(|at| at.year() <= LAST_YEAR && !past(*at));
        times.extend(found.take(MOST_OCCURRENCES + 1));
    }
    for property in lists(event, "RDATE") {
        for text in property.val.as_str().split(',') {
            // A period is meant by its start.
            let text = text.split('/').next().unwrap_or(text);
            times.insert(When::read_one("RDATE", property, text)?.civil());
        }
    }
    for property in lists(event, "EXDATE") {
        for text in property.val.as_str().split(',') {
            match When::read_one("EXDATE", property, text)? {
                When::Date(date) => times.retain(|time| time.date() != date),
                at => drop(times.remove(&at.civil())),
            }
        }
    }
    let occurrence = |at| Occurrence {
        said: said.clone(),
        time: start.at(at).until(length),
    };
    let kept = times.into_iter().filter(|at| !moved.contains(at));
    Ok(kept.map(occurrence).collect())
}

fn length(event: &Component<'_>, start: When) -> Result<Length, BadEvent> {
    let (property, length) = match (event.find_prop("DTEND"), value(event, "DURATION")) {
        (Some(end), _) => ("DTEND", start.length_to(When::read("DTEND", end)?)),
        (None, Some(duration)) => {
            let span: Span = duration
                .trim_start_matches('+')
                .parse()
                .map_err(|error: BadSpan| bad("DURATION", error))?;
            if span.months > 0 {
                return Err(bad("DURATION", Reason::Months));
            }
            let length = Length::Nominal {
                days: TimeDelta::days(i64::from(span.days)),
                time: TimeDelta::seconds(span.seconds as i64),
            };
            ("DURATION", length)
        }
        (None, None) => return Ok(Length::Civil(TimeDelta::zero())),
    };
    if length.usual() < TimeDelta::zero() {
        return Err(bad(property, Reason::EndsBeforeStart));
    }
    if length.usual() > TimeDelta::days(MOST_DAYS) {
        return Err(bad(property, Reason::TooLong));
    }
    Ok(length)
}

fn lists<'a>(
    event: &'a Component<'a>,
    name: &'static str,
) -> impl Iterator<Item = &'a Property<'a>> {
    event
        .properties
        .iter()
        .filter(move |property| property.name.as_str() == name)
}

pub(super) fn value<'a>(event: &'a Component<'_>, name: &str) -> Option<&'a str> {
    event.find_prop(name).map(|property| property.val.as_str())
}

/// RFC 5545 text without its backslashes, on one line.
pub(super) fn text_of(property: &Property<'_>) -> String {
    let unescaped = property.val.clone().unescape_text();
    unescaped
        .as_str()
        .split_whitespace()
        .collect::<Vec<_>>()
        .join(" ")
}
