//! Reports with their state, and runs on request.

use std::collections::HashMap;

use chrono::{DateTime, SecondsFormat, Utc};
use maple_lark_api::{
    AudienceView, Backfill, BackfillOrder, CopyOrder, DefinitionFile, Files, NewSchedule,
    ProblemDetails, ReportView, RunOrder, RunView,
};
use maple_lark_definition::{Audience, DefinitionSet, Kind, Report, edit};
use maple_lark_store::{Store, people::User, runs::Run, schedule::ScheduleState, teams::Sight};
use rocket::{
    Route, State, get, http::Status, post, put, response::status::Custom, routes, serde::json::Json,
};

use super::{
    Answer, Made,
    body::Body,
    changes::{Order, carry_out, is_free},
    definitions::{copied, named_anew, stored_definition},
    made,
    once::{OrderKey, once},
    problem::Problem,
    runs::one_run,
    teams,
    version::Versioned,
    writer::Writer,
};
use crate::{
    access::{Runner, Trail, Viewer},
    engine::{
        EngineHandle, OnlyTo, RequestError, RunRequest, backfill, past_instants, request_run,
    },
};

pub fn routes() -> Vec<Route> {
    routes![
        one,
        run,
        pause,
        resume,
        backfill_report,
        copy,
        schedule,
        reschedule
    ]
}

/// One report.
#[utoipa::path(get, operation_id = "get_report", path = "/reports/{name}", tag = "reports", params(("name" = String, Path)), responses((status = 200, body = ReportView), (status = 404, body = ProblemDetails)))]
#[get("/reports/<name>")]
async fn one(
    user: Viewer,
    name: &str,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<ReportView> {
    Ok(Json(one_view(store, engine, &user.1, name).await?))
}

/// Every report that a user sees.
pub async fn report_views(
    store: &Store,
    engine: &EngineHandle,
    sight: &Sight,
) -> Result<Vec<ReportView>, Problem> {
    let definitions = engine.definitions(store, sight).await?;
    let set = &definitions.set;
    let all: Vec<&Report> = set.reports.values().collect();
    let states = store.schedule_states_by_report().await?;
    views_of(store, set, sight, &all, &states).await
}

/// Reports with their last runs and how many runs they have.
pub async fn views_of(
    store: &Store,
    set: &DefinitionSet,
    sight: &Sight,
    reports: &[&Report],
    states: &HashMap<String, ScheduleState>,
) -> Result<Vec<ReportView>, Problem> {
    let names: Vec<String> = reports.iter().map(|report| report.name.clone()).collect();
    let mut latest = latest_of(store, sight, names.clone()).await?;
    let counts = store.runs_of_each(&names, sight).await?;
    let view = |report: &&Report| {
        let known = Known {
            state: states.get(&report.name),
            latest: latest.remove(&report.name),
            run_count: counts.get(&report.name).copied().unwrap_or_default(),
        };
        view(set, report, known)
    };
    Ok(reports.iter().map(view).collect())
}

/// The last run of each of these reports, of those that this user may see.
pub async fn latest_of(
    store: &Store,
    sight: &Sight,
    names: Vec<String>,
) -> Result<HashMap<String, Run>, Problem> {
    let runs = store.latest_runs(&names).await?;
    Ok(runs
        .into_iter()
        // A report may have been another team's before.
        .filter(|run| sight.sees(&run.team))
        .map(|run| (run.report.clone(), run))
        .collect())
}

/// What the records know of a report.
struct Known<'a> {
    state: Option<&'a ScheduleState>,
    latest: Option<Run>,
    run_count: u64,
}

fn audience_view(set: &DefinitionSet, report: &Report, audience: &Audience) -> AudienceView {
    let parameters = set.parameters_of(report);
    let values = set.values(report, Some(&audience.parameters));
    let listed = [
        ("", &audience.to),
        ("cc ", &audience.cc),
        ("bcc ", &audience.bcc),
    ];
    AudienceView {
        name: audience.name.clone(),
        recipients: listed
            .iter()
            .flat_map(|(role, list)| list.iter().map(move |one| format!("{role}{}", one.value)))
            .collect(),
        channels: audience
            .options
            .channels
            .iter()
            .map(|name| name.value.clone())
            .collect(),
        values: parameters
            .iter()
            .filter_map(|p| Some(format!("{}: {}", p.title, values.get(&p.name)?.readable())))
            .collect(),
    }
}

