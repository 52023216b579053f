//! Columns worked out of others, and what is left after reductions.

use rust_decimal::Decimal;

use crate::{
    figures::{
        amount::{self, number},
        columns::{column, new_column, numbers},
        error::FigureError,
        group::share,
        rows::{Figures, Role},
    },
    series::Aggregation,
    stop,
    table::{ColumnKind, Table, Value},
};

/// How a row's numbers become one. A missing operand gives a missing value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Computation {
    /// 100 × first ÷ second; missing where the second is zero.
    Percent,
    /// First ÷ second; missing where the second is zero.
    Ratio,
    /// All operands, added.
    Sum,
    /// First less all others.
    Difference,
    /// All operands, multiplied.
    Product,
}

/// Exact where both are whole or decimal; missing where either is.
pub fn less(from: &Value, taken: &Value) -> Value {
    let exact = |value: &Value| match value {
        Value::Integer(n) => Some(Decimal::from(*n)),
        Value::Decimal(n) => Some(*n),
        _ => None,
    };
    match (exact(from), exact(taken)) {
        (Some(a), Some(b)) if let Some(left) = a.checked_sub(b) => {
            match (from, taken, i64::try_from(left)) {
                (Value::Integer(_), Value::Integer(_), Ok(whole)) => Value::Integer(whole),
                _ => Value::Decimal(left),
            }
        }
        _ => match (from.as_number(), taken.as_number()) {
            (Some(a), Some(b)) => number(a - b),
            _ => Value::Missing,
        },
    }
}

pub fn compute(
    mut table: Table,
    name: &str,
    of: &[String],
    computation: Computation,
    factor: f64,
) -> Result<Table, FigureError> {
    let of = of
        .iter()
        .map(|name| numbers("compute", &table, name))
        .collect::<Result<Vec<_>, _>>()?;
    let exact = of
        .iter()
        .all(|index| table.columns[*index].kind != ColumnKind::Number)
        && factor == 1.0;
    let kind = match computation {
        Computation::Sum | Computation::Difference if exact => ColumnKind::Decimal,
        _ => ColumnKind::Number,
    };
    let added = new_column("compute", &table, name, kind)?;
    for row in &mut table.rows {
        stop::check();
        let cells: Vec<&Value> = of.iter().map(|index| &row[*index]).collect();
        let float = |index: usize| cells.get(index).and_then(|cell| cell.as_number());
        let quotient = |times: f64| match (float(0), float(1)) {
            (Some(a), Some(b)) if b != 0.0 => number(times * a / b),
            _ => Value::Missing,
        };
        let made = match computation {
            Computation::Percent => quotient(100.0),
            Computation::Ratio => quotient(1.0),
            Computation::Sum => amount::sum(cells),
            Computation::Difference => {
                cells.split_first().map_or(Value::Missing, |(first, rest)| {
                    rest.iter()
                        .fold((*first).clone(), |left, taken| less(&left, taken))
                })
            }
            Computation::Product => cells
                .iter()
                .map(|cell| cell.as_number())
                .product::<Option<f64>>()
                .map_or(Value::Missing, number),
        };
        let made = if factor == 1.0 {
            made
        } else {
            made.as_number()
                .map_or(Value::Missing, |value| number(value * factor))
        };
        row.push(amount::fitted(made, kind));
    }
    table.columns.push(added);
    Ok(table)
}

pub fn breakdown(
    mut table: Table,
    label: &str,
    value: &str,
    after: &str,
) -> Result<Figures, FigureError> {
    let label = column("breakdown", &table, label)?;
    let value = numbers("breakdown", &table, value)?;
    if table.columns[label].kind != ColumnKind::Text && !table.rows.is_empty() {
        let kind = table.columns[label].kind.name();
        return Err(FigureError::Kind {
            operation: "breakdown",
            column: table.columns[label].name.clone(),
            kind,
            wanted: "texts",
        });
    }
    let kind = amount::kind_of_one(table.columns[value].kind, Aggregation::Sum);
    let left_column = new_column("breakdown", &table, "left", kind)?;
    let share_column = new_column("breakdown", &table, "share", ColumnKind::Number)?;
    let Some(begin) = table.rows.first().map(|row| row[value].clone()) else {
        table.columns.extend([left_column, share_column]);
        return Ok(table.into());
    };
    let mut left = begin.clone();
    let mut roles = Vec::new();
    for (place, row) in table.rows.iter_mut().enumerate() {
        stop::check();
        // A reduction that is not known takes nothing away, and says so by being missing.
        if place > 0 && row[value] != Value::Missing {
            left = less(&left, &row[value]);
        }
        let share = share(&row[value], &begin);
        row[value] = amount::fitted(row[value].clone(), kind);
        row.push(amount::fitted(left.clone(), kind));
        row.push(share);
        roles.push(if place == 0 { Role::Total } else { Role::Plain });
    }
    table.columns[value].kind = kind;
    table.columns.extend([left_column, share_column]);
    let mut last = vec![Value::Missing; table.columns.len()];
    last[label] = Value::Text(after.to_owned());
    last[value] = amount::fitted(left.clone(), kind);
    let width = last.len();
    last[width - 2] = amount::fitted(left.clone(), kind);
    last[width - 1] = share(&left, &begin);
    table.rows.push(last);
    roles.push(Role::Total);
    Ok(Figures {
        table,
        roles,
        ..Figures::default()
    })
}
