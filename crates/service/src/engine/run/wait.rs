//! Lets a scheduled run wait until its data is ready.

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_api::{Cause, RunState, StepKind, StepState};
use maple_lark_data::{PackedTable, Value};
use maple_lark_definition::{AtDeadline, Readiness, ReadyWhen};
use maple_lark_sources::{Question, SourceError};
use maple_lark_store::steps::EndedStep;

use super::context::RunContext;
use crate::engine::{
    limits::Purpose,
    shared::{Shared, WorkError},
};

/// Whether a run may collect its data.
pub enum Ready {
    Yes,
    /// It goes on although its data is not ready, for the reason given.
    Never(String),
    /// It waits, or was settled; there is nothing to do for it now.
    Later,
}

/// Asks whether the data of a run is ready, and writes down what follows from the answer.
///
/// Only scheduled runs wait, and only before they have begun to collect. A question that
/// fails counts as not ready: the source may be what is late.
#[expect(
    clippy::too_many_lines,
    reason = "asks once and writes down what follows from the answer"
)]
pub async fn wait(shared: &Shared, context: &RunContext) -> Result<Ready, WorkError> {
    let RunContext { run, report, .. } = context;
    let Some(readiness) = report.readiness.as_ref().filter(|_| {
        run.cause == Cause::Schedule && matches!(*run.state, RunState::Due | RunState::Waiting)
    }) else {
        return Ok(Ready::Yes);
    };
    let (store, claim) = (&shared.store, context.claim);
    let subject = format!("until {} is ready", readiness.source.value);
    if run.checks == 0 {
        store
            .begin_step(claim, StepKind::Wait, &subject, shared.now())
            .await?;
    }
    let answer = ask(shared, context, readiness).await?;
    let now = shared.now();
    let Err(reason) = answer else {
        let detail = format!("ready when asked for the {} time", ordinal(run.checks + 1));
        store
            .end_step(claim, &ended(&subject, StepState::Done, detail, now))
            .await?;
        return Ok(Ready::Yes);
    };
    let zone = report.zone;
    let deadline = run.scheduled_for + TimeDelta::seconds(readiness.deadline_seconds as i64);
    let clock = |at: DateTime<Utc>| zone.local(at).format("%H:%M:%S").to_string();
    if now < deadline {
        let again = (now + TimeDelta::seconds(readiness.every_seconds as i64)).min(deadline);
        let detail = format!(
            "not ready when last asked at {}: {reason}. Asked {} so far; waits until {} at most",
            clock(now),
            times(run.checks + 1),
            zone.readable(deadline)
        );
        store
            .note_step(claim, StepKind::Wait, &subject, detail)
            .await?;
        store.wait(claim, again).await?;
        tracing::info!(%reason, %again, "waits for its data");
        return Ok(Ready::Later);
    }
    let problem = format!(
        "the data was not ready by {}, asked {}: {reason}",
        zone.readable(deadline),
        times(run.checks + 1)
    );
    tracing::warn!(problem, "the wait is over");
    let failed = ended(&subject, StepState::Failed, problem.clone(), now);
    store.end_step(claim, &failed).await?;
    match readiness.at_deadline {
        AtDeadline::Run => {
            store.set_incomplete(claim, &problem).await?;
            Ok(Ready::Never(problem))
        }
        AtDeadline::Hold => {
            store
                .set_run_state(claim, RunState::Held, Some(&problem), now)
                .await?;
            Ok(Ready::Later)
        }
        AtDeadline::Skip => {
            store
                .set_run_state(claim, RunState::Skipped, Some(&problem), now)
                .await?;
            Ok(Ready::Later)
        }
    }
}

/// How the wait has ended. That it began was written down when it did.
fn ended(subject: &str, state: StepState, detail: String, at: DateTime<Utc>) -> EndedStep<'_> {
    EndedStep {
        kind: StepKind::Wait,
        subject,
        state,
        detail: Some(detail),
        started_at: None,
        ended_at: at,
    }
}

/// Why the data that a run waits for is not ready.
#[derive(Debug, thiserror::Error)]
enum NotReady {
    #[error("the query said no")]
    No,
    #[error("the query gave no answer")]
    NoAnswer,
    #[error(
        "its first column is neither true nor false; name one that is as \"column\", or say ready-when = \"rows\""
    )]
    NotTruth,
    #[error("its column \"{0}\" is neither true nor false")]
    ColumnIsNoTruth(String),
    #[error("\"{column}\" is not true in {count} of {all} rows")]
    NotAll {
        column: String,
        count: usize,
        all: usize,
    },
    #[error("the query has no column \"{0}\"")]
    NoColumn(String),
    #[error(transparent)]
    Source(#[from] SourceError),
}

