//! One answer to: did everything go out, what is next, what failed?

use chrono::TimeDelta;
use maple_lark_api::{NextRun, Outcome, Overview, ReportView, RunState};
use maple_lark_store::{Store, runs::RunFilter};
use rocket::{Route, State, get, routes, serde::json::Json};

use super::{Answer, reports::report_views};
use crate::{access::Viewer, engine::EngineHandle};

pub fn routes() -> Vec<Route> {
    routes![overview]
}

const NEXT: usize = 8;
const RECENT: u64 = 8;

/// How things stand.
#[utoipa::path(get, operation_id = "get_overview", path = "/overview", tag = "overview", responses((status = 200, body = Overview)))]
#[get("/overview")]
async fn overview(
    _user: Viewer,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Overview> {
    let now = engine.now();
    let reports = report_views(store, engine).await?;
    let outcomes: Vec<Outcome> = store
        .outcomes_since(now - TimeDelta::hours(24))
        .await?
        .into_iter()
        .map(|(state, count)| Outcome { state, count })
        .collect();
    let failed: Vec<_> = reports
        .iter()
        .filter_map(|report| report.last_run.clone())
        .filter(|run| run.settled && !run.good)
        .collect();
    let mut next: Vec<NextRun> = reports
        .iter()
        .filter_map(|report| {
            Some(NextRun {
                report: report.name.clone(),
                title: report.title.clone(),
                at: report.next?,
                time_zone: report.time_zone.clone(),
                schedule: report.schedule.clone()?,
            })
        })
        .collect();
    next.sort_by_key(|next| next.at);
    next.truncate(NEXT);
    let recent = store
        .runs(&RunFilter::default(), 1, RECENT)
        .await?
        .items
        .into_iter()
        .map(super::view::run_summary)
        .collect();
    let (status, sentence) = sentence(&reports, &outcomes, failed.len());
    Ok(Json(Overview {
        sentence,
        status: status.to_owned(),
        outcomes,
        next,
        failed,
        recent,
    }))
}

fn sentence(reports: &[ReportView], outcomes: &[Outcome], failed: usize) -> (&'static str, String) {
    let count = |wanted: fn(RunState) -> bool| {
        outcomes
            .iter()
            .filter(|outcome| wanted(outcome.state))
            .map(|outcome| outcome.count)
            .sum::<i64>()
    };
    let good = count(|state| {
        matches!(
            state,
            RunState::Delivered | RunState::Completed | RunState::Quiet
        )
    });
    let running = count(RunState::is_open);
    let runs = |n: i64| {
        if n == 1 {
            "1 run".to_owned()
        } else {
            format!("{n} runs")
        }
    };
    let mut more = if running > 0 {
        format!(" {} under way.", runs(running))
    } else {
        String::new()
    };
    let paused = reports.iter().filter(|report| report.paused).count();
    if paused > 0 {
        more += &format!(" {paused} paused.");
    }
    match failed {
        _ if reports.is_empty() => ("ok", "There are no reports yet.".to_owned()),
        0 if good == 0 => ("ok", format!("Nothing was due in the last 24 hours.{more}")),
        0 => (
            "ok",
            format!(
                "Everything went out: {} in the last 24 hours.{more}",
                runs(good)
            ),
        ),
        1 => (
            "critical",
            format!("1 report did not go out as it should.{more}"),
        ),
        n => (
            "critical",
            format!("{n} reports did not go out as they should.{more}"),
        ),
    }
}
