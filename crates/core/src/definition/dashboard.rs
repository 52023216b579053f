//! What a dashboard definition holds: parameters, queries, and sections of blocks.

use std::{collections::BTreeMap, str::FromStr};

use serde::{Deserialize, Serialize};

use super::{
    Query, query, read_identifier, read_name,
    reader::{Node, Place, Placed, quoted_list},
    reuse::{self, Borrowed, Changes},
    width::{self, Width},
};
use crate::{
    chart::{BarForm, LineStyle},
    figures::{Operation, Order},
    message::{self, Template},
    nearest::suggestion,
    series::How,
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
    /// The query of this dashboard whose first column has the values to choose from; a
    /// second one has their titles. It may be asked with other parameters.
    pub choices_from: Option<Placed<String>>,
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
            // What the query answers is known only when it is asked.
            (ParameterKind::Choice(_), ParameterValue::Text(_)) if self.choices_from.is_some() => {
                None
            }
            (ParameterKind::Choice(words), ParameterValue::Text(given))
                if words.contains(given) =>
            {
                None
            }
            (ParameterKind::Choice(words), ParameterValue::Text(given)) => {
                let words: Vec<&str> = words.iter().map(String::as_str).collect();
                Some(format!(
                    "\"{given}\" is not one of {}.{}",
                    quoted_list(&words),
                    suggestion(given, words.iter().copied())
                ))
            }
            (ParameterKind::Text | ParameterKind::Choice(_), _) => {
                Some("must be a text in quotes".to_owned())
            }
            (ParameterKind::Number, _) => Some("must be a number".to_owned()),
            (ParameterKind::List, _) => {
                Some("must be a list of texts, such as [\"a\", \"b\"]".to_owned())
            }
        }
    }
}

/// How many points across a figure shows well.
const POINTS_ACROSS: usize = 320;

impl Dashboard {
    /// The texts of its sections and blocks, as their author wrote them.
    pub fn texts(&self) -> impl Iterator<Item = &str> {
        self.sections.iter().flat_map(|section| {
            section
                .text
                .as_deref()
                .into_iter()
                .chain(section.blocks.iter().filter_map(Block::written_text))
        })
    }

    /// Whether a query's answer is made of the rows recorded under `record`.
    fn rests_on(&self, query: &str, record: &str) -> bool {
        let Some(query) = self.queries.iter().find(|known| known.name == query) else {
            return false;
        };
        // Names only lead back to earlier queries of the list, so this ends.
        query.record() == record || query.needs().any(|needed| self.rests_on(needed, record))
    }

    /// The queries that must be asked: those that the answer of some block, or of one of the
    /// queries `also`, is made of, each once.
    pub fn asked(&self, also: &[String]) -> Vec<&Query> {
        let blocks = || self.sections.iter().flat_map(|section| &section.blocks);
        let wanted = || {
            blocks()
                .flat_map(Block::queries)
                .map(|name| &name.value)
                .chain(also)
        };
        let shown = |record: &str| wanted().any(|name| self.rests_on(name, record));
        let own = self.queries.iter().filter(|query| {
            query.recorded_as.is_none() && !matches!(query.origin, super::Origin::Query(_))
        });
        own.filter(|query| shown(&query.name)).collect()
    }

    /// The step behind a query's `:steps`: its own, or one that fits the window and the
    /// widest figure that shows the query.
    pub fn step(&self, query: &Query, window: &Window) -> Step {
        let blocks = self.sections.iter().flat_map(|section| &section.blocks);
        let shows = blocks.filter(|block| {
            block
                .queries()
                .any(|name| self.rests_on(&name.value, query.record()))
        });
        let widest = shows
            .map(|block| block.width.unwrap_or(Width::FULL))
            .max()
            .unwrap_or(Width::HALF);
        query.step.unwrap_or_else(|| {
            Step::fitting(window, POINTS_ACROSS * usize::from(widest.twelfths()) / 12)
        })
    }
}

#[derive(Debug, Clone, PartialEq)]
pub struct Section {
    pub title: String,
    pub text: Option<String>,
    pub blocks: Vec<Block>,
}

#[derive(Debug, Clone, PartialEq)]
pub struct Block {
    pub title: String,
    pub note: Option<String>,
    /// Nothing where the report's look decides.
    pub width: Option<Width>,
    /// Nothing only for text.
    pub query: Option<Placed<String>>,
    pub kind: BlockKind,
    /// The block of another dashboard that stands here, with `changes`.
    pub borrowed: Option<Borrowed>,
    pub changes: Changes,
    pub place: Place,
}