fn view(set: &DefinitionSet, report: &Report, known: Known<'_>) -> ReportView {
    let paused = known.state.is_some_and(|state| state.paused);
    let next = known
        .state
        .and_then(|state| state.next_instant)
        .filter(|_| !paused);
    ReportView {
        name: report.name.clone(),
        title: report.title.clone(),
        file: report.place.file.clone(),
        time_zone: report.zone.to_string(),
        owner: report.owner.as_ref().map(ToString::to_string),
        tags: report.tags.clone(),
        dashboards: report
            .dashboards
            .iter()
            .map(|name| name.value.clone())
            .collect(),
        formats: report
            .formats
            .iter()
            .map(|format| format.name().to_owned())
            .collect(),
        window: report.window.sentence(report.zone),
        schedule: report.schedule.as_ref().map(|schedule| schedule.sentence()),
        paused,
        next,
        next_window: next.map(|next| report.window.window(next, report.zone).label()),
        audiences: (report.audiences.iter())
            .map(|audience| audience_view(set, report, audience))
            .collect(),
        audiences_from: report
            .audience_queries
            .iter()
            .map(|query| query.source.value.clone())
            .collect(),
        last_run: known.latest.map(super::view::run_summary),
        run_count: known.run_count,
        run_limit: (report.schedule.as_ref()).and_then(|schedule| schedule.most_runs),
    }
}

impl From<RequestError> for Problem {
    fn from(error: RequestError) -> Self {
        match error {
            RequestError::NoReport(name) => Problem::not_found(format!("report \"{name}\"")),
            RequestError::NotReady { .. } => Problem::new(409, "Cannot run", error.to_string()),
            RequestError::Store(error) => error.into(),
        }
    }
}

/// The mail addresses of those whom a user has named; the users themselves are `me`.
pub(super) async fn everybody_meant(
    engine: &EngineHandle,
    store: &Store,
    (user, sight): (&User, &Sight),
    team: &str,
    written: &[String],
) -> Result<Vec<String>, Problem> {
    let definitions = engine.definitions(store, sight).await?;
    let mut found: Vec<String> = Vec::new();
    for one in written {
        let meant = definitions
            .set
            .meant_by(&user.name, one.trim())
            .map_err(|error| Problem::new(422, "No recipient", error.to_string()))?;
        for mailbox in meant.into_iter().map(|mailbox| mailbox.to_string()) {
            if !found.contains(&mailbox) {
                found.push(mailbox);
            }
        }
    }
    if found.is_empty() && !written.is_empty() {
        return Err(Problem::new(
            422,
            "No recipient",
            format!("nobody who is active is meant by {}", written.join(", ")),
        ));
    }
    teams::may_write_to(store, sight, team, &found).await?;
    Ok(found)
}

/// Run a report now; the schedule is not disturbed.
#[utoipa::path(post, operation_id = "run_report", path = "/reports/{name}/runs", tag = "reports", params(("name" = String, Path)), request_body = RunOrder, responses((status = 202, body = RunView), (status = 404, body = ProblemDetails)))]
#[post("/reports/<name>/runs", data = "<order>")]
#[expect(
    clippy::too_many_arguments,
    reason = "what the request holds, and the states of the service"
)]
async fn run(
    user: Runner,
    name: &str,
    key: OrderKey,
    order: Body<RunOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    trail: Trail,
) -> Result<Custom<Json<RunView>>, Problem> {
    let order = order.into_inner();
    if let Some(at) = order.scheduled_for {
        let at = at.to_rfc3339_opts(SecondsFormat::Secs, true);
        trail.note(format!("for {at}"));
    }
    trail.note(match (&order.to[..], order.deliver) {
        ([], true) => "to its audiences".to_owned(),
        ([], false) => "without sending".to_owned(),
        (to, _) => format!("to {}", to.join(", ")),
    });
    let what = ("run", name, order.clone());
    let begun = begin_run(store, engine, (&user.0, &user.1), name, order);
    let view: RunView = once((store, engine), &user.0, key, what, begun).await?;
    trail.note(format!("run {}", view.run.id));
    Ok(Custom(Status::Accepted, Json(view)))
}

