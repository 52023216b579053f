//! Office hours: which hours and weekdays inside a window count.

use std::{fmt, str::FromStr};

use chrono::{DateTime, Datelike, NaiveDate, NaiveDateTime, NaiveTime, TimeDelta, Utc, Weekday};
use serde::{Deserialize, Serialize};

use crate::{
    english::{list, weekday_name},
    zone::Zone,
};

/// Certain hours, on certain weekdays. At least one of the two lists is not empty.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Within {
    /// Sorted, without overlap; empty for all hours.
    hours: Vec<Hours>,
    /// Sorted from Monday, without doubles; empty for every day.
    days: Vec<Weekday>,
}

/// Half-open hours of the wall clock, `08:00-17:00`. Where the end is not after the start
/// they go on past midnight: `22:00-06:00` belongs to the day that it begins on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Hours {
    from: NaiveTime,
    to: NaiveTime,
}

/// A text that names no hours.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[error(
    "\"{given}\" are no hours of a day; write two times such as \"08:00-17:00\", \"22:00-06:00\" or \"18:00-24:00\""
)]
pub struct BadHours {
    given: String,
}

impl FromStr for Hours {
    type Err = BadHours;

    fn from_str(given: &str) -> Result<Self, BadHours> {
        let bad = || BadHours {
            given: given.to_owned(),
        };
        let (from, to) = given.split_once('-').ok_or_else(bad)?;
        let time = |text: &str| NaiveTime::parse_from_str(text.trim(), "%H:%M").ok();
        let from = time(from).ok_or_else(bad)?;
        let to = if to.trim() == "24:00" {
            NaiveTime::MIN
        } else {
            time(to).ok_or_else(bad)?
        };
        // The same time twice could be a whole day or nothing; nobody should have to guess.
        if from == to && to != NaiveTime::MIN {
            return Err(bad());
        }
        Ok(Self { from, to })
    }
}

impl fmt::Display for Hours {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}-{}", self.from.format("%H:%M"), self.end_in_words())
    }
}

impl TryFrom<String> for Hours {
    type Error = BadHours;

    fn try_from(given: String) -> Result<Self, BadHours> {
        given.parse()
    }
}

impl From<Hours> for String {
    fn from(hours: Hours) -> String {
        hours.to_string()
    }
}

impl Hours {
    fn end_in_words(self) -> String {
        if self.to == NaiveTime::MIN {
            "24:00".to_owned()
        } else {
            self.to.format("%H:%M").to_string()
        }
    }

    /// These hours of `date` as the wall clock shows them: half-open, and past midnight where
    /// they go on.
    fn on(self, date: NaiveDate) -> (NaiveDateTime, NaiveDateTime) {
        let end_date = if self.to <= self.from {
            date + TimeDelta::days(1)
        } else {
            date
        };
        (date.and_time(self.from), end_date.and_time(self.to))
    }
}

/// Parts of time, oldest first; those that touch are one.
#[derive(Default)]
struct Parts(Vec<(DateTime<Utc>, DateTime<Utc>)>);

impl Parts {
    fn add(&mut self, start: DateTime<Utc>, end: DateTime<Utc>) {
        if start >= end {
            return;
        }
        match self.0.last_mut() {
            Some(before) if before.1 >= start => before.1 = before.1.max(end),
            _ => self.0.push((start, end)),
        }
    }
}

