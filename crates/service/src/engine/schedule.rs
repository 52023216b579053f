//! Notices scheduled instants that have come, and makes runs of them and of requests.

use std::{sync::Arc, time::Duration};

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_api::{Cause, RunState};
use maple_lark_definition::Report;
use maple_lark_store::{
    Store, StoreError,
    restored::DOUBT,
    runs::NewRun,
    schedule::{Due, ScheduleState},
};
use tokio::sync::watch;
use uuid::Uuid;

use super::{definitions::Definitions, run::OnlyTo, shared::Shared};

/// More missed instants than this are not counted one by one.
const MOST_MISSED: usize = 10_000;
/// At most so many missed instants are made up for, and put on record as skipped, at once.
const MOST_MADE_UP: usize = 100;
const MOST_ON_RECORD: usize = 100;
/// At most so many runs come of one backfill.
pub const MOST_BACKFILLED: usize = 400;

/// Definitions that another process has changed are noticed after so long at the latest.
const LONGEST_SLEEP: Duration = Duration::from_secs(5);

/// Sleeps until the next report is due, makes its runs, and begins again, until it is told
/// to stop.
pub async fn watch_the_clock(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    let mut rescheduled = false;
    while !*stopped.borrow() {
        let looked = async {
            if !rescheduled {
                reschedule(&shared).await?;
            }
            tick(&shared).await
        };
        let pause = match looked.await {
            Ok(next) => {
                rescheduled = true;
                let until = next.map_or(TimeDelta::MAX, |next| next - shared.now());
                until
                    .to_std()
                    .unwrap_or_default()
                    .clamp(Duration::from_millis(10), LONGEST_SLEEP)
            }
            Err(error) => {
                tracing::error!(%error, "the schedule could not be looked at; it is tried again in a moment");
                Duration::from_secs(2)
            }
        };
        tokio::select! {
            () = tokio::time::sleep(pause) => {}
            () = shared.wake.notified() => {}
            _ = stopped.changed() => {}
        }
    }
}

/// Computes anew when each report is due that is due later than now: a newer version of the
/// zone database may have moved it. What is due already stays as it is.
pub async fn reschedule(shared: &Shared) -> Result<(), StoreError> {
    let definitions = shared.definitions.current(&shared.store).await?;
    let now = shared.now();
    let states = shared.store.schedule_states().await?;
    let next: Vec<(String, Option<DateTime<Utc>>)> = states
        .iter()
        .filter(|state| state.next_instant.is_some_and(|next| next > now))
        .filter_map(|state| {
            Some((
                state,
                definitions
                    .set
                    .plan(definitions.set.reports.get(&state.report)?)?
                    .next_after(now),
            ))
        })
        .filter(|(state, next)| state.next_instant != *next)
        .map(|(state, next)| (state.report.clone(), next))
        .collect();
    let moved = shared.store.reschedule(now, &next).await?;
    if moved > 0 {
        tracing::warn!(
            moved,
            "reports are due at other instants than before: the zone database or a calendar has changed, or a clock was wrong"
        );
    }
    Ok(())
}

/// One tick; answers when the next is worth it.
pub async fn tick(shared: &Shared) -> Result<Option<DateTime<Utc>>, StoreError> {
    let now = shared.now();
    let next = shared.store.first_due().await?;
    if next.is_none_or(|next| next > now) {
        return Ok(next);
    }
    let definitions = shared.definitions.current(&shared.store).await?;
    let restored = shared.store.last_restored().await?;
    let restored = restored.map(|restored| restored.found_at);
    let made = shared
        .store
        .take_due(now, |state| decide(&definitions, state, now, restored))
        .await?;
    if !made.is_empty() {
        tracing::info!(count = made.len(), "runs are due");
        shared.wake.notify_waiters();
    }
    shared.store.first_due().await
}

