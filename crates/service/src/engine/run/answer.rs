//! Asks one query of a dashboard and says what came back, for runs and for previews.

use maple_lark_definition::{Dashboard, Origin, Query, Report, Source};
use maple_lark_document::snapshot::{Outcome, QueryRecord};
use maple_lark_sources::{Question, Values};
use maple_lark_time::Window;

use super::context::times;
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

/// Asks one query and says what came back. The caller holds a permit for its source.
pub async fn answer(
    shared: &Shared,
    asking: &Asking<'_>,
    dashboard: &Dashboard,
    query: &Query,
) -> QueryRecord {
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
                    Outcome::Rows(answer.table)
                }
                Ok(Err(error)) => Outcome::Failed(error.to_string()),
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
    QueryRecord {
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
    }
}
