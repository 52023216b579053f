//! CSV by RFC 4180: UTF-8, CRLF, full precision, ISO 8601 times with offset, one file a table.

use csv::{QuoteStyle, Terminator, WriterBuilder};
use maple_lark_core::{
    Value,
    document::{DataTable, Document},
};

use crate::RenderError;

/// Every table of the document with its file name. A document without tables has none.
pub fn csv_files(document: &Document) -> Result<Vec<(String, Vec<u8>)>, RenderError> {
    document.data.iter().map(|data| Ok((data.file_name.clone(), file(data)?))).collect()
}

fn file(data: &DataTable) -> Result<Vec<u8>, RenderError> {
    let mut writer = WriterBuilder::new().terminator(Terminator::CRLF).quote_style(QuoteStyle::Necessary).from_writer(Vec::new());
    writer.write_record(data.headings.iter().map(|heading| safe(heading.clone())))?;
    for row in &data.table.rows {
        writer.write_record(row.iter().map(|value| match value {
            Value::Text(text) => safe(text.clone()),
            other => other.exact(data.zone),
        }))?;
    }
    writer.into_inner().map_err(|error| RenderError::Csv(error.into_error().into()))
}

/// A text that a spreadsheet would run as a formula is led by an apostrophe. Only texts are:
/// a negative number is a number.
fn safe(text: String) -> String {
    if text.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{text}") } else { text }
}
