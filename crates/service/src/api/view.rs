//! What the API answers with. Clients see these and nothing of the tables behind them.

use chrono::{DateTime, Utc};
use maple_lark_store::{
    deliveries::{Attempt, Delivery},
    recipients::SharedLink,
    runs::{DocumentHead, OPEN_STATES, Run, Step},
};
use maple_lark_time::{Window, Zone};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct UserView {
    pub name: String,
    /// `viewer`, `author` or `administrator`.
    pub role: String,
    /// Whether the demo's mailbox is there to be looked at.
    pub demo: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WindowView {
    pub from: DateTime<Utc>,
    pub to: DateTime<Utc>,
    pub zone: String,
    /// In words: `Sunday 25 October 2026, 25 h`.
    pub label: String,
    /// ISO 8601 interval with the zone (RFC 9557).
    pub exact: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunSummary {
    pub id: Uuid,
    pub report: String,
    pub title: String,
    pub scheduled_for: DateTime<Utc>,
    /// `schedule` or `request`.
    pub cause: String,
    pub requested_by: Option<String>,
    /// `due`, `waiting` (for its data), `collecting`, `rendering`, `awaiting-approval`,
    /// `releasing`, `delivering`; then
    /// `delivered`, `partly-delivered`, `made`, `quiet`, `held`, `failed`, `cancelled` or
    /// `skipped`.
    pub state: String,
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
    /// Until when somebody must have looked at it.
    pub approval_deadline: Option<DateTime<Utc>>,
    /// Who let it go out.
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
    /// `wait`, `audiences`, `collect`, `snapshot`, `render` or `send`.
    pub kind: String,
    pub subject: String,
    /// `running`, `done`, `failed` or `quiet`.
    pub state: String,
    pub detail: Option<String>,
    pub started_at: DateTime<Utc>,
    pub ended_at: Option<DateTime<Utc>>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SnapshotView {
    pub id: Uuid,
    pub sha256: String,
    pub audiences: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DocumentView {
    pub id: Uuid,
    pub snapshot_id: Uuid,
    /// `pdf`, `html`, `csv`, `xlsx`, `json`, `txt` or `png`.
    pub format: String,
    pub file_name: String,
    /// How its readers write numbers and dates, if not the report's way.
    pub variant: String,
    pub media_type: String,
    pub size: i64,
    pub sha256: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DeliveryView {
    pub id: Uuid,
    pub audience: String,
    /// `mail`, `folder`, `upload`, `webhook` or `syslog`.
    pub channel: String,
    /// The channel's definition; empty for the service's own mail server.
    pub via: String,
    pub recipient: String,
    /// `to`, `cc` or `bcc`.
    pub role: String,
    /// How its recipient reads numbers, dates and times, if not the report's way.
    pub variant: String,
    /// 0 for the first, then counted.
    pub copy: i32,
    pub note: Option<String>,
    /// Who asked for a copy.
    pub requested_by: Option<String>,
    /// `waiting`, `accepted`, `refused`, `bounced` or `cancelled`.
    pub state: String,
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
    /// `accepted`, `postponed`, `refused` or `unknown`; nothing while it is under way.
    pub outcome: Option<String>,
    /// In the mail server's words.
    pub answer: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReportView {
    pub name: String,
    pub title: String,
    pub file: String,
    pub zone: String,
    pub owner: Option<String>,
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

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SourceView {
    pub name: String,
    pub title: String,
    pub file: String,
    pub kind: String,
    /// Where it is, as the definition writes it; never a secret.
    pub address: String,
    pub timeout_seconds: u64,
    pub row_limit: usize,
    pub used_by: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SourceTest {
    pub works: bool,
    /// What is there, or why it refused.
    pub detail: String,
    pub milliseconds: i64,
    /// Set when the account could write; Maple Lark itself only reads.
    pub warning: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DashboardView {
    pub name: String,
    pub title: String,
    pub file: String,
    pub summary: Option<String>,
    pub sections: usize,
    pub blocks: usize,
    pub parameters: Vec<String>,
    pub sources: Vec<String>,
    pub used_by: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunPage {
    pub items: Vec<RunSummary>,
    pub total: u64,
    /// Counted from 1.
    pub page: u64,
    pub size: u64,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Overview {
    /// Answers in one sentence: did everything go out?
    pub sentence: String,
    /// `ok`, `warning` or `critical`.
    pub status: String,
    /// Runs of the last 24 hours by state.
    pub outcomes: Vec<Outcome>,
    /// The next runs, soonest first.
    pub next: Vec<NextRun>,
    /// Latest runs that did not go as they should and that no later run has made good.
    pub failed: Vec<RunSummary>,
    pub recent: Vec<RunSummary>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Outcome {
    pub state: String,
    pub count: i64,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NextRun {
    pub report: String,
    pub title: String,
    pub at: DateTime<Utc>,
    pub zone: String,
    pub schedule: String,
}

pub fn is_settled(state: &str) -> bool {
    !OPEN_STATES.contains(&state)
}

pub fn is_good(state: &str) -> bool {
    matches!(
        state,
        "delivered" | "made" | "quiet" | "cancelled" | "skipped"
    )
}

impl From<Run> for RunSummary {
    fn from(run: Run) -> Self {
        // A zone is checked when a run is made; UTC stands in for one that has since gone.
        let zone = run.zone.parse().unwrap_or(Zone::UTC);
        let within = run
            .within
            .and_then(|within| serde_json::from_value(within).ok());
        let window = Window {
            from: run.window_from,
            to: run.window_to,
            zone,
            within,
        };
        Self {
            id: run.id,
            settled: is_settled(&run.state),
            good: is_good(&run.state),
            report: run.report,
            title: run.title,
            scheduled_for: run.scheduled_for,
            cause: run.cause,
            requested_by: run.requested_by,
            problem: run.problem,
            incomplete: run.incomplete,
            window: WindowView {
                from: window.from,
                to: window.to,
                zone: run.zone,
                label: window.label(),
                exact: window.exact(),
            },
            created_at: run.created_at,
            started_at: run.started_at,
            finished_at: run.finished_at,
            skipped: run.skipped,
            approval_deadline: run
                .approval_deadline
                .filter(|_| run.state == "awaiting-approval"),
            released_by: run.released_by,
            state: run.state,
        }
    }
}

impl From<Step> for StepView {
    fn from(step: Step) -> Self {
        Self {
            kind: step.kind,
            subject: step.subject,
            state: step.state,
            detail: step.detail,
            started_at: step.started_at,
            ended_at: step.ended_at,
        }
    }
}

impl From<SharedLink> for LinkView {
    fn from(link: SharedLink) -> Self {
        let SharedLink {
            recipient,
            expires_at,
            revoked_at,
            opened,
            last_opened_at,
            ..
        } = link;
        Self {
            recipient,
            expires_at,
            revoked_at,
            opened,
            last_opened_at,
        }
    }
}

impl From<DocumentHead> for DocumentView {
    fn from(head: DocumentHead) -> Self {
        Self {
            id: head.id,
            snapshot_id: head.snapshot_id,
            format: head.format,
            file_name: head.file_name,
            variant: head.variant,
            media_type: head.media_type,
            size: head.size,
            sha256: head.sha256,
        }
    }
}

impl DocumentView {
    pub fn of(document: maple_lark_store::runs::Document) -> Self {
        Self {
            id: document.id,
            snapshot_id: document.snapshot_id,
            format: document.format,
            file_name: document.file_name,
            variant: document.variant,
            media_type: document.media_type,
            size: document.size,
            sha256: document.sha256,
        }
    }
}

impl DeliveryView {
    pub fn new(delivery: Delivery, attempts: &[Attempt]) -> Self {
        Self {
            attempts: attempts
                .iter()
                .filter(|attempt| attempt.delivery_id == delivery.id)
                .map(|attempt| AttemptView {
                    started_at: attempt.started_at,
                    ended_at: attempt.ended_at,
                    outcome: attempt.outcome.clone(),
                    answer: attempt.answer.clone(),
                })
                .collect(),
            next_attempt_at: (delivery.state == "waiting").then_some(delivery.next_attempt_at),
            id: delivery.id,
            audience: delivery.audience,
            channel: delivery.channel,
            via: delivery.via,
            role: delivery.role,
            variant: delivery.variant,
            copy: delivery.copy,
            note: delivery.note,
            requested_by: delivery.requested_by,
            recipient: delivery.recipient,
            state: delivery.state,
            problem: delivery.problem,
            message_id: delivery.message_id,
            settled_at: delivery.settled_at,
        }
    }
}
