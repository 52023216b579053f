//! Why a source did not answer, with what to do about it.

use maple_lark_capture::Failed;
use maple_lark_definition::Source;

use crate::cells::BadCell;

/// Messages never hold a password: settings are named by their reference.
#[derive(Debug, thiserror::Error)]
pub enum SourceError {
    /// Another one, without what must not be read in it.
    #[error("{0}")]
    Said(String),

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

    #[error(
        "source \"{source_name}\": the answer is larger than {megabytes} MB; ask for less, or raise the source's max-size"
    )]
    TooLarge { source_name: String, megabytes: u64 },

    #[error(
        "source \"{source_name}\": the answer would take more than {megabytes} MB of memory, because it has so many values; ask for less, or raise the source's max-size"
    )]
    TooHeavy { source_name: String, megabytes: u64 },

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

    #[error("source \"{source_name}\": {}", .failed.problem)]
    Page {
        source_name: String,
        failed: Box<Failed>,
    },

    #[error("source \"{source_name}\": {words}")]
    Files { source_name: String, words: String },
}

/// Why the value behind a setting cannot be had. It names the reference, never the value.
#[derive(Debug, thiserror::Error)]
#[error("{reference} {problem}")]
pub struct SettingError {
    /// As it is written: `env:NAME`, `file:/path`, `secret:NAME`, `command:NAME`.
    pub reference: String,
    #[source]
    pub problem: SettingProblem,
}

/// The same of one that stands under a key.
#[derive(Debug, thiserror::Error)]
#[error("{key}: {error}")]
pub struct KeyError {
    pub key: &'static str,
    #[source]
    pub error: SettingError,
}

impl KeyError {
    /// As a source tells it.
    pub(crate) fn of(self, source: &Source) -> SourceError {
        SourceError::Setting {
            source_name: source.name.clone(),
            setting: self.key,
            reference: self.error.reference,
            problem: self.error.problem,
        }
    }
}

/// What is wrong with what a setting refers to.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SettingProblem {
    #[error("is not set in the environment of the service")]
    NotSet,
    #[error("cannot be read: {0}")]
    Unreadable(#[source] std::io::Error),
    #[error("is empty")]
    Empty,
    #[error(transparent)]
    Secret(SecretError),
    #[error(
        "may not be used by definitions; an administrator can allow it in the configuration: definitions-may-use = [\"{0}\"]"
    )]
    NotAllowed(String),
    #[error(
        "the secret \"{secret}\" may not be sent to {host}; an administrator can allow it in the configuration, under [secret-hosts]"
    )]
    OtherHost { secret: String, host: String },
    #[error(
        "{0} is not there, or may not be read by sources; an administrator can allow it in the configuration: sources-may-read = [\"{0}\"]"
    )]
    NoFolder(String),
    #[error("is not a command of the service's configuration; add it under [commands]")]
    NoCommand,
    #[error("cannot be run: {0}")]
    NotRun(#[source] std::io::Error),
    #[error("did not end within {0} s")]
    Endless(u64),
    #[error("failed: {0}")]
    Failed(std::process::ExitStatus),
    #[error("printed nothing")]
    Silent,
    #[error("is not host:port")]
    NotAnAddress,
    #[error("is not an http or https URL")]
    NotAUrl,
    #[error("cannot be sent as a header")]
    NotAHeader,
    #[error("holds no usable certificates: {0}")]
    Certificates(String),
}

/// Why a secret cannot be had, from whatever keeps it.
pub type SecretError = Box<dyn std::error::Error + Send + Sync>;
