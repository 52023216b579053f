//! Finds out who gets a run: once, before anything is collected, and kept with the run.

use std::collections::BTreeMap;

use maple_lark_api::{StepKind, StepState};
use maple_lark_definition::{BadMailbox, Report, ResolvedAudience};
use maple_lark_sources::{Question, Values};
use serde::{Deserialize, Serialize};

use super::{
    context::{RunContext, values_key},
    step::Step,
};
use crate::{
    access::addresses,
    engine::{
        definitions::Definitions,
        limits::Purpose,
        shared::{Shared, WorkError},
    },
};

/// Who alone gets a run that somebody asked for.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct OnlyTo {
    /// Mail addresses.
    pub to: Vec<String>,
    /// Whose view they get; nothing if the report has one alone.
    pub audience: Option<String>,
    pub note: Option<String>,
}

/// The audiences of a run, as they were found when it began.
pub async fn audiences(
    shared: &Shared,
    context: &RunContext,
) -> Result<Vec<ResolvedAudience>, WorkError> {
    let RunContext {
        run,
        definitions,
        report,
        ..
    } = context;
    if let Some(kept) = &run.audiences {
        return serde_json::from_value(kept.clone()).map_err(|error| {
            WorkError::Run(format!("the run's audiences cannot be read: {error}"))
        });
    }
    let mut found = definitions.set.audiences(report);
    for query in &report.audience_queries {
        found.extend(ask(shared, context, query).await?);
    }
    let found = only_some(context, found)?;
    shared
        .store
        .keep_audiences(context.claim, &kept(&found)?)
        .await?;
    Ok(found)
}

/// The audiences of a run that begins and for which nobody has to be asked, and as they are kept.
pub fn at_once(
    context: &RunContext,
) -> Result<Option<(Vec<ResolvedAudience>, serde_json::Value)>, WorkError> {
    if context.run.audiences.is_some() || !context.report.audience_queries.is_empty() {
        return Ok(None);
    }
    let found = only_some(context, context.definitions.set.audiences(&context.report))?;
    let kept = kept(&found)?;
    Ok(Some((found, kept)))
}

fn kept(found: &[ResolvedAudience]) -> Result<serde_json::Value, WorkError> {
    serde_json::to_value(found).map_err(|error| WorkError::Run(error.to_string()))
}

/// Those who get it this time.
fn only_some(
    context: &RunContext,
    mut found: Vec<ResolvedAudience>,
) -> Result<Vec<ResolvedAudience>, WorkError> {
    let Some(only) = &context.run.only_to else {
        return Ok(found);
    };
    let only: OnlyTo =
        serde_json::from_value(only.clone()).map_err(|error| WorkError::Run(error.to_string()))?;
    if found.is_empty() {
        found.push(everybodys(&context.definitions, &context.report));
    }
    let narrowed = narrowed(&context.definitions, found, &only);
    Ok(vec![
        narrowed.map_err(|error| WorkError::Run(error.to_string()))?,
    ])
}

/// The view of a report that has no audiences.
fn everybodys(definitions: &Definitions, report: &Report) -> ResolvedAudience {
    ResolvedAudience {
        name: "everybody".to_owned(),
        to: Vec::new(),
        cc: Vec::new(),
        bcc: Vec::new(),
        together: false,
        channels: Vec::new(),
        only_when: None,
        values: definitions.set.values(report, None),
    }
}

/// Why one audience's view cannot go to others.
#[derive(Debug, thiserror::Error)]
enum NarrowError {
    #[error("there is no audience \"{name}\"; there is {known}")]
    NoAudience { name: String, known: String },
    #[error("say whose view to send; the audiences are {0}")]
    Whose(String),
    #[error(transparent)]
    Address(#[from] BadMailbox),
}

/// The one audience whose view goes to others this time.
fn narrowed(
    definitions: &Definitions,
    found: Vec<ResolvedAudience>,
    only: &OnlyTo,
) -> Result<ResolvedAudience, NarrowError> {
    let names = || {
        found
            .iter()
            .map(|audience| format!("\"{}\"", audience.name))
            .collect::<Vec<_>>()
            .join(", ")
    };
    let whose = match &only.audience {
        Some(name) => found
            .iter()
            .find(|audience| &audience.name == name)
            .ok_or_else(|| NarrowError::NoAudience {
                name: name.clone(),
                known: names(),
            })?,
        None => match &found[..] {
            [one] => one,
            _ => {
                return Err(NarrowError::Whose(names()));
            }
        },
    };
    let mut to = Vec::new();
    for address in &only.to {
        to.extend(definitions.set.recipient(address.parse()?));
    }
    Ok(ResolvedAudience {
        to,
        cc: Vec::new(),
        bcc: Vec::new(),
        channels: Vec::new(),
        together: false,
        only_when: None,
        ..whose.clone()
    })
}

async fn ask(
    shared: &Shared,
    context: &RunContext,
    query: &maple_lark_definition::AudienceQuery,
) -> Result<Vec<ResolvedAudience>, WorkError> {
    let definitions = &context.definitions;
    let (times, values) = (context.times(None), context.values());
    let subject = format!("audiences from {}", query.source.value);
    let source = definitions.set.sources.get(&query.source.value);
    let source = source
        .ok_or_else(|| WorkError::Run(format!("there is no source \"{}\"", query.source.value)))?;
    let _permit = shared.source_limits.of_source(source, Purpose::Work).await;
    let step = Step::begin(shared, context.claim, StepKind::Audiences, subject);
    let question = Question {
        ask: &query.ask,
        times: &times,
        values: &values,
    };
    let answer = step.carry_out(shared.reader.read(source, question)).await?;
    let found = match answer {
        Ok(answer) => definitions
            .set
            .audiences_from(&context.report, query, &answer.table)
            .map_err(|error| error.to_string()),
        Err(error) => Err(error.to_string()),
    };
    let team = shared.store.team(context.report.team()).await?;
    let found = found.and_then(|found| match &team {
        None => Ok(found),
        Some(team) => {
            let all = found.iter().flat_map(ResolvedAudience::everybody);
            let addresses = all.map(|one| one.mailbox.address.as_str());
            let refused = addresses::refused(team, addresses);
            refused.map_or_else(|error| Err(error.to_string()), |()| Ok(found.clone()))
        }
    });
    let (state, detail) = match &found {
        Ok(found) => (StepState::Done, format!("{} audiences", found.len())),
        Err(reason) => (StepState::Failed, reason.clone()),
    };
    step.end(state, detail, shared.now()).await?;
    found.map_err(|reason| WorkError::Run(format!("nobody knows who is to get it: {reason}")))
}

/// The distinct sets of values that these audiences see, each with its key; the report's own
/// if there is no audience.
pub fn value_sets(
    context: &RunContext,
    audiences: &[ResolvedAudience],
) -> BTreeMap<String, Values> {
    if audiences.is_empty() {
        let values = context.values();
        return BTreeMap::from([(values_key(&values), values)]);
    }
    audiences
        .iter()
        .map(|audience| (values_key(&audience.values), audience.values.clone()))
        .collect()
}
