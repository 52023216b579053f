//! Which rows, in which order.

use std::cmp::Ordering;

use crate::{
    figures::{
        amount,
        columns::{column, columns, new_column, numbers},
        error::FigureError,
        rows::{Figures, Role},
    },
    natural,
    series::Aggregation,
    status::{Status, Thresholds},
    stop,
    table::{ColumnKind, Table, Value},
};

/// Which end of a column comes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Order {
    /// The highest value.
    Highest,
    /// The lowest value.
    Lowest,
}

/// What a value must be for its row to stay. A missing value never is.
#[derive(Debug, Clone, PartialEq)]
pub enum Predicate {
    /// The value is past the column's warning or critical threshold.
    PastWarning,
    /// At or past the column's critical threshold.
    PastCritical,
    /// This number or more.
    AtLeast(f64),
    /// This number or less.
    AtMost(f64),
    /// A number from the first to the second, both included.
    Between(f64, f64),
    /// The value reads as one of these.
    Is(Vec<String>),
    /// There is a value, and it reads as none of these.
    IsNot(Vec<String>),
    /// The value has this text in it, in capitals or not.
    Contains(String),
}

/// Missing values come last, whichever the order.
fn compare(a: &Value, b: &Value, order: Order) -> Ordering {
    let turned = |ordering: Ordering| {
        if order == Order::Highest {
            ordering.reverse()
        } else {
            ordering
        }
    };
    match (a, b) {
        (Value::Missing, Value::Missing) => Ordering::Equal,
        (Value::Missing, _) => Ordering::Greater,
        (_, Value::Missing) => Ordering::Less,
        (Value::Text(a), Value::Text(b)) => turned(natural::compare(a, b)),
        (Value::Instant(a), Value::Instant(b)) => turned(a.cmp(b)),
        (Value::Date(a), Value::Date(b)) => turned(a.cmp(b)),
        (Value::Boolean(a), Value::Boolean(b)) => turned(a.cmp(b)),
        (Value::Decimal(a), Value::Decimal(b)) => turned(a.cmp(b)),
        (Value::Integer(a), Value::Integer(b)) => turned(a.cmp(b)),
        (a, b) => turned(
            a.as_number()
                .unwrap_or(f64::NAN)
                .total_cmp(&b.as_number().unwrap_or(f64::NAN)),
        ),
    }
}

/// Equal rows keep their order.
pub fn sort(mut table: Table, by: &[(String, Order)]) -> Result<Table, FigureError> {
    let by = by
        .iter()
        .map(|(name, order)| Ok((column("sort", &table, name)?, *order)))
        .collect::<Result<Vec<_>, _>>()?;
    table.rows.sort_by(|a, b| {
        stop::check();
        by.iter()
            .map(|(index, order)| compare(&a[*index], &b[*index], *order))
            .find(|found| found.is_ne())
            .unwrap_or(Ordering::Equal)
    });
    Ok(table)
}

pub fn limit(mut table: Table, rows: usize) -> Table {
    table.rows.truncate(rows);
    table
}

#[expect(
    clippy::too_many_arguments,
    reason = "the keys of the operation, as a definition names them"
)]
pub fn top(
    name: &'static str,
    mut table: Table,
    rows: usize,
    of: &str,
    order: Order,
    others: Option<&str>,
    sum: &[String],
) -> Result<Figures, FigureError> {
    let of = numbers(name, &table, of)?;
    let sum = sum
        .iter()
        .map(|column| numbers(name, &table, column))
        .collect::<Result<Vec<_>, _>>()?;
    table.rows.sort_by(|a, b| compare(&a[of], &b[of], order));
    let rest = table.rows.split_off(rows.min(table.rows.len()));
    let mut roles = Vec::new();
    if let Some(label) = others.filter(|_| !rest.is_empty()) {
        let named = table
            .columns
            .iter()
            .position(|column| column.kind == ColumnKind::Text);
        let mut row: Vec<Value> = (0..table.columns.len())
            .map(|index| {
                if Some(index) == named {
                    Value::Text(label.to_owned())
                } else {
                    Value::Missing
                }
            })
            .collect();
        for index in sum {
            let kind = amount::kind_of_one(table.columns[index].kind, Aggregation::Sum);
            row[index] = amount::sum(rest.iter().map(|row| &row[index]));
            for cell in table
                .rows
                .iter_mut()
                .map(|row| &mut row[index])
                .chain([&mut row[index]])
            {
                *cell = amount::fitted(cell.clone(), kind);
            }
            table.columns[index].kind = kind;
        }
        roles = vec![Role::Plain; table.rows.len()];
        roles.push(Role::Others);
        table.rows.push(row);
    }
    Ok(Figures {
        table,
        roles,
        ..Figures::default()
    })
}

