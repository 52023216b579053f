//! Runs: what is asked for, and how one stands.

use chrono::{DateTime, Utc};
use maple_lark_definition::{ChannelType, Format, Kind};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::{
    keeping::KeptRun,
    state::{AttemptOutcome, Cause, DeliveryState, RecipientRole, RunState, StepKind, StepState},
};

/// What to run and whether to send it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RunOrder {
    /// The instant that the window follows from; now if nothing is said.
    pub scheduled_for: Option<DateTime<Utc>>,
    /// Whether the documents go to the audiences, or are only made.
    #[serde(default = "yes")]
    pub deliver: bool,
    /// Who alone gets it, instead of the report's audiences: mail addresses, people or groups by
    /// name, or "me" for whoever asks.
    #[serde(default)]
    pub to: Vec<String>,
    /// Whose view they get; nothing if the report has one audience alone.
    pub audience: Option<String>,
    /// Stands at the top of the mail to them.
    pub note: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WindowView {
    pub from: DateTime<Utc>,
    pub to: DateTime<Utc>,
    pub time_zone: String,
    /// In words: `Sunday 25 October 2026, 25 h`.
    pub label: String,
    /// Both ends and the zone, in words: `25 Oct 2026, 00:00 to 24:00 (UTC+1 to UTC+0, Atlantic/Faroe)`.
    pub in_words: String,
    /// ISO 8601 interval with the zone (RFC 9557).
    pub exact: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunSummary {
    pub id: Uuid,
    pub report: String,
    pub title: String,
    pub scheduled_for: DateTime<Utc>,
    pub cause: Cause,
    pub requested_by: Option<String>,
    pub state: RunState,
    /// How its content is judged, as the worst of its audiences: `ok`, `unknown`, `warning` or
    /// `critical`; nothing before that.
    pub status: Option<String>,
    /// Whether nothing more will happen to it.
    pub settled: bool,
    /// Whether it went as it should, or as somebody wanted it to.
    pub good: bool,
    pub problem: Option<String>,
    /// Why its data may be incomplete, if it went on without waiting any longer.
    pub incomplete: Option<String>,
    pub window: WindowView,
    pub created_at: DateTime<Utc>,
    pub started_at: Option<DateTime<Utc>>,
    pub finished_at: Option<DateTime<Utc>>,
    /// Scheduled instants before this one that passed while no service ran.
    pub skipped: i32,
    /// Until when it must be approved.
    pub approval_deadline: Option<DateTime<Utc>>,
    /// Who approved or released it.
    pub released_by: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunView {
    #[serde(flatten)]
    pub run: RunSummary,
    pub steps: Vec<StepView>,
    pub documents: Vec<DocumentView>,
    pub deliveries: Vec<DeliveryView>,
    pub snapshots: Vec<SnapshotView>,
    /// Signed links to its documents.
    pub links: Vec<LinkView>,
    /// Who keeps it for good, if somebody does.
    pub kept: Option<KeptRun>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LinkView {
    pub recipient: String,
    pub expires_at: DateTime<Utc>,
    pub revoked_at: Option<DateTime<Utc>>,
    /// How often it was opened.
    pub opened: i32,
    pub last_opened_at: Option<DateTime<Utc>>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StepView {
    pub kind: StepKind,
    pub subject: String,
    pub state: StepState,
    pub detail: Option<String>,
    pub started_at: DateTime<Utc>,
    pub ended_at: Option<DateTime<Utc>>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SnapshotView {
    pub id: Uuid,
    pub sha256: String,
    pub audiences: Vec<String>,
    /// When it went; no document can be made of it any more.
    pub removed_at: Option<DateTime<Utc>>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DocumentView {
    pub id: Uuid,
    pub snapshot_id: Uuid,
    #[schema(schema_with = crate::core_enums::format)]
    pub format: Format,
    pub file_name: String,
    /// How its readers write numbers and dates, if not the report's way.
    pub variant: String,
    pub media_type: String,
    pub size: i64,
    pub sha256: String,
    /// When it went; what is said of it stays.
    pub removed_at: Option<DateTime<Utc>>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DeliveryView {
    pub id: Uuid,
    pub audience: String,
    #[schema(schema_with = crate::core_enums::channel_type)]
    pub channel: ChannelType,
    /// The channel's definition; empty for the service's own mail server.
    pub via: String,
    pub recipient: String,
    pub role: RecipientRole,
    /// How its recipient reads numbers, dates and times, if not the report's way.
    pub variant: String,
    /// 0 for the first, then counted.
    pub copy: i32,
    pub note: Option<String>,
    /// Who asked for a copy.
    pub requested_by: Option<String>,
    pub state: DeliveryState,
    pub problem: Option<String>,
    pub message_id: String,
    pub next_attempt_at: Option<DateTime<Utc>>,
    pub settled_at: Option<DateTime<Utc>>,
    pub attempts: Vec<AttemptView>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AttemptView {
    pub started_at: DateTime<Utc>,
    pub ended_at: Option<DateTime<Utc>>,
    /// Nothing while it is under way.
    pub outcome: Option<AttemptOutcome>,
    /// In the mail server's words.
    pub answer: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunPage {
    pub items: Vec<RunSummary>,
    pub total: u64,
    /// Counted from 1.
    pub page: u64,
    pub size: u64,
}

fn yes() -> bool {
    true
}

/// What the log says of a run, the first lines first.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunLog {
    pub items: Vec<RunLogLine>,
    pub total: u64,
    /// Counted from 1.
    pub page: u64,
    pub size: u64,
}

/// A line of the log.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunLogLine {
    pub at: DateTime<Utc>,
    /// `error`, `warn`, `info` …
    pub level: String,
    pub text: String,
}

/// A definition that a run was made with.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunDefinition {
    #[schema(schema_with = crate::core_enums::kind)]
    pub kind: Kind,
    pub name: String,
    /// Its version, as its history counts them.
    pub version: i32,
    pub saved_at: DateTime<Utc>,
    pub saved_by: String,
}
