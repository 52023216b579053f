//! Writes a composed document as PDF, HTML, CSV and as the body of a mail.
//!
//! Every function here is pure: no clock, no network, no database, no files. The same
//! document gives the same bytes.

mod answering;
mod archive;
mod chart;
mod csv;
mod fonts;
mod html;
mod json;
mod mail;
mod opendocument;
mod palette;
mod pdf;
mod png;
mod sheets;
mod text;
mod threads;
mod workbook;
mod xml;

use std::io::Write;

use archive::Growing;
use maple_lark_definition::{Format, Zip};
use maple_lark_document::{
    chart::{Chart, Plot},
    document::{Block, Body, Document, Section, ShownTable},
};

pub use answering::script_policy;
pub use archive::together;
pub use csv::write_csv;
pub use fonts::provide_fonts;
pub use html::{html, html_of_blocks};
pub use mail::{Context, InlineImage, MailBody, mail_body};
pub use pdf::{first_page, first_page_small, pdf};
pub use png::chart_alone;
pub use text::text;

/// A rendered file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rendered {
    pub format: Format,
    pub file_name: String,
    pub media_type: &'static str,
    pub bytes: Vec<u8>,
}

#[derive(Debug, thiserror::Error)]
pub enum RenderError {
    #[error("the PDF could not be laid out: {0}")]
    Layout(String),
    #[error("an image could not be made: {0}")]
    Image(String),
    #[error("the HTML could not be written: {0}")]
    Html(#[from] minijinja::Error),
    #[error("the CSV could not be written: {0}")]
    Csv(#[from] ::csv::Error),
    #[error("the workbook could not be written: {0}")]
    Workbook(String),
    #[error("a file could not be put together: {0}")]
    File(#[from] std::io::Error),
}

/// More tables than this go into one zip, unless the author wants none.
const MANY: usize = 10;

/// The document as the files of one format: one CSV for each table, one file of any other.
pub fn render(document: &Document, format: Format) -> Result<Vec<Rendered>, RenderError> {
    let (zip, made_at) = (document.packing.zip, document.front.made_at_seconds);
    let rendered = |(file_name, bytes): (String, Vec<u8>)| {
        let media_type = if file_name.ends_with(".zip") {
            "application/zip"
        } else {
            format.media_type()
        };
        Rendered {
            format,
            file_name,
            media_type,
            bytes,
        }
    };
    let bytes = match format {
        Format::Pdf => pdf(document)?,
        Format::Html => html(document)?.into_bytes(),
        Format::Xlsx => workbook::workbook(document)?,
        Format::Ods => opendocument::opendocument(document)?,
        Format::Json => json::json(document)?,
        Format::Xml => xml::xml(&json::json(document)?, json::LAYOUT)?,
        Format::Txt => text(document).into_bytes(),
        Format::Png => first_page(document)?,
        Format::Csv if document.files().count() > MANY && zip != Zip::Never => {
            let mut files = Vec::new();
            for data in document.files() {
                let mut bytes = Vec::new();
                write_csv(data, document.packing.csv, &mut bytes)?;
                files.push((data.file_name.clone(), bytes));
            }
            return Ok(vec![rendered((
                format!("{}.csv.zip", document.file_stem),
                together(&files, made_at)?,
            ))]);
        }
        Format::Csv => {
            let mut files = Vec::new();
            for data in document.files() {
                let mut file = Growing::new(data.file_name.clone(), zip, made_at)?;
                write_csv(data, document.packing.csv, &mut file)?;
                files.push(rendered(file.finish()?));
            }
            return Ok(files);
        }
    };
    let mut file = Growing::new(
        format!("{}.{}", document.file_stem, format.name()),
        zip,
        made_at,
    )?;
    file.write_all(&bytes)?;
    Ok(vec![rendered(file.finish()?)])
}

/// The document as template values: without the raw data, which only CSV needs, and without
/// the points of charts, which templates get as finished pictures.
fn template_values(document: &Document) -> serde_json::Value {
    values(document, without_points)
}

/// The same without the rows of tables, of which there may be thousands.
fn template_values_without_rows(document: &Document) -> serde_json::Value {
    values(document, |body| match body {
        Body::Table { table } => Body::Table {
            table: ShownTable {
                headings: table.headings.clone(),
                rows: Vec::new(),
                sums_up: table.sums_up.clone(),
                cut: table.cut.clone(),
                file: table.file.clone(),
                judged: table.judged,
            },
        },
        other => without_points(other),
    })
}

fn values(document: &Document, body: impl Fn(&Body) -> Body) -> serde_json::Value {
    let sections = document.sections.iter().map(|section| Section {
        title: section.title.clone(),
        text: section.text.clone(),
        blocks: section
            .blocks
            .iter()
            .map(|block| Block {
                body: body(&block.body),
                title: block.title.clone(),
                note: block.note.clone(),
                width: block.width,
            })
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
        packing: document.packing,
        theme: document.theme.clone(),
        zone: document.zone,
        number_format: document.number_format,
        failed: document.failed.clone(),
        interactive: document.interactive,
    };
    // Every part of a document has a JSON form.
    serde_json::to_value(slim).unwrap_or_default()
}

/// An address as people read it: where it leads, without what is asked there.
fn place(address: &str) -> &str {
    let place = address.split(['?', '#']).next().unwrap_or(address);
    place.split_once("://").map_or(place, |(_, rest)| rest)
}

fn without_points(body: &Body) -> Body {
    match body {
        Body::Chart { chart } => {
            let plot = Plot::Boxes { boxes: Vec::new() };
            Body::Chart {
                chart: Chart {
                    axis: chart.axis.clone(),
                    limits: chart.limits.clone(),
                    description: chart.description.clone(),
                    judged: chart.judged,
                    plot,
                },
            }
        }
        other => other.clone(),
    }
}

#[cfg(test)]
mod tests;
