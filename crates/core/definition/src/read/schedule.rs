//! Reads the `[schedule]` of a report.

use chrono::{Datelike, NaiveDate, NaiveDateTime, NaiveTime};
use maple_lark_time::{
    english::{WEEKDAY_NAMES, shortened, weekday_from_name},
    nearest::suggestion,
    schedule::{Crontab, Days, Missed, MonthDay, OnNamedDay, Recurrence, Rule, Schedule},
    span::Span,
};

use crate::{problem::Placed, read::node::Node};

const UNITS: [&str; 5] = ["day", "weekday", "week", "month", "year"];

/// The schedule, and where it names its calendars.
#[expect(
    clippy::too_many_lines,
    reason = "reads one key after the other, in the order of the documentation"
)]
pub(crate) fn read(node: Node<'_>) -> Option<(Schedule, Vec<Placed<String>>)> {
    let shapes: Vec<&str> = ["every", "once", "crontab", "rule"]
        .into_iter()
        .filter(|key| node.has(key))
        .collect();
    let texts = Texts {
        every: node.text("every"),
        once: node.text("once"),
        crontab: node.text("crontab"),
        rule: node.text("rule"),
    };
    let at = times(&node);
    let on = node.texts("on");
    let date = |key| {
        let text = node.text(key)?;
        let date = text.value.parse::<NaiveDate>().ok().filter(in_range);
        if date.is_none() {
            let said = shortened(&text.value);
            node.report(
                key,
                format!(
                    "\"{said}\" is not a date such as \"2026-12-01\", in a year from 1 to 9999"
                ),
            );
        }
        date
    };
    let (starts, ends) = (date("starts"), date("ends"));
    let most_runs = node.whole("runs", 1..=1_000_000).map(|runs| runs as u32);
    let missed = match node.choice("missed", &["latest", "all", "none"]) {
        Some("all") => Missed::All,
        Some("none") => Missed::None,
        _ => Missed::Latest,
    };
    let grace = node.parsed::<Span>("grace");
    let calendars = node.texts("calendar");
    let on_named_day = match node.choice(
        "on-calendar-day",
        &["skip", "next-working-day", "previous-working-day"],
    ) {
        Some("next-working-day") => OnNamedDay::NextWorkingDay,
        Some("previous-working-day") => OnNamedDay::PreviousWorkingDay,
        _ => OnNamedDay::Skip,
    };
    if node.has("on-calendar-day") && calendars.is_empty() {
        node.report(
            "on-calendar-day",
            "there is no calendar to go by; write for instance calendar = \"holidays\"",
        );
    }
    if shapes.len() != 1 {
        node.report_self(
            "a schedule has exactly one of every = \"day\", once = \"2026-12-01T07:30\", crontab = \"30 7 * * 1-5\" or rule = \"FREQ=MONTHLY;BYDAY=1MO\"",
        );
        node.close();
        return None;
    }
    let recurrence = read_recurrence(&node, shapes[0], texts, at, &on, starts);
    if on_named_day != OnNamedDay::Skip && matches!(recurrence, Some(Recurrence::Interval(_))) {
        node.report("on-calendar-day", "runs of an interval can be skipped, but not moved; remove it, or set every = \"day\" with times");
    }
    let schedule = recurrence.and_then(|recurrence| {
        Schedule::new(recurrence, starts, ends)
            .map_err(|error| node.report_self(error.to_string()))
            .ok()
    });
    node.close();
    let mut schedule = schedule?.with_most_runs(most_runs);
    schedule.missed = missed;
    schedule.calendars = calendars.iter().map(|name| name.value.clone()).collect();
    schedule.on_named_day = on_named_day;
    if let Some(grace) = grace {
        schedule.grace = grace;
    }
    Some((schedule, calendars))
}

/// What a schedule says it recurs by; one of them.
struct Texts {
    every: Option<Placed<String>>,
    once: Option<Placed<String>>,
    crontab: Option<Placed<String>>,
    rule: Option<Placed<String>>,
}

fn read_recurrence(
    node: &Node<'_>,
    shape: &str,
    texts: Texts,
    at: Vec<NaiveTime>,
    on: &[Placed<String>],
    starts: Option<NaiveDate>,
) -> Option<Recurrence> {
    let unwanted = |keys: &[&'static str]| {
        for key in keys.iter().filter(|key| node.has(key)) {
            node.report(key, format!("{key} does not go with {shape}; remove it"));
        }
    };
    match shape {
        "every" => read_every(node, &texts.every?, at, on, starts),
        "once" => {
            unwanted(&["at", "on", "starts", "ends", "runs"]);
            read_once(node, &texts.once?)
        }
        "crontab" => {
            unwanted(&["at", "on"]);
            let crontab = texts.crontab?.value.parse::<Crontab>();
            crontab
                .map_err(|error| node.report("crontab", error))
                .ok()
                .map(Recurrence::Crontab)
        }
        _ => {
            unwanted(&["on"]);
            read_rule(node, &texts.rule?, &at, starts)
        }
    }
}

