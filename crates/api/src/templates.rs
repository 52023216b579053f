//! Templates: ready-made dashboards with gaps, and what is made of them.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::DefinitionFile;

/// A dashboard with gaps.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TemplateView {
    pub name: String,
    pub title: String,
    /// The question that it answers.
    pub question: String,
    /// What it is for: `availability`, `capacity` and so on.
    pub purpose: String,
    /// The heading above the templates of this purpose.
    pub purpose_title: String,
    /// Raised with each change.
    pub version: u32,
    /// The kind of source that it reads.
    pub source_kind: String,
    /// What the source must have or permit.
    pub needs: Option<String>,
    /// How to use it, as CommonMark.
    pub instructions: Option<String>,
    pub inputs: Vec<TemplateInput>,
    /// What the dashboard looks like, block by block.
    pub blocks: Vec<TemplateBlock>,
    /// How many samplers it makes beside the dashboard.
    pub samplers: usize,
    /// Whether it is one of this place, and not of the program.
    pub own: bool,
    /// The dashboards that were made of it.
    pub used_by: Vec<String>,
}

/// A gap of a template.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TemplateInput {
    pub name: String,
    pub title: String,
    /// `text`, `number`, `list`, `choice`, `table`, `column`, `metric`, `label` or `file`.
    pub kind: String,
    /// For a column the input with its table, for a label the one with its metric.
    pub of: Option<String>,
    /// What a `choice` can be.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub choices: Vec<String>,
    /// The value where none is given.
    pub default: Option<String>,
    pub example: String,
    pub note: Option<String>,
}

/// A block of the dashboard that a template makes.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TemplateBlock {
    /// As `show` in a definition: `figures`, `line`, `table` and so on.
    pub show: String,
    pub title: String,
    /// How much of the page's width it takes.
    pub twelfths: u8,
}

/// What to make of a template.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TemplateOrder {
    /// The name of the source that it reads.
    pub source: String,
    /// The values of its inputs.
    #[serde(default)]
    pub values: BTreeMap<String, String>,
    /// The name of the dashboard; the template's, or one like it that is free, if not given.
    #[serde(default)]
    pub name: Option<String>,
    #[serde(default)]
    pub title: Option<String>,
    /// The report that shows the dashboard; none, if not given.
    #[serde(default)]
    pub report: Option<TemplateReport>,
}

/// The report that a dashboard made of a template comes with. It has the dashboard's name.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TemplateReport {
    /// The dashboard's, if not given.
    #[serde(default)]
    pub title: Option<String>,
    /// An IANA time zone; UTC if nothing is said.
    #[serde(default)]
    pub time_zone: Option<String>,
    /// The keys of `[window]`; the previous day if nothing is said.
    #[serde(default)]
    pub window: Option<serde_json::Value>,
    /// The keys of `[schedule]`; it runs when somebody asks if nothing is said.
    #[serde(default)]
    pub schedule: Option<serde_json::Value>,
    /// PDF if nothing is said.
    #[serde(default)]
    pub formats: Vec<String>,
    /// Addresses, and names of people and groups.
    #[serde(default)]
    pub to: Vec<String>,
}

/// What a template makes: definitions.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FilledTemplate {
    /// The name of the dashboard.
    pub dashboard: String,
    /// The name of the report, if there is one.
    pub report: Option<String>,
    /// The report's schedule in one sentence, if it has one.
    pub schedule: Option<String>,
    /// The definitions: samplers, the dashboard, the report.
    pub files: Vec<DefinitionFile>,
}

/// A dashboard whose template has a newer version.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TemplateUpdate {
    pub dashboard: String,
    pub title: String,
    pub template: String,
    /// The version that the dashboard was made of.
    pub version: u32,
    /// The version that there is.
    pub latest: u32,
    /// From the dashboard as it is to the one that the template makes now, as a unified diff.
    pub diff: String,
    /// The dashboard that the template makes now, to be applied or not.
    pub file: DefinitionFile,
}

/// What a dashboard becomes a template with.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewTemplate {
    /// The name of the template.
    pub name: String,
    pub title: String,
    /// The question that it answers.
    pub question: String,
    /// `availability`, `capacity`, `performance`, `unit`, `inventory`, `security`, `jobs` or `delivery`.
    pub purpose: String,
    /// What becomes a gap: the name of each input, with the value that stands in the dashboard.
    #[serde(default)]
    pub inputs: BTreeMap<String, String>,
}
