//! Errors as problem details (RFC 9457).

use maple_lark_store::StoreError;
use rocket::{
    Request,
    http::{ContentType, Status},
    response::{Responder, Response},
    serde::json,
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What went wrong, where and how to mend it. Media type `application/problem+json`.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// A short name of the kind of problem.
    pub title: String,
    pub status: u16,
    /// This problem in words.
    pub detail: String,
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
}

impl From<maple_lark_definition::Problem> for FileProblem {
    fn from(problem: maple_lark_definition::Problem) -> Self {
        Self {
            file: problem.file,
            line: problem.line,
            column: problem.column,
            key: problem.key,
            message: problem.message,
        }
    }
}

/// Why a guard turned a request away.
#[derive(Debug, Clone)]
pub enum Refusal {
    NotSignedIn,
    OtherSite,
    Role { needed: &'static str, has: String },
    Internal,
}

impl Refusal {
    pub fn status(&self) -> u16 {
        match self {
            Refusal::NotSignedIn => 401,
            Refusal::OtherSite | Refusal::Role { .. } => 403,
            Refusal::Internal => 500,
        }
    }

    pub fn problem(&self) -> Problem {
        match self {
            Refusal::NotSignedIn => Problem::new(
                401,
                "Not signed in",
                "sign in first, or send a valid token as \"Authorization: Bearer …\"",
            ),
            Refusal::OtherSite => Problem::new(
                403,
                "Other site",
                "this request comes from a page of another site",
            ),
            Refusal::Role { needed, has } => Problem::new(
                403,
                "Not permitted",
                format!("this needs the role {needed}; you are a {has}"),
            ),
            Refusal::Internal => Problem::new(
                500,
                "Internal error",
                "the service could not look up who you are; its log says why",
            ),
        }
    }
}

impl Problem {
    pub fn new(status: u16, title: &str, detail: impl Into<String>) -> Self {
        Self {
            title: title.to_owned(),
            status,
            detail: detail.into(),
            problems: Vec::new(),
        }
    }

    pub fn not_found(what: impl std::fmt::Display) -> Self {
        Self::new(404, "Not found", format!("there is no {what}"))
    }

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

impl From<StoreError> for Problem {
    fn from(error: StoreError) -> Self {
        if let StoreError::NulCharacter = error {
            return Self::new(422, "A character that cannot be kept", error.to_string());
        }
        tracing::error!(%error, "a request failed");
        Self::new(
            503,
            "Database not available",
            "the service cannot use its database at the moment; its log says why",
        )
    }
}

impl<'r> Responder<'r, 'static> for Problem {
    fn respond_to(self, request: &'r Request<'_>) -> rocket::response::Result<'static> {
        let status = Status::new(self.status);
        let body = json::to_string(&self).unwrap_or_default();
        Response::build_from(
            (ContentType::new("application", "problem+json"), body).respond_to(request)?,
        )
        .status(status)
        .ok()
    }
}
