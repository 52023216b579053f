//! The columns that an operation names, and the rows that they tell apart.

use maple_lark_time::nearest::suggestion;

use crate::{
    figures::error::FigureError,
    stop,
    table::{Column, ColumnKind, Table, Value},
};

/// The position of a column.
pub fn column(operation: &'static str, table: &Table, name: &str) -> Result<usize, FigureError> {
    table.column(name).ok_or_else(|| {
        let known: Vec<&str> = table
            .columns
            .iter()
            .map(|column| column.name.as_str())
            .collect();
        FigureError::NoColumn {
            operation,
            column: name.to_owned(),
            suggestion: suggestion(name, known.iter().copied()),
            known: known.join(", "),
        }
    })
}

pub fn columns(
    operation: &'static str,
    table: &Table,
    names: &[String],
) -> Result<Vec<usize>, FigureError> {
    names
        .iter()
        .map(|name| column(operation, table, name))
        .collect()
}

/// The position of a column of numbers. One of nothing but missing values is taken as such.
pub fn numbers(operation: &'static str, table: &Table, name: &str) -> Result<usize, FigureError> {
    let index = column(operation, table, name)?;
    let kind = table.columns[index].kind;
    if kind.is_numeric() || table.rows.iter().all(|row| row[index] == Value::Missing) {
        Ok(index)
    } else {
        Err(FigureError::Kind {
            operation,
            column: name.to_owned(),
            kind: kind.name(),
            wanted: "numbers",
        })
    }
}

/// The positions of the named columns of numbers, or of every one that is not in `except`.
pub fn number_columns(
    operation: &'static str,
    table: &Table,
    names: &[String],
    except: &[usize],
) -> Result<Vec<usize>, FigureError> {
    if !names.is_empty() {
        return names
            .iter()
            .map(|name| numbers(operation, table, name))
            .collect();
    }
    let found: Vec<usize> = (0..table.columns.len())
        .filter(|index| table.columns[*index].kind.is_numeric() && !except.contains(index))
        .collect();
    if found.is_empty() && !table.rows.is_empty() {
        return Err(FigureError::Other {
            operation,
            reason: "there is no column of numbers".to_owned(),
        });
    }
    Ok(found)
}

pub fn new_column(
    operation: &'static str,
    table: &Table,
    name: &str,
    kind: ColumnKind,
) -> Result<Column, FigureError> {
    match table.column(name) {
        Some(_) => Err(FigureError::Taken {
            operation,
            column: name.to_owned(),
        }),
        None => Ok(Column {
            name: name.to_owned(),
            kind,
        }),
    }
}

/// A value that tells rows apart: equal values have equal keys.
pub fn key(value: &Value) -> String {
    match value {
        Value::Missing => String::new(),
        // 1 and 1.0 are the same key, whatever type two sources give their numbers.
        Value::Integer(_) | Value::Number(_) | Value::Decimal(_) => {
            format!("n{}", value.as_number().unwrap_or(f64::NAN))
        }
        Value::Boolean(b) => format!("b{b}"),
        Value::Text(text) => format!("t{text}"),
        Value::Instant(at) => format!("i{}", at.timestamp_micros()),
        Value::Date(date) => format!("d{date}"),
    }
}

pub fn keys(row: &[Value], indexes: &[usize]) -> Vec<String> {
    stop::check();
    indexes.iter().map(|index| key(&row[*index])).collect()
}

/// The rows of each group, by position, in the order in which the groups first appear.
pub fn groups(table: &Table, by: &[usize]) -> Vec<Vec<usize>> {
    let mut places = std::collections::HashMap::new();
    let mut groups: Vec<Vec<usize>> = Vec::new();
    for (index, row) in table.rows.iter().enumerate() {
        let place = *places.entry(keys(row, by)).or_insert_with(|| {
            groups.push(Vec::new());
            groups.len() - 1
        });
        groups[place].push(index);
    }
    groups
}
