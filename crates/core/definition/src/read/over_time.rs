//! Reads what is asked of time: availability, forecasts and changes.

use chrono::DateTime;
use maple_lark_data::figures::{
    Availability, Changes, Compare, Forecast, ForecastRows, Method, Since, StandOut,
    availability::{Condition, CountsAs, Give, Needs, Objective, States},
};
use maple_lark_time::{Zone, span::Span, window::CalendarUnit};
use rust_decimal::Decimal;

use crate::read::node::Node;

fn texts(node: &Node<'_>, key: &'static str) -> Vec<String> {
    let texts = node.texts(key).into_iter();
    texts.map(|text| text.value).collect()
}

fn text(node: &Node<'_>, key: &'static str) -> Option<String> {
    node.text(key).map(|text| text.value)
}

/// A length of time in milliseconds; a day has 24 hours, and a month 30 days.
fn length(node: &Node<'_>, key: &'static str) -> Option<i64> {
    let span = node.parsed::<Span>(key)?;
    // The first of July follows a month of 30 days.
    let july = DateTime::from_timestamp(1_782_864_000, 0)?;
    Some((july - span.before(july, Zone::UTC)).num_milliseconds())
}

/// A percentage that can be promised.
fn percent(node: &Node<'_>, key: &'static str) -> Option<Decimal> {
    let number = node.number(key)?;
    let percent = number.to_string().parse::<Decimal>().ok();
    let percent = percent.filter(|percent| *percent > Decimal::ZERO && number <= 100.0);
    if percent.is_none() {
        node.report(key, "must be above 0 and at most 100, such as 99.9");
    }
    percent
}

fn unit(node: &Node<'_>, key: &'static str) -> Option<CalendarUnit> {
    let name = node.choice(key, &CalendarUnit::NAMES)?;
    CalendarUnit::from_name(name)
}

fn states(node: &Node<'_>) -> States {
    let (intervals, events) = (node.has("from"), node.truth("events").unwrap_or(false));
    if intervals {
        for key in ["time", "longest-gap", "events"] {
            if node.has(key) {
                node.report(
                    key,
                    "does not go with \"from\" and \"to\", which say stretches of time",
                );
            }
        }
        return States::Intervals {
            from: node.required("from").value,
            to: node.required("to").value,
            state: text(node, "state"),
        };
    }
    let (time, state) = (node.required("time").value, node.required("state").value);
    let longest_gap = length(node, "longest-gap");
    if events {
        if longest_gap.is_some() {
            node.report(
                "longest-gap",
                "does not go with \"events\", which say only changes",
            );
        }
        return States::Events { time, state };
    }
    States::Samples {
        time,
        state,
        longest_gap,
    }
}

fn needs(node: &Node<'_>) -> Needs {
    let named = match node.choice("needs", &["all", "any", "mean"]) {
        Some("any") => Needs::Any,
        Some("mean") => Needs::Mean,
        _ => Needs::All,
    };
    match node.whole("needs-at-least", 1..=100_000) {
        Some(count) if !node.has("needs") => Needs::AtLeast(count as u32),
        Some(_) => {
            node.report(
                "needs-at-least",
                "does not go with \"needs\"; give one of them",
            );
            named
        }
        None => named,
    }
}

fn counts(node: &Node<'_>, key: &'static str, otherwise: CountsAs) -> CountsAs {
    match node.choice(key, &["up", "down", "nothing"]) {
        Some("up") => CountsAs::Up,
        Some("down") => CountsAs::Down,
        Some(_) => CountsAs::Nothing,
        None => otherwise,
    }
}

fn objective(node: &Node<'_>) -> Option<Objective> {
    let same = percent(node, "objective");
    match (same, text(node, "objective-column")) {
        (Some(_), Some(_)) => {
            node.report(
                "objective-column",
                "does not go with \"objective\"; give one of them",
            );
            None
        }
        (_, Some(column)) => Some(Objective::Column(column)),
        (Some(percent), None) => Some(Objective::Same(percent)),
        (None, None) => {
            if !node.has("objective") {
                node.report_self(
                    "the key \"objective\" is missing here, such as 99.9; or \"objective-column\" names the column that has it",
                );
            }
            None
        }
    }
}

