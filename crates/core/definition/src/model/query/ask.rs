//! What a query asks of each kind of source.

use std::{borrow::Cow, collections::BTreeMap};

use maple_lark_data::ColumnKind;

use crate::model::{
    page::{Keep, PageAsk, PageStep},
    parameter::ParameterValue,
    query::{
        builder::{Dialect, Pick},
        mib::Object,
        placeholder::{JsonTemplate, PlaceholderText},
        text::{BadQueryText, QueryText},
        times::Times,
    },
    source::SourceKind,
};

/// What is asked of a source, in the form that its kind understands.
#[derive(Debug, Clone, PartialEq)]
pub enum Ask {
    /// A statement for a database.
    Sql(Sql),
    /// A request to a service that answers in JSON.
    Request(Request),
    /// Rows in files.
    File(FileRows),
    /// Metrics, as a service shows them.
    Metrics(Metrics),
    /// A check that needs no other system.
    Check(Check),
    /// A live page.
    Page(Box<PageAsk>),
    /// What a program prints.
    Output(Box<Output>),
    /// Entries of a directory.
    Search(Box<Search>),
    /// Objects of an SNMP agent.
    Objects(Objects),
}

/// A statement for a database, read-only, with its parameters bound.
#[derive(Debug, Clone, PartialEq)]
pub struct Sql {
    /// The statement, with names for its parameters.
    pub text: QueryText,
    /// The text as the author wrote it, or as it was made from what was picked.
    pub written: String,
    /// Values that were picked; they are bound like parameters.
    pub constants: BTreeMap<String, ParameterValue>,
    /// What it was made from, if it was not written by hand.
    pub pick: Option<Pick>,
}

impl Sql {
    /// # Errors
    /// If it is not one statement.
    pub fn written_by_hand(text: &str) -> Result<Self, BadQueryText> {
        Ok(Self {
            text: QueryText::parse(text)?,
            written: text.to_owned(),
            constants: BTreeMap::new(),
            pick: None,
        })
    }

    /// What was picked, as SQL for PostgreSQL with the picked values bound.
    ///
    /// # Errors
    /// If a parameter's name cannot stand in SQL.
    pub fn picked(pick: Pick) -> Result<Self, BadQueryText> {
        Self::picked_for(pick, Dialect::Postgresql)
    }

    fn picked_for(pick: Pick, dialect: Dialect) -> Result<Self, BadQueryText> {
        let mut constants = BTreeMap::new();
        let written = pick.text(dialect, &mut |value| {
            let name = format!("picked_{}", constants.len() + 1);
            constants.insert(name.clone(), value);
            format!(":{name}")
        })?;
        Ok(Self {
            text: QueryText::parse(&written)?,
            written,
            constants,
            pick: Some(pick),
        })
    }

    /// The statement as a database of that kind understands it: what was written by hand as it
    /// is, what was picked in its SQL.
    ///
    /// # Errors
    /// If that database has not what was picked.
    pub fn statement(&self, dialect: Dialect) -> Result<Cow<'_, Self>, BadQueryText> {
        match &self.pick {
            Some(pick) if dialect != Dialect::Postgresql => {
                Self::picked_for(pick.clone(), dialect).map(Cow::Owned)
            }
            _ => Ok(Cow::Borrowed(self)),
        }
    }
}

/// A request to a service that answers in JSON.
#[derive(Debug, Clone, PartialEq)]
pub struct Request {
    /// Whether it is a POST with a body, instead of a GET.
    pub post: bool,
    /// The path after the source's address.
    pub path: PlaceholderText,
    /// What stands behind the question mark.
    pub send: Vec<(String, PlaceholderText)>,
    /// Its headers.
    pub headers: Vec<(String, PlaceholderText)>,
    /// Its body, in JSON.
    pub body: Option<JsonTemplate>,
    /// The rows in the answer (JSONPath, RFC 9535).
    pub rows: String,
    /// Rows inside of rows, such as the points of a series.
    pub each: Option<String>,
    /// Fields are arrays that run side by side, one row for each position.
    pub parallel: bool,
    /// The columns, and where each value is found.
    pub fields: Vec<Field>,
    /// How the answer goes on, if it comes in pages.
    pub pages: Option<Pages>,
}

