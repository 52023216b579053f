//! Rows as they are read and kept: packed, so that a million of them fit beside the rest, and
//! written to and read from JSON a row at a time.

use std::{borrow::Cow, fmt, sync::Arc};

use chrono::{DateTime, NaiveDate, SecondsFormat};
use lz4_flex::block::{compress_prepend_size, decompress_size_prepended};
use postcard::ser_flavors::Flavor;
use rust_decimal::Decimal;
use serde::{
    Deserialize, Deserializer, Serialize, Serializer,
    de::{DeserializeSeed, Error, IgnoredAny, MapAccess, SeqAccess, Visitor},
    ser::{SerializeSeq, SerializeStruct},
};

use crate::{
    stop,
    table::{CellRef, Column, ColumnKind, Table, Value},
};

/// How many bytes of rows are packed into one piece. A full one is compressed, for rows are much like
/// those before them, and shared between copies.
const PIECE: usize = 256 * 1024;

/// A [`Table`] whose rows can only be added and walked. A copy shares them.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct PackedTable {
    /// What stands in each row, in this order.
    pub columns: Vec<Column>,
    full: Vec<Arc<[u8]>>,
    open: Vec<u8>,
    count: usize,
    /// How many bytes the full pieces had before they were compressed.
    packed: usize,
    /// The source had more rows than the limit allowed to read.
    pub truncated: bool,
}

/// A [`Value`] as it is packed.
#[derive(Serialize, Deserialize)]
enum Cell<'a> {
    Missing,
    Boolean(bool),
    Integer(i64),
    Number(f64),
    Decimal([u8; 16]),
    Text(&'a str),
    /// Seconds since 1970 and nanoseconds; a leap second has more than a thousand million.
    Instant(i64, u32),
    /// Days since the first of January of the year 1.
    Date(i32),
}

/// Puts what is packed behind what is there.
struct Behind<'b>(&'b mut Vec<u8>);

impl Flavor for Behind<'_> {
    type Output = ();

    fn try_extend(&mut self, bytes: &[u8]) -> postcard::Result<()> {
        self.0.extend_from_slice(bytes);
        Ok(())
    }

    fn try_push(&mut self, byte: u8) -> postcard::Result<()> {
        self.0.push(byte);
        Ok(())
    }

    fn finalize(self) -> postcard::Result<()> {
        Ok(())
    }
}

impl<'a> From<CellRef<'a>> for Cell<'a> {
    fn from(cell: CellRef<'a>) -> Self {
        use chrono::Datelike;
        match cell {
            CellRef::Missing => Self::Missing,
            CellRef::Boolean(b) => Self::Boolean(b),
            CellRef::Integer(n) => Self::Integer(n),
            CellRef::Number(n) => Self::Number(n),
            CellRef::Decimal(n) => Self::Decimal(n.serialize()),
            CellRef::Text(text) => Self::Text(text),
            CellRef::Instant(at) => Self::Instant(at.timestamp(), at.timestamp_subsec_nanos()),
            CellRef::Date(date) => Self::Date(date.num_days_from_ce()),
        }
    }
}

impl<'a> From<Cell<'a>> for CellRef<'a> {
    fn from(cell: Cell<'a>) -> Self {
        match cell {
            Cell::Missing => Self::Missing,
            Cell::Boolean(b) => Self::Boolean(b),
            Cell::Integer(n) => Self::Integer(n),
            Cell::Number(n) => Self::Number(n),
            Cell::Decimal(bytes) => Self::Decimal(Decimal::deserialize(bytes)),
            Cell::Text(text) => Self::Text(text),
            // Only what was an instant or a date has been packed as one.
            Cell::Instant(seconds, nanoseconds) => {
                DateTime::from_timestamp(seconds, nanoseconds).map_or(Self::Missing, Self::Instant)
            }
            Cell::Date(days) => {
                NaiveDate::from_num_days_from_ce_opt(days).map_or(Self::Missing, Self::Date)
            }
        }
    }
}

impl PackedTable {
    /// A table without rows.
    #[must_use]
    pub fn new(columns: Vec<Column>) -> Self {
        Self {
            columns,
            ..Self::default()
        }
    }

