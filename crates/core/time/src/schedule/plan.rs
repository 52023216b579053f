//! A schedule with the days that its calendars name.

use std::sync::Arc;

use chrono::{DateTime, NaiveDate, NaiveTime, TimeDelta, Utc};

use crate::{
    named_days::NamedDays,
    schedule::{Bare, Cursor, OnNamedDay, Schedule},
    zone::Zone,
};

/// When a schedule really runs: in its zone, with the days of its calendars skipped or
/// moved. Runs that are moved onto the instant of another are one with it.
#[derive(Debug, Clone)]
pub struct Plan<'a> {
    /// The bare schedule.
    pub schedule: &'a Schedule,
    /// Its zone.
    pub zone: Zone,
    /// The named days; none for a schedule without a calendar.
    pub named: Arc<NamedDays>,
}

/// An instant of the bare schedule that falls on a named day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftOut {
    /// When it would have run.
    pub at: DateTime<Utc>,
    /// What the calendar calls the day.
    pub day: String,
    /// When it runs instead; nothing if it does not.
    pub moved_to: Option<DateTime<Utc>>,
}

/// A calendar that leaves no working day in so long is taken to leave none.
const FARTHEST_MOVE_DAYS: usize = 366;

/// No run within so many years is taken to mean none at all.
const FARTHEST_YEARS: i64 = 40;

impl Plan<'_> {
    /// The first instant strictly after `after` at which it runs.
    ///
    /// Nothing once the schedule has ended, or where its calendars leave it no day within
    /// forty years. First and last date of the schedule hold for a moved run as well: one
    /// that would be moved beyond them is skipped.
    pub fn next_after(&self, after: DateTime<Utc>) -> Option<DateTime<Utc>> {
        if self.schedule.calendars.is_empty() {
            return self.schedule.next_after(after, self.zone);
        }
        let horizon = after + TimeDelta::days(366 * FARTHEST_YEARS);
        // Runs of days before `after` may have been moved to behind it.
        let mut from = after;
        if self.schedule.on_named_day == OnNamedDay::NextWorkingDay {
            let date = self.zone.local(after).date();
            let moving = std::iter::successors(date.pred_opt(), NaiveDate::pred_opt)
                .take(FARTHEST_MOVE_DAYS)
                .take_while(|date| !self.named.is_working_day(*date));
            from = self.zone.start_of(moving.last().unwrap_or(date)) - TimeDelta::nanoseconds(1);
        }
        let floor = self.schedule.floor(from, self.zone);
        let mut cursor = self.schedule.cursor(floor, self.zone);
        let mut best: Option<DateTime<Utc>> = None;
        while let Some(bare) = self.next_bare(&mut cursor, floor) {
            if bare.at > horizon || best.is_some_and(|best| self.earliest(bare) > best) {
                break;
            }
            let runs = self.runs_at(bare);
            if let Some(at) = runs.filter(|at| *at > after) {
                best = Some(best.map_or(at, |best| best.min(at)));
            }
            // What is skipped is skipped for the whole day.
            if self.schedule.on_named_day == OnNamedDay::Skip && runs.is_none() {
                pass_over_the_day(&mut cursor, bare, self.zone);
            }
        }
        best
    }

    /// The next of the bare schedule after `floor`, unless it is over.
    fn next_bare(&self, cursor: &mut Cursor, floor: DateTime<Utc>) -> Option<Bare> {
        let next = |cursor: &mut Cursor| {
            self.schedule
                .next_bare(cursor, self.zone, Some(&self.named))
        };
        let mut bare = next(cursor)?;
        while bare.at <= floor {
            bare = next(cursor)?;
        }
        self.schedule.not_ended(bare.at, self.zone).map(|_| bare)
    }

    /// No instant of the bare schedule from this one on runs before this.
    fn earliest(&self, bare: Bare) -> DateTime<Utc> {
        match self.schedule.on_named_day {
            OnNamedDay::Skip | OnNamedDay::NextWorkingDay => bare.at,
            OnNamedDay::PreviousWorkingDay => self
                .working_day(bare.civil.date())
                .map_or(bare.at, |working| self.zone.start_of(working).min(bare.at)),
        }
    }

    /// When an instant of the bare schedule really runs. One that is moved goes by the time
    /// that it was to have, not by what the clock showed behind a gap.
    fn runs_at(&self, bare: Bare) -> Option<DateTime<Utc>> {
        let date = bare.civil.date();
        if !self.named.contains(date) {
            return Some(bare.at);
        }
        let working = self
            .working_day(date)
            .filter(|_| self.schedule.on_named_day != OnNamedDay::Skip)?;
        let within = self.schedule.starts.is_none_or(|starts| working >= starts)
            && self.schedule.ends.is_none_or(|ends| working <= ends);
        within.then(|| self.zone.instant(working.and_time(bare.civil.time())))
    }

    /// The working day that a run of `date` moves to; the date itself if it is one.
    fn working_day(&self, date: NaiveDate) -> Option<NaiveDate> {
        let step = if self.schedule.on_named_day == OnNamedDay::PreviousWorkingDay {
            NaiveDate::pred_opt
        } else {
            NaiveDate::succ_opt
        };
        std::iter::successors(Some(date), step)
            .take(FARTHEST_MOVE_DAYS)
            .find(|date| self.named.is_working_day(*date) && self.zone.has(*date))
    }

    /// All instants in `(after, until]` at which it runs, oldest first.
    pub fn instants(
        &self,
        after: DateTime<Utc>,
        until: DateTime<Utc>,
    ) -> impl Iterator<Item = DateTime<Utc>> + '_ {
        let all: Box<dyn Iterator<Item = DateTime<Utc>> + '_> =
            if self.schedule.calendars.is_empty() {
                self.schedule.from(after, self.zone)
            } else {
                let next = |last: &DateTime<Utc>| self.next_after(*last);
                Box::new(std::iter::successors(next(&after), next))
            };
        all.take_while(move |at| *at <= until)
    }

    /// The instants of the bare schedule in `(after, until]` that its calendars skip or move.
    pub fn left_out(
        &self,
        after: DateTime<Utc>,
        until: DateTime<Utc>,
    ) -> impl Iterator<Item = LeftOut> + '_ {
        let floor = self.schedule.floor(after, self.zone);
        let mut cursor = self.schedule.cursor(floor, self.zone);
        let none = self.schedule.calendars.is_empty();
        let mut last = None;
        std::iter::from_fn(move || {
            if none {
                return None;
            }
            loop {
                let bare = self.next_bare(&mut cursor, floor)?;
                if bare.at > until {
                    return None;
                }
                // Several times in one gap are one instant.
                if last.replace(bare.at) == Some(bare.at) {
                    continue;
                }
                if let Some(day) = self.named.name(bare.civil.date()) {
                    return Some(LeftOut {
                        at: bare.at,
                        day: day.to_owned(),
                        moved_to: self.runs_at(bare),
                    });
                }
            }
        })
    }
}

