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
/// So many runs that await approval are listed.
const AWAITING: u64 = 20;

/// How things stand.
#[utoipa::path(get, operation_id = "get_overview", path = "/overview", tag = "overview", responses((status = 200, body = Overview)))]
#[get("/overview")]
async fn overview(
    user: Viewer,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Overview> {
    let now = engine.now();
    let reports = report_views(store, engine, &user.1).await?;
    let outcomes: Vec<Outcome> = store
        .outcomes_since(now - TimeDelta::hours(24), &user.1)
        .await?
        .into_iter()
        .map(|(state, count)| Outcome { state, count })
        .collect();
    let awaiting = RunFilter {
        report: None,
        state: Some(RunState::AwaitingApproval),
        sight: user.1.clone(),
    };
    let awaiting = store.runs(&awaiting, 1, AWAITING).await?;
    let failed: Vec<_> = reports
        .iter()
        .filter_map(|report| report.last_run.clone())
        .filter(|run| run.settled && !run.good)
        .collect();
    let all = RunFilter {
        report: None,
        state: None,
        sight: user.1,
    };
    let recent = store
        .runs(&all, 1, RECENT)
        .await?
        .items
        .into_iter()
        .map(super::view::run_summary)
        .collect();
    let counts = Counts {
        failed: failed.len(),
        awaiting: awaiting.total,
        paused: reports.iter().filter(|report| report.paused).count(),
    };
    let (status, sentence) = match &reports[..] {
        [] => ("ok", "There are no reports yet.".to_owned()),
        _ => day(&outcomes, &counts),
    };
    let awaiting = awaiting.items.into_iter().map(super::view::run_summary);
    Ok(Json(Overview {
        sentence,
        status: status.to_owned(),
        outcomes,
        next: upcoming(&reports),
        attention: awaiting.chain(failed).collect(),
        recent,
    }))
}

/// The next runs of all, the soonest first.
fn upcoming(reports: &[ReportView]) -> Vec<NextRun> {
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
    next
}

/// What is so now, whenever it came to be.
#[derive(Default)]
struct Counts {
    failed: usize,
    awaiting: u64,
    paused: usize,
}

/// What the last day came to, in sentences that count what they say.
fn day(outcomes: &[Outcome], counts: &Counts) -> (&'static str, String) {
    let count = |wanted: fn(RunState) -> bool| {
        outcomes
            .iter()
            .filter(|outcome| wanted(outcome.state))
            .map(|outcome| outcome.count)
            .sum::<i64>()
    };
    let delivered = count(|state| state == RunState::Delivered);
    let completed = count(|state| state == RunState::Completed);
    let quiet = count(|state| state == RunState::Quiet);
    let awaiting = i64::try_from(counts.awaiting).unwrap_or(i64::MAX);
    let under_way = count(RunState::is_under_way);
    let runs = |n: i64| counted(n, "run", "runs");
    let mut said = vec![match (counts.failed, delivered) {
        (0, 0) if awaiting > 0 => "Nothing went out in the last 24 hours".to_owned(),
        (0, 0) if completed + quiet == 0 => "Nothing was due in the last 24 hours".to_owned(),
        (0, 0) => "Nothing was to be sent in the last 24 hours".to_owned(),
        (0, n) if awaiting > 0 => format!("{} went out in the last 24 hours", runs(n)),
        (0, n) => format!("Everything went out: {} in the last 24 hours", runs(n)),
        (1, _) => "1 report did not go out as it should".to_owned(),
        (n, _) => format!("{n} reports did not go out as they should"),
    }];
    // Beside what failed, it is said how much did not.
    let went_out = if counts.failed > 0 { delivered } else { 0 };
    for (n, one, several) in [
        (
            went_out,
            "went out in the last 24 hours",
            "went out in the last 24 hours",
        ),
        (
            completed,
            "was made without sending",
            "were made without sending",
        ),
        (quiet, "had nothing to send", "had nothing to send"),
        (awaiting, "awaits approval", "await approval"),
        (under_way, "is under way", "are under way"),
    ] {
        if n > 0 {
            said.push(format!(
                "{} {}",
                runs(n),
                if n == 1 { one } else { several }
            ));
        }
    }
    if counts.paused > 0 {
        let paused = i64::try_from(counts.paused).unwrap_or(i64::MAX);
        said.push(format!(
            "{} paused",
            counted(paused, "report is", "reports are")
        ));
    }
    let status = match (counts.failed, awaiting) {
        (0, 0) => "ok",
        (0, _) => "warning",
        _ => "critical",
    };
    (status, format!("{}.", said.join(". ")))
}

fn counted(n: i64, one: &str, several: &str) -> String {
    format!("{n} {}", if n == 1 { one } else { several })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn said(
        outcomes: &[(RunState, i64)],
        failed: usize,
        paused: usize,
        awaiting: u64,
    ) -> (&'static str, String) {
        let outcomes: Vec<Outcome> = outcomes
            .iter()
            .map(|(state, count)| Outcome {
                state: *state,
                count: *count,
            })
            .collect();
        let counts = Counts {
            failed,
            awaiting,
            paused,
        };
        day(&outcomes, &counts)
    }

    #[test]
    fn each_sentence_counts_what_it_says() {
        use RunState as S;
        let (status, words) = said(
            &[
                (S::Delivered, 4),
                (S::Completed, 11),
                (S::Quiet, 1),
                (S::AwaitingApproval, 1),
                (S::Collecting, 2),
            ],
            0,
            0,
            1,
        );
        assert_eq!(
            words,
            "4 runs went out in the last 24 hours. 11 runs were made without sending. 1 run had nothing to send. \
             1 run awaits approval. 2 runs are under way."
        );
        assert_eq!(status, "warning", "somebody has something to do");
        assert_eq!(
            said(&[(S::Completed, 3)], 0, 2, 0),
            (
                "ok",
                "Nothing was to be sent in the last 24 hours. 3 runs were made without sending. 2 reports are paused."
                    .to_owned()
            )
        );
        assert_eq!(
            said(&[(S::Delivered, 4), (S::Failed, 1)], 1, 1, 0),
            (
                "critical",
                "1 report did not go out as it should. 4 runs went out in the last 24 hours. 1 report is paused.".to_owned()
            )
        );
        assert_eq!(
            said(&[], 0, 0, 0),
            ("ok", "Nothing was due in the last 24 hours.".to_owned())
        );
        assert_eq!(
            said(&[(S::Delivered, 2)], 0, 0, 0).1,
            "Everything went out: 2 runs in the last 24 hours."
        );
        // What was made days ago and still waits for somebody is not forgotten.
        assert_eq!(
            said(&[], 0, 0, 2),
            (
                "warning",
                "Nothing went out in the last 24 hours. 2 runs await approval.".to_owned()
            )
        );
    }
}