    /// How many rows it has.
    #[must_use]
    pub fn len(&self) -> usize {
        self.count
    }

    /// Whether it has no row.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.count == 0
    }

    /// How many bytes its rows take, before they are compressed: a measure that does not depend on what
    /// they say.
    #[must_use]
    pub fn size(&self) -> usize {
        self.packed + self.open.len()
    }

    /// The place of the column of this name.
    #[must_use]
    pub fn column(&self, name: &str) -> Option<usize> {
        self.columns.iter().position(|column| column.name == name)
    }

    /// Adds a row: one value a column.
    pub fn push(&mut self, row: &[Value]) {
        debug_assert_eq!(row.len(), self.columns.len());
        row.iter().for_each(|value| self.pack(value.into()));
        self.end_row();
    }

    /// Adds a row of cells that are read as they are asked for: one a column.
    ///
    /// # Errors
    /// The first cell's that cannot be read, with its column; nothing is added then.
    pub fn push_read<'r, E>(
        &mut self,
        read: impl Fn(usize) -> Result<CellRef<'r>, E>,
    ) -> Result<(), (usize, E)> {
        let before = self.open.len();
        for column in 0..self.columns.len() {
            match read(column) {
                Ok(cell) => self.pack(cell),
                Err(error) => {
                    self.open.truncate(before);
                    return Err((column, error));
                }
            }
        }
        self.end_row();
        Ok(())
    }

    fn pack(&mut self, cell: CellRef<'_>) {
        // Writing to memory cannot fail, and every cell has a packed form.
        let packed = postcard::serialize_with_flavor(&Cell::from(cell), Behind(&mut self.open));
        debug_assert!(packed.is_ok());
    }

    /// What was packed since the last one is a row.
    fn end_row(&mut self) {
        self.count += 1;
        if self.open.len() >= PIECE {
            self.packed += self.open.len();
            self.full.push(compress_prepend_size(&self.open).into());
            self.open.clear();
        }
    }

    /// The rows in order, each unpacked as it comes.
    #[must_use]
    pub fn rows(&self) -> Rows<'_> {
        Rows {
            table: self,
            piece: 0,
            open: self.piece(0),
            at: 0,
            left: self.count,
        }
    }

    /// The rows of one piece; after the full ones comes the open one.
    fn piece(&self, number: usize) -> Cow<'_, [u8]> {
        match self.full.get(number) {
            // What was compressed here can be read here; of nothing else there is a piece.
            Some(piece) => decompress_size_prepended(piece).unwrap_or_default().into(),
            None => Cow::Borrowed(&self.open),
        }
    }

    /// How many pieces its rows are kept in. Pieces can be walked side by side, see
    /// [`PackedTable::each_row_of`].
    #[must_use]
    pub fn pieces(&self) -> usize {
        self.full.len() + usize::from(!self.open.is_empty())
    }

    /// Walks over the rows of one piece, in order; there are none in a piece that is not there.
    ///
    /// # Errors
    /// The first that `each` gives back; the walk ends there.
    pub fn each_row_of<E>(
        &self,
        piece: usize,
        mut each: impl FnMut(&[CellRef<'_>]) -> Result<(), E>,
    ) -> Result<(), E> {
        if piece >= self.pieces() {
            return Ok(());
        }
        let bytes = self.piece(piece);
        let (mut rest, mut row) = (&*bytes, Vec::with_capacity(self.columns.len()));
        while !rest.is_empty() {
            row.clear();
            for _ in &self.columns {
                // What was packed here can be read here.
                let Ok((cell, after)) = postcard::take_from_bytes::<Cell<'_>>(rest) else {
                    return Ok(());
                };
                row.push(CellRef::from(cell));
                rest = after;
            }
            each(&row)?;
        }
        Ok(())
    }

    /// These columns alone, in this order.
    #[must_use]
    pub fn select(&self, columns: &[usize]) -> Self {
        if columns.iter().copied().eq(0..self.columns.len()) {
            return self.clone();
        }
        let mut picked = Self {
            truncated: self.truncated,
            ..Self::new(
                columns
                    .iter()
                    .map(|index| self.columns[*index].clone())
                    .collect(),
            )
        };
        let mut row = Vec::with_capacity(columns.len());
        for all in self.rows() {
            row.clear();
            row.extend(columns.iter().map(|index| all[*index].clone()));
            picked.push(&row);
        }
        picked
    }
}

