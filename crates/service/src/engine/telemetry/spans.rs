//! A run as a trace: when it was due, what it waited for, each query, what was composed, each document, each
//! attempt. Whom it was for is left out.

use chrono::{DateTime, Utc};
use maple_lark_api::Cause;
use maple_lark_store::{runs::Run, steps::Step, telemetry::TracedAttempt};
use opentelemetry_proto::tonic::trace::v1::{Span, Status, span::SpanKind, status::StatusCode};
use sha2::{Digest, Sha256};
use uuid::Uuid;

use super::text;

/// The spans of a run that is over, the run itself first. Its trace has the run's number, so that
/// whoever knows one finds the other; the same run has the same spans each time.
pub fn of_run(run: &Run, steps: &[Step], attempts: &[TracedAttempt]) -> Vec<Span> {
    let ended = run.finished_at.unwrap_or(run.created_at);
    let due = match *run.cause {
        Cause::Schedule => run.scheduled_for.min(run.created_at),
        Cause::Request => run.created_at,
    };
    let root = Root {
        run: run.id,
        span: id(run.id, "run"),
    };
    let mut whole = root.span("run", "run", due, Some(ended));
    whole.parent_span_id = Vec::new();
    whole.name = format!("run {}", run.report);
    whole.attributes = vec![
        text("maple_lark.run", &run.id.to_string()),
        text("maple_lark.report", &run.report),
        text("maple_lark.cause", &run.cause.to_string()),
        text("maple_lark.state", &run.state.to_string()),
        text("maple_lark.window.from", &run.window_from.to_rfc3339()),
        text("maple_lark.window.to", &run.window_to.to_rfc3339()),
    ];
    if !run.team.is_empty() {
        whole.attributes.push(text("maple_lark.team", &run.team));
    }
    whole.status = Some(status(run.state.is_good(), run.problem.as_deref()));
    let mut spans = vec![whole];
    if let Some(started) = run.started_at {
        spans.push(root.span("due", "due", due, Some(started)));
    }
    for step in steps {
        let name = format!("{} {}", step.kind, step.subject);
        let mut span = root.span(&name, &name, step.started_at, step.ended_at);
        let failed = step.state.to_string() == "failed";
        span.status = Some(status(!failed, step.detail.as_deref()));
        spans.push(span);
    }
    for attempt in attempts {
        let own = format!("attempt {}", attempt.id);
        let mut span = root.span(&own, "attempt", attempt.started_at, attempt.ended_at);
        span.kind = SpanKind::Client.into();
        span.attributes = vec![
            text("maple_lark.delivery", &attempt.delivery_id.to_string()),
            text("maple_lark.channel.kind", &attempt.channel),
        ];
        if !attempt.via.is_empty() {
            span.attributes
                .push(text("maple_lark.channel", &attempt.via));
        }
        if let Some(outcome) = &attempt.outcome {
            span.attributes.push(text("maple_lark.outcome", outcome));
            span.status = Some(status(outcome == "accepted", Some(outcome)));
        }
        spans.push(span);
    }
    spans
}

/// What all spans of a run have in common.
struct Root {
    run: Uuid,
    span: Vec<u8>,
}

impl Root {
    fn span(&self, own: &str, name: &str, from: DateTime<Utc>, to: Option<DateTime<Utc>>) -> Span {
        let nanos = |at: DateTime<Utc>| {
            at.timestamp_nanos_opt()
                .and_then(|nanos| u64::try_from(nanos).ok())
                .unwrap_or_default()
        };
        Span {
            trace_id: self.run.as_bytes().to_vec(),
            span_id: id(self.run, own),
            parent_span_id: self.span.clone(),
            name: name.to_owned(),
            kind: SpanKind::Internal.into(),
            start_time_unix_nano: nanos(from),
            // Clocks of two machines may be apart; nothing ends before it begins.
            end_time_unix_nano: nanos(to.unwrap_or(from).max(from)),
            ..Span::default()
        }
    }
}

/// Eight bytes that are the same each time.
fn id(run: Uuid, own: &str) -> Vec<u8> {
    let digest = Sha256::new()
        .chain_update(run.as_bytes())
        .chain_update(own)
        .finalize();
    digest[..8].to_vec()
}

fn status(good: bool, words: Option<&str>) -> Status {
    if good {
        Status {
            code: StatusCode::Ok.into(),
            ..Status::default()
        }
    } else {
        Status {
            code: StatusCode::Error.into(),
            message: words.unwrap_or_default().to_owned(),
        }
    }
}
