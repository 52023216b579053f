//! Asks every query of a run once for each distinct set of parameter values, and keeps the
//! answers as a snapshot.

use maple_lark_api::StepKind;
use maple_lark_api::StepState;
use std::{
    collections::{BTreeMap, HashMap},
    sync::{Arc, Mutex},
};

use futures::future::join_all;
use maple_lark_data::digest::sha256;
use maple_lark_definition::{Dashboard, Origin, Query, Report, SendWhen, Source, Times};
use maple_lark_document::{
    Snapshot,
    snapshot::{Outcome, QueryRecord, Sealed},
};
use maple_lark_sources::{Question, Values};
use maple_lark_store::runs::{Run, StoredSnapshot};
use maple_lark_time::{Window, window::Step};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use uuid::Uuid;

use super::{Catalogue, Shared, WorkError, notices, sampler};

/// Keeps one source, or one channel, from being used too much at once by this process,
/// whatever uses it.
#[derive(Default)]
pub struct Turns(Mutex<HashMap<(String, usize), Arc<Semaphore>>>);

impl Turns {
    /// A turn at a source, given back when it is dropped.
    pub async fn turn(&self, source: &Source) -> Option<OwnedSemaphorePermit> {
        self.turn_of(&source.name, source.max_concurrency).await
    }

    /// The same where there may be no source to wait for.
    pub async fn turn_for(&self, source: Option<&Source>) -> Option<OwnedSemaphorePermit> {
        match source {
            Some(source) => self.turn(source).await,
            None => None,
        }
    }

    /// A turn at anything that has a name and a limit.
    pub async fn turn_of(
        &self,
        name: &str,
        max_concurrency: usize,
    ) -> Option<OwnedSemaphorePermit> {
        let limit = {
            let mut known = self
                .0
                .lock()
                .unwrap_or_else(|poisoned| poisoned.into_inner());
            known
                .entry((name.to_owned(), max_concurrency))
                .or_insert_with(|| Arc::new(Semaphore::new(max_concurrency)))
                .clone()
        };
        // The semaphore is never closed.
        limit.acquire_owned().await.ok()
    }
}

/// The window that a run was made with.
pub fn window_of(run: &Run) -> Result<Window, WorkError> {
    let zone = run.time_zone.parse().map_err(|_| {
        WorkError::Run(format!(
            "the run's time zone \"{}\" is not known",
            run.time_zone
        ))
    })?;
    let within = run
        .within
        .clone()
        .map(serde_json::from_value)
        .transpose()
        .map_err(|error| WorkError::Run(format!("the run's window cannot be read: {error}")))?;
    Ok(Window {
        from: run.window_from,
        to: run.window_to,
        zone,
        within,
    })
}

/// The times that a query of a dashboard, or the question for readiness, is asked with.
pub fn times(report: &Report, window: Window, query: Option<(&Dashboard, &Query)>) -> Times {
    let step = query.map_or_else(
        || Step::fitting(&window, 320),
        |(dashboard, query)| dashboard.step(query, &window),
    );
    Times {
        comparison: report.window.comparison(&window),
        window,
        step,
    }
}

/// Names a set of values; equal sets have equal keys.
pub fn values_key(values: &Values) -> String {
    sha256(&serde_json::to_vec(values).unwrap_or_default())
}

pub async fn collect(
    shared: &Shared,
    run: &Run,
    catalogue: &Catalogue,
    report: &Report,
    value_sets: BTreeMap<String, Values>,
    incomplete: Option<String>,
) -> Result<(), WorkError> {
    let window = window_of(run)?;
    let kept: Vec<String> = shared
        .store
        .snapshot_heads(run.id)
        .await?
        .into_iter()
        .map(|snapshot| snapshot.values_key)
        .collect();
    for (key, values) in value_sets {
        if kept.contains(&key) {
            continue;
        }
        let dashboards = catalogue.set.dashboards_of(report);
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
        let answers = join_all(questions.map(|(dashboard, query)| {
            ask(
                shared,
                run,
                catalogue,
                report,
                (dashboard, query),
                &window,
                &values,
            )
        }))
        .await;
        let queries = answers.into_iter().collect::<Result<Vec<_>, _>>()?;
        let frozen = catalogue.composed_from();
        let snapshot = Snapshot {
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
            incomplete: incomplete.clone(),
            values,
            definitions: frozen,
            queries,
        };
        shared
            .store
            .begin_step(run.id, StepKind::Snapshot, &key[..8], shared.now())
            .await?;
        // Its rows are let go before they are kept: there may be a million.
        let Sealed {
            bytes: body,
            sha256: digest,
        } = snapshot.seal();
        drop(snapshot);
        let detail = format!("{} bytes packed, SHA-256 {digest}", body.len());
        shared
            .store
            .keep_snapshot(StoredSnapshot {
                id: Uuid::now_v7(),
                run_id: run.id,
                values_key: key.clone(),
                sha256: digest,
                body,
                created_at: shared.now(),
                status: None,
                quiet: None,
            })
            .await?;
        shared
            .store
            .end_step(
                run.id,
                StepKind::Snapshot,
                &key[..8],
                StepState::Done,
                Some(detail),
                shared.now(),
            )
            .await?;
    }
    Ok(())
}

