//! Reads data from sources into core tables. Every read is read-only, bounded in rows and
//! in time, and binds its parameters.
//!
//! This crate knows how to sign in at a source and how to ask; it does not know reports,
//! schedules or where an answer goes.

mod error;
mod postgresql;
mod setting;

use std::time::Duration;

use maple_lark_core::{
    Table,
    definition::{Source, SourceKind},
    query_text::QueryText,
    snapshot::Outcome,
    window::Times,
};

pub use error::SourceError;

/// Parameter values by name, as a definition set works them out.
pub type Values = std::collections::BTreeMap<String, maple_lark_core::definition::ParameterValue>;

/// One question to one source.
#[derive(Debug, Clone, Copy)]
pub struct Question<'a> {
    pub text: &'a QueryText,
    pub times: &'a Times,
    pub values: &'a Values,
}

/// What a source answered to a test.
#[derive(Debug, Clone)]
pub struct Greeting {
    /// What is there, in its own words.
    pub version: String,
    /// Who we are there.
    pub user: String,
    /// Whether the account itself is unable to write, beyond our own read-only reading.
    pub read_only_account: bool,
}

/// Asks a source one question.
///
/// The answer has at most the source's row limit of rows and says if there were more. The
/// question is given up after the source's timeout.
///
/// # Errors
/// Each in the source's own words, with the remedy, and without a secret.
pub async fn read(source: &Source, question: Question<'_>) -> Result<Table, SourceError> {
    let SourceKind::Postgresql(settings) = &source.kind;
    bounded(source, postgresql::read(source, settings, question)).await
}

/// The same, as a snapshot keeps it.
pub async fn outcome(source: &Source, question: Question<'_>) -> Outcome {
    match read(source, question).await {
        Ok(table) => Outcome::Rows(table),
        Err(error) => Outcome::Failed(error.to_string()),
    }
}

/// Signs in and says what is there.
pub async fn test(source: &Source) -> Result<Greeting, SourceError> {
    let SourceKind::Postgresql(settings) = &source.kind;
    bounded(source, postgresql::greet(source, settings)).await
}

/// The source is asked to keep the timeout itself; this holds even if it hangs.
async fn bounded<T>(source: &Source, work: impl Future<Output = Result<T, SourceError>>) -> Result<T, SourceError> {
    let grace = Duration::from_secs(2);
    let limit = Duration::from_secs(source.timeout_seconds) + grace;
    tokio::time::timeout(limit, work).await.unwrap_or(Err(SourceError::Timeout { source_name: source.name.clone(), seconds: source.timeout_seconds }))
}
