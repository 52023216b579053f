//! Report windows: half-open intervals computed from the instant a run was scheduled for.
//!
//! A window never depends on "now", so a late, repeated or backfilled run has exactly the
//! window that it would have had on time.

mod compare;
mod step;
mod within;

pub use compare::Comparison;
pub use step::{NotAStep, Step};
pub use within::{BadHours, Hours, Within};

use std::fmt;

use chrono::{DateTime, Datelike, NaiveDate, NaiveTime, TimeDelta, Timelike, Utc, Weekday};
use serde::{Deserialize, Serialize};

use crate::{
    english,
    span::Span,
    zone::{DateForm, Zone, week_start},
};

/// A half-open interval `[from, to)` read in a time zone. `from <= to` always holds.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Window {
    /// The first instant.
    pub from: DateTime<Utc>,
    /// The first instant that is not in it any more.
    pub to: DateTime<Utc>,
    /// The zone that it is read in.
    pub zone: Zone,
    /// Which hours and weekdays between `from` and `to` count; all of them if nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub within: Option<Within>,
}

/// A stretch of the civil calendar that a window can be made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CalendarUnit {
    /// From one full hour of the wall clock to the next.
    Hour,
    /// From midnight to midnight.
    Day,
    /// Seven days.
    Week,
    /// A calendar month.
    Month,
    /// Three months from January, April, July or October.
    Quarter,
    /// A calendar year.
    Year,
}

/// How a report's window follows from the scheduled instant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum WindowKind {
    /// The `count` complete units before the one that holds the instant.
    Previous {
        /// Which unit.
        unit: CalendarUnit,
        /// How many of them; none counts as one.
        count: u32,
    },
    /// The span that ends at the instant.
    Last(Span),
    /// From the start of the running unit up to the instant. At the very start of a unit
    /// it is the whole unit that has just ended.
    ToDate(CalendarUnit),
    /// The same interval for every run.
    Fixed {
        /// The first instant.
        from: DateTime<Utc>,
        /// The first instant after it.
        to: DateTime<Utc>,
    },
}

/// A window kind with what shifts, aligns and narrows it.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct WindowRule {
    /// How it follows from the instant.
    pub kind: WindowKind,
    /// The rule is applied this long before the scheduled instant, so that data still on
    /// its way is left for the next run.
    pub lag: Option<Span>,
    /// The day on which a week begins; ISO 8601 says Monday.
    pub week_starts: Weekday,
    /// Which hours and weekdays inside the window count.
    pub within: Option<Within>,
    /// What the window is held against.
    pub compare: Option<Comparison>,
}

