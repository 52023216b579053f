//! Operations along time, or along rows that follow one another.

use chrono::{DateTime, Utc};
use maple_lark_time::{Window, window::Step};

use crate::{
    figures::{
        amount::{self, number},
        columns::{column, columns, groups, number_columns},
        compute,
        error::FigureError,
    },
    series::{Aggregation, Series, Total},
    stop,
    table::{Column, ColumnKind, Table, Value},
};

/// The instant that a cell says; that of a day where it begins, in the window's zone if there is one.
pub fn instant(value: &Value, window_zone: Option<&Window>) -> Option<DateTime<Utc>> {
    match (value, window_zone) {
        (Value::Instant(at), _) => Some(*at),
        (Value::Date(date), Some(window)) => Some(window.zone.start_of(*date)),
        (Value::Date(date), None) => Some(date.and_time(chrono::NaiveTime::MIN).and_utc()),
        _ => None,
    }
}

pub fn time_column(
    operation: &'static str,
    table: &Table,
    name: &str,
) -> Result<usize, FigureError> {
    let index = column(operation, table, name)?;
    // A column of nothing but missing values has no kind of its own.
    let bare = || table.rows.iter().all(|row| row[index] == Value::Missing);
    match table.columns[index].kind {
        ColumnKind::Instant | ColumnKind::Date => Ok(index),
        _ if bare() => Ok(index),
        kind => Err(FigureError::Kind {
            operation,
            column: name.to_owned(),
            kind: kind.name(),
            wanted: "times",
        }),
    }
}

/// The values of one column of some rows that have both an instant and a number, oldest first.
pub fn points(
    table: &Table,
    rows: &[usize],
    (time, value): (usize, usize),
    window: &Window,
) -> Vec<(DateTime<Utc>, f64)> {
    let of = |row: &usize| {
        let row = &table.rows[*row];
        Some((instant(&row[time], Some(window))?, row[value].as_number()?))
    };
    let mut points: Vec<(DateTime<Utc>, f64)> = rows.iter().filter_map(of).collect();
    points.sort_by_key(|(at, _)| *at);
    points
}

/// The values of one column of some rows as a series.
fn series(
    table: &Table,
    rows: &[usize],
    time: usize,
    value: usize,
    window: Option<&Window>,
) -> Series {
    let mut series = Series::default();
    for row in rows.iter().map(|row| &table.rows[*row]) {
        stop::check();
        if let Some(at) = instant(&row[time], window) {
            series.times.push(at.timestamp_millis());
            series
                .values
                .push(row[value].as_number().unwrap_or(f64::NAN));
        }
    }
    series
}

#[expect(
    clippy::too_many_arguments,
    reason = "the keys of the operation, as a definition names them"
)]
pub fn resample(
    table: Table,
    time: &str,
    step: Step,
    values: &[String],
    with: Aggregation,
    by: &[String],
    window: &Window,
) -> Result<Table, FigureError> {
    let time = time_column("resample", &table, time)?;
    let by = columns("resample", &table, by)?;
    let values = number_columns("resample", &table, values, &by)?;
    if step.is_too_fine_for(window) {
        return Err(FigureError::Other {
            operation: "resample",
            reason: format!(
                "the window has more than {} steps of {step}; set a longer step",
                Step::MOST
            ),
        });
    }
    let starts = step.starts(window);
    let edges: Vec<i64> = starts
        .iter()
        .map(DateTime::timestamp_millis)
        .chain([window.to.timestamp_millis()])
        .collect();
    let kept = std::iter::once(&time)
        .chain(&by)
        .map(|index| table.columns[*index].clone());
    let mut out = Table {
        columns: kept.collect(),
        rows: Vec::new(),
        truncated: table.truncated,
    };
    out.columns[0].kind = ColumnKind::Instant;
    out.columns.extend(values.iter().map(|index| Column {
        name: table.columns[*index].name.clone(),
        kind: ColumnKind::Number,
    }));
    for rows in groups(&table, &by) {
        let answers: Vec<Vec<f64>> = values
            .iter()
            .map(|value| {
                series(&table, &rows, time, *value, Some(window))
                    .resample(&edges, &[with])
                    .swap_remove(0)
            })
            .collect();
        for (bucket, start) in starts.iter().enumerate() {
            stop::check();
            let names = by.iter().map(|index| table.rows[rows[0]][*index].clone());
            let cells = answers.iter().map(|answer| number(answer[bucket]));
            out.rows.push(
                std::iter::once(Value::Instant(*start))
                    .chain(names)
                    .chain(cells)
                    .collect(),
            );
        }
    }
    // Groups side by side in time, as a chart's data reads.
    out.rows.sort_by_key(|row| instant(&row[0], None));
    Ok(out)
}

pub fn rate(
    mut table: Table,
    time: &str,
    values: &[String],
    by: &[String],
    per_seconds: f64,
) -> Result<Table, FigureError> {
    let time = time_column("rate", &table, time)?;
    let by = columns("rate", &table, by)?;
    let values = number_columns("rate", &table, values, &by)?;
    table.rows.sort_by_key(|row| instant(&row[time], None));
    table.rows.retain(|row| instant(&row[time], None).is_some());
    for rows in groups(&table, &by) {
        for value in &values {
            let rates = series(&table, &rows, time, *value, None).rate();
            for (row, rate) in rows.iter().zip(rates) {
                table.rows[*row][*value] = number(rate * per_seconds);
            }
        }
    }
    for value in values {
        table.columns[value].kind = ColumnKind::Number;
    }
    Ok(table)
}

/// What is worked out of a value and those before it, in the order of the rows.
#[derive(Clone, Copy)]
pub enum Running {
    Difference,
    Cumulative,
    MovingMean(usize),
}

pub fn running(
    operation: &'static str,
    mut table: Table,
    values: &[String],
    by: &[String],
    what: Running,
) -> Result<Table, FigureError> {
    let by = columns(operation, &table, by)?;
    let values = number_columns(operation, &table, values, &by)?;
    for value in values {
        let kind = match what {
            Running::MovingMean(_) => ColumnKind::Number,
            _ => amount::kind_of_one(table.columns[value].kind, Aggregation::Sum),
        };
        for rows in groups(&table, &by) {
            let cells: Vec<Value> = rows
                .iter()
                .map(|row| table.rows[*row][value].clone())
                .collect();
            let (mut exact, mut compensated) = (Value::Integer(0), Total::default());
            for (place, row) in rows.iter().enumerate() {
                let made = match what {
                    Running::Difference => match place
                        .checked_sub(1)
                        .map(|before| (&cells[place], &cells[before]))
                    {
                        Some((later, earlier)) => compute::less(later, earlier),
                        None => Value::Missing,
                    },
                    // A missing value adds nothing and stays missing in its own place.
                    Running::Cumulative if cells[place] == Value::Missing => Value::Missing,
                    Running::Cumulative if kind == ColumnKind::Number => {
                        compensated.add(cells[place].as_number().unwrap_or_default());
                        number(compensated.value())
                    }
                    Running::Cumulative => {
                        exact = amount::sum([&exact, &cells[place]]);
                        exact.clone()
                    }
                    Running::MovingMean(over) => amount::one(
                        &cells[(place + 1).saturating_sub(over)..=place],
                        Aggregation::Mean,
                    ),
                };
                table.rows[*row][value] = amount::fitted(made, kind);
            }
        }
        table.columns[value].kind = kind;
    }
    Ok(table)
}