/// Asks once; an error is the reason why the data is not ready.
async fn ask(
    shared: &Shared,
    context: &RunContext,
    readiness: &Readiness,
) -> Result<Result<(), NotReady>, WorkError> {
    let (times, values) = (context.times(None), context.values());
    let source = context.definitions.set.sources.get(&readiness.source.value);
    let source = source.ok_or_else(|| {
        WorkError::Run(format!("there is no source \"{}\"", readiness.source.value))
    })?;
    let _permit = shared.source_limits.of_source(source, Purpose::Work).await;
    Ok(
        match shared
            .reader
            .read(
                source,
                Question {
                    ask: &readiness.ask,
                    times: &times,
                    values: &values,
                },
            )
            .await
        {
            Ok(answer) => answered_yes(&answer.table, &readiness.ready_when),
            Err(error) => Err(error.into()),
        },
    )
}

fn answered_yes(table: &PackedTable, ready_when: &ReadyWhen) -> Result<(), NotReady> {
    match ready_when {
        ReadyWhen::HasRows if !table.is_empty() => Ok(()),
        ReadyWhen::HasRows => Err(NotReady::NoAnswer),
        ReadyWhen::AllTrue(column) => all_true(table, column),
        ReadyWhen::FirstIsTrue => match table.rows().next().as_ref().and_then(|row| row.first()) {
            Some(Value::Boolean(true)) => Ok(()),
            Some(Value::Boolean(false)) => Err(NotReady::No),
            Some(Value::Missing) | None => Err(NotReady::NoAnswer),
            Some(_) => Err(NotReady::NotTruth),
        },
    }
}

/// Whether a column is true in every row of at least one. A value that is missing is not true.
fn all_true(table: &PackedTable, column: &str) -> Result<(), NotReady> {
    let place = table
        .column(column)
        .ok_or_else(|| NotReady::NoColumn(column.to_owned()))?;
    let (mut all, mut count) = (0, 0);
    for row in table.rows() {
        all += 1;
        match &row[place] {
            Value::Boolean(true) => {}
            Value::Boolean(false) | Value::Missing => count += 1,
            _ => return Err(NotReady::ColumnIsNoTruth(column.to_owned())),
        }
    }
    match (all, count) {
        (0, _) => Err(NotReady::NoAnswer),
        (_, 0) => Ok(()),
        _ => Err(NotReady::NotAll {
            column: column.to_owned(),
            count,
            all,
        }),
    }
}

fn times(count: i32) -> String {
    if count == 1 {
        "once".to_owned()
    } else {
        format!("{count} times")
    }
}

fn ordinal(count: i32) -> String {
    match count {
        1 => "first".to_owned(),
        2 => "second".to_owned(),
        3 => "third".to_owned(),
        more => format!("{more}th"),
    }
}

#[cfg(test)]
mod tests {
    use maple_lark_data::{Column, ColumnKind};

    use super::*;

    /// One line for each row: a name, and whether it answers.
    fn answer(rows: &[(&str, Value)]) -> PackedTable {
        let column = |name: &str, kind| Column {
            name: name.to_owned(),
            kind,
        };
        let mut table = PackedTable::new(vec![
            column("target", ColumnKind::Text),
            column("up", ColumnKind::Boolean),
        ]);
        for (target, up) in rows {
            table.push(&[Value::Text((*target).to_owned()), up.clone()]);
        }
        table
    }

    fn said(rows: &[(&str, Value)], ready_when: &ReadyWhen) -> String {
        match answered_yes(&answer(rows), ready_when) {
            Ok(()) => "yes".to_owned(),
            Err(error) => error.to_string(),
        }
    }

    #[test]
    fn a_column_must_be_true_in_every_row() {
        let up = ReadyWhen::AllTrue("up".to_owned());
        let (yes, no) = (Value::Boolean(true), Value::Boolean(false));
        assert_eq!(said(&[("a", yes.clone()), ("b", yes.clone())], &up), "yes");
        assert_eq!(
            said(&[("a", yes.clone()), ("b", no), ("c", Value::Missing)], &up),
            "\"up\" is not true in 2 of 3 rows"
        );
        assert_eq!(said(&[], &up), "the query gave no answer");
        assert_eq!(
            said(
                &[("a", yes.clone())],
                &ReadyWhen::AllTrue("down".to_owned())
            ),
            "the query has no column \"down\""
        );
        assert_eq!(
            said(&[("a", yes)], &ReadyWhen::AllTrue("target".to_owned())),
            "its column \"target\" is neither true nor false"
        );
    }

    #[test]
    fn a_row_is_enough_where_rows_are_what_is_waited_for() {
        let rows = ReadyWhen::HasRows;
        assert_eq!(said(&[("a", Value::Missing)], &rows), "yes");
        assert_eq!(said(&[], &rows), "the query gave no answer");
    }

    #[test]
    fn without_either_the_first_value_decides_and_says_how_to_ask_otherwise() {
        let words = said(&[("a", Value::Boolean(true))], &ReadyWhen::FirstIsTrue);
        assert!(words.contains("ready-when = \"rows\""), "{words}");
    }
}
