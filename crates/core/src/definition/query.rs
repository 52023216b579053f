//! What a dashboard or a sampler asks: where, how, and what is done to the answer.

use std::collections::BTreeMap;

use super::{
    ParameterValue, operation,
    reader::{Node, Placed},
};
use crate::{
    figures::Operation,
    placeholder::{JsonTemplate, Template},
    query_text::{BadQueryText, QueryText},
    status::{Thresholds, Worse},
    table::ColumnKind,
    unit::Unit,
    window::{Step, Times},
};

pub use super::pick::{Filter, Measure, Pick};
use super::{read_identifier, reader::Place};

#[derive(Debug, Clone, PartialEq)]
pub struct Query {
    pub name: String,
    pub origin: Origin,
    /// The query whose recorded rows it uses, if it is not recorded under its own name.
    pub recorded_as: Option<String>,
    /// The resampling step behind `:steps`; one that fits the window if nothing is said.
    pub step: Option<Step>,
    pub columns: Vec<ColumnHint>,
    /// What is done to the rows that come, in order.
    pub then: Vec<Operation>,
    pub place: Place,
}

/// Where a query's rows come from.
#[derive(Debug, Clone, PartialEq)]
pub enum Origin {
    Source {
        name: Placed<String>,
        ask: Box<Ask>,
    },
    /// What a sampler has kept of the window.
    Sampler(Placed<String>),
    /// The answer of another query of the same dashboard.
    Query(Placed<String>),
}

/// What is asked of a source, in the form that its kind understands.
#[derive(Debug, Clone, PartialEq)]
pub enum Ask {
    Sql(Sql),
    Request(Request),
    File(FileRows),
    Metrics(Metrics),
    Check(Check),
}

#[derive(Debug, Clone, PartialEq)]
pub struct Sql {
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
}

/// A request to a service that answers in JSON.
#[derive(Debug, Clone, PartialEq)]
pub struct Request {
    pub post: bool,
    pub path: Template,
    /// What stands behind the question mark.
    pub send: Vec<(String, Template)>,
    pub headers: Vec<(String, Template)>,
    pub body: Option<JsonTemplate>,
    /// The rows in the answer (JSONPath, RFC 9535).
    pub rows: String,
    /// Rows inside of rows, such as the points of a series.
    pub each: Option<String>,
    /// Fields are arrays that run side by side, one row for each position.
    pub parallel: bool,
    pub fields: Vec<Field>,
    pub pages: Option<Pages>,
}

/// A column that is read from an answer or a file.
#[derive(Debug, Clone, PartialEq)]
pub struct Field {
    pub name: String,
    /// Where it is (JSONPath); in files the name of the column or key.
    pub path: Option<String>,
    /// The path leads from the outer row, not from the inner one.
    pub outer: bool,
    pub kind: ColumnKind,
    /// How an instant is written.
    pub time: TimeForm,
}

#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum TimeForm {
    /// ISO 8601 with an offset; without one it is in UTC.
    #[default]
    Iso,
    UnixSeconds,
    UnixMilliseconds,
    /// A pattern such as `%d.%m.%Y %H:%M`, in UTC unless it has an offset.
    Pattern(String),
}

/// How an answer goes on.
#[derive(Debug, Clone, PartialEq)]
pub enum Pages {
    /// The address of the next page is in the answer, or in its Link header (RFC 8288).
    NextLink { path: Option<String>, most: usize },
    /// A number that counts up; the last page has no rows.
    Number {
        key: String,
        first: i64,
        most: usize,
    },
    /// A text in the answer that asks for what follows.
    Cursor {
        path: String,
        key: String,
        most: usize,
    },
}

impl Pages {
    pub fn most(&self) -> usize {
        match self {
            Pages::NextLink { most, .. }
            | Pages::Number { most, .. }
            | Pages::Cursor { most, .. } => *most,
        }
    }
}

