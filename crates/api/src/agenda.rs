//! What ran, what is due, and calendars.

use chrono::{DateTime, NaiveDate, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::{state::RunState, words::words};

/// What is known of the instants of one entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(untagged)]
pub enum AgendaState {
    /// Runs were made.
    Run(RunState),
    Plan(PlanState),
}

words!(
    /// What becomes of an instant that has no run.
    PlanState, "state of a planned instant", {
    /// It is still to come.
    Planned = "planned",
    /// The schedule of the report is paused.
    Paused = "paused",
    /// A calendar skips or moves it.
    LeftOut = "left-out",
});

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Agenda {
    pub time_zone: String,
    pub days: Vec<AgendaDay>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AgendaDay {
    pub date: NaiveDate,
    /// What the calendars call the day, if any of them names it.
    pub named: Vec<String>,
    pub entries: Vec<AgendaEntry>,
}

/// The instants of one report on one day that have the same state.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AgendaEntry {
    pub report: String,
    pub title: String,
    pub state: AgendaState,
    pub count: i64,
    pub first: DateTime<Utc>,
    pub last: DateTime<Utc>,
    /// The run that was made last, if any was.
    pub run: Option<Uuid>,
    /// How its content is judged: `ok`, `unknown`, `warning` or `critical`.
    pub status: Option<String>,
    /// What the calendar calls the day, for `left-out`.
    pub note: Option<String>,
}

/// The agenda's address for calendar programs. Whoever has it reads the agenda and nothing else.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct AgendaFeed {
    /// The token behind it; revoking that ends the subscription.
    pub id: Uuid,
    /// Shown only now; the service keeps a digest.
    pub address: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CalendarView {
    pub name: String,
    pub title: String,
    pub file: String,
    pub events: usize,
    /// The next days that it names, today among them, read in UTC.
    pub next_days: Vec<NamedDay>,
    /// The reports whose schedules go by it.
    pub used_by: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NamedDay {
    pub date: NaiveDate,
    pub name: String,
}
