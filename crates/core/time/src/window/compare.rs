//! The window that a window is held against.

use chrono::{Months, NaiveDateTime, NaiveTime, TimeDelta, Weekday};
use serde::{Deserialize, Serialize};

use crate::{
    window::{CalendarUnit, Window, WindowKind, WindowRule},
    zone::Zone,
};

/// Which earlier window a window is compared with. See [`WindowRule::comparison`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Comparison {
    /// The window before.
    Before,
    /// The same days of the week before.
    LastWeek,
    /// The same dates of the month before.
    LastMonth,
    /// The same dates of the year before.
    LastYear,
}

impl Comparison {
    /// The names that definitions know them by, in the order of the variants.
    pub const NAMES: [&'static str; 4] = ["window-before", "last-week", "last-month", "last-year"];

    /// The comparison of a name.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        let all = [
            Self::Before,
            Self::LastWeek,
            Self::LastMonth,
            Self::LastYear,
        ];
        Self::NAMES
            .iter()
            .position(|known| *known == name)
            .map(|index| all[index])
    }

    pub(crate) fn words(self) -> &'static str {
        match self {
            Self::Before => "the window before",
            Self::LastWeek => "the same days a week before",
            Self::LastMonth => "the same dates a month before",
            Self::LastYear => "the same dates a year before",
        }
    }
}

impl WindowRule {
    /// The window that `window`, which this rule has made, is compared with.
    ///
    /// *The window before* is as many whole units for a window of whole units, the span
    /// before for a span, and for a window to date the unit before up to the same civil
    /// time of it (at most to its end).
    ///
    /// *The same dates* move both ends by civil time:
    ///
    /// - whole months stay whole months: April is held against all 31 days of March;
    /// - otherwise a date that the earlier month does not have becomes its last: 31 March
    ///   is held against 28 February, and so are 29 and 30 March;
    /// - the result is never empty: where both ends would fall together it is as long as
    ///   the window itself.
    ///
    /// ```
    /// use maple_lark_time::window::{CalendarUnit, Comparison, WindowKind, WindowRule};
    /// let mut rule = WindowRule::new(WindowKind::Previous { unit: CalendarUnit::Month, count: 1 });
    /// rule.compare = Some(Comparison::LastYear);
    /// let february = rule.window("2028-03-01T07:30:00Z".parse().unwrap(), "Atlantic/Faroe".parse().unwrap());
    /// assert_eq!(rule.comparison(&february).unwrap().label(), "February 2027");
    /// ```
    #[must_use]
    pub fn comparison(&self, window: &Window) -> Option<Window> {
        let zone = window.zone;
        let (from, to) = match self.compare? {
            Comparison::Before => self.before(window),
            Comparison::LastWeek => {
                let back = |at| zone.instant(window.edge(at) - TimeDelta::days(7));
                (back(window.from), back(window.to))
            }
            Comparison::LastMonth => back_by_months(window, 1),
            Comparison::LastYear => back_by_months(window, 12),
        };
        // In a fold both ends may fall together, or the later one before the earlier.
        let to = if to > from {
            to
        } else {
            from + window.elapsed()
        };
        Some(Window {
            from,
            to,
            zone,
            within: window.within.clone(),
        })
    }

    fn before(&self, window: &Window) -> (Instant, Instant) {
        let zone = window.zone;
        match self.kind {
            WindowKind::Previous { unit, count } => {
                let step = |start, _| {
                    unit.start(start - TimeDelta::nanoseconds(1), zone, self.week_starts)
                };
                ((0..count.max(1)).fold(window.from, step), window.from)
            }
            WindowKind::Last(span) => (span.before(window.from, zone), window.from),
            WindowKind::ToDate(unit) => {
                let moment = TimeDelta::nanoseconds(1);
                let start = unit.start(window.from - moment, zone, self.week_starts);
                if unit.next_start(window.from, zone, self.week_starts) == window.to {
                    return (start, window.from);
                }
                let to = match unit {
                    // The clock may show the same hour twice.
                    CalendarUnit::Hour => start + window.elapsed(),
                    // A year has its dates, whether a leap day came before them or not.
                    CalendarUnit::Year => zone.instant(window.edge(window.to) - Months::new(12)),
                    _ => {
                        let into = window.edge(window.to) - window.edge(window.from);
                        zone.instant(edge(start, zone) + into)
                    }
                };
                (start, to.min(window.from))
            }
            WindowKind::Fixed { .. } => (window.from - window.elapsed(), window.from),
        }
    }
}

type Instant = chrono::DateTime<chrono::Utc>;

impl Window {
    /// What the wall clock shows at an end of the window, or would show if a unit that begins
    /// there began at midnight: where that falls into a gap, dates are moved all the same.
    fn edge(&self, at: Instant) -> NaiveDateTime {
        edge(at, self.zone)
    }
}

