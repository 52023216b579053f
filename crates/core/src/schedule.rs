//! When a report runs: recurrence in a zone's civil time, and what it says in words.
//!
//! A civil time in a spring gap runs at the first valid instant after the gap; one in an
//! autumn fold runs once, at the first of the two instants. Computation never reads a
//! clock: the next instant follows from the rule, the zone and the instant given.

use chrono::{DateTime, Datelike, NaiveDate, NaiveTime, TimeDelta, Utc, Weekday};
use serde::{Deserialize, Serialize};

use crate::{span::Span, zone::Zone};

/// Which civil dates a schedule names.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Days {
    Every,
    /// Sorted from Monday, without doubles, never empty.
    On(Vec<Weekday>),
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Recurrence {
    /// At the given civil times (sorted, without doubles, never empty) of the named days.
    Times { days: Days, at: Vec<NaiveTime> },
    /// Every so much elapsed time, counted from midnight at the start of Monday
    /// 5 January 1970 in the schedule's zone, whatever the clocks do since.
    Interval(Span),
}

/// A recurrence within optional first and last civil dates, both included.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Schedule {
    pub recurrence: Recurrence,
    pub starts: Option<NaiveDate>,
    pub ends: Option<NaiveDate>,
}

#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum ImpossibleSchedule {
    #[error("no time of day is given; write for instance at = \"07:30\"")]
    NoTime,
    #[error("no weekday is given; write for instance on = [\"monday\"]")]
    NoDay,
    #[error("an interval must be made of hours, minutes and seconds, such as \"PT15M\"; for whole days use every = \"day\"")]
    CivilInterval,
    #[error("an interval must be at least one minute long")]
    TooShort,
    #[error("it ends on {ends}, before it starts on {starts}")]
    EndsBeforeStart { starts: NaiveDate, ends: NaiveDate },
}

const WEEKDAYS: [Weekday; 7] = [Weekday::Mon, Weekday::Tue, Weekday::Wed, Weekday::Thu, Weekday::Fri, Weekday::Sat, Weekday::Sun];
pub const WEEKDAY_NAMES: [&str; 7] = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];

pub fn weekday_from_name(name: &str) -> Option<Weekday> {
    WEEKDAY_NAMES.iter().position(|known| *known == name).map(|i| WEEKDAYS[i])
}

/// The English name with a capital: `Monday`.
pub fn weekday_name(day: Weekday) -> &'static str {
    ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"][day.num_days_from_monday() as usize]
}

impl Schedule {
    /// A checked schedule: times and days are sorted and doubles dropped.
    pub fn new(mut recurrence: Recurrence, starts: Option<NaiveDate>, ends: Option<NaiveDate>) -> Result<Self, ImpossibleSchedule> {
        match &mut recurrence {
            Recurrence::Times { days, at } => {
                at.sort();
                at.dedup();
                if at.is_empty() {
                    return Err(ImpossibleSchedule::NoTime);
                }
                if let Days::On(days) = days {
                    days.sort_by_key(Weekday::num_days_from_monday);
                    days.dedup();
                    if days.is_empty() {
                        return Err(ImpossibleSchedule::NoDay);
                    }
                }
            }
            Recurrence::Interval(span) => match span.elapsed() {
                None => return Err(ImpossibleSchedule::CivilInterval),
                Some(elapsed) if elapsed < TimeDelta::minutes(1) => return Err(ImpossibleSchedule::TooShort),
                Some(_) => {}
            },
        }
        if let (Some(starts), Some(ends)) = (starts, ends)
            && ends < starts
        {
            return Err(ImpossibleSchedule::EndsBeforeStart { starts, ends });
        }
        Ok(Self { recurrence, starts, ends })
    }

    /// The first scheduled instant strictly after `after`, or nothing once it has ended.
    ///
    /// ```
    /// # use maple_lark_core::schedule::{Days, Recurrence, Schedule};
    /// let at = vec!["01:30".parse().unwrap()];
    /// let daily = Schedule::new(Recurrence::Times { days: Days::Every, at }, None, None).unwrap();
    /// let zone = "Atlantic/Faroe".parse().unwrap();
    /// // 01:30 does not exist on 29 March 2026; clocks go from 01:00 to 02:00.
    /// let next = daily.next_after("2026-03-28T12:00:00Z".parse().unwrap(), zone).unwrap();
    /// assert_eq!(next.to_rfc3339(), "2026-03-29T01:00:00+00:00");
    /// ```
    pub fn next_after(&self, after: DateTime<Utc>, zone: Zone) -> Option<DateTime<Utc>> {
        let floor = self.starts.map_or(after, |date| after.max(zone.start_of(date) - TimeDelta::nanoseconds(1)));
        let next = match &self.recurrence {
            Recurrence::Times { days, at } => next_time(days, at, floor, zone),
            Recurrence::Interval(span) => {
                // Checked in `new`: an interval has no civil part and is not zero.
                let step = span.elapsed().map_or(60, |step| step.num_seconds()).max(60);
                let anchor = zone.start_of(NaiveDate::from_ymd_opt(1970, 1, 5)?).timestamp();
                let passed = (floor.timestamp() - anchor).div_euclid(step) + 1;
                DateTime::from_timestamp(anchor + passed * step, 0)
            }
        }?;
        let ended = self.ends.is_some_and(|last| next >= zone.start_of(last + TimeDelta::days(1)));
        (!ended).then_some(next)
    }