pub(super) fn availability(node: &Node<'_>) -> Option<Availability> {
    let objective = objective(node);
    let (every, periods) = (
        unit(node, "every").unwrap_or(CalendarUnit::Month),
        node.whole("periods", 1..=400).unwrap_or(12) as usize,
    );
    let give = match node.choice("give", &["things", "outages", "history"]) {
        Some("outages") => Give::Outages,
        Some("history") => Give::History { every, periods },
        _ => Give::Things,
    };
    for key in ["every", "periods"] {
        if node.has(key) && !matches!(give, Give::History { .. }) {
            node.report(key, "goes only with give = \"history\"");
        }
    }
    Some(Availability {
        states: states(node),
        otherwise: match node.choice("otherwise", &["up", "down", "unknown"]) {
            Some("up") => Condition::Up,
            Some("down") => Condition::Down,
            _ => Condition::Unknown,
        },
        by: texts(node, "by"),
        group: text(node, "group"),
        needs: needs(node),
        total: text(node, "total"),
        things: text(node, "things"),
        group_objective: percent(node, "group-objective"),
        warning: counts(node, "warning", CountsAs::Up),
        unknown: counts(node, "unknown", CountsAs::Nothing),
        leave_out: texts(node, "leave-out"),
        period: unit(node, "period"),
        give,
        // The last, so that every key is read.
        objective: objective?,
    })
}

pub(super) fn forecast(node: &Node<'_>) -> Option<Forecast> {
    let method = match node.choice("method", &Method::NAMES) {
        Some(name) => Method::from_name(name)?,
        None => Method::Choose,
    };
    let list = node
        .value_of("limit")
        .is_some_and(|(value, _)| value.is_array());
    let limits = if list {
        node.numbers("limit")
    } else {
        node.number("limit").into_iter().collect()
    };
    Some(Forecast {
        time: node.required("time").value,
        value: node.required("value").value,
        by: texts(node, "by"),
        method,
        every: length(node, "every"),
        ahead: length(node, "ahead"),
        season: length(node, "season"),
        limits,
        may_be_negative: node.truth("may-be-negative").unwrap_or(false),
        give: match node.choice("give", &["steps", "limits"]) {
            Some("limits") => ForecastRows::Limits,
            _ => ForecastRows::Steps,
        },
    })
}

pub(super) fn stand_out(node: &Node<'_>) -> StandOut {
    let threshold = node.number("threshold").unwrap_or(6.0);
    if threshold < 2.0 {
        node.report("threshold", "must be 2 or more; it counts usual deviations");
    }
    StandOut {
        time: node.required("time").value,
        value: node.required("value").value,
        by: texts(node, "by"),
        threshold,
        most: node.whole("rows", 1..=1000).unwrap_or(10) as usize,
    }
}

/// What rows are compared with; the run before, where nothing is said.
fn since(node: &Node<'_>) -> Option<Since> {
    let named = ["with", "run", "since"].map(|key| text(node, key));
    if named.iter().flatten().count() > 1 {
        node.report_self("give one of \"since\", \"run\" and \"with\"");
        return None;
    }
    if let Some(run) = text(node, "run") {
        if !is_identifier(&run) {
            node.report(
                "run",
                format!(
                    "\"{run}\" is not the identifier of a run, such as 01a21fb9-8341-7649-b7f3-5749fb00368c; `maple-lark runs` lists them"
                ),
            );
        }
        return Some(Since::Run(run.to_lowercase()));
    }
    if let Some(query) = text(node, "with") {
        return Some(Since::Query(query));
    }
    Some(earlier_time(node).unwrap_or(Since::PreviousRun))
}

/// The earlier time that a key named `since` means, if it is there.
pub(super) fn earlier_time(node: &Node<'_>) -> Option<Since> {
    match node.choice("since", &["run", "window"])? {
        "window" => Some(Since::PreviousWindow),
        _ => Some(Since::PreviousRun),
    }
}

/// Whether it has the form of RFC 9562.
fn is_identifier(text: &str) -> bool {
    let groups: Vec<&str> = text.split('-').collect();
    groups.iter().map(|group| group.len()).eq([8, 4, 4, 4, 12])
        && groups
            .iter()
            .all(|group| group.bytes().all(|byte| byte.is_ascii_hexdigit()))
}

pub(super) fn compare(node: &Node<'_>) -> Option<Compare> {
    let since = since(node);
    Some(Compare {
        key: texts(node, "key"),
        columns: texts(node, "columns"),
        // The last, so that every key is read.
        since: since?,
    })
}

pub(super) fn changes(node: &Node<'_>) -> Option<Changes> {
    let since = since(node);
    let key = texts(node, "key");
    if key.is_empty() {
        node.report_self(
            "the key \"key\" is missing here; it names the columns by which rows belong together",
        );
    }
    let positive = |key: &'static str| {
        let number = node.number(key).unwrap_or(0.0);
        if number < 0.0 {
            node.report(key, "cannot be below 0");
        }
        number
    };
    Some(Changes {
        key,
        ignore: texts(node, "ignore"),
        tolerance: positive("tolerance"),
        tolerance_percent: positive("tolerance-percent"),
        all: node.choice("keep", &["changed", "all"]) == Some("all"),
        counts: node.choice("give", &["rows", "counts"]) == Some("counts"),
        since: since?,
    })
}
