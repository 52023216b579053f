//! Asks one query of a dashboard and says what came back, for runs and for previews.

use maple_lark_definition::{Dashboard, Origin, Query, Report, Source};
use maple_lark_document::{
    capture::Blobs,
    snapshot::{Outcome, QueryRecord},
};
use maple_lark_sources::{Question, SourceError, Values};
use maple_lark_time::Window;

use super::{captured, context::times};
use crate::engine::{
    definitions::Definitions, guard::guarded, limits::Purpose, sample, shared::Shared,
};

/// What queries are asked with.
pub struct Asking<'a> {
    pub definitions: &'a Definitions,
    pub report: &'a Report,
    pub window: &'a Window,
    pub values: &'a Values,
    pub purpose: Purpose,
}

/// The source that a query asks; nothing if it reads a history or another query's rows.
pub fn source_of<'a>(definitions: &'a Definitions, query: &Query) -> Option<&'a Source> {
    definitions.set.sources.get(&query.source()?.value)
}

/// The sampler whose history a query reads; empty if it reads none.
fn sampler_of(query: &Query) -> &str {
    match &query.origin {
        Origin::Sampler(name) => &name.value,
        _ => "",
    }
}

/// What came back of a query, with what belongs to it and is kept elsewhere.
pub struct Answered {
    pub record: QueryRecord,
    /// The pictures and printed pages that the record names.
    pub blobs: Blobs,
    /// What was done on a live page, each with its time, in words; empty where none was asked.
    pub steps: String,
    /// What was there instead of the page that was asked for (PNG).
    pub instead: Option<Vec<u8>>,
}

impl Answered {
    /// How much memory it takes, in bytes.
    pub fn size(&self) -> usize {
        let rows = match &self.record.outcome {
            Outcome::Rows(table) => table.size(),
            Outcome::Failed(_) => 0,
        };
        rows + self.blobs.values().map(String::len).sum::<usize>()
    }
}

/// Asks one query and says what came back. The caller holds a permit for its source.
#[expect(clippy::too_many_lines, reason = "each way in which a query ends")]
pub async fn answer(
    shared: &Shared,
    asking: &Asking<'_>,
    dashboard: &Dashboard,
    query: &Query,
) -> Answered {
    let Asking {
        definitions,
        report,
        window,
        values,
        purpose,
    } = asking;
    let started = shared.now();
    let times = times(report, window, Some((dashboard, query)));
    let source = source_of(definitions, query);
    let (mut note, named) = (None, query.source().map(|name| name.value.clone()));
    let (mut capture, mut blobs) = (None, Blobs::new());
    let (mut steps, mut instead) = (String::new(), None);
    let outcome = match (&query.origin, source) {
        (Origin::Source { ask, .. }, Some(source)) => {
            let question = Question {
                ask,
                times: &times,
                values,
            };
            // An answer that breaks its reader fails its query, and nothing else.
            match guarded(shared.reader.read(source, question)).await {
                Ok(Ok(answer)) => {
                    note = answer.note;
                    if let Some(captured) = answer.capture {
                        steps = captured::in_words(&captured.steps);
                        if let Some(kept) = captured::kept(query, &answer.sent, *captured) {
                            (capture, blobs) = (Some(kept.0), kept.1);
                        }
                    }
                    Outcome::Rows(answer.table)
                }
                Ok(Err(error)) => {
                    let words = error.to_string();
                    if let SourceError::Page { failed, .. } = error {
                        steps = captured::in_words(&failed.steps);
                        instead = failed.picture;
                    }
                    Outcome::Failed(words)
                }
                Err(error) => Outcome::Failed(format!("reading the answer: {error}")),
            }
        }
        (Origin::Sampler(name), _) => {
            sample::history(shared, *purpose, &name.value, &times.window, &query.then).await
        }
        _ => Outcome::Failed(format!(
            "there is no source \"{}\"",
            named.as_deref().unwrap_or_default()
        )),
    };
    let record = QueryRecord {
        dashboard: dashboard.name.clone(),
        name: query.name.clone(),
        source: named
            .clone()
            .unwrap_or_else(|| sampler_of(query).to_owned()),
        source_title: match source {
            Some(source) => source.title.clone(),
            None => definitions.set.samplers.get(sampler_of(query)).map_or_else(
                || named.unwrap_or_default(),
                |sampler| sampler.title.clone(),
            ),
        },
        text: query.written(),
        started,
        ended: shared.now(),
        note,
        outcome,
        capture,
    };
    Answered {
        record,
        blobs,
        steps,
        instead,
    }
}