    /// All scheduled instants in `(after, until]`, oldest first.
    pub fn instants(&self, after: DateTime<Utc>, until: DateTime<Utc>, zone: Zone) -> impl Iterator<Item = DateTime<Utc>> + '_ {
        std::iter::successors(self.next_after(after, zone), move |last| self.next_after(*last, zone)).take_while(move |at| *at <= until)
    }

    /// The rule in one sentence without its zone: `Every day at 07:30`.
    pub fn sentence(&self) -> String {
        let mut text = match &self.recurrence {
            Recurrence::Interval(span) => {
                let readable = span.readable();
                format!("Every {}", readable.strip_prefix("1 ").unwrap_or(&readable))
            }
            Recurrence::Times { days, at } => {
                let times =
                    list(&at.iter().map(|t| t.format(if t.format("%S").to_string() == "00" { "%H:%M" } else { "%H:%M:%S" }).to_string()).collect::<Vec<_>>());
                let days = match days {
                    Days::Every => "Every day".to_owned(),
                    Days::On(days) if days.as_slice() == &WEEKDAYS[..5] => "Every weekday (Monday to Friday)".to_owned(),
                    Days::On(days) => format!("Every {}", list(&days.iter().map(|day| weekday_name(*day).to_owned()).collect::<Vec<_>>())),
                };
                format!("{days} at {times}")
            }
        };
        if let Some(starts) = self.starts {
            text += &format!(", from {}", starts.format("%-d %B %Y"));
        }
        if let Some(ends) = self.ends {
            text += &format!(", until {}", ends.format("%-d %B %Y"));
        }
        text
    }
}

fn next_time(days: &Days, at: &[NaiveTime], after: DateTime<Utc>, zone: Zone) -> Option<DateTime<Utc>> {
    // The gap rule can move a time to the next date, so the walk starts a day early.
    let first = zone.local(after).date().checked_sub_days(chrono::Days::new(2))?;
    first
        .iter_days()
        .take(12)
        .filter(|date| match days {
            Days::Every => true,
            Days::On(days) => days.contains(&date.weekday()),
        })
        .flat_map(|date| at.iter().map(move |time| zone.instant(date.and_time(*time))))
        .filter(|instant| *instant > after)
        .min()
}

