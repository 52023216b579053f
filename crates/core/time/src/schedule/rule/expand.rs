//! Unrolls a recurrence rule: period by period, each with the set of times that fit.

use chrono::{Datelike, NaiveDate, NaiveDateTime, NaiveTime, TimeDelta, Timelike};

use super::parts::{DayOfWeek, Frequency, Parts};
use crate::zone::week_start;

/// After the last day of this year a rule finds nothing more.
const LAST_YEAR: i32 = 9999;

/// So many periods, or days, in a row may give nothing; then a rule is taken to give nothing
/// ever again. They are more than the days of the 400 years after which weekdays and leap
/// years repeat.
const MOST_STEPS: u32 = 150_000;

/// A rule with all that it takes from its first time filled in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Pattern {
    parts: Parts,
    first: NaiveDateTime,
    /// Seconds from the start of a period of at most a day to each time of it, sorted.
    offsets: Vec<i64>,
    dates: Dates,
}

/// Which dates fit, as sets of bits, so that a year is looked through in no time.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Dates {
    /// Bit 1 is January.
    months: u32,
    /// Bit 1 is the first of the month.
    days: u32,
    /// Bit 1 is the last of the month.
    days_from_end: u32,
    /// Bit 0 is Monday; numbered ones are not in it.
    weekdays: u32,
    any_day: bool,
    any_weekday: bool,
    /// Whether a month and a weekday say it all.
    plain: bool,
    numbered: Vec<DayOfWeek>,
}

impl Dates {
    fn of(parts: &Parts) -> Self {
        let bits = |list: &[i32], sign: i32| {
            let of_sign = list.iter().map(|one| one * sign).filter(|one| *one > 0);
            of_sign.fold(0, |bits, one| bits | 1 << one)
        };
        let plain = parts.weekdays.iter().filter(|day| day.nth.is_none());
        Self {
            months: match &parts.months[..] {
                [] => months_possible(parts),
                months => bits(months, 1),
            },
            days: bits(&parts.month_days, 1),
            days_from_end: bits(&parts.month_days, -1),
            weekdays: plain.fold(0, |bits, day| bits | 1 << day.day.num_days_from_monday()),
            plain: parts.month_days.is_empty()
                && parts.year_days.is_empty()
                && parts.week_numbers.is_empty()
                && parts.weekdays.iter().all(|day| day.nth.is_none()),
            any_day: parts.month_days.is_empty(),
            any_weekday: parts.weekdays.is_empty(),
            numbered: parts
                .weekdays
                .iter()
                .copied()
                .filter(|day| day.nth.is_some())
                .collect(),
        }
    }
}

/// The months, as a set of bits from 1, that can have a day of a rule that names none: week
/// numbers and numbered weekdays of a year lie in few of them. There may be more in it, never
/// fewer.
fn months_possible(parts: &Parts) -> u32 {
    let of_days = |first: i32, last: i32| {
        let from = (first.max(1) - 1) / 31 + 1;
        let to = (last.clamp(1, 366) - 1) / 28 + 1;
        (from..=to.min(12)).fold(0, |bits, month| bits | 1 << month)
    };
    let of_weeks = parts.week_numbers.iter().fold(0, |bits, week| {
        bits | match week {
            // Days of the last weeks may be in January, those of the first in December.
            2..=51 => of_days(7 * (week - 1) - 3, 7 * week + 4),
            -50..=-3 => of_days(366 + 7 * week - 4, 366 + 7 * (week + 1) + 4),
            _ => 1 << 1 | 1 << 2 | 1 << 12,
        }
    });
    let numbered = || {
        let mut all = parts.weekdays.iter();
        all.try_fold(0, |bits, day| match day.nth? {
            nth @ 1.. => Some(bits | of_days(7 * (nth - 1) + 1, 7 * nth)),
            nth => Some(bits | of_days(366 + 7 * nth, 366 + 7 * (nth + 1))),
        })
    };
    let in_year = parts.frequency == Frequency::Yearly && !parts.weekdays.is_empty();
    let of_weekdays = in_year.then(numbered).flatten();
    match (parts.week_numbers.is_empty(), of_weekdays) {
        (true, None) => u32::MAX,
        (true, Some(months)) => months,
        // Numbered weekdays do not go with week numbers.
        (false, _) => of_weeks,
    }
}

