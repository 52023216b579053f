//! Turns a snapshot into the one document that every format is written from.
//!
//! A pure function: the same snapshot gives the same document. What is wrong with the data
//! (a failed query, a column that is not there) is said in the block's place.

pub mod answers;
pub mod axis;
pub mod blocks;
mod cannot_show;
pub mod charts;
pub mod column;
pub mod figures;
mod page;
mod past;
pub mod run_values;
pub mod summary;
pub mod table;

pub use cannot_show::CannotShow;

use std::collections::{BTreeSet, HashMap};

use maple_lark_data::{Unit, number_format::NumberFormat};
use maple_lark_definition::{
    BlockKind, Dashboard, NameValues, Parameter, RecipientFormat, Report, Template, Theme, Width,
};
use maple_lark_time::Window;

use crate::{
    capture::Capture,
    compose::{past::Past, run_values::message_values},
    document::{Body, DataTable, Document, Front, Place, Provenance, RowsDigest, Section},
    markdown,
    snapshot::{BadSnapshot, Frozen, Outcome, QueryRecord, Snapshot},
};

/// Palette positions by series name, in order of first appearance in the document.
#[derive(Default)]
pub(crate) struct Colours(HashMap<String, usize>);

impl Colours {
    fn of(&mut self, name: &str) -> usize {
        let next = self.0.len();
        *self.0.entry(name.to_owned()).or_insert(next)
    }
}

/// What composing one block may read and add to.
pub(crate) struct Context<'a> {
    snapshot: &'a Snapshot,
    dashboard: &'a Dashboard,
    number_format: NumberFormat,
    two_across: bool,
    colours: Colours,
    data: Vec<DataTable>,
    /// Whether the rows of charts are files where nothing else is said.
    charts_are_files: bool,
    file_stem: String,
    /// What is past its limits.
    past: Past,
    /// What is to be said of the rows of the block at hand.
    notes: Vec<String>,
    /// What has been said in a block before.
    said: BTreeSet<String>,
}

impl Context<'_> {
    /// A block's own remark with what there is to say of how its rows came about, which is said
    /// in the first block that they stand in.
    fn with_notes(&mut self, own: Option<String>) -> Option<String> {
        let notes = std::mem::take(&mut self.notes).into_iter();
        let new = notes.filter(|note| self.said.insert(note.clone()));
        let all: Vec<String> = own.into_iter().chain(new).collect();
        (!all.is_empty()).then(|| all.join(" "))
    }
}

/// Composes the document of a snapshot.
///
/// # Errors
/// Only if the definitions frozen in the snapshot cannot be read, which means that the
/// snapshot was altered or is of another version.
pub fn compose(snapshot: &Snapshot) -> Result<Document, BadSnapshot> {
    compose_for(snapshot, &RecipientFormat::default())
}

/// The same document as one person reads it: with numbers and dates written their way, and
/// the window told in their time zone beside the report's.
///
/// # Errors
/// As [`compose`].
pub fn compose_for(snapshot: &Snapshot, format: &RecipientFormat) -> Result<Document, BadSnapshot> {
    let Frozen {
        mut report,
        dashboards,
        theme,
    } = snapshot.definitions()?;
    report.number_format = format.number_format.unwrap_or(report.number_format);
    let Composed {
        sections,
        failed,
        data,
        file_stem,
        past,
    } = composed(snapshot, &report, &dashboards, &theme);
    let mut document = Document {
        language: "en".to_owned(),
        report: report.name.clone(),
        title: report.title.clone(),
        front: front(snapshot, &report, &dashboards, format),
        summary: summary::summarise(&sections, &failed, snapshot.incomplete.as_deref(), past),
        sections,
        provenance: snapshot
            .queries
            .iter()
            .map(|record| provenance(record, snapshot, report.number_format))
            .collect(),
        data,
        file_stem,
        packing: report.files.packing,
        theme,
        zone: snapshot.window.zone,
        number_format: report.number_format,
        failed,
        interactive: report.interactive,
    };
    merge_texts(&mut document, snapshot, &dashboards);
    Ok(document)
}

/// The sections of a document with what came of them.
struct Composed {
    sections: Vec<Section>,
    /// The titles of blocks that stand empty, with the reasons.
    failed: Vec<(String, String)>,
    data: Vec<DataTable>,
    file_stem: String,
    past: Past,
}