fn edge(at: Instant, zone: Zone) -> NaiveDateTime {
    let shown = zone.local(at);
    if zone.start_of(shown.date()) == at {
        shown.date().and_time(NaiveTime::MIN)
    } else {
        shown
    }
}

fn back_by_months(window: &Window, months: u32) -> (Instant, Instant) {
    let (zone, months) = (window.zone, Months::new(months));
    let (from, to) = (window.edge(window.from), window.edge(window.to));
    let midnight = |at: NaiveDateTime| at.time() == NaiveTime::MIN;
    if !(midnight(from) && midnight(to)) {
        let (start, end) = (zone.instant(from - months), zone.instant(to - months));
        let as_long = || zone.instant(from - months + (to - from));
        return (start, if end > start { end } else { as_long() });
    }
    let (first, last) = (from.date(), to.date() - TimeDelta::days(1));
    let begins_month = CalendarUnit::Month.first_date(first, Weekday::Mon) == first;
    let ends_month = CalendarUnit::Month.first_date(to.date(), Weekday::Mon) == to.date();
    let end = if begins_month && ends_month {
        to.date() - months
    } else {
        last - months + TimeDelta::days(1)
    };
    (zone.start_of(first - months), zone.start_of(end))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing;
    use proptest::prelude::*;

    fn compared(kind: WindowKind, compare: Comparison, at: &str) -> (String, String) {
        let mut rule = WindowRule::new(kind);
        rule.compare = Some(compare);
        let window = rule.window(at.parse().unwrap(), "Atlantic/Faroe".parse().unwrap());
        (window.label(), rule.comparison(&window).unwrap().label())
    }

    fn previous(unit: CalendarUnit, count: u32) -> WindowKind {
        WindowKind::Previous { unit, count }
    }

    /// Worked out with a wall calendar.
    #[test]
    #[expect(clippy::too_many_lines, reason = "a table of cases")]
    fn the_rules_for_unequal_lengths_hold() {
        use CalendarUnit::{Day, Month, Quarter, Week};
        use Comparison::{Before, LastMonth, LastWeek, LastYear};
        let cases = [
            (
                previous(Day, 1),
                Before,
                "2026-11-23T07:30:00Z",
                "Sunday 22 November 2026",
                "Saturday 21 November 2026",
            ),
            (
                previous(Day, 1),
                LastWeek,
                "2026-11-02T07:30:00Z",
                "Sunday 1 November 2026",
                "Sunday 25 October 2026, 25 h",
            ),
            (
                previous(Month, 1),
                Before,
                "2026-04-01T07:30:00Z",
                "March 2026",
                "February 2026",
            ),
            (
                previous(Month, 1),
                LastMonth,
                "2026-05-01T07:30:00Z",
                "April 2026",
                "March 2026",
            ),
            (
                previous(Month, 1),
                LastMonth,
                "2026-03-01T07:30:00Z",
                "February 2026",
                "January 2026",
            ),
            (
                previous(Month, 1),
                LastYear,
                "2028-03-01T07:30:00Z",
                "February 2028",
                "February 2027",
            ),
            (
                previous(Quarter, 1),
                Before,
                "2026-05-01T07:30:00Z",
                "Quarter 1 of 2026",
                "Quarter 4 of 2025",
            ),
            (
                previous(Day, 1),
                LastMonth,
                "2026-04-01T07:30:00Z",
                "Tuesday 31 March 2026",
                "Saturday 28 February 2026",
            ),
            (
                previous(Day, 1),
                LastMonth,
                "2026-03-31T07:30:00Z",
                "Monday 30 March 2026",
                "Saturday 28 February 2026",
            ),
            (
                previous(Day, 1),
                LastYear,
                "2028-03-01T07:30:00Z",
                "Tuesday 29 February 2028",
                "Sunday 28 February 2027",
            ),
            (
                previous(Week, 2),
                Before,
                "2026-11-23T07:30:00Z",
                "9 to 22 November 2026",
                "26 October to 8 November 2026",
            ),
            (
                previous(Week, 1),
                LastYear,
                "2026-11-23T07:30:00Z",
                "Week 47, 16 to 22 November 2026",
                "16 to 22 November 2025",
            ),
            (
                WindowKind::Last("PT24H".parse().unwrap()),
                LastMonth,
                "2026-03-31T06:00:00Z",
                "30 March 2026 07:00 to 31 March 2026 07:00",
                "28 February 2026 07:00 to 1 March 2026 07:00",
            ),
            (
                WindowKind::ToDate(Month),
                Before,
                "2026-11-23T07:30:00Z",
                "1 November 2026 00:00 to 23 November 2026 07:30",
                "1 October 2026 00:00 to 23 October 2026 07:30",
            ),
            (
                WindowKind::ToDate(Month),
                Before,
                "2026-03-31T06:30:00Z",
                "1 March 2026 00:00 to 31 March 2026 07:30",
                "February 2026",
            ),
            (
                WindowKind::ToDate(Month),
                Before,
                "2026-12-01T00:00:00Z",
                "November 2026",
                "October 2026",
            ),
        ];
        for (kind, compare, at, window, comparison) in cases {
            assert_eq!(
                compared(kind, compare, at),
                (window.to_owned(), comparison.to_owned())
            );
        }
    }

    fn in_zone(kind: WindowKind, compare: Comparison, zone: &str, at: &str) -> String {
        let mut rule = WindowRule::new(kind);
        rule.compare = Some(compare);
        let window = rule.window(at.parse().unwrap(), zone.parse().unwrap());
        rule.comparison(&window).unwrap().exact()
    }

    #[test]
    fn in_a_fold_a_comparison_is_as_long_as_its_window() {
        use CalendarUnit::Hour;
        use Comparison::{Before, LastWeek};
        assert_eq!(
            in_zone(
                previous(Hour, 1),
                LastWeek,
                "Europe/Berlin",
                "2026-10-25T01:30:00Z"
            ),
            "2026-10-18T02:00:00+02:00/2026-10-18T03:00:00+02:00[Europe/Berlin]"
        );
        let half = WindowKind::Last("PT30M".parse().unwrap());
        assert_eq!(
            in_zone(half, LastWeek, "Europe/Berlin", "2026-10-25T01:10:00Z"),
            "2026-10-18T02:40:00+02:00/2026-10-18T03:10:00+02:00[Europe/Berlin]"
        );
        assert_eq!(
            in_zone(
                WindowKind::ToDate(Hour),
                Before,
                "America/New_York",
                "2021-11-07T07:22:00Z"
            ),
            "2021-11-07T01:00:00-05:00/2021-11-07T01:22:00-05:00[America/New_York]"
        );
    }

    #[test]
    fn a_midnight_in_a_gap_neither_adds_nor_loses_an_hour() {
        use CalendarUnit::Day;
        use Comparison::{Before, LastWeek};
        // Friday 24 April 2026 begins at 01:00 in Cairo.
        let cairo = |kind, compare, at: &str| in_zone(kind, compare, "Africa/Cairo", at);
        assert_eq!(
            cairo(previous(Day, 1), LastWeek, "2026-04-25T10:00:00Z"),
            "2026-04-17T00:00:00+02:00/2026-04-18T00:00:00+02:00[Africa/Cairo]"
        );
        assert_eq!(
            cairo(previous(Day, 1), LastWeek, "2026-04-24T10:00:00Z"),
            "2026-04-16T00:00:00+02:00/2026-04-17T00:00:00+02:00[Africa/Cairo]"
        );
        assert_eq!(
            cairo(previous(Day, 1), LastWeek, "2026-05-02T10:00:00Z"),
            "2026-04-24T01:00:00+03:00/2026-04-25T00:00:00+03:00[Africa/Cairo]"
        );
        // 10:00 on the day that has no midnight, against 10:00 of the day before.
        assert_eq!(
            cairo(WindowKind::ToDate(Day), Before, "2026-04-24T07:00:00Z"),
            "2026-04-23T00:00:00+02:00/2026-04-23T10:00:00+02:00[Africa/Cairo]"
        );
    }

    #[test]
    fn a_year_to_date_goes_to_the_same_date() {
        use CalendarUnit::Year;
        let to = |at: &str| {
            let exact = in_zone(WindowKind::ToDate(Year), Comparison::Before, "UTC", at);
            exact[26..36].to_owned()
        };
        assert_eq!(to("2028-10-28T12:00:00Z"), "2027-10-28");
        assert_eq!(to("2029-10-28T12:00:00Z"), "2028-10-28");
        assert_eq!(to("2028-02-29T12:00:00Z"), "2027-02-28");
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(1_000))]

        #[test]
        fn a_comparison_window_is_never_empty_and_never_reaches_past_its_window(
            (zone, at) in testing::near_a_change(),
            unit in 0usize..6,
            shape in 0usize..3,
            compare in 0usize..4,
        ) {
            let unit = CalendarUnit::from_name(CalendarUnit::NAMES[unit]).unwrap();
            let kind = [previous(unit, 2), WindowKind::Last("PT36H".parse().unwrap()), WindowKind::ToDate(unit)][shape];
            let mut rule = WindowRule::new(kind);
            rule.compare = Comparison::from_name(Comparison::NAMES[compare]);
            let window = rule.window(at, zone);
            prop_assume!(window.from < window.to);
            let comparison = rule.comparison(&window).unwrap();
            prop_assert!(comparison.from < comparison.to, "{comparison}");
            prop_assert!(comparison.from < window.from && comparison.to < window.to, "{comparison} against {window}");
            if rule.compare == Some(Comparison::Before) {
                prop_assert!(comparison.to <= window.from);
            }
        }
    }
}
