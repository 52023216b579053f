//! What a dashboard definition holds: parameters, queries, and sections of blocks.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{
    read_name,
    reader::{Node, Place, Placed, quoted_list},
};
use crate::{
    nearest::suggestion,
    query_text::QueryText,
    status::{Thresholds, Worse},
    unit::Unit,
    window::{Step, Times, Window},
};

#[derive(Debug, Clone, PartialEq)]
pub struct Dashboard {
    pub name: String,
    pub title: String,
    pub summary: Option<String>,
    pub parameters: Vec<Parameter>,
    pub queries: Vec<Query>,
    pub sections: Vec<Section>,
    pub place: Place,
}

#[derive(Debug, Clone, PartialEq)]
pub struct Parameter {
    pub name: String,
    pub title: String,
    pub kind: ParameterKind,
    pub default: Option<ParameterValue>,
}

#[derive(Debug, Clone, PartialEq)]
pub enum ParameterKind {
    Text,
    Number,
    /// One of these words.
    Choice(Vec<String>),
    /// Any number of texts, bound as an array.
    List,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum ParameterValue {
    Text(String),
    Number(f64),
    List(Vec<String>),
}

impl ParameterValue {
    /// For people: a list reads `a, b, c`.
    pub fn readable(&self) -> String {
        match self {
            Self::Text(text) => text.clone(),
            Self::Number(number) => number.to_string(),
            Self::List(items) => items.join(", "),
        }
    }
}

impl Parameter {
    /// Why `value` does not fit this parameter, or nothing if it does.
    pub fn refusal(&self, value: &ParameterValue) -> Option<String> {
        match (&self.kind, value) {
            (ParameterKind::Text, ParameterValue::Text(_))
            | (ParameterKind::Number, ParameterValue::Number(_))
            | (ParameterKind::List, ParameterValue::List(_)) => None,
            (ParameterKind::Choice(words), ParameterValue::Text(given)) if words.contains(given) => None,
            (ParameterKind::Choice(words), ParameterValue::Text(given)) => {
                let words: Vec<&str> = words.iter().map(String::as_str).collect();
                Some(format!("\"{given}\" is not one of {}.{}", quoted_list(&words), suggestion(given, words.iter().copied())))
            }
            (ParameterKind::Text | ParameterKind::Choice(_), _) => Some("must be a text in quotes".to_owned()),
            (ParameterKind::Number, _) => Some("must be a number".to_owned()),
            (ParameterKind::List, _) => Some("must be a list of texts, such as [\"a\", \"b\"]".to_owned()),
        }
    }
}

#[derive(Debug, Clone, PartialEq)]
pub struct Query {
    pub name: String,
    pub source: Placed<String>,
    pub text: QueryText,
    /// The text as the author wrote it.
    pub written: String,
    /// The resampling step behind `:steps`; one that fits the window if nothing is said.
    pub step: Option<Step>,
    pub columns: Vec<ColumnHint>,
    pub place: Place,
}

/// How many points across a figure shows well.
const POINTS_ACROSS_HALF: usize = 160;
const POINTS_ACROSS_FULL: usize = 320;

impl Dashboard {
    /// The step behind a query's `:steps`: its own, or one that fits the window and the
    /// widest figure that shows the query.
    pub fn step(&self, query: &Query, window: &Window) -> Step {
        let blocks = self.sections.iter().flat_map(|section| &section.blocks);
        let shows = blocks.filter(|block| block.query.as_ref().is_some_and(|name| name.value == query.name));
        let wide = shows.map(|block| block.width).any(|width| width == Width::Full);
        query.step.unwrap_or_else(|| Step::fitting(window, if wide { POINTS_ACROSS_FULL } else { POINTS_ACROSS_HALF }))
    }
}

impl Query {
    pub fn hint(&self, column: &str) -> Option<&ColumnHint> {
        self.columns.iter().find(|hint| hint.name == column)
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

#[derive(Debug, Clone, PartialEq)]
pub struct Section {
    pub title: String,
    pub text: Option<String>,
    pub blocks: Vec<Block>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Width {
    Half,
    Full,
}

#[derive(Debug, Clone, PartialEq)]
pub struct Block {
    pub title: String,
    pub note: Option<String>,
    pub width: Width,
    /// Nothing only for text.
    pub query: Option<Placed<String>>,
    pub kind: BlockKind,
    pub place: Place,
}

#[derive(Debug, Clone, PartialEq)]
pub enum BlockKind {
    /// One row; each column is a key figure.
    Figures { columns: Vec<String> },
    /// Values over time; one line for each value of `series`, or for each value column.
    Line { time: String, values: Vec<String>, series: Option<String> },
    /// One bar, or one group of bars, for each row.
    Bar { label: String, values: Vec<String> },
    /// Rows as they come; every column unless some are named.
    Table { columns: Vec<String>, limit: Option<usize> },
    /// CommonMark.
    Text(String),
}

pub(super) fn read(root: &Node<'_>) -> Option<Dashboard> {
    let node = root.table("dashboard")?;
    let name = read_name(&node);
    let title = node.required("title").value;
    let summary = node.text("summary").map(|text| text.value);
    let place = node.place();
    node.close();
    let parameters = root.tables("parameter").into_iter().map(read_parameter).collect();
    let queries: Vec<Query> = root.tables("query").into_iter().filter_map(read_query).collect();
    let sections: Vec<Section> = root.tables("section").into_iter().map(|section| read_section(section, &queries)).collect();
    if sections.is_empty() {
        root.report("section", "a dashboard needs at least one [[section]] with a [[section.block]]");
    }
    Some(Dashboard { name, title, summary, parameters, queries, sections, place })
}

fn read_parameter(node: Node<'_>) -> Parameter {
    let name = read_identifier(&node, "name");
    if Times::NAMES.contains(&name.as_str()) {
        node.report("name", format!("\"{name}\" is the window's own parameter; choose another name"));
    }
    let title = node.text("title").map_or_else(|| name.clone(), |title| title.value);
    let choices: Vec<String> = node.texts("choices").into_iter().map(|choice| choice.value).collect();
    let kind = match node.choice("kind", &["text", "number", "choice", "list"]) {
        Some("number") => ParameterKind::Number,
        Some("choice") => {
            if choices.is_empty() {
                node.report_self("a parameter of kind \"choice\" needs choices = [\"…\"]");
            }
            ParameterKind::Choice(choices)
        }
        Some("list") => ParameterKind::List,
        _ => ParameterKind::Text,
    };
    let mut parameter = Parameter { name, title, kind, default: None };
    node.known_key("default");
    if let Some((value, _)) = node.value_of("default") {
        match value_from_toml(value) {
            Some(value) => match parameter.refusal(&value) {
                Some(refusal) => node.report("default", refusal),
                None => parameter.default = Some(value),
            },
            None => node.report("default", "must be a text, a number or a list of texts"),
        }
    }
    node.close();
    parameter
}

fn read_query(node: Node<'_>) -> Option<Query> {
    let name = read_identifier(&node, "name");
    let source = node.required("source");
    let sql = node.required("sql");
    let text = match QueryText::parse(&sql.value) {
        Ok(text) => Some(text),
        Err(error) => {
            if !sql.value.is_empty() {
                node.report("sql", error.to_string());
            }
            None
        }
    };
    let columns = node
        .tables("column")
        .into_iter()
        .map(|column| {
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
        })
        .collect();
    let step = node.parsed::<Step>("step");
    let place = node.place();
    node.close();
    Some(Query { name, source, text: text?, written: sql.value, step, columns, place })
}

fn read_section(node: Node<'_>, queries: &[Query]) -> Section {
    let title = node.required("title").value;
    let text = node.text("text").map(|text| text.value);
    let blocks = node.tables("block").into_iter().filter_map(|block| read_block(block, queries)).collect();
    node.close();
    Section { title, text, blocks }
}

fn read_block(node: Node<'_>, queries: &[Query]) -> Option<Block> {
    let shape = node.required_choice("show", &["figures", "line", "bar", "table", "text"]);
    let title = if shape == Some("text") { node.text("title").map_or_else(String::new, |title| title.value) } else { node.required("title").value };
    let note = node.text("note").map(|note| note.value);
    let width = match node.choice("width", &["half", "full"]) {
        Some("half") => Width::Half,
        _ => Width::Full,
    };
    let query = if shape == Some("text") { None } else { Some(node.required("query")) };
    if let Some(query) = &query
        && !query.value.is_empty()
        && !queries.iter().any(|known| known.name == query.value)
    {
        let names: Vec<&str> = queries.iter().map(|query| query.name.as_str()).collect();
        node.report("query", format!("there is no query \"{}\" in this dashboard.{}", query.value, suggestion(&query.value, names)));
    }
    let texts = |key| node.texts(key).into_iter().map(|text| text.value).collect::<Vec<_>>();
    let kind = match shape? {
        "figures" => BlockKind::Figures { columns: texts("columns") },
        "line" => BlockKind::Line { time: node.required("time").value, values: required_values(&node), series: node.text("series").map(|series| series.value) },
        "bar" => BlockKind::Bar { label: node.required("label").value, values: required_values(&node) },
        "table" => BlockKind::Table { columns: texts("columns"), limit: node.whole("limit", 1..=100_000).map(|n| n as usize) },
        _ => BlockKind::Text(node.required("text").value),
    };
    if let BlockKind::Line { values, series: Some(_), .. } = &kind
        && values.len() > 1
    {
        node.report("value", "with series there can be only one value column");
    }
    let place = node.place();
    node.close();
    Some(Block { title, note, width, query, kind, place })
}

fn required_values(node: &Node<'_>) -> Vec<String> {
    let values: Vec<String> = node.texts("value").into_iter().map(|value| value.value).collect();
    if values.is_empty() {
        node.report_self("the key \"value\" is missing here; it names the column, or the columns, to draw");
    }
    values
}

/// A name that can stand behind a colon in SQL.
fn read_identifier(node: &Node<'_>, key: &'static str) -> String {
    let name = node.required(key).value;
    if !name.is_empty() && (name.starts_with(|c: char| c.is_ascii_digit()) || !name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_')) {
        node.report(key, format!("\"{name}\" is not a name here: use small letters, digits and underscores, such as \"by_port\""));
    }
    name
}

pub(super) fn value_from_toml(value: &toml_edit::Value) -> Option<ParameterValue> {
    if let Some(text) = value.as_str() {
        return Some(ParameterValue::Text(text.to_owned()));
    }
    if let Some(number) = value.as_float().or_else(|| value.as_integer().map(|n| n as f64)) {
        return number.is_finite().then_some(ParameterValue::Number(number));
    }
    let items: Option<Vec<String>> = value.as_array()?.iter().map(|item| item.as_str().map(str::to_owned)).collect();
    items.map(ParameterValue::List)
}

/// Reads a table of parameter values; the names are checked against dashboards later.
pub(super) fn read_values(node: Option<Node<'_>>) -> BTreeMap<String, Placed<ParameterValue>> {
    let Some(node) = node else { return BTreeMap::new() };
    let mut values = BTreeMap::new();
    for key in node.keys() {
        match node.value_of(&key).and_then(|(value, place)| Some((value_from_toml(value)?, place))) {
            Some((value, place)) => {
                values.insert(key, Placed { value, place });
            }
            None => node.report(&key, "must be a text, a number or a list of texts"),
        }
    }
    values
}
