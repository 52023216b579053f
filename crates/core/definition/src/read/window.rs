//! Reads windows from their tables.

use chrono::{Datelike, NaiveDate};
use maple_lark_time::{
    WindowRule, Zone, english,
    english::WEEKDAY_NAMES,
    nearest,
    span::Span,
    window::{CalendarUnit, Comparison, Hours, WindowKind, Within},
};

use crate::read::node::Node;

#[expect(
    clippy::too_many_lines,
    reason = "reads one key after the other, in the order of the documentation"
)]
pub(crate) fn read_window(node: Node<'_>, zone: Option<Zone>) -> Option<WindowRule> {
    let shapes: Vec<&str> = ["previous", "last", "to-date", "interval"]
        .into_iter()
        .filter(|key| node.has(key))
        .collect();
    let unit = |key| {
        node.choice(key, &CalendarUnit::NAMES)
            .and_then(CalendarUnit::from_name)
    };
    let previous = unit("previous");
    let count = node.whole("count", 1..=1000);
    let last = node.parsed::<Span>("last");
    let to_date = unit("to-date");
    let interval = node.text("interval");
    let lag = node.parsed::<Span>("lag");
    let week_starts = node
        .choice("week-starts", &WEEKDAY_NAMES)
        .and_then(english::weekday_from_name)
        .unwrap_or(chrono::Weekday::Mon);
    let compare = node
        .choice("compare", &Comparison::NAMES)
        .and_then(Comparison::from_name);
    let within = read_within(&node);
    if shapes.len() != 1 {
        node.report_self("a window has exactly one of previous = \"day\", last = \"PT24H\", to-date = \"month\" or interval = \"2026-01-01/2026-02-01\"");
        node.close();
        return None;
    }
    if node.has("count") && shapes[0] != "previous" {
        node.report("count", "count goes with previous only");
    }
    let weeks = previous == Some(CalendarUnit::Week) || to_date == Some(CalendarUnit::Week);
    if node.has("week-starts") && !weeks {
        node.report(
            "week-starts",
            "week-starts goes with previous = \"week\" and to-date = \"week\" only; remove it",
        );
    }
    let kind = match shapes[0] {
        "previous" => previous.map(|unit| WindowKind::Previous {
            unit,
            count: count.unwrap_or(1) as u32,
        }),
        "last" => last.map(WindowKind::Last),
        "to-date" => to_date.map(WindowKind::ToDate),
        _ => interval.and_then(|text| match (read_interval(&text.value, zone?), zone) {
            (Some((from, to)), _) if from < to => Some(WindowKind::Fixed { from, to }),
            (Some(_), _) => {
                node.report("interval", "the interval ends before it begins");
                None
            }
            _ => {
                node.report(
                    "interval",
                    format!(
                        "\"{}\" is not an ISO 8601 interval such as \"2026-01-01/2026-02-01\"",
                        text.value
                    ),
                );
                None
            }
        }),
    };
    node.close();
    Some(WindowRule {
        kind: kind?,
        lag,
        week_starts,
        within,
        compare,
    })
}

fn read_within(node: &Node<'_>) -> Option<Within> {
    let named = |key| {
        let texts = node.texts(key);
        if texts.is_empty() && node.has(key) {
            node.report(
                key,
                format!("{key} names nothing; remove it to let all count"),
            );
        }
        texts
    };
    let hours = named("only-hours");
    let hours = hours
        .iter()
        .filter_map(|text| {
            text.value
                .parse::<Hours>()
                .map_err(|error| node.report("only-hours", error.to_string()))
                .ok()
        })
        .collect();
    let mut days = Vec::new();
    for text in named("only-days") {
        match (text.value.as_str(), english::weekday_from_name(&text.value)) {
            ("weekday", _) => days.extend(
                WEEKDAY_NAMES[..5]
                    .iter()
                    .filter_map(|name| english::weekday_from_name(name)),
            ),
            (_, Some(day)) => days.push(day),
            (other, None) => {
                let near = nearest::suggestion(other, WEEKDAY_NAMES);
                node.report(
                    "only-days",
                    format!(
                        "\"{other}\" is not a weekday, nor \"weekday\" for Monday to Friday.{near}"
                    ),
                );
            }
        }
    }
    Within::new(hours, days)
        .map_err(|(one, other)| {
            node.report(
                "only-hours",
                format!("{one} and {other} overlap; join them or make them apart"),
            )
        })
        .ok()
        .flatten()
}

type Instant = chrono::DateTime<chrono::Utc>;

/// `start/end`, each a date or a date and time, with or without an offset; without one it
/// is civil time in `zone`.
fn read_interval(text: &str, zone: Zone) -> Option<(Instant, Instant)> {
    let side = |text: &str| {
        let text = text.trim();
        if let Ok(at) = text.parse::<Instant>() {
            return Some(at);
        }
        if let Ok(date) = text.parse::<NaiveDate>() {
            return Some(zone.start_of(date));
        }
        ["%Y-%m-%dT%H:%M:%S", "%Y-%m-%dT%H:%M"]
            .iter()
            .find_map(|form| chrono::NaiveDateTime::parse_from_str(text, form).ok())
            .map(|local| zone.instant(local))
    };
    let (from, to) = text.split_once('/')?;
    let in_range = |at: &Instant| (1..=9999).contains(&at.year());
    Some((side(from).filter(in_range)?, side(to).filter(in_range)?))
}