impl Pattern {
    /// What the rule does not say follows from its first time (RFC 5545, 3.3.10).
    pub(super) fn new(mut parts: Parts, first: NaiveDateTime) -> Self {
        let no_days = parts.week_numbers.is_empty()
            && parts.year_days.is_empty()
            && parts.month_days.is_empty()
            && parts.weekdays.is_empty();
        match parts.frequency {
            Frequency::Yearly if no_days => {
                if parts.months.is_empty() {
                    parts.months = vec![first.month() as i32];
                }
                parts.month_days = vec![first.day() as i32];
            }
            Frequency::Monthly if no_days => parts.month_days = vec![first.day() as i32],
            Frequency::Weekly if no_days => {
                parts.weekdays = vec![DayOfWeek {
                    nth: None,
                    day: first.weekday(),
                }];
            }
            _ => {}
        }
        let or_first = |list: &[i32], own: u32, longest: Frequency| match list {
            // A period as short as this has its own.
            _ if parts.frequency <= longest => vec![0],
            [] => vec![i64::from(own)],
            list => list.iter().map(|one| i64::from(*one)).collect(),
        };
        let hours = or_first(&parts.hours, first.hour(), Frequency::Hourly);
        let minutes = or_first(&parts.minutes, first.minute(), Frequency::Minutely);
        let seconds = or_first(&parts.seconds, first.second(), Frequency::Secondly);
        let mut offsets = Vec::with_capacity(hours.len() * minutes.len() * seconds.len());
        for hour in &hours {
            for minute in &minutes {
                offsets.extend(
                    seconds
                        .iter()
                        .map(|second| hour * 3600 + minute * 60 + second),
                );
            }
        }
        Self {
            dates: Dates::of(&parts),
            parts,
            first,
            offsets,
        }
    }

