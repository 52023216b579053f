//! Why a source did not answer, with what to do about it.

use crate::{cells::BadCell, setting::SettingProblem};

/// Messages never hold a password: settings are named by their reference.
#[derive(Debug, thiserror::Error)]
pub enum SourceError {
    #[error("source \"{source_name}\": {setting} refers to {reference}, which {problem}")]
    Setting {
        source_name: String,
        setting: &'static str,
        reference: String,
        #[source]
        problem: SettingProblem,
    },

    #[error(
        "source \"{source_name}\": {address} cannot be reached: {words}. Check that the server runs there and that nothing between blocks it"
    )]
    Unreachable {
        source_name: String,
        address: String,
        words: String,
    },

    #[error(
        "source \"{source_name}\": {address} refused the sign-in: {words}. Check the user, the password and the database"
    )]
    SignIn {
        source_name: String,
        address: String,
        words: String,
    },

    #[error(
        "source \"{source_name}\" may not reach {address}: {reason}. An administrator can allow it with sources-may-reach in the configuration"
    )]
    OutOfBounds {
        source_name: String,
        address: String,
        reason: &'static str,
    },

    #[error(
        "source \"{source_name}\" did not answer within {seconds} s; narrow the query or raise the source's timeout"
    )]
    Timeout { source_name: String, seconds: u64 },

    #[error("source \"{source_name}\" refused the query: {words}")]
    Query { source_name: String, words: String },

    #[error("source \"{source_name}\": {address} answered {status}: {words}")]
    Status {
        source_name: String,
        address: String,
        status: u16,
        words: String,
    },

    #[error("source \"{source_name}\": the answer of {address} cannot be read: {words}")]
    Answer {
        source_name: String,
        address: String,
        words: String,
    },

    #[error("source \"{source_name}\": the query asks for :{name}, which has no value")]
    NoValue { source_name: String, name: String },

    #[error("source \"{source_name}\": row {row}, column \"{column}\" cannot be read: {error}")]
    Cell {
        source_name: String,
        row: usize,
        column: String,
        #[source]
        error: BadCell,
    },

    #[error(
        "source \"{source_name}\": {file}, line {line}: {words}. Mend the file, or let such rows be left out with bad-rows = \"skip\""
    )]
    Line {
        source_name: String,
        file: String,
        line: u64,
        words: String,
    },

    #[error("source \"{source_name}\": {words}")]
    Files { source_name: String, words: String },
}
