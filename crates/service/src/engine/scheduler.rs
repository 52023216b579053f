//! Notices scheduled instants that have come, and makes runs of them and of requests.

use chrono::{DateTime, Utc};
use maple_lark_core::definition::Report;
use maple_lark_store::{
    Store, StoreError,
    runs::NewRun,
    schedule::{Due, ScheduleState},
};
use uuid::Uuid;

use super::{Catalogue, Shared};

/// More missed instants than this are not counted one by one.
const MOST_MISSED: usize = 10_000;

/// One look at the clock.
pub async fn tick(shared: &Shared) -> Result<(), StoreError> {
    let now = Utc::now();
    let due = shared.store.schedule_states().await?.into_iter().any(|state| !state.paused && state.next_instant.is_some_and(|next| next <= now));
    if !due {
        return Ok(());
    }
    let catalogue = Catalogue::stored(&shared.store.definitions().await?);
    let made = shared.store.take_due(now, |state| decide(&catalogue, state, now)).await?;
    if !made.is_empty() {
        tracing::info!(count = made.len(), "runs are due");
        shared.wake.notify_waiters();
    }
    Ok(())
}

/// The run for the latest instant that has come; earlier ones that nobody ran are counted.
fn decide(catalogue: &Catalogue, state: &ScheduleState, now: DateTime<Utc>) -> Due {
    let Some(report) = catalogue.set.reports.get(&state.report) else { return Due { run: None, next: None } };
    let (Some(schedule), Some(first)) = (&report.schedule, state.next_instant) else { return Due { run: None, next: None } };
    let before = first - chrono::TimeDelta::nanoseconds(1);
    let missed: Vec<DateTime<Utc>> = schedule.instants(before, now, report.zone).take(MOST_MISSED).collect();
    let latest = missed.last().copied().unwrap_or(first);
    let skipped = missed.len().saturating_sub(1) as i32;
    if skipped > 0 {
        tracing::warn!(report = %report.name, skipped, "scheduled instants passed while no process ran; the latest is run");
    }
    let run = new_run(catalogue, report, latest, now, "schedule", None, true, skipped);
    Due { run: Some(run), next: schedule.next_after(now, report.zone) }
}

#[allow(clippy::too_many_arguments)]
fn new_run(
    catalogue: &Catalogue,
    report: &Report,
    scheduled_for: DateTime<Utc>,
    now: DateTime<Utc>,
    cause: &'static str,
    requested_by: Option<String>,
    deliver: bool,
    skipped: i32,
) -> NewRun {
    let window = report.window.window(scheduled_for, report.zone);
    NewRun {
        id: Uuid::now_v7(),
        report: report.name.clone(),
        title: report.title.clone(),
        scheduled_for,
        cause,
        requested_by,
        deliver,
        definitions: catalogue.freeze(report),
        window_from: window.from,
        window_to: window.to,
        zone: report.zone.to_string(),
        skipped,
        created_at: now,
    }
}

/// A run that somebody asks for.
pub struct RunRequest {
    pub report: String,
    /// The instant that the window follows from; now if nothing is said.
    pub scheduled_for: Option<DateTime<Utc>>,
    pub deliver: bool,
    pub requested_by: String,
}

#[derive(Debug, thiserror::Error)]
pub enum RequestError {
    #[error("there is no report \"{0}\"")]
    NoReport(String),
    #[error("the report \"{report}\" cannot run: {problem}")]
    NotReady { report: String, problem: String },
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Makes a run on request; the schedule is not disturbed by it.
pub async fn request_run(store: &Store, request: RunRequest) -> Result<Uuid, RequestError> {
    let catalogue = Catalogue::stored(&store.definitions().await?);
    let report = catalogue.set.reports.get(&request.report).ok_or_else(|| RequestError::NoReport(request.report.clone()))?;
    if let Some(problem) = catalogue.set.check().into_iter().find(|problem| problem.file == report.place.file) {
        return Err(RequestError::NotReady { report: report.name.clone(), problem: problem.to_string() });
    }
    let now = Utc::now();
    let whole_second = DateTime::from_timestamp(now.timestamp(), 0).unwrap_or(now);
    let run = new_run(&catalogue, report, request.scheduled_for.unwrap_or(whole_second), now, "request", Some(request.requested_by), request.deliver, 0);
    store.add_run(&run).await?;
    Ok(run.id)
}

/// When a report runs next, counted from `after`.
pub fn next_instant(report: &Report, after: DateTime<Utc>) -> Option<DateTime<Utc>> {
    report.schedule.as_ref()?.next_after(after, report.zone)
}
