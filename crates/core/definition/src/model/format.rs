//! The formats of documents.

use serde::{Deserialize, Serialize};

/// The formats that documents can have.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Format {
    /// A paged document (ISO 32000).
    Pdf,
    /// A page that needs no other file.
    Html,
    /// A file for each table (RFC 4180).
    Csv,
    /// A workbook with a sheet for each table (ISO/IEC 29500).
    Xlsx,
    /// The same as OpenDocument (ISO/IEC 26300), without drawn charts.
    Ods,
    /// All words and figures, for programs (RFC 8259).
    Json,
    /// The same as XML.
    Xml,
    /// Plain text.
    Txt,
    /// A picture of each page.
    Png,
}

impl Format {
    /// All formats.
    pub const ALL: [Format; 9] = [
        Format::Pdf,
        Format::Html,
        Format::Csv,
        Format::Xlsx,
        Format::Ods,
        Format::Json,
        Format::Xml,
        Format::Txt,
        Format::Png,
    ];

    /// Its name, which is also the ending of its files.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Format::Pdf => "pdf",
            Format::Html => "html",
            Format::Csv => "csv",
            Format::Xlsx => "xlsx",
            Format::Ods => "ods",
            Format::Json => "json",
            Format::Xml => "xml",
            Format::Txt => "txt",
            Format::Png => "png",
        }
    }

    /// The format of this word in definitions.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|format| format.name() == name)
    }

    /// Its media type.
    #[must_use]
    pub fn media_type(self) -> &'static str {
        match self {
            Format::Pdf => "application/pdf",
            Format::Html => "text/html; charset=utf-8",
            Format::Csv => "text/csv; charset=utf-8; header=present",
            Format::Xlsx => "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
            Format::Ods => "application/vnd.oasis.opendocument.spreadsheet",
            Format::Json => "application/json",
            Format::Xml => "application/xml",
            Format::Txt => "text/plain; charset=utf-8",
            Format::Png => "image/png",
        }
    }
}
