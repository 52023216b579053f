//! The one shape in which data travels from sources to documents: typed columns and rows.

use std::fmt;

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
        let mut text = String::new();
        // Writing to a text cannot fail.
        let _ = CellRef::from(self).write_exact(zone, &mut text);
        text
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

/// A [`Value`] whose text is somebody else's, for walking over many rows without a copy of each.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum CellRef<'a> {
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
    Text(&'a str),
    /// An instant, in UTC.
    Instant(DateTime<Utc>),
    /// A day, without a zone.
    Date(NaiveDate),
}

impl CellRef<'_> {
    /// Writes what [`Value::exact`] says.
    ///
    /// # Errors
    /// If it cannot be written there.
    pub fn write_exact(&self, zone: Zone, to: &mut impl fmt::Write) -> fmt::Result {
        match self {
            Self::Missing => Ok(()),
            Self::Boolean(b) => write!(to, "{b}"),
            Self::Integer(n) => to.write_str(itoa::Buffer::new().format(*n)),
            Self::Number(n) => write!(to, "{n}"),
            Self::Decimal(n) => write!(to, "{n}"),
            Self::Text(text) => to.write_str(text),
            Self::Instant(at) => to.write_str(&zone.rfc3339(*at)),
            Self::Date(date) => write!(to, "{date}"),
        }
    }
}

impl<'a> From<&'a Value> for CellRef<'a> {
    fn from(value: &'a Value) -> Self {
        match value {
            Value::Missing => Self::Missing,
            Value::Boolean(b) => Self::Boolean(*b),
            Value::Integer(n) => Self::Integer(*n),
            Value::Number(n) => Self::Number(*n),
            Value::Decimal(n) => Self::Decimal(*n),
            Value::Text(text) => Self::Text(text),
            Value::Instant(at) => Self::Instant(*at),
            Value::Date(date) => Self::Date(*date),
        }
    }
}

impl From<CellRef<'_>> for Value {
    fn from(cell: CellRef<'_>) -> Self {
        match cell {
            CellRef::Missing => Self::Missing,
            CellRef::Boolean(b) => Self::Boolean(b),
            CellRef::Integer(n) => Self::Integer(n),
            CellRef::Number(n) => Self::Number(n),
            CellRef::Decimal(n) => Self::Decimal(n),
            CellRef::Text(text) => Self::Text(text.to_owned()),
            CellRef::Instant(at) => Self::Instant(at),
            CellRef::Date(date) => Self::Date(date),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cell_is_written_for_programs() {
        let zone = "Atlantic/Faroe".parse::<Zone>().unwrap();
        for (value, written) in [
            (Value::Missing, ""),
            (Value::Boolean(true), "true"),
            (Value::Integer(-7), "-7"),
            (Value::Number(0.1), "0.1"),
            (Value::Number(1e21), "1000000000000000000000"),
            (Value::Decimal("1234.500".parse().unwrap()), "1234.500"),
            (Value::Text("Nólsoy, \"x\"".into()), "Nólsoy, \"x\""),
            (
                Value::Instant("2026-10-25T00:30:00Z".parse().unwrap()),
                "2026-10-25T01:30:00+01:00",
            ),
            (Value::Date("2028-02-29".parse().unwrap()), "2028-02-29"),
        ] {
            let mut text = String::new();
            CellRef::from(&value).write_exact(zone, &mut text).unwrap();
            assert_eq!(text, written);
            assert_eq!(value.exact(zone), written);
            assert_eq!(Value::from(CellRef::from(&value)), value);
        }
    }
}