/// Goes on behind the day that an instant falls on.
fn pass_over_the_day(cursor: &mut Cursor, bare: Bare, zone: Zone) {
    let date = bare.civil.date();
    match cursor {
        Cursor::Civil(last) => {
            *last = (*last).max(date.and_time(NaiveTime::MIN) + A_DAY - A_MOMENT)
        }
        Cursor::Instant(last) => *last = (*last).max(zone.start_of(date + A_DAY) - A_MOMENT),
    }
}

const A_DAY: TimeDelta = TimeDelta::days(1);
const A_MOMENT: TimeDelta = TimeDelta::nanoseconds(1);

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        calendar::Calendar,
        schedule::{Days, MonthDay, Recurrence},
    };
    use chrono::Weekday;
    use proptest::prelude::*;

    /// Christmas from Thursday 24 to Monday 28 December 2026, and New Year's Day, a Friday.
    fn named() -> Arc<NamedDays> {
        let text = "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nSUMMARY:Christmas\r\nDTSTART;VALUE=DATE:20261224\r\nDTEND;VALUE=DATE:20261229\r\nEND:VEVENT\r\n\
             BEGIN:VEVENT\r\nSUMMARY:New Year\r\nDTSTART;VALUE=DATE:20270101\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
        Arc::new(Calendar::parse(text).unwrap().days(Zone::UTC))
    }

    fn schedule(recurrence: Recurrence, on_named_day: OnNamedDay) -> Schedule {
        let mut schedule = Schedule::new(recurrence, None, None).unwrap();
        schedule.calendars = vec!["holidays".to_owned()];
        schedule.on_named_day = on_named_day;
        schedule
    }

    fn days(days: Days, at: &[&str], on_named_day: OnNamedDay) -> Schedule {
        schedule(
            Recurrence::Times {
                days,
                at: at.iter().map(|time| time.parse().unwrap()).collect(),
            },
            on_named_day,
        )
    }

    fn runs(schedule: &Schedule, after: &str, until: &str) -> Vec<String> {
        let plan = Plan {
            schedule,
            zone: Zone::UTC,
            named: named(),
        };
        plan.instants(after.parse().unwrap(), until.parse().unwrap())
            .map(|at| at.format("%m-%dT%H:%M").to_string())
            .collect()
    }

    const ADVENT: &str = "2026-12-22T12:00:00Z";
    const JANUARY: &str = "2027-01-05T12:00:00Z";

    #[test]
    fn named_days_are_skipped() {
        let daily = days(Days::Every, &["07:30"], OnNamedDay::Skip);
        assert_eq!(
            runs(&daily, ADVENT, JANUARY),
            [
                "12-23T07:30",
                "12-29T07:30",
                "12-30T07:30",
                "12-31T07:30",
                "01-02T07:30",
                "01-03T07:30",
                "01-04T07:30",
                "01-05T07:30"
            ]
        );
        assert_eq!(
            daily.sentence(),
            "Every day at 07:30, except on the days of the calendar \"holidays\""
        );
        let cron = schedule(
            Recurrence::Crontab("*/30 12 * * *".parse().unwrap()),
            OnNamedDay::Skip,
        );
        assert_eq!(
            runs(&cron, "2026-12-23T12:00:00Z", "2026-12-29T12:00:00Z"),
            ["12-23T12:30", "12-29T12:00"]
        );
    }

    #[test]
    fn moved_runs_come_on_the_next_working_day_and_merge() {
        let daily = days(Days::Every, &["07:30", "18:00"], OnNamedDay::NextWorkingDay);
        // Five days of Christmas, a weekend among them, come together on Tuesday the 29th.
        assert_eq!(
            runs(&daily, "2026-12-23T12:00:00Z", "2026-12-30T00:00:00Z"),
            ["12-23T18:00", "12-29T07:30", "12-29T18:00"]
        );
        // A time of day that the next working day does not have is added to it.
        let on = vec![(12, 24), (12, 29)];
        let mut yearly = days(Days::Yearly(on), &["06:00"], OnNamedDay::NextWorkingDay);
        assert_eq!(runs(&yearly, ADVENT, JANUARY), ["12-29T06:00"]);
        yearly = days(
            Days::Monthly(vec![MonthDay::Date(1), MonthDay::Date(25)]),
            &["22:00"],
            OnNamedDay::NextWorkingDay,
        );
        assert_eq!(
            runs(&yearly, ADVENT, JANUARY),
            ["12-29T22:00", "01-04T22:00"]
        );
    }

    #[test]
    fn moved_runs_come_on_the_working_day_before() {
        let mut monthly = days(
            Days::Monthly(vec![MonthDay::Date(1), MonthDay::Date(26)]),
            &["07:30"],
            OnNamedDay::PreviousWorkingDay,
        );
        assert_eq!(
            runs(&monthly, ADVENT, JANUARY),
            ["12-23T07:30", "12-31T07:30"]
        );
        let plan = Plan {
            schedule: &monthly,
            zone: Zone::UTC,
            named: named(),
        };
        let left_out: Vec<LeftOut> = plan
            .left_out(ADVENT.parse().unwrap(), JANUARY.parse().unwrap())
            .collect();
        assert_eq!(
            (
                left_out[0].day.as_str(),
                left_out[0].moved_to.unwrap().to_rfc3339()
            ),
            ("Christmas", "2026-12-23T07:30:00+00:00".to_owned())
        );
        // Beyond its first date there is nothing to move to.
        monthly.starts = NaiveDate::from_ymd_opt(2026, 12, 25);
        assert_eq!(runs(&monthly, ADVENT, JANUARY), ["12-31T07:30"]);
    }

    #[test]
    fn the_last_working_day_knows_the_calendar() {
        let mut closed = days(
            Days::Monthly(vec![MonthDay::LastWorkingDay]),
            &["07:30"],
            OnNamedDay::Skip,
        );
        assert_eq!(runs(&closed, ADVENT, JANUARY), ["12-31T07:30"]);
        closed.recurrence = Recurrence::Times {
            days: Days::Monthly(vec![MonthDay::LastWeekday(3)]),
            at: vec!["07:30".parse().unwrap()],
        };
        assert_eq!(runs(&closed, ADVENT, JANUARY), ["12-31T07:30"]);
        let text = "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nSUMMARY:Closed\r\nDTSTART;VALUE=DATE:20261230\r\nDURATION:P2D\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
        let named = Arc::new(Calendar::parse(text).unwrap().days(Zone::UTC));
        let month = days(
            Days::Monthly(vec![MonthDay::LastWorkingDay]),
            &["07:30"],
            OnNamedDay::Skip,
        );
        let plan = Plan {
            schedule: &month,
            zone: Zone::UTC,
            named,
        };
        assert_eq!(
            plan.next_after(ADVENT.parse().unwrap())
                .unwrap()
                .to_rfc3339(),
            "2026-12-29T07:30:00+00:00"
        );
    }

    #[test]
    fn a_calendar_that_leaves_no_day_is_no_endless_search() {
        let christmas = schedule(
            Recurrence::Once("2026-12-25T07:30:00".parse().unwrap()),
            OnNamedDay::Skip,
        );
        assert_eq!(runs(&christmas, ADVENT, JANUARY), Vec::<String>::new());
        let once = schedule(
            Recurrence::Once("2026-12-25T07:30:00".parse().unwrap()),
            OnNamedDay::NextWorkingDay,
        );
        assert_eq!(runs(&once, ADVENT, JANUARY), ["12-29T07:30"]);
    }

    #[test]
    fn a_run_that_is_moved_from_a_gap_goes_by_its_own_time() {
        let zone: Zone = "Europe/Berlin".parse().unwrap();
        let text = "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nSUMMARY:Clocks\r\nDTSTART;VALUE=DATE:20260329\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
        let named = Arc::new(Calendar::parse(text).unwrap().days(zone));
        let schedule = days(Days::Every, &["02:30"], OnNamedDay::NextWorkingDay);
        let plan = Plan {
            schedule: &schedule,
            zone,
            named,
        };
        let (after, until) = ("2026-03-28T12:00:00Z", "2026-03-31T12:00:00Z");
        let (after, until) = (after.parse().unwrap(), until.parse().unwrap());
        let found: Vec<String> = plan
            .instants(after, until)
            .map(|at| zone.rfc3339(at))
            .collect();
        assert_eq!(
            found,
            ["2026-03-30T02:30:00+02:00", "2026-03-31T02:30:00+02:00"]
        );
        let left_out: Vec<LeftOut> = plan.left_out(after, until).collect();
        assert_eq!(
            left_out[0].moved_to.map(|at| zone.rfc3339(at)).as_deref(),
            Some("2026-03-30T02:30:00+02:00")
        );
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(300))]

        /// What the plan finds one after another is what moving each instant of the bare
        /// schedule by hand gives, sorted and with doubles dropped.
        #[test]
        fn instants_agree_with_moving_each_one(
            closed in proptest::collection::btree_set(0i64..60, 0..25),
            minutes in proptest::collection::vec(0u32..1440, 1..4),
            on_named_day in proptest::sample::select(vec![OnNamedDay::Skip, OnNamedDay::NextWorkingDay, OnNamedDay::PreviousWorkingDay]),
            weekday in 0u8..8,
        ) {
            let first = NaiveDate::from_ymd_opt(2026, 9, 20).unwrap();
            let text: String = closed.iter().map(|day| format!("BEGIN:VEVENT\r\nSUMMARY:x\r\nDTSTART;VALUE=DATE:{}\r\nEND:VEVENT\r\n", (first + TimeDelta::days(*day)).format("%Y%m%d"))).collect();
            let text = if text.is_empty() { "BEGIN:VEVENT\r\nDTSTART;VALUE=DATE:19990101\r\nEND:VEVENT\r\n".to_owned() } else { text };
            let zone: Zone = "Atlantic/Faroe".parse().unwrap();
            let named = Arc::new(Calendar::parse(&format!("BEGIN:VCALENDAR\r\n{text}END:VCALENDAR\r\n")).unwrap().days(zone));
            let at = minutes.iter().map(|minute| NaiveTime::from_hms_opt(minute / 60, minute % 60, 0).unwrap()).collect();
            let chosen = Weekday::try_from(weekday).map_or(Days::Every, |day| Days::On(vec![day]));
            let schedule = schedule(Recurrence::Times { days: chosen, at }, on_named_day);
            let plan = Plan { schedule: &schedule, zone, named };
            let (after, until) = (zone.start_of(first + TimeDelta::days(10)), zone.start_of(first + TimeDelta::days(45)));
            let margin = TimeDelta::days(40);
            let mut expected: Vec<DateTime<Utc>> = schedule
                .instants(after - margin, until + margin, zone)
                .filter_map(|bare| {
                    let mut date = zone.local(bare).date();
                    if !plan.named.contains(date) {
                        return Some(bare);
                    }
                    while !plan.named.is_working_day(date) {
                        date = match on_named_day {
                            OnNamedDay::Skip => return None,
                            OnNamedDay::NextWorkingDay => date + TimeDelta::days(1),
                            OnNamedDay::PreviousWorkingDay => date - TimeDelta::days(1),
                        };
                    }
                    Some(zone.instant(date.and_time(zone.local(bare).time())))
                })
                .filter(|at| *at > after && *at <= until)
                .collect();
            expected.sort();
            expected.dedup();
            prop_assert_eq!(plan.instants(after, until).collect::<Vec<_>>(), expected);
        }
    }
}
