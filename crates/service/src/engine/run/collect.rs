//! Asks every query of a run once for each distinct set of parameter values, and keeps the
//! answers as a snapshot.

use std::collections::BTreeMap;

use futures::future::join_all;
use maple_lark_api::{RunState, StepKind, StepState};
use maple_lark_definition::{Dashboard, Query, SendWhen};
use maple_lark_document::{
    Snapshot,
    capture::Blobs,
    snapshot::{Outcome, Sealed, ZoneRules},
};
use maple_lark_sources::Values;
use maple_lark_store::{
    documents::{SnapshotHead, StoredSnapshot},
    runs::Run,
};
use uuid::Uuid;

use super::{
    answer::{Answered, Asking, answer, source_of},
    context::{RunContext, chosen},
    earlier::{self, add_earlier_runs},
    step::Step,
};
use crate::engine::{
    lately::is_small,
    limits::Purpose,
    notify,
    room::{Held, OF_A_SNAPSHOT},
    shared::{Shared, WorkError},
};

/// A snapshot of a run that is under way.
pub struct Collected {
    pub head: SnapshotHead,
    /// All of it, if it was collected just now: it need not be read again.
    pub at_hand: Option<AtHand>,
}

/// A snapshot that was kept a moment ago, as its record gives it back.
pub struct AtHand {
    pub snapshot: Box<Snapshot>,
    /// Whether its record is small.
    pub small: bool,
    /// The room that its answers take, for as long as it is held.
    pub room: Option<Held>,
}

/// The snapshots of a run for several sets of values are at hand up to so many bytes of answers together; the
/// others are read again, one at a time. That of a single set always is.
const MOST_AT_HAND: usize = 8 << 20;

/// The snapshots of a run that an earlier process has kept.
pub async fn kept(shared: &Shared, run: &Run) -> Result<Vec<Collected>, WorkError> {
    let heads = shared.store.snapshot_heads(run.id).await?.into_iter();
    Ok(heads
        .map(|head| Collected {
            head,
            at_hand: None,
        })
        .collect())
}

/// Collects what is not kept yet. Answers with all of them.
#[expect(
    clippy::too_many_lines,
    reason = "collects and keeps one set of values after the other"
)]
pub async fn collect(
    shared: &Shared,
    context: &RunContext,
    value_sets: BTreeMap<String, Values>,
    incomplete: Option<String>,
) -> Result<Vec<Collected>, WorkError> {
    let RunContext {
        run,
        definitions,
        report,
        window,
        ..
    } = context;
    // A run has snapshots only if it was being collected before.
    let mut collected = match *run.state {
        RunState::Collecting => kept(shared, run).await?,
        _ => Vec::new(),
    };
    let head = shared.store.archive_head().await?;
    let head = head.map(|(day, sha256)| format!("{day} {sha256}"));
    let (only_one, mut room_left) = (value_sets.len() == 1, MOST_AT_HAND);
    for (key, values) in value_sets {
        if collected.iter().any(|one| one.head.values_key == key) {
            continue;
        }
        // Given back when the snapshot is kept, or is not at hand any more.
        let held = shared.room.begin().await;
        let dashboards = definitions.set.dashboards_of(report);
        // Whether the run stays quiet may rest on queries that no block shows; others cost nothing.
        let decisive: Vec<String> = match &report.send_when {
            SendWhen::Rows(names) => names.iter().map(|name| name.value.clone()).collect(),
            _ => Vec::new(),
        };
        let questions = dashboards.iter().flat_map(|dashboard| {
            dashboard
                .asked(&decisive)
                .into_iter()
                .map(move |query| (&**dashboard, query))
        });
        let asking = Asking {
            definitions,
            report,
            window,
            values: &values,
            purpose: Purpose::Work,
        };
        let answers = join_all(
            questions
                .map(|(dashboard, query)| ask(shared, context, &asking, &held, dashboard, query)),
        )
        .await;
        let (mut queries, mut blobs) = (Vec::new(), Blobs::new());
        for answered in answers {
            let answered = answered?;
            queries.push(answered.record);
            blobs.extend(answered.blobs);
        }
        let shown: Vec<&Dashboard> = dashboards.iter().map(|dashboard| &**dashboard).collect();
        let at = (run.scheduled_for, run.created_at);
        add_earlier_runs(shared, &asking, &shown, at, &mut queries).await?;
        earlier::hold(&held, &mut queries);
        let frozen = definitions.composed_from();
        let mut snapshot = Snapshot {
            layout: Snapshot::LAYOUT,
            run_id: run.id.to_string(),
            report: report.name.clone(),
            scheduled_for: run.scheduled_for,
            made_at: queries
                .iter()
                .map(|record| record.ended)
                .max()
                .unwrap_or_else(|| shared.now()),
            window: window.clone(),
            zone_rules: ZoneRules::in_use(window.zone),
            incomplete: incomplete.clone(),
            archive_head: head.clone(),
            values,
            definitions: frozen,
            queries,
            blobs,
        };
        let subject = key[..8].to_owned();
        let step = Step::begin(shared, context.claim, StepKind::Snapshot, subject);
        let shown: Vec<String> = snapshot
            .values
            .values()
            .map(|value| value.readable())
            .collect();
        let shown = serde_json::Value::from(shown);
        // What a query does not go by says nothing of what it shows.
        let mut chosen = chosen(&snapshot.values);
        let shown_in = definitions.set.dashboards_of(report);
        chosen.retain(|name, _| shown_in.iter().all(|dashboard| dashboard.goes_by(name)));
        let chosen = serde_json::json!(chosen);
        let pictures = std::mem::take(&mut snapshot.blobs);
        let stays = only_one || held.size() <= room_left;
        room_left = room_left.saturating_sub(held.size());
        let computing = shared.computing(Purpose::Work);
        let sealed = step.carry_out(computing.run(move || sealed(snapshot, stays)));
        let (sealed, snapshot) = sealed.await??;
        let Sealed {
            bytes: body,
            sha256: digest,
        } = sealed;
        let detail = format!("{} bytes packed, SHA-256 {digest}", body.len());
        let stored = StoredSnapshot {
            id: Uuid::now_v7(),
            run_id: run.id,
            values_key: key.clone(),
            sha256: digest,
            body,
            created_at: shared.now(),
            status: None,
            quiet: None,
            shown: Some(shown),
            chosen: Some(chosen),
            removed_at: None,
        };
        let head = SnapshotHead::of(&stored);
        let small = is_small(stored.body.len()) && pictures.is_empty();
        let ended = step.ended(StepState::Done, detail, shared.now());
        let store = &shared.store;
        store
            .keep_snapshot(context.claim, stored, &pictures, Some(&ended))
            .await?;
        let at_hand = snapshot.map(|mut snapshot| {
            snapshot.blobs = pictures;
            AtHand {
                snapshot,
                small,
                room: only_one.then_some(held),
            }
        });
        collected.push(Collected { head, at_hand });
    }
    Ok(collected)
}

