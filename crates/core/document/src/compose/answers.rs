//! The answer that a block shows: its query's, after the steps that follow.

use maple_lark_data::{
    PackedTable,
    figures::{Context as FigureContext, Figures, NoRows, Role, apply_all},
};
use maple_lark_definition::{Dashboard, Origin, Query};
use maple_lark_time::{Window, window::Step};

use crate::{
    compose::{CannotShow, column::thresholds},
    snapshot::{Outcome, Snapshot},
};

/// What a query answers, as far as its author wants it.
pub struct Answer {
    /// The rows, with all operations done.
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

impl From<Answer> for Figures {
    fn from(answer: Answer) -> Self {
        Self {
            table: answer.table.into(),
            roles: answer.roles,
        }
    }
}

/// What queries are evaluated among.
pub struct Evaluation<'a> {
    /// The queries that one may take rows from.
    pub queries: &'a [Query],
    /// The window that all of them are asked for.
    pub window: &'a Window,
    /// The step of a query that names none.
    pub step: &'a dyn Fn(&Query) -> Step,
    /// What a source, or a sampler's history, answered to a query that asks one.
    pub rows: &'a dyn Fn(&Query) -> Result<PackedTable, CannotShow>,
}

/// A query that takes rows from a query that takes rows …: so deep, and no deeper.
const MOST_DEPTH: usize = 20;

impl Evaluation<'_> {
    /// A query's rows with everything done to them that its author lists.
    ///
    /// # Errors
    /// If the query failed, a query that it needs did, or what is to be done cannot be.
    pub fn answer(&self, query: &Query) -> Result<Answer, CannotShow> {
        self.answer_at(query, 0)
    }

    fn answer_at(&self, query: &Query, depth: usize) -> Result<Answer, CannotShow> {
        if depth > MOST_DEPTH {
            return Err(CannotShow::Endless);
        }
        let other = |name: &str| {
            let query = named(self.queries, name)?;
            self.answer_at(query, depth + 1)
        };
        let answer = match &query.origin {
            Origin::Query(name) => other(&name.value)?,
            _ => Answer {
                table: (self.rows)(query)?,
                roles: Vec::new(),
            },
        };
        // Rows to which nothing is done stay packed, however many they are.
        if query.then.is_empty() {
            return Ok(answer);
        }
        let around = FigureContext {
            window: self.window,
            step: (self.step)(query),
            thresholds: &|column| thresholds(query, column),
            other: &|name| {
                let rows = other(name).map(Figures::from);
                rows.map_err(|error| NoRows(error.to_string()))
            },
        };
        let figures = apply_all(answer.table.into(), &query.then, &around)?;
        Ok(figures.into())
    }
}

fn named<'q>(queries: &'q [Query], name: &str) -> Result<&'q Query, CannotShow> {
    queries
        .iter()
        .find(|query| query.name == name)
        .ok_or_else(|| CannotShow::NoQuery(name.to_owned()))
}

/// A dashboard's query by its name.
pub(crate) fn query<'d>(dashboard: &'d Dashboard, name: &str) -> Result<&'d Query, CannotShow> {
    named(&dashboard.queries, name)
}

/// What a query of a dashboard answered in a snapshot, with everything done to its rows.
pub(crate) fn answer(
    snapshot: &Snapshot,
    dashboard: &Dashboard,
    query: &Query,
) -> Result<Answer, CannotShow> {
    Evaluation {
        queries: &dashboard.queries,
        window: &snapshot.window,
        step: &|query| dashboard.step(query, &snapshot.window),
        rows: &|query| {
            let record = snapshot
                .query(&dashboard.name, query.record())
                .ok_or_else(|| CannotShow::NoAnswer(query.record().to_owned()))?;
            match &record.outcome {
                Outcome::Failed(reason) => Err(CannotShow::QueryFailed(reason.clone())),
                Outcome::Rows(table) => Ok(table.clone()),
            }
        },
    }
    .answer(query)
}

/// The title of the source whose rows a query's answer begins with.
pub(crate) fn source_title<'a>(
    snapshot: &'a Snapshot,
    dashboard: &'a Dashboard,
    query: &'a Query,
) -> &'a str {
    match &query.origin {
        Origin::Query(name) => self::query(dashboard, &name.value).map_or("The source", |query| {
            source_title(snapshot, dashboard, query)
        }),
        _ => snapshot
            .query(&dashboard.name, query.record())
            .map_or("The source", |record| &record.source_title),
    }
}
