//! What becomes of a claimed run, in the order of its steps: wait, find the audiences, collect,
//! render, enqueue.

mod answer;
mod audiences;
mod captured;
mod collect;
mod context;
mod earlier;
mod enqueue;
mod preview;
mod render;
mod step;
mod wait;

use std::{sync::Arc, time::Duration};

use chrono::TimeDelta;
use maple_lark_api::{RunState, Work};
use maple_lark_definition::{OnFailedBlock, Report, ResolvedAudience};
use maple_lark_store::{StoreError, documents::SnapshotHead, runs::Run};
use tracing::Instrument;

use super::{
    guard::guarded,
    notify,
    shared::{Held, Shared, WorkError, keep_lease},
};
pub use audiences::OnlyTo;
use collect::Collected;
use context::RunContext;
pub use context::{chosen, values_key};
pub use earlier::LookBack;
pub use preview::preview;
use wait::Ready;

/// Takes one run and brings it as far as the outbox. Answers whether there was one.
pub async fn work_on_a_run(shared: &Arc<Shared>) -> Result<bool, StoreError> {
    let mine = RunState::which(|state| state.work().is_some_and(|work| shared.config.takes(work)));
    let Some(run) = shared
        .store
        .claim_run(
            shared.process,
            shared.now(),
            shared.lease(),
            &shared.in_hand.all(),
            Some(&mine),
        )
        .await?
    else {
        return Ok(false);
    };
    // A lease that ran out while its run is in hand here (a clock that was put on, renewals that
    // stalled) leads back to this process only if it does so before the run was noted as such.
    let Some(_turn) = shared.in_hand.begin(run.id) else {
        shared.store.give_back(run.claim()).await?;
        return Ok(true);
    };
    let span = tracing::info_span!("run", id = %run.id, report = %run.report);
    async {
        tracing::info!(state = %run.state, scheduled_for = %run.scheduled_for, "taken");
        let claim = run.claim();
        let working = guarded(work_within_limits(shared, run));
        let outcome = working.await.unwrap_or_else(|error| Err(error.into()));
        let failed = async |problem: &str| {
            tracing::error!(problem, "failed");
            shared
                .store
                .set_run_state(claim, RunState::Failed, Some(problem), shared.now())
                .await
        };
        match outcome {
            Ok(()) => Ok(()),
            Err(WorkError::Run(problem)) => failed(&problem).await,
            Err(WorkError::Store(error @ StoreError::Transition { .. })) => {
                failed(&error.to_string()).await
            }
            Err(WorkError::Store(StoreError::LeaseLost(_))) => {
                tracing::warn!("this run was cancelled, or another process has taken it over");
                Ok(())
            }
            Err(WorkError::Store(error)) => Err(error),
        }
    }
    .instrument(span)
    .await?;
    Ok(true)
}

/// A run that was taken so often without a sign of life is given up.
const MOST_CLAIMS: i32 = 3;

/// Brings a run through its steps, for as long as its lease and its time last.
async fn work_within_limits(shared: &Arc<Shared>, run: Run) -> Result<(), WorkError> {
    if run.claims > MOST_CLAIMS {
        return Err(WorkError::Run(format!(
            "it was taken {MOST_CLAIMS} times, and each time the process that worked on it ended or went silent; what it asks for may be more than a process can hold"
        )));
    }
    let context = RunContext::new(run)?;
    // The limit counts over all claims; the first has all of it.
    let spent = if context.run.claims > 1 {
        shared.store.worked_on(context.run.id).await?
    } else {
        Duration::ZERO
    };
    let left = context.time_limit.saturating_sub(spent);
    tokio::select! {
        () = tokio::time::sleep(left) => {
            let limit = context.time_limit.as_secs();
            Err(WorkError::Run(format!("it took longer than its time limit of {limit} s")))
        }
        outcome = advance(shared, &context) => outcome,
        lost = keep_lease(shared, Held::Run(context.claim)) => Err(WorkError::Store(lost)),
    }
}

