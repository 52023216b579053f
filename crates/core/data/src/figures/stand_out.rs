//! What stands out of a series: spikes, and levels that shift.

use std::collections::HashMap;

use chrono::{DateTime, Datelike, TimeDelta, Timelike, Utc};
use maple_lark_time::Zone;

use crate::{
    figures::{
        amount::number,
        columns::{columns, groups, numbers},
        context::Context,
        error::FigureError,
        over_time::{points, time_column},
        rows::Figures,
    },
    number_format::NumberFormat,
    series, stop,
    table::{Column, ColumnKind, Table, Value},
};

/// What is looked at, and how much is told.
#[derive(Debug, Clone, PartialEq)]
pub struct StandOut {
    /// The column of instants.
    pub time: String,
    /// The column of values.
    pub value: String,
    /// The columns that tell series apart.
    pub by: Vec<String>,
    /// From how many usual deviations on a value stands out.
    pub threshold: f64,
    /// How many are told at most, the worst of all series first.
    pub most: usize,
}

const NAME: &str = "stand-out";
/// The deviation of normal values as a multiple of their median absolute deviation.
const NORMAL: f64 = 1.4826;
/// A level is the median of so many values, and holds for as many at least.
const LEVEL: usize = 12;
/// Fewer values have no usual range.
const LEAST_VALUES: usize = 3 * LEVEL;
/// So many weeks, or days, show what is usual at an hour of them.
const LEAST_CYCLES: i32 = 3;

/// A spike or a shift.
struct Event {
    first: usize,
    last: usize,
    /// The value that is farthest out; the new level of a shift.
    value: f64,
    usual: f64,
    spread: f64,
    shift: bool,
}

impl Event {
    fn deviations(&self) -> f64 {
        (self.value - self.usual).abs() / self.spread
    }
}

fn median(values: impl Iterator<Item = f64>) -> f64 {
    series::percentile(&mut values.collect::<Vec<f64>>(), 50.0)
}

/// The usual deviation: of the steps between values, as two of them make each, so that levels
/// that shift do not widen it; never nothing.
fn spread(values: &[f64]) -> f64 {
    let steps = values.iter().zip(&values[1..]).map(|(a, b)| (b - a).abs());
    let of_steps = NORMAL * median(steps) / std::f64::consts::SQRT_2;
    of_steps.max(f64::MIN_POSITIVE)
}

/// Where the median of what follows differs from that of what comes before by more than the
/// threshold: at each such place the one where it differs most.
fn shifts(values: &[f64], spread: f64, threshold: f64) -> Vec<usize> {
    let level = |from: usize| median(values[from..from + LEVEL].iter().copied());
    let differs: Vec<(usize, f64)> = (LEVEL..=values.len() - LEVEL)
        .map(|place| {
            stop::check();
            (place, (level(place) - level(place - LEVEL)).abs() / spread)
        })
        .collect();
    let mut found: Vec<usize> = Vec::new();
    let mut best: Option<(usize, f64)> = None;
    for (place, by) in differs {
        match best {
            Some((at, _)) if place - at >= LEVEL => {
                found.push(at);
                best = (by >= threshold).then_some((place, by));
            }
            Some((_, most)) if by <= most => {}
            _ if by >= threshold => best = Some((place, by)),
            _ => {}
        }
    }
    found.extend(best.map(|(at, _)| at));
    found.into_iter().map(|at| edge(values, at)).collect()
}

/// The place near `at` from which on values are nearer to the level behind it than to the one before:
/// medians differ already where most of what follows is of the new level.
fn edge(values: &[f64], at: usize) -> usize {
    let (first, last) = (at - LEVEL, at + LEVEL);
    let before = median(values[first..at].iter().copied());
    let behind = median(values[at..last].iter().copied());
    let off = |from: usize, to: usize, level: f64| -> f64 {
        values[from..to].iter().map(|one| (one - level).abs()).sum()
    };
    let far = |place: usize| off(first, place, before) + off(place, last, behind);
    let places = (first + 1..last).min_by(|a, b| far(*a).total_cmp(&far(*b)));
    places.unwrap_or(at)
}

