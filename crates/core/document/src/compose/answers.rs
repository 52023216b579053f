//! The answer that a block shows: its query's, after the steps that follow.

use maple_lark_data::{
    PackedTable,
    figures::{Context as FigureContext, Figures, Role, apply_all},
};
use maple_lark_definition::{Dashboard, Origin, Query};

use crate::{
    compose::column::thresholds,
    snapshot::{Outcome, Snapshot},
};

/// What a query answers, as far as its author wants it.
pub(crate) struct Answer {
    pub table: PackedTable,
    /// What each row is, if any sums up others.
    pub(crate) roles: Vec<Role>,
}

impl Answer {
    pub(crate) fn role(&self, place: usize) -> Role {
        self.roles.get(place).copied().unwrap_or(Role::Plain)
    }
}

impl From<Figures> for Answer {
    fn from(figures: Figures) -> Self {
        Self {
            table: figures.table.into(),
            roles: figures.roles,
        }
    }
}

/// A query's rows with everything done to them that its author lists.
///
/// # Errors
/// If the query failed, a query that it needs did, or what is to be done cannot be.
pub(crate) fn answer(
    snapshot: &Snapshot,
    dashboard: &Dashboard,
    query: &Query,
) -> Result<Answer, String> {
    let other = |name: &str| {
        let query = dashboard
            .queries
            .iter()
            .find(|query| query.name == name)
            .ok_or_else(|| format!("there is no query \"{name}\""))?;
        answer(snapshot, dashboard, query).map(Figures::from)
    };
    let answer = match &query.origin {
        Origin::Query(name) => {
            let query = dashboard
                .queries
                .iter()
                .find(|query| query.name == name.value)
                .ok_or_else(|| format!("there is no query \"{}\"", name.value))?;
            answer(snapshot, dashboard, query)?
        }
        _ => {
            let record = snapshot
                .query(&dashboard.name, query.record())
                .ok_or_else(|| format!("the snapshot has no answer to \"{}\"", query.record()))?;
            match &record.outcome {
                Outcome::Failed(reason) => return Err(reason.clone()),
                Outcome::Rows(table) => Answer {
                    table: table.clone(),
                    roles: Vec::new(),
                },
            }
        }
    };
    // Rows to which nothing is done stay packed, however many they are.
    if query.then.is_empty() {
        return Ok(answer);
    }
    let around = FigureContext {
        window: &snapshot.window,
        step: dashboard.step(query, &snapshot.window),
        thresholds: &|column| thresholds(query, column),
        other: &other,
    };
    apply_all(answer.table.into(), &query.then, &around)
        .map(Answer::from)
        .map_err(|error| error.to_string())
}

/// The title of the source whose rows a query's answer begins with.
pub(crate) fn source_title<'a>(
    snapshot: &'a Snapshot,
    dashboard: &'a Dashboard,
    query: &'a Query,
) -> &'a str {
    match &query.origin {
        Origin::Query(name) => match dashboard
            .queries
            .iter()
            .find(|query| query.name == name.value)
        {
            Some(query) => source_title(snapshot, dashboard, query),
            None => "The source",
        },
        _ => snapshot
            .query(&dashboard.name, query.record())
            .map_or("The source", |record| &record.source_title),
    }
}