fn composed(
    snapshot: &Snapshot,
    report: &Report,
    dashboards: &[Dashboard],
    theme: &Theme,
) -> Composed {
    let mut composed = Composed {
        sections: Vec::new(),
        failed: Vec::new(),
        data: Vec::new(),
        file_stem: file_stem(report, snapshot, dashboards),
        past: Past::default(),
    };
    let mut colours = Colours::default();
    let mut blocks = dashboards
        .iter()
        .flat_map(|dashboard| &dashboard.sections)
        .flat_map(|section| &section.blocks);
    let has_table = blocks.any(|block| matches!(block.kind, BlockKind::Table { .. }));
    for dashboard in dashboards {
        let mut context = Context {
            snapshot,
            dashboard,
            number_format: report.number_format,
            two_across: theme.two_across,
            colours,
            data: std::mem::take(&mut composed.data),
            charts_are_files: !has_table,
            file_stem: composed.file_stem.clone(),
            past: std::mem::take(&mut composed.past),
            notes: Vec::new(),
            said: BTreeSet::new(),
        };
        for section in &dashboard.sections {
            let section = compose_section(section, composed.sections.len(), &mut context);
            let failed = section.blocks.iter().filter_map(|block| match &block.body {
                Body::Failed { reason } => Some((block.title.clone(), reason.clone())),
                _ => None,
            });
            composed.failed.extend(failed);
            composed.sections.push(section);
        }
        colours = context.colours;
        composed.data = context.data;
        composed.past = context.past;
    }
    composed
}

fn compose_section(
    section: &maple_lark_definition::Section,
    number: usize,
    context: &mut Context<'_>,
) -> Section {
    let blocks = section.blocks.iter().enumerate();
    let mut composed = Section {
        title: section.title.clone(),
        text: Vec::new(),
        blocks: blocks
            .map(|(place, block)| {
                context.past.is_at(Place {
                    section: number,
                    block: place,
                });
                blocks::compose_block(block, context)
            })
            .collect(),
    };
    // What the theme would have put beside another, but has nothing beside it, takes the page.
    for row in composed.rows() {
        if row.len() == 1 && section.blocks[row.start].width.is_none() {
            composed.blocks[row.start].width = Width::FULL;
        }
    }
    composed
}

/// What is said before all else, as one person reads it.
fn front(
    snapshot: &Snapshot,
    report: &Report,
    dashboards: &[Dashboard],
    format: &RecipientFormat,
) -> Front {
    let window = &snapshot.window;
    let zone = window.zone;
    let dates = report.number_format.date_form();
    let own = format.zone.filter(|own| *own != zone).map(|own| Window {
        zone: own,
        ..window.clone()
    });
    let parameters = dashboards
        .iter()
        .flat_map(|dashboard| &dashboard.parameters);
    let filter = |parameter: &Parameter| {
        let value = snapshot.values.get(&parameter.name)?;
        Some((parameter.title.clone(), value.readable()))
    };
    let mut sources: Vec<String> = snapshot
        .queries
        .iter()
        .map(|record| record.source_title.clone())
        .collect();
    sources.sort();
    sources.dedup();
    let made_at = zone.readable_in(snapshot.made_at, dates);
    let scheduled_for = zone.readable_in(snapshot.scheduled_for, dates);
    Front {
        window_label: window.label_in(dates),
        window_exact: match own {
            Some(own) => format!(
                "{}; in your time {}",
                window.exact_in_words(dates),
                own.exact_in_words(dates)
            ),
            None => window.exact_in_words(dates),
        },
        window_machine: window.exact(),
        compared_with: report
            .window
            .comparison(window)
            .map(|window| window.label_in(dates)),
        incomplete: snapshot.incomplete.clone(),
        archive_head: snapshot.archive_head.clone(),
        filters: parameters.filter_map(filter).collect(),
        sources,
        scheduled_for: (scheduled_for != made_at).then_some(scheduled_for),
        made_at,
        made_at_seconds: snapshot.made_at.timestamp(),
        run_id: snapshot.run_id.clone(),
        zone_rules: snapshot
            .zone_rules
            .as_ref()
            .map(|rules| rules.version.clone()),
    }
}