/// After how long a series is looked at for repeating itself: a week where there are three, or a
/// day where there are three.
fn cycle(times: &[DateTime<Utc>]) -> Option<TimeDelta> {
    let long = *times.last()? - *times.first()?;
    [TimeDelta::weeks(1), TimeDelta::days(1)]
        .into_iter()
        .find(|cycle| long >= *cycle * LEAST_CYCLES)
}

/// What is usual at each place: the median of the same hour of the week where there are three
/// weeks, or of the same hour of the day where there are three days; else that of all.
fn usual(times: &[DateTime<Utc>], values: &[f64], zone: Zone) -> Vec<f64> {
    let cycle = cycle(times);
    let key = |at: &DateTime<Utc>| {
        let local = zone.local(*at);
        let weekday = (cycle == Some(TimeDelta::weeks(1))).then(|| local.weekday());
        cycle.map(|_| (weekday, local.hour()))
    };
    medians(times, values, key)
}

/// The median of each week or day that is looked at, so that a level that shifts is not taken for
/// what is usual at some hours.
fn of_cycles(times: &[DateTime<Utc>], values: &[f64]) -> Vec<f64> {
    let (first, cycle) = (times.first().copied(), cycle(times));
    let key = |at: &DateTime<Utc>| {
        let since = (*at - first?).num_seconds();
        Some(since / cycle?.num_seconds())
    };
    medians(times, values, key)
}

/// At each place the median of the values that are alike.
fn medians<K: Eq + std::hash::Hash>(
    times: &[DateTime<Utc>],
    values: &[f64],
    key: impl Fn(&DateTime<Utc>) -> K,
) -> Vec<f64> {
    let mut alike = HashMap::<K, Vec<usize>>::new();
    for (place, at) in times.iter().enumerate() {
        alike.entry(key(at)).or_default().push(place);
    }
    let mut out = vec![0.0; values.len()];
    for places in alike.values() {
        stop::check();
        let own = median(places.iter().map(|place| values[*place]));
        places.iter().for_each(|place| out[*place] = own);
    }
    out
}

#[expect(
    clippy::too_many_lines,
    reason = "what is usual, then levels, then what is off them: each needs the one before"
)]
fn events(times: &[DateTime<Utc>], values: &[f64], zone: Zone, threshold: f64) -> Vec<Event> {
    if values.len() < LEAST_VALUES {
        return Vec::new();
    }
    // What is left when what is so every day or week is taken away.
    let less = |from: &[f64], taken: &[f64]| -> Vec<f64> {
        from.iter()
            .zip(taken)
            .map(|(from, taken)| from - taken)
            .collect()
    };
    let level = less(values, &of_cycles(times, values));
    let first = less(values, &usual(times, &level, zone));
    let least = 1e-6 * median(values.iter().map(|value| value.abs()));
    let steps = spread(&first).max(least);
    let mut edges = vec![0];
    edges.extend(shifts(&first, steps, threshold));
    edges.push(values.len());
    // Once more with the levels known, which are part of no hour.
    let mut levels = Vec::with_capacity(values.len());
    for edge in edges.windows(2) {
        let level = median(first[edge[0]..edge[1]].iter().copied());
        levels.resize(edge[1], level);
    }
    let usual = usual(times, &less(values, &levels), zone);
    let rest = less(&less(values, &levels), &usual);
    let steps = spread(&rest).max(least);
    let mut events = Vec::new();
    let mut before = None;
    for edge in edges.windows(2) {
        let part = edge[0]..edge[1];
        let level = levels[part.start];
        if let Some(before) = before.replace(level) {
            let from = part.start;
            events.push(Event {
                first: from,
                last: from,
                value: usual[from] + level,
                usual: usual[from] + before,
                spread: steps,
                shift: true,
            });
        }
        let around = NORMAL * median(rest[part.clone()].iter().map(|r| r.abs()));
        let spread = around.max(steps);
        let mut open: Option<Event> = None;
        for at in part {
            stop::check();
            let out = rest[at].abs();
            match &mut open {
                Some(event) if out / spread >= threshold => {
                    event.last = at;
                    if out > (event.value - event.usual).abs() {
                        event.value = values[at];
                        event.usual = usual[at] + level;
                    }
                }
                None if out / spread >= threshold => {
                    open = Some(Event {
                        first: at,
                        last: at,
                        value: values[at],
                        usual: usual[at] + level,
                        spread,
                        shift: false,
                    });
                }
                _ => events.extend(open.take()),
            }
        }
        events.extend(open);
    }
    events
}

