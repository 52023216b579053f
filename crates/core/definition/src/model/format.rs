//! The formats of documents.

use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Format {
    Pdf,
    Html,
    Csv,
    Xlsx,
    Json,
    Txt,
    Png,
}

impl Format {
    pub const ALL: [Format; 7] = [
        Format::Pdf,
        Format::Html,
        Format::Csv,
        Format::Xlsx,
        Format::Json,
        Format::Txt,
        Format::Png,
    ];

    /// Its name, which is also the ending of its files.
    pub fn name(self) -> &'static str {
        match self {
            Format::Pdf => "pdf",
            Format::Html => "html",
            Format::Csv => "csv",
            Format::Xlsx => "xlsx",
            Format::Json => "json",
            Format::Txt => "txt",
            Format::Png => "png",
        }
    }

    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|format| format.name() == name)
    }

    pub fn media_type(self) -> &'static str {
        match self {
            Format::Pdf => "application/pdf",
            Format::Html => "text/html; charset=utf-8",
            Format::Csv => "text/csv; charset=utf-8; header=present",
            Format::Xlsx => "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
            Format::Json => "application/json",
            Format::Txt => "text/plain; charset=utf-8",
            Format::Png => "image/png",
        }
    }
}
