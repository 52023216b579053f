//! Structured logs on standard error. Lines about a run carry its id, and are handed on to be kept with it.

use std::fmt::{self, Write};

use maple_lark_store::run_lines::RunLine;
use tokio::sync::mpsc;
use tracing::{
    Event, Subscriber,
    field::{Field, Visit},
    span::{Attributes, Id},
};
use tracing_subscriber::{
    EnvFilter, Layer, fmt as written,
    layer::{Context, SubscriberExt},
    registry::LookupSpan,
    util::SubscriberInitExt,
};
use uuid::Uuid;

use crate::Config;

/// So many lines may wait to be kept; what comes beside them is in the log alone.
const MOST_WAITING: usize = 4_096;
/// A line that is longer is cut.
const LONGEST: usize = 2_000;

/// Begins to log; answers with the lines about runs, as they come.
pub fn start(config: &Config) -> mpsc::Receiver<RunLine> {
    let filter = EnvFilter::try_from_env("MAPLE_LARK_LOG")
        .unwrap_or_else(|_| EnvFilter::new("warn,maple_lark_service=info"));
    let (sender, lines) = mpsc::channel(MOST_WAITING);
    let all = tracing_subscriber::registry()
        .with(filter)
        .with(RunLines(sender));
    let layer = written::layer()
        .with_writer(std::io::stderr)
        .with_target(false);
    // A second start in one process (tests) keeps the first subscriber.
    let _ = if config.log_json {
        all.with(layer.json().flatten_event(true)).try_init()
    } else {
        all.with(layer.with_ansi(false)).try_init()
    };
    lines
}

/// Hands on what is said within the span of a run.
struct RunLines(mpsc::Sender<RunLine>);

/// The run that a span is about.
struct Of(Uuid);

impl<S: Subscriber + for<'a> LookupSpan<'a>> Layer<S> for RunLines {
    fn on_new_span(&self, attributes: &Attributes<'_>, id: &Id, context: Context<'_, S>) {
        if attributes.metadata().name() != "run" {
            return;
        }
        let mut read = Read::default();
        attributes.record(&mut read);
        if let (Some(run), Some(span)) = (read.id, context.span(id)) {
            span.extensions_mut().insert(Of(run));
        }
    }

    fn on_event(&self, event: &Event<'_>, context: Context<'_, S>) {
        let run = context.event_scope(event).and_then(|mut scope| {
            scope.find_map(|span| span.extensions().get::<Of>().map(|of| of.0))
        });
        let Some(run_id) = run else {
            return;
        };
        let mut read = Read::default();
        event.record(&mut read);
        let mut text = format!("{}{}", read.message, read.rest);
        if let Some((end, _)) = text.char_indices().nth(LONGEST) {
            text.truncate(end);
            text.push('…');
        }
        // Whoever works on runs waits for no log.
        let _ = self.0.try_send(RunLine {
            run_id,
            at: chrono::Utc::now(),
            level: event.metadata().level().as_str().to_lowercase(),
            text,
        });
    }
}

/// What a span or an event has.
#[derive(Default)]
struct Read {
    id: Option<Uuid>,
    message: String,
    rest: String,
}

impl Visit for Read {
    fn record_str(&mut self, field: &Field, value: &str) {
        self.record_debug(field, &format_args!("{value}"));
    }

    fn record_debug(&mut self, field: &Field, value: &dyn fmt::Debug) {
        // Writing into a text does not fail.
        let _ = match field.name() {
            "message" => write!(self.message, "{value:?}"),
            name => {
                if name == "id" {
                    self.id = format!("{value:?}").parse().ok();
                }
                write!(self.rest, " {name}={value:?}")
            }
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_said_within_the_span_of_a_run_is_handed_on() {
        let (sender, mut lines) = mpsc::channel(2);
        let subscriber = tracing_subscriber::registry().with(RunLines(sender));
        let run = Uuid::now_v7();
        tracing::subscriber::with_default(subscriber, || {
            tracing::info!("of nobody");
            let span = tracing::info_span!("run", id = %run, report = "daily");
            span.in_scope(|| {
                tracing::warn!(source = "gates", rows = 12, "the source is slow");
                let part = tracing::info_span!("part");
                part.in_scope(|| tracing::info!("{}", "long ".repeat(1_000)));
                // More than there is room for is left out, and nobody waits.
                tracing::info!("no room");
            });
        });
        let first = lines.try_recv().unwrap();
        assert_eq!(
            (first.run_id, first.level.as_str(), first.text.as_str()),
            (run, "warn", "the source is slow source=gates rows=12")
        );
        let second = lines.try_recv().unwrap();
        assert_eq!(
            (second.run_id, second.text.chars().count()),
            (run, LONGEST + 1)
        );
        assert!(lines.try_recv().is_err());
    }
}
