//! Calendars: named days, from an iCalendar file (RFC 5545).

mod event;

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

use chrono::{DateTime, NaiveDateTime, Utc};
use icalendar::parser::{Component, read_calendar, unfold};

use crate::{english::shortened, named_days::NamedDays, window::Window, zone::Zone};
use event::{BadEvent, Occurrence, When, text_of, value};

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

/// What an event says of itself; empty where it says nothing.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Said {
    /// What it is called (`SUMMARY`).
    pub title: String,
    /// Where it is (`LOCATION`).
    pub location: String,
    /// What it belongs to (`CATEGORIES`), parted by commas.
    pub categories: String,
    /// More about it (`DESCRIPTION`), on one line.
    pub description: String,
}

/// One occurrence of an event: half-open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Event {
    /// When it begins.
    pub from: DateTime<Utc>,
    /// When it has ended.
    pub to: DateTime<Utc>,
    /// What it says of itself.
    pub said: Arc<Said>,
}

/// What is wrong in an iCalendar file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CalendarProblem {
    /// The line, counted from 1, of the property that is wrong, or on which its event begins.
    pub line: usize,
    /// What the event calls itself; empty where the file as a whole is meant.
    pub event: String,
    /// What is wrong, and how to mend it.
    pub message: String,
}

impl CalendarProblem {
    fn of_the_file(line: usize, message: &str) -> Vec<Self> {
        vec![Self {
            line,
            event: String::new(),
            message: message.to_owned(),
        }]
    }
}

const LAST_YEAR: i32 = 2100;

/// A file with more occurrences than this is refused; a holiday calendar has hundreds.
const MOST_OCCURRENCES: usize = 100_000;

/// No event is longer than this.
const MOST_DAYS: i64 = 3660;

/// All occurrences together name so many days at most.
const MOST_NAMED_DAYS: i64 = 500_000;

/// So many bytes a file has at most.
const MOST_BYTES: usize = 5_000_000;

/// Components stand within one another so deep at most; an alarm in an event is the third.
const MOST_DEPTH: usize = 8;

impl Calendar {
    /// Reads an iCalendar file.
    ///
    /// Of each `VEVENT` the start, end or duration, rule, added and excepted dates and moved
    /// occurrences count; cancelled ones do not. A multi-day event names all its days; an
    /// event with times names every day that it touches, as the zone that the calendar is asked
    /// for shows it. The end of an event goes by the event's own zone. Times without a zone are
    /// read in the zone that the calendar is asked for.
    ///
    /// # Errors
    /// What cannot be read, with the line of the property.
    #[expect(
        clippy::too_many_lines,
        reason = "reads events one by one and gathers what is wrong with each"
    )]
    pub fn parse(text: &str) -> Result<Self, Vec<CalendarProblem>> {
        within_bounds(text)?;
        let unfolded = unfold(text);
        let read = read_calendar(&unfolded).map_err(|_| {
            let begins = text.trim_start().to_ascii_uppercase().starts_with("BEGIN:VCALENDAR");
            CalendarProblem::of_the_file(
                1,
                if begins {
                    "this iCalendar file cannot be read: each BEGIN needs its END, and each line between them a name, a colon and a value"
                } else {
                    "this is not an iCalendar file: it does not begin with BEGIN:VCALENDAR"
                },
            )
        })?;
        let places = places(text);
        let events: Vec<&Component<'_>> = read
            .components
            .iter()
            .filter(|component| component.name.as_str().eq_ignore_ascii_case("VEVENT"))
            .collect();
        if events.is_empty() {
            return Err(CalendarProblem::of_the_file(
                1,
                "the calendar has no event (VEVENT), so it names no day",
            ));
        }
        let title = read
            .properties
            .iter()
            .find(|property| matches!(property.name.as_str(), "NAME" | "X-WR-CALNAME"));
        let moved = moved(&events);
        let (mut occurrences, mut problems, mut days) = (Vec::new(), Vec::new(), 0);
        for (index, event) in events.iter().enumerate() {
            let place = places.get(index);
            let problem = |line: usize, message: String| CalendarProblem {
                line,
                event: shortened(value(event, "SUMMARY").unwrap_or("VEVENT")),
                message,
            };
            let none = BTreeSet::new();
            let elsewhere = value(event, "UID")
                .and_then(|uid| moved.get(uid))
                .filter(|_| event.find_prop("RECURRENCE-ID").is_none())
                .unwrap_or(&none);
            match event::read(event, elsewhere) {
                Ok(found) => {
                    days += found.iter().map(|one| one.time.days()).sum::<i64>();
                    occurrences.extend(found);
                }
                Err(error) => {
                    let line = place.map_or(1, |place| place.line_of(&error));
                    problems.push(problem(line, error.to_string()));
                }
            }
            let line = place.map_or(1, |place| place.begins);
            if occurrences.len() > MOST_OCCURRENCES {
                problems.push(problem(line, format!("with this event the calendar has more than {MOST_OCCURRENCES} occurrences up to {LAST_YEAR}")));
                break;
            }
            if days > MOST_NAMED_DAYS {
                problems.push(problem(line, format!("with this event the calendar names more than {MOST_NAMED_DAYS} days up to {LAST_YEAR}")));
                break;
            }
        }
        if !problems.is_empty() {
            return Err(problems);
        }
        Ok(Self {
            title: title.map(text_of),
            events: events.len(),
            occurrences,
        })
    }

    /// The days that the calendar names, as `zone` shows them.
    #[must_use]
    pub fn days(&self, zone: Zone) -> NamedDays {
        let mut days = BTreeMap::new();
        for occurrence in &self.occurrences {
            let (first, end) = occurrence.time.dates(zone);
            for date in first.iter_days().take_while(|date| *date < end) {
                days.entry(date)
                    .or_insert_with(|| occurrence.name().to_owned());
            }
        }
        NamedDays::from(days)
    }
}

