//! Live pages that are looked at while somebody composes, and what was there instead of one.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use maple_lark_definition::ParameterValue;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A live page to look at.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PageOrder {
    /// The query that asks for it, with the keys that it has in a dashboard.
    pub keys: serde_json::Value,
    /// How many of its steps are done; all of them if nothing is said.
    #[serde(default)]
    pub steps: Option<usize>,
    /// The window with the keys that it has in a report, counted from now; the last 24 hours if
    /// nothing is said.
    #[serde(default)]
    pub window: Option<serde_json::Value>,
    /// An IANA time zone; UTC if nothing is said.
    #[serde(default)]
    pub time_zone: Option<String>,
    /// Parameter values by name: texts, numbers or lists of texts.
    #[serde(default)]
    #[schema(value_type = BTreeMap<String, serde_json::Value>)]
    pub values: BTreeMap<String, ParameterValue>,
}

/// How a page looks, or what was there instead of it.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PageLook {
    /// The page's own title.
    pub title: String,
    /// Where it is.
    pub address: String,
    /// PNG, in base 64; nothing if there is not even a picture of what went wrong.
    pub picture: Option<String>,
    /// The whole page, in CSS pixels.
    pub width: u32,
    /// The whole page, in CSS pixels.
    pub height: u32,
    /// The parts that somebody may want.
    pub parts: Vec<PagePiece>,
    /// What was done, each with its time.
    pub steps: Vec<PageStepTime>,
    /// What a reader should know, such as that the page was longer.
    pub note: Option<String>,
    /// Why it is not the page that was asked for.
    pub problem: Option<String>,
}

/// A part of a page. Lengths are in CSS pixels.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PagePiece {
    /// Leads to it and to nothing else.
    pub selector: String,
    /// What it is called on the page.
    pub title: String,
    /// Whether it is a table, whose rows can be read.
    pub is_table: bool,
    pub x: u32,
    pub y: u32,
    pub width: u32,
    pub height: u32,
}

/// One thing done on a page.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PageStepTime {
    pub what: String,
    pub seconds: f64,
}

/// What was there instead of a live page that a run could not capture.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct FailedPage {
    /// The step of the run that it belongs to.
    pub subject: String,
    pub at: DateTime<Utc>,
    /// PNG, in base 64. Its fields are blank.
    pub picture: String,
}
