//! Published views.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use maple_lark_definition::ParameterValue;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// What to publish: a dashboard, which is looked at anew, or the view of a run, which stays as it is.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewView {
    #[serde(default)]
    pub dashboard: Option<String>,
    /// A snapshot of a run.
    #[serde(default)]
    pub snapshot: Option<Uuid>,
    /// What it is called to those who open it; the title of what it shows if nothing is said.
    #[serde(default)]
    pub title: Option<String>,
    /// For a dashboard: an IANA time zone; UTC if nothing is said.
    #[serde(default)]
    pub time_zone: Option<String>,
    /// For a dashboard: the window, with the keys that it has in a report; the previous day if nothing is
    /// said.
    #[serde(default)]
    pub window: Option<serde_json::Value>,
    /// For a dashboard: the values that it is shown with.
    #[serde(default)]
    #[schema(value_type = BTreeMap<String, serde_json::Value>)]
    pub values: BTreeMap<String, ParameterValue>,
    /// For a dashboard: values that whoever opens it chooses from, by parameter; the first is shown first.
    #[serde(default)]
    pub choices: BTreeMap<String, Vec<String>>,
    /// Only for those who sign in and see what it shows; else for whoever has the address.
    #[serde(default)]
    pub signed_in: bool,
    /// For how many days it can be opened. An address that anybody can open is good for 30 if nothing is
    /// said, and for 366 at most.
    #[serde(default)]
    pub days: Option<u32>,
    /// What whoever opens it has to know besides the address.
    #[serde(default)]
    pub password: Option<String>,
}

/// A published view.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ViewView {
    pub id: Uuid,
    pub title: String,
    pub dashboard: Option<String>,
    pub snapshot: Option<Uuid>,
    /// Where it is opened.
    pub address: String,
    /// Only for those who sign in and see what it shows; else for whoever has the address.
    pub signed_in: bool,
    pub has_password: bool,
    pub expires_at: Option<DateTime<Utc>>,
    pub revoked_at: Option<DateTime<Utc>>,
    /// How often it was opened.
    pub opened: i64,
    pub last_opened_at: Option<DateTime<Utc>>,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
}

/// A page of published views, the latest first.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ViewPage {
    pub items: Vec<ViewView>,
    pub total: u64,
    pub page: u64,
    pub size: u64,
}