/// Rows in files: CSV (RFC 4180) or JSON Lines.
#[derive(Debug, Clone, PartialEq)]
pub struct FileRows {
    /// A file below the source's folder, or a pattern (`*`, `**`, `?`); for a URL, what is
    /// behind it.
    pub file: String,
    pub json_lines: bool,
    pub delimiter: char,
    /// A label of the WHATWG Encoding Standard, such as `utf-8` or `windows-1252`.
    pub encoding: String,
    /// Whether the first row names the columns; else they are `column_1`, `column_2` …
    pub heading: bool,
    /// Nothing means that columns and types are found out from the rows.
    pub fields: Vec<Field>,
    /// Only rows whose time in this column lies in the window.
    pub time: Option<String>,
    /// Leave out rows that cannot be read, instead of stopping.
    pub skip_bad: bool,
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
    pub kind: CheckKind,
    pub targets: Vec<String>,
    pub at_once: usize,
    /// How long one target may take, in seconds.
    pub seconds: u64,
}

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
}

impl Ask {
    /// The kind of source that understands it.
    pub fn source_kind(&self) -> &'static str {
        match self {
            Ask::Sql(_) => "postgresql",
            Ask::Request(_) => "http-json",
            Ask::File(_) => "files",
            Ask::Metrics(_) => "open-metrics",
            Ask::Check(_) => "local-checks",
        }
    }

    /// The names for times that may stand in it, beside parameters.
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
            Ask::File(_) | Ask::Metrics(_) | Ask::Check(_) => Vec::new(),
        }
    }

    /// As it is kept on record.
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
            Ask::File(rows) => format!(
                "{} rows of {}",
                if rows.json_lines { "JSON Lines" } else { "CSV" },
                rows.file
            ),
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
            Ask::Check(check) => format!(
                "{} checks of {}",
                check.kind.name(),
                check.targets.join(", ")
            ),
        }
    }
}

impl CheckKind {
    pub const ALL: [CheckKind; 5] = [
        CheckKind::Tcp,
        CheckKind::Http,
        CheckKind::Certificate,
        CheckKind::Dns,
        CheckKind::Disk,
    ];

    pub fn name(self) -> &'static str {
        match self {
            CheckKind::Tcp => "tcp",
            CheckKind::Http => "http",
            CheckKind::Certificate => "certificate",
            CheckKind::Dns => "dns",
            CheckKind::Disk => "disk",
        }
    }
}

impl Query {
    pub fn hint(&self, column: &str) -> Option<&ColumnHint> {
        self.columns.iter().find(|hint| hint.name == column)
    }

    /// The name under which a snapshot has its rows.
    pub fn record(&self) -> &str {
        self.recorded_as.as_deref().unwrap_or(&self.name)
    }

    /// The source, where it asks one.
    pub fn source(&self) -> Option<&Placed<String>> {
        match &self.origin {
            Origin::Source { name, .. } => Some(name),
            _ => None,
        }
    }

    pub fn ask(&self) -> Option<&Ask> {
        match &self.origin {
            Origin::Source { ask, .. } => Some(ask),
            _ => None,
        }
    }

    /// The queries of the same dashboard whose answers it needs.
    pub fn needs(&self) -> impl Iterator<Item = &str> {
        let of = match &self.origin {
            Origin::Query(name) => Some(name.value.as_str()),
            _ => None,
        };
        of.into_iter()
            .chain(self.then.iter().filter_map(|operation| match operation {
                Operation::Join { with, .. } => Some(with.as_str()),
                _ => None,
            }))
    }

    /// As it is kept on record.
    pub fn written(&self) -> String {
        match &self.origin {
            Origin::Source { ask, .. } => ask.written(),
            Origin::Sampler(name) => format!("history of the sampler {}", name.value),
            Origin::Query(name) => format!("answer of {}", name.value),
        }
    }
}

/// What an author says of one column of a query's answer.
#[derive(Debug, Clone, PartialEq)]
pub struct ColumnHint {
    pub name: String,
    pub title: Option<String>,
    pub unit: Unit,
    pub thresholds: Thresholds,
}