/// A column that is read from an answer or a file.
#[derive(Debug, Clone, PartialEq)]
pub struct Field {
    /// Its name.
    pub name: String,
    /// Where it is (JSONPath); in files the name of the column or key.
    pub path: Option<String>,
    /// The path leads from the outer row, not from the inner one.
    pub outer: bool,
    /// What it holds.
    pub kind: ColumnKind,
    /// How an instant is written.
    pub time: TimeForm,
}

/// How instants are written.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum TimeForm {
    /// ISO 8601 with an offset; without one it is in UTC.
    #[default]
    Iso,
    /// In seconds since 1970.
    UnixSeconds,
    /// In milliseconds since 1970.
    UnixMilliseconds,
    /// A pattern such as `%d.%m.%Y %H:%M`, in UTC unless it has an offset.
    Pattern(String),
}

/// How an answer goes on.
#[derive(Debug, Clone, PartialEq)]
pub enum Pages {
    /// The address of the next page is in the answer, or in its Link header (RFC 8288).
    NextLink {
        /// Where the next page's address stands; the header `Link`, if not given.
        path: Option<String>,
        /// After how many pages the query fails.
        max_pages: usize,
    },
    /// A number that counts up; the last page has no rows.
    Number {
        /// The key in the address that counts pages.
        key: String,
        /// The first page's number.
        first: i64,
        /// After how many pages the query fails.
        max_pages: usize,
    },
    /// A text in the answer that asks for what follows.
    Cursor {
        /// Where the next page's token stands.
        path: String,
        /// The key in the address that takes it.
        key: String,
        /// After how many pages the query fails.
        max_pages: usize,
    },
}

impl Pages {
    /// After how many pages the query fails.
    #[must_use]
    pub fn max_pages(&self) -> usize {
        match self {
            Pages::NextLink { max_pages, .. }
            | Pages::Number { max_pages, .. }
            | Pages::Cursor { max_pages, .. } => *max_pages,
        }
    }
}

/// What is in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileForm {
    /// Rows of cells (RFC 4180).
    Csv,
    /// A JSON value a line.
    JsonLines,
    /// The events of a calendar (RFC 5545) that have a part in the window.
    Calendar,
    /// A sheet of a spreadsheet's workbook.
    Workbook,
    /// A list of objects (RFC 8259), each a row.
    Json,
    /// Lines of text, each a row.
    Lines,
    /// Columns of values (Apache Parquet).
    Parquet,
}

impl FileForm {
    /// As definitions name them.
    pub const NAMES: [&'static str; 7] = [
        "csv",
        "json-lines",
        "json",
        "lines",
        "icalendar",
        "workbook",
        "parquet",
    ];

    /// Those of what a program prints.
    pub const PRINTED: [&'static str; 4] = ["csv", "json-lines", "json", "lines"];

    /// The columns of a calendar's events.
    pub const EVENT_COLUMNS: [(&'static str, ColumnKind); 6] = [
        ("from", ColumnKind::Instant),
        ("to", ColumnKind::Instant),
        ("title", ColumnKind::Text),
        ("location", ColumnKind::Text),
        ("categories", ColumnKind::Text),
        ("description", ColumnKind::Text),
    ];

    /// What a column of a calendar's events holds, if there is one of that name.
    #[must_use]
    pub fn event_kind(name: &str) -> Option<ColumnKind> {
        let mut columns = Self::EVENT_COLUMNS.into_iter();
        columns
            .find(|(known, _)| *known == name)
            .map(|(_, kind)| kind)
    }

    /// The form of a name.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        match name {
            "csv" => Some(Self::Csv),
            "json-lines" => Some(Self::JsonLines),
            "icalendar" => Some(Self::Calendar),
            "workbook" => Some(Self::Workbook),
            "json" => Some(Self::Json),
            "lines" => Some(Self::Lines),
            "parquet" => Some(Self::Parquet),
            _ => None,
        }
    }

