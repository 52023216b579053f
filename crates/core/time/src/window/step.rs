//! Resampling steps: stretches of equal civil length that a window is cut into.

use std::{fmt, str::FromStr};

use chrono::{DateTime, NaiveTime, TimeDelta, Timelike, Utc, Weekday};
use serde::{Deserialize, Serialize};

use crate::{
    span::Span,
    window::{CalendarUnit, Window},
    zone::Zone,
};

/// A step between one minute and one month, aligned to the zone's calendar.
///
/// Steps tile time. Those of up to an hour are elapsed time and are cut where the zone's
/// offset changes by less than their length; longer ones begin at the same times of the
/// wall clock every day, so that one of them is an hour longer or shorter where the clock
/// changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Step {
    /// 1, 2, 5, 10, 15 or 30 minutes.
    Minutes(u32),
    /// 1, 2, 3, 6 or 12 hours.
    Hours(u32),
    /// A day.
    Day,
    /// A week from Monday.
    Week,
    /// A calendar month.
    Month,
}

const LADDER: [(Step, &str); 14] = [
    (Step::Minutes(1), "PT1M"),
    (Step::Minutes(2), "PT2M"),
    (Step::Minutes(5), "PT5M"),
    (Step::Minutes(10), "PT10M"),
    (Step::Minutes(15), "PT15M"),
    (Step::Minutes(30), "PT30M"),
    (Step::Hours(1), "PT1H"),
    (Step::Hours(2), "PT2H"),
    (Step::Hours(3), "PT3H"),
    (Step::Hours(6), "PT6H"),
    (Step::Hours(12), "PT12H"),
    (Step::Day, "P1D"),
    (Step::Week, "P1W"),
    (Step::Month, "P1M"),
];

/// A text that is no step.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[error("\"{given}\" is not a resampling step; it is one of {}", LADDER.map(|(_, name)| name).join(", "))]
pub struct NotAStep {
    given: String,
}

impl FromStr for Step {
    type Err = NotAStep;

    fn from_str(given: &str) -> Result<Self, NotAStep> {
        // However its length is said: "PT1H" is "1 hour" and "60 minutes".
        let wanted = given.parse::<Span>().ok();
        LADDER
            .iter()
            .find(|(_, name)| {
                *name == given || wanted.is_some_and(|wanted| name.parse() == Ok(wanted))
            })
            .map(|(step, _)| *step)
            .ok_or_else(|| NotAStep {
                given: given.to_owned(),
            })
    }
}

impl fmt::Display for Step {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // Every step is on the ladder: only `from_str` and `fitting` make them.
        f.write_str(
            LADDER
                .iter()
                .find(|(step, _)| step == self)
                .map_or("PT1M", |(_, name)| name),
        )
    }
}

impl TryFrom<String> for Step {
    type Error = NotAStep;

    fn try_from(given: String) -> Result<Self, NotAStep> {
        given.parse()
    }
}

impl From<Step> for String {
    fn from(step: Step) -> String {
        step.to_string()
    }
}

impl Step {
    /// The finest step that cuts the window into at most `points` pieces: what a figure of
    /// that many points across can show. A month, if even that is too fine.
    ///
    /// ```
    /// # use maple_lark_time::window::{CalendarUnit, Step, WindowKind, WindowRule};
    /// let zone = "Atlantic/Faroe".parse().unwrap();
    /// let day = WindowRule::new(WindowKind::Previous { unit: CalendarUnit::Day, count: 1 });
    /// let window = day.window("2026-10-26T07:30:00Z".parse().unwrap(), zone);
    /// assert_eq!(Step::fitting(&window, 300).to_string(), "PT5M");
    /// assert_eq!(Step::fitting(&window, 24).to_string(), "PT2H");
    /// ```
    #[must_use]
    pub fn fitting(window: &Window, points: usize) -> Self {
        let minutes = window.elapsed().num_minutes();
        let fits = |step: &Step| minutes <= step.usual_minutes() * points.max(1) as i64;
        LADDER
            .iter()
            .map(|(step, _)| *step)
            .find(fits)
            .unwrap_or(Step::Month)
    }

