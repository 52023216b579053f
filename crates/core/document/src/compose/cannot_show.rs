//! Why a block of a document stands empty.

use maple_lark_data::{Column, figures::FigureError};
use maple_lark_time::nearest::suggestion;

/// What keeps a block from being shown. Its words are for the reader and stand in the block's
/// place.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum CannotShow {
    #[error("there is no query \"{0}\"")]
    NoQuery(String),
    #[error("the snapshot has no answer to \"{0}\"")]
    NoAnswer(String),
    /// The source's own words.
    #[error("{0}")]
    QueryFailed(String),
    #[error("its queries need one another without end")]
    Endless,
    #[error(transparent)]
    Figures(#[from] FigureError),
    #[error("the query \"{query}\" has no column \"{column}\".{suggestion} It has: {known}")]
    NoColumn {
        query: String,
        column: String,
        suggestion: String,
        known: String,
    },
    #[error("the column \"{column}\" of the query \"{query}\" holds {kind}s, not numbers")]
    NotNumbers {
        query: String,
        column: String,
        kind: &'static str,
    },
    #[error("the column \"{column}\" of the query \"{query}\" holds no times")]
    NoTimes { query: String, column: String },
    #[error(
        "\"{word}\" in the column \"{column}\" is no state; write ok, warning, critical or unknown, true or false, or a number with thresholds"
    )]
    NoState { column: String, word: String },
    #[error("{what} are too many for one figure; narrow the query to {most}")]
    TooMany { what: String, most: String },
    #[error("bars cannot be stacked where a value is below zero")]
    StackedBelowZero,
    #[error("\"{0}\" is below zero and so no part of a whole")]
    PartBelowZero(String),
    #[error("the column \"{0}\" has bars but is not shown")]
    BarsNotShown(String),
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
