//! The state of everything in one answer.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{runs::RunSummary, state::RunState};

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
    /// Runs that somebody has to see to: those that await approval, and those that did not go as they
    /// should and that no later run has made good.
    pub attention: Vec<RunSummary>,
    pub recent: Vec<RunSummary>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Outcome {
    pub state: RunState,
    pub count: i64,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NextRun {
    pub report: String,
    pub title: String,
    pub at: DateTime<Utc>,
    pub time_zone: String,
    pub schedule: String,
}