async fn begin_run(
    store: &Store,
    engine: &EngineHandle,
    (user, sight): (&User, &Sight),
    name: &str,
    order: RunOrder,
) -> Result<RunView, Problem> {
    if order.to.is_empty() && (order.audience.is_some() || order.note.is_some()) {
        return Err(Problem::new(
            422,
            "No recipient",
            "audience and note go with to, which says who gets this run",
        ));
    }
    let definitions = engine.definitions(store, sight).await?;
    let report = definitions.set.reports.get(name);
    let team = report.map_or("", |report| report.team());
    let to = everybody_meant(engine, store, (user, sight), team, &order.to).await?;
    let only_to = (!to.is_empty()).then_some(OnlyTo {
        to,
        audience: order.audience,
        note: order.note,
    });
    let request = RunRequest {
        report: name.to_owned(),
        scheduled_for: order.scheduled_for,
        deliver: order.deliver,
        only_to,
        requested_by: user.name.clone(),
        now: engine.now(),
    };
    let id = request_run(store, &definitions, request).await?;
    engine.wake();
    one_run(store, sight, id).await
}

/// Produce the runs of a past range of scheduled instants.
#[utoipa::path(post, operation_id = "backfill_report", path = "/reports/{name}/backfill", tag = "reports", params(("name" = String, Path)), request_body = BackfillOrder, responses((status = 200, body = Backfill), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails)))]
#[post("/reports/<name>/backfill", data = "<order>")]
#[expect(
    clippy::too_many_arguments,
    reason = "what the request holds, and the states of the service"
)]
async fn backfill_report(
    user: Runner,
    name: &str,
    key: OrderKey,
    order: Body<BackfillOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    trail: Trail,
) -> Answer<Backfill> {
    let order = order.into_inner();
    let second = |at: &DateTime<Utc>| at.to_rfc3339_opts(SecondsFormat::Secs, true);
    let (from, to) = (second(&order.from), second(&order.to));
    let how = match (order.check, order.deliver) {
        (true, _) => ", to see which they would be",
        (false, true) => ", to its audiences",
        (false, false) => ", without sending",
    };
    trail.note(format!("from {from} to {to}{how}"));
    let what = ("backfill", name, order.clone());
    let made = made_up_for(store, engine, (&user.0, &user.1), name, order);
    Ok(Json(once((store, engine), &user.0, key, what, made).await?))
}

async fn made_up_for(
    store: &Store,
    engine: &EngineHandle,
    (user, sight): (&User, &Sight),
    name: &str,
    order: BackfillOrder,
) -> Result<Backfill, Problem> {
    let definitions = engine.definitions(store, sight).await?;
    let instants = past_instants(&definitions, name, order.from, order.to)?;
    let runs = if order.check {
        Vec::new()
    } else {
        backfill(
            store,
            &definitions,
            name,
            &instants,
            order.deliver,
            &user.name,
            engine.now(),
        )
        .await?
    };
    engine.wake();
    Ok(Backfill { instants, runs })
}

