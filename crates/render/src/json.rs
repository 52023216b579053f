//! JSON for programs: what a document says, and its tables whole and exact. The layout is
//! described by `docs/document.schema.json`.

use maple_lark_data::{PackedTable, status::Status};
use maple_lark_document::{
    document::{Block, Body, Document, Figure, Provenance, ShownAs},
    markdown::plain,
};
use maple_lark_time::Zone;
use serde::Serialize;

use crate::RenderError;

/// The layout's version; a change that a reader would notice raises it.
pub const LAYOUT: u32 = 3;

#[derive(Serialize)]
struct Whole<'a> {
    layout: u32,
    report: &'a str,
    title: &'a str,
    run: &'a str,
    window: Window<'a>,
    filters: Vec<Named<'a>>,
    incomplete: Option<&'a str>,
    /// RFC 3339, in the report's zone.
    made_at: String,
    summary: Verdict<'a>,
    sections: Vec<Section<'a>>,
    tables: Vec<Table<'a>>,
    provenance: Vec<Asked<'a>>,
}

/// Whether things are well.
#[derive(Serialize)]
struct Verdict<'a> {
    status: Status,
    headline: &'a str,
    lines: Vec<&'a str>,
}

/// A query with where its rows are from.
#[derive(Serialize)]
struct Asked<'a> {
    query: &'a str,
    source: &'a str,
    /// RFC 3339, in the report's zone.
    asked_at: String,
    took_seconds: f64,
    rows: Option<usize>,
    sha256: &'a str,
}

#[derive(Serialize)]
struct Window<'a> {
    /// ISO 8601, `start/end`, both with their offsets.
    interval: &'a str,
    zone: Zone,
    label: &'a str,
}

#[derive(Serialize)]
struct Named<'a> {
    name: &'a str,
    value: &'a str,
}

#[derive(Serialize)]
struct Section<'a> {
    title: &'a str,
    blocks: Vec<Said<'a>>,
}

/// What a block says; its rows are among the tables.
#[derive(Serialize)]
struct Said<'a> {
    title: &'a str,
    kind: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    figures: Option<&'a [Figure]>,
    #[serde(skip_serializing_if = "Option::is_none")]
    description: Option<&'a str>,
    /// What a text says, without its markup.
    #[serde(skip_serializing_if = "Option::is_none")]
    text: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    reason: Option<&'a str>,
}

#[derive(Serialize)]
struct Table<'a> {
    title: &'a str,
    shown_as: ShownAs,
    headings: &'a [String],
    #[serde(flatten)]
    table: &'a PackedTable,
}

pub fn json(document: &Document) -> Result<Vec<u8>, RenderError> {
    let front = &document.front;
    let whole = Whole {
        layout: LAYOUT,
        report: &document.report,
        title: &document.title,
        run: &front.run_id,
        window: Window {
            // The zone has a field of its own.
            interval: front.window_machine.split('[').next().unwrap_or_default(),
            zone: document.zone,
            label: &front.window_label,
        },
        filters: front
            .filters
            .iter()
            .map(|(name, value)| Named { name, value })
            .collect(),
        incomplete: front.incomplete.as_deref(),
        made_at: chrono::DateTime::from_timestamp(front.made_at_seconds, 0)
            .map(|at| document.zone.rfc3339(at))
            .unwrap_or_default(),
        summary: Verdict {
            status: document.summary.status,
            headline: &document.summary.headline,
            lines: document
                .summary
                .lines
                .iter()
                .map(|line| line.text.as_str())
                .collect(),
        },
        sections: document
            .sections
            .iter()
            .map(|section| Section {
                title: &section.title,
                blocks: section.blocks.iter().map(said).collect(),
            })
            .collect(),
        tables: document
            .data
            .iter()
            .map(|data| Table {
                title: &data.title,
                shown_as: data.shown_as,
                headings: &data.headings,
                table: &data.table,
            })
            .collect(),
        provenance: document
            .provenance
            .iter()
            .map(|from| asked(from, document.zone))
            .collect(),
    };
    serde_json::to_vec(&whole).map_err(|error| RenderError::File(error.into()))
}

fn asked(from: &Provenance, zone: Zone) -> Asked<'_> {
    Asked {
        query: &from.query,
        source: &from.source,
        asked_at: zone.rfc3339(from.asked),
        took_seconds: from.seconds,
        rows: from.count,
        sha256: from.sha256.as_str(),
    }
}

fn said(block: &Block) -> Said<'_> {
    let mut said = Said {
        title: &block.title,
        kind: "",
        figures: None,
        description: None,
        text: None,
        reason: None,
    };
    match &block.body {
        Body::Figures { figures } => {
            (said.kind, said.figures) = ("figures", Some(figures.as_slice()))
        }
        Body::Chart { chart } => {
            (said.kind, said.description) = ("chart", Some(chart.description.as_str()))
        }
        Body::Table { .. } => said.kind = "table",
        Body::Text { parts } => (said.kind, said.text) = ("text", Some(plain(parts))),
        Body::Image { description, .. } => {
            (said.kind, said.description) = ("image", Some(description.as_str()))
        }
        Body::Page { parts, address, .. } => {
            let said_by_parts: Vec<&str> =
                parts.iter().map(|part| part.description.as_str()).collect();
            (said.kind, said.text) = ("page", Some(said_by_parts.join("\n")));
            said.description = Some(address.as_str());
        }
        Body::PageBreak => said.kind = "page-break",
        Body::Empty { sentence, .. } => {
            (said.kind, said.description) = ("empty", Some(sentence.as_str()))
        }
        Body::Failed { reason } => (said.kind, said.reason) = ("failed", Some(reason.as_str())),
    }
    said
}