/// The runs for the instants that have come, as the report's schedule wants it after an
/// outage; instants that are missed for good are put on record as skipped. Those before the database
/// was found `restored` may have had their runs.
fn decide(
    definitions: &Definitions,
    state: &ScheduleState,
    now: DateTime<Utc>,
    restored: Option<DateTime<Utc>>,
) -> Due {
    let over = Due {
        runs: Vec::new(),
        next: None,
    };
    let Some(report) = definitions.set.reports.get(&state.report) else {
        return over;
    };
    let (Some(plan), Some(first)) = (definitions.set.plan(report), state.next_instant) else {
        return over;
    };
    let schedule = plan.schedule;
    let before = first - TimeDelta::nanoseconds(1);
    let come: Vec<DateTime<Utc>> = plan.instants(before, now).take(MOST_MISSED).collect();
    let mut to_run = schedule.to_run(&come, now, report.zone);
    let left = schedule
        .most_runs
        .map(|most| (most as i32 - state.runs_made).max(0) as usize);
    to_run.truncate(left.unwrap_or(usize::MAX).min(MOST_MADE_UP));
    let skipped: Vec<DateTime<Utc>> = come
        .iter()
        .copied()
        .filter(|at| !to_run.contains(at))
        .collect();
    if !skipped.is_empty() {
        tracing::warn!(report = %report.name, skipped = skipped.len(), "scheduled instants passed while no service ran");
    }
    let ended = left.is_some_and(|left| to_run.len() >= left);
    let on_record = skipped
        .iter()
        .rev()
        .take(MOST_ON_RECORD)
        .rev()
        .map(|at| Order {
            state: RunState::Skipped,
            ..Order::scheduled(*at)
        });
    let to_run = to_run.iter().map(|at| Order {
        in_doubt: restored.is_some_and(|restored| *at <= restored),
        ..Order::scheduled(*at)
    });
    let mut orders: Vec<Order> = on_record.chain(to_run).collect();
    if let Some(last) = orders
        .iter_mut()
        .rev()
        .find(|order| order.state == RunState::Due)
    {
        last.skipped = skipped.len() as i32;
    }
    Due {
        runs: orders
            .into_iter()
            .zip(0..)
            .map(|(order, index)| {
                order.run(definitions, report, now + TimeDelta::microseconds(index))
            })
            .collect(),
        next: if ended { None } else { plan.next_after(now) },
    }
}

/// What one run is to be.
struct Order {
    scheduled_for: DateTime<Utc>,
    cause: Cause,
    state: RunState,
    requested_by: Option<String>,
    deliver: bool,
    skipped: i32,
    only_to: Option<OnlyTo>,
    /// Whether it may have been sent in a time that the records do not know any more.
    in_doubt: bool,
}

impl Order {
    fn scheduled(at: DateTime<Utc>) -> Self {
        Self {
            scheduled_for: at,
            cause: Cause::Schedule,
            state: RunState::Due,
            requested_by: None,
            deliver: true,
            skipped: 0,
            only_to: None,
            in_doubt: false,
        }
    }

    fn requested(at: DateTime<Utc>, by: &str, deliver: bool) -> Self {
        Self {
            cause: Cause::Request,
            requested_by: Some(by.to_owned()),
            deliver,
            ..Self::scheduled(at)
        }
    }

    /// The run with its window and its definitions frozen.
    fn run(self, definitions: &Definitions, report: &Report, now: DateTime<Utc>) -> NewRun {
        let window = report.window.window(self.scheduled_for, report.zone);
        NewRun {
            id: Uuid::now_v7(),
            team: report.team().to_owned(),
            report: report.name.clone(),
            title: report.title.clone(),
            scheduled_for: self.scheduled_for,
            cause: self.cause,
            requested_by: self.requested_by,
            deliver: self.deliver,
            state: self.state,
            definitions: definitions.freeze(report),
            window_from: window.from,
            window_to: window.to,
            time_zone: report.zone.to_string(),
            skipped: self.skipped,
            may_overlap: report.overlap,
            within: window
                .within
                .as_ref()
                .and_then(|within| serde_json::to_value(within).ok()),
            only_to: self
                .only_to
                .and_then(|only| serde_json::to_value(only).ok()),
            doubt: self.in_doubt.then(|| DOUBT.to_owned()),
            created_at: now,
        }
    }
}