#[derive(Debug, Clone, PartialEq)]
pub enum BlockKind {
    /// One row; each column is a key figure. `before` is a query with the same columns of
    /// another window, `trend` one with the same columns over time.
    Figures {
        columns: Vec<String>,
        before: Option<Placed<String>>,
        trend: Option<Placed<String>>,
    },
    /// Values over time; one line for each value of `series`, or for each value column.
    Line {
        time: String,
        values: Vec<String>,
        series: Option<String>,
        style: LineStyle,
        spans: Option<Placed<String>>,
    },
    /// One bar, or one group or stack of bars, for each row.
    Bar {
        label: String,
        values: Vec<String>,
        form: BarForm,
        series: Option<String>,
    },
    /// The highest first, so many of them.
    Ranking {
        label: String,
        value: String,
        limit: usize,
        order: Order,
    },
    /// From the first row, by the changes in those between, to the last.
    Breakdown {
        label: String,
        value: String,
    },
    /// A value for each hour of the day and day of the week, or for each pair of two columns.
    Heat {
        by: HeatBy,
        value: String,
        how: How,
    },
    /// The state of each thing over time, by a column of words or by thresholds.
    Timeline {
        time: String,
        row: String,
        state: String,
    },
    /// One value against another.
    Scatter {
        across: String,
        up: String,
        series: Option<String>,
    },
    Histogram {
        value: String,
        bins: Option<usize>,
    },
    Boxes {
        value: String,
        row: Option<String>,
    },
    Share {
        label: String,
        value: String,
        round: bool,
    },
    /// Rows as they come; every column unless some are named.
    Table {
        columns: Vec<String>,
        limit: Option<usize>,
        bars: Vec<String>,
        trend: Option<TrendColumn>,
    },
    /// CommonMark.
    Text(String),
    /// A picture, as the data URL that the definition holds.
    Image {
        data: Picture,
        description: String,
    },
    PageBreak,
}

/// A last column of a table with a small line for each row: the values over time that another
/// query has for it.
#[derive(Debug, Clone, PartialEq)]
pub struct TrendColumn {
    pub query: Placed<String>,
    /// The column, of both queries, by which rows belong together.
    pub key: String,
    pub value: String,
}

/// What the rows and columns of a heat map are.
#[derive(Debug, Clone, PartialEq)]
pub enum HeatBy {
    HourAndWeekday { time: String },
    Columns { row: String, column: String },
}

/// A picture's bytes and what they are.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Picture {
    /// `image/png`, `image/jpeg` or `image/svg+xml`.
    pub media_type: String,
    /// In base 64, as a data URL (RFC 2397) has them.
    pub base64: String,
}

impl FromStr for Picture {
    type Err = String;

    /// Reads a data URL. A picture is a part of its definition, so that a document can be
    /// made again from its snapshot alone.
    fn from_str(text: &str) -> Result<Self, String> {
        let refused = || {
            "must be a data URL such as \"data:image/png;base64,…\" of a PNG, JPEG or SVG picture"
                .to_owned()
        };
        let (media_type, base64) = text
            .strip_prefix("data:")
            .and_then(|rest| rest.split_once(";base64,"))
            .ok_or_else(refused)?;
        if !["image/png", "image/jpeg", "image/svg+xml"].contains(&media_type) {
            return Err(refused());
        }
        let base64: String = base64.chars().filter(|c| !c.is_whitespace()).collect();
        if base64.is_empty()
            || !base64
                .chars()
                .all(|c| c.is_ascii_alphanumeric() || matches!(c, '+' | '/' | '='))
        {
            return Err(refused());
        }
        if base64.len() > 1_400_000 {
            return Err("is larger than 1 MB; make the picture smaller".to_owned());
        }
        Ok(Self {
            media_type: media_type.to_owned(),
            base64,
        })
    }
}

/// What a block may show, by its key `show`.
pub(super) const SHAPES: [&str; 19] = [
    "figures",
    "line",
    "area",
    "stacked-area",
    "steps",
    "bar",
    "column",
    "ranking",
    "breakdown",
    "heat-map",
    "timeline",
    "scatter",
    "histogram",
    "box",
    "share",
    "table",
    "text",
    "image",
    "page-break",
];