impl Within {
    /// Nothing if both lists are empty, which narrows nothing.
    ///
    /// # Errors
    /// The two hours that overlap.
    pub fn new(
        mut hours: Vec<Hours>,
        mut days: Vec<Weekday>,
    ) -> Result<Option<Self>, (Hours, Hours)> {
        hours.sort();
        days.sort_by_key(Weekday::num_days_from_monday);
        days.dedup();
        // Minutes from midnight, past 24 h for hours that go over it.
        let minutes = |hours: &Hours| {
            let minute = |time: NaiveTime| (time - NaiveTime::MIN).num_minutes();
            (
                minute(hours.from),
                minute(hours.to) + if hours.to <= hours.from { 1440 } else { 0 },
            )
        };
        for (index, one) in hours.iter().enumerate() {
            for other in &hours[index + 1..] {
                let ((a, b), (c, d)) = (minutes(one), minutes(other));
                if c < b || a + 1440 < d {
                    return Err((*one, *other));
                }
            }
        }
        Ok((!hours.is_empty() || !days.is_empty()).then_some(Self { hours, days }))
    }

    /// The parts of `[from, to)` that count, oldest first: the time in which the wall clock
    /// shows one of the hours, each pass of a fold on its own. Without hours whole days count,
    /// from their first instant to that of the next day.
    pub(crate) fn parts(
        &self,
        from: DateTime<Utc>,
        to: DateTime<Utc>,
        zone: Zone,
    ) -> Vec<(DateTime<Utc>, DateTime<Utc>)> {
        let mut parts = Parts::default();
        if self.hours.is_empty() {
            let last = zone.local(to).date() + TimeDelta::days(1);
            let mut date = zone.local(from).date() - TimeDelta::days(1);
            let mut start = zone.start_of(date);
            while date <= last {
                let end = zone.start_of(date + TimeDelta::days(1));
                if self.days.contains(&date.weekday()) {
                    parts.add(start.max(from), end.min(to));
                }
                (start, date) = (end, date + TimeDelta::days(1));
            }
            return parts.0;
        }
        for stretch in zone.stretches(from, to) {
            let offset = TimeDelta::seconds(i64::from(stretch.offset));
            // Hours past midnight that began the day before reach into the stretch.
            let first = (stretch.from.naive_utc() + offset).date() - TimeDelta::days(1);
            let last = (stretch.to.naive_utc() + offset).date();
            for date in first.iter_days().take_while(|date| *date <= last) {
                if !self.days.is_empty() && !self.days.contains(&date.weekday()) {
                    continue;
                }
                for hours in &self.hours {
                    let (start, end) = hours.on(date);
                    let (start, end) = ((start - offset).and_utc(), (end - offset).and_utc());
                    parts.add(start.max(stretch.from), end.min(stretch.to));
                }
            }
        }
        parts.0
    }

