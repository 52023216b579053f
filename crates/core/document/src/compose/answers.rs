//! The answer that a block shows: its query's, after the steps that follow.

use maple_lark_data::{
    PackedTable,
    figures::{
        Context as FigureContext, Earlier, Figures, NoRows, Operation, Role, Since, apply_all,
    },
};
use maple_lark_definition::{BlockKind, Dashboard, Origin, Query};
use maple_lark_time::{Window, window::Step};

use crate::{
    compose::{CannotShow, column::thresholds},
    snapshot::{EarlierRows, Outcome, QueryRecord, Snapshot, Time},
};

/// What a query answers, as far as its author wants it.
pub struct Answer {
    /// The rows, with all operations done.
    pub table: PackedTable,
    /// What each row is, if any sums up others.
    pub(crate) roles: Vec<Role>,
    /// What a reader should know of how they came about.
    pub notes: Vec<String>,
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
            notes: figures.notes,
        }
    }
}

impl From<Answer> for Figures {
    fn from(answer: Answer) -> Self {
        Self {
            table: answer.table.into(),
            roles: answer.roles,
            notes: answer.notes,
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
    /// What it answered, or had answered, to the same for an earlier time.
    pub earlier: &'a dyn Fn(&Query, Time) -> Result<EarlierRows, CannotShow>,
}

/// A query that takes rows from a query that takes rows …: so deep, and no deeper.
const MOST_DEPTH: usize = 20;

impl Evaluation<'_> {
    /// A query's rows with everything done to them that its author lists.
    ///
    /// # Errors
    /// If the query failed, a query that it needs did, or what is to be done cannot be.
    pub fn answer(&self, query: &Query) -> Result<Answer, CannotShow> {
        self.answer_at(query, 0, &query.then)
    }

    /// The answer after only these of its operations.
    fn answer_at(
        &self,
        query: &Query,
        depth: usize,
        then: &[Operation],
    ) -> Result<Answer, CannotShow> {
        if depth > MOST_DEPTH {
            return Err(CannotShow::Endless);
        }
        let other = |name: &str| {
            let query = named(self.queries, name)?;
            self.answer_at(query, depth + 1, &query.then)
        };
        let answer = match &query.origin {
            Origin::Query(name) => other(&name.value)?,
            _ => Answer {
                table: (self.rows)(query)?,
                roles: Vec::new(),
                notes: Vec::new(),
            },
        };
        // Rows to which nothing is done stay packed, however many they are.
        if then.is_empty() {
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
            earlier: &|since| {
                let earlier = match since {
                    Since::Query(name) => other(name)
                        .map(|answer| Earlier::Rows(answer.table.into(), format!("“{name}”"))),
                    Since::PreviousRun => self.earlier_rows(query, Time::Run, depth),
                    Since::PreviousWindow => self.earlier_rows(query, Time::Window, depth),
                    Since::Run(_) => self.earlier_rows(query, Time::Named, depth),
                };
                earlier.map_err(|error| NoRows(error.to_string()))
            },
        };
        let notes = answer.notes;
        let mut figures = apply_all(answer.table.into(), then, &around)?;
        figures.notes.splice(0..0, notes);
        Ok(figures.into())
    }

    /// The query that asks for the rows which this one's answer begins with.
    fn first<'q>(&'q self, query: &'q Query) -> Result<&'q Query, CannotShow> {
        let mut first = query;
        for _ in 0..=MOST_DEPTH {
            match &first.origin {
                Origin::Query(name) => first = named(self.queries, &name.value)?,
                _ => return Ok(first),
            }
        }
        Err(CannotShow::Endless)
    }

    /// The query's rows of an earlier time, with all that stands before its comparison done to
    /// them in the window of then.
    fn earlier_rows(&self, query: &Query, time: Time, depth: usize) -> Result<Earlier, CannotShow> {
        let window = match (self.earlier)(self.first(query)?, time)? {
            EarlierRows::Nothing(reason) => return Ok(Earlier::Nothing(reason)),
            EarlierRows::Rows { window, .. } => window,
        };
        let then = Evaluation {
            queries: self.queries,
            window: &window,
            step: self.step,
            rows: &|query| match (self.earlier)(query, time)? {
                EarlierRows::Rows { table, .. } => Ok(table),
                EarlierRows::Nothing(reason) => Err(CannotShow::QueryFailed(reason)),
            },
            earlier: &|query, _| Err(CannotShow::NoAnswer(query.record().to_owned())),
        };
        let before = query
            .then
            .iter()
            .take_while(|operation| operation.compares_with().is_none())
            .count();
        let answer = then.answer_at(query, depth, &query.then[..before])?;
        let words = match time {
            Time::Run => format!("the run before, of {}", window.label()),
            Time::Named => format!("the run of {}", window.label()),
            Time::Window => window.label(),
        };
        Ok(Earlier::Rows(answer.table.into(), words))
    }
}

/// What earlier rows of a recorded query are needed for, because something compares with them.
fn compared<'d>(dashboard: &'d Dashboard, record: &str) -> impl Iterator<Item = &'d Since> {
    let rests = move |query: &str| dashboard.rests_on(query, record);
    let queries = dashboard
        .queries
        .iter()
        .filter(move |query| rests(&query.name));
    let steps = queries
        .flat_map(|query| &query.then)
        .filter_map(Operation::compares_with);
    let blocks = dashboard
        .sections
        .iter()
        .flat_map(|section| &section.blocks);
    let figures = blocks.filter_map(move |block| match &block.kind {
        BlockKind::Figures { since, .. } => {
            let query = block.query.as_ref()?;
            since.as_ref().filter(|_| rests(&query.value))
        }
        _ => None,
    });
    steps.chain(figures)
}