    /// All occurrences at or after `from`, oldest first; none is before the first time.
    pub(super) fn from(&self, from: NaiveDateTime) -> Occurrences<'_> {
        let from = from.max(self.first);
        Occurrences {
            pattern: self,
            from,
            period: self.period_of(from),
            starts: Vec::new(),
            chosen: Vec::new(),
            place: 0,
            steps: 0,
        }
    }

    /// The number of the period, counted from the one of the first time, that is the last to
    /// begin at or before `at`.
    fn period_of(&self, at: NaiveDateTime) -> i64 {
        self.units(at).div_euclid(self.parts.interval)
    }

    /// How many years, months, weeks … `at` is after the one that holds the first time.
    fn units(&self, at: NaiveDateTime) -> i64 {
        let first = self.first;
        let days = |from: NaiveDate, to: NaiveDate| (to - from).num_days();
        match self.parts.frequency {
            Frequency::Yearly => i64::from(at.year() - first.year()),
            Frequency::Monthly => {
                i64::from(at.year() - first.year()) * 12 + i64::from(at.month())
                    - i64::from(first.month())
            }
            Frequency::Weekly => {
                let week = |at: NaiveDateTime| week_start(at.date(), self.parts.week_starts);
                days(week(first), week(at)) / 7
            }
            Frequency::Daily => days(first.date(), at.date()),
            Frequency::Hourly | Frequency::Minutely | Frequency::Secondly => {
                let length = self.unit_seconds();
                at.and_utc().timestamp().div_euclid(length)
                    - first.and_utc().timestamp().div_euclid(length)
            }
        }
    }

    fn unit_seconds(&self) -> i64 {
        match self.parts.frequency {
            Frequency::Secondly => 1,
            Frequency::Minutely => 60,
            _ => 3600,
        }
    }

    fn date_fits(&self, date: NaiveDate) -> bool {
        if self.dates.months >> date.month() & 1 == 0 {
            return false;
        }
        let weekday = date.weekday().num_days_from_monday();
        if self.dates.plain {
            return self.dates.any_weekday || self.dates.weekdays >> weekday & 1 == 1;
        }
        let in_month = InMonth {
            first: date.with_day(1).unwrap_or(date),
            length: days_in_month(date),
            weekday: (weekday + 35 - (date.day() - 1)) % 7,
        };
        self.days_of(&in_month) >> date.day() & 1 == 1
    }

    /// The days of a month that fit, as a set of bits from 1; the month does fit.
    fn days_of(&self, month: &InMonth) -> u32 {
        let (dates, parts) = (&self.dates, &self.parts);
        let mut days = month.all();
        if !dates.any_day {
            let mut from_end = dates.days_from_end;
            let mut wanted = dates.days;
            while from_end != 0 {
                wanted |= month.day(month.length as i32 + 1 - from_end.trailing_zeros() as i32);
                from_end &= from_end - 1;
            }
            days &= wanted;
        }
        if !dates.any_weekday {
            let (mut plain, mut wanted) = (dates.weekdays, 0);
            while plain != 0 {
                wanted |= month.weekdays(plain.trailing_zeros());
                plain &= plain - 1;
            }
            for named in &dates.numbered {
                wanted |= self.numbered(*named, month);
            }
            days &= wanted;
        }
        if !parts.year_days.is_empty() {
            let year = days_in_year(month.first) as i32;
            let counted = parts.year_days.iter().fold(0, |bits, day| {
                let ordinal = if *day > 0 { *day } else { year + 1 + day };
                bits | month.ordinal(ordinal)
            });
            days &= counted;
        }
        if !parts.week_numbers.is_empty() {
            days &= self.weeks(month);
        }
        days
    }

    /// A numbered weekday counts within the month, or within the year if the rule is yearly
    /// and names no months.
    fn numbered(&self, named: DayOfWeek, month: &InMonth) -> u32 {
        let in_month = self.parts.frequency == Frequency::Monthly || !self.parts.months.is_empty();
        let weekday = named.day.num_days_from_monday();
        let nth = named.nth.unwrap_or(1);
        if in_month {
            let all = month.weekdays(weekday);
            let day = if nth > 0 {
                all.trailing_zeros() as i32 + 7 * (nth - 1)
            } else {
                31 - all.leading_zeros() as i32 + 7 * (nth + 1)
            };
            return month.day(day);
        }
        let first_of_year = month.first.with_ordinal(1).unwrap_or(month.first);
        let year = days_in_year(month.first) as i32;
        let starts = first_of_year.weekday().num_days_from_monday();
        let first = ((weekday + 7 - starts) % 7) as i32 + 1;
        let last = first + (year - first) / 7 * 7;
        let ordinal = if nth > 0 {
            first + 7 * (nth - 1)
        } else {
            last + 7 * (nth + 1)
        };
        if (1..=year).contains(&ordinal) {
            month.ordinal(ordinal)
        } else {
            0
        }
    }

    /// Weeks belong to the year that most of their days are in, as ISO 8601 has it: the first
    /// days of January may be of the last week of the year before.
    fn weeks(&self, month: &InMonth) -> u32 {
        let first_week = |year: i32| {
            let inside = NaiveDate::from_ymd_opt(year, 1, 4)?;
            Some(week_start(inside, self.parts.week_starts))
        };
        let year = month.first.year();
        let years = match month.first.month() {
            1 => year - 1..=year,
            12 => year..=year + 1,
            _ => year..=year,
        };
        let mut days = 0;
        for year in years {
            let Some(begins) = first_week(year) else {
                continue;
            };
            // Each year has 51 weeks; only what may be past them needs their number.
            let count = || {
                let ends = first_week(year + 1)?;
                Some(((ends - begins).num_days() / 7) as i32)
            };
            // The day of this month on which the year's first week begins; may be far outside.
            let first = (begins - month.first).num_days() as i32 + 1;
            for wanted in &self.parts.week_numbers {
                let number = match *wanted {
                    certain @ 1..=51 => Some(certain),
                    late if late > 0 => count().filter(|count| late <= *count).map(|_| late),
                    from_end => count().map(|count| count + 1 + from_end),
                };
                let Some(number) = number.filter(|number| *number > 0) else {
                    continue;
                };
                let starts = first + 7 * (number - 1);
                if starts > -6 && starts <= month.length as i32 {
                    days = (starts..starts + 7).fold(days, |bits, day| bits | month.day(day));
                }
            }
        }
        days
    }

    /// The dates of a month that fit, added to those found before.
    fn dates_of_month(&self, first: NaiveDate, found: &mut Vec<NaiveDateTime>) {
        if self.dates.months >> first.month() & 1 == 0 {
            return;
        }
        let month = InMonth {
            first,
            length: days_in_month(first),
            weekday: first.weekday().num_days_from_monday(),
        };
        let mut days = self.days_of(&month);
        while days != 0 {
            let day = days.trailing_zeros();
            found.push(month.date(day).and_time(NaiveTime::MIN));
            days &= days - 1;
        }
    }
}

/// A month of a year.
struct InMonth {
    first: NaiveDate,
    length: u32,
    /// The weekday of its first, counted from Monday.
    weekday: u32,
}