pub(super) fn read(root: &Node<'_>) -> Option<Dashboard> {
    let node = root.table("dashboard")?;
    let name = read_name(&node);
    let title = node.required("title").value;
    let summary = node.text("summary").map(|text| text.value);
    let place = node.place();
    node.close();
    let parameters: Vec<Parameter> = root
        .tables("parameter")
        .into_iter()
        .map(read_parameter)
        .collect();
    let queries: Vec<Query> = root
        .tables("query")
        .into_iter()
        .filter_map(|node| query::read(node, None))
        .collect();
    for (index, query) in queries.iter().enumerate() {
        for needed in query.needs().filter(|needed| {
            !queries[..index]
                .iter()
                .any(|earlier| earlier.name == **needed)
        }) {
            let names: Vec<&str> = queries[..index]
                .iter()
                .map(|query| query.name.as_str())
                .collect();
            let words = format!(
                "the query \"{}\" needs the answer of \"{needed}\", which must stand before it in this dashboard.{}",
                query.name,
                suggestion(needed, names)
            );
            root.report_at(&query.place, words);
        }
        let summing = query
            .needs()
            .filter_map(|needed| queries.iter().find(|known| known.name == needed))
            .find(|known| known.then.iter().any(Operation::sums_up));
        if let Some(summing) = summing {
            let words = format!(
                "the query \"{}\" needs the rows of \"{}\", some of which sum up others; take them from a query without totals",
                query.name, summing.name
            );
            root.report_at(&query.place, words);
        }
        if queries[..index]
            .iter()
            .any(|earlier| earlier.name == query.name)
        {
            root.report_at(
                &query.place,
                format!("two queries are named \"{}\"", query.name),
            );
        }
    }
    let by_name = |name: &str| queries.iter().any(|query| query.name == name);
    for from in parameters
        .iter()
        .filter_map(|parameter: &Parameter| parameter.choices_from.as_ref())
        .filter(|from| !by_name(&from.value))
    {
        let names: Vec<&str> = queries.iter().map(|query| query.name.as_str()).collect();
        root.report_at(
            &from.place,
            format!(
                "there is no query \"{}\" in this dashboard.{}",
                from.value,
                suggestion(&from.value, names)
            ),
        );
    }
    let sections: Vec<Section> = root
        .tables("section")
        .into_iter()
        .map(|section| read_section(section, &queries))
        .collect();
    if sections.is_empty() {
        root.report(
            "section",
            "a dashboard needs at least one [[section]] with a [[section.block]]",
        );
    }
    Some(Dashboard {
        name,
        title,
        summary,
        parameters,
        queries,
        sections,
        place,
    })
}

