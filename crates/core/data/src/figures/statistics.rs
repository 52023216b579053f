//! What a series is like, in a row of numbers.

use crate::{
    figures::{
        amount,
        amount::number,
        columns::{column, columns, groups, key, new_column, number_columns, numbers},
        error::FigureError,
    },
    series,
    series::Aggregation,
    table::{Column, ColumnKind, Table, Value},
};

/// The columns: the groups, `value` (which column it is of, where there are several), count,
/// missing, min, mean, median, the percentiles, max, deviation (of a sample) and last.
#[expect(
    clippy::too_many_lines,
    reason = "one pass over the rows whose parts share what it gathers"
)]
pub fn statistics(
    table: Table,
    values: &[String],
    by: &[String],
    percentiles: &[f64],
) -> Result<Table, FigureError> {
    let by = columns("statistics", &table, by)?;
    let values = number_columns("statistics", &table, values, &by)?;
    let mut out = Table {
        columns: by
            .iter()
            .map(|index| table.columns[*index].clone())
            .collect(),
        rows: Vec::new(),
        truncated: table.truncated,
    };
    let mut add = |name: &str, kind: ColumnKind| {
        let column = new_column("statistics", &out, name, kind)?;
        out.columns.push(column);
        Ok(())
    };
    if values.len() != 1 {
        add("value", ColumnKind::Text)?;
    }
    add("count", ColumnKind::Integer)?;
    add("missing", ColumnKind::Integer)?;
    let aggregations: Vec<Aggregation> = [
        Aggregation::Min,
        Aggregation::Mean,
        Aggregation::Percentile(50.0),
    ]
    .into_iter()
    .chain(percentiles.iter().map(|p| Aggregation::Percentile(*p)))
    .chain([Aggregation::Max])
    .collect();
    for aggregation in &aggregations {
        add(&aggregation.to_string(), ColumnKind::Number)?;
    }
    add("deviation", ColumnKind::Number)?;
    add("last", ColumnKind::Number)?;
    for rows in groups(&table, &by) {
        for value in &values {
            let cells = rows.iter().map(|row| &table.rows[*row][*value]);
            let present: Vec<f64> = cells.clone().filter_map(Value::as_number).collect();
            let mut row: Vec<Value> = by
                .iter()
                .map(|index| table.rows[rows[0]][*index].clone())
                .collect();
            if values.len() != 1 {
                row.push(Value::Text(table.columns[*value].name.clone()));
            }
            row.push(Value::Integer(present.len() as i64));
            row.push(Value::Integer((rows.len() - present.len()) as i64));
            row.extend(
                aggregations
                    .iter()
                    .map(|aggregation| number(series::one(&mut present.clone(), *aggregation))),
            );
            row.push(number(series::deviation(&present)));
            row.push(amount::fitted(
                amount::one(cells, Aggregation::Last),
                ColumnKind::Number,
            ));
            out.rows.push(row);
        }
    }
    Ok(out)
}

/// Within a bucket, values are taken to be spread evenly; below the first bound they begin at
/// zero, and above the last finite one nothing is known, so that bound is the answer.
pub fn histogram_percentile(
    table: Table,
    bound: &str,
    value: &str,
    by: &[String],
    percentile: f64,
) -> Result<Table, FigureError> {
    const NAME: &str = "histogram-percentile";
    let (bound, value) = (column(NAME, &table, bound)?, numbers(NAME, &table, value)?);
    let by = columns(NAME, &table, by)?;
    let named: Vec<Column> = by
        .iter()
        .map(|index| table.columns[*index].clone())
        .collect();
    let mut out = Table {
        columns: named,
        rows: Vec::new(),
        truncated: table.truncated,
    };
    let column = new_column(NAME, &out, &table.columns[value].name, ColumnKind::Number)?;
    out.columns.push(column);
    let upper = |cell: &Value| match cell {
        Value::Text(text) if text == "+Inf" => Some(f64::INFINITY),
        Value::Text(text) => text.parse().ok(),
        value => value.as_number(),
    };
    for rows in groups(&table, &by) {
        let mut buckets = Vec::new();
        for row in &rows {
            let cell = &table.rows[*row][bound];
            let Some(upper) = upper(cell) else {
                return Err(FigureError::Other {
                    operation: NAME,
                    reason: format!("\"{}\" is not the bound of a bucket", &key(cell)[1..]),
                });
            };
            if let Some(count) = table.rows[*row][value].as_number() {
                buckets.push((upper, count));
            }
        }
        buckets.sort_by(|a, b| a.0.total_cmp(&b.0));
        let mut row: Vec<Value> = by
            .iter()
            .map(|index| table.rows[rows[0]][*index].clone())
            .collect();
        row.push(number(in_buckets(&buckets, percentile)));
        out.rows.push(row);
    }
    Ok(out)
}

fn in_buckets(buckets: &[(f64, f64)], percentile: f64) -> f64 {
    let all = buckets.last().map_or(0.0, |(_, count)| *count);
    if all <= 0.0 {
        return f64::NAN;
    }
    let wanted = percentile / 100.0 * all;
    let (mut lower, mut below) = (0.0, 0.0);
    for (upper, count) in buckets {
        if *count >= wanted {
            let share = if *count > below {
                (wanted - below) / (count - below)
            } else {
                1.0
            };
            return if upper.is_infinite() {
                lower
            } else {
                lower + (upper - lower) * share
            };
        }
        (lower, below) = (*upper, *count);
    }
    lower
}
