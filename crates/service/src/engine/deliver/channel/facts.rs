//! What is said of a delivery to programs, in JSON.

use maple_lark_store::deliveries::Delivery;
use serde_json::{Map, Value, json};

use crate::engine::{deliver::opened::Opened, shared::Shared};

/// The report, the run and what its document says on its front.
pub fn of(shared: &Shared, delivery: &Delivery, opened: &Opened) -> Value {
    let Opened { run, document, .. } = opened;
    let figures: Map<String, Value> = document
        .figures()
        .map(|figure| (figure.name.clone(), json!({ "title": figure.title, "value": figure.value, "amount": figure.amount, "status": figure.status })))
        .collect();
    json!({
        "report": run.report,
        "title": document.title,
        "run": run.id,
        "audience": delivery.audience,
        "scheduled_for": run.scheduled_for,
        "window": { "from": run.window_from, "to": run.window_to, "time_zone": run.time_zone, "label": document.front.window_label },
        "status": document.summary.status.word().to_lowercase(),
        "summary": document.summary.headline,
        "lines": document.summary.lines.iter().map(|line| &line.text).collect::<Vec<_>>(),
        "figures": figures,
        "url": format!("{}/runs/{}", shared.config.public_url, run.id),
    })
}