    /// The length in seconds of a step in which no clock changes; 30 days for a month.
    #[must_use]
    pub fn usual_seconds(self) -> i64 {
        self.usual_minutes() * 60
    }

    fn usual_minutes(self) -> i64 {
        match self {
            Step::Minutes(n) => i64::from(n),
            Step::Hours(n) => i64::from(n) * 60,
            Step::Day => 1440,
            Step::Week => 7 * 1440,
            Step::Month => 30 * 1440,
        }
    }

    /// The start of the step that holds `instant`. Weeks start on Monday.
    #[must_use]
    pub fn start(self, instant: DateTime<Utc>, zone: Zone) -> DateTime<Utc> {
        match self {
            Step::Minutes(_) | Step::Hours(1) => {
                let local = zone.local(instant);
                let second = i64::from(local.num_seconds_from_midnight());
                let into = TimeDelta::seconds(second % (self.usual_minutes() * 60))
                    + TimeDelta::nanoseconds(i64::from(local.nanosecond()));
                let start = instant - into;
                zone.last_change(start, instant).unwrap_or(start)
            }
            Step::Hours(hours) => {
                let date = zone.local(instant).date();
                // From the day before: where midnight falls into a gap or comes twice, the
                // step that holds the instant may be one of that day's.
                let days = [date.succ_opt(), Some(date), date.pred_opt()];
                let starts = days
                    .into_iter()
                    .flatten()
                    .flat_map(|date| (0..24 / hours).rev().map(move |n| (date, n * hours)));
                let at =
                    |(date, hour): (chrono::NaiveDate, u32)| {
                        zone.instant(date.and_time(
                            NaiveTime::from_hms_opt(hour, 0, 0).unwrap_or(NaiveTime::MIN),
                        ))
                    };
                starts
                    .map(at)
                    .find(|start| *start <= instant)
                    .unwrap_or(instant)
            }
            Step::Day => CalendarUnit::Day.start(instant, zone, Weekday::Mon),
            Step::Week => CalendarUnit::Week.start(instant, zone, Weekday::Mon),
            Step::Month => CalendarUnit::Month.start(instant, zone, Weekday::Mon),
        }
    }

    /// The start of the step after the one that begins at `start`.
    #[must_use]
    pub fn next_start(self, start: DateTime<Utc>, zone: Zone) -> DateTime<Utc> {
        match self {
            Step::Minutes(_) | Step::Hours(1) => {
                let length = self.usual_minutes() * 60;
                let into = i64::from(zone.local(start).num_seconds_from_midnight()) % length;
                let end = start + TimeDelta::seconds(length - into);
                zone.last_change(start, end).unwrap_or(end)
            }
            Step::Hours(hours) => {
                let date = zone.local(start).date();
                let days = date.pred_opt().unwrap_or(date).iter_days().take(5);
                let starts = days.flat_map(|date| (0..24 / hours).map(move |n| (date, n * hours)));
                let at =
                    |(date, hour): (chrono::NaiveDate, u32)| {
                        zone.instant(date.and_time(
                            NaiveTime::from_hms_opt(hour, 0, 0).unwrap_or(NaiveTime::MIN),
                        ))
                    };
                starts
                    .map(at)
                    .find(|next| *next > start)
                    .unwrap_or(start + TimeDelta::hours(i64::from(hours)))
            }
            Step::Day => CalendarUnit::Day.next_start(start, zone, Weekday::Mon),
            Step::Week => CalendarUnit::Week.next_start(start, zone, Weekday::Mon),
            Step::Month => CalendarUnit::Month.next_start(start, zone, Weekday::Mon),
        }
    }

