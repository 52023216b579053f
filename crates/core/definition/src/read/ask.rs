//! Reads what a query asks of its source from their tables.

use std::collections::BTreeMap;

use maple_lark_data::ColumnKind;

use crate::{
    model::{
        parameter::ParameterValue,
        query::{
            ask::{
                Ask, Check, CheckKind, Field, FileForm, FileRows, Metrics, Objects,
                ObjectsOperation, Output, Pages, Request, Search, SearchScope, Sql, TimeForm,
            },
            mib::Object,
            placeholder::{JsonTemplate, PlaceholderText},
        },
        source,
    },
    read::{
        builder, json_path, name::read_identifier, node::Node, page, parameter,
        placeholder::template,
    },
};

const FORMS: [(&str, &str); 10] = [
    ("sql", "postgresql, mysql or sqlite"),
    ("pick", "postgresql, mysql or sqlite"),
    ("path", "http-json"),
    ("file", "files or sftp"),
    ("metric", "open-metrics"),
    ("check", "local-checks"),
    ("page", "web-page"),
    ("output", "program"),
    ("search", "ldap"),
    ("objects", "snmp"),
];

pub(crate) fn read_ask(node: &Node<'_>) -> Option<Ask> {
    let given: Vec<&str> = FORMS
        .iter()
        .map(|(key, _)| *key)
        .filter(|key| node.has(key))
        .collect();
    match given[..] {
        ["sql"] => read_sql(node).map(Ask::Sql),
        ["pick"] => builder::read(node).map(Ask::Sql),
        ["path"] => read_request(node).map(Ask::Request),
        ["file"] => Some(Ask::File(read_file(node))),
        ["metric"] => Some(Ask::Metrics(read_metrics(node))),
        ["check"] => read_check(node).map(Ask::Check),
        ["page"] => page::read(node).map(Box::new).map(Ask::Page),
        ["output"] => Some(Ask::Output(Box::new(read_output(node)))),
        ["search"] => read_search(node).map(Box::new).map(Ask::Search),
        ["objects"] => read_objects(node).map(Ask::Objects),
        _ => {
            // Known, so that the problem is said once and not for each key.
            FORMS.iter().for_each(|(key, _)| node.known_key(key));
            let forms: Vec<String> = FORMS
                .iter()
                .map(|(key, kind)| format!("{key} (a source of kind {kind})"))
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

fn templates(node: &Node<'_>, key: &'static str) -> Vec<(String, PlaceholderText)> {
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

pub(crate) fn read_path(node: &Node<'_>, key: &'static str) -> Option<String> {
    let text = node.text(key)?.value;
    let read = json_path::check(&text);
    if let Err(words) = &read {
        let shown: String = text.chars().take(80).collect();
        node.report(
            key,
            format!(
                "\"{shown}\" is not a JSONPath (RFC 9535), such as \"$.hosts[*].name\": {words}"
            ),
        );
    }
    read.is_ok().then_some(text)
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
    let max_pages = |node: &Node<'_>| node.whole("max-pages", 1..=10_000).unwrap_or(100) as usize;
    Some(
        match node.required_choice("by", &["next-link", "number", "cursor"])? {
            "next-link" => Pages::NextLink {
                path: read_path(node, "path"),
                max_pages: max_pages(node),
            },
            "number" => Pages::Number {
                key: node.required("key").value,
                first: node.whole("first", 0..=1).unwrap_or(1),
                max_pages: max_pages(node),
            },
            _ => {
                node.required("path");
                Pages::Cursor {
                    path: read_path(node, "path")?,
                    key: node.required("key").value,
                    max_pages: max_pages(node),
                }
            }
        },
    )
}

/// So many objects are asked for at a time: more do not fit into what an agent answers with.
const MOST_OBJECTS: usize = 60;

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

/// The sign that parts the cells of CSV.
fn delimiter(node: &Node<'_>) -> char {
    let delimiter = node
        .text("delimiter")
        .map_or(",".to_owned(), |text| text.value);
    let mut signs = delimiter.chars();
    match (signs.next(), signs.next()) {
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
    }
}

/// The columns that are asked for, or whose types are fixed.
fn file_fields(node: &Node<'_>, form: FileForm) -> Vec<Field> {
    node.tables("field")
        .into_iter()
        .map(|field| {
            let of_event = |field: &Node<'_>| {
                let key = if field.has("column") {
                    "column"
                } else {
                    "name"
                };
                let column = field.text(key).map(|text| text.value);
                if let Some(column) = column.filter(|name| FileForm::event_kind(name).is_none()) {
                    let known = FileForm::EVENT_COLUMNS.map(|(name, _)| name).join(", ");
                    field.report(
                        key,
                        format!(
                            "\"{column}\" is no column of an iCalendar file; there are {known}"
                        ),
                    );
                }
            };
            if form == FileForm::Calendar {
                of_event(&field);
            }
            read_field(field, false)
        })
        .collect()
}

fn read_file(node: &Node<'_>) -> FileRows {
    let file = node.required("file").value;
    if file.starts_with('/') || file.split('/').any(|part| part == "..") {
        node.report(
            "file",
            "must lie below the source's folder: without \"/\" at its beginning and without \"..\"",
        );
    }
    let form = node
        .choice("format", &FileForm::NAMES)
        .and_then(FileForm::from_name)
        .unwrap_or(FileForm::Csv);
    read_rows(node, file, form)
}

/// What a program prints; its name stands in the source.
fn read_output(node: &Node<'_>) -> Output {
    let form = node
        .required_choice("output", &FileForm::PRINTED)
        .and_then(FileForm::from_name)
        .unwrap_or(FileForm::Csv);
    let arguments = node.texts("arguments").into_iter();
    Output {
        arguments: arguments
            .filter_map(|text| template(node, "arguments", &text.value))
            .collect(),
        rows: read_rows(node, "output".to_owned(), form),
    }
}

/// A search in a directory. Its filter is only a filter once it has values.
fn read_search(node: &Node<'_>) -> Option<Search> {
    let filter = node.required("search").value;
    let filter = template(node, "search", &filter)?;
    if !filter.to_string().starts_with('(') || !filter.to_string().ends_with(')') {
        node.report(
            "search",
            "must be a search filter (RFC 4515), such as \"(objectClass=person)\" or \"(&(objectClass=device)(l={{ port }}))\"",
        );
    }
    let scope = node.choice("scope", &SearchScope::ALL.map(SearchScope::name));
    let fields = node.tables("field").into_iter();
    Some(Search {
        filter,
        base: node.text("base").map(|text| text.value),
        scope: SearchScope::ALL
            .into_iter()
            .find(|known| Some(known.name()) == scope)
            .unwrap_or(SearchScope::Subtree),
        fields: fields.map(|field| read_field(field, false)).collect(),
    })
}

/// Objects of an SNMP agent.
fn read_objects(node: &Node<'_>) -> Option<Objects> {
    let operation = node.choice(
        "operation",
        &ObjectsOperation::ALL.map(ObjectsOperation::name),
    );
    let operation = ObjectsOperation::ALL
        .into_iter()
        .find(|known| Some(known.name()) == operation)
        .unwrap_or(ObjectsOperation::Get);
    let mut objects = Vec::new();
    for text in node.texts("objects") {
        match text.value.parse::<Object>() {
            Ok(object) => objects.push(object),
            Err(error) => node.report("objects", error.to_string()),
        }
    }
    if !(1..=MOST_OBJECTS).contains(&objects.len()) {
        node.report("objects", format!("must be 1 to {MOST_OBJECTS} objects"));
        return None;
    }
    Some(Objects { objects, operation })
}

/// That a key stands only beside the form that it is for.
fn only_for(node: &Node<'_>, key: &'static str, form: FileForm, wanted: FileForm, name: &str) {
    if form != wanted && node.has(key) {
        node.known_key(key);
        node.report(key, format!("goes with \"{name}\" only"));
    }
}

/// The pattern of lines, and that it has names.
fn read_pattern(node: &Node<'_>) -> Option<String> {
    let pattern = node.text("pattern")?.value;
    match regex::Regex::new(&pattern) {
        Err(error) => node.report("pattern", format!("is no regular expression: {error}")),
        Ok(read) if read.capture_names().flatten().next().is_none() => node.report(
            "pattern",
            "has no named group, such as \"^(?<host>\\S+) (?<load>\\S+)$\": each is a column",
        ),
        Ok(_) => {}
    }
    Some(pattern)
}

fn read_rows(node: &Node<'_>, file: String, form: FileForm) -> FileRows {
    if form == FileForm::Calendar {
        for key in ["delimiter", "has-header", "time", "bad-rows"] {
            if node.has(key) {
                node.report(
                    key,
                    "does not go with format = \"icalendar\": its rows are the events of the window, with the columns from, to, title, location, categories and description",
                );
            }
        }
    }
    let own: &[&str] = match form {
        FileForm::Workbook => &["delimiter", "encoding"],
        FileForm::Parquet => &["delimiter", "encoding", "has-header"],
        _ => &[],
    };
    for key in own.iter().filter(|key| node.has(key)) {
        let name = if form == FileForm::Workbook {
            "workbook"
        } else {
            "parquet"
        };
        node.report(
            key,
            format!("does not go with format = \"{name}\": its cells say what they are"),
        );
    }
    only_for(node, "sheet", form, FileForm::Workbook, "workbook");
    only_for(node, "rows", form, FileForm::Json, "json");
    only_for(node, "pattern", form, FileForm::Lines, "lines");
    // The others say it in words of their own.
    if !matches!(
        form,
        FileForm::Calendar | FileForm::Workbook | FileForm::Parquet
    ) {
        only_for(node, "delimiter", form, FileForm::Csv, "csv");
    }
    let delimiter = delimiter(node);
    let fields = file_fields(node, form);
    FileRows {
        file,
        form,
        delimiter,
        encoding: node
            .text("encoding")
            .map_or_else(|| "utf-8".to_owned(), |text| text.value),
        has_header: node.truth("has-header").unwrap_or(true),
        fields,
        time: node.text("time").map(|text| text.value),
        skip_bad: node.choice("bad-rows", &["stop", "skip"]) == Some("skip"),
        sheet: node.text("sheet").map(|text| text.value),
        rows: read_path(node, "rows"),
        pattern: read_pattern(node),
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
                .and_then(|(value, _)| parameter::value_from_toml(value))
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
    let known = CheckKind::ALL
        .into_iter()
        .find(|known| Some(known.name()) == kind);
    if targets.is_empty() && known.is_none_or(|kind| !kind.is_of_this_machine()) {
        node.report_self("a check needs targets = [\"…\"]");
    }
    if let Some(kind) = known
        && !targets.is_empty()
        && !kind.takes_targets()
    {
        node.report(
            "targets",
            format!(
                "does not go with check = \"{}\", which tells of all of this machine",
                kind.name()
            ),
        );
    }
    for target in &targets {
        let wrong = match kind {
            Some("tcp" | "certificate") => source::split_address(target)
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
    Some(Check {
        kind: known?,
        targets,
        concurrency: node.whole("concurrency", 1..=200).unwrap_or(16) as usize,
        seconds: node.whole("seconds", 1..=60).unwrap_or(5) as u64,
    })
}