impl InMonth {
    fn all(&self) -> u32 {
        (u32::MAX >> (31 - self.length)) & !1
    }

    /// The bit of a day; none if the month has no such day.
    fn day(&self, day: i32) -> u32 {
        if (1..=self.length as i32).contains(&day) {
            1 << day
        } else {
            0
        }
    }

    /// The bit of a day of the year; none if it is in another month.
    fn ordinal(&self, ordinal: i32) -> u32 {
        self.day(ordinal - self.first.ordinal() as i32 + 1)
    }

    /// All days of a weekday, which counts from Monday as 0.
    fn weekdays(&self, weekday: u32) -> u32 {
        let first = (weekday + 7 - self.weekday) % 7 + 1;
        (0x1020_4081 << first) & self.all()
    }

    fn date(&self, day: u32) -> NaiveDate {
        self.first + TimeDelta::days(i64::from(day) - 1)
    }
}

fn days_in_year(date: NaiveDate) -> u32 {
    if date.leap_year() { 366 } else { 365 }
}

fn days_in_month(date: NaiveDate) -> u32 {
    u32::from(date.num_days_in_month())
}

/// The occurrences of a rule; see [`Pattern::from`].
#[derive(Debug, Clone)]
pub(super) struct Occurrences<'p> {
    pattern: &'p Pattern,
    from: NaiveDateTime,
    /// The period that is unrolled next.
    period: i64,
    /// What the offsets of the pattern are counted from in the period under way.
    starts: Vec<NaiveDateTime>,
    /// Which of its times are chosen, where the rule chooses.
    chosen: Vec<usize>,
    place: usize,
    steps: u32,
}

impl Iterator for Occurrences<'_> {
    type Item = NaiveDateTime;

    fn next(&mut self) -> Option<NaiveDateTime> {
        loop {
            if self.place < self.len() {
                let at = self.at(self.place);
                self.place += 1;
                self.steps = 0;
                return Some(at);
            }
            self.unroll()?;
        }
    }
}

