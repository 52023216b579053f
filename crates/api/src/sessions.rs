//! Signing in, users and tokens.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::{state::Role, words::words};

words!(
    /// What a token is good for.
    TokenScope, "scope of a token", {
    /// Everything that its user may do.
    All = "all",
    /// Reading the agenda from a calendar program.
    Agenda = "agenda",
});

#[derive(Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Credentials {
    pub name: String,
    pub password: String,
}

#[derive(Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TokenRequest {
    pub name: String,
    pub password: String,
    /// What the token is for, to tell it from others.
    pub label: String,
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct NewToken {
    pub id: Uuid,
    /// Shown only now; the service keeps a digest.
    pub token: String,
    pub user: UserView,
}

#[derive(Serialize, ToSchema)]
pub struct Token {
    pub id: Uuid,
    pub label: String,
    pub created_at: chrono::DateTime<chrono::Utc>,
    pub last_used_at: Option<chrono::DateTime<chrono::Utc>>,
    /// What it is good for: `all`, or `agenda`.
    pub scope: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct UserView {
    pub name: String,
    pub role: Role,
    /// Whether the demo's mailbox is there to be looked at.
    pub demo: bool,
}