/// A run that somebody asks for.
pub struct RunRequest {
    pub report: String,
    /// The instant that the window follows from; now if nothing is said.
    pub scheduled_for: Option<DateTime<Utc>>,
    pub deliver: bool,
    /// Who alone gets it, instead of the report's audiences.
    pub only_to: Option<OnlyTo>,
    pub requested_by: String,
    pub now: DateTime<Utc>,
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
pub async fn request_run(
    store: &Store,
    definitions: &Definitions,
    request: RunRequest,
) -> Result<Uuid, RequestError> {
    let report = ready_report(definitions, &request.report)?;
    let now = request.now;
    let whole_second = DateTime::from_timestamp(now.timestamp(), 0).unwrap_or(now);
    let at = request.scheduled_for.unwrap_or(whole_second);
    let order = Order {
        only_to: request.only_to,
        ..Order::requested(at, &request.requested_by, request.deliver)
    };
    let run = order.run(definitions, report, now);
    store.add_run(&run).await?;
    Ok(run.id)
}

fn ready_report<'a>(definitions: &'a Definitions, name: &str) -> Result<&'a Report, RequestError> {
    let report = definitions
        .set
        .reports
        .get(name)
        .ok_or_else(|| RequestError::NoReport(name.to_owned()))?;
    match definitions
        .set
        .check()
        .into_iter()
        .find(|problem| problem.file == report.place.file)
    {
        Some(problem) => Err(RequestError::NotReady {
            report: report.name.clone(),
            problem: problem.to_string(),
        }),
        None => Ok(report),
    }
}

/// The instants in `[from, to)` at which a report's schedule has it run.
pub fn past_instants(
    definitions: &Definitions,
    name: &str,
    from: DateTime<Utc>,
    to: DateTime<Utc>,
) -> Result<Vec<DateTime<Utc>>, RequestError> {
    let report = ready_report(definitions, name)?;
    let plan = definitions
        .set
        .plan(report)
        .ok_or_else(|| RequestError::NotReady {
            report: name.to_owned(),
            problem:
                "it has no schedule to take the instants from; use run with an instant instead"
                    .to_owned(),
        })?;
    let moment = TimeDelta::nanoseconds(1);
    let found: Vec<DateTime<Utc>> = plan
        .instants(from - moment, to - moment)
        .take(MOST_BACKFILLED + 1)
        .collect();
    if found.len() > MOST_BACKFILLED {
        return Err(RequestError::NotReady {
            report: name.to_owned(),
            problem: format!(
                "there are more than {MOST_BACKFILLED} instants in that range; make it smaller"
            ),
        });
    }
    Ok(found)
}

/// Makes a run for each of the instants, all of them or none; they are worked on a few at a
/// time, oldest first.
#[expect(
    clippy::too_many_arguments,
    reason = "the parts of an order, and what it is carried out with"
)]
pub async fn backfill(
    store: &Store,
    definitions: &Definitions,
    name: &str,
    instants: &[DateTime<Utc>],
    deliver: bool,
    requested_by: &str,
    now: DateTime<Utc>,
) -> Result<Vec<Uuid>, RequestError> {
    let report = ready_report(definitions, name)?;
    let runs: Vec<NewRun> = instants
        .iter()
        .zip(0..)
        .map(|(at, index)| {
            let created = now + TimeDelta::microseconds(index);
            Order::requested(*at, requested_by, deliver).run(definitions, report, created)
        })
        .collect();
    store.add_runs(&runs).await?;
    Ok(runs.into_iter().map(|run| run.id).collect())
}
