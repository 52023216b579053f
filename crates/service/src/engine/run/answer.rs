//! Asks one query of a dashboard and says what came back, for runs and for previews.

use maple_lark_definition::{Dashboard, Origin, Query, Report, Source};
use maple_lark_document::{
    capture::{Blobs, Capture},
    compose::answers::earlier_times,
    snapshot::{EarlierRows, Outcome, QueryRecord, Time},
};
use maple_lark_sources::{Question, SourceError, Values};
use maple_lark_time::{Window, window::Comparison};

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
        let earlier = self.record.earlier.values().map(|rows| match rows {
            EarlierRows::Rows { table, .. } => table.size(),
            EarlierRows::Nothing(_) => 0,
        });
        rows + earlier.sum::<usize>() + self.blobs.values().map(|bytes| bytes.len()).sum::<usize>()
    }
}

/// What came of asking.
struct Came {
    outcome: Outcome,
    note: Option<String>,
    kept: Option<(Capture, Blobs)>,
    steps: String,
    instead: Option<Vec<u8>>,
}

impl Came {
    fn plain(outcome: Outcome) -> Self {
        Self {
            outcome,
            note: None,
            kept: None,
            steps: String::new(),
            instead: None,
        }
    }
}

async fn came(shared: &Shared, asking: &Asking<'_>, dashboard: &Dashboard, query: &Query) -> Came {
    let times = times(asking.report, asking.window, Some((dashboard, query)));
    let source = source_of(asking.definitions, query);
    match (&query.origin, source) {
        (Origin::Source { ask, .. }, Some(source)) => {
            let question = Question {
                ask,
                times: &times,
                values: asking.values,
            };
            // An answer that breaks its reader fails its query, and nothing else.
            match guarded(shared.reader.read(source, question)).await {
                Ok(Ok(answer)) => {
                    let mut came = Came::plain(Outcome::Rows(answer.table));
                    came.note = answer.note;
                    if let Some(captured) = answer.capture {
                        came.steps = captured::in_words(&captured.steps);
                        let packing = shared.computing(asking.purpose);
                        came.kept = match packing.run(move || captured.packed()).await {
                            Ok(captured) => captured::kept(query, &answer.sent, captured),
                            Err(error) => return Came::plain(Outcome::Failed(error.to_string())),
                        };
                    }
                    came
                }
                Ok(Err(error)) => {
                    let mut came = Came::plain(Outcome::Failed(error.to_string()));
                    if let SourceError::Page { failed, .. } = error {
                        came.steps = captured::in_words(&failed.steps);
                        came.instead = failed.picture;
                    }
                    came
                }
                Err(error) => Came::plain(Outcome::Failed(format!("reading the answer: {error}"))),
            }
        }
        (Origin::Sampler(name), _) => Came::plain(
            sample::history(
                shared,
                asking.purpose,
                &name.value,
                &times.window,
                &query.then,
            )
            .await,
        ),
        _ => Came::plain(Outcome::Failed(format!(
            "there is no source \"{}\"",
            query.source().map_or("", |name| &name.value)
        ))),
    }
}

/// What a query answers for the window before, where something compares with it: the window that
/// the report is compared with, or else the one before its own.
async fn of_window(
    shared: &Shared,
    asking: &Asking<'_>,
    dashboard: &Dashboard,
    query: &Query,
) -> Option<EarlierRows> {
    if !earlier_times(dashboard, &query.name).contains(&Time::Window) {
        return None;
    }
    let mut rule = asking.report.window.clone();
    rule.compare.get_or_insert(Comparison::Before);
    let Some(window) = rule.comparison(asking.window) else {
        return Some(EarlierRows::Nothing(
            "There is nothing to compare with: the window has none before it.".to_owned(),
        ));
    };
    let then = Asking {
        window: &window,
        ..*asking
    };
    Some(match came(shared, &then, dashboard, query).await.outcome {
        Outcome::Rows(table) => EarlierRows::Rows { window, table },
        Outcome::Failed(reason) => EarlierRows::Nothing(format!(
            "There is nothing to compare with: {}: {reason}",
            window.label()
        )),
    })
}

/// Asks one query and says what came back. The caller holds a permit for its source.
pub async fn answer(
    shared: &Shared,
    asking: &Asking<'_>,
    dashboard: &Dashboard,
    query: &Query,
) -> Answered {
    let definitions = asking.definitions;
    let started = shared.now();
    let source = source_of(definitions, query);
    let named = query.source().map(|name| name.value.clone());
    let Came {
        outcome,
        note,
        kept,
        steps,
        instead,
    } = came(shared, asking, dashboard, query).await;
    let earlier = of_window(shared, asking, dashboard, query).await;
    let earlier = earlier
        .map(|rows| (Time::Window, rows))
        .into_iter()
        .collect();
    let (capture, blobs) =
        kept.map_or_else(Default::default, |(capture, blobs)| (Some(capture), blobs));
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
        earlier,
    };
    Answered {
        record,
        blobs,
        steps,
        instead,
    }
}
