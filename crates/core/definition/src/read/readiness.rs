//! Reads what a run waits for from their tables.

use maple_lark_time::span::Span;

use crate::{
    model::readiness::{AtDeadline, Readiness, ReadyWhen},
    read::{ask, node::Node},
};

pub(crate) fn read_readiness(node: Node<'_>, has_schedule: bool) -> Option<Readiness> {
    let source = node.required("source");
    let ask = ask::read_ask(&node);
    let ready_when = read_ready_when(&node);
    let seconds = |key, least: i64, most: i64, usual: u64| match node
        .parsed::<Span>(key)
        .map(|span| span.elapsed())
    {
        None => usual,
        Some(Some(length)) if (least..=most).contains(&length.num_seconds()) => {
            length.num_seconds() as u64
        }
        Some(_) => {
            node.report(
                key,
                format!(
                    "must be between \"{}\" and \"{}\"",
                    in_seconds(least),
                    in_seconds(most)
                ),
            );
            usual
        }
    };
    let every_seconds = seconds("every", 1, 86_400, 60);
    let deadline_seconds = seconds("deadline", 1, 7 * 86_400, 3600);
    let at_deadline = match node.choice("at-deadline", &["hold", "run", "skip"]) {
        Some("run") => AtDeadline::Run,
        Some("skip") => AtDeadline::Skip,
        _ => AtDeadline::Hold,
    };
    if !has_schedule {
        node.report_self("only scheduled runs wait, and this report has no [schedule]");
    }
    let place = node.place();
    node.close();
    Some(Readiness {
        source,
        ask: ask?,
        ready_when,
        every_seconds,
        deadline_seconds,
        at_deadline,
        place,
    })
}

fn read_ready_when(node: &Node<'_>) -> ReadyWhen {
    let column = node.text("column").map(|text| text.value);
    match (node.choice("ready-when", &["true", "rows"]), column) {
        (Some("rows"), None) => ReadyWhen::HasRows,
        (Some("rows"), Some(_)) => {
            node.report(
                "column",
                "column goes with ready-when = \"true\" only: it names the column that must be true in every row",
            );
            ReadyWhen::HasRows
        }
        (_, Some(column)) => ReadyWhen::AllTrue(column),
        (_, None) => ReadyWhen::FirstIsTrue,
    }
}

fn in_seconds(seconds: i64) -> Span {
    Span {
        months: 0,
        days: 0,
        seconds: seconds as u64,
    }
}