impl Calendar {
    /// The events that have a part in the window, by their beginning. Dates, and times without a
    /// zone, are those of the window's zone: a day there has 23, 24 or 25 hours. An event without
    /// a length is in the window if it begins in it.
    #[must_use]
    pub fn events_in(&self, window: &Window) -> Vec<Event> {
        let events = self.occurrences.iter().map(|occurrence| {
            let (from, to) = occurrence.time.instants(window.zone);
            Event {
                from,
                to,
                said: occurrence.said.clone(),
            }
        });
        let mut events: Vec<Event> = events
            .filter(|event| {
                let begins_inside = window.from <= event.from && event.from < window.to;
                begins_inside || (event.from < window.from && event.to > window.from)
            })
            .collect();
        events.sort_by(|a, b| (a.from, a.to, &a.said.title).cmp(&(b.from, b.to, &b.said.title)));
        events
    }
}

/// What would take the reader too deep or too long is refused before it is read.
fn within_bounds(text: &str) -> Result<(), Vec<CalendarProblem>> {
    if text.len() > MOST_BYTES {
        let message = format!("the file is larger than {} MB", MOST_BYTES / 1_000_000);
        return Err(CalendarProblem::of_the_file(1, &message));
    }
    let mut depth = 0usize;
    for (line, number) in text.lines().zip(1..) {
        let start = line.get(..6).unwrap_or_default();
        if start.eq_ignore_ascii_case("BEGIN:") {
            depth += 1;
        } else if line
            .get(..4)
            .is_some_and(|end| end.eq_ignore_ascii_case("END:"))
        {
            depth = depth.saturating_sub(1);
        }
        if depth > MOST_DEPTH {
            let message =
                format!("components stand within one another deeper than {MOST_DEPTH} levels");
            return Err(CalendarProblem::of_the_file(number, &message));
        }
    }
    Ok(())
}

/// Where an event stands in the file, and on which line each of its properties begins.
struct EventPlace<'t> {
    begins: usize,
    properties: Vec<(&'t str, usize)>,
}

impl EventPlace<'_> {
    fn line_of(&self, error: &BadEvent) -> usize {
        self.properties
            .iter()
            .find(|(name, _)| name.eq_ignore_ascii_case(error.property))
            .map_or(self.begins, |(_, line)| *line)
    }
}

/// The events of a file in its order.
fn places(text: &str) -> Vec<EventPlace<'_>> {
    let (mut places, mut inside) = (Vec::new(), false);
    for (line, number) in text.lines().zip(1..) {
        let line = line.trim_end();
        if line.eq_ignore_ascii_case("BEGIN:VEVENT") {
            inside = true;
            places.push(EventPlace {
                begins: number,
                properties: Vec::new(),
            });
        } else if line.eq_ignore_ascii_case("END:VEVENT") {
            inside = false;
        } else if let Some(place) = places.last_mut().filter(|_| inside)
            && let Some(end) = line.find([';', ':'])
        {
            place.properties.push((&line[..end], number));
        }
    }
    places
}

/// Which occurrences of recurring events were moved, by the events' identifiers: an event of
/// their own replaces each.
fn moved(events: &[&Component<'_>]) -> BTreeMap<String, BTreeSet<NaiveDateTime>> {
    let mut moved: BTreeMap<String, BTreeSet<NaiveDateTime>> = BTreeMap::new();
    for event in events {
        if let (Some(uid), Some(replaced)) = (value(event, "UID"), event.find_prop("RECURRENCE-ID"))
            && let Ok(at) = When::read("RECURRENCE-ID", replaced)
        {
            moved.entry(uid.to_owned()).or_default().insert(at.civil());
        }
    }
    moved
}

#[cfg(test)]
mod tests;