/// Reads a query; one that stands alone is given its name.
pub(super) fn read(node: Node<'_>, alone: Option<&str>) -> Option<Query> {
    let name = alone.map_or_else(|| read_identifier(&node, "name"), str::to_owned);
    let origin = if node.has("of") {
        Some(Origin::Query(node.required("of")))
    } else if node.has("sampler") {
        Some(Origin::Sampler(node.required("sampler")))
    } else {
        let source = node.required("source");
        read_ask(&node).map(|ask| Origin::Source {
            name: source,
            ask: Box::new(ask),
        })
    };
    let columns = node.tables("column").into_iter().map(read_hint).collect();
    let step = node.parsed::<Step>("step");
    let then = operation::read_all(&node);
    let place = node.place();
    node.close();
    Some(Query {
        name,
        origin: origin?,
        recorded_as: None,
        step,
        columns,
        then,
        place,
    })
}

const FORMS: [(&str, &str); 6] = [
    ("sql", "postgresql"),
    ("pick", "postgresql"),
    ("path", "http-json"),
    ("file", "files"),
    ("metric", "open-metrics"),
    ("check", "local-checks"),
];

pub(super) fn read_ask(node: &Node<'_>) -> Option<Ask> {
    let given: Vec<&str> = FORMS
        .iter()
        .map(|(key, _)| *key)
        .filter(|key| node.has(key))
        .collect();
    match given[..] {
        ["sql"] => read_sql(node).map(Ask::Sql),
        ["pick"] => super::pick::read(node).map(Ask::Sql),
        ["path"] => read_request(node).map(Ask::Request),
        ["file"] => Some(Ask::File(read_file(node))),
        ["metric"] => Some(Ask::Metrics(read_metrics(node))),
        ["check"] => read_check(node).map(Ask::Check),
        _ => {
            // Known, so that the problem is said once and not for each key.
            FORMS.iter().for_each(|(key, _)| node.known_key(key));
            let forms: Vec<String> = FORMS
                .iter()
                .map(|(key, kind)| format!("{key} (a source of kind \"{kind}\")"))
                .collect();
            node.report_self(format!(
                "a query needs exactly one of: {}; or instead of a source \"sampler\" or \"of\"",
                forms.join(", ")
            ));
            None
        }
    }
}

fn read_sql(node: &Node<'_>) -> Option<Sql> {
    let sql = node.required("sql");
    match Sql::written_by_hand(&sql.value) {
        Ok(sql) => Some(sql),
        Err(error) => {
            if !sql.value.is_empty() {
                node.report("sql", error.to_string());
            }
            None
        }
    }
}

fn template(node: &Node<'_>, key: &str, text: &str) -> Option<Template> {
    Template::parse(text)
        .map_err(|error| node.report(key, error.to_string()))
        .ok()
}

fn templates(node: &Node<'_>, key: &'static str) -> Vec<(String, Template)> {
    let Some(table) = node.table(key) else {
        return Vec::new();
    };
    let mut out = Vec::new();
    for name in table.keys() {
        match table.value_of(&name) {
            Some((toml_edit::Value::String(text), _)) => {
                out.extend(template(&table, &name, text.value()).map(|template| (name, template)))
            }
            Some((toml_edit::Value::Integer(number), _)) => out.extend(
                template(&table, &name, &number.value().to_string())
                    .map(|template| (name, template)),
            ),
            _ => table.report(&name, "must be a text in quotes or a whole number"),
        }
    }
    out
}

pub(super) fn read_path(node: &Node<'_>, key: &'static str) -> Option<String> {
    let text = node.text(key)?.value;
    match serde_json_path::JsonPath::parse(&text) {
        Ok(_) => Some(text),
        Err(error) => {
            node.report(
                key,
                format!(
                    "\"{text}\" is not a JSONPath (RFC 9535), such as \"$.hosts[*].name\": {error}"
                ),
            );
            None
        }
    }
}