fn read_parameter(node: Node<'_>) -> Parameter {
    let name = read_identifier(&node, "name");
    if Times::NAMES.contains(&name.as_str()) {
        node.report(
            "name",
            format!("\"{name}\" is the window's own parameter; choose another name"),
        );
    }
    let title = node
        .text("title")
        .map_or_else(|| name.clone(), |title| title.value);
    let choices: Vec<String> = node
        .texts("choices")
        .into_iter()
        .map(|choice| choice.value)
        .collect();
    let choices_from = node.text("choices-from");
    let kind = match node.choice("kind", &["text", "number", "choice", "list"]) {
        Some("number") => ParameterKind::Number,
        Some("choice") => {
            if choices.is_empty() == choices_from.is_none() {
                node.report_self("a parameter of kind \"choice\" needs either choices = [\"…\"] or choices-from, the name of a query");
            }
            ParameterKind::Choice(choices)
        }
        Some("list") => ParameterKind::List,
        _ => ParameterKind::Text,
    };
    let mut parameter = Parameter {
        name,
        title,
        kind,
        default: None,
        choices_from,
    };
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

fn read_section(node: Node<'_>, queries: &[Query]) -> Section {
    let title = node.required("title").value;
    let text = node.text("text").map(|text| text.value);
    if let Some(text) = &text {
        check_text(&node, text);
    }
    let blocks = node
        .tables("block")
        .into_iter()
        .filter_map(|block| read_block(block, queries))
        .collect();
    node.close();
    Section {
        title,
        text,
        blocks,
    }
}

fn check_text(node: &Node<'_>, text: &str) {
    if let Err(error) = message::check_text(&Template::new(text.to_owned())) {
        node.report("text", error);
    }
}

fn read_block(node: Node<'_>, queries: &[Query]) -> Option<Block> {
    if node.has("from") {
        let borrowed = reuse::read_borrowed(&node);
        let changes = reuse::read_changes(&node);
        let place = node.place();
        node.close();
        let (title, kind) = (String::new(), BlockKind::Text(String::new()));
        return Some(Block {
            title,
            note: None,
            width: None,
            query: None,
            kind,
            borrowed: Some(borrowed?),
            changes,
            place,
        });
    }
    let shape = node.required_choice("show", &SHAPES);
    let bare = matches!(shape, Some("text" | "image" | "page-break"));
    let title = if bare {
        node.text("title")
            .map_or_else(String::new, |title| title.value)
    } else {
        node.required("title").value
    };
    let note = node.text("note").map(|note| note.value);
    let width = width::read(&node);
    let query = if bare {
        None
    } else {
        Some(node.required("query"))
    };
    if let Some(query) = &query
        && !query.value.is_empty()
        && !queries.iter().any(|known| known.name == query.value)
    {
        let names: Vec<&str> = queries.iter().map(|query| query.name.as_str()).collect();
        node.report(
            "query",
            format!(
                "there is no query \"{}\" in this dashboard.{}",
                query.value,
                suggestion(&query.value, names)
            ),
        );
    }
    let kind = read_kind(&node, shape?)?;
    if kind.is_chart() && width.is_some_and(|width| width < Width::LEAST_OF_CHARTS) {
        node.report(
            "width",
            "a chart needs at least a third of the page (4 twelfths) to be read",
        );
    }
    let place = node.place();
    let block = Block {
        title,
        note,
        width,
        query,
        kind,
        borrowed: None,
        changes: Changes::default(),
        place,
    };
    for also in block
        .queries()
        .skip(usize::from(block.query.is_some()))
        .filter(|also| !queries.iter().any(|known| known.name == also.value))
    {
        let names: Vec<&str> = queries.iter().map(|query| query.name.as_str()).collect();
        node.report_at(
            &also.place,
            format!(
                "there is no query \"{}\" in this dashboard.{}",
                also.value,
                suggestion(&also.value, names)
            ),
        );
    }
    node.close();
    Some(block)
}

impl BlockKind {
    /// Whether it is drawn, with axes and labels.
    pub fn is_chart(&self) -> bool {
        !matches!(
            self,
            Self::Figures { .. }
                | Self::Table { .. }
                | Self::Text(_)
                | Self::Image { .. }
                | Self::PageBreak
        )
    }
}

impl Block {
    fn written_text(&self) -> Option<&str> {
        if let BlockKind::Text(text) = &self.kind {
            Some(text)
        } else {
            None
        }
    }

    /// The same, to be given other names.
    pub(super) fn queries_mut(&mut self) -> impl Iterator<Item = &mut Placed<String>> {
        let also = match &mut self.kind {
            BlockKind::Figures { before, trend, .. } => [before.as_mut(), trend.as_mut()],
            BlockKind::Line { spans, .. } => [spans.as_mut(), None],
            BlockKind::Table { trend, .. } => [trend.as_mut().map(|trend| &mut trend.query), None],
            _ => [None, None],
        };
        self.query.iter_mut().chain(also.into_iter().flatten())
    }

    /// The queries that it shows something of.
    pub fn queries(&self) -> impl Iterator<Item = &Placed<String>> {
        let also = match &self.kind {
            BlockKind::Figures { before, trend, .. } => [before.as_ref(), trend.as_ref()],
            BlockKind::Line { spans, .. } => [spans.as_ref(), None],
            BlockKind::Table { trend, .. } => [trend.as_ref().map(|trend| &trend.query), None],
            _ => [None, None],
        };
        self.query.iter().chain(also.into_iter().flatten())
    }
}

/// What a block shows of its query's columns.
pub(super) fn read_kind(node: &Node<'_>, shape: &str) -> Option<BlockKind> {
    let texts = |key| {
        node.texts(key)
            .into_iter()
            .map(|text| text.value)
            .collect::<Vec<_>>()
    };
    let text = |key| node.text(key).map(|text| text.value);
    let required = |key| node.required(key).value;
    let kind = match shape {
        "figures" => BlockKind::Figures {
            columns: texts("columns"),
            before: node.text("before"),
            trend: node.text("trend"),
        },
        "line" | "area" | "stacked-area" | "steps" => BlockKind::Line {
            time: node.required("time").value,
            values: required_values(node),
            series: text("series"),
            style: match shape {
                "area" => LineStyle::Area,
                "stacked-area" => LineStyle::Stacked,
                "steps" => LineStyle::Steps,
                _ => LineStyle::Line,
            },
            spans: node.text("spans"),
        },
        "bar" | "column" => BlockKind::Bar {
            label: node.required("label").value,
            values: required_values(node),
            form: BarForm {
                stacked: node.truth("stacked").unwrap_or(false),
                upright: shape == "column",
            },
            series: text("series"),
        },
        "ranking" => BlockKind::Ranking {
            label: required("label"),
            value: required("value"),
            limit: node.whole("limit", 1..=60).unwrap_or(10) as usize,
            order: if node.choice("order", &["highest", "lowest"]) == Some("lowest") {
                Order::Lowest
            } else {
                Order::Highest
            },
        },
        "breakdown" => BlockKind::Breakdown {
            label: required("label"),
            value: required("value"),
        },
        "heat-map" => BlockKind::Heat {
            by: match (text("time"), text("row"), text("column")) {
                (Some(time), None, None) => HeatBy::HourAndWeekday { time },
                (None, Some(row), Some(column)) => HeatBy::Columns { row, column },
                _ => {
                    let instead = ["time", "row", "column"]
                        .map(|key| {
                            if node.has(key) {
                                String::new()
                            } else {
                                node.instead(key)
                            }
                        })
                        .concat();
                    node.report_self(format!("a heat map has either time, for hours and weekdays, or row and column{instead}"));
                    return None;
                }
            },
            value: required("value"),
            how: node.parsed::<How>("with").unwrap_or(How::Mean),
        },
        "timeline" => BlockKind::Timeline {
            time: required("time"),
            row: required("row"),
            state: required("state"),
        },
        "scatter" => BlockKind::Scatter {
            across: required("across"),
            up: required("up"),
            series: text("series"),
        },
        "histogram" => BlockKind::Histogram {
            value: required("value"),
            bins: node.whole("bins", 2..=60).map(|n| n as usize),
        },
        "box" => BlockKind::Boxes {
            value: required("value"),
            row: text("row"),
        },
        "share" => BlockKind::Share {
            label: required("label"),
            value: required("value"),
            round: node.truth("round").unwrap_or(false),
        },
        "image" => {
            let description = required("description");
            // A block that is not there must not be passed over in silence.
            required("data");
            BlockKind::Image {
                data: node.parsed::<Picture>("data")?,
                description,
            }
        }
        "page-break" => BlockKind::PageBreak,
        "table" => BlockKind::Table {
            columns: texts("columns"),
            limit: node
                .value_of("limit")
                .is_none_or(|(value, _)| value.as_str().is_none())
                .then(|| node.whole("limit", 1..=100_000))
                .flatten()
                .map(|n| n as usize),
            bars: texts("bars"),
            trend: read_trend(node),
        },
        _ => {
            let text = node.required("text").value;
            check_text(node, &text);
            BlockKind::Text(text)
        }
    };
    if let BlockKind::Line {
        values,
        series: Some(_),
        ..
    }
    | BlockKind::Bar {
        values,
        series: Some(_),
        ..
    } = &kind
        && values.len() > 1
    {
        node.report("value", "with series there can be only one value column");
    }
    Some(kind)
}

fn read_trend(node: &Node<'_>) -> Option<TrendColumn> {
    match (
        node.text("trend"),
        node.text("trend-by"),
        node.text("trend-of"),
    ) {
        (Some(query), Some(key), Some(value)) => Some(TrendColumn {
            query,
            key: key.value,
            value: value.value,
        }),
        (None, None, None) => None,
        _ => {
            node.report_self("a table with a column of trends needs all three: trend, the query; trend-by, the column that tells which row a value belongs to; trend-of, the column of the values");
            None
        }
    }
}

fn required_values(node: &Node<'_>) -> Vec<String> {
    let values: Vec<String> = node
        .texts("value")
        .into_iter()
        .map(|value| value.value)
        .collect();
    if values.is_empty() {
        node.report_self(
            "the key \"value\" is missing here; it names the column, or the columns, to draw",
        );
    }
    values
}

pub(super) fn value_from_toml(value: &toml_edit::Value) -> Option<ParameterValue> {
    if let Some(text) = value.as_str() {
        return Some(ParameterValue::Text(text.to_owned()));
    }
    if let Some(number) = value
        .as_float()
        .or_else(|| value.as_integer().map(|n| n as f64))
    {
        return number.is_finite().then_some(ParameterValue::Number(number));
    }
    let items: Option<Vec<String>> = value
        .as_array()?
        .iter()
        .map(|item| item.as_str().map(str::to_owned))
        .collect();
    items.map(ParameterValue::List)
}

/// Reads a table of parameter values; the names are checked against dashboards later.
pub(super) fn read_values(node: Option<Node<'_>>) -> BTreeMap<String, Placed<ParameterValue>> {
    let Some(node) = node else {
        return BTreeMap::new();
    };
    let mut values = BTreeMap::new();
    for key in node.keys() {
        match node
            .value_of(&key)
            .and_then(|(value, place)| Some((value_from_toml(value)?, place)))
        {
            Some((value, place)) => {
                values.insert(key, Placed { value, place });
            }
            None => node.report(&key, "must be a text, a number or a list of texts"),
        }
    }
    values
}
