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

use maple_lark_core::{
    chart::{Chart, Plot},
    definition::Format,
    document::{Block, Body, Document, Section},
};

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

/// The document as template values: without the raw data, which only CSV needs, and without
/// the points of charts, which templates get as finished pictures.
fn template_values(document: &Document) -> serde_json::Value {
    let sections = document.sections.iter().map(|section| Section {
        title: section.title.clone(),
        text: section.text.clone(),
        blocks: section
            .blocks
            .iter()
            .map(|block| Block { body: without_points(&block.body), title: block.title.clone(), note: block.note.clone(), width: block.width })
            .collect(),
    });
    let slim = Document {
        language: document.language.clone(),
        report: document.report.clone(),
        title: document.title.clone(),
        front: document.front.clone(),
        summary: document.summary.clone(),
        sections: sections.collect(),
        provenance: document.provenance.clone(),
        data: Vec::new(),
        file_stem: document.file_stem.clone(),
        failed: document.failed.clone(),
    };
    // Every part of a document has a JSON form.
    serde_json::to_value(slim).unwrap_or_default()
}

fn without_points(body: &Body) -> Body {
    match body {
        Body::Chart { chart } => {
            let plot = Plot::Bars { categories: Vec::new(), series: Vec::new() };
            Body::Chart { chart: Chart { axis: chart.axis.clone(), limits: chart.limits.clone(), description: chart.description.clone(), plot } }
        }
        other => other.clone(),
    }
}

#[cfg(test)]
mod tests;
