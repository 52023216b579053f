//! HTML that answers its reader: exact values at a point of a chart, lines that are switched off, tables
//! that are sorted and filtered. What the page's script needs for it, in as few letters as may be.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::LazyLock,
};

use base64::{Engine, engine::general_purpose::STANDARD};
use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_definition::LineStyle;
use maple_lark_document::{
    chart::{Chart, Plot, Series, TimeAxis},
    document::{Body, Document},
};
use maple_lark_time::Zone;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};

/// Of more points in time the reader gets the highest and the lowest of each of half as many stretches:
/// no pointer tells more of them apart.
const MOST_POINTS: usize = 400;

/// The script, which stands in the page itself.
pub(crate) const SCRIPT: &str = include_str!("../templates/answering.js");

/// What may run in a document, as a content policy has it: this script alone, known by its SHA-256.
#[must_use]
pub fn script_policy() -> &'static str {
    static POLICY: LazyLock<String> = LazyLock::new(|| {
        let digest = Sha256::digest(SCRIPT);
        format!("script-src 'sha256-{}'", STANDARD.encode(digest))
    });
    &POLICY
}

/// How the reader writes numbers and times, for all charts.
pub(crate) fn settings(document: &Document) -> Value {
    let axes = document.sections.iter().flat_map(|section| {
        let bodies = section.blocks.iter().map(|block| &block.body);
        bodies.filter_map(|body| match body {
            Body::Chart { chart } => axis_of(&chart.plot),
            _ => None,
        })
    });
    let reach = axes.fold(None, |reach: Option<(_, _)>, axis| {
        Some(reach.map_or((axis.from, axis.to), |(from, to)| {
            (axis.from.min(from), axis.to.max(to))
        }))
    });
    let format = document.number_format;
    json!({
        "point": format.point,
        "group": format.group.map(String::from).unwrap_or_default(),
        "iso": format.iso_dates,
        "shifts": reach.map_or_else(Vec::new, |reach| shifts(document.zone, reach)),
    })
}

/// From which second on a zone is how many seconds ahead of UTC, between two instants.
fn shifts(zone: Zone, (from, to): (DateTime<Utc>, DateTime<Utc>)) -> Vec<(i64, i64)> {
    let ahead = |second: i64| {
        let at = DateTime::from_timestamp(second, 0).unwrap_or(from);
        (zone.local(at) - at.naive_utc()).num_seconds()
    };
    let (mut at, end) = (from.timestamp(), to.timestamp());
    let mut found = vec![(at, ahead(at))];
    let day = TimeDelta::days(1).num_seconds();
    while at < end {
        let next = (at + day).min(end);
        if ahead(next) != ahead(at) {
            // Where it changes, to the second.
            let (mut before, mut after) = (at, next);
            while after - before > 1 {
                let middle = before.midpoint(after);
                if ahead(middle) == ahead(at) {
                    before = middle;
                } else {
                    after = middle;
                }
            }
            found.push((after, ahead(after)));
        }
        at = next;
    }
    found
}

fn axis_of(plot: &Plot) -> Option<&TimeAxis> {
    match plot {
        Plot::Lines { axis, .. } => Some(axis),
        Plot::Multiples { times, .. } => Some(times),
        Plot::Forecast(plot) => Some(&plot.axis),
        _ => None,
    }
}

type Stretch = Vec<(DateTime<Utc>, f64)>;

/// The values over time that a chart shows, as whole numbers that follow each other; nothing for charts
/// of other things, whose parts say what they are.
pub(crate) fn points(chart: &Chart) -> Option<Value> {
    let axis = axis_of(&chart.plot)?;
    // In each frame of the chart its lines, by their names.
    let frames: Vec<Vec<(&str, Vec<&Stretch>)>> = match &chart.plot {
        Plot::Lines { series, style, .. } if *style != LineStyle::Stacked => {
            let named = series.iter().filter(|one| !one.behind);
            vec![
                named
                    .map(|one| (&*one.name, one.stretches.iter().collect()))
                    .collect(),
            ]
        }
        Plot::Lines { .. } => return stacked(chart, axis),
        Plot::Multiples { charts, .. } => charts
            .iter()
            .map(|one| vec![(&*one.name, one.stretches.iter().collect())])
            .collect(),
        Plot::Forecast(plot) => vec![vec![
            ("observed", plot.observed.iter().collect()),
            ("fitted", vec![&plot.fitted]),
            ("forecast", vec![&plot.forecast]),
        ]],
        _ => return None,
    };
    let lines: Vec<Vec<Line>> = frames
        .into_iter()
        .map(|lines| {
            let owned = |(name, stretches): (&str, Vec<&Stretch>)| Line {
                name: name.to_owned(),
                points: stretches.into_iter().flatten().copied().collect(),
            };
            lines.into_iter().map(owned).collect()
        })
        .collect();
    Some(written(chart, axis, &lines))
}

