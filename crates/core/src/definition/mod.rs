//! Definitions: the TOML files that say what a source, a dashboard or a report is.
//!
//! A file is parsed once, here, into values that are valid; nothing behind this module sees
//! raw TOML. [`DefinitionSet::check`] then looks at what files say of one another.

mod audience;
mod channel;
mod dashboard;
mod deliver;
pub mod edit;
mod files;
mod listing;
mod look;
mod operation;
mod people;
mod pick;
mod query;
mod reader;
mod report;
mod reuse;
mod sampler;
mod schedule;
mod set;
mod source;
mod width;
mod wording;

use serde::{Deserialize, Serialize};

pub use audience::{Audience, AudienceQuery, Manner, ResolvedAudience};
pub use channel::{
    Channel, ChannelKind, Dkim, FolderSettings, MailServerSettings, MailSignIn, MailTls,
    SyslogSettings, UploadSettings, WebhookSettings,
};
pub use dashboard::{
    Block, BlockKind, Dashboard, HeatBy, Parameter, ParameterKind, ParameterValue, Picture,
    Section, TrendColumn,
};
pub use deliver::{Approval, Condition, Deliver, Link, MailContent, SendWhen};
pub use files::{CsvForm, Files, NameValues, Packing, Zip};
pub use listing::Listing;
pub use look::{Look, Paper};
pub use people::{Addressee, Group, Person, Reading, Recipient};
pub use pick::Wanted;
pub use query::{
    Ask, Check, CheckKind, ColumnHint, Field, FileRows, Filter, Measure, Metrics, Origin, Pages,
    Pick, Query, Request, Sql, TimeForm,
};
pub use reader::{Place, Placed, Problem};
pub use report::{AtDeadline, BadMailbox, Format, Mailbox, OnFailedBlock, Readiness, Report};
pub use reuse::{Borrowed, Change, Changes, Limit};
pub use sampler::{Sampler, Thin};
pub use set::{DefinitionSet, Values};
pub use source::{PostgresqlSource, Setting, SignIn, Source, SourceKind, Tls, Web, split_address};
pub use width::{BadWidth, Width, rows};
pub use wording::Wording;

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
    Sampler,
    Look,
    Person,
    Group,
    Channel,
    Wording,
}

impl Kind {
    pub const ALL: [Kind; 10] = [
        Kind::Source,
        Kind::Dashboard,
        Kind::Report,
        Kind::Calendar,
        Kind::Sampler,
        Kind::Look,
        Kind::Person,
        Kind::Group,
        Kind::Channel,
        Kind::Wording,
    ];

    pub fn name(self) -> &'static str {
        match self {
            Kind::Source => "source",
            Kind::Dashboard => "dashboard",
            Kind::Report => "report",
            Kind::Calendar => "calendar",
            Kind::Sampler => "sampler",
            Kind::Look => "look",
            Kind::Person => "person",
            Kind::Group => "group",
            Kind::Channel => "channel",
            Kind::Wording => "wording",
        }
    }

    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }
}

/// A parsed definition.
#[derive(Debug, Clone, PartialEq)]
pub enum Definition {
    Source(Box<Source>),
    Dashboard(Dashboard),
    Report(Box<Report>),
    Calendar(Calendar),
    Sampler(Box<Sampler>),
    Look(Box<Placed<Look>>),
    Person(Person),
    Group(Group),
    Channel(Box<Channel>),
    Wording(Wording),
}

impl Definition {
    pub fn kind(&self) -> Kind {
        match self {
            Definition::Source(_) => Kind::Source,
            Definition::Dashboard(_) => Kind::Dashboard,
            Definition::Report(_) => Kind::Report,
            Definition::Calendar(_) => Kind::Calendar,
            Definition::Sampler(_) => Kind::Sampler,
            Definition::Look(_) => Kind::Look,
            Definition::Person(_) => Kind::Person,
            Definition::Group(_) => Kind::Group,
            Definition::Channel(_) => Kind::Channel,
            Definition::Wording(_) => Kind::Wording,
        }
    }

