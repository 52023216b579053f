//! Sums of cells: exact where the numbers are.

use rust_decimal::Decimal;

use crate::{
    series,
    series::Aggregation,
    table::{ColumnKind, Value},
};

/// A number as a value; what is not a number is missing.
pub fn number(value: f64) -> Value {
    if value.is_nan() {
        Value::Missing
    } else {
        Value::Number(value)
    }
}

/// The sum of the values that are there: exact for whole numbers and decimals, compensated
/// as soon as one is binary floating point. Missing if none is there.
pub fn sum<'a>(values: impl IntoIterator<Item = &'a Value> + Clone) -> Value {
    let (mut exact, mut whole, mut present) = (Some(Decimal::ZERO), true, false);
    for value in values.clone() {
        let part = match value {
            Value::Integer(n) => Some(Decimal::from(*n)),
            Value::Decimal(n) => {
                whole = false;
                Some(*n)
            }
            Value::Number(_) => None,
            _ => continue,
        };
        present = true;
        exact = exact.and_then(|total| total.checked_add(part?));
    }
    match exact {
        _ if !present => Value::Missing,
        Some(total) if whole => i64::try_from(total).map_or(Value::Decimal(total), Value::Integer),
        Some(total) => Value::Decimal(total),
        // Binary floating point among them, or past what a decimal holds.
        None => number(series::sum(values.into_iter().filter_map(Value::as_number))),
    }
}

/// Several cells as one, in the order of their rows. Least, greatest and last stay the cells
/// that they are; sums are exact; a count is whole.
pub fn one<'a>(
    values: impl IntoIterator<Item = &'a Value> + Clone,
    aggregation: Aggregation,
) -> Value {
    let compared = || {
        values
            .clone()
            .into_iter()
            .filter_map(|value| Some((value.as_number()?, value)))
    };
    match aggregation {
        Aggregation::Sum => sum(values),
        Aggregation::Count => Value::Integer(compared().count() as i64),
        Aggregation::Min => compared()
            .min_by(|a, b| a.0.total_cmp(&b.0))
            .map_or(Value::Missing, |(_, value)| value.clone()),
        Aggregation::Max => compared()
            .max_by(|a, b| a.0.total_cmp(&b.0))
            .map_or(Value::Missing, |(_, value)| value.clone()),
        Aggregation::Last => compared()
            .last()
            .map_or(Value::Missing, |(_, value)| value.clone()),
        _ => {
            let mut numbers: Vec<f64> = compared().map(|(number, _)| number).collect();
            number(series::one(&mut numbers, aggregation))
        }
    }
}

/// The kind of a column that [`one`] made of a column of `kind`.
pub fn kind_of_one(kind: ColumnKind, aggregation: Aggregation) -> ColumnKind {
    match aggregation {
        Aggregation::Count => ColumnKind::Integer,
        // A sum of many whole numbers may need more room than one has.
        Aggregation::Sum if kind == ColumnKind::Integer => ColumnKind::Decimal,
        Aggregation::Sum | Aggregation::Min | Aggregation::Max | Aggregation::Last
            if kind.is_numeric() =>
        {
            kind
        }
        _ => ColumnKind::Number,
    }
}

/// A cell as a column of `kind` holds it.
pub fn fitted(value: Value, kind: ColumnKind) -> Value {
    match (value, kind) {
        (Value::Integer(n), ColumnKind::Decimal) => Value::Decimal(n.into()),
        (value @ (Value::Integer(_) | Value::Decimal(_)), ColumnKind::Number) => {
            value.as_number().map_or(Value::Missing, Value::Number)
        }
        (value, _) => value,
    }
}
