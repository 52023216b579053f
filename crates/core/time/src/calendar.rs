//! Calendars: named days, from an iCalendar file (RFC 5545).

use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, Datelike, NaiveDate, NaiveDateTime, NaiveTime, TimeDelta, Utc};
use icalendar::parser::{Component, Property, read_calendar, unfold};

use crate::{named_days::NamedDays, schedule::Rule, span::Span, zone::Zone};

/// Events of a calendar, each on one or more days. Recurring events are unrolled up to the
/// end of the year 2100.
#[derive(Debug, Clone, PartialEq)]
pub struct Calendar {
    /// What the calendar calls itself (`NAME` of RFC 7986, or `X-WR-CALNAME`).
    pub title: Option<String>,
    /// How many events the file holds, each recurring one counted once.
    pub events: usize,
    occurrences: Vec<Occurrence>,
}

/// What is wrong in an iCalendar file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CalendarProblem {
    /// The line, counted from 1, on which the event begins.
    pub line: usize,
    /// What the event calls itself; empty where the file as a whole is meant.
    pub event: String,
    pub message: String,
}

#[derive(Debug, Clone, PartialEq)]
struct Occurrence {
    summary: String,
    time: Time,
}

/// When an occurrence is: half-open, on dates, at civil times of whatever zone it is read
/// in, or at instants.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Time {
    Dates(NaiveDate, NaiveDate),
    Civil(NaiveDateTime, NaiveDateTime),
    Instants(DateTime<Utc>, DateTime<Utc>),
}

const LAST_YEAR: i32 = 2100;

/// A file with more occurrences than this is refused; a holiday calendar has hundreds.
const MOST_OCCURRENCES: usize = 100_000;

/// No event is longer than this.
const MOST_DAYS: i64 = 3660;

impl Calendar {
    /// Reads an iCalendar file.
    ///
    /// Of each `VEVENT` the start, end or duration, rule, added and excepted dates and moved
    /// occurrences count; cancelled ones do not. A multi-day event names all its days; an
    /// event with times names every day that it touches. Times without a zone are read in
    /// the zone that the calendar is asked for.
    ///
    /// # Errors
    /// What cannot be read, with the line of its event.
    pub fn parse(text: &str) -> Result<Self, Vec<CalendarProblem>> {
        let problem = |line: usize, event: &str, message: String| CalendarProblem {
            line,
            event: event.to_owned(),
            message,
        };
        let unfolded = unfold(text);
        let read = read_calendar(&unfolded).map_err(|error| {
            vec![problem(
                1,
                "",
                format!(
                    "this is not an iCalendar file: {}",
                    error.lines().next().unwrap_or("it cannot be read")
                ),
            )]
        })?;
        let lines: Vec<usize> = text
            .lines()
            .zip(1..)
            .filter(|(line, _)| line.trim_end().eq_ignore_ascii_case("BEGIN:VEVENT"))
            .map(|(_, n)| n)
            .collect();
        let events: Vec<&Component<'_>> = read
            .components
            .iter()
            .filter(|component| component.name.as_str().eq_ignore_ascii_case("VEVENT"))
            .collect();
        let title = read
            .properties
            .iter()
            .find(|property| matches!(property.name.as_str(), "NAME" | "X-WR-CALNAME"));
        let title = title.map(text_of);
        // An occurrence that was moved replaces the one its rule gives.
        let mut moved: BTreeMap<String, BTreeSet<NaiveDateTime>> = BTreeMap::new();
        for event in &events {
            if let (Some(uid), Some(replaced)) =
                (value(event, "UID"), event.find_prop("RECURRENCE-ID"))
                && let Ok(at) = When::read(replaced)
            {
                moved.entry(uid.to_owned()).or_default().insert(at.civil());
            }
        }
        let (mut occurrences, mut problems) = (Vec::new(), Vec::new());
        for (index, event) in events.iter().enumerate() {
            let wrong = |message: String| {
                problem(
                    lines.get(index).copied().unwrap_or(1),
                    value(event, "SUMMARY").unwrap_or("VEVENT"),
                    message,
                )
            };
            let none = BTreeSet::new();
            let elsewhere = value(event, "UID")
                .and_then(|uid| moved.get(uid))
                .filter(|_| event.find_prop("RECURRENCE-ID").is_none())
                .unwrap_or(&none);
            match read_event(event, elsewhere) {
                Ok(found) => occurrences.extend(found),
                Err(reason) => problems.push(wrong(reason)),
            }
            if occurrences.len() > MOST_OCCURRENCES {
                problems.push(wrong(format!("with this event the calendar has more than {MOST_OCCURRENCES} occurrences up to {LAST_YEAR}")));
                break;
            }
        }
        if events.is_empty() {
            problems.push(problem(
                1,
                "",
                "the calendar has no event (VEVENT), so it names no day".to_owned(),
            ));
        }
        if problems.is_empty() {
            Ok(Self {
                title,
                events: events.len(),
                occurrences,
            })
        } else {
            Err(problems)
        }
    }