/// Reads the texts of sections and blocks, with the values that they name: figures and status
/// are known only when all else is composed.
fn merge_texts(document: &mut Document, snapshot: &Snapshot, dashboards: &[Dashboard]) {
    let values = message_values(snapshot, document, None);
    let read = |text: &str| {
        // Most texts name nothing. One that was saved before it was checked is shown as it is.
        let merged = text
            .contains('{')
            .then(|| run_values::render_text(&Template::new(text.to_owned()), values.clone()).ok())
            .flatten();
        markdown::read(merged.as_deref().unwrap_or(text))
    };
    let written = dashboards.iter().flat_map(|dashboard| &dashboard.sections);
    for (section, written) in document.sections.iter_mut().zip(written) {
        section.text = written.text.as_deref().map(read).unwrap_or_default();
        for (block, written) in section.blocks.iter_mut().zip(&written.blocks) {
            if let (Body::Text { parts }, BlockKind::Text(text)) = (&mut block.body, &written.kind)
            {
                *parts = read(text);
            }
        }
    }
}

/// What all file names begin with. The parameter values that are not their defaults are a
/// part of it unless the author says otherwise, so that the files of two audiences have
/// different names.
fn file_stem(report: &Report, snapshot: &Snapshot, dashboards: &[Dashboard]) -> String {
    let parameters = dashboards
        .iter()
        .flat_map(|dashboard| &dashboard.parameters);
    let chosen = parameters.filter_map(|parameter| {
        snapshot
            .values
            .get(&parameter.name)
            .filter(|value| parameter.default.as_ref() != Some(value))
    });
    let values: Vec<String> = chosen.map(|value| slug(&value.readable())).collect();
    let edge = |at| {
        snapshot
            .window
            .zone
            .local(at)
            .format("%Y-%m-%dT%H%M")
            .to_string()
    };
    report.files.stem(&NameValues {
        report: &report.name,
        title: &report.title,
        window: &snapshot.window.file_stamp(),
        from: &edge(snapshot.window.from),
        to: &edge(snapshot.window.to),
        run: &snapshot.run_id,
        values: &values.join("_"),
    })
}

fn provenance(
    record: &QueryRecord,
    snapshot: &Snapshot,
    number_format: NumberFormat,
) -> Provenance {
    let seconds = (record.ended - record.started)
        .num_microseconds()
        .unwrap_or(0)
        .max(0) as f64
        / 1e6;
    let count = match &record.outcome {
        Outcome::Rows(table) => Some(table.len()),
        Outcome::Failed(_) => None,
    };
    let (rows, sha256) = match &record.outcome {
        Outcome::Rows(table) => {
            let more = if table.truncated { "first " } else { "" };
            // What is to be known of a page stands with the page.
            let note = record.note.as_ref().filter(|_| record.capture.is_none());
            let note = note.map(|note| format!("; {note}")).unwrap_or_default();
            (
                format!(
                    "{more}{}{note}",
                    number_format.number(table.len() as f64, 0)
                ),
                RowsDigest::of(table),
            )
        }
        Outcome::Failed(_) => ("failed".to_owned(), RowsDigest::default()),
    };
    Provenance {
        query: format!("{} / {}", record.dashboard, record.name),
        source: record.source_title.clone(),
        asked_at: {
            let asked = snapshot.window.zone.local(record.started);
            format!(
                "{} {}",
                number_format.date(asked.date()),
                asked.format("%H:%M:%S")
            )
        },
        took: Unit::Milliseconds.format(seconds * 1000.0, number_format),
        rows,
        detail: record
            .capture
            .as_ref()
            .map(|capture| captured(capture, record.note.as_deref(), number_format)),
        asked: record.started,
        seconds,
        count,
        sha256,
    }
}

/// What is said of a captured page.
fn captured(capture: &Capture, note: Option<&str>, number_format: NumberFormat) -> String {
    let milliseconds = capture.finished_after_milliseconds as f64;
    let finished = Unit::Milliseconds.format(milliseconds, number_format);
    let note = note.map(|note| format!("; {note}")).unwrap_or_default();
    format!(
        "The page {}, finished after {finished}, as {} showed it{note}",
        capture.address, capture.browser
    )
}

/// Small letters, digits and hyphens: safe in a file name on every system.
#[must_use]
pub fn slug(text: &str) -> String {
    let mut out = String::new();
    for c in text.to_lowercase().chars() {
        if c.is_ascii_alphanumeric() {
            out.push(c);
        } else if !out.ends_with('-') && !out.is_empty() {
            out.push('-');
        }
    }
    let out = out.trim_end_matches('-');
    if out.is_empty() {
        "table".to_owned()
    } else {
        out.chars().take(60).collect()
    }
}

#[cfg(test)]
mod tests;