    /// What people call it.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Csv => "CSV",
            Self::JsonLines => "JSON Lines",
            Self::Calendar => "iCalendar",
            Self::Workbook => "workbook",
            Self::Json => "JSON",
            Self::Lines => "text",
            Self::Parquet => "Parquet",
        }
    }
}

/// Rows in files.
#[derive(Debug, Clone, PartialEq)]
pub struct FileRows {
    /// A file below the source's folder, or a pattern (`*`, `**`, `?`); for a URL, what is
    /// behind it.
    pub file: String,
    /// What is in them.
    pub form: FileForm,
    /// What parts the cells of CSV.
    pub delimiter: char,
    /// A label of the WHATWG Encoding Standard, such as `utf-8` or `windows-1252`.
    pub encoding: String,
    /// Whether the first row names the columns; else they are `column_1`, `column_2` …
    pub has_header: bool,
    /// Nothing means that columns and types are found out from the rows.
    pub fields: Vec<Field>,
    /// Only rows whose time in this column lies in the window.
    pub time: Option<String>,
    /// Leave out rows that cannot be read, instead of stopping.
    pub skip_bad: bool,
    /// The sheet of a workbook; its first if nothing is said.
    pub sheet: Option<String>,
    /// Where the rows of JSON are; the whole if nothing is said.
    pub rows: Option<String>,
    /// A regular expression whose named groups are the columns of a line; the whole line otherwise.
    pub pattern: Option<String>,
}

/// What a program prints when it is started with these arguments.
#[derive(Debug, Clone, PartialEq)]
pub struct Output {
    /// The arguments behind those of the configuration, each a text with names for values. No shell
    /// reads them.
    pub arguments: Vec<PlaceholderText>,
    /// How its standard output is read.
    pub rows: FileRows,
}

/// A search in a directory (RFC 4511).
#[derive(Debug, Clone, PartialEq)]
pub struct Search {
    /// The filter (RFC 4515), with names for values; a value is never more than a value in it.
    pub filter: PlaceholderText,
    /// The entry at or below which is searched; the source's if nothing is said.
    pub base: Option<String>,
    /// How deep.
    pub scope: SearchScope,
    /// The attributes that are columns; all that are found, and the entry's name, if none is named.
    pub fields: Vec<Field>,
}

/// How deep a directory is searched (RFC 4511, 4.5.1.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SearchScope {
    /// The base and all below it.
    Subtree,
    /// What is directly below the base.
    OneLevel,
    /// The base alone.
    Base,
}

impl SearchScope {
    /// All, the usual one first.
    pub const ALL: [Self; 3] = [Self::Subtree, Self::OneLevel, Self::Base];

    /// The word for it in definitions.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Subtree => "subtree",
            Self::OneLevel => "one-level",
            Self::Base => "base",
        }
    }
}

/// Objects of an SNMP agent (RFC 3416).
#[derive(Debug, Clone, PartialEq)]
pub struct Objects {
    /// What is asked for, each a column or, in a walk, a part of the tree.
    pub objects: Vec<Object>,
    /// How they become rows.
    pub operation: ObjectsOperation,
}

/// How objects become rows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ObjectsOperation {
    /// One row with a column for each instance that is named.
    Get,
    /// A row for each instance below what is named.
    Walk,
    /// A row for each index, with a column for each object.
    Table,
}

impl ObjectsOperation {
    /// All, the usual one first.
    pub const ALL: [Self; 3] = [Self::Get, Self::Walk, Self::Table];

    /// The word for it in definitions.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Get => "get",
            Self::Walk => "walk",
            Self::Table => "table",
        }
    }
}

/// Samples of OpenMetrics.
#[derive(Debug, Clone, PartialEq)]
pub struct Metrics {
    /// Families or samples; several become rows beside one another.
    pub names: Vec<String>,
    /// Only samples whose labels have one of these values.
    pub labels: BTreeMap<String, Vec<String>>,
}