    /// For people: `08:00 to 12:00 and 13:00 to 17:00 Monday to Friday`.
    pub fn words(&self) -> String {
        let hours: Vec<String> = self
            .hours
            .iter()
            .map(|one| format!("{} to {}", one.from.format("%H:%M"), one.end_in_words()))
            .collect();
        let numbers: Vec<u32> = self
            .days
            .iter()
            .map(Weekday::num_days_from_monday)
            .collect();
        let in_a_row = numbers.len() > 2 && numbers.windows(2).all(|pair| pair[1] == pair[0] + 1);
        let days = match (self.days.first(), self.days.last()) {
            (Some(first), Some(last)) if in_a_row => {
                format!("{} to {}", weekday_name(*first), weekday_name(*last))
            }
            _ => list(
                &self
                    .days
                    .iter()
                    .map(|day| format!("{}s", weekday_name(*day)))
                    .collect::<Vec<_>>(),
            ),
        };
        [list(&hours), days]
            .into_iter()
            .filter(|part| !part.is_empty())
            .collect::<Vec<_>>()
            .join(" ")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::window::Window;
    use proptest::prelude::*;

    const OFFICE: [Weekday; 5] = [
        Weekday::Mon,
        Weekday::Tue,
        Weekday::Wed,
        Weekday::Thu,
        Weekday::Fri,
    ];

    fn within(hours: &[&str], days: &[Weekday]) -> Option<Within> {
        Within::new(
            hours.iter().map(|text| text.parse().unwrap()).collect(),
            days.to_vec(),
        )
        .unwrap()
    }

    fn window(within: Option<Within>, from: &str, to: &str) -> Window {
        Window {
            from: from.parse().unwrap(),
            to: to.parse().unwrap(),
            zone: "Atlantic/Faroe".parse().unwrap(),
            within,
        }
    }

    fn parts(window: &Window) -> Vec<String> {
        window
            .parts()
            .iter()
            .map(|(from, to)| {
                format!(
                    "{}/{}",
                    &window.zone.rfc3339(*from)[5..16],
                    &window.zone.rfc3339(*to)[5..16]
                )
            })
            .collect()
    }

    #[test]
    fn office_hours_of_a_week_are_its_working_days() {
        let week = window(
            within(&["13:00-17:00", "08:00-12:00"], &OFFICE),
            "2026-11-16T00:00:00Z",
            "2026-11-23T00:00:00Z",
        );
        assert_eq!(parts(&week).len(), 10);
        assert_eq!(
            parts(&week)[..2],
            ["11-16T08:00/11-16T12:00", "11-16T13:00/11-16T17:00"]
        );
        assert_eq!(week.counted(), TimeDelta::hours(40));
        assert_eq!(
            week.label(),
            "Week 47, 16 to 22 November 2026, 08:00 to 12:00 and 13:00 to 17:00 Monday to Friday"
        );
        assert_eq!(week.duration(), "40 h");
    }

    #[test]
    fn nights_belong_to_the_day_they_begin_on_and_are_cut_at_the_window() {
        let day = window(
            within(&["22:00-06:00"], &[]),
            "2026-11-16T00:00:00Z",
            "2026-11-17T00:00:00Z",
        );
        assert_eq!(
            parts(&day),
            ["11-16T00:00/11-16T06:00", "11-16T22:00/11-17T00:00"]
        );
        let fridays = window(
            within(&["22:00-06:00"], &[Weekday::Fri]),
            "2026-11-16T00:00:00Z",
            "2026-11-23T00:00:00Z",
        );
        assert_eq!(parts(&fridays), ["11-20T22:00/11-21T06:00"]);
    }

    #[test]
    fn the_changes_of_the_clock_are_counted_as_they_are() {
        let autumn = window(
            within(&["00:00-04:00"], &[]),
            "2026-10-24T23:00:00Z",
            "2026-10-26T00:00:00Z",
        );
        assert_eq!(autumn.counted(), TimeDelta::hours(5));
        let spring = window(
            within(&["00:00-04:00"], &[]),
            "2026-03-29T00:00:00Z",
            "2026-03-29T23:00:00Z",
        );
        assert_eq!(spring.counted(), TimeDelta::hours(3));
        // The hour that does not exist has no length.
        let missing = window(
            within(&["01:00-02:00"], &[]),
            "2026-03-29T00:00:00Z",
            "2026-03-29T23:00:00Z",
        );
        assert!(missing.parts().is_empty());
        assert_eq!(missing.duration(), "no time");
    }

    #[test]
    fn whole_days_that_touch_are_one_part() {
        let weekend = window(
            within(&[], &[Weekday::Sun, Weekday::Sat]),
            "2026-11-16T00:00:00Z",
            "2026-11-23T00:00:00Z",
        );
        assert_eq!(parts(&weekend), ["11-21T00:00/11-23T00:00"]);
        assert_eq!(
            weekend.label(),
            "Week 47, 16 to 22 November 2026, Saturdays and Sundays"
        );
        let evening = window(
            within(&["18:00-24:00"], &[]),
            "2026-11-16T00:00:00Z",
            "2026-11-17T00:00:00Z",
        );
        assert_eq!(parts(&evening), ["11-16T18:00/11-17T00:00"]);
    }

    #[test]
    fn hours_that_overlap_or_say_nothing_are_refused() {
        let hours = |texts: [&str; 2]| texts.map(|text| text.parse::<Hours>().unwrap()).to_vec();
        assert!(Within::new(hours(["08:00-12:00", "11:00-13:00"]), Vec::new()).is_err());
        assert!(Within::new(hours(["04:00-08:00", "22:00-06:00"]), Vec::new()).is_err());
        assert_eq!(Within::new(Vec::new(), Vec::new()), Ok(None));
        for text in ["8 to 17", "08:00", "08:00-08:00", "25:00-26:00"] {
            assert!(text.parse::<Hours>().is_err(), "{text}");
        }
    }

    /// The clock goes back from 03:00 to 02:00 on 25 October 2026 in Berlin.
    #[test]
    fn office_hours_in_a_fold_count_each_time_the_clock_shows_them() {
        let counted = |hours: &str| {
            let window = Window {
                zone: "Europe/Berlin".parse().unwrap(),
                ..window(
                    within(&[hours], &[]),
                    "2026-10-24T22:00:00Z",
                    "2026-10-25T23:00:00Z",
                )
            };
            (window.parts().len(), window.counted().num_minutes())
        };
        assert_eq!(counted("02:15-02:45"), (2, 60));
        assert_eq!(counted("01:00-02:30"), (2, 120));
        assert_eq!(counted("02:30-06:00"), (2, 240));
        assert_eq!(counted("03:00-06:00"), (1, 180));
        assert_eq!(counted("22:00-03:00"), (2, 360));
    }

    #[test]
    fn a_thousand_years_have_their_parts() {
        let long = window(
            within(&["08:00-12:00", "13:00-17:00"], &OFFICE),
            "1990-01-01T00:00:00Z",
            "2990-01-01T00:00:00Z",
        );
        let parts = long.parts();
        assert_eq!(parts.len() % 2, 0);
        assert!(parts.len() > 520_000 && parts.is_sorted());
        assert_eq!(long.counted(), TimeDelta::hours(4 * parts.len() as i64));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(100))]