impl CalendarUnit {
    /// The names that definitions know them by, from the shortest.
    pub const NAMES: [&'static str; 6] = ["hour", "day", "week", "month", "quarter", "year"];

    /// The unit of a name.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        Some(match name {
            "hour" => Self::Hour,
            "day" => Self::Day,
            "week" => Self::Week,
            "month" => Self::Month,
            "quarter" => Self::Quarter,
            "year" => Self::Year,
            _ => return None,
        })
    }

    /// The name that definitions know it by.
    #[must_use]
    pub fn name(self) -> &'static str {
        Self::NAMES[self as usize]
    }

    /// The start of the unit that holds `instant`. Units of a kind tile time: each begins
    /// where the one before ends, across every change of the clock.
    ///
    /// An hour never crosses a change of the zone's offset: where a zone shifts by half an
    /// hour, the hour is cut there.
    #[must_use]
    pub fn start(self, instant: DateTime<Utc>, zone: Zone, week_starts: Weekday) -> DateTime<Utc> {
        if self == Self::Hour {
            let local = zone.local(instant);
            let into = TimeDelta::seconds(i64::from(local.minute() * 60 + local.second()))
                + TimeDelta::nanoseconds(i64::from(local.nanosecond()));
            let start = instant - into;
            return zone.last_change(start, instant).unwrap_or(start);
        }
        let mut first = self.first_date(zone.local(instant).date(), week_starts);
        // Where a zone goes back over midnight, the wall clock shows the old date again after
        // the new one has begun; the unit that has begun is the one that counts.
        loop {
            let next = self.next_date(first);
            if zone.start_of(next) > instant {
                break;
            }
            first = next;
        }
        while zone.start_of(first) > instant {
            first = self.first_date(first - TimeDelta::days(1), week_starts);
        }
        zone.start_of(first)
    }

    /// The start of the unit after the one that begins at `start`.
    #[must_use]
    pub fn next_start(
        self,
        start: DateTime<Utc>,
        zone: Zone,
        week_starts: Weekday,
    ) -> DateTime<Utc> {
        if self == Self::Hour {
            let local = zone.local(start);
            let left = TimeDelta::seconds(3600 - i64::from(local.minute() * 60 + local.second()));
            let end = start + left;
            return zone.last_change(start, end).unwrap_or(end);
        }
        let mut date = self.next_date(self.first_date(zone.local(start).date(), week_starts));
        // A date that the zone skipped has no length and is not a unit.
        while zone.start_of(date) <= start {
            date = self.next_date(date);
        }
        zone.start_of(date)
    }

    fn first_date(self, date: NaiveDate, week_starts: Weekday) -> NaiveDate {
        let month = match self {
            Self::Hour | Self::Day => return date,
            Self::Week => return week_start(date, week_starts),
            Self::Month => date.month(),
            Self::Quarter => (date.month() - 1) / 3 * 3 + 1,
            Self::Year => 1,
        };
        NaiveDate::from_ymd_opt(date.year(), month, 1).unwrap_or(date)
    }

    fn next_date(self, first: NaiveDate) -> NaiveDate {
        match self {
            Self::Hour | Self::Day => first + TimeDelta::days(1),
            Self::Week => first + TimeDelta::days(7),
            Self::Month => first + chrono::Months::new(1),
            Self::Quarter => first + chrono::Months::new(3),
            Self::Year => first + chrono::Months::new(12),
        }
    }
}

impl WindowRule {
    /// A rule without lag, comparison or hours; weeks start on Monday.
    #[must_use]
    pub fn new(kind: WindowKind) -> Self {
        Self {
            kind,
            lag: None,
            week_starts: Weekday::Mon,
            within: None,
            compare: None,
        }
    }

    /// The window of the run scheduled for `scheduled`, in `zone`.
    ///
    /// ```
    /// use maple_lark_time::window::{CalendarUnit, WindowKind, WindowRule};
    /// let rule = WindowRule::new(WindowKind::Previous { unit: CalendarUnit::Day, count: 1 });
    /// let window = rule.window("2026-10-26T07:30:00Z".parse().unwrap(), "Atlantic/Faroe".parse().unwrap());
    /// assert_eq!(window.label(), "Sunday 25 October 2026, 25 h");
    /// ```
    #[must_use]
    pub fn window(&self, scheduled: DateTime<Utc>, zone: Zone) -> Window {
        let at = self
            .lag
            .map_or(scheduled, |lag| lag.before(scheduled, zone));
        let (from, to) = match self.kind {
            WindowKind::Previous { unit, count } => {
                let to = unit.start(at, zone, self.week_starts);
                let from = (0..count.max(1)).fold(to, |start, _| {
                    unit.start(start - TimeDelta::nanoseconds(1), zone, self.week_starts)
                });
                (from, to)
            }
            WindowKind::Last(span) => (span.before(at, zone), at),
            WindowKind::ToDate(unit) => (
                unit.start(at - TimeDelta::nanoseconds(1), zone, self.week_starts),
                at,
            ),
            WindowKind::Fixed { from, to } => (from, to),
        };
        Window {
            from,
            to,
            zone,
            within: self.within.clone(),
        }
    }