fn list(items: &[String]) -> String {
    match items {
        [] => String::new(),
        [one] => one.clone(),
        [rest @ .., last] => format!("{} and {last}", rest.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn times(days: Days, at: &[&str]) -> Schedule {
        Schedule::new(Recurrence::Times { days, at: at.iter().map(|t| t.parse().unwrap()).collect() }, None, None).unwrap()
    }

    fn every(span: &str) -> Schedule {
        Schedule::new(Recurrence::Interval(span.parse().unwrap()), None, None).unwrap()
    }

    fn next(schedule: &Schedule, zone: &str, after: &str, count: usize) -> Vec<String> {
        let zone: Zone = zone.parse().unwrap();
        schedule.instants(after.parse().unwrap(), DateTime::<Utc>::MAX_UTC, zone).take(count).map(|at| zone.rfc3339(at)).collect()
    }

    #[test]
    fn a_daily_time_keeps_its_wall_clock_time_over_both_changes() {
        let daily = times(Days::Every, &["07:30"]);
        assert_eq!(
            next(&daily, "Atlantic/Faroe", "2026-10-24T00:00:00Z", 3),
            ["2026-10-24T07:30:00+01:00", "2026-10-25T07:30:00+00:00", "2026-10-26T07:30:00+00:00"]
        );
    }

    #[test]
    fn a_time_in_a_fold_runs_once_at_the_first() {
        let daily = times(Days::Every, &["01:30"]);
        assert_eq!(next(&daily, "Atlantic/Faroe", "2026-10-24T12:00:00Z", 2), ["2026-10-25T01:30:00+01:00", "2026-10-26T01:30:00+00:00"]);
    }

    #[test]
    fn weekdays_and_chosen_days_skip_the_others() {
        let weekdays = times(Days::On(WEEKDAYS[..5].to_vec()), &["07:30"]);
        assert_eq!(next(&weekdays, "UTC", "2026-11-20T08:00:00Z", 1), ["2026-11-23T07:30:00+00:00"]);
        let weekly = times(Days::On(vec![Weekday::Fri, Weekday::Mon]), &["18:00", "06:00"]);
        assert_eq!(next(&weekly, "UTC", "2026-11-23T06:00:00Z", 3), ["2026-11-23T18:00:00+00:00", "2026-11-27T06:00:00+00:00", "2026-11-27T18:00:00+00:00"]);
    }

    #[test]
    fn an_interval_is_counted_from_its_anchor() {
        assert_eq!(next(&every("PT15M"), "Asia/Kathmandu", "2026-11-23T00:01:00Z", 2), ["2026-11-23T06:00:00+05:45", "2026-11-23T06:15:00+05:45"]);
    }

    #[test]
    fn first_and_last_dates_bound_it() {
        let mut daily = times(Days::Every, &["00:00", "12:00"]);
        daily.starts = NaiveDate::from_ymd_opt(2026, 12, 1);
        daily.ends = NaiveDate::from_ymd_opt(2026, 12, 1);
        assert_eq!(next(&daily, "Atlantic/Faroe", "2026-11-23T00:00:00Z", 5), ["2026-12-01T00:00:00+00:00", "2026-12-01T12:00:00+00:00"]);
        assert_eq!(daily.sentence(), "Every day at 00:00 and 12:00, from 1 December 2026, until 1 December 2026");
    }

    #[test]
    fn what_can_never_run_is_refused_with_the_reason() {
        let day = NaiveDate::from_ymd_opt(2026, 1, 2).unwrap();
        let none = Schedule::new(Recurrence::Times { days: Days::Every, at: vec![] }, None, None);
        assert_eq!(none, Err(ImpossibleSchedule::NoTime));
        let ended = Schedule::new(Recurrence::Interval("PT1H".parse().unwrap()), Some(day), day.pred_opt());
        assert_eq!(ended, Err(ImpossibleSchedule::EndsBeforeStart { starts: day, ends: day.pred_opt().unwrap() }));
        assert_eq!(Schedule::new(Recurrence::Interval("P1D".parse().unwrap()), None, None), Err(ImpossibleSchedule::CivilInterval));
        assert_eq!(Schedule::new(Recurrence::Interval("PT5S".parse().unwrap()), None, None), Err(ImpossibleSchedule::TooShort));
    }

    #[test]
    fn it_is_said_back_in_words() {
        assert_eq!(times(Days::On(WEEKDAYS[..5].to_vec()), &["07:30"]).sentence(), "Every weekday (Monday to Friday) at 07:30");
        assert_eq!(times(Days::On(vec![Weekday::Mon, Weekday::Thu]), &["18:00", "06:00"]).sentence(), "Every Monday and Thursday at 06:00 and 18:00");
        assert_eq!(every("PT1M").sentence(), "Every minute");
        assert_eq!(every("PT15M").sentence(), "Every 15 minutes");
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(300))]

        /// A walk over every minute of four days must find exactly the instants that the
        /// rule computes: a minute is scheduled if the wall clock shows a named time for the
        /// first time, or if a gap has just swallowed one.
        #[test]
        fn instants_agree_with_a_walk_minute_by_minute(
            zone in (0..chrono_tz::TZ_VARIANTS.len()).prop_map(|i| chrono_tz::TZ_VARIANTS[i].name().parse::<Zone>().unwrap()),
            // From 1973 on, all offsets are whole minutes.
            start in (94_694_400i64 / 60..4_102_444_800 / 60).prop_map(|m| DateTime::from_timestamp(m * 60, 0).unwrap()),
            minutes in proptest::collection::vec(0u32..1440, 1..4),
        ) {
            let at: Vec<NaiveTime> = minutes.iter().map(|m| NaiveTime::from_hms_opt(m / 60, m % 60, 0).unwrap()).collect();
            let schedule = Schedule::new(Recurrence::Times { days: Days::Every, at: at.clone() }, None, None).unwrap();
            let end = start + TimeDelta::days(4);
            let computed: Vec<_> = schedule.instants(start, end, zone).collect();
            let mut walked = Vec::new();
            let mut shown = zone.local(start - TimeDelta::days(2));
            let mut at_minute = start - TimeDelta::days(2);
            while at_minute < end {
                at_minute += TimeDelta::minutes(1);
                let local = zone.local(at_minute);
                // The wall-clock minutes that are reached or jumped over now and were never shown.
                let mut due = false;
                let mut minute = shown;
                while minute < local {
                    minute += TimeDelta::minutes(1);
                    due |= at.contains(&minute.time());
                }
                shown = shown.max(local);
                if due && at_minute > start {
                    walked.push(at_minute);
                }
            }
            prop_assert_eq!(computed, walked);
        }
    }
}