impl From<Table> for PackedTable {
    fn from(table: Table) -> Self {
        let mut packed = Self {
            truncated: table.truncated,
            ..Self::new(table.columns)
        };
        table.rows.iter().for_each(|row| packed.push(row));
        packed
    }
}

impl From<PackedTable> for Table {
    fn from(packed: PackedTable) -> Self {
        let rows = packed.rows().collect();
        Table {
            columns: packed.columns,
            rows,
            truncated: packed.truncated,
        }
    }
}

/// A table is stored as it is when packed.
impl Serialize for Table {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        PackedTable::from(self.clone()).serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for Table {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        PackedTable::deserialize(deserializer).map(Table::from)
    }
}

/// Walks over packed rows; see [`PackedTable::rows`].
pub struct Rows<'a> {
    table: &'a PackedTable,
    piece: usize,
    /// The rows of that piece, and up to where they are read.
    open: Cow<'a, [u8]>,
    at: usize,
    left: usize,
}

impl Rows<'_> {
    /// Puts the next row into `row`, which saves a list for each; false after the last.
    pub fn next_into(&mut self, row: &mut Vec<Value>) -> bool {
        stop::check();
        row.clear();
        if self.left == 0 {
            return false;
        }
        while self.at == self.open.len() && self.piece < self.table.full.len() {
            self.piece += 1;
            self.open = self.table.piece(self.piece);
            self.at = 0;
        }
        let mut rest = &self.open[self.at..];
        for _ in &self.table.columns {
            // What was packed here can be read here.
            let Ok((cell, after)) = postcard::take_from_bytes::<Cell<'_>>(rest) else {
                return false;
            };
            row.push(CellRef::from(cell).into());
            rest = after;
        }
        self.at = self.open.len() - rest.len();
        self.left -= 1;
        true
    }
}

impl Iterator for Rows<'_> {
    type Item = Vec<Value>;

    fn next(&mut self) -> Option<Vec<Value>> {
        let mut row = Vec::with_capacity(self.table.columns.len());
        self.next_into(&mut row).then_some(row)
    }

    fn size_hint(&self) -> (usize, Option<usize>) {
        (self.left, Some(self.left))
    }
}

/// A cell in JSON: exact decimals and times as text, under the kind of their column.
struct Json<'a>(CellRef<'a>);

impl Serialize for Json<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        match self.0 {
            CellRef::Missing => to.serialize_unit(),
            CellRef::Boolean(b) => to.serialize_bool(b),
            CellRef::Integer(n) => to.serialize_i64(n),
            // JSON has no NaN; a number that is not finite is kept by its name.
            CellRef::Number(n) if !n.is_finite() => to.collect_str(&n),
            CellRef::Number(n) => to.serialize_f64(n),
            CellRef::Decimal(n) => to.collect_str(&n),
            CellRef::Text(text) => to.serialize_str(text),
            CellRef::Instant(at) => {
                to.serialize_str(&at.to_rfc3339_opts(SecondsFormat::AutoSi, true))
            }
            CellRef::Date(date) => to.collect_str(&date),
        }
    }
}

struct JsonRow<'a>(&'a [CellRef<'a>]);

impl Serialize for JsonRow<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_seq(self.0.iter().copied().map(Json))
    }
}

struct JsonRows<'a>(&'a PackedTable);

impl Serialize for JsonRows<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut list = to.serialize_seq(Some(self.0.len()))?;
        for piece in 0..self.0.pieces() {
            self.0.each_row_of(piece, |row| {
                stop::check();
                list.serialize_element(&JsonRow(row))
            })?;
        }
        list.end()
    }
}

impl Serialize for PackedTable {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut table = to.serialize_struct("Table", 3)?;
        table.serialize_field("columns", &self.columns)?;
        table.serialize_field("rows", &JsonRows(self))?;
        table.serialize_field("truncated", &self.truncated)?;
        table.end()
    }
}

/// Reads a cell under a column of a kind.
#[derive(Clone, Copy)]
struct OfKind(ColumnKind);

impl<'de> DeserializeSeed<'de> for OfKind {
    type Value = Value;

