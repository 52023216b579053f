//! Writes a composed document as PDF, HTML, CSV and as the body of a mail.
//!
//! Every function here is pure: no clock, no network, no database, no files. The same
//! document gives the same bytes.

mod chart;
mod csv;
mod html;
mod mail;
mod palette;
mod pdf;
mod png;

use maple_lark_core::{definition::Format, document::Document};

pub use csv::csv_files;
pub use html::html;
pub use mail::{InlineImage, MailBody, mail_body};
pub use pdf::pdf;

/// A rendered file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rendered {
    pub format: Format,
    pub file_name: String,
    pub bytes: Vec<u8>,
}

#[derive(Debug, thiserror::Error)]
pub enum RenderError {
    #[error("the PDF could not be laid out: {0}")]
    Layout(String),
    #[error("a chart could not be drawn: {0}")]
    Chart(String),
    #[error("an image could not be made: {0}")]
    Image(String),
    #[error("the HTML could not be written: {0}")]
    Html(#[from] minijinja::Error),
    #[error("the CSV could not be written: {0}")]
    Csv(#[from] ::csv::Error),
}

/// The document as the files of one format: one PDF, one HTML file, one CSV for each table.
pub fn render(document: &Document, format: Format) -> Result<Vec<Rendered>, RenderError> {
    let one = |bytes| vec![Rendered { format, file_name: format!("{}.{}", document.file_stem, format.name()), bytes }];
    Ok(match format {
        Format::Pdf => one(pdf(document)?),
        Format::Html => one(html(document)?.into_bytes()),
        Format::Csv => csv_files(document)?.into_iter().map(|(file_name, bytes)| Rendered { format, file_name, bytes }).collect(),
    })
}

#[cfg(test)]
mod tests;
