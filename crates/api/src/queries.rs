//! Queries that are tried, catalogues, parameters and samplers.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use maple_lark_definition::ParameterValue;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A query to try: one that is written here, or one of a dashboard.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct QueryOrder {
    /// A query as a dashboard has it, in TOML, with its keys under `[query]`; or, where `query` is
    /// given too, the text of the dashboard that has it.
    pub definition: Option<String>,
    pub dashboard: Option<String>,
    /// The name of a query of that dashboard.
    pub query: Option<String>,
    /// How many of the steps that follow the query are taken, where the dashboard is given as text;
    /// all of them if nothing is said.
    #[serde(default)]
    pub steps: Option<usize>,
    /// The window; the last 24 hours if nothing is said.
    pub from: Option<DateTime<Utc>>,
    pub to: Option<DateTime<Utc>>,
    /// Instead of `from` and `to`: the window with the keys that it has in a report, counted from now.
    #[serde(default)]
    pub window: Option<serde_json::Value>,
    /// An IANA time zone; UTC if nothing is said.
    pub time_zone: Option<String>,
    /// Parameter values by name: texts, numbers or lists of texts.
    #[serde(default)]
    #[schema(value_type = BTreeMap<String, serde_json::Value>)]
    pub values: BTreeMap<String, ParameterValue>,
    /// How many rows to show, at most 1000; 100 if nothing is said.
    pub rows: Option<usize>,
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct AnswerColumn {
    pub name: String,
    pub kind: String,
    pub numeric: bool,
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct QueryAnswer {
    pub columns: Vec<AnswerColumn>,
    /// The first rows, in full precision; null is a missing value.
    pub rows: Vec<Vec<Option<String>>>,
    pub row_count: usize,
    /// The source has more rows than its limit lets be read.
    pub truncated: bool,
    pub milliseconds: i64,
    /// The question as the source got it; values were bound to its names and numbers.
    pub sent: String,
    pub note: Option<String>,
    /// What was picked, as SQL to go on with by hand.
    pub by_hand: Option<String>,
    /// Fields to copy into the definition, where types were found out from the rows.
    pub fields: Option<String>,
    pub window: String,
}

/// One thing that a source can be asked about.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CatalogueEntry {
    pub name: String,
    pub kind: String,
    pub unit: String,
    pub description: String,
    pub items: Vec<CatalogueItem>,
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CatalogueItem {
    pub name: String,
    pub kind: String,
    pub description: String,
    pub values: Vec<String>,
}

/// What values to choose from, given those chosen already.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChoicesOrder {
    #[serde(default)]
    #[schema(value_type = BTreeMap<String, serde_json::Value>)]
    pub values: BTreeMap<String, ParameterValue>,
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ParameterChoices {
    pub name: String,
    pub title: String,
    pub kind: String,
    pub default: Option<String>,
    /// The parameters that its choices depend on.
    pub depends_on: Vec<String>,
    pub choices: Vec<Choice>,
    /// Why there are no choices, if they could not be asked for.
    pub problem: Option<String>,
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Choice {
    pub value: String,
    pub title: String,
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct SamplerView {
    pub name: String,
    pub title: String,
    pub source: String,
    pub every_seconds: i64,
    pub keep_days: f64,
    /// Nothing before the first answer.
    pub last_at: Option<DateTime<Utc>>,
    pub works: bool,
    pub detail: Option<String>,
    pub samples: i64,
    pub since: Option<DateTime<Utc>>,
}
