//! When a report runs: recurrence in a zone's civil time, and what it says in words.
//!
//! A civil time in a spring gap runs at the first valid instant after the gap; one in an
//! autumn fold runs once, at the first of the two instants. Computation never reads a
//! clock: the next instant follows from the rule, the zone and the instant given.

mod crontab;
mod days;
mod plan;
mod rule;

pub use crontab::{BadCrontab, Crontab};
pub use days::{Days, MonthDay};
pub use plan::{LeftOut, Plan};
pub use rule::{BadRule, Rule};

use chrono::{DateTime, Datelike, NaiveDate, NaiveDateTime, NaiveTime, TimeDelta, Utc, Weekday};
use serde::{Deserialize, Serialize};

use crate::{english::list, named_days::NamedDays, span::Span, zone::Zone};

/// What a schedule recurs by.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Recurrence {
    /// At one civil time and never again.
    Once(NaiveDateTime),
    /// At the given civil times (sorted, without doubles, never empty) of the named days.
    Times {
        /// On which days.
        days: Days,
        /// At which times of each of them.
        at: Vec<NaiveTime>,
    },
    /// Every so much elapsed time, counted from midnight at the start of Monday
    /// 5 January 1970 in the schedule's zone, whatever the clocks do since.
    Interval(Span),
    /// By a crontab expression.
    Crontab(Crontab),
    /// By a rule of RFC 5545.
    Rule(Rule),
}

/// A recurrence within optional first and last civil dates, both included, and optionally
/// for a number of runs only.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Schedule {
    /// What it recurs by.
    pub recurrence: Recurrence,
    /// The first date, included.
    pub starts: Option<NaiveDate>,
    /// The last date, included.
    pub ends: Option<NaiveDate>,
    /// The schedule is over after this many runs. Who counts them is the caller.
    pub most_runs: Option<u32>,
    /// What becomes of instants that nobody ran.
    pub missed: Missed,
    /// How late an instant may be noticed and still count as being on time.
    pub grace: Span,
    /// The calendars on whose days it does not run as usual.
    pub calendars: Vec<String>,
    /// What becomes of runs on named days.
    pub on_named_day: OnNamedDay,
}

/// What becomes of a run on a day that a calendar of the schedule names.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum OnNamedDay {
    /// There is no run.
    #[default]
    Skip,
    /// At the same time of the next working day: Monday to Friday, and not named.
    NextWorkingDay,
    /// At the same time of the working day before.
    PreviousWorkingDay,
}

/// What becomes of instants that passed while nobody ran them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Missed {
    /// The latest is run.
    #[default]
    Latest,
    /// All are run, oldest first.
    All,
    /// None is run.
    None,
}

const FIVE_MINUTES: Span = Span {
    months: 0,
    days: 0,
    seconds: 300,
};

/// Why a schedule cannot be followed.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[non_exhaustive]
#[allow(missing_docs, reason = "each variant says it in its message")]
pub enum ImpossibleSchedule {
    #[error("no time of day is given; write for instance at = \"07:30\"")]
    NoTime,
    #[error("no day is given; write for instance on = [\"monday\"]")]
    NoDay,
    #[error(
        "an interval must be made of hours, minutes and seconds, such as \"PT15M\"; for whole days use every = \"day\" or \"P2D\""
    )]
    CivilInterval,
    #[error("an interval must be at least one minute long")]
    TooShort,
    #[error("it ends on {ends}, before it starts on {starts}")]
    EndsBeforeStart { starts: NaiveDate, ends: NaiveDate },
    #[error("there is never a {day} {month}")]
    NoSuchDate { month: String, day: u32 },
    #[error("\"{text}\" is not a crontab expression that can be followed: {reason}")]
    Crontab {
        text: String,
        #[source]
        reason: BadCrontab,
    },
    #[error("\"{text}\" is not an RFC 5545 rule that can be followed: {reason}")]
    Rule {
        text: String,
        #[source]
        reason: BadRule,
    },
    #[error("it never runs: no instant fits it between its start and its end")]
    Never,
}

