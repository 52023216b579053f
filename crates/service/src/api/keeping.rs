//! How long what was made is kept: the policy, what goes by it, what went, what is kept for good.

use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, Utc};
use maple_lark_api::{
    Change, GoingList, GoingView, KeepOrder, KeepPolicy, KeepStage, Keeping, KeptPage,
    ProblemDetails, RemovalPage, RemovalView, ReportKeeping, Role, RunView, Words, readable_size,
};
use maple_lark_definition::{DefinitionSet, Kind};
use maple_lark_store::{
    Store,
    keeping::{Going, Removal},
    teams::Sight,
};
use rocket::{Route, State, delete, get, post, put, routes, serde::json::Json};
use uuid::Uuid;

use super::{
    Answer,
    body::{Body, given, whole},
    problem::Problem,
    runs::one_run,
    seen,
    view::kept_view,
};
use crate::{
    access::{Administrator, Author, Trail},
    engine::{EngineHandle, keep},
};

pub fn routes() -> Vec<Route> {
    routes![
        show,
        set,
        plan,
        going,
        gone,
        kept,
        keep_run,
        keep_run_no_longer
    ]
}

/// What is to go is listed up to this many.
const MOST_LISTED: u64 = 500;
/// So often so many runs are looked at for one answer.
const MOST_LOOKS: usize = 10;
/// What is to go can be asked for so many days ahead.
const MOST_DAYS: u64 = 3_660;
/// Characters of why a run is kept.
const LONGEST_REASON: usize = 500;

fn refused(words: impl Into<String>) -> Problem {
    Problem::new(422, "Not understood", words.into())
}