/// The source that a query asks; nothing if it reads a history or another query's rows.
fn source_of<'a>(catalogue: &'a Catalogue, query: &Query) -> Option<&'a Source> {
    catalogue.set.sources.get(&query.source()?.value)
}

/// The sampler whose history a query reads; empty if it reads none.
fn sampler_of(query: &Query) -> &str {
    match &query.origin {
        Origin::Sampler(name) => &name.value,
        _ => "",
    }
}

async fn ask(
    shared: &Shared,
    run: &Run,
    catalogue: &Catalogue,
    report: &Report,
    (dashboard, query): (&Dashboard, &Query),
    window: &Window,
    values: &Values,
) -> Result<QueryRecord, WorkError> {
    let readable: Vec<String> = values.values().map(|value| value.readable()).collect();
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
    let source = source_of(catalogue, query);
    let _turn = shared.sources.turn_for(source).await;
    let started = shared.now();
    shared
        .store
        .begin_step(run.id, StepKind::Collect, &subject, started)
        .await?;
    let record = answered(
        shared,
        catalogue,
        report,
        (dashboard, query),
        window,
        values,
    )
    .await;
    let (state, detail) = match &record.outcome {
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
    tracing::info!(query = %subject, %state, detail, milliseconds = (record.ended - started).num_milliseconds(), "collected");
    shared
        .store
        .end_step(
            run.id,
            StepKind::Collect,
            &subject,
            state,
            Some(detail),
            record.ended,
        )
        .await?;
    if let Some(source) = source {
        let failure = if let Outcome::Failed(reason) = &record.outcome {
            Some(reason.as_str())
        } else {
            None
        };
        notices::of_source(shared, run, report.owner.as_ref(), source, failure).await?;
    }
    Ok(record)
}

/// Asks one query and says what came back. Whoever calls it has a turn at its source.
async fn answered(
    shared: &Shared,
    catalogue: &Catalogue,
    report: &Report,
    (dashboard, query): (&Dashboard, &Query),
    window: &Window,
    values: &Values,
) -> QueryRecord {
    let started = shared.now();
    let times = times(report, window.clone(), Some((dashboard, query)));
    let source = source_of(catalogue, query);
    let (mut note, named) = (None, query.source().map(|name| name.value.clone()));
    let outcome = match (&query.origin, source) {
        (Origin::Source { ask, .. }, Some(source)) => match shared
            .reader
            .read(
                source,
                Question {
                    ask,
                    times: &times,
                    values,
                },
            )
            .await
        {
            Ok(answer) => {
                note = answer.note;
                Outcome::Rows(answer.table)
            }
            Err(error) => Outcome::Failed(error.to_string()),
        },
        (Origin::Sampler(name), _) => {
            sampler::history(shared, &name.value, &times.window, &query.then).await
        }
        _ => Outcome::Failed(format!(
            "there is no source \"{}\"",
            named.as_deref().unwrap_or_default()
        )),
    };
    QueryRecord {
        dashboard: dashboard.name.clone(),
        name: query.name.clone(),
        source: named
            .clone()
            .unwrap_or_else(|| sampler_of(query).to_owned()),
        source_title: match source {
            Some(source) => source.title.clone(),
            None => catalogue.set.samplers.get(sampler_of(query)).map_or_else(
                || named.unwrap_or_default(),
                |sampler| sampler.title.clone(),
            ),
        },
        text: query.written(),
        started,
        ended: shared.now(),
        note,
        outcome,
    }
}

/// What a report would show of a window to those with these values, were it made now. Nothing
/// is kept, and no owner is told of what fails: somebody is looking.
pub async fn look(
    shared: &Shared,
    catalogue: &Catalogue,
    report: &Report,
    window: Window,
    values: Values,
) -> Snapshot {
    let dashboards = catalogue.set.dashboards_of(report);
    let questions = dashboards.iter().flat_map(|dashboard| {
        dashboard
            .asked(&[])
            .into_iter()
            .map(move |query| (&**dashboard, query))
    });
    let queries = join_all(questions.map(async |(dashboard, query)| {
        let _turn = shared.sources.turn_for(source_of(catalogue, query)).await;
        answered(
            shared,
            catalogue,
            report,
            (dashboard, query),
            &window,
            &values,
        )
        .await
    }));
    let queries = queries.await;
    Snapshot {
        layout: Snapshot::LAYOUT,
        run_id: "preview (not kept)".to_owned(),
        report: report.name.clone(),
        scheduled_for: shared.now(),
        made_at: shared.now(),
        window,
        incomplete: None,
        values,
        definitions: catalogue.composed_from(),
        queries,
    }
}
