//! Reports and their schedules.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::runs::RunSummary;

/// Which past instants to produce again.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BackfillOrder {
    /// The first instant that counts.
    pub from: DateTime<Utc>,
    /// The first that does not count any more.
    pub to: DateTime<Utc>,
    /// Whether the documents go to the audiences, or are only made.
    #[serde(default)]
    pub deliver: bool,
    /// Only say which instants they are.
    #[serde(default)]
    pub check: bool,
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Backfill {
    pub instants: Vec<DateTime<Utc>>,
    /// The runs that were made, in the order of the instants; none with `check`.
    pub runs: Vec<Uuid>,
}

/// What a copy is called.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CopyOrder {
    pub name: String,
    /// The original's title with "(copy)" behind it if nothing is said.
    #[serde(default)]
    pub title: Option<String>,
}

/// A report's time zone, window and schedule, with the keys that they have in its file.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSchedule {
    /// `time-zone`, as definitions write it, is understood too.
    #[serde(alias = "time-zone")]
    pub time_zone: String,
    pub window: serde_json::Value,
    /// Nothing for a report that runs only when asked.
    #[serde(default)]
    pub schedule: Option<serde_json::Value>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReportView {
    pub name: String,
    pub title: String,
    pub file: String,
    pub time_zone: String,
    pub owner: Option<String>,
    /// Words by which people find it among others.
    pub tags: Vec<String>,
    pub dashboards: Vec<String>,
    pub formats: Vec<String>,
    /// The window in words.
    pub window: String,
    /// The schedule in words; nothing if it runs only when asked.
    pub schedule: Option<String>,
    pub paused: bool,
    pub next: Option<DateTime<Utc>>,
    /// The window of the next run, in words.
    pub next_window: Option<String>,
    pub audiences: Vec<AudienceView>,
    /// The sources of the queries whose rows are further audiences, found when a run begins.
    pub audiences_from: Vec<String>,
    pub last_run: Option<RunSummary>,
    /// How many runs there are of it.
    pub run_count: u64,
    /// How many its schedule makes in all, if it says so.
    pub run_limit: Option<u32>,
}

/// A page of reports.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReportPage {
    pub items: Vec<ReportView>,
    /// How many are like what was asked for.
    pub total: u64,
    /// Counted from 1.
    pub page: u64,
    pub size: u64,
    /// How many there are, whatever was asked for.
    pub all: u64,
    /// Every tag that one of them has, in order.
    pub tags: Vec<String>,
}

/// A report by its name, for what only chooses one.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReportName {
    pub name: String,
    pub title: String,
    pub time_zone: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AudienceView {
    pub name: String,
    pub recipients: Vec<String>,
    /// Where else its documents go.
    pub channels: Vec<String>,
    /// What the audience may see: `Port: Havnes`.
    pub values: Vec<String>,
}