    /// The days that the calendar names, read in `zone`.
    pub fn days(&self, zone: Zone) -> NamedDays {
        let mut days = BTreeMap::new();
        for occurrence in &self.occurrences {
            let (first, end) = occurrence.time.dates(zone);
            for date in first.iter_days().take_while(|date| *date < end) {
                days.entry(date)
                    .or_insert_with(|| occurrence.summary.clone());
            }
        }
        NamedDays::from(days)
    }
}

impl Time {
    /// First date and the date after the last.
    fn dates(self, zone: Zone) -> (NaiveDate, NaiveDate) {
        let civil = |from: NaiveDateTime, to: NaiveDateTime| {
            // What ends at midnight does not touch the day that begins there.
            let last = if to > from && to.time() == NaiveTime::MIN {
                to.date()
            } else {
                to.date() + TimeDelta::days(1)
            };
            (from.date(), last)
        };
        match self {
            Time::Dates(from, to) => (from, to),
            Time::Civil(from, to) => civil(from, to),
            Time::Instants(from, to) => civil(zone.local(from), zone.local(to)),
        }
    }
}

/// A start or an end as an event writes it.
#[derive(Debug, Clone, Copy)]
enum When {
    Date(NaiveDate),
    Civil(NaiveDateTime),
    InZone(NaiveDateTime, Zone),
}

impl When {
    fn read(property: &Property<'_>) -> Result<Self, String> {
        Self::read_one(property, property.val.as_str())
    }

    fn read_one(property: &Property<'_>, text: &str) -> Result<Self, String> {
        let text = text.trim();
        let bad = || {
            format!(
                "{} \"{text}\" is not a date or a time of RFC 5545",
                property.name.as_str()
            )
        };
        if text.len() == 8 {
            return NaiveDate::parse_from_str(text, "%Y%m%d")
                .map(When::Date)
                .map_err(|_| bad());
        }
        let (civil, utc) = text
            .strip_suffix('Z')
            .map_or((text, false), |civil| (civil, true));
        let civil = NaiveDateTime::parse_from_str(civil, "%Y%m%dT%H%M%S").map_err(|_| bad())?;
        if utc {
            return Ok(When::InZone(civil, Zone::UTC));
        }
        let zone = property
            .params
            .iter()
            .find(|parameter| parameter.key.as_str() == "TZID")
            .and_then(|parameter| parameter.val.as_ref());
        match zone {
            None => Ok(When::Civil(civil)),
            Some(name) => {
                let name = name.as_str().trim_matches('"');
                let zone = name
                    .parse()
                    .map_err(|_| format!("its time zone \"{name}\" is not an IANA time zone; export the calendar with names such as \"Atlantic/Faroe\""))?;
                Ok(When::InZone(civil, zone))
            }
        }
    }