struct Line {
    name: String,
    points: Stretch,
}

/// A stack holds sums; its reader asks for the parts.
fn stacked(chart: &Chart, axis: &TimeAxis) -> Option<Value> {
    let Plot::Lines { series, .. } = &chart.plot else {
        return None;
    };
    let lines = series
        .iter()
        .zip(unstacked(series))
        .map(|(one, points)| Line {
            name: one.name.clone(),
            points,
        });
    let lines = vec![lines.collect()];
    Some(written(chart, axis, &lines))
}

/// What each of lines that stand on each other adds to those below it.
pub(crate) fn unstacked(series: &[Series]) -> Vec<Stretch> {
    let mut below: BTreeMap<DateTime<Utc>, f64> = BTreeMap::new();
    let parts = series.iter().map(|one| {
        let points = one.stretches.iter().flatten().map(|(at, sum)| {
            let part = sum - below.get(at).copied().unwrap_or(0.0);
            below.insert(*at, *sum);
            (*at, part)
        });
        points.collect()
    });
    parts.collect()
}

fn written(chart: &Chart, axis: &TimeAxis, frames: &[Vec<Line>]) -> Value {
    let stacked = matches!(&chart.plot, Plot::Lines { style, .. } if *style == LineStyle::Stacked);
    let values = || {
        let lines = frames.iter().flatten();
        lines.flat_map(|line| line.points.iter().map(|(_, value)| *value))
    };
    let largest = values().fold(0.0_f64, |most, value| most.max(value.abs()));
    let whole = values().all(|value| (value - value.round()).abs() < 1e-9);
    // Four digits of the largest, as far as there are decimals.
    let decimals = if whole || largest == 0.0 {
        0
    } else {
        (3 - largest.log10().floor() as i32).clamp(0, 6)
    };
    let factor = 10_f64.powi(decimals);
    let from = axis.from.timestamp();
    let line = |(line, kept): (&Line, &BTreeSet<DateTime<Utc>>)| {
        let holds = usual_step(&line.points);
        let points: Stretch = line
            .points
            .iter()
            .copied()
            .filter(|(at, _)| kept.contains(at))
            .collect();
        let times = points.iter().map(|(at, _)| at.timestamp() - from);
        let values = points
            .iter()
            .map(|(_, value)| (value * factor).round() as i64);
        let every = divisor(times.clone());
        json!({ "name": line.name, "every": every, "holds": holds, "t": steps(times.map(|at| at / every)), "v": steps(values) })
    };
    let frames: Vec<Vec<Value>> = frames
        .iter()
        .map(|lines| {
            let kept = kept(lines, axis);
            lines.iter().map(|one| line((one, &kept))).collect()
        })
        .collect();
    json!({ "from": from, "to": axis.to.timestamp(), "decimals": decimals, "unit": chart.axis.unit, "stack": stacked, "frames": frames })
}

/// How many seconds usually lie between two points; 1 if there are not two.
fn usual_step(points: &Stretch) -> i64 {
    let pairs = points.windows(2);
    let mut steps: Vec<i64> = pairs
        .map(|pair| (pair[1].0 - pair[0].0).num_seconds())
        .collect();
    steps.sort_unstable();
    steps.get(steps.len() / 2).copied().unwrap_or(1).max(1)
}

