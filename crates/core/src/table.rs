//! The one shape in which data travels from sources to documents: typed columns and rows.

use chrono::{DateTime, NaiveDate, SecondsFormat, Utc};
use rust_decimal::{Decimal, prelude::ToPrimitive};
use serde::{Deserialize, Serialize};

use crate::zone::Zone;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ColumnKind {
    Boolean,
    Integer,
    /// Binary floating point.
    Number,
    /// Exact decimals, such as money.
    Decimal,
    Text,
    Instant,
    Date,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Column {
    pub name: String,
    pub kind: ColumnKind,
}

/// One cell. `Missing` is SQL's NULL: not zero, not an empty text.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    Missing,
    Boolean(bool),
    Integer(i64),
    Number(f64),
    Decimal(Decimal),
    Text(String),
    Instant(DateTime<Utc>),
    Date(NaiveDate),
}

/// Rows under typed columns. Each row has exactly one value a column.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(try_from = "Stored", into = "Stored")]
pub struct Table {
    pub columns: Vec<Column>,
    pub rows: Vec<Vec<Value>>,
    /// The source had more rows than the limit allowed to read.
    pub truncated: bool,
}

impl Value {
    /// The value as a number, if it is one; decimals lose exactness here, so only figures
    /// and charts use this.
    pub fn as_number(&self) -> Option<f64> {
        match self {
            Value::Integer(n) => Some(*n as f64),
            Value::Number(n) => n.is_finite().then_some(*n),
            Value::Decimal(n) => n.to_f64(),
            _ => None,
        }
    }

    /// The value in full precision for programs: ISO 8601 times with the zone's offset,
    /// numbers with a point and no grouping, nothing for a missing value.
    pub fn exact(&self, zone: Zone) -> String {
        match self {
            Value::Missing => String::new(),
            Value::Boolean(b) => b.to_string(),
            Value::Integer(n) => n.to_string(),
            Value::Number(n) => n.to_string(),
            Value::Decimal(n) => n.to_string(),
            Value::Text(text) => text.clone(),
            Value::Instant(at) => zone.rfc3339(*at),
            Value::Date(date) => date.to_string(),
        }
    }
}

impl ColumnKind {
    pub fn is_numeric(self) -> bool {
        matches!(self, Self::Integer | Self::Number | Self::Decimal)
    }

    pub fn name(self) -> &'static str {
        match self {
            Self::Boolean => "boolean",
            Self::Integer => "integer",
            Self::Number => "number",
            Self::Decimal => "decimal",
            Self::Text => "text",
            Self::Instant => "instant",
            Self::Date => "date",
        }
    }
}

impl Table {
    pub fn column(&self, name: &str) -> Option<usize> {
        self.columns.iter().position(|column| column.name == name)
    }
}

/// How a table is kept: exact decimals and times as text under the column's kind.
#[derive(Serialize, Deserialize)]
struct Stored {
    columns: Vec<Column>,
    rows: Vec<Vec<serde_json::Value>>,
    #[serde(default)]
    truncated: bool,
}

#[derive(Debug, thiserror::Error)]
#[error("row {row}, column \"{column}\" does not hold a {kind}")]
struct BadCell {
    row: usize,
    column: String,
    kind: &'static str,
}

impl From<Table> for Stored {
    fn from(table: Table) -> Self {
        let cell = |value: Value| match value {
            Value::Missing => serde_json::Value::Null,
            Value::Boolean(b) => b.into(),
            Value::Integer(n) => n.into(),
            // JSON has no NaN; a number that is not finite is kept by its name.
            Value::Number(n) if !n.is_finite() => n.to_string().into(),
            Value::Number(n) => n.into(),
            Value::Decimal(n) => n.to_string().into(),
            Value::Text(text) => text.into(),
            Value::Instant(at) => at.to_rfc3339_opts(SecondsFormat::AutoSi, true).into(),
            Value::Date(date) => date.to_string().into(),
        };
        Stored { columns: table.columns, rows: table.rows.into_iter().map(|row| row.into_iter().map(cell).collect()).collect(), truncated: table.truncated }
    }
}

impl TryFrom<Stored> for Table {
    type Error = String;

    fn try_from(stored: Stored) -> Result<Self, String> {
        let mut rows = Vec::with_capacity(stored.rows.len());
        for (index, cells) in stored.rows.into_iter().enumerate() {
            if cells.len() != stored.columns.len() {
                return Err(format!("row {index} has {} cells under {} columns", cells.len(), stored.columns.len()));
            }
            let row: Result<Vec<Value>, BadCell> = cells
                .into_iter()
                .zip(&stored.columns)
                .map(|(cell, column)| read_cell(cell, column.kind).ok_or_else(|| BadCell { row: index, column: column.name.clone(), kind: column.kind.name() }))
                .collect();
            rows.push(row.map_err(|error| error.to_string())?);
        }
        Ok(Table { columns: stored.columns, rows, truncated: stored.truncated })
    }
}

fn read_cell(cell: serde_json::Value, kind: ColumnKind) -> Option<Value> {
    if cell.is_null() {
        return Some(Value::Missing);
    }
    let text = || cell.as_str();
    Some(match kind {
        ColumnKind::Boolean => Value::Boolean(cell.as_bool()?),
        ColumnKind::Integer => Value::Integer(cell.as_i64()?),
        ColumnKind::Number => Value::Number(cell.as_f64().or_else(|| text()?.parse().ok())?),
        ColumnKind::Decimal => Value::Decimal(text()?.parse().ok()?),
        ColumnKind::Text => Value::Text(text()?.to_owned()),
        ColumnKind::Instant => Value::Instant(text()?.parse().ok()?),
        ColumnKind::Date => Value::Date(text()?.parse().ok()?),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_is_read_back_exactly_as_it_was_kept() {
        let kinds =
            [ColumnKind::Boolean, ColumnKind::Integer, ColumnKind::Number, ColumnKind::Decimal, ColumnKind::Text, ColumnKind::Instant, ColumnKind::Date];
        let table = Table {
            columns: kinds.iter().map(|kind| Column { name: kind.name().into(), kind: *kind }).collect(),
            rows: vec![
                vec![
                    Value::Boolean(true),
                    Value::Integer(i64::MAX),
                    Value::Number(0.1),
                    Value::Decimal("1234.500".parse().unwrap()),
                    Value::Text("=1+1".into()),
                    Value::Instant("2026-10-25T00:30:00.123456Z".parse().unwrap()),
                    Value::Date("2028-02-29".parse().unwrap()),
                ],
                vec![Value::Missing; 7],
                [vec![Value::Missing; 2], vec![Value::Number(f64::INFINITY)], vec![Value::Missing; 4]].concat(),
            ],
            truncated: true,
        };
        let text = serde_json::to_string(&table).unwrap();
        assert_eq!(serde_json::from_str::<Table>(&text).unwrap(), table);
    }

    #[test]
    fn a_cell_of_another_kind_is_refused() {
        let text = r#"{"columns":[{"name":"n","kind":"integer"}],"rows":[["x"]]}"#;
        let error = serde_json::from_str::<Table>(text).unwrap_err().to_string();
        assert!(error.contains("row 0, column \"n\" does not hold a integer"), "{error}");
    }
}