    /// What the rule says, for people: `the previous complete day`. An interval is said as the
    /// clocks of `zone` show it.
    #[must_use]
    pub fn sentence(&self, zone: Zone) -> String {
        let mut text = match self.kind {
            WindowKind::Previous { unit, count: 1 } => {
                format!("the previous complete {}", unit.name())
            }
            WindowKind::Previous { unit, count } => {
                format!("the previous {count} complete {}s", unit.name())
            }
            WindowKind::Last(span) => format!("the last {}", span.readable()),
            WindowKind::ToDate(unit) => format!("the {} to date", unit.name()),
            WindowKind::Fixed { from, to } => {
                format!("always {}/{}", zone.rfc3339(from), zone.rfc3339(to))
            }
        };
        if self.week_starts != Weekday::Mon
            && matches!(
                self.kind,
                WindowKind::Previous {
                    unit: CalendarUnit::Week,
                    ..
                } | WindowKind::ToDate(CalendarUnit::Week)
            )
        {
            text += &format!(
                ", weeks starting on {}",
                english::weekday_name(self.week_starts)
            );
        }
        if let Some(within) = &self.within {
            text += &format!(", only {}", within.words());
        }
        if let Some(lag) = self.lag {
            text += &format!(", as of {} before the run", lag.readable());
        }
        if let Some(compare) = self.compare {
            text += &format!(", compared with {}", compare.words());
        }
        text
    }
}

impl Window {
    /// Elapsed time, so a day with a change of the clock counts 23 or 25 hours.
    #[must_use]
    pub fn elapsed(&self) -> TimeDelta {
        self.to - self.from
    }

    /// The parts of the window that count, oldest first, without gap or overlap within a
    /// part: the whole window, or only its office hours. Empty parts are left out.
    #[must_use]
    pub fn parts(&self) -> Vec<(DateTime<Utc>, DateTime<Utc>)> {
        match &self.within {
            None if self.from < self.to => vec![(self.from, self.to)],
            None => Vec::new(),
            Some(within) => within.parts(self.from, self.to, self.zone),
        }
    }

    /// How much time counts: the elapsed time of all parts. Ten office hours on a day when
    /// the clock goes back between them are eleven.
    #[must_use]
    pub fn counted(&self) -> TimeDelta {
        self.parts().into_iter().map(|(from, to)| to - from).sum()
    }

    /// How long the window is, for people: `25 h`, `30 min`, `9 days 1 h`; with office hours
    /// how much of it counts.
    #[must_use]
    pub fn duration(&self) -> String {
        let minutes = self.counted().num_minutes();
        let (days, hours, rest) = (minutes / 1440, minutes / 60 % 24, minutes % 60);
        let whole = |n: i64, one: &str, many: &str| {
            (n > 0).then(|| format!("{n} {}", if n == 1 { one } else { many }))
        };
        // Up to two days are said in hours, since a day is not always 24 of them.
        let (days, hours) = if days < 2 {
            (0, hours + days * 24)
        } else {
            (days, hours)
        };
        let said: Vec<String> = [
            whole(days, "day", "days"),
            whole(hours, "h", "h"),
            whole(rest, "min", "min"),
        ]
        .into_iter()
        .flatten()
        .collect();
        if said.is_empty() {
            "no time".to_owned()
        } else {
            said.join(" ")
        }
    }

    /// What this window is, in words, without the zone:
    /// `Sunday 25 October 2026, 25 h`, `Week 43, 19 to 25 October 2026`, `October 2026`,
    /// `22 November 2026 06:00 to 23 November 2026 06:00`,
    /// `October 2026, 08:00 to 17:00 Monday to Friday`.
    #[must_use]
    pub fn label(&self) -> String {
        self.label_in(DateForm::Words)
    }

    /// The same, with its days in a form: `Sunday 2026-10-25, 25 h`,
    /// `Week 43, 2026-10-19 to 2026-10-25`. Months, quarters and years are words in each.
    #[must_use]
    pub fn label_in(&self, form: DateForm) -> String {
        let outer = self.outer_label(form);
        match &self.within {
            Some(within) => format!("{outer}, {}", within.words()),
            None => outer,
        }
    }

