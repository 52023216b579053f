//! Errors as problem details (RFC 9457).

use maple_lark_api::{ProblemDetails, Role, TokenScope};
use maple_lark_definition::Kind;
use maple_lark_store::StoreError;

use rocket::{
    Request,
    http::{ContentType, Status},
    response::{Responder, Response},
    serde::json,
};

use crate::engine::NotComputed;

/// Why a guard turned a request away.
#[derive(Debug, Clone)]
pub enum Refusal {
    NotSignedIn,
    OtherSite,
    Role {
        needed: Role,
        has: Role,
    },
    /// What a token is not good for.
    Scope {
        needed: TokenScope,
        has: TokenScope,
    },
    /// What shows more than the values that they are held to.
    Held,
    /// A definition that is not theirs, and how to make it so.
    Team(String),
    /// A definition that is an administrator's.
    Definition {
        kind: Kind,
        name: String,
    },
    Internal,
    /// The body, or what stands behind the question mark of the address.
    NotUnderstood(Problem),
}

impl Refusal {
    pub fn status(&self) -> u16 {
        match self {
            Refusal::NotSignedIn => 401,
            Refusal::OtherSite
            | Refusal::Role { .. }
            | Refusal::Scope { .. }
            | Refusal::Held
            | Refusal::Team(_)
            | Refusal::Definition { .. } => 403,
            Refusal::Internal => 500,
            Refusal::NotUnderstood(problem) => problem.status(),
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
                format!("this needs the role {needed}; yours is {has}"),
            ),
            Refusal::Scope { needed, has } => Problem::new(
                403,
                "Not permitted",
                format!("this needs a token with the scope {needed}; yours is for {has}"),
            ),
            Refusal::Held => Problem::new(
                403,
                "Not permitted",
                "you see documents and published views for your own values; this shows more",
            ),
            Refusal::Team(words) => Problem::new(403, "Not permitted", words.clone()),
            Refusal::Definition { kind, name } => Problem::new(
                403,
                "Not permitted",
                format!(
                    "the {} \"{name}\" can use stored secrets, so only an administrator can change it. To let authors change it, set authors-may-change = [\"{}s\"] in the configuration",
                    kind.name(),
                    kind.name()
                ),
            ),
            Refusal::Internal => Problem::new(
                500,
                "Internal error",
                "the service could not look up who you are; its log says why",
            ),
            Refusal::NotUnderstood(problem) => problem.clone(),
        }
    }
}

impl From<NotComputed> for Problem {
    fn from(error: NotComputed) -> Self {
        let (status, title) = match error {
            NotComputed::TooLong => (504, "Took too long"),
            NotComputed::Ended(_) => (500, "Internal error"),
        };
        Self::new(status, title, error.to_string())
    }
}

/// Problem details as an answer, with their media type.
#[derive(Debug, Clone)]
pub struct Problem {
    details: ProblemDetails,
    /// When it is worth trying again, in seconds.
    retry_after: Option<i64>,
    /// The methods that its address has.
    allow: Option<String>,
}

impl Problem {
    pub fn new(status: u16, title: &str, detail: impl Into<String>) -> Self {
        ProblemDetails::new(status, title, detail).into()
    }

    /// The same with when it is worth trying again, in seconds (RFC 9110, 10.2.3).
    pub fn after(mut self, seconds: i64) -> Self {
        self.retry_after = Some(seconds);
        self
    }

    /// That an address has other methods than the one it was asked with (RFC 9110, 15.5.6).
    pub fn other_methods(method: &str, allowed: &[&str]) -> Self {
        let allowed = allowed.join(", ");
        let words = format!("this address has no {method}; it has {allowed}");
        let mut problem = Self::new(405, "Method not allowed", words);
        problem.allow = Some(allowed);
        problem
    }

    /// The HTTP status that it answers with.
    pub fn status(&self) -> u16 {
        self.details.status
    }

    /// As it travels (RFC 9457).
    pub fn json(&self) -> String {
        json::to_string(&self.details).unwrap_or_default()
    }

    /// What is wrong, and how to mend it.
    pub fn detail(&self) -> String {
        self.details.detail.clone()
    }

    pub fn not_found(what: impl std::fmt::Display) -> Self {
        ProblemDetails::not_found(what).into()
    }

    /// Of what was kept as long as it is to be.
    pub fn gone(what: impl std::fmt::Display, at: chrono::DateTime<chrono::Utc>) -> Self {
        let day = at.format("%Y-%m-%d");
        Self::new(
            410,
            "Gone",
            format!("{what} went on {day}, after as long as they are kept"),
        )
    }

    /// That the same goes with a code of the second factor.
    pub fn with_a_code(mut self) -> Self {
        self.details.needs_code = true;
        self
    }

    pub fn definitions(problems: Vec<maple_lark_definition::Problem>) -> Self {
        ProblemDetails::definitions(problems).into()
    }
}

impl From<ProblemDetails> for Problem {
    fn from(details: ProblemDetails) -> Self {
        Self {
            details,
            retry_after: None,
            allow: None,
        }
    }
}

impl From<StoreError> for Problem {
    fn from(error: StoreError) -> Self {
        if let StoreError::NulCharacter = error {
            return Self::new(422, "A character that cannot be kept", error.to_string());
        }
        if let StoreError::DocumentsGone { at, .. } = error {
            return Self::gone("the documents of this run", at);
        }
        tracing::error!(%error, "a request failed");
        if let StoreError::BodyMissing(_) | StoreError::BodyAltered(_) | StoreError::NoPlace = error
        {
            return Self::new(500, "Not as it was kept", error.to_string());
        }
        if let StoreError::Place(_) = error {
            return Self::new(
                503,
                "Storage not available",
                "the service cannot use its storage of snapshots and documents at the moment; its log says why",
            );
        }
        Self::new(
            503,
            "Database not available",
            "the service cannot use its database at the moment; its log says why",
        )
    }
}

impl<'r> Responder<'r, 'static> for Problem {
    fn respond_to(self, request: &'r Request<'_>) -> rocket::response::Result<'static> {
        let status = Status::new(self.details.status);
        let body = self.json();
        let mut answer = Response::build_from(
            (ContentType::new("application", "problem+json"), body).respond_to(request)?,
        );
        if let Some(seconds) = self.retry_after {
            answer.raw_header("Retry-After", seconds.to_string());
        }
        if let Some(methods) = self.allow {
            answer.raw_header("Allow", methods);
        }
        answer.status(status).ok()
    }
}