/// The spikes and shifts of all series, the worst first, with what is usual.
pub fn stand_out(
    asked: &StandOut,
    table: &Table,
    around: &Context<'_>,
) -> Result<Figures, FigureError> {
    let time = time_column(NAME, table, &asked.time)?;
    let value = numbers(NAME, table, &asked.value)?;
    let by = columns(NAME, table, &asked.by)?;
    let zone = around.window.zone;
    let mut found: Vec<(f64, Vec<Value>)> = Vec::new();
    let mut all = 0;
    for rows in groups(table, &by) {
        let points = points(table, &rows, (time, value), around.window);
        let (times, values): (Vec<_>, Vec<_>) = points.into_iter().unzip();
        for event in events(&times, &values, zone, asked.threshold) {
            stop::check();
            all += 1;
            let names = by.iter().map(|column| table.rows[rows[0]][*column].clone());
            let least = values.iter().all(|value| *value >= 0.0).then_some(0.0);
            let row = names.chain(told(&event, &times, asked.threshold, least));
            found.push((event.deviations(), row.collect()));
        }
    }
    found.sort_by(|(a, _), (b, _)| b.total_cmp(a));
    found.truncate(asked.most);
    let format = NumberFormat::default();
    let told = found.len();
    let more = match all - told {
        0 => String::new(),
        more => format!(" {more} more stand out and are not listed."),
    };
    let mut out = headed(table, &by);
    out.rows = found.into_iter().map(|(_, row)| row).collect();
    out.truncated = table.truncated;
    Ok(Figures {
        table: out,
        notes: vec![format!(
            "From {} usual deviations on a value stands out: from the median of the same hour of the week where there are three weeks, of the same hour of the day where there are three days.{more}",
            format.readable(asked.threshold)
        )],
        ..Figures::default()
    })
}

fn told(event: &Event, times: &[DateTime<Utc>], threshold: f64, least: Option<f64>) -> [Value; 8] {
    let (from, last) = (times[event.first], times[event.last]);
    // A value holds until the next one; a shift is where it begins.
    let to = if event.shift {
        from
    } else {
        times.get(event.last + 1).copied().unwrap_or(last)
    };
    let what = match (event.shift, event.value > event.usual) {
        (true, true) => "shift up",
        (true, false) => "shift down",
        (false, true) => "spike up",
        (false, false) => "spike down",
    };
    let wide = threshold * event.spread;
    [
        Value::Instant(from),
        Value::Instant(to),
        Value::Text(what.to_owned()),
        number(event.value),
        number(event.usual),
        number((event.usual - wide).max(least.unwrap_or(f64::NEG_INFINITY))),
        number(event.usual + wide),
        number(event.deviations()),
    ]
}

fn headed(table: &Table, by: &[usize]) -> Table {
    let own = [
        ("from", ColumnKind::Instant),
        ("to", ColumnKind::Instant),
        ("title", ColumnKind::Text),
        ("value", ColumnKind::Number),
        ("usual", ColumnKind::Number),
        ("usual_low", ColumnKind::Number),
        ("usual_high", ColumnKind::Number),
        ("deviations", ColumnKind::Number),
    ];
    let named = by.iter().map(|column| table.columns[*column].clone());
    Table {
        columns: named
            .chain(own.map(|(name, kind)| Column {
                name: name.to_owned(),
                kind,
            }))
            .collect(),
        rows: Vec::new(),
        truncated: false,
    }
}

#[cfg(test)]
mod tests {
    use maple_lark_time::Window;

    use super::*;
    use crate::figures::{
        Operation,
        testing::{around, names, table},
    };