/// Brings a run through its steps. Each looks first at what an earlier process has kept.
async fn advance(shared: &Arc<Shared>, context: &RunContext) -> Result<(), WorkError> {
    let RunContext { run, report, .. } = context;
    let (store, claim) = (&shared.store, context.claim);
    if run.state == RunState::Releasing {
        let audiences = audiences::audiences(shared, context).await?;
        let heads = store.snapshot_heads(run.id).await?;
        return send(shared, context, &audiences, &heads).await;
    }
    // Whatever left it there has kept all of its snapshots first.
    let (audiences, collected) = if run.state == RunState::Rendering {
        let audiences = audiences::audiences(shared, context).await?;
        (audiences, collect::kept(shared, run).await?)
    } else {
        let Some(collected) = collected(shared, context).await? else {
            return Ok(());
        };
        collected
    };
    let render::Judged { heads, failed } =
        render::render(shared, context, &audiences, collected).await?;

    if let Some(problem) = why_held(report, &failed) {
        tracing::warn!(problem, "held");
        store
            .set_run_state(claim, RunState::Held, Some(&problem), shared.now())
            .await?;
        return Ok(());
    }
    if !run.deliver || audiences.is_empty() {
        store
            .set_run_state(claim, RunState::Completed, None, shared.now())
            .await?;
        tracing::info!("completed without deliveries");
        return Ok(());
    }
    if let Some(doubt) = &run.doubt
        && !enqueue::all_quiet(&heads)
    {
        tracing::warn!(doubt, "held");
        return Ok(store
            .set_run_state(claim, RunState::Held, Some(doubt), shared.now())
            .await?);
    }
    if let Some(approval) = &report.approval
        && run.only_to.is_none()
        && !enqueue::all_quiet(&heads)
    {
        let deadline = shared.now() + TimeDelta::seconds(approval.deadline_seconds as i64);
        tracing::info!(%deadline, "awaits approval");
        store.await_approval(claim, deadline).await?;
        return Ok(());
    }
    send(shared, context, &audiences, &heads).await
}

/// Waits for the data of a run and collects it. Answers with its audiences and snapshots if this process goes on
/// with it.
async fn collected(
    shared: &Arc<Shared>,
    context: &RunContext,
) -> Result<Option<(Vec<ResolvedAudience>, Vec<Collected>)>, WorkError> {
    let (store, claim) = (&shared.store, context.claim);
    let incomplete = match wait::wait(shared, context).await? {
        Ready::Yes => context.run.incomplete.clone(),
        Ready::Never(reason) => Some(reason),
        Ready::Later => return Ok(None),
    };
    let audiences = if let Some((found, kept)) = audiences::at_once(context)? {
        store.begin_collecting(claim, Some(&kept)).await?;
        found
    } else {
        store.begin_collecting(claim, None).await?;
        audiences::audiences(shared, context).await?
    };
    let value_sets = audiences::value_sets(context, &audiences);
    let collected = collect::collect(shared, context, value_sets, incomplete).await?;
    let goes_on = shared.config.takes(Work::Render);
    // What is small and at hand is composed in a moment, and the state is written with how it was judged.
    let small = |one: &Collected| one.at_hand.as_ref().is_some_and(|it| it.small);
    let in_a_moment = goes_on && collected.iter().all(small);
    if !in_a_moment {
        store
            .set_run_state(claim, RunState::Rendering, None, shared.now())
            .await?;
    }
    if !goes_on {
        tracing::info!("collected; another process makes the documents");
        store.give_back(claim).await?;
    }
    Ok(goes_on.then_some((audiences, collected)))
}

/// Why a run with these failed blocks is held, if it is.
fn why_held(report: &Report, failed: &[(String, String)]) -> Option<String> {
    let (block, reason) = failed.first()?;
    if report.on_failed_block != OnFailedBlock::Hold {
        return None;
    }
    let more = if failed.len() > 1 {
        format!(" (and {} more)", failed.len() - 1)
    } else {
        String::new()
    };
    Some(format!("\"{block}\" could not be made: {reason}{more}"))
}

/// Puts a run's deliveries into the outbox, unless there is nothing to say.
async fn send(
    shared: &Shared,
    context: &RunContext,
    audiences: &[ResolvedAudience],
    heads: &[SnapshotHead],
) -> Result<(), WorkError> {
    let (run, report) = (&context.run, &context.report);
    if let Some(reason) = enqueue::enqueue(shared, context, audiences, heads).await? {
        tracing::info!(reason, "quiet");
        shared
            .store
            .set_run_state(context.claim, RunState::Quiet, Some(&reason), shared.now())
            .await?;
        notify::confirm_quiet(shared, run, report, &reason).await?;
    }
    shared.outbox.notify_one();
    Ok(())
}
