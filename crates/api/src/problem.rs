//! Errors as problem details (RFC 9457).

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What went wrong, where and how to mend it. Media type `application/problem+json`.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ProblemDetails {
    /// A short name of the kind of problem.
    pub title: String,
    pub status: u16,
    /// This problem in words.
    pub detail: String,
    /// Whether the same goes with a code of the second factor.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub needs_code: bool,
    /// Each thing wrong in the files of a definition.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub problems: Vec<FileProblem>,
}

/// One thing wrong in a definition file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FileProblem {
    pub file: String,
    pub line: usize,
    pub column: usize,
    pub key: String,
    pub message: String,
    /// The key that is not there and must be, if that is what is wrong.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub missing: Option<MissingKey>,
}

/// A key that must be there and is not.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MissingKey {
    /// Its dotted path, such as `source.address`.
    pub key: String,
    /// The words that it may be; empty where it may be others.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub one_of: Vec<String>,
}

impl From<maple_lark_definition::Problem> for FileProblem {
    fn from(problem: maple_lark_definition::Problem) -> Self {
        Self {
            file: problem.file,
            line: problem.line,
            column: problem.column,
            key: problem.key,
            message: problem.message,
            missing: problem.missing.map(|missing| MissingKey {
                key: missing.key,
                one_of: missing.one_of,
            }),
        }
    }
}

impl ProblemDetails {
    /// A problem without files.
    pub fn new(status: u16, title: &str, detail: impl Into<String>) -> Self {
        Self {
            title: title.to_owned(),
            status,
            detail: detail.into(),
            needs_code: false,
            problems: Vec::new(),
        }
    }

    /// Something that is not there: "there is no …".
    pub fn not_found(what: impl std::fmt::Display) -> Self {
        Self::new(404, "Not found", format!("there is no {what}"))
    }

    /// Definition files that are not valid.
    pub fn definitions(problems: Vec<maple_lark_definition::Problem>) -> Self {
        let detail = match &problems[..] {
            [one] => one.to_string(),
            many => format!("{} problems; nothing was changed", many.len()),
        };
        Self {
            problems: problems.into_iter().map(FileProblem::from).collect(),
            ..Self::new(422, "Definitions are not valid", detail)
        }
    }
}