    fn window() -> Window {
        Window {
            from: "2026-10-05T00:00:00Z".parse().unwrap(),
            to: "2026-11-02T00:00:00Z".parse().unwrap(),
            zone: "UTC".parse().unwrap(),
            within: None,
        }
    }

    /// Hourly values, and what stands out of them: first row, title and value.
    fn found(values: &[f64], most: usize) -> Vec<(usize, String, f64)> {
        let rows = values.iter().enumerate().map(|(hour, value)| {
            let at = window().from + TimeDelta::hours(hour as i64);
            vec![
                Value::Instant(at),
                Value::Text("a".to_owned()),
                Value::Number(*value),
            ]
        });
        let columns = [
            ("at", ColumnKind::Instant),
            ("host", ColumnKind::Text),
            ("cpu", ColumnKind::Number),
        ];
        let asked = StandOut {
            time: "at".to_owned(),
            value: "cpu".to_owned(),
            by: names(&["host"]),
            threshold: 6.0,
            most,
        };
        let operation = Operation::StandOut(Box::new(asked));
        let figures = around(&window(), &[], |around| {
            operation.apply(table(&columns, rows.collect()).into(), around)
        })
        .unwrap();
        let told = |row: &Vec<Value>| {
            let (Value::Instant(at), Value::Text(title)) = (&row[1], &row[3]) else {
                panic!("{row:?}")
            };
            let hour = (*at - window().from).num_hours() as usize;
            (hour, title.clone(), row[4].as_number().unwrap())
        };
        figures.table.rows.iter().map(told).collect()
    }

    /// Something uneven, between −1 and 1, that is the same each time.
    fn uneven(place: usize) -> f64 {
        ((place * 7919 + 13) % 211) as f64 / 105.5 - 1.0
    }

    #[test]
    fn spikes_are_told_from_shifts_and_the_worst_comes_first() {
        let mut values: Vec<f64> = (0..200).map(|place| 20.0 + uneven(place)).collect();
        values[40] = 60.0;
        values[41] = 90.0;
        values[70] = -10.0;
        values[120..].iter_mut().for_each(|value| *value += 25.0);
        let all = found(&values, 10);
        assert_eq!(all.len(), 3, "{all:?}");
        assert_eq!(all[0], (40, "spike up".to_owned(), 90.0));
        assert_eq!((all[1].0, all[1].1.as_str()), (70, "spike down"));
        assert_eq!((all[2].0, all[2].1.as_str()), (120, "shift up"));
        assert!((all[2].2 - 45.0).abs() < 1.0);
        assert_eq!(found(&values, 1).len(), 1);
    }

    #[test]
    fn a_level_shifts_at_its_first_value_and_what_comes_before_is_no_spike() {
        for place in [90, 101, 103] {
            let level = |at: usize| if at < place { 20.0 } else { 50.0 };
            let values: Vec<f64> = (0..144).map(|at| level(at) + (at % 3) as f64).collect();
            let all = found(&values, 10);
            assert_eq!(all.len(), 1, "{all:?}");
            assert_eq!((all[0].0, all[0].1.as_str()), (place, "shift up"));
            assert!((all[0].2 - 51.0).abs() <= 1.0, "{all:?}");
        }
    }

    #[test]
    fn what_is_so_every_week_does_not_stand_out_but_another_hour_does() {
        let busy = |hour: usize| {
            if (60..63).contains(&(hour % 168)) {
                40.0
            } else {
                0.0
            }
        };
        let mut values: Vec<f64> = (0..4 * 168)
            .map(|hour| 20.0 + uneven(hour) + busy(hour))
            .collect();
        assert_eq!(found(&values, 10), []);
        values[400] = 60.0;
        assert_eq!(found(&values, 10), [(400, "spike up".to_owned(), 60.0)]);
    }

    #[test]
    fn an_even_series_and_a_short_one_have_nothing_that_stands_out() {
        let even: Vec<f64> = (0..100).map(uneven).collect();
        assert_eq!(found(&even, 10), []);
        assert_eq!(found(&[1.0, 1.0, 900.0], 10), []);
    }
}
