//! What a dashboard or a sampler asks: where, how, and what is done to the answer.

pub mod ask;
pub mod builder;
pub mod mib;
pub mod placeholder;
pub mod text;
pub mod times;

use maple_lark_data::{Unit, figures::Operation, status::Thresholds};
use maple_lark_time::window::Step;

use crate::{
    model::query::ask::Ask,
    problem::{Place, Placed},
};

/// A question, what its columns are, and what is worked out of its rows.
#[derive(Debug, Clone, PartialEq)]
pub struct Query {
    /// Its name, unique within its dashboard.
    pub name: String,
    /// Where its rows come from.
    pub origin: Origin,
    /// The query whose recorded rows it uses, if it is not recorded under its own name.
    pub recorded_as: Option<String>,
    /// The resampling step behind `:steps`; one that fits the window if nothing is said.
    pub step: Option<Step>,
    /// What its author says of its columns.
    pub columns: Vec<ColumnHint>,
    /// Whether everybody may see the same rows, where audiences have different views.
    pub same_for_all: bool,
    /// What is done to the rows that come, in order.
    pub then: Vec<Operation>,
    /// Where it was read.
    pub place: Place,
}

/// Where a query's rows come from.
#[derive(Debug, Clone, PartialEq)]
pub enum Origin {
    /// A source is asked.
    Source {
        /// The source.
        name: Placed<String>,
        /// The question.
        ask: Box<Ask>,
    },
    /// What a sampler has kept of the window.
    Sampler(Placed<String>),
    /// The answer of another query of the same dashboard.
    Query(Placed<String>),
}

impl Query {
    /// What its author says of this column.
    #[must_use]
    pub fn hint(&self, column: &str) -> Option<&ColumnHint> {
        self.columns.iter().find(|hint| hint.name == column)
    }

    /// The name under which a snapshot has its rows.
    #[must_use]
    pub fn record(&self) -> &str {
        self.recorded_as.as_deref().unwrap_or(&self.name)
    }

    /// The source, where it asks one.
    #[must_use]
    pub fn source(&self) -> Option<&Placed<String>> {
        match &self.origin {
            Origin::Source { name, .. } => Some(name),
            _ => None,
        }
    }

    /// The question, if it asks a source.
    #[must_use]
    pub fn ask(&self) -> Option<&Ask> {
        match &self.origin {
            Origin::Source { ask, .. } => Some(ask),
            _ => None,
        }
    }

    /// The queries of the same dashboard whose answers it needs.
    pub fn needs(&self) -> impl Iterator<Item = &str> {
        let of = match &self.origin {
            Origin::Query(name) => Some(name.value.as_str()),
            _ => None,
        };
        of.into_iter()
            .chain(self.then.iter().flat_map(Operation::needs))
    }

    /// As it is kept on record.
    #[must_use]
    pub fn written(&self) -> String {
        match &self.origin {
            Origin::Source { ask, .. } => ask.written(),
            Origin::Sampler(name) => format!("history of the sampler {}", name.value),
            Origin::Query(name) => format!("answer of {}", name.value),
        }
    }
}

/// What an author says of one column of a query's answer.
#[derive(Debug, Clone, PartialEq)]
pub struct ColumnHint {
    /// The column.
    pub name: String,
    /// Its title, if not its name.
    pub title: Option<String>,
    /// What its numbers count.
    pub unit: Unit,
    /// How many decimals people read; as many as its numbers deserve if nothing is said.
    pub decimals: Option<usize>,
    /// Its limits.
    pub thresholds: Thresholds,
}