    fn outer_label(&self, form: DateForm) -> String {
        let day = form.day();
        let (from, to) = (self.zone.local(self.from), self.zone.local(self.to));
        if !(self.begins_a_date(self.from) && self.begins_a_date(self.to)) || self.from == self.to {
            // To the second where it has one: nobody is to look for it in another window.
            let time = if from.second() == 0 && to.second() == 0 {
                "%H:%M"
            } else {
                "%H:%M:%S"
            };
            let dated = format!("{day} {time}");
            let same_day = from.date() == to.date();
            let end = to.format(if same_day { time } else { &dated });
            let offsets = if same_day
                && self.zone.offset_seconds(self.from) != self.zone.offset_seconds(self.to)
            {
                " (clock change)"
            } else {
                ""
            };
            return format!("{} to {end}{offsets}", from.format(&dated));
        }
        let (first, last) = (from.date(), self.last_date());
        let days = first.iter_days().take_while(|date| *date <= last);
        // A date that the zone skipped is none of them.
        let days = days.take(32).filter(|date| self.zone.has(*date)).count();
        if days == 1 {
            let hours = self.elapsed().num_minutes() as f64 / 60.0;
            let note = if hours == 24.0 {
                String::new()
            } else {
                format!(", {hours} h")
            };
            return format!("{} {}{note}", first.format("%A"), first.format(day));
        }
        let whole = |unit: CalendarUnit| {
            unit.first_date(first, Weekday::Mon) == first && unit.next_date(first) == to.date()
        };
        if whole(CalendarUnit::Year) {
            return first.format("%Y").to_string();
        }
        if whole(CalendarUnit::Quarter) {
            return format!(
                "Quarter {} of {}",
                (first.month() - 1) / 3 + 1,
                first.year()
            );
        }
        if whole(CalendarUnit::Month) {
            return first.format("%B %Y").to_string();
        }
        let start = match (first.year() == last.year(), first.month() == last.month()) {
            _ if form == DateForm::Iso => first.format(day),
            (true, true) => first.format("%-d"),
            (true, false) => first.format("%-d %B"),
            _ => first.format(day),
        };
        let range = format!("{start} to {}", last.format(day));
        if days == 7 && first.weekday() == Weekday::Mon {
            format!("Week {}, {range}", first.iso_week().week())
        } else {
            range
        }
    }

    /// The window to the second with offsets and zone:
    /// `2026-10-25T00:00:00+01:00/2026-10-26T00:00:00+00:00[Atlantic/Faroe]`, an ISO 8601
    /// interval with the zone suffix of RFC 9557.
    #[must_use]
    pub fn exact(&self) -> String {
        format!(
            "{}/{}[{}]",
            self.zone.rfc3339(self.from),
            self.zone.rfc3339(self.to),
            self.zone
        )
    }

    /// The window for people who check it: `25 Oct 2026, 00:00 (UTC+1) to 24:00 (UTC+0),
    /// Atlantic/Faroe`; where the clock does not change meanwhile, `26 Oct 2026, 00:00 to 24:00
    /// (UTC+0, Atlantic/Faroe)`. The second instant is the first that does not belong to the
    /// window; midnight is the end of its day (ISO 8601).
    #[must_use]
    pub fn exact_in_words(&self, form: DateForm) -> String {
        let whole = [self.from, self.to].iter().all(|at| at.second() == 0);
        let time = if whole { "%H:%M" } else { "%H:%M:%S" };
        let (from, to) = (self.zone.local(self.from), self.zone.local(self.to));
        let offsets = [self.from, self.to].map(|at| offset_in_words(self.zone.offset_seconds(at)));
        let ends_a_day = to.time() == NaiveTime::MIN && from < to;
        let (day, at) = match to.date().pred_opt().filter(|_| ends_a_day) {
            Some(day) => (day, if whole { "24:00" } else { "24:00:00" }.to_owned()),
            None => (to.date(), to.format(time).to_string()),
        };
        let end = if day == from.date() {
            at
        } else {
            format!("{}, {at}", day.format(form.short_day()))
        };
        let begin = format!(
            "{}, {}",
            from.date().format(form.short_day()),
            from.format(time)
        );
        let within = self
            .within
            .as_ref()
            .map(|within| format!(", only {}", within.words()))
            .unwrap_or_default();
        let [before, after] = offsets;
        if before == after {
            format!("{begin} to {end} ({before}, {}){within}", self.zone)
        } else {
            format!(
                "{begin} ({before}) to {end} ({after}), {}{within}",
                self.zone
            )
        }
    }

