//! Definitions: the TOML files that say what a source, a dashboard or a report is.
//!
//! A file is parsed once, here, into values that are valid; nothing behind this module sees
//! raw TOML. [`DefinitionSet::check`] then looks at what files say of one another.

mod dashboard;
pub mod edit;
mod reader;
mod report;
mod schedule;
mod set;
mod source;

use serde::{Deserialize, Serialize};

pub use dashboard::{Block, BlockKind, ColumnHint, Dashboard, Parameter, ParameterKind, ParameterValue, Query, Section, Width};
pub use reader::{Place, Placed, Problem};
pub use report::{AtDeadline, Audience, BadMailbox, Format, Mailbox, OnFailedBlock, Readiness, Report, SendWhen};
pub use set::DefinitionSet;
pub use source::{PostgresqlSource, Setting, Source, SourceKind, Tls, split_address};

use reader::{Node, Reader};

use crate::{calendar::Calendar, schedule::Schedule, window::WindowRule, zone::Zone};

/// What a definition file defines.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    Source,
    Dashboard,
    Report,
    Calendar,
}

impl Kind {
    pub const ALL: [Kind; 4] = [Kind::Source, Kind::Dashboard, Kind::Report, Kind::Calendar];

    pub fn name(self) -> &'static str {
        match self {
            Kind::Source => "source",
            Kind::Dashboard => "dashboard",
            Kind::Report => "report",
            Kind::Calendar => "calendar",
        }
    }

    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }
}

/// A parsed definition.
#[derive(Debug, Clone, PartialEq)]
pub enum Definition {
    Source(Source),
    Dashboard(Dashboard),
    Report(Box<Report>),
    Calendar(Calendar),
}

impl Definition {
    pub fn kind(&self) -> Kind {
        match self {
            Definition::Source(_) => Kind::Source,
            Definition::Dashboard(_) => Kind::Dashboard,
            Definition::Report(_) => Kind::Report,
            Definition::Calendar(_) => Kind::Calendar,
        }
    }

    pub fn name(&self) -> &str {
        match self {
            Definition::Source(source) => &source.name,
            Definition::Dashboard(dashboard) => &dashboard.name,
            Definition::Report(report) => &report.name,
            Definition::Calendar(calendar) => &calendar.name,
        }
    }

    pub fn title(&self) -> &str {
        match self {
            Definition::Source(source) => &source.title,
            Definition::Dashboard(dashboard) => &dashboard.title,
            Definition::Report(report) => &report.title,
            Definition::Calendar(calendar) => &calendar.title,
        }
    }

    pub fn place(&self) -> &Place {
        match self {
            Definition::Source(source) => &source.place,
            Definition::Dashboard(dashboard) => &dashboard.place,
            Definition::Report(report) => &report.place,
            Definition::Calendar(calendar) => &calendar.place,
        }
    }

    /// Parses one file: iCalendar if its name ends in `.ics`, else TOML.
    ///
    /// # Errors
    /// Every problem found in the file, in the order of its lines; never an empty list.
    pub fn parse(file: &str, text: &str) -> Result<Self, Vec<Problem>> {
        if file.ends_with(".ics") {
            return Calendar::parse(file, text).map(Definition::Calendar);
        }
        let reader = Reader::new(file, text);
        let document = match toml_edit::Document::parse(text) {
            Ok(document) => document,
            Err(error) => {
                reader.report(error.span().map_or(0, |span| span.start), "", error.message().trim().replace('\n', "; "));
                return Err(reader.into_problems());
            }
        };
        let parsed = {
            let root = Node::new(&reader, document.as_table(), "", 0);
            let present: Vec<Kind> = [Kind::Source, Kind::Dashboard, Kind::Report].into_iter().filter(|kind| root.has(kind.name())).collect();
            match present[..] {
                [Kind::Source] => source::read(&root).map(Definition::Source),
                [Kind::Dashboard] => dashboard::read(&root).map(Definition::Dashboard),
                [Kind::Report] => report::read(&root).map(Box::new).map(Definition::Report),
                [] => {
                    reader.report(0, "", "the file defines nothing; it must have one of the tables [source], [dashboard] or [report]");
                    None
                }
                _ => {
                    reader.report(0, "", "the file defines several things; write one source, dashboard or report a file");
                    None
                }
            }
            .inspect(|_| root.close())
        };
        let problems = reader.into_problems();
        match parsed {
            Some(definition) if problems.is_empty() => Ok(definition),
            _ => Err(problems),
        }
    }
}

/// Reads a schedule and a window by themselves: TOML with `time-zone`, `[schedule]` and
/// `[window]`, the latter two with the keys of a report and both optional.
///
/// # Errors
/// As [`Definition::parse`].
pub fn schedule_and_window(file: &str, text: &str) -> Result<(Zone, Option<Schedule>, Option<WindowRule>), Vec<Problem>> {
    let reader = Reader::new(file, text);
    let document =
        toml_edit::Document::parse(text).map_err(|error| vec![reader.place(error.span().map_or(0, |span| span.start), "").problem(error.message().trim())])?;
    let found = {
        let root = Node::new(&reader, document.as_table(), "", 0);
        root.required("time-zone");
        let zone = root.parsed::<Zone>("time-zone");
        let schedule = root.table("schedule").and_then(schedule::read);
        let window = root.table("window").and_then(|node| report::read_window(node, zone));
        root.close();
        (zone, schedule, window)
    };
    match (found, reader.into_problems()) {
        ((Some(zone), schedule, window), problems) if problems.is_empty() => Ok((zone, schedule, window)),
        (_, problems) => Err(problems),
    }
}

/// Reads the `name` of a definition: what it is called everywhere, in small letters.
fn read_name(node: &Node<'_>) -> String {
    let name = node.required("name");
    if !name.value.is_empty() && !is_name(&name.value) {
        node.report("name", format!("\"{}\" is not a name: use up to 60 small letters, digits and hyphens, such as \"ferry-operations\"", name.value));
    }
    name.value
}

/// Whether a text can name a definition.
pub(crate) fn is_name(text: &str) -> bool {
    let valid = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
    !text.is_empty() && text.chars().all(valid) && text.len() <= 60 && !text.starts_with('-') && !text.ends_with('-')
}

#[cfg(test)]
mod tests;
