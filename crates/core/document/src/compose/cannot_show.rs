//! Why a block of a document stands empty.

use maple_lark_data::{Column, figures::FigureError};
use maple_lark_time::nearest::suggestion;

/// What keeps a block from being shown. Its words are for the reader and stand in the block's
/// place.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum CannotShow {
    /// The dashboard has no query of that name.
    #[error("there is no query \"{0}\"")]
    NoQuery(String),
    /// The query failed; its reason stands with the query.
    #[error("the snapshot has no answer to \"{0}\"")]
    NoAnswer(String),
    /// The query has captured no page.
    #[error("the snapshot has no picture of the page of \"{0}\"")]
    NoCapture(String),
    /// What was captured has no such part.
    #[error("what was kept of the page of \"{query}\" has no part \"{part}\"")]
    NoPart {
        /// The query.
        query: String,
        /// The part that was asked for.
        part: String,
    },
    /// The source's own words.
    #[error("{0}")]
    QueryFailed(String),
    /// A query joins itself by way of others.
    #[error("its queries need one another without end")]
    Endless,
    /// An operation could not be done.
    #[error(transparent)]
    Figures(#[from] FigureError),
    /// The block names a column that the rows do not have.
    #[error("the query \"{query}\" has no column \"{column}\".{suggestion} It has: {known}")]
    NoColumn {
        /// The query.
        query: String,
        /// The column that was asked for.
        column: String,
        /// The nearest name there is, as a sentence; empty if none is near.
        suggestion: String,
        /// The names there are.
        known: String,
    },
    /// The column would have to hold numbers.
    #[error("the column \"{column}\" of the query \"{query}\" holds {kind}s, not numbers")]
    NotNumbers {
        /// The query.
        query: String,
        /// The column.
        column: String,
        /// What it holds.
        kind: &'static str,
    },
    /// The column would have to hold instants.
    #[error("the column \"{column}\" of the query \"{query}\" holds no times")]
    NoTimes {
        /// The query.
        query: String,
        /// The column.
        column: String,
    },
    /// The column holds a word that stands for no state.
    #[error(
        "\"{word}\" in the column \"{column}\" is no state; write ok, warning, critical or unknown, true or false, or a number with thresholds"
    )]
    NoState {
        /// The column.
        column: String,
        /// The word.
        word: String,
    },
    /// There is more than the chart can show legibly.
    #[error("{what} are too many for one figure; narrow the query to {most}")]
    TooMany {
        /// What there is too much of, with its number.
        what: String,
        /// How much there may be.
        most: String,
    },
    /// Values below zero cannot be stacked.
    #[error("bars cannot be stacked where a value is below zero")]
    StackedBelowZero,
    /// A part of a whole is below zero.
    #[error("\"{0}\" is below zero and so no part of a whole")]
    PartBelowZero(String),
    /// Bars would not be legible; the reason stands in it.
    #[error("the column \"{0}\" has bars but is not shown")]
    BarsNotShown(String),
    /// The rows are forecasts of several series.
    #[error(
        "the rows are forecasts of several series; keep one with \"filter\" before \"forecast\""
    )]
    SeveralForecasts,
    /// The block is no chart and was asked for as one.
    #[error("this block is no chart")]
    NoChart,
}

impl CannotShow {
    pub(crate) fn no_column(query: &str, column: &str, columns: &[Column]) -> Self {
        let known: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
        Self::NoColumn {
            query: query.to_owned(),
            column: column.to_owned(),
            suggestion: suggestion(column, known.iter().copied()),
            known: known.join(", "),
        }
    }

    /// `61 bars are too many for one figure; narrow the query to 60 or fewer`.
    pub(crate) fn too_many(count: usize, things: &str, most: usize) -> Self {
        Self::TooMany {
            what: format!("{count} {things}"),
            most: format!("{most} or fewer"),
        }
    }
}