    pub fn name(&self) -> &str {
        match self {
            Definition::Source(source) => &source.name,
            Definition::Dashboard(dashboard) => &dashboard.name,
            Definition::Report(report) => &report.name,
            Definition::Calendar(calendar) => &calendar.name,
            Definition::Sampler(sampler) => &sampler.name,
            Definition::Look(look) => &look.value.name,
            Definition::Person(person) => &person.name,
            Definition::Group(group) => &group.name,
            Definition::Channel(channel) => &channel.name,
            Definition::Wording(wording) => &wording.name,
        }
    }

    pub fn title(&self) -> &str {
        match self {
            Definition::Source(source) => &source.title,
            Definition::Dashboard(dashboard) => &dashboard.title,
            Definition::Report(report) => &report.title,
            Definition::Calendar(calendar) => &calendar.title,
            Definition::Sampler(sampler) => &sampler.title,
            Definition::Look(look) => &look.value.title,
            Definition::Person(person) => &person.title,
            Definition::Group(group) => &group.title,
            Definition::Channel(channel) => &channel.title,
            Definition::Wording(wording) => &wording.title,
        }
    }

    pub fn place(&self) -> &Place {
        match self {
            Definition::Source(source) => &source.place,
            Definition::Dashboard(dashboard) => &dashboard.place,
            Definition::Report(report) => &report.place,
            Definition::Calendar(calendar) => &calendar.place,
            Definition::Sampler(sampler) => &sampler.place,
            Definition::Look(look) => &look.place,
            Definition::Person(person) => &person.place,
            Definition::Group(group) => &group.place,
            Definition::Channel(channel) => &channel.place,
            Definition::Wording(wording) => &wording.place,
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
                [Kind::Source] => source::read(&root).map(|source| Definition::Source(Box::new(source))),
                [Kind::Dashboard] => dashboard::read(&root).map(Definition::Dashboard),
                [Kind::Report] => report::read(&root).map(Box::new).map(Definition::Report),
                [Kind::Sampler] => sampler::read(&root).map(Box::new).map(Definition::Sampler),
                [Kind::Look] => look::read(&root).map(Box::new).map(Definition::Look),
                [Kind::Person] => people::read_person(&root).map(Definition::Person),
                [Kind::Group] => people::read_group(&root).map(Definition::Group),
                [Kind::Channel] => channel::read(&root).map(Box::new).map(Definition::Channel),
                [Kind::Wording] => wording::read(&root).map(Definition::Wording),
                [] => {
                    reader.report(0, "", format!("the file defines nothing; it must have one of the tables {}", tables()));
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

/// Reads a schedule and a window by themselves: TOML with `time-zone`, `[schedule]` and
/// `[window]`, the latter two with the keys of a report and both optional.
///
/// # Errors
/// As [`Definition::parse`].
pub fn schedule_and_window(
    file: &str,
    text: &str,
) -> Result<(Zone, Option<Schedule>, Option<WindowRule>), Vec<Problem>> {
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
        let schedule = root.table("schedule").and_then(schedule::read);
        let window = root
            .table("window")
            .and_then(|node| report::read_window(node, zone));
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

/// Reads the `name` of a definition: what it is called everywhere, in small letters.
fn read_name(node: &Node<'_>) -> String {
    let name = node.required("name");
    if !name.value.is_empty() && !is_name(&name.value) {
        node.report("name", format!("\"{}\" is not a name: use up to 60 small letters, digits and hyphens, such as \"ferry-operations\"", name.value));
    }
    name.value
}

/// A name that can stand behind a colon in SQL.
fn read_identifier(node: &Node<'_>, key: &'static str) -> String {
    let name = node.required(key).value;
    if !name.is_empty()
        && (name.starts_with(|c: char| c.is_ascii_digit())
            || !name
                .chars()
                .all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_'))
    {
        node.report(key, format!("\"{name}\" is not a name here: use small letters, digits and underscores, such as \"by_port\""));
    }
    name
}

/// Whether a text can name a definition.
pub(crate) fn is_name(text: &str) -> bool {
    let valid = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
    !text.is_empty()
        && text.chars().all(valid)
        && text.len() <= 60
        && !text.starts_with('-')
        && !text.ends_with('-')
}

#[cfg(test)]
mod tests;
#[cfg(test)]
mod tests_delivering;
#[cfg(test)]
mod tests_mistakes;