/// Places count from 1, and equal values share the better one (1, 2, 2, 4). A missing value
/// has no place.
pub fn rank(mut table: Table, of: &str, order: Order, name: &str) -> Result<Table, FigureError> {
    let of = numbers("rank", &table, of)?;
    let added = new_column("rank", &table, name, ColumnKind::Integer)?;
    let mut sorted: Vec<Value> = table
        .rows
        .iter()
        .map(|row| row[of].clone())
        .filter(|cell| *cell != Value::Missing)
        .collect();
    sorted.sort_by(|a, b| compare(a, b, order));
    for row in &mut table.rows {
        let better = sorted.partition_point(|other| compare(other, &row[of], order).is_lt());
        row.push(if row[of] == Value::Missing {
            Value::Missing
        } else {
            Value::Integer(better as i64 + 1)
        });
    }
    table.columns.push(added);
    Ok(table)
}

pub fn filter(
    mut table: Table,
    name: &str,
    when: &Predicate,
    thresholds: &dyn Fn(&str) -> Thresholds,
) -> Result<Table, FigureError> {
    let index = match when {
        Predicate::Is(_) | Predicate::IsNot(_) | Predicate::Contains(_) => {
            column("filter", &table, name)?
        }
        _ => numbers("filter", &table, name)?,
    };
    let thresholds = thresholds(name);
    let missing = match when {
        Predicate::PastWarning if thresholds.warning.is_none() => Some("warning"),
        Predicate::PastCritical if thresholds.critical.is_none() => Some("critical"),
        _ => None,
    };
    if let Some(word) = missing {
        return Err(FigureError::NoThreshold {
            operation: "filter",
            column: name.to_owned(),
            word,
        });
    }
    table.rows.retain(|row| {
        let number = row[index].as_number();
        match when {
            Predicate::PastWarning => {
                number.is_some() && thresholds.status(number) >= Status::Warning
            }
            Predicate::PastCritical => {
                number.is_some() && thresholds.status(number) == Status::Critical
            }
            Predicate::AtLeast(limit) => number.is_some_and(|number| number >= *limit),
            Predicate::AtMost(limit) => number.is_some_and(|number| number <= *limit),
            Predicate::Between(least, most) => {
                number.is_some_and(|number| (*least..=*most).contains(&number))
            }
            Predicate::Is(words) => reads_as(&row[index], words),
            Predicate::IsNot(words) => {
                row[index] != Value::Missing && !reads_as(&row[index], words)
            }
            Predicate::Contains(part) => match &row[index] {
                Value::Text(text) => text.to_lowercase().contains(&part.to_lowercase()),
                _ => false,
            },
        }
    });
    Ok(table)
}

fn reads_as(value: &Value, words: &[String]) -> bool {
    words.iter().any(|word| match value {
        Value::Text(text) => text == word,
        Value::Boolean(truth) => truth.to_string() == *word,
        value => value
            .as_number()
            .is_some_and(|number| word.parse() == Ok(number)),
    })
}

pub fn select(table: Table, names: &[String]) -> Result<Table, FigureError> {
    let indexes = columns("select", &table, names)?;
    let pick = |row: Vec<Value>| indexes.iter().map(|index| row[*index].clone()).collect();
    Ok(Table {
        columns: indexes
            .iter()
            .map(|index| table.columns[*index].clone())
            .collect(),
        rows: table.rows.into_iter().map(pick).collect(),
        truncated: table.truncated,
    })
}
