//! Reads the text of a recurrence rule.

use chrono::{DateTime, NaiveDate, NaiveDateTime, NaiveTime, Utc, Weekday};

use crate::english::shortened;

/// What a rule repeats by, from the shortest period to the longest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Frequency {
    Secondly,
    Minutely,
    Hourly,
    Daily,
    Weekly,
    Monthly,
    Yearly,
}

impl Frequency {
    const NAMES: [(&'static str, Frequency); 7] = [
        ("SECONDLY", Self::Secondly),
        ("MINUTELY", Self::Minutely),
        ("HOURLY", Self::Hourly),
        ("DAILY", Self::Daily),
        ("WEEKLY", Self::Weekly),
        ("MONTHLY", Self::Monthly),
        ("YEARLY", Self::Yearly),
    ];

    fn name(self) -> &'static str {
        Self::NAMES[self as usize].0
    }
}

/// A weekday, or the nth of its kind in a month or year; a negative one counts from the end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct DayOfWeek {
    pub(super) nth: Option<i32>,
    pub(super) day: Weekday,
}

/// The last moment of a rule, included.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Until {
    /// Whatever the zone: written without `Z`.
    Civil(NaiveDateTime),
    /// Written in UTC.
    Instant(DateTime<Utc>),
}

/// A rule as it is written, with each part checked. Lists are sorted and without doubles.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Parts {
    pub(super) frequency: Frequency,
    pub(super) interval: i64,
    pub(super) count: Option<u32>,
    pub(super) until: Option<Until>,
    pub(super) week_starts: Weekday,
    pub(super) months: Vec<i32>,
    pub(super) week_numbers: Vec<i32>,
    pub(super) year_days: Vec<i32>,
    pub(super) month_days: Vec<i32>,
    pub(super) weekdays: Vec<DayOfWeek>,
    pub(super) hours: Vec<i32>,
    pub(super) minutes: Vec<i32>,
    pub(super) seconds: Vec<i32>,
    pub(super) positions: Vec<i32>,
}

/// Why a text is no rule of RFC 5545 that can be followed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
#[allow(missing_docs, reason = "each variant says it in its message")]
pub enum BadRule {
    #[error("it is empty; write for instance FREQ=WEEKLY;BYDAY=MO")]
    Empty,
    #[error("it is longer than {MOST_CHARACTERS} characters")]
    TooLong,
    #[error("nothing stands between two semicolons, or after the last one")]
    EmptyPart,
    #[error("\"{0}\" is not a part such as FREQ=DAILY")]
    NotAPart(String),
    #[error(
        "{0} is not a part of a rule; there are FREQ, INTERVAL, COUNT, UNTIL, WKST, BYMONTH, BYWEEKNO, BYYEARDAY, BYMONTHDAY, BYDAY, BYHOUR, BYMINUTE, BYSECOND and BYSETPOS"
    )]
    UnknownPart(String),
    #[error("{0} stands in it twice")]
    Twice(String),
    #[error("it has no FREQ; write for instance FREQ=DAILY")]
    NoFrequency,
    #[error("{part} cannot be \"{value}\": it is {wanted}")]
    Value {
        part: &'static str,
        value: String,
        wanted: &'static str,
    },
    #[error("{part} has no meaning with FREQ={frequency}")]
    NotWith {
        part: &'static str,
        frequency: &'static str,
    },
    #[error(
        "a numbered weekday such as 1MO counts within a month or a year, so it needs FREQ=MONTHLY or FREQ=YEARLY, and no BYWEEKNO"
    )]
    NumberedWeekday,
    #[error("COUNT and UNTIL both say when it ends; leave one out")]
    CountAndUntil,
    #[error("COUNT is at most {MOST_COUNT}; end the schedule by a date instead")]
    TooManyCounted,
    #[error("BYSETPOS chooses among what other BY parts give, and there is none")]
    NothingToChoose,
    #[error("it ends before it begins")]
    EndsBeforeStart,
    #[error("it never fires: no date fits it")]
    Never,
}

pub(super) const MOST_CHARACTERS: usize = 2_000;

/// A rule that is counted is unrolled once, so far.
pub(super) const MOST_COUNT: u32 = 100_000;

