//! Whether a snapshot is worth a mail, or its run stays quiet.

use maple_lark_data::status::Status;
use maple_lark_definition::{Condition, Dashboard, Query, Report, SendWhen};
use maple_lark_time::english;

use crate::{compose::answers::answer, document::Document, snapshot::Snapshot};

/// Why nothing is sent of this snapshot; nothing if it is worth sending.
///
/// A query that failed is worth sending, and so is data that may be incomplete: silence
/// must mean that all is well, never that nobody looked. `last` is the status of the run
/// before for the same values, which `when = "change"` compares with; a first run is a change
/// unless all is well.
#[expect(clippy::too_many_lines, reason = "one arm a condition, with its words")]
#[must_use]
pub fn reason(
    report: &Report,
    snapshot: &Snapshot,
    document: &Document,
    last: Option<Status>,
) -> Option<String> {
    if report.send_when == SendWhen::Always
        || !document.failed.is_empty()
        || snapshot.incomplete.is_some()
    {
        return None;
    }
    match &report.send_when {
        SendWhen::Always => None,
        SendWhen::Rows(names) => {
            let wanted = |query: &&Query| names.iter().any(|wanted| wanted.value == query.name);
            let empty = |dashboard: &Dashboard, query: &Query| {
                answer(snapshot, dashboard, query).is_ok_and(|answer| answer.table.is_empty())
            };
            // What cannot be read is not quiet.
            let dashboards = snapshot
                .definitions()
                .map(|frozen| frozen.dashboards)
                .ok()?;
            let quiet = dashboards.iter().all(|dashboard| {
                dashboard
                    .queries
                    .iter()
                    .filter(wanted)
                    .all(|query| empty(dashboard, query))
            });
            quiet.then(|| {
                let names: Vec<String> = names
                    .iter()
                    .map(|name| format!("\"{}\"", name.value))
                    .collect();
                format!("no rows in {}", english::list(&names))
            })
        }
        SendWhen::Figures { conditions, all } => {
            let figure = |name: &str| document.figures().find(|figure| figure.name == name);
            // What cannot be said is worth a look.
            let holds = |condition: &Condition| match figure(&condition.figure) {
                Some(figure) => condition
                    .holds(figure.amount, figure.before)
                    .unwrap_or(true),
                None => true,
            };
            let mut held = conditions.iter().map(|condition| holds(&condition.value));
            let worth = if *all {
                held.all(|held| held)
            } else {
                held.any(|held| held)
            };
            (!worth).then(|| {
                let words: Vec<String> = conditions
                    .iter()
                    .map(|condition| format!("\"{}\"", condition.value))
                    .collect();
                format!(
                    "{} of {} is true",
                    if *all && conditions.len() > 1 {
                        "not all"
                    } else {
                        "none"
                    },
                    english::list(&words)
                )
            })
        }
        SendWhen::Change => {
            let (now, last) = (document.summary.status, last.unwrap_or(Status::Ok));
            (now == last).then(|| {
                format!(
                    "the status is {} as in the run before",
                    now.word().to_lowercase()
                )
            })
        }
        SendWhen::Status(least) => {
            let worst = document.summary.status;
            let word = |status: Status| status.word().to_lowercase();
            (worst < *least).then(|| {
                format!(
                    "nothing is {}",
                    if *least == Status::Critical {
                        word(Status::Critical)
                    } else {
                        "warning or critical".to_owned()
                    }
                )
            })
        }
    }
}