    /// A form for file names: `2026-10-25`, `2026-10-19_2026-10-25`, or with times
    /// `2026-11-22T0600_2026-11-23T0600`.
    #[must_use]
    pub fn file_stamp(&self) -> String {
        let (from, to) = (self.zone.local(self.from), self.zone.local(self.to));
        if self.begins_a_date(self.from) && self.begins_a_date(self.to) && self.to > self.from {
            let last = self.last_date();
            if last == from.date() {
                from.format("%Y-%m-%d").to_string()
            } else {
                format!("{}_{last}", from.date())
            }
        } else {
            format!(
                "{}_{}",
                from.format("%Y-%m-%dT%H%M"),
                to.format("%Y-%m-%dT%H%M")
            )
        }
    }

    /// The last date that the window holds, where it ends with one.
    fn last_date(&self) -> NaiveDate {
        let mut last = self.zone.local(self.to).date() - TimeDelta::days(1);
        while !self.zone.has(last) {
            last -= TimeDelta::days(1);
        }
        last
    }

    fn begins_a_date(&self, instant: DateTime<Utc>) -> bool {
        self.zone.start_of(self.zone.local(instant).date()) == instant
    }
}

impl fmt::Display for Window {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.exact())
    }
}

/// `UTC+1`, `UTC−3:30`.
fn offset_in_words(seconds: i32) -> String {
    let sign = if seconds < 0 { '−' } else { '+' };
    let (hours, minutes) = (seconds.abs() / 3600, seconds.abs() / 60 % 60);
    if minutes == 0 {
        format!("UTC{sign}{hours}")
    } else {
        format!("UTC{sign}{hours}:{minutes:02}")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::near_a_change;
    use proptest::prelude::*;

    fn window(kind: WindowKind, zone: &str, at: &str) -> Window {
        WindowRule::new(kind).window(at.parse().unwrap(), zone.parse().unwrap())
    }

    fn previous(unit: CalendarUnit, count: u32) -> WindowKind {
        WindowKind::Previous { unit, count }
    }

    #[test]
    fn a_day_with_25_hours_is_one_window() {
        let window = window(
            previous(CalendarUnit::Day, 1),
            "Atlantic/Faroe",
            "2026-10-26T07:30:00Z",
        );
        assert_eq!(
            window.exact(),
            "2026-10-25T00:00:00+01:00/2026-10-26T00:00:00+00:00[Atlantic/Faroe]"
        );
        assert_eq!(window.elapsed(), TimeDelta::hours(25));
        assert_eq!(window.label(), "Sunday 25 October 2026, 25 h");
        assert_eq!(window.file_stamp(), "2026-10-25");
    }

    #[test]
    fn a_day_with_23_hours_says_so() {
        let window = window(
            previous(CalendarUnit::Day, 1),
            "Atlantic/Faroe",
            "2026-03-30T07:30:00Z",
        );
        assert_eq!(window.label(), "Sunday 29 March 2026, 23 h");
    }

    #[test]
    #[expect(clippy::too_many_lines, reason = "a table of cases")]
    fn windows_follow_from_the_scheduled_instant() {
        let cases: &[(WindowKind, &str, &str, &str)] = &[
            (
                previous(CalendarUnit::Week, 1),
                "2026-11-23T07:30:00Z",
                "2026-11-16T00:00:00+00:00/2026-11-23T00:00:00+00:00",
                "Week 47, 16 to 22 November 2026",
            ),
            (
                previous(CalendarUnit::Month, 1),
                "2028-03-01T00:00:00Z",
                "2028-02-01T00:00:00+00:00/2028-03-01T00:00:00+00:00",
                "February 2028",
            ),
            (
                previous(CalendarUnit::Month, 2),
                "2026-01-15T00:00:00Z",
                "2025-11-01T00:00:00+00:00/2026-01-01T00:00:00+00:00",
                "1 November to 31 December 2025",
            ),
            (
                previous(CalendarUnit::Quarter, 1),
                "2026-02-01T00:00:00Z",
                "2025-10-01T00:00:00+01:00/2026-01-01T00:00:00+00:00",
                "Quarter 4 of 2025",
            ),
            (
                previous(CalendarUnit::Year, 1),
                "2026-02-01T00:00:00Z",
                "2025-01-01T00:00:00+00:00/2026-01-01T00:00:00+00:00",
                "2025",
            ),
            (
                previous(CalendarUnit::Hour, 1),
                "2026-11-23T07:30:00Z",
                "2026-11-23T06:00:00+00:00/2026-11-23T07:00:00+00:00",
                "23 November 2026 06:00 to 07:00",
            ),
            (
                WindowKind::Last("PT24H".parse().unwrap()),
                "2026-11-23T07:30:00Z",
                "2026-11-22T07:30:00+00:00/2026-11-23T07:30:00+00:00",
                "22 November 2026 07:30 to 23 November 2026 07:30",
            ),
            (
                WindowKind::Last("P7D".parse().unwrap()),
                "2026-10-26T00:00:00Z",
                "2026-10-19T00:00:00+01:00/2026-10-26T00:00:00+00:00",
                "Week 43, 19 to 25 October 2026",
            ),
            (
                WindowKind::ToDate(CalendarUnit::Month),
                "2026-11-23T07:30:00Z",
                "2026-11-01T00:00:00+00:00/2026-11-23T07:30:00+00:00",
                "1 November 2026 00:00 to 23 November 2026 07:30",
            ),
            (
                WindowKind::ToDate(CalendarUnit::Month),
                "2026-12-01T00:00:00Z",
                "2026-11-01T00:00:00+00:00/2026-12-01T00:00:00+00:00",
                "November 2026",
            ),
        ];
        for (kind, at, exact, label) in cases {
            let window = window(*kind, "Atlantic/Faroe", at);
            assert_eq!(
                (window.exact(), window.label()),
                (format!("{exact}[Atlantic/Faroe]"), (*label).to_owned())
            );
        }
    }

    #[test]
    fn a_settling_lag_moves_the_whole_rule_back() {
        let mut rule = WindowRule::new(previous(CalendarUnit::Hour, 1));
        rule.lag = Some("PT10M".parse().unwrap());
        let window = rule.window("2026-11-23T07:05:00Z".parse().unwrap(), Zone::UTC);
        assert_eq!(window.from.to_rfc3339(), "2026-11-23T05:00:00+00:00");
    }

    #[test]
    fn a_half_hour_shift_cuts_the_hour() {
        let zone = "Australia/Lord_Howe";
        let hour = window(
            previous(CalendarUnit::Hour, 1),
            zone,
            "2026-10-03T16:10:00Z",
        );
        assert_eq!(
            (hour.from.to_rfc3339(), hour.to.to_rfc3339()),
            (
                "2026-10-03T15:30:00+00:00".into(),
                "2026-10-03T16:00:00+00:00".into()
            )
        );
    }

    #[test]
    fn a_window_with_seconds_is_said_with_them() {
        let window = |from: &str, to: &str| Window {
            from: from.parse().unwrap(),
            to: to.parse().unwrap(),
            zone: "Atlantic/Faroe".parse().unwrap(),
            within: None,
        };
        let one = window("2026-11-24T06:00:00Z", "2026-11-24T09:32:21Z");
        assert_eq!(one.label(), "24 November 2026 06:00:00 to 09:32:21");
        let words = |window: &Window| window.exact_in_words(DateForm::Words);
        assert_eq!(
            words(&one),
            "24 Nov 2026, 06:00:00 to 09:32:21 (UTC+0, Atlantic/Faroe)"
        );
        let two = window("2026-11-23T09:32:21Z", "2026-11-24T09:32:21Z");
        assert_eq!(
            two.label(),
            "23 November 2026 09:32:21 to 24 November 2026 09:32:21"
        );
        let plain = window("2026-11-24T06:00:00Z", "2026-11-24T09:30:00Z");
        assert_eq!(plain.label(), "24 November 2026 06:00 to 09:30");
        assert_eq!(plain.label_in(DateForm::Iso), "2026-11-24 06:00 to 09:30");
        let day = window("2026-11-24T00:00:00Z", "2026-11-25T00:00:00Z");
        assert_eq!(day.label_in(DateForm::Iso), "Tuesday 2026-11-24");
        let week = window("2026-11-23T00:00:00Z", "2026-11-30T00:00:00Z");
        assert_eq!(
            week.label_in(DateForm::Iso),
            "Week 48, 2026-11-23 to 2026-11-29"
        );
        assert_eq!(
            plain.exact_in_words(DateForm::Iso),
            "2026-11-24, 06:00 to 09:30 (UTC+0, Atlantic/Faroe)"
        );
        // Midnight ends a day, and is not in the next one.
        assert_eq!(
            words(&day),
            "24 Nov 2026, 00:00 to 24:00 (UTC+0, Atlantic/Faroe)"
        );
        assert_eq!(
            words(&week),
            "23 Nov 2026, 00:00 to 29 Nov 2026, 24:00 (UTC+0, Atlantic/Faroe)"
        );
        let empty = window("2026-11-24T00:00:00Z", "2026-11-24T00:00:00Z");
        assert_eq!(
            words(&empty),
            "24 Nov 2026, 00:00 to 00:00 (UTC+0, Atlantic/Faroe)"
        );
    }

    #[test]
    fn each_end_of_a_window_has_the_offset_that_the_clock_has_there() {
        let words = |zone: &str, from: &str, to: &str| {
            let window = Window {
                from: from.parse().unwrap(),
                to: to.parse().unwrap(),
                zone: zone.parse().unwrap(),
                within: None,
            };
            window.exact_in_words(DateForm::Words)
        };
        assert_eq!(
            words(
                "Atlantic/Faroe",
                "2026-10-24T23:00:00Z",
                "2026-10-26T00:00:00Z"
            ),
            "25 Oct 2026, 00:00 (UTC+1) to 24:00 (UTC+0), Atlantic/Faroe"
        );
        assert_eq!(
            words(
                "America/St_Johns",
                "2026-01-01T03:30:00Z",
                "2026-01-02T03:30:00Z"
            ),
            "1 Jan 2026, 00:00 to 24:00 (UTC−3:30, America/St_Johns)"
        );
    }

    #[test]
    fn a_date_that_was_not_is_on_no_label() {
        // Samoa went from 29 to 31 December 2011; Kwajalein skipped 21 August 1993.
        for (zone, at, label, stamp) in [
            (
                "Pacific/Apia",
                "2011-12-30T20:00:00Z",
                "Thursday 29 December 2011",
                "2011-12-29",
            ),
            (
                "Pacific/Kwajalein",
                "1993-08-22T10:00:00Z",
                "Friday 20 August 1993",
                "1993-08-20",
            ),
        ] {
            let day = window(previous(CalendarUnit::Day, 1), zone, at);
            assert_eq!(
                (day.label().as_str(), day.file_stamp().as_str()),
                (label, stamp)
            );
        }
        let days = window(
            previous(CalendarUnit::Day, 3),
            "Pacific/Apia",
            "2012-01-01T20:00:00Z",
        );
        assert_eq!(days.label(), "29 December 2011 to 1 January 2012");
    }

    #[test]
    fn an_interval_is_said_as_the_clocks_of_the_zone_show_it() {
        let zone: Zone = "Europe/Berlin".parse().unwrap();
        let date = |text: &str| zone.start_of(text.parse().unwrap());
        let rule = WindowRule::new(WindowKind::Fixed {
            from: date("2026-07-01"),
            to: date("2026-12-01"),
        });
        assert_eq!(
            rule.sentence(zone),
            "always 2026-07-01T00:00:00+02:00/2026-12-01T00:00:00+01:00"
        );
    }

    #[test]
    fn an_hour_is_cut_wherever_the_clock_changes_within_it() {
        // Chatham's clocks go from 02:45 to 03:45.
        let hour = window(
            previous(CalendarUnit::Hour, 1),
            "Pacific/Chatham",
            "2026-09-26T14:05:00Z",
        );
        assert_eq!(
            hour.exact(),
            "2026-09-27T02:00:00+12:45/2026-09-27T03:45:00+13:45[Pacific/Chatham]"
        );
        assert_eq!(hour.elapsed(), TimeDelta::minutes(45));
        // Nepal's hours begin as its clocks show them.
        let nepal = window(
            previous(CalendarUnit::Hour, 1),
            "Asia/Kathmandu",
            "2026-09-26T14:05:00Z",
        );
        assert_eq!(
            nepal.exact(),
            "2026-09-26T18:00:00+05:45/2026-09-26T19:00:00+05:45[Asia/Kathmandu]"
        );
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2_000))]

        #[test]
        fn units_tile_time_in_every_zone((zone, at) in near_a_change(), unit in 0usize..6) {
            let unit = CalendarUnit::from_name(CalendarUnit::NAMES[unit]).unwrap();
            let start = unit.start(at, zone, Weekday::Mon);
            let next = unit.next_start(start, zone, Weekday::Mon);
            prop_assert!(start <= at && at < next, "{start} <= {at} < {next}");
            prop_assert_eq!(unit.start(start, zone, Weekday::Mon), start);
            prop_assert_eq!(unit.start(next - TimeDelta::seconds(1), zone, Weekday::Mon), start);
            prop_assert_eq!(unit.start(next, zone, Weekday::Mon), next);
        }

        /// Every instant of a day's window shows that day on the wall clock; only where the
        /// clock goes back over midnight does it show the day before once more.
        #[test]
        fn the_window_of_a_day_holds_that_day((zone, at) in near_a_change(), share in 0.0f64..1.0) {
            let window = WindowRule::new(previous(CalendarUnit::Day, 1)).window(at, zone);
            let day = zone.local(window.from).date();
            let within = window.from + TimeDelta::seconds((window.elapsed().num_seconds() as f64 * share) as i64);
            let shown = zone.local(within).date();
            let turned_back = shown == day - TimeDelta::days(1) && zone.last_change(window.from, window.to).is_some();
            prop_assert!(shown == day || turned_back, "{within} shows {shown} in the window of {day}");
            prop_assert!(zone.local(at).date() > day || zone.last_change(window.from, at).is_some());
        }

        #[test]
        fn the_previous_unit_ends_where_the_running_one_begins((zone, at) in near_a_change(), unit in 0usize..6, count in 1u32..5) {
            let unit = CalendarUnit::from_name(CalendarUnit::NAMES[unit]).unwrap();
            let window = WindowRule::new(previous(unit, count)).window(at, zone);
            prop_assert_eq!(window.to, unit.start(at, zone, Weekday::Mon));
            let mut walked = window.from;
            for _ in 0..count {
                walked = unit.next_start(walked, zone, Weekday::Mon);
            }
            prop_assert_eq!(walked, window.to);
        }
    }
}
