//! Asks one query, with those that it needs, and keeps nothing.

use std::collections::BTreeMap;

use maple_lark_data::{PackedTable, figures::Since};
use maple_lark_definition::{
    Dashboard, DefinitionSet, Origin, ParameterValue, Query, Sampler, Source, Times,
};
use maple_lark_document::{
    compose::{
        CannotShow,
        answers::{Evaluation, earlier_times, named_run, nothing_yet},
    },
    snapshot::{EarlierRows, Outcome, Time},
};
use maple_lark_sources::{Answer, Question, SourceError};
use maple_lark_time::{Window, nearest::suggestion};

use super::{
    guard::NotComputed,
    limits::Purpose,
    run::{LookBack, values_key},
    sample,
    shared::{Shared, WorkError},
};

/// What a query is asked among.
pub(crate) struct Among<'a> {
    pub(crate) set: &'a DefinitionSet,
    /// The dashboard that it is one of; none for a query that stands alone.
    pub(crate) dashboard: Option<&'a Dashboard>,
    pub(crate) times: &'a Times,
    pub(crate) values: &'a BTreeMap<String, ParameterValue>,
}

/// Rows of earlier times by the query that they answer.
type Before = BTreeMap<(String, Time), EarlierRows>;

/// Why a query has no answer.
#[derive(Debug, thiserror::Error)]
pub(crate) enum AskError {
    #[error("there is no source \"{name}\".{suggestion}")]
    NoSource { name: String, suggestion: String },
    #[error("there is no sampler \"{0}\"")]
    NoSampler(String),
    #[error("{0}")]
    History(String),
    #[error(transparent)]
    Source(#[from] SourceError),
    #[error(transparent)]
    Evaluation(#[from] CannotShow),
    #[error(transparent)]
    NotComputed(#[from] NotComputed),
    #[error(transparent)]
    Runs(#[from] WorkError),
}

impl Among<'_> {
    fn source(&self, name: &str) -> Result<&Source, AskError> {
        let known = &self.set.sources;
        known.get(name).ok_or_else(|| AskError::NoSource {
            name: name.to_owned(),
            suggestion: suggestion(name, known.keys().map(String::as_str)),
        })
    }

    fn sampler(&self, name: &str) -> Result<&Sampler, AskError> {
        let known = &self.set.samplers;
        known
            .get(name)
            .ok_or_else(|| AskError::NoSampler(name.to_owned()))
    }

    fn queries(&self) -> &[Query] {
        self.dashboard.map_or(&[], |dashboard| &dashboard.queries)
    }

    /// The query and all that it takes rows from, each once.
    fn needed<'q>(&'q self, query: &'q Query) -> Result<Vec<&'q Query>, AskError> {
        let mut needed = vec![query];
        let mut place = 0;
        while let Some(query) = needed.get(place).copied() {
            for name in query.needs() {
                let other = self.queries().iter().find(|other| other.name == name);
                let other = other.ok_or_else(|| CannotShow::NoQuery(name.to_owned()))?;
                if !needed.iter().any(|known| known.name == other.name) {
                    needed.push(other);
                }
            }
            place += 1;
        }
        Ok(needed)
    }
}

/// The answer of a query, and the question as its source got it.
///
/// # Errors
/// If it, or a query that it needs, cannot be asked or evaluated.
pub(super) async fn ask(
    shared: &Shared,
    among: &Among<'_>,
    query: &Query,
) -> Result<Answer, AskError> {
    let mut asked: BTreeMap<&str, Answer> = BTreeMap::new();
    for needed in among.needed(query)? {
        if let Some(answer) = outside(shared, among, needed).await? {
            asked.insert(&needed.name, answer);
        }
    }
    let mut before = window_before(shared, among, query).await?;
    before.extend(runs_before(shared, among, query).await?);
    let (table, notes) = evaluated(shared, among, query, &asked, before).await?;
    // What was sent and noted is said of the query whose rows these are.
    let mut first = query;
    while let Origin::Query(name) = &first.origin {
        let next = among
            .queries()
            .iter()
            .find(|query| query.name == name.value);
        first = next.ok_or_else(|| CannotShow::NoQuery(name.value.clone()))?;
    }
    let origin = asked.remove(first.name.as_str());
    Ok(Answer {
        table,
        sent: origin
            .as_ref()
            .map_or_else(String::new, |answer| answer.sent.clone()),
        note: joined(origin.and_then(|answer| answer.note), notes),
        capture: None,
    })
}

/// The rows of the window before, of the same length, where the query or one that it needs
/// compares with it. What cannot be asked then is not there, with the reason.
async fn window_before(
    shared: &Shared,
    among: &Among<'_>,
    query: &Query,
) -> Result<Before, AskError> {
    let needed = among.needed(query)?;
    let compares = |query: &&Query| {
        let mut operations = query.then.iter();
        operations.any(|one| one.compares_with() == Some(&Since::PreviousWindow))
    };
    let mut rows = Before::new();
    if !needed.iter().any(compares) {
        return Ok(rows);
    }
    let window = &among.times.window;
    let earlier = Window {
        from: window.from - (window.to - window.from),
        to: window.from,
        ..window.clone()
    };
    let times = Times {
        window: earlier.clone(),
        comparison: None,
        step: among.times.step,
    };
    let then = Among {
        times: &times,
        ..*among
    };
    for needed in needed {
        let came = match outside(shared, &then, needed).await {
            Ok(None) => continue,
            Ok(Some(answer)) => EarlierRows::Rows {
                window: earlier.clone(),
                table: answer.table,
            },
            Err(error) => EarlierRows::Nothing(format!(
                "There is nothing to compare with: {}: {error}",
                earlier.label()
            )),
        };
        rows.insert((needed.name.clone(), Time::Window), came);
    }
    Ok(rows)
}

/// The rows of the run before, or of the one that is named, where the query or one that it needs
/// compares with it: of the reports that have this dashboard, the first with an answer for these
/// values.
async fn runs_before(
    shared: &Shared,
    among: &Among<'_>,
    query: &Query,
) -> Result<Before, AskError> {
    let mut rows = Before::new();
    let Some(dashboard) = among.dashboard else {
        return Ok(rows);
    };
    let reports = among.set.reports.values().filter(|report| {
        let mut shown = report.dashboards.iter();
        shown.any(|shown| shown.value == dashboard.name)
    });
    let looked: Vec<LookBack<'_>> = reports
        .map(|report| {
            let mut values = among.set.values(report, None);
            values.extend(among.values.clone());
            LookBack {
                purpose: Purpose::Looking,
                report: &report.name,
                team: report.team(),
                values_key: values_key(&values),
                at: (shared.now(), shared.now()),
            }
        })
        .collect();
    for needed in among.needed(query)? {
        let name = (dashboard.name.clone(), needed.record().to_owned());
        let times = earlier_times(dashboard, needed.record());
        for looked in &looked {
            if times.contains(&Time::Run) {
                let (found, _) = looked.rows(shared, &mut vec![name.clone()]).await?;
                let key = (needed.name.clone(), Time::Run);
                found.into_values().for_each(|found| {
                    rows.entry(key.clone()).or_insert(found);
                });
            }
            if let Some(run) = named_run(dashboard, needed.record())
                && let Some(found) = looked.rows_of(shared, run, name.clone()).await?
            {
                rows.insert((needed.name.clone(), Time::Named), found);
            }
        }
    }
    Ok(rows)
}

/// What the source noted, and what there is to say of what was done to its rows.
fn joined(note: Option<String>, notes: Vec<String>) -> Option<String> {
    let all: Vec<String> = note.into_iter().chain(notes).collect();
    (!all.is_empty()).then(|| all.join(" "))
}

/// The rows with everything done to them that the query's author lists, and what there is to say
/// of how they came about.
async fn evaluated(
    shared: &Shared,
    among: &Among<'_>,
    query: &Query,
    asked: &BTreeMap<&str, Answer>,
    before: Before,
) -> Result<(PackedTable, Vec<String>), AskError> {
    // Rows are shared by their copies, so these cost little.
    let rows: BTreeMap<String, PackedTable> = asked
        .iter()
        .map(|(name, answer)| ((*name).to_owned(), answer.table.clone()))
        .collect();
    let (queries, query) = (among.queries().to_vec(), query.clone());
    let (window, step) = (among.times.window.clone(), among.times.step);
    let work = move || {
        Evaluation {
            queries: &queries,
            window: &window,
            step: &|_| step,
            rows: &|query| {
                let rows = rows.get(&query.name);
                let rows = rows.ok_or_else(|| CannotShow::NoAnswer(query.name.clone()))?;
                Ok(rows.clone())
            },
            earlier: &|query, time| {
                let before = before.get(&(query.name.clone(), time));
                Ok(before.cloned().unwrap_or_else(nothing_yet))
            },
        }
        .answer(&query)
    };
    let answer = shared.compute_for_looking(work).await??;
    Ok((answer.table, answer.notes))
}

/// The rows that a query has from a source or from the history of a sampler; nothing if it
/// takes them from another query.
async fn outside(
    shared: &Shared,
    among: &Among<'_>,
    query: &Query,
) -> Result<Option<Answer>, AskError> {
    match &query.origin {
        Origin::Query(_) => Ok(None),
        Origin::Sampler(name) => {
            let sampler = among.sampler(&name.value)?;
            let window = &among.times.window;
            match sample::history(shared, Purpose::Looking, &sampler.name, window, &query.then)
                .await
            {
                Outcome::Rows(table) => Ok(Some(Answer {
                    table,
                    sent: query.written(),
                    note: None,
                    capture: None,
                })),
                Outcome::Failed(reason) => Err(AskError::History(reason)),
            }
        }
        Origin::Source { name, ask } => {
            let source = among.source(&name.value)?;
            let _permit = shared
                .source_limits
                .of_source(source, Purpose::Looking)
                .await;
            let question = Question {
                ask,
                times: among.times,
                values: among.values,
            };
            Ok(Some(shared.reader.read(source, question).await?))
        }
    }
}
