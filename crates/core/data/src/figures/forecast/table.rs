//! Forecasts of the series in a table's rows.

use chrono::{DateTime, Utc};

use super::{
    EIGHTY, Fitted, Forecast, ForecastRows, Method, NINETY_FIVE, Reach, found_season,
    judge::{Accuracy, fitted},
    reach_of,
};
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
    status::Direction,
    stop,
    table::{Column, ColumnKind, Table, Value},
};

const NAME: &str = "forecast";
/// Fewer values say nothing of what comes.
const LEAST_VALUES: usize = 10;
/// Steps of one series, past and to come.
const MOST_STEPS: usize = 20_000;
const DAY: i64 = 86_400_000;
const WEEK: i64 = 7 * DAY;

fn other(reason: impl Into<String>) -> FigureError {
    FigureError::Other {
        operation: NAME,
        reason: reason.into(),
    }
}

/// One series at even steps; a step without a value is NaN.
struct Past {
    names: Vec<Value>,
    from: i64,
    step: i64,
    values: Vec<f64>,
}

impl Past {
    fn at(&self, place: usize) -> Value {
        let at = DateTime::from_timestamp_millis(self.from + self.step * place as i64);
        at.map_or(Value::Missing, Value::Instant)
    }
}

/// A series carried on, or why it is not.
enum Carried {
    On {
        method: String,
        fitted: Fitted,
        accuracy: Option<Accuracy>,
        ahead: usize,
        not_below: Option<f64>,
    },
    Not(&'static str),
}

pub fn forecast(
    asked: &Forecast,
    table: &Table,
    around: &Context<'_>,
) -> Result<Figures, FigureError> {
    let time = time_column(NAME, table, &asked.time)?;
    let value = numbers(NAME, table, &asked.value)?;
    let by = columns(NAME, table, &asked.by)?;
    let limits = (around.thresholds)(&asked.value);
    let own: Vec<f64> = [limits.warning, limits.critical]
        .into_iter()
        .flatten()
        .collect();
    let reached = if asked.limits.is_empty() {
        own
    } else {
        asked.limits.clone()
    };
    if asked.give == ForecastRows::Limits && reached.is_empty() {
        return Err(other(format!(
            "there is no limit to be reached; give one as limit = 95, or set the thresholds of \"{}\" under [[query.column]]",
            asked.value
        )));
    }
    let mut out = headed(asked, table, &by);
    let (mut said, mut poor, mut series) = (Vec::new(), 0, 0);
    for rows in groups(table, &by) {
        stop::check();
        let names = by.iter().map(|column| table.rows[rows[0]][*column].clone());
        let points = points(table, &rows, (time, value), around.window);
        let millis = |(at, value): (DateTime<Utc>, f64)| (at.timestamp_millis(), value);
        let points = points.into_iter().map(millis).collect();
        let past = past(asked, names.collect(), points)?;
        let carried = carried(asked, &past)?;
        series += 1;
        if let Carried::On {
            method, accuracy, ..
        } = &carried
        {
            poor += usize::from(accuracy.is_some_and(|accuracy| !accuracy.is_better()));
            said.push(in_words(method, accuracy.as_ref()));
        }
        match asked.give {
            ForecastRows::Steps => steps(&mut out, &past, &carried),
            ForecastRows::Limits => crossings(&mut out, &past, &carried, &reached, limits.worse),
        }
    }
    in_order(asked.give, &mut out.rows, by.len());
    out.truncated = table.truncated;
    Ok(Figures {
        table: out,
        notes: note(said, poor, series),
        ..Figures::default()
    })
}

fn at(value: &Value) -> Option<DateTime<Utc>> {
    match value {
        Value::Instant(at) => Some(*at),
        _ => None,
    }
}

/// Steps in the order of time; limits by when they are reached, and of those that are not the
/// nearest first. `names` is how many columns stand before the values.
fn in_order(give: ForecastRows, rows: &mut [Vec<Value>], names: usize) {
    match give {
        ForecastRows::Steps => rows.sort_by_key(|row| at(&row[0])),
        ForecastRows::Limits => {
            let place = names + EARLIEST;
            rows.sort_by_key(|row| {
                let (likely, earliest) = (at(&row[place + 1]), at(&row[place]));
                let number = |place: usize| row[place].as_number().unwrap_or(f64::MAX);
                let away = (number(place - 1) - number(place - EARLIEST)).abs();
                let nearest = (away * 1e6).min(1e18) as i64;
                (
                    likely.is_none(),
                    likely,
                    earliest.is_none(),
                    earliest,
                    nearest,
                )
            });
        }
    }
}

/// The method and how wrong it was.
fn in_words(method: &str, accuracy: Option<&Accuracy>) -> String {
    let format = NumberFormat::default();
    let Some(accuracy) = accuracy else {
        return format!("By {method}; too little of the past is there to say how wrong it was.");
    };
    let error = accuracy.percent.map_or_else(
        || format!("{} off", format.readable(accuracy.error)),
        |percent| format!("{} % off", format.readable(percent)),
    );
    format!(
        "By {method}. Held against the last fifth of the past it was {error} on average, and {} % of the values lay within its 95 % interval.",
        format.readable(accuracy.covered)
    )
}

fn note(mut said: Vec<String>, poor: usize, series: usize) -> Vec<String> {
    let mut sentences = Vec::new();
    if let ([_], 1) = (said.as_slice(), series) {
        sentences.append(&mut said);
        if poor > 0 {
            sentences.push("That is no better than repeating the last value or season.".to_owned());
        }
    } else if poor > 0 {
        sentences.push(format!(
            "{poor} of {series} forecasts were no better than repeating the last value or season."
        ));
    }
    if sentences.is_empty() {
        return Vec::new();
    }
    vec![sentences.join(" ")]
}

/// The usual distance of points: the median of the distances that are not nothing.
fn usual_step(points: &[(i64, f64)]) -> Option<i64> {
    let pairs = points.iter().zip(points.iter().skip(1));
    let mut steps: Vec<i64> = pairs
        .map(|((a, _), (b, _))| b - a)
        .filter(|step| *step > 0)
        .collect();
    let middle = steps.len() / 2;
    (!steps.is_empty()).then(|| *steps.select_nth_unstable(middle).1)
}

/// The points at even steps; several in one are their mean.
fn past(asked: &Forecast, names: Vec<Value>, points: Vec<(i64, f64)>) -> Result<Past, FigureError> {
    let step = asked.every.or_else(|| usual_step(&points)).unwrap_or(DAY);
    let from = points.first().map_or(0, |(at, _)| *at);
    let last = points.last().map_or(0, |(at, _)| *at);
    let count = ((last - from + step / 2) / step + 1) as usize;
    if count > MOST_STEPS {
        return Err(other(format!(
            "a series has {count} steps, more than {MOST_STEPS}; set a longer step with \"every\", or resample before"
        )));
    }
    let mut sums = vec![(0.0, 0u32); if points.is_empty() { 0 } else { count }];
    for (at, value) in points {
        let sum = &mut sums[((at - from + step / 2) / step) as usize];
        *sum = (sum.0 + value, sum.1 + 1);
    }
    let values = sums.into_iter().map(|(sum, count)| match count {
        0 => f64::NAN,
        count => sum / f64::from(count),
    });
    Ok(Past {
        names,
        from,
        step,
        values: values.collect(),
    })
}

fn carried(asked: &Forecast, past: &Past) -> Result<Carried, FigureError> {
    let there: Vec<f64> = past
        .values
        .iter()
        .copied()
        .filter(|v| v.is_finite())
        .collect();
    if there.len() < LEAST_VALUES {
        return Ok(Carried::Not("too few values"));
    }
    if there.iter().all(|value| *value == there[0]) {
        return Ok(Carried::Not("does not change"));
    }
    let season = match asked.season {
        Some(length) => {
            let steps = (length as f64 / past.step as f64).round() as usize;
            if steps < 2 {
                return Err(other("the season must be at least two steps long"));
            }
            if past.values.len() < 2 * steps {
                return Err(other(format!(
                    "the season has {steps} steps, and a series only {}; it must have been twice in the past",
                    past.values.len()
                )));
            }
            Some(steps)
        }
        None => {
            let lengths = [DAY, WEEK].map(|length| (length / past.step) as usize);
            found_season(&past.values, &lengths)
        }
    };
    let ahead = match asked.ahead {
        Some(ahead) => (ahead / past.step).max(1) as usize,
        None => (past.values.len() / 2).max(1),
    };
    if past.values.len() + ahead > MOST_STEPS {
        return Err(other(format!(
            "{ahead} steps ahead are too many for steps of {} s; look less far ahead, or set a longer step with \"every\"",
            past.step / 1000
        )));
    }
    let Some((method, fitted, accuracy)) = fitted(asked.method, &past.values, season) else {
        let why = match asked.method {
            Method::Multiplied | Method::MultipliedDamped => {
                "needs a season, and values above zero"
            }
            _ => "too few values",
        };
        return Ok(Carried::Not(why));
    };
    let season = season.map(|steps| length_in_words(steps as i64 * past.step));
    Ok(Carried::On {
        method: method.words(season.as_deref()),
        fitted,
        accuracy,
        ahead,
        not_below: (!asked.may_be_negative && there.iter().all(|value| *value >= 0.0))
            .then_some(0.0),
    })
}

fn length_in_words(milliseconds: i64) -> String {
    match milliseconds {
        DAY => "a day".to_owned(),
        WEEK => "a week".to_owned(),
        other if other % DAY == 0 => format!("{} days", other / DAY),
        other if other % 3_600_000 == 0 => format!("{} h", other / 3_600_000),
        other => format!("{} min", other / 60_000),
    }
}

/// Where the first column of instants stands among a limit's own columns.
const EARLIEST: usize = 3;

fn headed(asked: &Forecast, table: &Table, by: &[usize]) -> Table {
    let named = by.iter().map(|column| table.columns[*column].clone());
    let column = |name: &str, kind| Column {
        name: name.to_owned(),
        kind,
    };
    let numbers = |names: &[&str]| -> Vec<Column> {
        names
            .iter()
            .map(|name| column(name, ColumnKind::Number))
            .collect()
    };
    let mut columns = Vec::new();
    match asked.give {
        ForecastRows::Steps => {
            columns.push(column(&asked.time, ColumnKind::Instant));
            columns.extend(named);
            columns.extend(numbers(&[
                "observed", "fitted", "forecast", "low_80", "high_80", "low_95", "high_95",
            ]));
        }
        ForecastRows::Limits => {
            columns.extend(named);
            columns.extend(numbers(&["now", "growth_a_week", "limit"]));
            for name in ["earliest", "likely", "latest"] {
                columns.push(column(name, ColumnKind::Instant));
            }
            columns.push(column("reached", ColumnKind::Text));
            columns.push(column("method", ColumnKind::Text));
            columns.extend(numbers(&["error", "scaled_error", "within_interval"]));
            columns.push(column("trust", ColumnKind::Text));
        }
    }
    Table {
        columns,
        rows: Vec::new(),
        truncated: false,
    }
}

/// The reach of a step with its two intervals: 80 and 95 %, low and high.
fn intervals(fitted: &Fitted, step: usize, not_below: Option<f64>) -> (f64, [f64; 4]) {
    let Reach { value, deviation } = (fitted.ahead)(step);
    let held = |value: f64| not_below.map_or(value, |least| value.max(least));
    let wide = [EIGHTY, NINETY_FIVE].map(|z| reach_of(z, fitted.free) * deviation);
    (
        held(value),
        [
            held(value - wide[0]),
            held(value + wide[0]),
            held(value - wide[1]),
            held(value + wide[1]),
        ],
    )
}

fn steps(out: &mut Table, past: &Past, carried: &Carried) {
    let mut add = |place: usize, cells: [Value; 7]| {
        let mut row = vec![past.at(place)];
        row.extend(past.names.iter().cloned());
        row.extend(cells);
        out.rows.push(row);
    };
    let none = || Value::Missing;
    for (place, value) in past.values.iter().enumerate() {
        stop::check();
        let fit = match carried {
            Carried::On { fitted, .. } => number(fitted.fitted[place]),
            Carried::Not(_) => none(),
        };
        add(
            place,
            [number(*value), fit, none(), none(), none(), none(), none()],
        );
    }
    if let Carried::On {
        fitted,
        ahead,
        not_below,
        ..
    } = carried
    {
        for step in 0..*ahead {
            stop::check();
            let (value, [low, high, lower, higher]) = intervals(fitted, step, *not_below);
            let cells = [value, low, high, lower, higher].map(number);
            let [value, low, high, lower, higher] = cells;
            add(
                past.values.len() + step,
                [none(), none(), value, low, high, lower, higher],
            );
        }
    }
}

/// The instant at which a line through the steps to come first reaches a limit, beginning at the
/// last value.
fn reaches(
    past: &Past,
    ahead: usize,
    last: f64,
    limit: f64,
    worse: Direction,
    line: impl Fn(usize) -> f64,
) -> Option<Value> {
    let past_it = |value: f64| match worse {
        Direction::Higher => value >= limit,
        Direction::Lower => value <= limit,
    };
    let mut before = last;
    for step in 0..ahead {
        let value = line(step);
        if past_it(value) {
            let share = if value == before {
                1.0
            } else {
                (limit - before) / (value - before)
            };
            let place = past.values.len() as f64 - 1.0 + step as f64 + share.clamp(0.0, 1.0);
            let at = past.from + (place * past.step as f64).round() as i64;
            return DateTime::from_timestamp_millis(at).map(Value::Instant);
        }
        before = value;
    }
    None
}

fn crossings(out: &mut Table, past: &Past, carried: &Carried, limits: &[f64], worse: Direction) {
    let last = past.values.iter().rev().find(|value| value.is_finite());
    let last = last.copied().unwrap_or(f64::NAN);
    for limit in limits {
        stop::check();
        let is_past = match worse {
            Direction::Higher => last >= *limit,
            Direction::Lower => last <= *limit,
        };
        let mut row = past.names.clone();
        row.push(number(last));
        match carried {
            Carried::Not(why) => {
                row.extend([Value::Missing, number(*limit)]);
                row.extend([const { Value::Missing }; 3]);
                row.push(text(if is_past { "past it now" } else { why }));
                row.extend([const { Value::Missing }; 5]);
            }
            Carried::On {
                method,
                fitted,
                accuracy,
                ahead,
                not_below,
            } => {
                let of = |which: usize| {
                    let line = |step| {
                        let (value, bounds) = intervals(fitted, step, *not_below);
                        if which == VALUE { value } else { bounds[which] }
                    };
                    reaches(past, *ahead, last, *limit, worse, line)
                };
                // The edges of the 80 % interval, the one on the side of the limit first.
                let (soon, late) = match worse {
                    Direction::Higher => (1, 0),
                    Direction::Lower => (0, 1),
                };
                let when = [soon, VALUE, late].map(|which| of(which).filter(|_| !is_past));
                let words = match &when {
                    _ if is_past => "past it now".to_owned(),
                    [_, Some(_), _] => "forecast".to_owned(),
                    [Some(_), ..] => "possible".to_owned(),
                    _ => format!("not in {}", length_in_words(past.step * *ahead as i64)),
                };
                let a_week = growth(past, fitted, *ahead, *not_below);
                row.extend([number(a_week), number(*limit)]);
                row.extend(when.map(|at| at.unwrap_or(Value::Missing)));
                row.extend([Value::Text(words), text(method)]);
                row.extend(wrong(accuracy.as_ref()));
            }
        }
        out.rows.push(row);
    }
}

/// Which line is meant, beside the edges of the intervals.
const VALUE: usize = usize::MAX;

fn text(text: &str) -> Value {
    Value::Text(text.to_owned())
}

/// How wrong the method was, in three numbers and words.
fn wrong(accuracy: Option<&Accuracy>) -> [Value; 4] {
    let said =
        |of: fn(&Accuracy) -> Option<f64>| accuracy.and_then(of).map_or(Value::Missing, number);
    [
        said(|accuracy| accuracy.percent),
        said(|accuracy| accuracy.scaled),
        said(|accuracy| Some(accuracy.covered)),
        text(trust(accuracy)),
    ]
}

/// By how much it grows in a week of what is to come, on average.
fn growth(past: &Past, fitted: &Fitted, ahead: usize, not_below: Option<f64>) -> f64 {
    let week = (WEEK / past.step).max(1) as usize;
    let steps = week.min(ahead.saturating_sub(1)).max(1);
    let first = intervals(fitted, 0, not_below).0;
    let then = intervals(fitted, steps, not_below).0;
    (then - first) * (WEEK as f64 / past.step as f64) / steps as f64
}

/// How much a forecast can be trusted, by how wrong its method was.
fn trust(accuracy: Option<&Accuracy>) -> &'static str {
    match accuracy {
        None => "not known",
        Some(accuracy) if !accuracy.is_better() => "none",
        Some(accuracy) if accuracy.covered < 70.0 => "little",
        Some(accuracy) if accuracy.percent.is_some_and(|percent| percent <= 10.0) => "good",
        Some(_) => "fair",
    }
}
