//! CSV by RFC 4180: UTF-8, CRLF, full precision, ISO 8601 times with offset, one file a table.

use std::{fmt::Write as _, io::Write};

use csv::{QuoteStyle, Terminator, WriterBuilder};
use maple_lark_data::Value;
use maple_lark_definition::CsvForm;
use maple_lark_document::document::DataTable;

use crate::RenderError;

/// Writes one table, a row at a time, so that its length costs no memory.
pub fn write_csv(data: &DataTable, form: CsvForm, mut to: impl Write) -> Result<(), RenderError> {
    if form.byte_order_mark {
        to.write_all("\u{feff}".as_bytes())?;
    }
    // A table of one column writes a missing value as "", for a blank line would be no row.
    let mut writer = WriterBuilder::new()
        .terminator(Terminator::CRLF)
        .quote_style(QuoteStyle::Necessary)
        .buffer_capacity(1 << 16)
        .from_writer(to);
    let led = |text: &str| is_formula(text) && !form.formulas_as_they_are;
    writer.write_record(data.headings.iter().map(|heading| {
        if led(heading) {
            format!("'{heading}")
        } else {
            heading.clone()
        }
    }))?;
    let (mut rows, mut row, mut cell) = (data.table.rows(), Vec::new(), String::new());
    while rows.next_into(&mut row) {
        for value in &row {
            cell.clear();
            match value {
                Value::Text(text) if led(text) => {
                    cell.push('\'');
                    cell.push_str(text);
                }
                Value::Text(text) => cell.push_str(text),
                // Writing to a text cannot fail.
                Value::Integer(n) => drop(write!(cell, "{n}")),
                Value::Number(n) => drop(write!(cell, "{n}")),
                Value::Decimal(n) => drop(write!(cell, "{n}")),
                other => cell.push_str(&other.exact(data.zone)),
            }
            writer.write_field(&cell)?;
        }
        writer.write_record(None::<&[u8]>)?;
    }
    Ok(writer.flush()?)
}

/// Whether a spreadsheet would run the text as a formula, in some language. Only texts are led
/// by an apostrophe then: a negative number is a number.
fn is_formula(text: &str) -> bool {
    text.starts_with(['=', '+', '-', '@', '\t', '\r', '\n', '＝', '＋', '－', '＠'])
}