/// The instants of a frame that its reader can ask for: all of them, or of too many those where its lines
/// are highest and lowest. The values at an instant are exact in either case.
fn kept(lines: &[Line], axis: &TimeAxis) -> BTreeSet<DateTime<Utc>> {
    let points = || lines.iter().flat_map(|line| line.points.iter());
    let all: BTreeSet<_> = points().map(|(at, _)| *at).collect();
    if all.len() <= MOST_POINTS {
        return all;
    }
    let whole = (axis.to - axis.from).num_milliseconds().max(1);
    let stretches = MOST_POINTS as i64 / 2;
    let mut extremes: BTreeMap<i64, [(DateTime<Utc>, f64); 2]> = BTreeMap::new();
    for (at, value) in points() {
        let stretch = (*at - axis.from).num_milliseconds() * stretches / whole;
        let [low, high] = extremes.entry(stretch).or_insert([(*at, *value); 2]);
        if *value < low.1 {
            *low = (*at, *value);
        }
        if *value > high.1 {
            *high = (*at, *value);
        }
    }
    let found = extremes.into_values().flatten();
    found.map(|(at, _)| at).collect()
}

/// Numbers as how much each is more than the one before, in the variable-length quantities of source maps
/// (ECMA-426): signs of base64, five bits each, the lowest first; the lowest bit of all says whether it is less.
fn steps(numbers: impl Iterator<Item = i64>) -> String {
    const SIGNS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let (mut before, mut text) = (0, String::new());
    for number in numbers {
        let step = number - before;
        before = number;
        let mut rest = step.unsigned_abs() << 1 | u64::from(step < 0);
        loop {
            let more = if rest > 31 { 32 } else { 0 };
            text.push(char::from(SIGNS[(rest & 31 | more) as usize]));
            rest >>= 5;
            if rest == 0 {
                break;
            }
        }
    }
    text
}

/// The largest number that all of them are multiples of; 1 if there are none.
fn divisor(numbers: impl Iterator<Item = i64>) -> i64 {
    let common = numbers.fold(0, |mut a, mut b| {
        while b != 0 {
            (a, b) = (b, a % b);
        }
        a.abs()
    });
    common.max(1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_that_follow_each_other_take_few_letters() {
        assert_eq!(steps([0, 1, 2, 3, 4].into_iter()), "ACCCC");
        assert_eq!(steps([0, 1, 0, 16, 0, 123].into_iter()), "ACDgBhB2H");
        assert_eq!(steps(std::iter::empty()), "");
        assert_eq!(divisor([0, 300, 900].into_iter()), 300);
        assert_eq!(divisor([0, 0].into_iter()), 1);
    }

    #[test]
    fn of_many_points_the_highest_and_the_lowest_are_left() {
        let axis = TimeAxis {
            from: DateTime::UNIX_EPOCH,
            to: DateTime::UNIX_EPOCH + TimeDelta::seconds(10_000),
            ticks: Vec::new(),
            shaded: Vec::new(),
        };
        let line = |count: i64, value: fn(i64) -> f64| Line {
            name: String::new(),
            points: (0..count)
                .map(|n| (axis.from + TimeDelta::seconds(n * 10_000 / count), value(n)))
                .collect(),
        };
        let peak = |n| if n == 4_321 { 9.0 } else { 1.0 };
        let dip = |n| if n == 1_234 { -9.0 } else { 2.0 };
        let second = |n: i64| axis.from + TimeDelta::seconds(n);
        let found = kept(&[line(10_000, peak), line(10_000, dip)], &axis);
        assert!(found.len() <= MOST_POINTS, "{}", found.len());
        assert!(found.contains(&second(4_321)) && found.contains(&second(1_234)));
        assert_eq!(kept(&[line(300, peak)], &axis).len(), 300);
        assert_eq!(usual_step(&line(1_000, peak).points), 10);
        assert_eq!(usual_step(&Vec::new()), 1);
    }

    #[test]
    fn a_zone_says_to_the_second_when_its_clocks_change() {
        let zone: Zone = "Atlantic/Faroe".parse().unwrap();
        let at = |text: &str| text.parse::<DateTime<Utc>>().unwrap();
        let (from, to) = (at("2026-10-20T00:00:00Z"), at("2026-11-01T00:00:00Z"));
        let change = at("2026-10-25T01:00:00Z").timestamp();
        assert_eq!(
            shifts(zone, (from, to)),
            [(from.timestamp(), 3600), (change, 0)]
        );
        assert_eq!(shifts(Zone::UTC, (from, to)), [(from.timestamp(), 0)]);
    }
}
