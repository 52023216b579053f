//! Changes of definitions: checked against those that are stored, and all of a change written, or none of it.

mod files;
mod prepared;

use chrono::{DateTime, Utc};
use maple_lark_api::{Applied, ChangeAction, Files, SavedFrom};
use maple_lark_definition::{Definition, DefinitionSet, Kind, edit, in_name_space};
use maple_lark_store::{
    Store, StoreError,
    definitions::{Change as StoredChange, Rule, Saved, StoredDefinition},
    teams::Sight,
};

use self::{files::is_based_on, prepared::Prepared};
pub use self::{files::is_free, prepared::checked};
use super::{
    problem::Problem,
    seen::{self, Shares},
    teams,
    writer::Writer,
};
use crate::{
    access::{Subject, may_change},
    engine::{Definitions, EngineHandle},
};

/// So many changes of one order are named in the audit trail; the versions have all of them.
const MOST_NOTED: usize = 30;
type MakeFiles<'a> = dyn Fn(&[StoredDefinition]) -> Result<Files, Problem> + Send + Sync + 'a;

/// What is to be changed: files, made of the definitions that are stored at the moment.
pub struct Order<'a> {
    files: Box<MakeFiles<'a>>,
    from: SavedFrom,
    /// Reports that begin paused, so that nobody gets two mails unasked.
    pub paused: Vec<String>,
    /// Whether the texts stay as they are given: files of a folder are what they are. What else is made
    /// by somebody who is in one team belongs to it, unless it says otherwise.
    pub verbatim: bool,
}

impl<'a> Order<'a> {
    pub fn new(
        from: SavedFrom,
        files: impl Fn(&[StoredDefinition]) -> Result<Files, Problem> + Send + Sync + 'a,
    ) -> Self {
        Self {
            files: Box::new(files),
            from,
            paused: Vec::new(),
            verbatim: false,
        }
    }
}

/// As often an order is checked anew because others changed the definitions meanwhile.
const MOST_TRIES: usize = 50;

/// Checks an order against the definitions and makes it so, all of it or nothing. What was
/// checked is what it is written over: where others were faster it is checked anew.
pub async fn carry_out(
    store: &Store,
    engine: &EngineHandle,
    by: &Writer,
    order: &Order<'_>,
) -> Result<Applied, Problem> {
    for _ in 0..MOST_TRIES {
        let version = store.definitions_version().await?;
        let shares = seen::shares(&by.sight, store.definitions().await?);
        let mut files = (order.files)(&shares.whole)?;
        if !order.verbatim {
            given_to_team(&mut files, &shares.whole, &by.sight);
        }
        match change_once(store, engine, by, order, (files, version, shares)).await {
            Err(Refused::Meanwhile) => {}
            Err(Refused::Problem(problem)) => return Err(problem),
            Ok(applied) => return Ok(applied),
        }
    }
    Err(Problem::new(
        409,
        "Changed meanwhile",
        "others keep changing the definitions; nothing of this was done, try it again",
    ))
}

/// The name of something new: in the name space of the team that it belongs to, or will be given to.
pub fn new_name(sight: &Sight, kind: Kind, belongs_to: &[String], name: &str) -> String {
    let own = sight.teams().filter(|_| !is_shared(kind));
    let teams = match (belongs_to, own) {
        ([], Some(own)) => own,
        (teams, _) => teams,
    };
    match teams {
        [team] => in_name_space(team, name),
        _ => name.to_owned(),
    }
}

/// Whether a kind is not given to a team by itself: an administrator says who shares it.
fn is_shared(kind: Kind) -> bool {
    matches!(kind, Kind::Source | Kind::Channel | Kind::Calendar)
}

/// Gives new definitions that name no team to the one that whoever makes them is in.
fn given_to_team(files: &mut Files, stored: &[StoredDefinition], sight: &Sight) {
    let Some(teams) = sight.teams() else { return };
    let [team] = &teams[..] else { return };
    for file in &mut files.files {
        let Ok(definition) = Definition::parse(&file.file, &file.text) else {
            continue;
        };
        let kind = definition.kind();
        let is_new = is_free(stored, kind, definition.name()).is_ok();
        if !is_new || is_shared(kind) || !definition.teams().is_empty() {
            continue;
        }
        if let Ok(text) = edit::given_to(&file.text, kind, team) {
            file.text = text;
        }
    }
}