        /// A second, plain reading: minute by minute, what does the clock show?
        #[test]
        fn parts_are_the_minutes_in_which_the_clock_shows_the_hours(
            (zone, at) in crate::testing::near_a_change(),
            from in 0u32..96,
            to in 0u32..96,
            weekday in 0u8..8,
        ) {
            let time = |quarter: u32| format!("{:02}:{:02}", quarter / 4, quarter % 4 * 15);
            prop_assume!(from != to);
            let days: Vec<Weekday> = Weekday::try_from(weekday).into_iter().collect();
            let hours: Hours = format!("{}-{}", time(from), time(to)).parse().unwrap();
            let within = Within::new(vec![hours], days.clone()).unwrap();
            let start = at - TimeDelta::seconds(at.timestamp().rem_euclid(60));
            // Old offsets have seconds, and then minutes are not whole.
            prop_assume!(zone.offset_seconds(start - TimeDelta::days(2)) % 60 == 0 && zone.offset_seconds(start + TimeDelta::days(2)) % 60 == 0);
            let window = Window { from: start - TimeDelta::hours(30), to: start + TimeDelta::hours(30), zone, within };
            let shows = |minute: DateTime<Utc>| {
                let shown = zone.local(minute);
                let quarter = shown.time().signed_duration_since(NaiveTime::MIN).num_minutes() as u32;
                let (began, inside) = if from < to {
                    (shown.date(), (from * 15..to * 15).contains(&quarter))
                } else if quarter >= from * 15 {
                    (shown.date(), true)
                } else {
                    (shown.date() - TimeDelta::days(1), quarter < to * 15)
                };
                inside && (days.is_empty() || days.contains(&began.weekday()))
            };
            let minutes = (0..3600).map(|n| window.from + TimeDelta::minutes(n));
            let walked = minutes.filter(|minute| shows(*minute)).count() as i64;
            prop_assert_eq!(window.counted(), TimeDelta::minutes(walked), "{} {:?} in {}", hours, days, window);
        }
    }
}