    /// As its own wall clock shows it.
    fn civil(self) -> NaiveDateTime {
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

    fn until(self, length: TimeDelta) -> Time {
        match self {
            When::Date(date) => Time::Dates(date, date + length.max(TimeDelta::days(1))),
            When::Civil(at) => Time::Civil(at, at + length),
            When::InZone(at, zone) => {
                let from = zone.instant(at);
                Time::Instants(from, from + length)
            }
        }
    }
}

fn read_event(
    event: &Component<'_>,
    moved: &BTreeSet<NaiveDateTime>,
) -> Result<Vec<Occurrence>, String> {
    if value(event, "STATUS").is_some_and(|status| status.eq_ignore_ascii_case("CANCELLED")) {
        return Ok(Vec::new());
    }
    let summary = event
        .find_prop("SUMMARY")
        .map_or_else(|| "unnamed".to_owned(), text_of);
    let start = When::read(event.find_prop("DTSTART").ok_or("it has no DTSTART")?)?;
    let length = match (event.find_prop("DTEND"), value(event, "DURATION")) {
        (Some(end), _) => When::read(end)?.civil() - start.civil(),
        (None, Some(duration)) => {
            let span: Span = duration
                .trim_start_matches('+')
                .parse()
                .map_err(|error| format!("DURATION: {error}"))?;
            TimeDelta::days(i64::from(span.days)) + TimeDelta::seconds(span.seconds as i64)
        }
        (None, None) => TimeDelta::zero(),
    };
    if length < TimeDelta::zero() || length > TimeDelta::days(MOST_DAYS) {
        return Err(format!(
            "it ends before it begins or is longer than {MOST_DAYS} days"
        ));
    }
    let mut times = BTreeSet::new();
    match value(event, "RRULE") {
        None => drop(times.insert(start.civil())),
        Some(text) => {
            // The first occurrence counts even where the rule would not give it.
            times.insert(start.civil());
            let rule = Rule::new(&civil_until(text, start), start.civil())
                .map_err(|error| error.to_string())?;
            let mut last = start.civil() - TimeDelta::seconds(1);
            for at in rule.occurrences() {
                if at.year() > LAST_YEAR || times.len() > MOST_OCCURRENCES || at < last {
                    break;
                }
                last = at;
                times.insert(at);
            }
        }
    }
    for property in lists(event, "RDATE") {
        for text in property.val.as_str().split(',') {
            times.insert(When::read_one(property, text)?.civil());
        }
    }
    for property in lists(event, "EXDATE") {
        for text in property.val.as_str().split(',') {
            let at = When::read_one(property, text)?;
            match at {
                When::Date(date) => times.retain(|time| time.date() != date),
                _ => drop(times.remove(&at.civil())),
            }
        }
    }
    Ok(times
        .into_iter()
        .filter(|at| !moved.contains(at))
        .map(|at| Occurrence {
            summary: summary.clone(),
            time: start.at(at).until(length),
        })
        .collect())
}

/// The rule with an `UNTIL` in UTC turned into the civil time that the rule is unrolled in.
fn civil_until(rule: &str, start: When) -> String {
    let When::InZone(_, zone) = start else {
        return rule.to_owned();
    };
    let parts = rule.split(';').map(|part| {
        let until = part
            .strip_prefix("UNTIL=")
            .and_then(|text| text.strip_suffix('Z'));
        match until.and_then(|text| NaiveDateTime::parse_from_str(text, "%Y%m%dT%H%M%S").ok()) {
            Some(at) => format!(
                "UNTIL={}Z",
                zone.local(at.and_utc()).format("%Y%m%dT%H%M%S")
            ),
            None => part.to_owned(),
        }
    });
    parts.collect::<Vec<_>>().join(";")
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

fn value<'a>(event: &'a Component<'_>, name: &str) -> Option<&'a str> {
    event.find_prop(name).map(|property| property.val.as_str())
}

/// RFC 5545 text without its backslashes, on one line.
fn text_of(property: &Property<'_>) -> String {
    let unescaped = property.val.clone().unescape_text();
    unescaped
        .as_str()
        .split_whitespace()
        .collect::<Vec<_>>()
        .join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::zone::Zone;

    fn calendar(events: &str) -> Result<Calendar, String> {
        let text = format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Orrin Sound//EN\r\nX-WR-CALNAME:Holidays\\, Orrin Sound\r\n{}END:VCALENDAR\r\n",
            {
                let mut lines = String::new();
                for event in events.split("--") {
                    lines += "BEGIN:VEVENT\r\n";
                    for line in event.split_whitespace() {
                        lines += &format!("{}\r\n", line.replace('~', " "));
                    }
                    lines += "END:VEVENT\r\n";
                }
                lines
            }
        );
        Calendar::parse(&text).map_err(|problems| {
            let CalendarProblem {
                line,
                event,
                message,
            } = &problems[0];
            format!("{line}: {event}: {message}")
        })
    }

    fn days(events: &str, from: &str, to: &str) -> Vec<String> {
        let days = calendar(events)
            .unwrap()
            .days("Atlantic/Faroe".parse().unwrap());
        days.between(from.parse().unwrap(), to.parse().unwrap())
            .map(|(date, name)| format!("{date} {name}"))
            .collect()
    }

    #[test]
    fn all_day_events_name_their_days_and_the_end_is_not_one_of_them() {
        let found = days(
            "SUMMARY:Christmas DTSTART;VALUE=DATE:20261224 DTEND;VALUE=DATE:20261227 -- SUMMARY:One~day DTSTART;VALUE=DATE:20261231",
            "2026-01-01",
            "2027-12-31",
        );
        assert_eq!(
            found,
            [
                "2026-12-24 Christmas",
                "2026-12-25 Christmas",
                "2026-12-26 Christmas",
                "2026-12-31 One day"
            ]
        );
        let calendar = calendar("SUMMARY:Christmas DTSTART;VALUE=DATE:20261224").unwrap();
        assert_eq!(
            (calendar.title.as_deref(), calendar.events),
            (Some("Holidays, Orrin Sound"), 1)
        );
    }

    #[test]
    fn recurring_events_have_exceptions_additions_and_moved_occurrences() {
        let found = days(
            "UID:a SUMMARY:Stock-taking DTSTART;VALUE=DATE:20260105 RRULE:FREQ=MONTHLY;BYDAY=1MO;COUNT=4 EXDATE;VALUE=DATE:20260202 RDATE;VALUE=DATE:20260220 \
             -- UID:a SUMMARY:Stock-taking,~moved DTSTART;VALUE=DATE:20260303 RECURRENCE-ID;VALUE=DATE:20260302",
            "2026-01-01",
            "2027-01-01",
        );
        assert_eq!(
            found,
            [
                "2026-01-05 Stock-taking",
                "2026-02-20 Stock-taking",
                "2026-03-03 Stock-taking, moved",
                "2026-04-06 Stock-taking"
            ]
        );
        let yearly = days(
            "SUMMARY:New~Year DTSTART;VALUE=DATE:20000101 RRULE:FREQ=YEARLY",
            "2098-06-01",
            "2200-01-01",
        );
        assert_eq!(yearly, ["2099-01-01 New Year", "2100-01-01 New Year"]);
    }

    #[test]
    fn events_with_times_name_the_days_they_touch_in_the_zone_asked_for() {
        // 23:30 UTC on 14 July is 00:30 of the 15th in the Faroes.
        assert_eq!(
            days(
                "SUMMARY:Work DTSTART:20260714T233000Z DTEND:20260715T030000Z",
                "2026-01-01",
                "2027-01-01"
            ),
            ["2026-07-15 Work"]
        );
        assert_eq!(
            days(
                "SUMMARY:Work DTSTART;TZID=Atlantic/Faroe:20260714T220000 DURATION:PT4H",
                "2026-01-01",
                "2027-01-01"
            ),
            ["2026-07-14 Work", "2026-07-15 Work"]
        );
        assert_eq!(
            days(
                "SUMMARY:Work DTSTART:20260714T220000 DTEND:20260715T000000",
                "2026-01-01",
                "2027-01-01"
            ),
            ["2026-07-14 Work"]
        );
        // The last one the rule gives begins at its UNTIL, given in UTC.
        assert_eq!(
            days(
                "SUMMARY:Night DTSTART;TZID=Atlantic/Faroe:20260714T003000 RRULE:FREQ=DAILY;UNTIL=20260715T233000Z",
                "2026-01-01",
                "2027-01-01"
            ),
            ["2026-07-14 Night", "2026-07-15 Night", "2026-07-16 Night"]
        );
    }

    #[test]
    fn cancelled_events_do_not_count() {
        assert!(
            days(
                "SUMMARY:Gone STATUS:CANCELLED DTSTART;VALUE=DATE:20261224",
                "2026-01-01",
                "2027-01-01"
            )
            .is_empty()
        );
    }

    #[test]
    fn what_cannot_be_read_is_said_with_its_line() {
        let error = calendar("SUMMARY:Fine DTSTART;VALUE=DATE:20261224 -- SUMMARY:Broken DTSTART;VALUE=DATE:20261324").unwrap_err();
        assert!(
            error.starts_with("9: Broken: DTSTART \"20261324\""),
            "{error}"
        );
        let error = calendar("SUMMARY:Work DTSTART;TZID=Mean~Time:20260714T220000").unwrap_err();
        assert!(error.contains("not an IANA time zone"), "{error}");
        assert!(
            calendar("SUMMARY:Work DTSTART:20260714T220000 RRULE:FREQ=SOMETIMES")
                .unwrap_err()
                .contains("FREQ=SOMETIMES")
        );
        assert!(
            Calendar::parse("hello").unwrap_err()[0]
                .message
                .contains("not an iCalendar file")
        );
        let endless =
            calendar("SUMMARY:Ticks DTSTART:20260101T000000 RRULE:FREQ=SECONDLY").unwrap_err();
        assert!(
            endless.contains("more than 100000 occurrences"),
            "{endless}"
        );
    }

    #[test]
    fn working_days_are_monday_to_friday_without_a_name() {
        let days = calendar("SUMMARY:Christmas DTSTART;VALUE=DATE:20261225")
            .unwrap()
            .days(Zone::UTC);
        let working = |text: &str| days.is_working_day(text.parse().unwrap());
        assert!(
            working("2026-12-24")
                && !working("2026-12-25")
                && !working("2026-12-26")
                && working("2026-12-28")
        );
    }
}
