//! Previews.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use maple_lark_definition::ParameterValue;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What to show: a report, a dashboard, or the text of one that is not applied yet.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PreviewOrder {
    #[serde(default)]
    pub report: Option<String>,
    #[serde(default)]
    pub dashboard: Option<String>,
    /// The text of a dashboard or a report, as its file has it.
    #[serde(default)]
    pub definition: Option<String>,
    /// For a dashboard, or for a report with one of its dashboards: one block by itself. Nothing else
    /// is asked for or checked, and HTML is the block without what stands around it in a document.
    #[serde(default)]
    pub block: Option<BlockPlace>,
    /// The texts of definitions that are used along with it, such as samplers of a template.
    #[serde(default)]
    pub beside: Vec<String>,
    /// The audience of a report whose values are taken.
    #[serde(default)]
    pub audience: Option<String>,
    /// The instant that the window follows from; now if nothing is said.
    #[serde(default)]
    pub at: Option<DateTime<Utc>>,
    /// For a dashboard: an IANA time zone; UTC if nothing is said.
    #[serde(default)]
    pub time_zone: Option<String>,
    /// For a dashboard: the window, with the keys that it has in a report; the previous day if
    /// nothing is said.
    #[serde(default)]
    pub window: Option<serde_json::Value>,
    /// For a dashboard: the name of a theme.
    #[serde(default)]
    pub theme: Option<String>,
    /// Parameter values by name: texts, numbers or lists of texts. They come before those of
    /// the audience, the report and the dashboard.
    #[serde(default)]
    #[schema(value_type = BTreeMap<String, serde_json::Value>)]
    pub values: BTreeMap<String, ParameterValue>,
    /// One of the formats of documents; `html` if nothing is said.
    #[serde(default)]
    pub format: Option<String>,
}

/// Where a block stands in its dashboard, counted from 1 as in the keys of problems.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BlockPlace {
    pub section: usize,
    pub block: usize,
}