impl Occurrences<'_> {
    fn choosing(&self) -> bool {
        !self.pattern.parts.positions.is_empty()
    }

    fn candidates(&self) -> usize {
        self.starts.len() * self.pattern.offsets.len()
    }

    fn len(&self) -> usize {
        if self.choosing() {
            self.chosen.len()
        } else {
            self.candidates()
        }
    }

    fn at(&self, place: usize) -> NaiveDateTime {
        let place = if self.choosing() {
            self.chosen[place]
        } else {
            place
        };
        let offsets = &self.pattern.offsets;
        self.starts[place / offsets.len()] + TimeDelta::seconds(offsets[place % offsets.len()])
    }

    /// Goes on to the next period that has times; nothing where there is none.
    fn unroll(&mut self) -> Option<()> {
        self.starts.clear();
        if self.pattern.parts.frequency < Frequency::Daily {
            self.unroll_time()?;
        } else {
            self.unroll_dates()?;
        }
        self.period += 1;
        if self.choosing() {
            let all = self.candidates() as i64;
            let place = |position: &i32| {
                let position = i64::from(*position);
                let place = if position > 0 {
                    position - 1
                } else {
                    all + position
                };
                (0..all).contains(&place).then_some(place as usize)
            };
            let positions = &self.pattern.parts.positions;
            self.chosen = positions.iter().filter_map(place).collect();
            self.chosen.sort_unstable();
            self.chosen.dedup();
        }
        // What lies before the moment asked from is passed over.
        let (mut low, mut high) = (0, self.len());
        while low < high {
            let middle = low + (high - low) / 2;
            if self.at(middle) < self.from {
                low = middle + 1;
            } else {
                high = middle;
            }
        }
        self.place = low;
        Some(())
    }

    fn step(&mut self) -> Option<()> {
        self.steps += 1;
        (self.steps <= MOST_STEPS).then_some(())
    }

    /// Puts the dates of the next period that has any into `starts`.
    fn unroll_dates(&mut self) -> Option<()> {
        let pattern = self.pattern;
        let Parts {
            frequency,
            interval,
            week_starts,
            ..
        } = pattern.parts;
        loop {
            self.step()?;
            let units = self.period.checked_mul(interval)?;
            let first = pattern.first.date();
            match frequency {
                Frequency::Yearly => {
                    let year = i32::try_from(i64::from(first.year()) + units).ok();
                    let year = year.filter(|year| *year <= LAST_YEAR)?;
                    for month in 1..=12 {
                        let first = NaiveDate::from_ymd_opt(year, month, 1)?;
                        pattern.dates_of_month(first, &mut self.starts);
                    }
                }
                Frequency::Monthly => {
                    let months = i64::from(first.year()) * 12 + i64::from(first.month0()) + units;
                    let year = i32::try_from(months.div_euclid(12)).ok();
                    let year = year.filter(|year| *year <= LAST_YEAR)?;
                    let month = months.rem_euclid(12) as u32 + 1;
                    let first = NaiveDate::from_ymd_opt(year, month, 1)?;
                    pattern.dates_of_month(first, &mut self.starts);
                }
                _ => {
                    let (start, days) = if frequency == Frequency::Weekly {
                        (week_start(first, week_starts), 7)
                    } else {
                        (first, 1)
                    };
                    let past = TimeDelta::try_days(units.checked_mul(days)?)?;
                    let start = start.checked_add_signed(past)?;
                    if start.year() > LAST_YEAR {
                        return None;
                    }
                    let fits =
                        |date: &NaiveDate| pattern.date_fits(*date) && date.year() <= LAST_YEAR;
                    let dates = start.iter_days().take(days as usize).filter(fits);
                    self.starts
                        .extend(dates.map(|date| date.and_time(NaiveTime::MIN)));
                }
            }
            if !self.starts.is_empty() {
                return Some(());
            }
            self.period += 1;
        }
    }

    /// Puts the start of the next hour, minute or second that fits into `starts`. What does not
    /// fit is passed over in one go: the rest of a day, of an hour, of a minute.
    fn unroll_time(&mut self) -> Option<()> {
        let pattern = self.pattern;
        let (parts, length) = (&pattern.parts, pattern.unit_seconds());
        let base = pattern.first.and_utc().timestamp().div_euclid(length);
        loop {
            self.step()?;
            let seconds = self
                .period
                .checked_mul(parts.interval)?
                .checked_add(base)?
                .checked_mul(length)?;
            let at = chrono::DateTime::from_timestamp(seconds, 0)?.naive_utc();
            if at.year() > LAST_YEAR {
                return None;
            }
            let Some(later) = self.passed_over(at) else {
                self.starts.push(at);
                return Some(());
            };
            let units = later.and_utc().timestamp().div_euclid(length) - base;
            let period =
                units.div_euclid(parts.interval) + i64::from(units.rem_euclid(parts.interval) > 0);
            self.period = period.max(self.period + 1);
        }
    }

    /// The earliest moment after `at` that may fit; nothing if `at` itself does.
    fn passed_over(&mut self, at: NaiveDateTime) -> Option<NaiveDateTime> {
        let pattern = self.pattern;
        let parts = &pattern.parts;
        if !pattern.date_fits(at.date()) {
            let mut date = at.date() + TimeDelta::days(1);
            while !pattern.date_fits(date) && date.year() <= LAST_YEAR && self.step().is_some() {
                date += TimeDelta::days(1);
            }
            return Some(date.and_time(NaiveTime::MIN));
        }
        let missing = |list: &[i32], shown: u32| {
            !list.is_empty() && list.binary_search(&(shown as i32)).is_err()
        };
        let hour = at - TimeDelta::seconds(i64::from(at.minute() * 60 + at.second()));
        if missing(&parts.hours, at.hour()) {
            let later = parts.hours.iter().find(|hour| **hour > at.hour() as i32);
            return Some(match later {
                Some(later) => hour + TimeDelta::hours(i64::from(*later) - i64::from(at.hour())),
                None => at.date().and_time(NaiveTime::MIN) + TimeDelta::days(1),
            });
        }
        if parts.frequency <= Frequency::Minutely && missing(&parts.minutes, at.minute()) {
            let later = parts.minutes.iter().find(|one| **one > at.minute() as i32);
            return Some(hour + TimeDelta::minutes(later.map_or(60, |later| i64::from(*later))));
        }
        if parts.frequency == Frequency::Secondly && missing(&parts.seconds, at.second()) {
            let minute = at - TimeDelta::seconds(i64::from(at.second()));
            let later = parts.seconds.iter().find(|one| **one > at.second() as i32);
            return Some(minute + TimeDelta::seconds(later.map_or(60, |later| i64::from(*later))));
        }
        None
    }
}
