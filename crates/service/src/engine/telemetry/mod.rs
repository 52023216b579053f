//! Sends traces of runs and the service's own measures to a collector (OTLP 1, protobuf by HTTP). What cannot
//! be sent is tried again; nothing else waits for it.

mod measures;
mod spans;

use std::{sync::Arc, time::Duration};

use maple_lark_store::{DbErr, StoreError, teams::Sight};
use opentelemetry_proto::tonic::{
    collector::{metrics::v1::ExportMetricsServiceRequest, trace::v1::ExportTraceServiceRequest},
    common::v1::{AnyValue, InstrumentationScope, KeyValue, any_value::Value},
    metrics::v1::{ResourceMetrics, ScopeMetrics},
    resource::v1::Resource,
    trace::v1::{ResourceSpans, ScopeSpans, Span},
};
use prost::Message;
use reqwest::{Client, StatusCode};
use tokio::{sync::watch, time::Instant};

use super::shared::Shared;
use crate::{config::Telemetry, measures::families};

/// How often it is looked whether runs are over.
const EVERY: Duration = Duration::from_secs(5);
/// After the collector did not answer, it is tried again after so long.
const AFTER_A_FAULT: Duration = Duration::from_secs(10);
/// So many runs are told of at a time.
const PIECE: u64 = 50;
/// So many spans go into one request.
const MOST_SPANS: usize = 1_000;
/// How long one request may take.
const PATIENCE: Duration = Duration::from_secs(20);

/// Why something was not sent.
#[derive(Debug, thiserror::Error)]
enum NotSent {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Database(#[from] DbErr),
    #[error("{0}")]
    Unreachable(String),
    #[error("the collector answered {0}")]
    Refused(StatusCode),
}

/// Sends what there is until the engine stops.
pub async fn send_telemetry(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    let Some(settings) = shared.config.telemetry.clone() else {
        return;
    };
    let client = Client::builder()
        .timeout(PATIENCE)
        .default_headers(settings.headers.clone())
        .redirect(reqwest::redirect::Policy::none())
        .build();
    let collector = match client {
        Ok(client) => Collector { client, settings },
        Err(error) => {
            tracing::error!(%error, "telemetry cannot be sent");
            return;
        }
    };
    let (mut told, mut begun) = (None, false);
    let mut measured = Instant::now();
    while !*stopped.borrow() {
        let sent = async {
            if !begun {
                // From now on each run is told, also while the collector cannot be reached.
                if let Some(none) = shared.store.runs_to_trace(0).await? {
                    none.sent().await?;
                }
                begun = true;
            }
            if measured <= Instant::now() {
                collector.measures(&shared).await?;
                measured = Instant::now() + collector.settings.every;
            }
            collector.traces(&shared).await
        };
        let rest = match sent.await {
            Ok(true) => continue,
            Ok(false) => {
                told = None;
                EVERY
            }
            Err(error) => {
                let words = error.to_string();
                // The same words again say nothing new.
                if told.as_ref() != Some(&words) {
                    tracing::warn!("telemetry is not sent: {words}");
                    told = Some(words);
                }
                AFTER_A_FAULT
            }
        };
        tokio::select! {
            () = tokio::time::sleep(rest) => {}
            _ = stopped.changed() => {}
        }
    }
}

struct Collector {
    client: Client,
    settings: Telemetry,
}

impl Collector {
    /// Sends the traces of some runs that are over; answers with whether there may be more. A run
    /// counts as sent once the collector has taken it, so one can come twice, but none is left out.
    async fn traces(&self, shared: &Shared) -> Result<bool, NotSent> {
        let Some(pending) = shared.store.runs_to_trace(PIECE).await? else {
            // Another process is at it.
            return Ok(false);
        };
        let many = pending.runs().len() as u64 == PIECE;
        let mut spans = Vec::new();
        for run in pending.runs() {
            let (steps, attempts) = (
                shared.store.steps(run.id).await?,
                shared.store.traced_attempts(run.id).await?,
            );
            spans.extend(spans::of_run(run, &steps, &attempts));
            if spans.len() >= MOST_SPANS {
                self.spans(shared, &mut spans).await?;
            }
        }
        self.spans(shared, &mut spans).await?;
        pending.sent().await?;
        Ok(many)
    }

    async fn spans(&self, shared: &Shared, spans: &mut Vec<Span>) -> Result<(), NotSent> {
        while !spans.is_empty() {
            let rest = spans.split_off(spans.len().min(MOST_SPANS));
            let part = std::mem::replace(spans, rest);
            let request = ExportTraceServiceRequest {
                resource_spans: vec![ResourceSpans {
                    resource: Some(resource(shared)),
                    scope_spans: vec![ScopeSpans {
                        scope: Some(scope()),
                        spans: part,
                        ..ScopeSpans::default()
                    }],
                    ..ResourceSpans::default()
                }],
            };
            self.post("/v1/traces", request.encode_to_vec()).await?;
        }
        Ok(())
    }

    async fn measures(&self, shared: &Shared) -> Result<(), NotSent> {
        let definitions = shared.definitions.seen(&shared.store, &Sight::All).await?;
        let now = shared.now();
        let families = families(&shared.store, &definitions.set, &Sight::All, true, now).await?;
        let request = ExportMetricsServiceRequest {
            resource_metrics: vec![ResourceMetrics {
                resource: Some(resource(shared)),
                scope_metrics: vec![ScopeMetrics {
                    scope: Some(scope()),
                    metrics: measures::of(&families, now),
                    ..ScopeMetrics::default()
                }],
                ..ResourceMetrics::default()
            }],
        };
        self.post("/v1/metrics", request.encode_to_vec()).await
    }

    async fn post(&self, path: &str, body: Vec<u8>) -> Result<(), NotSent> {
        let url = format!(
            "{}{path}",
            self.settings.endpoint.as_str().trim_end_matches('/')
        );
        let request = self.client.post(url);
        let answer = request
            .header("Content-Type", "application/x-protobuf")
            .body(body)
            .send()
            .await
            .map_err(|error| NotSent::Unreachable(innermost(&error)))?;
        if answer.status().is_success() {
            Ok(())
        } else {
            Err(NotSent::Refused(answer.status()))
        }
    }
}

/// What the error says without the address, which may have a key in it.
fn innermost(error: &dyn std::error::Error) -> String {
    let mut innermost = error;
    while let Some(source) = innermost.source() {
        innermost = source;
    }
    format!("the collector cannot be reached: {innermost}")
}

/// Who tells: this process, by the names of OpenTelemetry's semantic conventions.
fn resource(shared: &Shared) -> Resource {
    Resource {
        attributes: vec![
            text("service.name", "maple-lark"),
            text("service.version", env!("CARGO_PKG_VERSION")),
            text("service.instance.id", &shared.process.to_string()),
        ],
        ..Resource::default()
    }
}

fn scope() -> InstrumentationScope {
    InstrumentationScope {
        name: "maple-lark".to_owned(),
        version: env!("CARGO_PKG_VERSION").to_owned(),
        ..InstrumentationScope::default()
    }
}

fn text(key: &str, value: &str) -> KeyValue {
    KeyValue {
        key: key.to_owned(),
        value: Some(AnyValue {
            value: Some(Value::StringValue(value.to_owned())),
        }),
        ..KeyValue::default()
    }
}