/// Why a change was not made.
enum Refused {
    /// The definitions are not those any more that it was checked against.
    Meanwhile,
    Problem(Problem),
}

impl From<StoreError> for Refused {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::DefinitionsChanged => Self::Meanwhile,
            error => Self::Problem(error.into()),
        }
    }
}

/// The schedule of each report, and when it is due first.
fn rules(set: &DefinitionSet, now: DateTime<Utc>) -> Vec<Rule> {
    let scheduled = set.reports.values().filter_map(|report| {
        let plan = set.plan(report)?;
        let rule = format!("{} in {}", plan.schedule.sentence(), report.zone);
        // What a calendar says may have changed under the same name.
        let named = plan
            .schedule
            .calendars
            .iter()
            .filter_map(|name| set.calendars.get(name));
        let rule = named.fold(rule, |rule, calendar| {
            format!("{rule}; {}", calendar.sha256)
        });
        Some(Rule {
            report: report.name.clone(),
            rule,
            first: plan.next_after(now),
            most_runs: plan.schedule.most_runs,
        })
    });
    scheduled.collect()
}

/// Refuses a change that is not all theirs.
fn may_all(
    by: &Writer,
    engine: &EngineHandle,
    before: &DefinitionSet,
    prepared: &Prepared,
) -> Result<(), Problem> {
    for change in &prepared.changes {
        let teams = |set: &DefinitionSet| {
            let teams = set.teams_of(change.kind, &change.name)?.iter();
            Some(teams.map(|team| team.value.clone()).collect::<Vec<_>>())
        };
        let subject = Subject {
            kind: change.kind,
            name: &change.name,
            before: teams(before),
            after: teams(&prepared.set).filter(|_| change.action != ChangeAction::Remove),
        };
        may_change(&by.user, &by.sight, engine.config(), &subject)
            .map_err(|refusal| refusal.problem())?;
    }
    Ok(())
}

async fn change_once(
    store: &Store,
    engine: &EngineHandle,
    by: &Writer,
    order: &Order<'_>,
    (files, version, shares): (Files, i64, Shares),
) -> Result<Applied, Refused> {
    let (now, user) = (engine.now(), &by.user);
    let (message, name) = (files.message.clone(), user.name.clone());
    let (before, sight) = (Definitions::stored(&shares.whole), by.sight.clone());
    let work = move || {
        is_based_on(&files, &shares.whole)?;
        checked(&files, shares, (&name, &sight), now)
    };
    let prepared = engine.compute(work).await.map_err(Problem::from);
    let prepared = prepared.and_then(|done| done).map_err(Refused::Problem)?;
    may_all(by, engine, &before.set, &prepared).map_err(Refused::Problem)?;
    teams::check(store, &by.sight, &prepared.changes, &prepared.set)
        .await
        .map_err(Refused::Problem)?;
    let change = StoredChange {
        based_on: version,
        paused: order.paused.clone(),
        schedules: rules(&prepared.set, now),
        put: prepared.put,
        remove: prepared.remove,
        saved: Saved {
            at: now,
            by: user.name.clone(),
            from: order.from,
            message,
        },
    };
    store.change_definitions(change).await?;
    for change in prepared.changes.iter().take(MOST_NOTED) {
        let (action, kind) = (change.action, change.kind.name());
        by.trail.note(format!("{action} {kind} {}", change.name));
    }
    engine.wake();
    // A report may keep its runs for less long now.
    if prepared.changes.iter().any(|one| one.kind == Kind::Report) {
        engine.look_at_what_is_kept();
    }
    tracing::info!(
        user = user.name,
        changes = prepared.changes.len(),
        "definitions were applied"
    );
    Ok(Applied {
        changes: prepared.changes,
        unchanged: prepared.unchanged,
    })
}
