//! Runs: lists, one with everything that happened, and its progress as it happens.

use std::time::Duration;

use base64::{Engine, engine::general_purpose::STANDARD};
use maple_lark_api::{
    FailedPage, Kind, ProblemDetails, RunDefinition, RunLog, RunLogLine, RunPage, RunState,
    RunView, SnapshotView, Words,
};
use maple_lark_store::{Store, definitions::UsedVersion, runs::RunFilter, teams::Sight};
use rocket::{
    Route, Shutdown, State, get, post,
    response::stream::{Event, EventStream},
    routes,
    serde::json::Json,
};
use uuid::Uuid;

use super::{Answer, body::whole, follow::Followed, problem::Problem, seen, view};
use crate::{
    access::{self, Author, Runner, Viewer},
    engine::EngineHandle,
};

/// How often somebody who follows a run to which nothing happens is looked at again.
const LOOK_AGAIN: Duration = Duration::from_secs(5);

pub fn routes() -> Vec<Route> {
    routes![list, one, events, cancel, definitions, failed_pages, log]
}

/// Runs, newest first.
#[utoipa::path(get, operation_id = "list_runs", path = "/runs", tag = "runs", params(("report" = Option<String>, Query), ("state" = Option<RunState>, Query), ("page" = Option<u64>, Query, description = "counted from 1"), ("size" = Option<u64>, Query, description = "at most 200")), responses((status = 200, body = RunPage)))]
#[get("/runs?<report>&<state>&<page>&<size>")]
async fn list(
    user: Viewer,
    report: Option<String>,
    state: Option<&str>,
    page: Option<&str>,
    size: Option<&str>,
    store: &State<Store>,
) -> Answer<RunPage> {
    let page = whole("page", page)?.unwrap_or(1).clamp(1, 1 << 40);
    let size = whole("size", size)?.unwrap_or(25).clamp(1, 200);
    let state = state
        .map(RunState::from_word)
        .transpose()
        .map_err(|error| Problem::new(422, "Not understood", error.to_string()))?;
    let filter = RunFilter {
        report,
        state,
        sight: user.1,
    };
    let found = store.runs(&filter, page, size).await?;
    Ok(Json(RunPage {
        items: found.items.into_iter().map(view::run_summary).collect(),
        total: found.total,
        page,
        size,
    }))
}

/// One run with its steps, documents and deliveries.
#[utoipa::path(get, operation_id = "get_run", path = "/runs/{id}", tag = "runs", params(("id" = Uuid, Path)), responses((status = 200, body = RunView), (status = 404, body = ProblemDetails)))]
#[get("/runs/<id>")]
async fn one(user: Viewer, id: Uuid, store: &State<Store>) -> Answer<RunView> {
    Ok(Json(one_run(store, &user.1, id).await?))
}

/// The versions of the definitions that a run was made with.
#[utoipa::path(get, operation_id = "run_definitions", path = "/runs/{id}/definitions", tag = "runs", params(("id" = Uuid, Path)), responses((status = 200, body = Vec<RunDefinition>), (status = 404, body = ProblemDetails)))]
#[get("/runs/<id>/definitions")]
async fn definitions(user: Author, id: Uuid, store: &State<Store>) -> Answer<Vec<RunDefinition>> {
    seen::run(store, &user.1, id).await?;
    let used = store.versions_of_run(id).await?;
    let view = |used: UsedVersion| {
        Some(RunDefinition {
            kind: Kind::from_name(&used.kind)?,
            name: used.name,
            version: used.version,
            saved_at: used.saved_at,
            saved_by: used.saved_by,
        })
    };
    Ok(Json(used.into_iter().filter_map(view).collect()))
}

/// What the log says of a run, the first lines first.
#[utoipa::path(get, operation_id = "run_log", path = "/runs/{id}/log", tag = "runs", params(("id" = Uuid, Path), ("page" = Option<u64>, Query, description = "counted from 1"), ("size" = Option<u64>, Query, description = "at most 200")), responses((status = 200, body = RunLog), (status = 404, body = ProblemDetails)))]
#[get("/runs/<id>/log?<page>&<size>")]
async fn log(
    user: Author,
    id: Uuid,
    page: Option<&str>,
    size: Option<&str>,
    store: &State<Store>,
) -> Answer<RunLog> {
    let page = whole("page", page)?.unwrap_or(1).clamp(1, 1 << 40);
    let size = whole("size", size)?.unwrap_or(100).clamp(1, 200);
    seen::run(store, &user.1, id).await?;
    let found = store.run_lines(id, page, size).await?;
    let lines = found.items.into_iter().map(|line| RunLogLine {
        at: line.at,
        level: line.level,
        text: line.text,
    });
    Ok(Json(RunLog {
        items: lines.collect(),
        total: found.total,
        page,
        size,
    }))
}