    /// A window that is asked for, or drawn, in more steps than this takes longer than anybody
    /// waits.
    pub const MOST: i64 = 100_000;

    /// Whether a window has more than [`Step::MOST`] of these steps.
    #[must_use]
    pub fn is_too_fine_for(self, window: &Window) -> bool {
        (window.to - window.from).num_seconds() / self.usual_seconds() > Self::MOST
    }

    /// Where the steps of a window begin, oldest first; the first begins with the window,
    /// which may be in the middle of a step of the calendar. Empty for an empty window.
    #[must_use]
    pub fn starts(self, window: &Window) -> Vec<DateTime<Utc>> {
        if window.from >= window.to {
            return Vec::new();
        }
        let next = |start: &DateTime<Utc>| Some(self.next_start(*start, window.zone));
        let aligned = std::iter::successors(Some(self.start(window.from, window.zone)), next)
            .skip(1)
            .take_while(|start| *start < window.to);
        std::iter::once(window.from).chain(aligned).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{testing, window::Window, zone::Zone};
    use proptest::prelude::*;

    fn starts(step: &str, from: &str, to: &str) -> Vec<String> {
        let zone: Zone = "Atlantic/Faroe".parse().unwrap();
        let window = Window {
            from: from.parse().unwrap(),
            to: to.parse().unwrap(),
            zone,
            within: None,
        };
        step.parse::<Step>()
            .unwrap()
            .starts(&window)
            .into_iter()
            .map(|at| zone.rfc3339(at)[5..16].to_owned())
            .collect()
    }

    #[test]
    fn six_hours_keep_the_wall_clock_over_a_change() {
        assert_eq!(
            starts("PT6H", "2026-10-24T23:00:00Z", "2026-10-26T00:00:00Z"),
            ["10-25T00:00", "10-25T06:00", "10-25T12:00", "10-25T18:00"]
        );
        assert_eq!(
            starts("PT6H", "2026-03-29T00:00:00Z", "2026-03-29T23:00:00Z"),
            ["03-29T00:00", "03-29T06:00", "03-29T12:00", "03-29T18:00"]
        );
    }

    #[test]
    fn hours_are_elapsed_so_a_fold_has_two_of_them() {
        assert_eq!(
            starts("PT1H", "2026-10-24T23:00:00Z", "2026-10-26T00:00:00Z").len(),
            25
        );
        assert_eq!(
            starts("PT1H", "2026-03-29T00:00:00Z", "2026-03-29T23:00:00Z").len(),
            23
        );
    }

    #[test]
    fn a_window_that_begins_within_a_step_begins_with_a_shorter_one() {
        assert_eq!(
            starts("PT15M", "2026-11-23T07:20:00Z", "2026-11-23T08:00:00Z"),
            ["11-23T07:20", "11-23T07:30", "11-23T07:45"]
        );
        assert_eq!(
            starts("P1M", "2026-11-23T07:20:00Z", "2027-01-10T00:00:00Z"),
            ["11-23T07:20", "12-01T00:00", "01-01T00:00"]
        );
        assert_eq!(
            starts("P1D", "2026-11-23T00:00:00Z", "2026-11-23T00:00:00Z"),
            Vec::<String>::new()
        );
    }

    #[test]
    fn only_the_steps_of_the_ladder_are_read() {
        let error = "PT7M".parse::<Step>().unwrap_err().to_string();
        assert!(error.contains("PT5M") && error.contains("P1M"), "{error}");
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2_000))]

        #[test]
        fn steps_tile_time_in_every_zone((zone, at) in testing::near_a_change(), step in 0..LADDER.len()) {
            let step = LADDER[step].0;
            let start = step.start(at, zone);
            let next = step.next_start(start, zone);
            prop_assert!(start <= at && at < next, "{step}: {start} <= {at} < {next}");
            prop_assert_eq!(step.start(start, zone), start);
            prop_assert_eq!(step.start(next, zone), next);
        }
    }
}
