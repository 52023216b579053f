//! CSV by RFC 4180: UTF-8, CRLF, full precision, ISO 8601 times with offset, one file a table.

use std::io::Write;

use csv::{QuoteStyle, Terminator, WriterBuilder};
use maple_lark_data::{CellRef, stop};
use maple_lark_definition::CsvForm;
use maple_lark_document::document::DataTable;

use crate::{
    RenderError,
    threads::{both, side_by_side},
};

/// So many pieces of a table are written beside each other, so that its length costs no memory.
const TOGETHER: usize = 8;

/// Writes one table, in the order of its rows.
pub fn write_csv(
    data: &DataTable,
    form: CsvForm,
    mut to: impl Write + Send,
) -> Result<(), RenderError> {
    if form.byte_order_mark {
        to.write_all("\u{feff}".as_bytes())?;
    }
    let mut writer = writer();
    for heading in &data.headings {
        write_text(&mut writer, heading, form)?;
    }
    writer.write_record(None::<&[u8]>)?;
    to.write_all(&bytes_of(writer)?)?;
    let pieces = data.table.pieces();
    let next = |first: usize| {
        let numbers = first.min(pieces)..pieces.min(first + TOGETHER);
        side_by_side(numbers, |piece| rows_of(data, form, piece))
    };
    let mut ready = next(0);
    for first in (TOGETHER..pieces + TOGETHER).step_by(TOGETHER) {
        // Whoever takes them may pack them, which takes as long as writing the next.
        let (written, following) = both(|| written(ready, &mut to), || next(first));
        written?;
        ready = following;
    }
    Ok(to.flush()?)
}

/// Writes parts in their order, up to the first that could not be made.
fn written(
    parts: Vec<Result<Vec<u8>, RenderError>>,
    to: &mut impl Write,
) -> Result<(), RenderError> {
    for part in parts {
        to.write_all(&part?)?;
    }
    Ok(())
}

fn writer() -> csv::Writer<Vec<u8>> {
    // A table of one column writes a missing value as "", for a blank line would be no row.
    WriterBuilder::new()
        .terminator(Terminator::CRLF)
        .quote_style(QuoteStyle::Necessary)
        .from_writer(Vec::new())
}

fn bytes_of(writer: csv::Writer<Vec<u8>>) -> Result<Vec<u8>, RenderError> {
    Ok(writer.into_inner().map_err(|error| error.into_error())?)
}

/// The rows of one piece of a table.
fn rows_of(data: &DataTable, form: CsvForm, piece: usize) -> Result<Vec<u8>, RenderError> {
    stop::check();
    let (mut writer, mut written) = (writer(), String::new());
    data.table.each_row_of(piece, |row| {
        for cell in row {
            if let CellRef::Text(text) = cell {
                write_text(&mut writer, text, form)?;
                continue;
            }
            written.clear();
            // Writing to a text cannot fail.
            let _ = cell.write_exact(data.zone, &mut written);
            writer.write_field(&written)?;
        }
        writer.write_record(None::<&[u8]>)
    })?;
    bytes_of(writer)
}

/// A text; one that a spreadsheet would run as a formula is led by an apostrophe.
fn write_text(
    writer: &mut csv::Writer<Vec<u8>>,
    text: &str,
    form: CsvForm,
) -> Result<(), csv::Error> {
    if is_formula(text) && !form.formulas_as_they_are {
        writer.write_field(format!("'{text}"))
    } else {
        writer.write_field(text)
    }
}

/// Whether a spreadsheet would run the text as a formula, in some language. Only texts are led
/// by an apostrophe then: a negative number is a number.
fn is_formula(text: &str) -> bool {
    text.starts_with(['=', '+', '-', '@', '\t', '\r', '\n', '＝', '＋', '－', '＠'])
}

#[cfg(test)]
mod tests {
    use maple_lark_data::{Column, ColumnKind, PackedTable, Unit, Value};
    use maple_lark_document::document::ShownAs;
    use maple_lark_time::Zone;

    use super::*;

    #[test]
    fn rows_of_many_pieces_are_written_in_their_order() {
        let column = |name: &str, kind| Column {
            name: name.to_owned(),
            kind,
        };
        let mut table = PackedTable::new(vec![
            column("n", ColumnKind::Integer),
            column("text", ColumnKind::Text),
        ]);
        let long = "x".repeat(200);
        for n in 0..30_000 {
            table.push(&[
                Value::Integer(n),
                Value::Text(format!("=row {n}, \"quoted\" {long}")),
            ]);
        }
        assert!(table.pieces() > 2 * TOGETHER, "{} pieces", table.pieces());
        let data = DataTable {
            title: "Rows".to_owned(),
            file_name: "rows.csv".to_owned(),
            headings: vec!["n".to_owned(), "text".to_owned()],
            titles: vec!["n".to_owned(), "text".to_owned()],
            units: vec![Unit::None; 2],
            shown_as: ShownAs::Table,
            is_file: true,
            table,
            zone: Zone::UTC,
        };
        let mut bytes = Vec::new();
        write_csv(&data, CsvForm::default(), &mut bytes).unwrap();
        let mut reader = csv::Reader::from_reader(&bytes[..]);
        let mut rows = 0;
        for (n, record) in reader.records().enumerate() {
            let record = record.unwrap();
            assert_eq!(record[0], n.to_string());
            assert_eq!(record[1], format!("'=row {n}, \"quoted\" {long}"));
            rows += 1;
        }
        assert_eq!(rows, 30_000);
    }
}