fn read_request(node: &Node<'_>) -> Option<Request> {
    let path = node.required("path").value;
    let path = template(node, "path", &path);
    let post = node.choice("method", &["GET", "POST"]) == Some("POST");
    let body = node.text("body").and_then(|text| {
        JsonTemplate::parse(&text.value)
            .map_err(|error| node.report("body", error))
            .ok()
    });
    if body.is_some() && !post {
        node.report("body", "goes with method = \"POST\" only");
    }
    node.required("rows");
    let rows = read_path(node, "rows");
    let each = read_path(node, "each");
    let parallel = node.truth("parallel").unwrap_or(false);
    let fields: Vec<Field> = node
        .tables("field")
        .into_iter()
        .map(|field| read_field(field, true))
        .collect();
    if fields.is_empty() {
        node.report_self(
            "a request needs [[query.field]] entries that say which columns a row has",
        );
    }
    let pages = node
        .table("pages")
        .and_then(|pages| read_pages(&pages).inspect(|_| pages.close()));
    Some(Request {
        post,
        path: path?,
        send: templates(node, "send"),
        headers: templates(node, "headers"),
        body,
        rows: rows?,
        each,
        parallel,
        fields,
        pages,
    })
}

fn read_pages(node: &Node<'_>) -> Option<Pages> {
    let most = |node: &Node<'_>| node.whole("most", 1..=10_000).unwrap_or(100) as usize;
    Some(
        match node.required_choice("by", &["next-link", "number", "cursor"])? {
            "next-link" => Pages::NextLink {
                path: read_path(node, "path"),
                most: most(node),
            },
            "number" => Pages::Number {
                key: node.required("key").value,
                first: node.whole("first", 0..=1).unwrap_or(1),
                most: most(node),
            },
            _ => {
                node.required("path");
                Pages::Cursor {
                    path: read_path(node, "path")?,
                    key: node.required("key").value,
                    most: most(node),
                }
            }
        },
    )
}

const KINDS: [&str; 7] = [
    "text", "number", "integer", "decimal", "instant", "date", "boolean",
];

fn read_field(node: Node<'_>, json: bool) -> Field {
    let name = read_identifier(&node, "name");
    let (path, outer) = match (json, node.has("outer")) {
        (true, true) => (read_path(&node, "outer"), true),
        (true, false) => {
            node.required("path");
            (read_path(&node, "path"), false)
        }
        (false, _) => (node.text("column").map(|text| text.value), false),
    };
    let kind = match node.choice("kind", &KINDS) {
        Some("number") => ColumnKind::Number,
        Some("integer") => ColumnKind::Integer,
        Some("decimal") => ColumnKind::Decimal,
        Some("instant") => ColumnKind::Instant,
        Some("date") => ColumnKind::Date,
        Some("boolean") => ColumnKind::Boolean,
        _ => ColumnKind::Text,
    };
    let time = match node.text("time").map(|text| text.value).as_deref() {
        None | Some("iso") => TimeForm::Iso,
        Some("unix") => TimeForm::UnixSeconds,
        Some("unix-ms") => TimeForm::UnixMilliseconds,
        Some(pattern) => {
            if chrono::format::StrftimeItems::new(pattern)
                .any(|item| item == chrono::format::Item::Error)
                || !pattern.contains('%')
            {
                node.report("time", format!("\"{pattern}\" is not a form of time: use \"iso\", \"unix\", \"unix-ms\" or a pattern such as \"%d.%m.%Y %H:%M\""));
            }
            TimeForm::Pattern(pattern.to_owned())
        }
    };
    node.close();
    Field {
        name,
        path,
        outer,
        kind,
        time,
    }
}