/// A check of infrastructure that needs no other system.
#[derive(Debug, Clone, PartialEq)]
pub struct Check {
    /// What is checked.
    pub kind: CheckKind,
    /// What it is checked of: addresses, names, folders.
    pub targets: Vec<String>,
    /// How many are checked at a time.
    pub concurrency: usize,
    /// How long one target may take, in seconds.
    pub seconds: u64,
}

/// What can be checked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CheckKind {
    /// `host:port` accepts a connection.
    Tcp,
    /// A URL answers, with which status and how fast.
    Http,
    /// `host:port` shows a certificate, valid for how many days.
    Certificate,
    /// A name has addresses.
    Dns,
    /// A folder's file system, how full it is.
    Disk,
    /// How busy this machine's processors are.
    Processor,
    /// How much memory this machine has and uses.
    Memory,
    /// How many tasks wait for this machine's processors, and since when it is up.
    Load,
    /// What goes through this machine's network interfaces.
    Network,
    /// The states of this machine's systemd units.
    Units,
    /// How many lines of each priority this machine's journal has in the window.
    Journal,
}

impl Ask {
    /// The kinds of sources that understand it.
    #[must_use]
    pub fn source_kinds(&self) -> &'static [&'static str] {
        match self {
            Ask::Sql(_) => &SourceKind::DATABASES,
            Ask::Request(_) => &["http-json"],
            Ask::File(_) => &["files", "sftp"],
            Ask::Metrics(_) => &["open-metrics"],
            Ask::Check(_) => &["local-checks"],
            Ask::Page(_) => &["web-page"],
            Ask::Output(_) => &["program"],
            Ask::Search(_) => &["ldap"],
            Ask::Objects(_) => &["snmp"],
        }
    }

    /// The names for times that may stand in it, beside parameters.
    #[must_use]
    pub fn time_names(&self) -> &'static [&'static str] {
        match self {
            Ask::Sql(_) => &Times::NAMES,
            _ => &Times::PLACEHOLDERS,
        }
    }

    /// The names of the values that it is asked with.
    pub fn names(&self) -> Vec<String> {
        match self {
            Ask::Sql(sql) => sql
                .text
                .names
                .iter()
                .filter(|name| !sql.constants.contains_key(*name))
                .cloned()
                .collect(),
            Ask::Request(request) => {
                let templates = request
                    .send
                    .iter()
                    .chain(&request.headers)
                    .map(|(_, template)| template)
                    .chain([&request.path]);
                let mut names: Vec<String> = templates
                    .flat_map(|template| template.names().map(str::to_owned))
                    .collect();
                names.extend(request.body.iter().flat_map(JsonTemplate::names));
                names
            }
            Ask::File(_) | Ask::Metrics(_) | Ask::Check(_) | Ask::Objects(_) => Vec::new(),
            Ask::Search(search) => search.filter.names().map(str::to_owned).collect(),
            Ask::Output(output) => {
                let names = output.arguments.iter().flat_map(PlaceholderText::names);
                names.map(str::to_owned).collect()
            }
            Ask::Page(page) => {
                let typed = page.steps.iter().filter_map(|step| match step {
                    PageStep::Fill { with, .. } => Some(with),
                    _ => None,
                });
                let texts = typed.chain([&page.path]);
                texts
                    .flat_map(|text| text.names().map(str::to_owned))
                    .collect()
            }
        }
    }

    /// As it is kept on record.
    #[must_use]
    pub fn written(&self) -> String {
        match self {
            Ask::Sql(sql) => sql.written.clone(),
            Ask::Request(request) => {
                let send: Vec<String> = request
                    .send
                    .iter()
                    .map(|(key, template)| format!("{key}={template}"))
                    .collect();
                let method = if request.post { "POST" } else { "GET" };
                format!(
                    "{method} {}{}{}\nrows {}",
                    request.path,
                    if send.is_empty() { "" } else { "?" },
                    send.join("&"),
                    request.rows
                )
            }
            Ask::File(rows) => format!("{} rows of {}", rows.form.words(), rows.file),
            Ask::Output(output) => {
                let arguments: Vec<String> =
                    output.arguments.iter().map(ToString::to_string).collect();
                format!(
                    "{} rows of its output, started with {arguments:?}",
                    output.rows.form.words()
                )
            }
            Ask::Metrics(metrics) => {
                let labels: Vec<String> = metrics
                    .labels
                    .iter()
                    .map(|(label, values)| format!("{label} in {}", values.join(", ")))
                    .collect();
                format!(
                    "metrics {}{}{}",
                    metrics.names.join(", "),
                    if labels.is_empty() { "" } else { " where " },
                    labels.join(" and ")
                )
            }
            Ask::Check(check) => check.written(),
            Ask::Search(search) => format!(
                "entries that match {}, {} of {}",
                search.filter,
                search.scope.name(),
                search.base.as_deref().unwrap_or("the source's base")
            ),
            Ask::Objects(objects) => objects.written(),
            Ask::Page(page) => format!("{} of {}", kept(&page.keep), page.path),
        }
    }
}