impl Parts {
    /// Reads a rule, with or without a leading `RRULE:`, in capitals or not.
    pub(super) fn read(text: &str) -> Result<Self, BadRule> {
        if text.len() > MOST_CHARACTERS {
            return Err(BadRule::TooLong);
        }
        let text = text.trim().to_ascii_uppercase();
        let text = text.strip_prefix("RRULE:").unwrap_or(&text);
        if text.is_empty() {
            return Err(BadRule::Empty);
        }
        let mut parts = Self {
            frequency: Frequency::Daily,
            interval: 1,
            count: None,
            until: None,
            week_starts: Weekday::Mon,
            months: Vec::new(),
            week_numbers: Vec::new(),
            year_days: Vec::new(),
            month_days: Vec::new(),
            weekdays: Vec::new(),
            hours: Vec::new(),
            minutes: Vec::new(),
            seconds: Vec::new(),
            positions: Vec::new(),
        };
        let mut seen: Vec<&str> = Vec::new();
        for part in text.split(';') {
            if part.trim().is_empty() {
                return Err(BadRule::EmptyPart);
            }
            let (name, value) = part
                .split_once('=')
                .ok_or_else(|| BadRule::NotAPart(shortened(part)))?;
            if seen.contains(&name) {
                return Err(BadRule::Twice(shortened(name)));
            }
            seen.push(name);
            parts.read_part(name, value)?;
        }
        if !seen.contains(&"FREQ") {
            return Err(BadRule::NoFrequency);
        }
        parts.check()?;
        Ok(parts)
    }

    fn read_part(&mut self, name: &str, value: &str) -> Result<(), BadRule> {
        match name {
            "FREQ" => {
                self.frequency = Frequency::NAMES
                    .into_iter()
                    .find(|(name, _)| *name == value)
                    .map(|(_, frequency)| frequency)
                    .ok_or_else(|| {
                        let wanted = "SECONDLY, MINUTELY, HOURLY, DAILY, WEEKLY, MONTHLY or YEARLY";
                        wrong("FREQ", value, wanted)
                    })?;
            }
            "INTERVAL" => {
                self.interval = i64::from(whole("INTERVAL", value, 1, 100_000_000)?);
            }
            "COUNT" => {
                let count = whole("COUNT", value, 1, u32::MAX)?;
                if count > MOST_COUNT {
                    return Err(BadRule::TooManyCounted);
                }
                self.count = Some(count);
            }
            "UNTIL" => self.until = Some(until(value)?),
            "WKST" => self.week_starts = weekday("WKST", value, value)?,
            "BYMONTH" => self.months = numbers("BYMONTH", value, 1, 12, false)?,
            "BYWEEKNO" => self.week_numbers = numbers("BYWEEKNO", value, 1, 53, true)?,
            "BYYEARDAY" => self.year_days = numbers("BYYEARDAY", value, 1, 366, true)?,
            "BYMONTHDAY" => self.month_days = numbers("BYMONTHDAY", value, 1, 31, true)?,
            "BYDAY" => self.weekdays = weekdays(value)?,
            "BYHOUR" => self.hours = numbers("BYHOUR", value, 0, 23, false)?,
            "BYMINUTE" => self.minutes = numbers("BYMINUTE", value, 0, 59, false)?,
            // A civil clock shows no second 60.
            "BYSECOND" => self.seconds = numbers("BYSECOND", value, 0, 59, false)?,
            "BYSETPOS" => self.positions = numbers("BYSETPOS", value, 1, 366, true)?,
            _ => return Err(BadRule::UnknownPart(shortened(name))),
        }
        Ok(())
    }

    /// What RFC 5545 says that must not stand together.
    fn check(&self) -> Result<(), BadRule> {
        use Frequency::{Daily, Monthly, Weekly, Yearly};
        if self.count.is_some() && self.until.is_some() {
            return Err(BadRule::CountAndUntil);
        }
        let frequency = self.frequency;
        let not_with = |part| BadRule::NotWith {
            part,
            frequency: frequency.name(),
        };
        if !self.week_numbers.is_empty() && frequency != Yearly {
            return Err(not_with("BYWEEKNO"));
        }
        if !self.year_days.is_empty() && matches!(frequency, Daily | Weekly | Monthly) {
            return Err(not_with("BYYEARDAY"));
        }
        if !self.month_days.is_empty() && frequency == Weekly {
            return Err(not_with("BYMONTHDAY"));
        }
        let numbered = self.weekdays.iter().any(|day| day.nth.is_some());
        if numbered && (frequency < Monthly || !self.week_numbers.is_empty()) {
            return Err(BadRule::NumberedWeekday);
        }
        let lists = [
            &self.months,
            &self.week_numbers,
            &self.year_days,
            &self.month_days,
            &self.hours,
            &self.minutes,
            &self.seconds,
        ];
        let others = !self.weekdays.is_empty() || lists.iter().any(|list| !list.is_empty());
        if !self.positions.is_empty() && !others {
            return Err(BadRule::NothingToChoose);
        }
        Ok(())
    }
}

fn wrong(part: &'static str, value: &str, wanted: &'static str) -> BadRule {
    BadRule::Value {
        part,
        value: shortened(value),
        wanted,
    }
}

