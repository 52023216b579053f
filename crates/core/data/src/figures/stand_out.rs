//! What stands out of a series: spikes, and levels that shift.

use chrono::{DateTime, Datelike, Timelike, Utc};
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
/// An hour of the week has a usual value of its own if it was there so often beside.
const LEAST_WEEKS: usize = 3;

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
    let size = median(values.iter().map(|value| value.abs()));
    of_steps.max(1e-6 * size).max(f64::MIN_POSITIVE)
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
    found
}

/// What is usual at each place of a stretch with one level: the median of the same hour of the
/// week where there is enough of it, and that of the stretch elsewhere.
fn usual(times: &[DateTime<Utc>], values: &[f64], zone: Zone) -> Vec<f64> {
    let hour = |at: &DateTime<Utc>| {
        let local = zone.local(*at);
        (local.weekday(), local.hour())
    };
    let mut of_hour = std::collections::HashMap::<_, Vec<(usize, f64)>>::new();
    for (place, (at, value)) in times.iter().zip(values).enumerate() {
        of_hour.entry(hour(at)).or_default().push((place, *value));
    }
    let whole = median(values.iter().copied());
    let week = chrono::TimeDelta::days(7);
    let weeks = match (times.first(), times.last()) {
        (Some(first), Some(last)) => (*last - *first).num_hours() / week.num_hours(),
        _ => 0,
    } as usize;
    let mut usual = vec![whole; values.len()];
    if weeks >= LEAST_WEEKS {
        for places in of_hour.values() {
            let own = median(places.iter().map(|(_, value)| *value));
            places.iter().for_each(|(place, _)| usual[*place] = own);
        }
    }
    usual
}

fn events(times: &[DateTime<Utc>], values: &[f64], zone: Zone, threshold: f64) -> Vec<Event> {
    if values.len() < LEAST_VALUES {
        return Vec::new();
    }
    let steps = spread(values);
    let mut events = Vec::new();
    let shifts = shifts(values, steps, threshold);
    let mut edges = vec![0];
    edges.extend(&shifts);
    edges.push(values.len());
    for place in 0..edges.len() - 1 {
        let (from, to) = (edges[place], edges[place + 1]);
        let part = &values[from..to];
        let level = median(part.iter().copied());
        if place > 0 {
            let before = median(values[edges[place - 1]..from].iter().copied());
            events.push(Event {
                first: from,
                last: from,
                value: level,
                usual: before,
                spread: steps,
                shift: true,
            });
        }
        let usual = usual(&times[from..to], part, zone);
        let rest: Vec<f64> = part.iter().zip(&usual).map(|(v, u)| v - u).collect();
        let around = NORMAL * median(rest.iter().map(|r| r.abs()));
        let spread = around.max(steps);
        let mut open: Option<Event> = None;
        for (at, rest) in rest.iter().enumerate() {
            stop::check();
            let out = rest.abs() / spread >= threshold;
            match &mut open {
                Some(event) if out => {
                    event.last = from + at;
                    if rest.abs() > (event.value - event.usual).abs() {
                        event.value = part[at];
                        event.usual = usual[at];
                    }
                }
                None if out => {
                    open = Some(Event {
                        first: from + at,
                        last: from + at,
                        value: part[at],
                        usual: usual[at],
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
            let row = names.chain(told(&event, &times, asked.threshold));
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
            "From {} usual deviations on a value stands out: from the median of the same hour of the week where there are three weeks of it, else from that of the window.{more}",
            format.readable(asked.threshold)
        )],
        ..Figures::default()
    })
}

fn told(event: &Event, times: &[DateTime<Utc>], threshold: f64) -> [Value; 8] {
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
        number(event.usual - wide),
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
            let at = window().from + chrono::TimeDelta::hours(hour as i64);
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