/// What is kept of a page.
fn kept(keep: &Keep) -> String {
    match keep {
        Keep::Look { parts, .. } if parts.is_empty() => "the page".to_owned(),
        Keep::Look { parts, .. } => {
            let parts: Vec<&str> = parts.iter().map(|part| part.selector.as_str()).collect();
            format!("the parts {}", parts.join(", "))
        }
        Keep::Table(selector) => format!("the table {selector}"),
        Keep::Download => "the file".to_owned(),
    }
}

impl Check {
    /// As it is kept on record.
    fn written(&self) -> String {
        let kind = self.kind.name();
        if self.targets.is_empty() {
            format!("{kind} of this machine")
        } else {
            format!("{kind} checks of {}", self.targets.join(", "))
        }
    }
}

impl Objects {
    /// As they are kept on record, and told to have been asked for.
    #[must_use]
    pub fn written(&self) -> String {
        let names = self.objects.iter().map(|object| object.written.as_str());
        let names: Vec<&str> = names.collect();
        format!("{} {}", self.operation.name(), names.join(", "))
    }
}

impl CheckKind {
    /// The kinds, each with its defaults.
    pub const ALL: [CheckKind; 11] = [
        CheckKind::Tcp,
        CheckKind::Http,
        CheckKind::Certificate,
        CheckKind::Dns,
        CheckKind::Disk,
        CheckKind::Processor,
        CheckKind::Memory,
        CheckKind::Load,
        CheckKind::Network,
        CheckKind::Units,
        CheckKind::Journal,
    ];

    /// Whether it tells of this machine itself, so that it needs no targets.
    #[must_use]
    pub fn is_of_this_machine(self) -> bool {
        match self {
            CheckKind::Tcp
            | CheckKind::Http
            | CheckKind::Certificate
            | CheckKind::Dns
            | CheckKind::Disk => false,
            CheckKind::Processor
            | CheckKind::Memory
            | CheckKind::Load
            | CheckKind::Network
            | CheckKind::Units
            | CheckKind::Journal => true,
        }
    }

    /// Whether some of what it tells of can be chosen by targets.
    #[must_use]
    pub fn takes_targets(self) -> bool {
        !matches!(
            self,
            CheckKind::Processor | CheckKind::Memory | CheckKind::Load
        )
    }

    /// The word for it in definitions.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            CheckKind::Tcp => "tcp",
            CheckKind::Http => "http",
            CheckKind::Certificate => "certificate",
            CheckKind::Dns => "dns",
            CheckKind::Disk => "disk",
            CheckKind::Processor => "processor",
            CheckKind::Memory => "memory",
            CheckKind::Load => "load",
            CheckKind::Network => "network",
            CheckKind::Units => "units",
            CheckKind::Journal => "journal",
        }
    }
}