    fn deserialize<D: Deserializer<'de>>(self, from: D) -> Result<Value, D::Error> {
        from.deserialize_any(self)
    }
}

impl Visitor<'_> for OfKind {
    type Value = Value;

    fn expecting(&self, to: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(to, "a cell of kind {}", self.0.name())
    }

    fn visit_unit<E: Error>(self) -> Result<Value, E> {
        Ok(Value::Missing)
    }

    fn visit_bool<E: Error>(self, b: bool) -> Result<Value, E> {
        if self.0 == ColumnKind::Boolean {
            Ok(Value::Boolean(b))
        } else {
            Err(E::invalid_type(serde::de::Unexpected::Bool(b), &self))
        }
    }

    fn visit_i64<E: Error>(self, n: i64) -> Result<Value, E> {
        match self.0 {
            ColumnKind::Integer => Ok(Value::Integer(n)),
            ColumnKind::Number => Ok(Value::Number(n as f64)),
            _ => Err(E::invalid_type(serde::de::Unexpected::Signed(n), &self)),
        }
    }

    fn visit_u64<E: Error>(self, n: u64) -> Result<Value, E> {
        match i64::try_from(n) {
            Ok(n) => self.visit_i64(n),
            Err(_) => self.visit_f64(n as f64),
        }
    }

    fn visit_f64<E: Error>(self, n: f64) -> Result<Value, E> {
        if self.0 == ColumnKind::Number {
            Ok(Value::Number(n))
        } else {
            Err(E::invalid_type(serde::de::Unexpected::Float(n), &self))
        }
    }

    fn visit_str<E: Error>(self, text: &str) -> Result<Value, E> {
        let read = match self.0 {
            ColumnKind::Number => text.parse().ok().map(Value::Number),
            ColumnKind::Decimal => text.parse().ok().map(Value::Decimal),
            ColumnKind::Text => Some(Value::Text(text.to_owned())),
            ColumnKind::Instant => text.parse().ok().map(Value::Instant),
            ColumnKind::Date => text.parse().ok().map(Value::Date),
            ColumnKind::Boolean | ColumnKind::Integer => None,
        };
        read.ok_or_else(|| E::invalid_value(serde::de::Unexpected::Str(text), &self))
    }
}

/// Reads rows into a table that knows its columns.
struct RowsInto<'t>(&'t mut PackedTable);

/// Reads one row into a list that is used again for each.
struct OneRow<'t>(&'t [Column], usize, &'t mut Vec<Value>);

impl<'de> DeserializeSeed<'de> for OneRow<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, from: D) -> Result<(), D::Error> {
        from.deserialize_seq(self)
    }
}

impl<'de> Visitor<'de> for OneRow<'_> {
    type Value = ();

    fn expecting(&self, to: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(to, "row {} with {} cells", self.1, self.0.len())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut cells: A) -> Result<(), A::Error> {
        self.2.clear();
        for column in self.0 {
            let cell = cells
                .next_element_seed(OfKind(column.kind))
                .map_err(|error| {
                    A::Error::custom(format!(
                        "row {}, column \"{}\": {error}",
                        self.1, column.name
                    ))
                })?;
            self.2.push(cell.ok_or_else(|| {
                A::Error::custom(format!(
                    "row {} has {} cells under {} columns",
                    self.1,
                    self.2.len(),
                    self.0.len()
                ))
            })?);
        }
        match cells.next_element::<IgnoredAny>()? {
            Some(_) => Err(A::Error::custom(format!(
                "row {} has more than {} cells",
                self.1,
                self.0.len()
            ))),
            None => Ok(()),
        }
    }
}

impl<'de> DeserializeSeed<'de> for RowsInto<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, from: D) -> Result<(), D::Error> {
        from.deserialize_seq(self)
    }
}

impl<'de> Visitor<'de> for RowsInto<'_> {
    type Value = ();

    fn expecting(&self, to: &mut fmt::Formatter<'_>) -> fmt::Result {
        to.write_str("a list of rows")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut rows: A) -> Result<(), A::Error> {
        let mut row = Vec::with_capacity(self.0.columns.len());
        while rows
            .next_element_seed(OneRow(&self.0.columns, self.0.count, &mut row))?
            .is_some()
        {
            stop::check();
            self.0.push(&row);
        }
        Ok(())
    }
}

