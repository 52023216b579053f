//! Reads definitions from TOML and iCalendar text into checked values.
//!
//! A file is parsed once, here; nothing behind this module sees raw TOML.

mod ask;
mod audience;
mod block;
mod block_kind;
mod builder;
mod calendar;
mod changes;
mod channel;
mod dashboard;
mod dashboard_template;
mod deliver;
pub(crate) mod files;
mod http;
pub(crate) mod json_path;
mod keep;
mod listing;
mod message_template;
mod name;
mod node;
mod operation;
mod over_time;
mod page;
mod parameter;
mod people;
mod placeholder;
mod query;
mod readiness;
mod report;
mod sampler;
mod schedule;
mod send_when;
mod setting;
mod sftp;
mod snmp;
mod source;
mod theme;
mod width;
mod window;

use maple_lark_time::{WindowRule, Zone, schedule::Schedule};

use crate::{
    limits,
    model::{definition::Definition, kind::Kind, query::Query},
    problem::Problem,
    read::node::{Node, Reader, renamed},
};

impl Definition {
    /// Parses one file: iCalendar if its name ends in `.ics`, else TOML.
    ///
    /// # Errors
    /// Every problem found in the file, in the order of its lines; never an empty list.
    pub fn parse(file: &str, text: &str) -> Result<Self, Vec<Problem>> {
        if file.ends_with(".ics") {
            return calendar::read(file, text)
                .map(Box::new)
                .map(Definition::Calendar);
        }
        let reader = Reader::new(file, text);
        if let Err(problem) = check_size(file, text) {
            return Err(vec![problem]);
        }
        let document = match toml_edit::Document::parse(text) {
            Ok(document) => document,
            Err(error) => {
                reader.report(
                    error.span().map_or(0, |span| span.start),
                    "",
                    error.message().trim().replace('\n', "; "),
                );
                return Err(reader.into_problems());
            }
        };
        let parsed = {
            let root = Node::new(&reader, document.as_table(), "", 0);
            let in_toml = || Kind::ALL.into_iter().filter(|kind| *kind != Kind::Calendar);
            let tables = || {
                in_toml()
                    .map(|kind| format!("[{}]", kind.name()))
                    .collect::<Vec<_>>()
                    .join(", ")
            };
            let present: Vec<Kind> = in_toml().filter(|kind| root.has(kind.name())).collect();
            match present[..] {
                // Beside it stands the dashboard that it is of.
                _ if root.has(Kind::Template.name()) => dashboard_template::read(&root, text).map(Box::new).map(Definition::Template),
                [Kind::Source] => source::read(&root).map(|source| Definition::Source(Box::new(source))),
                [Kind::Dashboard] => dashboard::read(&root).map(Definition::Dashboard),
                [Kind::Report] => report::read(&root).map(Box::new).map(Definition::Report),
                [Kind::Sampler] => sampler::read(&root).map(Box::new).map(Definition::Sampler),
                [Kind::Theme] => theme::read(&root).map(Box::new).map(Definition::Theme),
                [Kind::Person] => people::read_person(&root).map(Definition::Person),
                [Kind::Group] => people::read_group(&root).map(Definition::Group),
                [Kind::Channel] => channel::read(&root).map(Box::new).map(Definition::Channel),
                [Kind::MessageTemplate] => message_template::read(&root).map(Definition::MessageTemplate),
                [] => {
                    let old = document.iter().find_map(|(key, _)| Some((key, renamed(&format!("[{key}]"))?)));
                    let now = old.map(|(old, new)| format!(" [{old}] is called {new} now.")).unwrap_or_default();
                    reader.report(0, "", format!("the file defines nothing; it must have one of the tables {}.{now}", tables()));
                    None
                }
                _ => {
                    reader.report(0, "", format!("the file defines several things; it must have one alone of the tables {}", tables()));
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

/// Refuses a text that is longer than any definition.
fn check_size(file: &str, text: &str) -> Result<(), Problem> {
    if text.len() <= limits::DEFINITION_BYTES {
        return Ok(());
    }
    let words = format!(
        "the file has {} bytes; the limit for a definition is {}",
        text.len(),
        limits::DEFINITION_BYTES
    );
    Err(Reader::new(file, "").place(0, "").problem(words))
}

/// Reads a schedule and a window by themselves: TOML with `time-zone`, `[schedule]` and
/// `[window]`, the latter two with the keys of a report and both optional.
///
/// # Errors
/// As [`Definition::parse`].
pub fn schedule_and_window(
    file: &str,
    text: &str,
) -> Result<(Zone, Option<Schedule>, Option<WindowRule>), Vec<Problem>> {
    check_size(file, text).map_err(|problem| vec![problem])?;
    let reader = Reader::new(file, text);
    let document = toml_edit::Document::parse(text).map_err(|error| {
        vec![
            reader
                .place(error.span().map_or(0, |span| span.start), "")
                .problem(error.message().trim()),
        ]
    })?;
    let found = {
        let root = Node::new(&reader, document.as_table(), "", 0);
        root.required("time-zone");
        let zone = root.parsed::<Zone>("time-zone");
        let schedule = root
            .table("schedule")
            .and_then(schedule::read)
            .map(|(schedule, _)| schedule);
        let window = root
            .table("window")
            .and_then(|node| window::read_window(node, zone));
        root.close();
        (zone, schedule, window)
    };
    match (found, reader.into_problems()) {
        ((Some(zone), schedule, window), problems) if problems.is_empty() => {
            Ok((zone, schedule, window))
        }
        (_, problems) => Err(problems),
    }
}

/// Reads a query by itself: TOML with one table `[query]`, with the keys that it has in a
/// dashboard but for its name.
///
/// # Errors
/// As [`Definition::parse`].
pub fn query_alone(file: &str, text: &str) -> Result<Query, Vec<Problem>> {
    check_size(file, text).map_err(|problem| vec![problem])?;
    let reader = Reader::new(file, text);
    let document = toml_edit::Document::parse(text).map_err(|error| {
        vec![
            reader
                .place(error.span().map_or(0, |span| span.start), "")
                .problem(error.message().trim()),
        ]
    })?;
    let found = {
        let root = Node::new(&reader, document.as_table(), "", 0);
        if !root.has("query") {
            root.report("query", "the table [query] is missing");
        }
        let query = root
            .table("query")
            .and_then(|node| query::read(node, Some("query")));
        root.close();
        query
    };
    match (found, reader.into_problems()) {
        (Some(query), problems) if problems.is_empty() => Ok(query),
        (_, problems) => Err(problems),
    }
}