/// A snapshot as it is kept and, if it stays at hand, as it is read again.
fn sealed(snapshot: Snapshot, stays: bool) -> (Sealed, Option<Box<Snapshot>>) {
    let sealed = snapshot.seal();
    if !stays {
        return (sealed, None);
    }
    // If it could not be opened, reading it again says why.
    let as_read = snapshot.as_opened().ok();
    debug_assert_eq!(as_read, Snapshot::open(&sealed.bytes).ok());
    (sealed, as_read.map(Box::new))
}

/// Asks one query of a run, with its step on record.
#[expect(
    clippy::too_many_lines,
    reason = "one step with its record before and after"
)]
async fn ask(
    shared: &Shared,
    context: &RunContext,
    asking: &Asking<'_>,
    held: &Held,
    dashboard: &Dashboard,
    query: &Query,
) -> Result<Answered, WorkError> {
    let run = &context.run;
    let readable: Vec<String> = asking
        .values
        .values()
        .map(|value| value.readable())
        .collect();
    let subject = if readable.is_empty() {
        format!("{} / {}", dashboard.name, query.name)
    } else {
        format!(
            "{} / {} ({})",
            dashboard.name,
            query.name,
            readable.join(", ")
        )
    };
    let source = source_of(asking.definitions, query);
    let _permit = shared
        .source_limits
        .of_source_if_any(source, Purpose::Work)
        .await;
    let step = Step::begin(shared, context.claim, StepKind::Collect, subject);
    let asked = answer(shared, asking, dashboard, query);
    let mut answered = step.carry_out(asked).await?;
    if !held.take(answered.size()) {
        let most = OF_A_SNAPSHOT / 1_000_000;
        answered.blobs.clear();
        answered.record.capture = None;
        answered.record.outcome = Outcome::Failed(format!(
            "the answers for one snapshot are larger than {most} MB together; ask for less, or split the report"
        ));
    }
    let Answered { record, steps, .. } = &answered;
    let (state, mut detail) = match &record.outcome {
        Outcome::Rows(table) => (
            StepState::Done,
            format!(
                "{} rows{}",
                table.len(),
                record
                    .note
                    .as_ref()
                    .map(|note| format!("; {note}"))
                    .unwrap_or_default()
            ),
        ),
        Outcome::Failed(reason) => (StepState::Failed, reason.clone()),
    };
    if let Some(capture) = &record.capture {
        let pictures = capture.parts.len();
        detail = format!(
            "{pictures} {}",
            if pictures == 1 { "picture" } else { "pictures" }
        );
    }
    if !steps.is_empty() {
        detail += &format!("; {steps}");
    }
    let milliseconds = (record.ended - step.started_at).num_milliseconds();
    tracing::info!(query = step.subject(), %state, detail, milliseconds, "collected");
    step.end(state, detail, record.ended).await?;
    if let Some(picture) = &answered.instead {
        shared
            .store
            .keep_failed_page(context.claim, step.subject(), picture, shared.now())
            .await?;
    }
    let record = &answered.record;
    if let Some(source) = source {
        let failure = if let Outcome::Failed(reason) = &record.outcome {
            Some(reason.as_str())
        } else {
            None
        };
        notify::of_source(shared, run, context.report.owner.as_ref(), source, failure).await?;
    }
    Ok(answered)
}