impl<'de> Deserialize<'de> for PackedTable {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Whole;

        impl<'de> Visitor<'de> for Whole {
            type Value = PackedTable;

            fn expecting(&self, to: &mut fmt::Formatter<'_>) -> fmt::Result {
                to.write_str("a table with columns and rows")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut keys: A) -> Result<PackedTable, A::Error> {
                let (mut table, mut known, mut early) = (PackedTable::default(), false, None);
                while let Some(key) = keys.next_key::<String>()? {
                    match key.as_str() {
                        "columns" => (table.columns, known) = (keys.next_value()?, true),
                        "rows" if known => keys.next_value_seed(RowsInto(&mut table))?,
                        // What has lost the order of its keys is kept until the columns are known.
                        "rows" => early = Some(keys.next_value::<serde_json::Value>()?),
                        "truncated" => table.truncated = keys.next_value()?,
                        _ => drop(keys.next_value::<IgnoredAny>()?),
                    }
                }
                if !known {
                    return Err(A::Error::missing_field("columns"));
                }
                if let Some(rows) = early {
                    RowsInto(&mut table)
                        .deserialize(rows)
                        .map_err(A::Error::custom)?;
                }
                Ok(table)
            }
        }

        from.deserialize_map(Whole)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::{Column, ColumnKind, Table, Value};

    fn every_kind() -> Table {
        let kinds = [
            ColumnKind::Boolean,
            ColumnKind::Integer,
            ColumnKind::Number,
            ColumnKind::Decimal,
            ColumnKind::Text,
            ColumnKind::Instant,
            ColumnKind::Date,
        ];
        Table {
            columns: kinds
                .iter()
                .map(|kind| Column {
                    name: kind.name().into(),
                    kind: *kind,
                })
                .collect(),
            rows: vec![
                vec![
                    Value::Boolean(true),
                    Value::Integer(i64::MIN),
                    Value::Number(0.1),
                    Value::Decimal("1234.500".parse().unwrap()),
                    Value::Text("=1+1 “Nólsoy”".into()),
                    Value::Instant("2026-10-25T00:30:00.123456Z".parse().unwrap()),
                    Value::Date("2028-02-29".parse().unwrap()),
                ],
                vec![Value::Missing; 7],
                [
                    vec![Value::Missing; 2],
                    vec![Value::Number(f64::INFINITY)],
                    vec![Value::Missing; 4],
                ]
                .concat(),
                vec![
                    Value::Boolean(false),
                    Value::Integer(i64::MAX),
                    Value::Number(-0.0),
                    Value::Decimal(Decimal::MIN),
                    Value::Text(String::new()),
                    Value::Instant("0001-01-01T00:00:00Z".parse().unwrap()),
                    Value::Date("-0044-03-15".parse().unwrap()),
                ],
            ],
            truncated: true,
        }
    }

    #[test]
    fn a_table_is_unpacked_as_it_was_packed() {
        let table = every_kind();
        let packed = PackedTable::from(table.clone());
        assert_eq!((packed.len(), Table::from(packed)), (4, table));
    }

    #[test]
    fn rows_of_many_pieces_come_back_in_order() {
        let mut packed = PackedTable::new(vec![
            Column {
                name: "n".into(),
                kind: ColumnKind::Integer,
            },
            Column {
                name: "text".into(),
                kind: ColumnKind::Text,
            },
        ]);
        for n in 0..50_000 {
            packed.push(&[Value::Integer(n), Value::Text("x".repeat(n as usize % 40))]);
        }
        assert!(packed.full.len() > 3, "{} pieces", packed.full.len());
        let copy = packed.clone();
        for (n, row) in copy.rows().enumerate() {
            assert_eq!(
                row,
                [Value::Integer(n as i64), Value::Text("x".repeat(n % 40))]
            );
        }
        assert_eq!(copy.rows().count(), 50_000);
        let held: usize = packed.full.iter().map(|piece| piece.len()).sum();
        assert!(
            held < packed.size() / 2,
            "{held} of {} bytes",
            packed.size()
        );
        let mut walked = 0;
        for piece in 0..copy.pieces() + 1 {
            let each = |row: &[CellRef<'_>]| {
                assert_eq!(row[0], CellRef::Integer(walked));
                walked += 1;
                if walked == 45_000 {
                    Err(walked)
                } else {
                    Ok(())
                }
            };
            if let Err(last) = copy.each_row_of(piece, each) {
                assert_eq!((last, walked), (45_000, 45_000));
                walked = 50_000;
                break;
            }
        }
        assert_eq!(walked, 50_000);
        let texts = packed.select(&[1]);
        assert_eq!(
            (texts.len(), texts.rows().nth(39_999).unwrap()),
            (50_000, vec![Value::Text("x".repeat(39_999 % 40))])
        );
    }