/// Which earlier times the rows of a recorded query are needed of.
#[must_use]
pub fn earlier_times(dashboard: &Dashboard, record: &str) -> Vec<Time> {
    let mut times: Vec<Time> = compared(dashboard, record)
        .filter_map(|since| match since {
            Since::PreviousRun => Some(Time::Run),
            Since::PreviousWindow => Some(Time::Window),
            Since::Run(_) => Some(Time::Named),
            Since::Query(_) => None,
        })
        .collect();
    times.sort_unstable();
    times.dedup();
    times
}

/// The run that the rows of a recorded query are compared with by its identifier, if any.
#[must_use]
pub fn named_run<'d>(dashboard: &'d Dashboard, record: &str) -> Option<&'d str> {
    compared(dashboard, record).find_map(|since| match since {
        Since::Run(run) => Some(run.as_str()),
        _ => None,
    })
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
    with_evaluation(snapshot, dashboard, |evaluation| evaluation.answer(query))
}

/// Evaluates queries of a dashboard by what a snapshot holds.
fn with_evaluation<T>(
    snapshot: &Snapshot,
    dashboard: &Dashboard,
    work: impl FnOnce(&Evaluation<'_>) -> Result<T, CannotShow>,
) -> Result<T, CannotShow> {
    let record = |query: &Query| -> Result<&QueryRecord, CannotShow> {
        snapshot
            .query(&dashboard.name, query.record())
            .ok_or_else(|| CannotShow::NoAnswer(query.record().to_owned()))
    };
    let evaluation = Evaluation {
        queries: &dashboard.queries,
        window: &snapshot.window,
        step: &|query| dashboard.step(query, &snapshot.window),
        rows: &|query| match &record(query)?.outcome {
            Outcome::Failed(reason) => Err(CannotShow::QueryFailed(reason.clone())),
            Outcome::Rows(table) => Ok(table.clone()),
        },
        earlier: &|query, time| {
            let rows = record(query)?.earlier.get(&time).cloned();
            Ok(rows.unwrap_or_else(nothing_yet))
        },
    };
    work(&evaluation)
}

/// What a query of a dashboard had answered at an earlier time, as [`answer`] has it now. `None`
/// where there is nothing to compare with.
pub(crate) fn earlier_answer(
    snapshot: &Snapshot,
    dashboard: &Dashboard,
    query: &Query,
    since: &Since,
) -> Result<Option<PackedTable>, CannotShow> {
    let time = match since {
        Since::PreviousWindow => Time::Window,
        Since::Run(_) => Time::Named,
        Since::PreviousRun | Since::Query(_) => Time::Run,
    };
    let earlier = with_evaluation(snapshot, dashboard, |evaluation| {
        evaluation.earlier_rows(query, time, 0)
    })?;
    Ok(match earlier {
        Earlier::Rows(table, _) => Some(table.into()),
        Earlier::Nothing(_) => None,
    })
}

/// What is said where no earlier rows were asked for.
#[must_use]
pub fn nothing_yet() -> EarlierRows {
    EarlierRows::Nothing("There is nothing to compare with yet.".to_owned())
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
