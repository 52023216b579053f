//! Signing in, users and tokens.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::{
    state::{Role, SignsInBy},
    words::words,
};

words!(
    /// What a token is good for.
    TokenScope, "scope of a token", {
    /// Everything that its user may do.
    All = "all",
    /// Looking, and running reports that are there.
    Run = "run",
    /// Looking; it changes nothing.
    Read = "read",
    /// Reading the agenda from a calendar program.
    Agenda = "agenda",
});

impl TokenScope {
    /// Whether a token of another scope is good for all that one of this scope is.
    #[must_use]
    pub fn is_within(self, other: Self) -> bool {
        match self {
            Self::All | Self::Agenda => self == other,
            Self::Run => matches!(other, Self::Run | Self::All),
            Self::Read => matches!(other, Self::Read | Self::Run | Self::All),
        }
    }
}

/// How people sign in besides by a name and a password.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SignInWays {
    /// What the organisation's identity provider is called; nothing if there is none. The browser goes to
    /// `/sign-in/begin` for it.
    pub provider: Option<String>,
    /// Whether browsers let people sign in with passkeys at this service's public address.
    pub passkeys: bool,
}

/// What is left to do once a session has ended.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SignedOut {
    /// Where the browser goes to sign out at the identity provider, too; nothing for who did not sign in
    /// by it.
    pub then: Option<String>,
}

#[derive(Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Credentials {
    pub name: String,
    pub password: String,
    /// A code of the second factor, or a recovery code, where one is asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

#[derive(Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TokenRequest {
    pub name: String,
    pub password: String,
    /// A code of the second factor, or a recovery code, where one is asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
    /// What the token is for, to tell it from others.
    pub label: String,
    /// What it is good for; all that you may do if nothing is said.
    #[serde(default)]
    pub scope: Option<TokenScope>,
    /// For how many days it is good; until it is revoked if nothing is said.
    #[serde(default)]
    pub days: Option<u32>,
}

/// A token that somebody who is signed in wants for a program.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TokenOrder {
    /// What the token is for, to tell it from others.
    pub label: String,
    /// What it is good for; all that you may do if nothing is said.
    #[serde(default)]
    pub scope: Option<TokenScope>,
    /// For how many days it is good; until it is revoked if nothing is said.
    #[serde(default)]
    pub days: Option<u32>,
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct NewToken {
    pub id: Uuid,
    pub expires_at: Option<chrono::DateTime<chrono::Utc>>,
    /// Shown only now; the service keeps a digest.
    pub token: String,
    pub user: UserView,
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Token {
    pub id: Uuid,
    pub label: String,
    pub created_at: chrono::DateTime<chrono::Utc>,
    pub last_used_at: Option<chrono::DateTime<chrono::Utc>>,
    /// What it is good for.
    pub scope: TokenScope,
    /// Until when; until it is revoked if nothing is said.
    pub expires_at: Option<chrono::DateTime<chrono::Utc>>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct UserView {
    pub name: String,
    pub role: Role,
    /// The teams that they are in; all teams for an administrator.
    pub teams: Vec<String>,
    /// The kinds of definitions that they may make and change.
    pub may_change: Vec<String>,
    pub signs_in_by: SignsInBy,
    /// Whether they are asked for a second factor.
    pub second_factor: bool,
    /// The parameter values that they are held to; none of them if they are not.
    pub held_to: BTreeMap<String, Vec<String>>,
    /// Whether the demo's mailbox is there to be looked at.
    pub demo: bool,
}