fn whole(part: &'static str, value: &str, least: u32, most: u32) -> Result<u32, BadRule> {
    let digits = !value.is_empty() && value.bytes().all(|byte| byte.is_ascii_digit());
    let number = value.parse().ok().filter(|_| digits);
    number
        .filter(|number| (least..=most).contains(number))
        .ok_or_else(|| wrong(part, value, "a whole number from 1"))
}

/// A list of whole numbers apart by commas; with `signed`, each may count from the end.
fn numbers(
    part: &'static str,
    value: &str,
    least: i32,
    most: i32,
    signed: bool,
) -> Result<Vec<i32>, BadRule> {
    let wanted = match part {
        "BYMONTH" => "months from 1 to 12, apart by commas",
        "BYWEEKNO" => "weeks from 1 to 53, or -53 to -1, apart by commas",
        "BYYEARDAY" | "BYSETPOS" => "numbers from 1 to 366, or -366 to -1, apart by commas",
        "BYMONTHDAY" => "days from 1 to 31, or -31 to -1, apart by commas",
        "BYHOUR" => "hours from 0 to 23, apart by commas",
        _ => "numbers from 0 to 59, apart by commas",
    };
    let mut list = Vec::new();
    for one in value.split(',') {
        let (sign, digits) = match one.strip_prefix('-') {
            Some(digits) if signed => (-1, digits),
            _ => (1, one.strip_prefix('+').filter(|_| signed).unwrap_or(one)),
        };
        let plain = !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit());
        let number = digits.parse::<i32>().ok().filter(|_| plain);
        let number = number.filter(|number| (least..=most).contains(number));
        list.push(sign * number.ok_or_else(|| wrong(part, one, wanted))?);
    }
    list.sort_unstable();
    list.dedup();
    Ok(list)
}

const WEEKDAYS: [(&str, Weekday); 7] = [
    ("MO", Weekday::Mon),
    ("TU", Weekday::Tue),
    ("WE", Weekday::Wed),
    ("TH", Weekday::Thu),
    ("FR", Weekday::Fri),
    ("SA", Weekday::Sat),
    ("SU", Weekday::Sun),
];

fn weekday(part: &'static str, name: &str, whole: &str) -> Result<Weekday, BadRule> {
    WEEKDAYS
        .into_iter()
        .find(|(known, _)| *known == name)
        .map(|(_, day)| day)
        .ok_or_else(|| {
            wrong(
                part,
                whole,
                "MO, TU, WE, TH, FR, SA or SU, for BYDAY with a number before it if wanted",
            )
        })
}

fn weekdays(value: &str) -> Result<Vec<DayOfWeek>, BadRule> {
    let mut list: Vec<DayOfWeek> = Vec::new();
    for one in value.split(',') {
        let at = one
            .find(|c: char| c.is_ascii_alphabetic())
            .unwrap_or(one.len());
        let (number, name) = one.split_at(at);
        let day = weekday("BYDAY", name, one)?;
        let nth = match number {
            "" => None,
            number => {
                let wanted = "a weekday with a number from 1 to 53, or -53 to -1, before it";
                let number = numbers("BYDAY", number, 1, 53, true);
                Some(number.map_err(|_| wrong("BYDAY", one, wanted))?[0])
            }
        };
        let named = DayOfWeek { nth, day };
        if !list.contains(&named) {
            list.push(named);
        }
    }
    Ok(list)
}

/// A date (to its end), a civil time, or an instant in UTC.
fn until(value: &str) -> Result<Until, BadRule> {
    let bad = || {
        let wanted = "a date such as 20271231, a time such as 20271231T235959, or one in UTC such as 20271231T235959Z";
        wrong("UNTIL", value, wanted)
    };
    let digits = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    let (date, time) = match value.split_once('T') {
        Some((date, time)) => (date, Some(time)),
        None => (value, None),
    };
    if date.len() != 8 || !digits(date) {
        return Err(bad());
    }
    let date = NaiveDate::parse_from_str(date, "%Y%m%d").map_err(|_| bad())?;
    let Some(time) = time else {
        let last = NaiveTime::from_hms_opt(23, 59, 59).unwrap_or_default();
        return Ok(Until::Civil(date.and_time(last)));
    };
    let (time, utc) = match time.strip_suffix('Z') {
        Some(time) => (time, true),
        None => (time, false),
    };
    if time.len() != 6 || !digits(time) {
        return Err(bad());
    }
    let time = NaiveTime::parse_from_str(time, "%H%M%S").map_err(|_| bad())?;
    let at = date.and_time(time);
    Ok(if utc {
        Until::Instant(at.and_utc())
    } else {
        Until::Civil(at)
    })
}
