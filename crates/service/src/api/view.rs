//! Records as answers of the API. Clients see these and nothing of the tables behind them.

use maple_lark_api::{
    AttemptView, DeliveryState, DeliveryView, DocumentView, KeptRun, LinkView, RunState,
    RunSummary, StepView, WindowView,
};
use maple_lark_store::{
    deliveries::{Attempt, Delivery},
    documents::DocumentHead,
    keeping::Holding,
    recipients::SharedLink,
    runs::Run,
    steps::Step,
};
use maple_lark_time::{DateForm, Window, Zone};

pub fn run_summary(run: Run) -> RunSummary {
    // A zone is checked when a run is made; UTC stands in for one that has since gone.
    let zone = run.time_zone.parse().unwrap_or(Zone::UTC);
    let within = run
        .within
        .and_then(|within| serde_json::from_value(within).ok());
    let window = Window {
        from: run.window_from,
        to: run.window_to,
        zone,
        within,
    };
    RunSummary {
        id: run.id,
        settled: !run.state.is_open(),
        good: run.state.is_good(),
        report: run.report,
        title: run.title,
        scheduled_for: run.scheduled_for,
        cause: *run.cause,
        requested_by: run.requested_by,
        problem: run.problem,
        incomplete: run.incomplete,
        window: WindowView {
            from: window.from,
            to: window.to,
            time_zone: run.time_zone,
            label: window.label(),
            in_words: window.exact_in_words(DateForm::default()),
            exact: window.exact(),
        },
        created_at: run.created_at,
        started_at: run.started_at,
        finished_at: run.finished_at,
        skipped: run.skipped,
        approval_deadline: run
            .approval_deadline
            .filter(|_| run.state == RunState::AwaitingApproval),
        released_by: run.released_by,
        state: *run.state,
        status: run.status,
    }
}

pub fn step_view(step: Step) -> StepView {
    StepView {
        kind: *step.kind,
        subject: step.subject,
        state: *step.state,
        detail: step.detail,
        started_at: step.started_at,
        ended_at: step.ended_at,
    }
}

pub fn link_view(link: SharedLink) -> LinkView {
    let SharedLink {
        recipient,
        expires_at,
        revoked_at,
        opened,
        last_opened_at,
        ..
    } = link;
    LinkView {
        recipient,
        expires_at,
        revoked_at,
        opened,
        last_opened_at,
    }
}

pub fn document_view(head: DocumentHead) -> DocumentView {
    DocumentView {
        id: head.id,
        snapshot_id: head.snapshot_id,
        format: *head.format,
        file_name: head.file_name,
        variant: head.variant,
        media_type: head.media_type,
        size: head.size,
        sha256: head.sha256,
        removed_at: head.removed_at,
    }
}

pub fn document_view_of(document: maple_lark_store::documents::Document) -> DocumentView {
    DocumentView {
        id: document.id,
        snapshot_id: document.snapshot_id,
        format: *document.format,
        file_name: document.file_name,
        variant: document.variant,
        media_type: document.media_type,
        size: document.size,
        sha256: document.sha256,
        removed_at: document.removed_at,
    }
}

pub fn delivery_view(delivery: Delivery, attempts: &[Attempt]) -> DeliveryView {
    DeliveryView {
        attempts: attempts
            .iter()
            .filter(|attempt| attempt.delivery_id == delivery.id)
            .map(|attempt| AttemptView {
                started_at: attempt.started_at,
                ended_at: attempt.ended_at,
                outcome: attempt.outcome.map(|outcome| *outcome),
                answer: attempt.answer.clone(),
            })
            .collect(),
        next_attempt_at: (delivery.state == DeliveryState::Waiting)
            .then_some(delivery.next_attempt_at),
        id: delivery.id,
        audience: delivery.audience,
        channel: *delivery.channel,
        via: delivery.via,
        role: *delivery.role,
        variant: delivery.variant,
        copy: delivery.copy,
        note: delivery.note,
        requested_by: delivery.requested_by,
        recipient: delivery.recipient,
        state: *delivery.state,
        problem: delivery.problem,
        message_id: delivery.message_id,
        settled_at: delivery.settled_at,
    }
}

/// Who keeps a run for good, if somebody does.
pub fn kept_view(holding: Holding) -> Option<KeptRun> {
    Some(KeptRun {
        run: holding.run_id,
        report: holding.report,
        at: holding.kept_at?,
        by: holding.kept_by?,
        because: holding.kept_because?,
    })
}
