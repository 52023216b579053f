//! The one shape in which data travels from sources to documents: typed columns and rows.

use chrono::{DateTime, NaiveDate, Utc};
use maple_lark_time::Zone;
use rust_decimal::{Decimal, prelude::ToPrimitive};
use serde::{Deserialize, Serialize};

/// What a column holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ColumnKind {
    /// True or false.
    Boolean,
    /// Whole numbers of 64 bits.
    Integer,
    /// Binary floating point.
    Number,
    /// Exact decimals, such as money.
    Decimal,
    /// Text of any length.
    Text,
    /// Instants, in UTC.
    Instant,
    /// Days, without a zone.
    Date,
}

/// A column's name and what it holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Column {
    /// Its name, as its source gave it.
    pub name: String,
    /// What it holds. Any of its cells may be missing.
    pub kind: ColumnKind,
}

/// One cell. `Missing` is SQL's NULL: not zero, not an empty text.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// No value.
    Missing,
    /// True or false.
    Boolean(bool),
    /// A whole number.
    Integer(i64),
    /// A binary floating-point number.
    Number(f64),
    /// An exact decimal number.
    Decimal(Decimal),
    /// A text.
    Text(String),
    /// An instant, in UTC.
    Instant(DateTime<Utc>),
    /// A day, without a zone.
    Date(NaiveDate),
}

/// Rows under typed columns. Each row has exactly one value a column.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Table {
    /// What stands in each row, in this order.
    pub columns: Vec<Column>,
    /// The rows, as their source gave them.
    pub rows: Vec<Vec<Value>>,
    /// The source had more rows than the limit allowed to read.
    pub truncated: bool,
}

impl Value {
    /// The value as a number, if it is one; decimals lose exactness here, so only figures
    /// and charts use this.
    #[must_use]
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
    #[must_use]
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
    /// Whether its values can be added.
    #[must_use]
    pub fn is_numeric(self) -> bool {
        matches!(self, Self::Integer | Self::Number | Self::Decimal)
    }

    /// The word for people: `text`, `instant` and so on.
    #[must_use]
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
    /// The place of the column of this name.
    #[must_use]
    pub fn column(&self, name: &str) -> Option<usize> {
        self.columns.iter().position(|column| column.name == name)
    }
}