fn read_once(node: &Node<'_>, text: &Placed<String>) -> Option<Recurrence> {
    let forms = ["%Y-%m-%dT%H:%M", "%Y-%m-%dT%H:%M:%S"];
    let at = forms
        .iter()
        .find_map(|form| NaiveDateTime::parse_from_str(&text.value, form).ok())
        .filter(|at| in_range(&at.date()));
    if at.is_none() {
        let said = shortened(&text.value);
        node.report(
            "once",
            format!("\"{said}\" is not a date and time such as \"2026-12-01T07:30\", in the report's own zone"),
        );
    }
    at.map(Recurrence::Once)
}

fn read_rule(
    node: &Node<'_>,
    text: &Placed<String>,
    at: &[NaiveTime],
    starts: Option<NaiveDate>,
) -> Option<Recurrence> {
    if at.len() > 1 {
        node.report(
            "at",
            "a rule has one first time; name further ones in it, with BYHOUR and BYMINUTE",
        );
    }
    let (Some(starts), Some(time)) = (starts, at.first()) else {
        node.report(
            "rule",
            "a rule needs its first date and time: starts = \"2026-12-01\" and at = \"07:30\"",
        );
        return None;
    };
    Rule::new(&text.value, starts.and_time(*time))
        .map_err(|error| node.report("rule", error))
        .ok()
        .map(Recurrence::Rule)
}

/// Years that every format can write.
fn in_range(date: &NaiveDate) -> bool {
    (1..=9999).contains(&date.year())
}

fn times(node: &Node<'_>) -> Vec<NaiveTime> {
    let parse = |text: Placed<String>| {
        let time = NaiveTime::parse_from_str(&text.value, "%H:%M")
            .or_else(|_| NaiveTime::parse_from_str(&text.value, "%H:%M:%S"));
        time.map_err(|_| {
            node.report(
                "at",
                format!("\"{}\" is not a time of day such as \"07:30\"", text.value),
            )
        })
        .ok()
    };
    node.texts("at").into_iter().filter_map(parse).collect()
}

#[expect(
    clippy::too_many_lines,
    reason = "reads one key after the other, in the order of the documentation"
)]
fn read_every(
    node: &Node<'_>,
    every: &Placed<String>,
    at: Vec<NaiveTime>,
    on: &[Placed<String>],
    starts: Option<NaiveDate>,
) -> Option<Recurrence> {
    let times = |days: Days| {
        Some(Recurrence::Times {
            days,
            at: at.clone(),
        })
    };
    let without_on = || {
        if !on.is_empty() {
            node.report(
                "on",
                "on goes with every = \"week\", \"month\" and \"year\" only",
            );
        }
    };
    match every.value.as_str() {
        "day" => {
            without_on();
            times(Days::Every)
        }
        "weekday" => {
            without_on();
            times(Days::On(WEEKDAY_NAMES[..5].iter().filter_map(|name| weekday_from_name(name)).collect()))
        }
        "week" => times(Days::On(weekdays(node, on))),
        "month" => times(Days::Monthly(
            on.iter()
                .filter_map(|text| {
                    let day = MonthDay::parse(&text.value);
                    if day.is_none() {
                        node.report(
                            "on",
                            format!(
                                "\"{}\" is no day of a month; write \"15\", \"last\", \"last-working-day\", \"first monday\" or \"last friday\"",
                                text.value
                            ),
                        );
                    }
                    day
                })
                .collect(),
        )),
        "year" => times(Days::Yearly(
            on.iter()
                .filter_map(|text| {
                    let day = text.value.split_once('-').and_then(|(month, day)| Some((month.parse().ok()?, day.parse().ok()?)));
                    if day.is_none() {
                        node.report("on", format!("\"{}\" is no day of a year; write month and day, such as \"12-24\"", text.value));
                    }
                    day
                })
                .collect(),
        )),
        other => match other.parse::<Span>() {
            Ok(span) if span.seconds == 0 && span.months == 0 => {
                let Some(from) = starts else {
                    node.report("every", format!("\"{other}\" needs starts = \"2026-12-01\", the date that it counts from"));
                    return None;
                };
                if span.days % 7 == 0 && !on.is_empty() {
                    times(Days::EveryNthWeek { step: span.days / 7, on: weekdays(node, on), from })
                } else {
                    if !on.is_empty() {
                        node.report("on", "on goes with whole weeks, such as every = \"P2W\"; remove it");
                    }
                    times(Days::EveryNth { step: span.days, from })
                }
            }
            Ok(span) => {
                for key in ["at", "on"] {
                    if node.has(key) {
                        node.report(key, format!("{key} does not go with an interval; remove it, or set every = \"day\""));
                    }
                }
                Some(Recurrence::Interval(span))
            }
            Err(_) => {
                node.report(
                    "every",
                    format!(
                        "\"{other}\" is not \"day\", \"weekday\", \"week\", \"month\", \"year\" or a duration such as \"PT15M\" or \"P2D\".{}",
                        suggestion(other, UNITS)
                    ),
                );
                None
            }
        },
    }
}

fn weekdays(node: &Node<'_>, on: &[Placed<String>]) -> Vec<chrono::Weekday> {
    on.iter()
        .filter_map(|text| {
            let day = weekday_from_name(&text.value);
            if day.is_none() {
                node.report(
                    "on",
                    format!(
                        "\"{}\" is not a weekday.{}",
                        text.value,
                        suggestion(&text.value, WEEKDAY_NAMES)
                    ),
                );
            }
            day
        })
        .collect()
}