/// Pause a report's schedule.
#[utoipa::path(post, operation_id = "pause_report", path = "/reports/{name}/pause", tag = "reports", params(("name" = String, Path)), responses((status = 200, body = ReportView), (status = 404, body = ProblemDetails)))]
#[post("/reports/<name>/pause")]
async fn pause(
    user: Runner,
    name: &str,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<ReportView> {
    let view = set_paused(store, engine, &user.1, name, true).await;
    engine.wake();
    view
}

/// Resume a report's schedule; what passed while it was paused is not made up for.
#[utoipa::path(post, operation_id = "resume_report", path = "/reports/{name}/resume", tag = "reports", params(("name" = String, Path)), responses((status = 200, body = ReportView), (status = 404, body = ProblemDetails)))]
#[post("/reports/<name>/resume")]
async fn resume(
    user: Runner,
    name: &str,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<ReportView> {
    let view = set_paused(store, engine, &user.1, name, false).await;
    engine.wake();
    view
}

/// Copy a report. The copy begins paused, so that nobody gets two mails unasked.
#[utoipa::path(post, operation_id = "copy_report", path = "/reports/{name}/copy", tag = "reports", params(("name" = String, Path)), request_body = CopyOrder, responses((status = 201, body = ReportView), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/reports/<name>/copy", data = "<order>")]
async fn copy(
    by: Writer,
    name: &str,
    order: Body<CopyOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Made<ReportView> {
    let original = stored_definition("report", name, store, &by.sight).await?;
    let order = named_anew(&original, Kind::Report, &by.sight, &order);
    let file = copied(&original, Kind::Report, &order)?;
    let mut copy = Order::new(by.from, |stored| {
        is_free(stored, Kind::Report, &order.name)?;
        Ok(Files {
            files: vec![file.clone()],
            message: None,
            remove_others: false,
        })
    });
    copy.paused = vec![order.name.clone()];
    carry_out(store, engine, &by, &copy).await?;
    Ok(made(one_view(store, engine, &by.sight, &order.name).await?))
}

/// A report's time zone, window and schedule, as its file has them.
#[utoipa::path(get, operation_id = "get_schedule", path = "/reports/{name}/schedule", tag = "reports", params(("name" = String, Path)), responses((status = 200, body = NewSchedule), (status = 404, body = ProblemDetails)))]
#[get("/reports/<name>/schedule")]
async fn schedule(
    user: Viewer,
    name: &str,
    store: &State<Store>,
) -> Result<Versioned<NewSchedule>, Problem> {
    let stored = stored_definition("report", name, store, &user.1).await?;
    let value: serde_json::Value = toml_edit::de::from_str(&stored.text)
        .map_err(|error| Problem::new(422, "Not understood", error.message()))?;
    let table = |name: &str| value.get(name).filter(|table| table.is_object()).cloned();
    let schedule = NewSchedule {
        time_zone: value["report"]["time-zone"]
            .as_str()
            .unwrap_or("UTC")
            .to_owned(),
        window: table("window").unwrap_or_default(),
        schedule: table("schedule"),
    };
    Ok(Versioned::new(schedule, &stored.text))
}

/// Set a report's time zone, window and schedule; the rest of its file stays as it is.
#[utoipa::path(put, operation_id = "reschedule_report", path = "/reports/{name}/schedule", tag = "reports", params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "the ETag of what was read; another version is not changed")), request_body = NewSchedule, responses((status = 200, body = ReportView), (status = 404, body = ProblemDetails), (status = 412, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[put("/reports/<name>/schedule", data = "<new>")]
async fn reschedule(
    by: Writer,
    name: &str,
    new: Body<NewSchedule>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<ReportView> {
    let rescheduled = Order::new(by.from, |stored| {
        let one = stored
            .iter()
            .find(|one| one.kind == Kind::Report.name() && one.name == name)
            .ok_or_else(|| Problem::not_found(format!("report \"{name}\"")))?;
        let schedule = new.schedule.as_ref();
        let text = edit::rescheduled(&one.text, &new.time_zone, schedule, Some(&new.window));
        let text = text.map_err(bad_edit)?;
        by.if_match.holds(one, Some(&text))?;
        Ok(Files {
            files: vec![DefinitionFile::new(one.file.clone(), text)],
            message: None,
            remove_others: false,
        })
    });
    carry_out(store, engine, &by, &rescheduled).await?;
    Ok(Json(one_view(store, engine, &by.sight, name).await?))
}

fn bad_edit(error: edit::BadEdit) -> Problem {
    Problem::new(422, "Not understood", error.to_string())
}

async fn one_view(
    store: &Store,
    engine: &EngineHandle,
    sight: &Sight,
    name: &str,
) -> Result<ReportView, Problem> {
    let definitions = engine.definitions(store, sight).await?;
    let set = &definitions.set;
    let not_there = || Problem::not_found(format!("report \"{name}\""));
    let report = set.reports.get(name).ok_or_else(not_there)?;
    let states = store.schedule_states_by_report().await?;
    let view = views_of(store, set, sight, &[report], &states).await?;
    view.into_iter().next().ok_or_else(not_there)
}

async fn set_paused(
    store: &Store,
    engine: &EngineHandle,
    sight: &Sight,
    name: &str,
    paused: bool,
) -> Answer<ReportView> {
    let definitions = engine.definitions(store, sight).await?;
    let (set, now) = (&definitions.set, engine.now());
    let report = set
        .reports
        .get(name)
        .ok_or_else(|| Problem::not_found(format!("report \"{name}\"")))?;
    if !store
        .set_paused(
            name,
            paused,
            set.plan(report).and_then(|plan| plan.next_after(now)),
        )
        .await?
    {
        return Err(Problem::new(
            409,
            "No schedule",
            format!("the report \"{name}\" has no schedule; it runs only when asked"),
        ));
    }
    Ok(Json(one_view(store, engine, sight, name).await?))
}