/// How long what was made is kept, and what there is.
#[utoipa::path(get, operation_id = "get_keeping", path = "/keeping", tag = "archive", responses((status = 200, body = Keeping)))]
#[get("/keeping")]
async fn show(
    _user: Administrator,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Keeping> {
    Ok(Json(keeping(store, engine).await?))
}

/// What nobody has looked at yet is not counted by anything. What is left of very much is looked at
/// by the engine.
async fn look_at_new(store: &Store) -> Result<(), Problem> {
    for _ in 0..MOST_LOOKS {
        if store.measure(MOST_LISTED).await? == 0 {
            break;
        }
    }
    Ok(())
}

async fn keeping(store: &Store, engine: &EngineHandle) -> Result<Keeping, Problem> {
    look_at_new(store).await?;
    let definitions = engine.definitions(store, &Sight::All).await?;
    let holdings = store.holdings().await?;
    let stored = store.keep_policy().await?;
    let (policy, set_at, set_by) = match stored {
        None => (KeepPolicy::default(), None, None),
        Some((policy, at, by)) => (
            serde_json::from_value(policy).unwrap_or_default(),
            Some(at),
            Some(by),
        ),
    };
    let own = definitions.set.reports.values().filter_map(|report| {
        Some(ReportKeeping {
            report: report.name.clone(),
            title: report.title.clone(),
            words: report.keep?.words(),
        })
    });
    Ok(Keeping {
        policy,
        set_at,
        set_by,
        reports: own.collect(),
        runs: holdings.runs,
        with_documents: holdings.with_documents,
        kept: holdings.kept,
        document_bytes: holdings.document_bytes,
        snapshot_bytes: holdings.snapshot_bytes,
    })
}

/// Set how long what was made is kept. What goes by it goes from now on; ask for the plan before.
#[utoipa::path(put, operation_id = "set_keeping", path = "/keeping", tag = "archive", request_body = KeepPolicy, responses((status = 200, body = Keeping), (status = 422, body = ProblemDetails)))]
#[put("/keeping", data = "<policy>")]
async fn set(
    user: Administrator,
    policy: Body<KeepPolicy>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    trail: Trail,
) -> Answer<Keeping> {
    let policy = policy.into_inner();
    let read = keep::read(&policy).map_err(|error| refused(error.to_string()))?;
    let json = serde_json::to_value(&policy).map_err(|error| refused(error.to_string()))?;
    trail.note(
        match policy
            .at_least
            .as_deref()
            .filter(|_| read.at_least.is_some())
        {
            None => read.terms.words(),
            Some(least) => format!("{}, at least {least}", read.terms.words()),
        },
    );
    store
        .set_keep_policy(&json, &user.0.name, engine.now())
        .await?;
    engine.look_at_what_is_kept();
    Ok(Json(keeping(store, engine).await?))
}

fn view(going: Going) -> GoingView {
    GoingView {
        run: going.run,
        report: going.report,
        ended_at: going.ended_at,
        what: going.what,
        why: going.why,
        bytes: going.bytes,
    }
}

async fn listed(
    store: &Store,
    engine: &EngineHandle,
    policy: &keep::Read,
    days: u32,
) -> Result<GoingList, Problem> {
    look_at_new(store).await?;
    let definitions = engine.definitions(store, &Sight::All).await?;
    let until = keep::within(engine.now(), days);
    let policy = keep::at(policy, &definitions.set, until);
    let mut found = store.going(&policy, MOST_LISTED + 1).await?;
    let more = found.len() as u64 > MOST_LISTED;
    found.truncate(MOST_LISTED as usize);
    found.sort_by_key(|one| (one.what, one.ended_at, one.run));
    Ok(GoingList {
        until,
        more,
        bytes: found.iter().map(|one| one.bytes).sum(),
        items: found.into_iter().map(view).collect(),
    })
}

/// What would go at once by a policy. Nothing is changed.
#[utoipa::path(post, operation_id = "plan_keeping", path = "/keeping/plan", tag = "archive", request_body = KeepPolicy, responses((status = 200, body = GoingList), (status = 422, body = ProblemDetails)))]
#[post("/keeping/plan", data = "<policy>")]
async fn plan(
    _user: Administrator,
    policy: Body<KeepPolicy>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<GoingList> {
    let policy = keep::read(&policy.into_inner());
    let policy = policy.map_err(|error| refused(error.to_string()))?;
    Ok(Json(listed(store, engine, &policy, 0).await?))
}

/// What goes within some days by the policy that is set, documents first, the oldest first. Runs that
/// are yet to come can push more over a limit of number or size.
#[utoipa::path(get, operation_id = "list_going", path = "/keeping/going", tag = "archive", params(("days" = Option<u32>, Query, description = "7 if left out")), responses((status = 200, body = GoingList), (status = 422, body = ProblemDetails)))]
#[get("/keeping/going?<days>")]
async fn going(
    _user: Administrator,
    days: Option<&str>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<GoingList> {
    let days = whole("days", given(days))?.unwrap_or(7);
    if days > MOST_DAYS {
        return Err(refused(format!("days: at most {MOST_DAYS}")));
    }
    let policy = keep::current(store).await?;
    let days = u32::try_from(days).unwrap_or(u32::MAX);
    Ok(Json(listed(store, engine, &policy, days).await?))
}

/// Says of each report whose terms are others afterwards what goes at once by them, and would not by those
/// before. A report that is removed has the terms of all from then on.
pub async fn says_what_goes(
    store: &Store,
    (before, after): (&DefinitionSet, &DefinitionSet),
    now: DateTime<Utc>,
    changes: &mut [Change],
) -> Result<(), Problem> {
    let terms = |set: &DefinitionSet, name: &str| set.reports.get(name).and_then(|one| one.keep);
    let mut changed: Vec<&mut Change> = changes
        .iter_mut()
        .filter(|change| change.kind == Kind::Report)
        .filter(|change| terms(before, &change.name) != terms(after, &change.name))
        .collect();
    if changed.is_empty() {
        return Ok(());
    }
    look_at_new(store).await?;
    let policy = keep::current(store).await?;
    let going = async |set| {
        let policy = keep::at(&policy, set, now);
        store.going(&policy, MOST_LISTED).await
    };
    let anyway = going(before).await?;
    let anyway: BTreeSet<_> = anyway.iter().map(|one| (one.run, one.what)).collect();
    let mut new = going(after).await?;
    let more = new.len() as u64 == MOST_LISTED;
    new.retain(|one| !anyway.contains(&(one.run, one.what)));
    for change in &mut changed {
        let own = new.iter().filter(|one| one.report == change.name);
        change.lets_go = in_words(own, more);
    }
    Ok(())
}

/// `the documents of 12 runs and the snapshots of 3 (1.2 MiB)`; nothing if nothing goes.
fn in_words<'g>(going: impl Iterator<Item = &'g Going>, more: bool) -> Option<String> {
    let mut counts: BTreeMap<KeepStage, usize> = BTreeMap::new();
    let mut bytes = 0;
    for one in going {
        *counts.entry(one.what).or_default() += 1;
        bytes += one.bytes;
    }
    let parts = counts.iter().map(|(what, count)| {
        let runs = if *count == 1 { "run" } else { "runs" };
        format!("the {} of {count} {runs}", what.word())
    });
    let parts: Vec<String> = parts.collect();
    let least = if more { "at least " } else { "" };
    let size = readable_size(u64::try_from(bytes).unwrap_or_default());
    (!parts.is_empty()).then(|| format!("{least}{} ({size})", parts.join(" and ")))
}

fn removal_view(one: Removal) -> RemovalView {
    RemovalView {
        at: one.at,
        what: *one.what,
        why: one.why,
        run: one.run_id,
        report: one.report,
        title: one.title,
        ended_at: one.ended_at,
        window_from: one.window_from,
        window_to: one.window_to,
        bytes: one.bytes,
        files: serde_json::from_value(one.files).unwrap_or_default(),
    }
}

/// What went, the latest first, with the names and digests of the documents.
#[utoipa::path(get, operation_id = "list_gone", path = "/keeping/gone", tag = "archive", params(("report" = Option<String>, Query), ("page" = Option<u64>, Query, description = "counted from 1"), ("size" = Option<u64>, Query, description = "at most 200")), responses((status = 200, body = RemovalPage), (status = 422, body = ProblemDetails)))]
#[get("/keeping/gone?<report>&<page>&<size>")]
async fn gone(
    _user: Administrator,
    report: Option<&str>,
    page: Option<&str>,
    size: Option<&str>,
    store: &State<Store>,
) -> Answer<RemovalPage> {
    let page = whole("page", page)?.unwrap_or(1).clamp(1, 1 << 40);
    let size = whole("size", size)?.unwrap_or(50).clamp(1, 200);
    let found = store.removals(given(report), page, size).await?;
    Ok(Json(RemovalPage {
        items: found.items.into_iter().map(removal_view).collect(),
        total: found.total,
        page,
        size,
    }))
}

/// The runs that are kept for good, the latest first.
#[utoipa::path(get, operation_id = "list_kept", path = "/keeping/kept", tag = "archive", params(("page" = Option<u64>, Query, description = "counted from 1"), ("size" = Option<u64>, Query, description = "at most 200")), responses((status = 200, body = KeptPage)))]
#[get("/keeping/kept?<page>&<size>")]
async fn kept(
    _user: Administrator,
    page: Option<&str>,
    size: Option<&str>,
    store: &State<Store>,
) -> Answer<KeptPage> {
    let page = whole("page", page)?.unwrap_or(1).clamp(1, 1 << 40);
    let size = whole("size", size)?.unwrap_or(50).clamp(1, 200);
    let found = store.kept_runs(page, size).await?;
    Ok(Json(KeptPage {
        items: found.items.into_iter().filter_map(kept_view).collect(),
        total: found.total,
        page,
        size,
    }))
}

/// Keep a run for good: nothing of it goes, whatever the policy says.
#[utoipa::path(put, operation_id = "keep_run", path = "/runs/{id}/keep", tag = "archive", params(("id" = Uuid, Path)), request_body = KeepOrder, responses((status = 200, body = RunView), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[put("/runs/<id>/keep", data = "<order>")]
async fn keep_run(
    user: Author,
    id: Uuid,
    order: Body<KeepOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    trail: Trail,
) -> Answer<RunView> {
    let because = order.into_inner().because.trim().to_owned();
    if because.is_empty() || because.chars().count() > LONGEST_REASON {
        return Err(refused(format!(
            "because: say in 1 to {LONGEST_REASON} characters why it is kept, for whoever asks later"
        )));
    }
    let run = seen::run(store, &user.1, id).await?;
    trail.note(because.clone());
    let already = store
        .keep_run((id, &run.report), &user.0.name, &because, engine.now())
        .await?;
    if already {
        return Err(Problem::new(
            409,
            "Kept already",
            "somebody keeps this run for good already; its page says who, and why",
        ));
    }
    Ok(Json(one_run(store, &user.1, id).await?))
}

/// Keep a run no longer than others. Who keeps it does that, or an administrator.
#[utoipa::path(delete, operation_id = "keep_run_no_longer", path = "/runs/{id}/keep", tag = "archive", params(("id" = Uuid, Path)), responses((status = 200, body = RunView), (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails)))]
#[delete("/runs/<id>/keep")]
async fn keep_run_no_longer(user: Author, id: Uuid, store: &State<Store>) -> Answer<RunView> {
    seen::run(store, &user.1, id).await?;
    let kept = store.holding(id).await?.and_then(kept_view);
    let Some(kept) = kept else {
        let words = "nobody keeps this run for good";
        return Err(Problem::new(409, "Not kept", words));
    };
    if kept.by != user.0.name && *user.0.role != Role::Administrator {
        let words = format!(
            "{} keeps this run; they, or an administrator, let it go",
            kept.by
        );
        return Err(Problem::new(403, "Not permitted", words));
    }
    store.keep_run_no_longer(id).await?;
    Ok(Json(one_run(store, &user.1, id).await?))
}
