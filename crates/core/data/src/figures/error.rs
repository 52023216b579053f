//! Why an operation could not be done.

/// Why an operation could not be done on the rows that came.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
pub enum FigureError {
    #[error("{operation}: there is no column \"{column}\".{suggestion} There are: {known}")]
    NoColumn {
        operation: &'static str,
        column: String,
        suggestion: String,
        known: String,
    },
    #[error("{operation}: the column \"{column}\" holds {kind}s, not {wanted}")]
    Kind {
        operation: &'static str,
        column: String,
        kind: &'static str,
        wanted: &'static str,
    },
    #[error("{operation}: there is already a column \"{column}\"; choose another name")]
    Taken {
        operation: &'static str,
        column: String,
    },
    #[error(
        "{operation}: the column \"{column}\" has no {word} threshold; set it under [[query.column]]"
    )]
    NoThreshold {
        operation: &'static str,
        column: String,
        word: &'static str,
    },
    #[error("{operation}: {error}")]
    OtherQuery {
        operation: &'static str,
        error: NoRows,
    },
    #[error("{operation}: {reason}")]
    Other {
        operation: &'static str,
        reason: String,
    },
}

/// Why another query has no rows to give, in that query's words.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[error("{0}")]
pub struct NoRows(pub String);
