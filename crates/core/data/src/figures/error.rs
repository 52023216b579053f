//! Why an operation could not be done.

/// Why an operation could not be done on the rows that came.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum FigureError {
    /// The rows have no column of that name.
    #[error("{operation}: there is no column \"{column}\".{suggestion} There are: {known}")]
    NoColumn {
        /// The operation's word in a definition.
        operation: &'static str,
        /// The name that was asked for.
        column: String,
        /// The nearest name there is, as a sentence; empty if none is near.
        suggestion: String,
        /// The names there are.
        known: String,
    },
    /// The column holds another kind of value than the operation needs.
    #[error("{operation}: the column \"{column}\" holds {kind}s, not {wanted}")]
    Kind {
        /// The operation's word in a definition.
        operation: &'static str,
        /// The column.
        column: String,
        /// What it holds.
        kind: &'static str,
        /// What it would have to hold.
        wanted: &'static str,
    },
    /// A column that the operation would add exists already.
    #[error("{operation}: there is already a column \"{column}\"; choose another name")]
    Taken {
        /// The operation's word in a definition.
        operation: &'static str,
        /// The column.
        column: String,
    },
    /// The operation goes by a threshold that the column does not have.
    #[error(
        "{operation}: the column \"{column}\" has no {word} threshold; set it under [[query.column]]"
    )]
    NoThreshold {
        /// The operation's word in a definition.
        operation: &'static str,
        /// The column.
        column: String,
        /// Which threshold: `warning` or `critical`.
        word: &'static str,
    },
    /// The query to join has no rows to give.
    #[error("{operation}: {error}")]
    OtherQuery {
        /// The operation's word in a definition.
        operation: &'static str,
        /// Why it has none.
        error: NoRows,
    },
    /// Anything else that keeps the operation from being done.
    #[error("{operation}: {reason}")]
    Other {
        /// The operation's word in a definition.
        operation: &'static str,
        /// The reason, as the end of a sentence.
        reason: String,
    },
}

/// Why another query has no rows to give, in that query's words.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[error("{0}")]
pub struct NoRows(pub String);