    #[test]
    fn a_row_with_a_cell_that_cannot_be_read_is_not_added() {
        let mut packed = PackedTable::new(every_kind().columns[1..3].to_vec());
        let before = packed.clone();
        let read = |column| match column {
            0 => Ok(CellRef::Integer(1)),
            _ => Err("torn"),
        };
        assert_eq!(packed.push_read(read), Err((1, "torn")));
        assert_eq!((&packed, packed.pieces()), (&before, 0));
        let whole = |column| Ok::<_, ()>([CellRef::Integer(7), CellRef::Missing][column]);
        packed.push_read(whole).unwrap();
        assert_eq!((packed.len(), packed.pieces()), (1, 1));
        assert_eq!(
            packed.rows().next().unwrap(),
            [Value::Integer(7), Value::Missing]
        );
    }

    #[test]
    fn a_table_of_no_columns_and_one_of_no_rows_are_empty() {
        assert_eq!(PackedTable::default().rows().count(), 0);
        let packed = PackedTable::new(vec![Column {
            name: "n".into(),
            kind: ColumnKind::Integer,
        }]);
        assert_eq!(
            serde_json::to_string(&packed).unwrap(),
            r#"{"columns":[{"name":"n","kind":"integer"}],"rows":[],"truncated":false}"#
        );
    }

    #[test]
    fn a_table_is_read_back_from_json_exactly() {
        let table = every_kind();
        let text = serde_json::to_string(&table).unwrap();
        assert_eq!(serde_json::from_str::<Table>(&text).unwrap(), table);
        // A database may put the keys in another order.
        let (columns, rest) = text
            .strip_prefix('{')
            .unwrap()
            .split_once(",\"rows\"")
            .unwrap();
        let turned = format!("{{\"rows\"{},{columns}}}", rest.strip_suffix('}').unwrap());
        assert_eq!(serde_json::from_str::<Table>(&turned).unwrap(), table);
    }

    #[test]
    fn a_row_that_does_not_fit_its_columns_is_refused() {
        let read = |rows: &str| {
            serde_json::from_str::<Table>(&format!(
                r#"{{"columns":[{{"name":"n","kind":"integer"}}],"rows":{rows}}}"#
            ))
            .unwrap_err()
            .to_string()
        };
        assert!(
            read(r#"[[1],["x"]]"#).contains(
                "row 1, column \"n\": invalid value: string \"x\", expected a cell of kind integer"
            ),
            "{}",
            read(r#"[[1],["x"]]"#)
        );
        assert!(
            read("[[]]").contains("row 0 has 0 cells under 1 columns"),
            "{}",
            read("[[]]")
        );
        assert!(
            read("[[1,2]]").contains("row 0 has more than 1 cells"),
            "{}",
            read("[[1,2]]")
        );
    }

    proptest::proptest! {
        /// To the last bit: what is read back is what a CSV will say.
        #[test]
        fn numbers_are_read_back_exactly(numbers in proptest::collection::vec(proptest::num::f64::NORMAL | proptest::num::f64::SUBNORMAL | proptest::num::f64::ZERO, 1..50)) {
            let columns = vec![Column { name: "n".into(), kind: ColumnKind::Number }];
            let table = Table { columns, rows: numbers.iter().map(|n| vec![Value::Number(*n)]).collect(), truncated: false };
            let read: Table = serde_json::from_slice(&serde_json::to_vec(&table).unwrap()).unwrap();
            proptest::prop_assert_eq!(read, table);
        }
    }
}