impl Schedule {
    /// A checked schedule: times and days are sorted and doubles dropped.
    pub fn new(
        mut recurrence: Recurrence,
        starts: Option<NaiveDate>,
        ends: Option<NaiveDate>,
    ) -> Result<Self, ImpossibleSchedule> {
        match &mut recurrence {
            Recurrence::Times { days, at } => {
                at.sort();
                at.dedup();
                if at.is_empty() {
                    return Err(ImpossibleSchedule::NoTime);
                }
                check_days(days)?;
            }
            Recurrence::Interval(span) => match span.elapsed() {
                None => return Err(ImpossibleSchedule::CivilInterval),
                Some(elapsed) if elapsed < TimeDelta::minutes(1) => {
                    return Err(ImpossibleSchedule::TooShort);
                }
                Some(_) => {}
            },
            Recurrence::Once(_) | Recurrence::Crontab(_) | Recurrence::Rule(_) => {}
        }
        if let (Some(starts), Some(ends)) = (starts, ends)
            && ends < starts
        {
            return Err(ImpossibleSchedule::EndsBeforeStart { starts, ends });
        }
        let schedule = Self {
            recurrence,
            starts,
            ends,
            most_runs: None,
            missed: Missed::default(),
            grace: FIVE_MINUTES,
            calendars: Vec::new(),
            on_named_day: OnNamedDay::Skip,
        };
        // Zones differ by hours; what never runs in one of them does not in any other.
        if ends.is_some()
            && schedule
                .next_after(
                    DateTime::<Utc>::MIN_UTC + TimeDelta::days(366_000),
                    Zone::UTC,
                )
                .is_none()
        {
            return Err(ImpossibleSchedule::Never);
        }
        Ok(schedule)
    }

    /// Which of the instants that have come, oldest first and up to `now`, are run; the
    /// others are missed for good. An instant within the grace period is always run.
    #[must_use]
    pub fn to_run(
        &self,
        come: &[DateTime<Utc>],
        now: DateTime<Utc>,
        zone: Zone,
    ) -> Vec<DateTime<Utc>> {
        match self.missed {
            Missed::All => come.to_vec(),
            Missed::Latest => come.last().copied().into_iter().collect(),
            Missed::None => come
                .last()
                .copied()
                .filter(|latest| *latest >= self.grace.before(now, zone))
                .into_iter()
                .collect(),
        }
    }

    /// The same schedule, over after `most` runs.
    #[must_use]
    pub fn with_most_runs(mut self, most: Option<u32>) -> Self {
        self.most_runs = most;
        self
    }

    /// The first scheduled instant strictly after `after`, or nothing once it has ended.
    /// Calendars are not looked at; see [`Plan`].
    ///
    /// ```
    /// # use maple_lark_time::schedule::{Days, Recurrence, Schedule};
    /// let at = vec!["01:30".parse().unwrap()];
    /// let daily = Schedule::new(Recurrence::Times { days: Days::Every, at }, None, None).unwrap();
    /// let zone = "Atlantic/Faroe".parse().unwrap();
    /// // 01:30 does not exist on 29 March 2026; clocks go from 01:00 to 02:00.
    /// let next = daily.next_after("2026-03-28T12:00:00Z".parse().unwrap(), zone).unwrap();
    /// assert_eq!(next.to_rfc3339(), "2026-03-29T01:00:00+00:00");
    /// ```
    #[must_use]
    pub fn next_after(&self, after: DateTime<Utc>, zone: Zone) -> Option<DateTime<Utc>> {
        let floor = self.floor(after, zone);
        let mut cursor = self.cursor(floor, zone);
        loop {
            let bare = self.next_bare(&mut cursor, zone, None)?;
            if bare.at > floor {
                return self.not_ended(bare.at, zone);
            }
        }
    }

    /// Where to look on from for what comes after `floor`.
    ///
    /// A civil time at or before the one shown at `floor` never comes after it. A later one
    /// may be before it: in the second pass of a fold, where it has been already.
    fn cursor(&self, floor: DateTime<Utc>, zone: Zone) -> Cursor {
        match self.recurrence {
            Recurrence::Interval(_) => Cursor::Instant(floor),
            _ => Cursor::Civil(zone.local(floor)),
        }
    }