/// What was there instead of the live pages that a run could not capture.
#[utoipa::path(get, operation_id = "failed_pages", path = "/runs/{id}/failed-pages", tag = "runs", params(("id" = Uuid, Path)), responses((status = 200, body = Vec<FailedPage>), (status = 404, body = ProblemDetails)))]
#[get("/runs/<id>/failed-pages")]
async fn failed_pages(user: Author, id: Uuid, store: &State<Store>) -> Answer<Vec<FailedPage>> {
    seen::run(store, &user.1, id).await?;
    let pages = store.failed_pages(id).await?;
    let view = pages.into_iter().map(|page| FailedPage {
        subject: page.subject,
        at: page.created_at,
        picture: STANDARD.encode(page.picture),
    });
    Ok(Json(view.collect()))
}

/// Cancel a run that is not settled.
#[utoipa::path(post, operation_id = "cancel_run", path = "/runs/{id}/cancel", tag = "runs", params(("id" = Uuid, Path)), responses((status = 200, body = RunView), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails)))]
#[post("/runs/<id>/cancel")]
async fn cancel(
    user: Runner,
    id: Uuid,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<RunView> {
    seen::run(store, &user.1, id).await?;
    let cancelled = store.cancel_run(id, &user.0.name, engine.now()).await?;
    let view = one_run(store, &user.1, id).await?;
    if cancelled {
        Ok(Json(view))
    } else {
        Err(Problem::new(
            409,
            "Settled",
            format!("the run is already {}", view.run.state),
        ))
    }
}

pub async fn one_run(store: &Store, sight: &Sight, id: Uuid) -> Result<RunView, Problem> {
    let run = seen::run(store, sight, id).await?;
    let deliveries = store.deliveries(id).await?;
    let attempts = store.attempts(&deliveries).await?;
    let mut snapshots: Vec<SnapshotView> = Vec::new();
    for snapshot in store.snapshot_heads(id).await? {
        let mut audiences: Vec<String> = deliveries
            .iter()
            .filter(|delivery| delivery.snapshot_id == snapshot.id)
            .map(|delivery| delivery.audience.clone())
            .collect();
        audiences.dedup();
        if audiences.is_empty() {
            // Nothing was sent, so the values alone say for whom it was made.
            audiences = snapshot
                .shown
                .and_then(|shown| serde_json::from_value(shown).ok())
                .unwrap_or_default();
        }
        snapshots.push(SnapshotView {
            id: snapshot.id,
            sha256: snapshot.sha256,
            audiences,
            removed_at: snapshot.removed_at,
        });
    }
    Ok(RunView {
        run: view::run_summary(run),
        steps: store
            .steps(id)
            .await?
            .into_iter()
            .map(view::step_view)
            .collect(),
        documents: store
            .document_heads(id)
            .await?
            .into_iter()
            .map(view::document_view)
            .collect(),
        deliveries: deliveries
            .into_iter()
            .map(|delivery| view::delivery_view(delivery, &attempts))
            .collect(),
        snapshots,
        links: store
            .links(id)
            .await?
            .into_iter()
            .map(view::link_view)
            .collect(),
        kept: store.holding(id).await?.and_then(view::kept_view),
    })
}

/// The run as server-sent events named `run`, one at each change, until it is settled.
#[utoipa::path(get, operation_id = "follow_run", path = "/runs/{id}/events", tag = "runs", params(("id" = Uuid, Path)), responses((status = 200, content_type = "text/event-stream"), (status = 404, body = ProblemDetails)))]
#[get("/runs/<id>/events")]
async fn events(
    user: Viewer,
    id: Uuid,
    store: &State<Store>,
    followed: &State<Followed>,
    mut stop: Shutdown,
) -> Result<EventStream![], Problem> {
    let store = store.inner().clone();
    seen::run(&store, &user.1, id).await?;
    let mut changes = followed.follow(&store, id);
    Ok(EventStream! {
        let mut told = String::new();
        loop {
            let began = std::time::Instant::now();
            // Who is disabled, or leaves the team, hears nothing more.
            let Ok(Some((who, teams))) = store.user_now(user.0.id).await else { break };
            let sight = access::sight_of(&who, teams);
            let Ok(view) = one_run(&store, &sight, id).await else { break };
            // A run with thousands of deliveries takes a while to look at; most of the time is
            // left to whatever carries them.
            let pause = began.elapsed() * 10;
            let text = serde_json::to_string(&view).unwrap_or_default();
            if text != told {
                yield Event::data(text.clone()).event("run");
                told = text;
            }
            if view.run.settled {
                break;
            }
            let changed = async {
                tokio::time::sleep(pause).await;
                // Who may not see it any more is found out also if nothing happens.
                let _ = tokio::time::timeout(LOOK_AGAIN, changes.changed()).await;
            };
            tokio::select! {
                () = changed => {}
                () = &mut stop => break,
            }
        }
    })
}