fn read_file(node: &Node<'_>) -> FileRows {
    let file = node.required("file").value;
    if file.starts_with('/') || file.split('/').any(|part| part == "..") {
        node.report(
            "file",
            "must lie below the source's folder: without \"/\" at its beginning and without \"..\"",
        );
    }
    let json_lines = node.choice("format", &["csv", "json-lines"]) == Some("json-lines");
    let delimiter = node
        .text("delimiter")
        .map_or(",".to_owned(), |text| text.value);
    let mut signs = delimiter.chars();
    let delimiter = match (signs.next(), signs.next()) {
        (Some(sign), None)
            if sign.is_ascii() && !sign.is_alphanumeric() && sign != '"' && sign != '\n' =>
        {
            sign
        }
        _ => {
            node.report(
                "delimiter",
                "must be one sign, such as \",\", \";\" or \"\\t\"",
            );
            ','
        }
    };
    FileRows {
        file,
        json_lines,
        delimiter,
        encoding: node
            .text("encoding")
            .map_or_else(|| "utf-8".to_owned(), |text| text.value),
        heading: node.truth("heading").unwrap_or(true),
        fields: node
            .tables("field")
            .into_iter()
            .map(|field| read_field(field, false))
            .collect(),
        time: node.text("time").map(|text| text.value),
        skip_bad: node.choice("bad-rows", &["stop", "skip"]) == Some("skip"),
    }
}

fn read_metrics(node: &Node<'_>) -> Metrics {
    let names = node
        .texts("metric")
        .into_iter()
        .map(|text| text.value)
        .collect();
    let mut labels = BTreeMap::new();
    if let Some(table) = node.table("labels") {
        for label in table.keys() {
            match table
                .value_of(&label)
                .and_then(|(value, _)| super::dashboard::value_from_toml(value))
            {
                Some(ParameterValue::Text(text)) => drop(labels.insert(label, vec![text])),
                Some(ParameterValue::List(values)) => drop(labels.insert(label, values)),
                _ => table.report(&label, "must be a text or a list of texts"),
            }
        }
    }
    Metrics { names, labels }
}

fn read_check(node: &Node<'_>) -> Option<Check> {
    let kind = node.required_choice("check", &CheckKind::ALL.map(CheckKind::name));
    let targets: Vec<String> = node
        .texts("targets")
        .into_iter()
        .map(|text| text.value)
        .collect();
    if targets.is_empty() {
        node.report_self("a check needs targets = [\"…\"]");
    }
    for target in &targets {
        let wrong = match kind {
            Some("tcp" | "certificate") => super::split_address(target)
                .is_none()
                .then_some("host:port, such as \"127.0.0.1:443\""),
            Some("http") => (!target.starts_with("http://") && !target.starts_with("https://"))
                .then_some("a URL, such as \"https://orrin-sound.example/\""),
            Some("disk") => {
                (!target.starts_with('/')).then_some("an absolute path, such as \"/var\"")
            }
            _ => target.trim().is_empty().then_some("a name"),
        };
        if let Some(wanted) = wrong {
            node.report("targets", format!("\"{target}\" is not {wanted}"));
        }
    }
    let kind = CheckKind::ALL
        .into_iter()
        .find(|known| Some(known.name()) == kind)?;
    Some(Check {
        kind,
        targets,
        at_once: node.whole("at-once", 1..=200).unwrap_or(16) as usize,
        seconds: node.whole("seconds", 1..=60).unwrap_or(5) as u64,
    })
}

fn read_hint(column: Node<'_>) -> ColumnHint {
    let hint = ColumnHint {
        name: column.required("name").value,
        title: column.text("title").map(|title| title.value),
        unit: column.parsed("unit").unwrap_or_default(),
        thresholds: Thresholds {
            warning: column.number("warning"),
            critical: column.number("critical"),
            worse: match column.choice("worse", &["higher", "lower"]) {
                Some("lower") => Worse::Lower,
                _ => Worse::Higher,
            },
        },
    };
    if let (Some(warning), Some(critical)) = (hint.thresholds.warning, hint.thresholds.critical) {
        let turned = match hint.thresholds.worse {
            Worse::Higher => critical < warning,
            Worse::Lower => critical > warning,
        };
        if turned {
            column.report("critical", "critical is on the better side of warning; swap them, or set worse = \"higher\" or \"lower\"");
        }
    }
    column.close();
    hint
}