    /// The next that the recurrence alone gives, where a choice of days may depend on the days
    /// that are named. A time on a date that the zone skipped is none.
    fn next_bare(
        &self,
        cursor: &mut Cursor,
        zone: Zone,
        named: Option<&NamedDays>,
    ) -> Option<Bare> {
        match (&self.recurrence, cursor) {
            (Recurrence::Interval(span), Cursor::Instant(last)) => {
                // Checked in `new`: an interval has no civil part and is not zero.
                let step = span.elapsed().map_or(60, |step| step.num_seconds()).max(60);
                let monday = NaiveDate::from_ymd_opt(1970, 1, 5)?;
                let anchor = zone.start_of(monday).timestamp();
                let passed = (last.timestamp() - anchor).div_euclid(step) + 1;
                let at = in_range(DateTime::from_timestamp(anchor + passed * step, 0)?)?;
                *last = at;
                Some(Bare {
                    civil: zone.local(at),
                    at,
                })
            }
            (civil, Cursor::Civil(last)) => loop {
                *last = next_civil(civil, *last, named)?;
                let (at, gap) = zone.instant_or_gap(*last);
                let at = in_range(at)?;
                if !(gap && on_skipped_date(*last, zone)) {
                    return Some(Bare { civil: *last, at });
                }
            },
            _ => None,
        }
    }

    /// The instant, unless the schedule is over by then.
    fn not_ended(&self, next: DateTime<Utc>, zone: Zone) -> Option<DateTime<Utc>> {
        let ended = self
            .ends
            .is_some_and(|last| next >= zone.start_of(last + TimeDelta::days(1)));
        let until = match &self.recurrence {
            Recurrence::Rule(rule) => rule.until(),
            _ => None,
        };
        (!ended && until.is_none_or(|until| next <= until)).then_some(next)
    }

    /// Nothing before the start counts.
    fn floor(&self, after: DateTime<Utc>, zone: Zone) -> DateTime<Utc> {
        self.starts.map_or(after, |date| {
            after.max(zone.start_of(date) - TimeDelta::nanoseconds(1))
        })
    }

    /// All scheduled instants in `(after, until]`, oldest first.
    pub fn instants(
        &self,
        after: DateTime<Utc>,
        until: DateTime<Utc>,
        zone: Zone,
    ) -> impl Iterator<Item = DateTime<Utc>> + '_ {
        self.from(after, zone).take_while(move |at| *at <= until)
    }

    /// All scheduled instants after `after`, oldest first; without an end where it has none.
    fn from(
        &self,
        after: DateTime<Utc>,
        zone: Zone,
    ) -> Box<dyn Iterator<Item = DateTime<Utc>> + '_> {
        let Recurrence::Rule(rule) = &self.recurrence else {
            let next = move |last: &DateTime<Utc>| self.next_after(*last, zone);
            return Box::new(std::iter::successors(next(&after), next));
        };
        // A rule is unrolled in one go; several times in a gap, or in a fold, are one instant.
        let mut last = self.floor(after, zone);
        let found = rule.occurrences_from(zone.local(last));
        let later = found.filter_map(move |civil| {
            let (instant, gap) = zone.instant_or_gap(civil);
            let new = instant > last && !(gap && on_skipped_date(civil, zone));
            new.then(|| {
                last = instant;
                instant
            })
        });
        Box::new(later.map_while(move |instant| self.not_ended(instant, zone)))
    }

    /// The rule in one sentence without its zone: `Every day at 07:30`.
    #[must_use]
    pub fn sentence(&self) -> String {
        let text = match &self.recurrence {
            Recurrence::Once(at) => format!("once, on {}", at.format("%A %-d %B %Y at %H:%M")),
            Recurrence::Interval(span) => {
                let readable = span.readable();
                format!("every {}", readable.strip_prefix("1 ").unwrap_or(&readable))
            }
            Recurrence::Times { days, at } => {
                let times: Vec<String> = at
                    .iter()
                    .map(|t| {
                        t.format(if t.format("%S").to_string() == "00" {
                            "%H:%M"
                        } else {
                            "%H:%M:%S"
                        })
                        .to_string()
                    })
                    .collect();
                format!("{} at {}", days.words(), list(&times))
            }
            Recurrence::Crontab(crontab) => crontab.words(),
            Recurrence::Rule(rule) => rule.words(),
        };
        let mut text = text[..1].to_uppercase() + &text[1..];
        if let Some(starts) = self.starts {
            text += &format!(", from {}", starts.format("%-d %B %Y"));
        }
        if let Some(ends) = self.ends {
            text += &format!(", until {}", ends.format("%-d %B %Y"));
        }
        if !self.calendars.is_empty() {
            let names: Vec<String> = self
                .calendars
                .iter()
                .map(|name| format!("\"{name}\""))
                .collect();
            let (which, names) = (
                if names.len() == 1 {
                    "calendar"
                } else {
                    "calendars"
                },
                list(&names),
            );
            text += &match self.on_named_day {
                OnNamedDay::Skip => format!(", except on the days of the {which} {names}"),
                OnNamedDay::NextWorkingDay => {
                    format!(", moved from the days of the {which} {names} to the next working day")
                }
                OnNamedDay::PreviousWorkingDay => format!(
                    ", moved from the days of the {which} {names} to the working day before"
                ),
            };
        }
        if let Some(most) = self.most_runs {
            text += &format!(", {most} {} in all", if most == 1 { "run" } else { "runs" });
        }
        text
    }
}

/// One time of a recurrence: what the clock is to show, and when it does. In a gap it shows
/// something else.
#[derive(Debug, Clone, Copy)]
struct Bare {
    civil: NaiveDateTime,
    at: DateTime<Utc>,
}

/// The last time that was looked at.
#[derive(Debug, Clone, Copy)]
enum Cursor {
    Civil(NaiveDateTime),
    Instant(DateTime<Utc>),
}

/// Schedules reach to the end of the year 9999.
fn in_range(at: DateTime<Utc>) -> Option<DateTime<Utc>> {
    (at.year() <= 9999).then_some(at)
}

/// Whether the zone's calendar went from the day before to the day after this civil time.
fn on_skipped_date(civil: NaiveDateTime, zone: Zone) -> bool {
    !zone.has(civil.date())
}

fn check_days(days: &mut Days) -> Result<(), ImpossibleSchedule> {
    let sort = |days: &mut Vec<Weekday>| {
        days.sort_by_key(Weekday::num_days_from_monday);
        days.dedup();
        days.is_empty()
    };
    let empty = match days {
        Days::Every => false,
        Days::On(days) => sort(days),
        Days::EveryNth { step, .. } => *step == 0,
        Days::EveryNthWeek { step, on, .. } => sort(on) || *step == 0,
        Days::Monthly(days) => {
            days.sort();
            days.dedup();
            days.is_empty()
        }
        Days::Yearly(days) => {
            days.sort();
            days.dedup();
            for (month, day) in days.iter() {
                // 2024 is a leap year: what it does not have, no year has.
                if NaiveDate::from_ymd_opt(2024, *month, *day).is_none() {
                    let name = NaiveDate::from_ymd_opt(2024, *month, 1).map_or_else(
                        || format!("month {month}"),
                        |date| date.format("%B").to_string(),
                    );
                    return Err(ImpossibleSchedule::NoSuchDate {
                        month: name,
                        day: *day,
                    });
                }
            }
            days.is_empty()
        }
    };
    if empty {
        Err(ImpossibleSchedule::NoDay)
    } else {
        Ok(())
    }
}

/// The first civil time of a recurrence strictly after `after`.
fn next_civil(
    recurrence: &Recurrence,
    after: NaiveDateTime,
    named: Option<&NamedDays>,
) -> Option<NaiveDateTime> {
    match recurrence {
        Recurrence::Once(at) => (*at > after).then_some(*at),
        Recurrence::Times { days, at } => {
            let today = days
                .contains(after.date(), named)
                .then(|| {
                    at.iter()
                        .map(|time| after.date().and_time(*time))
                        .find(|time| *time > after)
                })
                .flatten();
            today.or_else(|| {
                Some(
                    days.next(after.date().succ_opt()?, named)?
                        .and_time(*at.first()?),
                )
            })
        }
        Recurrence::Crontab(crontab) => crontab.next(after),
        Recurrence::Rule(rule) => rule.next(after),
        // Counted in elapsed time, not in civil time.
        Recurrence::Interval(_) => None,
    }
}

#[cfg(test)]
mod tests;
