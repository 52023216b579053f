//! Users: invitations, roles, passwords and sessions.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::state::{Role, SignsInBy};

/// A user as an administrator sees them.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct UserEntry {
    pub name: String,
    pub role: Role,
    /// Where invitations go.
    pub email: Option<String>,
    pub created_at: DateTime<Utc>,
    /// When a browser or a program of theirs was heard of last.
    pub last_seen_at: Option<DateTime<Utc>>,
    /// Since when they may not sign in.
    pub disabled_at: Option<DateTime<Utc>>,
    pub signs_in_by: SignsInBy,
    /// Since when the directory or the provider does not let them in any more.
    pub left_at: Option<DateTime<Utc>>,
    /// Whether they have chosen a password.
    pub has_password: bool,
    /// Whether they are asked for a second factor.
    pub second_factor: bool,
    /// How many devices they can sign in with, without a password.
    pub passkeys: i64,
    /// The parameter values that they are held to; none of them if they are not.
    pub held_to: BTreeMap<String, Vec<String>>,
    /// Until when an invitation, or a link for a new password, is good.
    pub invited_until: Option<DateTime<Utc>>,
}

/// A page of users.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct UserPage {
    pub items: Vec<UserEntry>,
    pub total: u64,
    pub page: u64,
    pub size: u64,
}

/// Reports that somebody owns.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OwnedReports {
    /// Their mail address.
    pub owner: String,
    /// The names of the reports.
    pub reports: Vec<String>,
}

/// To whom reports are handed over.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct HandOver {
    /// A user with a mail address, or an address.
    pub to: String,
}

/// Somebody who is to sign in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewUser {
    /// What they sign in with: letters, digits and ". _ - @".
    pub name: String,
    pub role: Role,
    /// Where the invitation goes; without one you hand the link over.
    #[serde(default)]
    pub email: Option<String>,
}

/// What is to change of a user; the rest stays.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UserChange {
    #[serde(default)]
    pub role: Option<Role>,
    #[serde(default)]
    pub email: Option<String>,
    /// Who is disabled may not sign in, and is signed out.
    #[serde(default)]
    pub disabled: Option<bool>,
    /// The parameter values that they are held to: they see documents and published views that were made
    /// with these, and nothing else. An empty list of names holds them to none. For viewers alone.
    #[serde(default)]
    pub held_to: Option<BTreeMap<String, Vec<String>>>,
}

/// An invitation, or a link for a new password.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Invitation {
    pub name: String,
    pub expires_at: DateTime<Utc>,
    /// The address that it was mailed to.
    pub mailed_to: Option<String>,
    /// The link, shown only now, if it was not mailed.
    pub link: Option<String>,
    /// Why it was not mailed.
    pub reason: Option<String>,
}

/// What somebody who follows an invitation sees.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct InvitationView {
    pub name: String,
    pub role: Role,
    pub expires_at: DateTime<Utc>,
}

/// The secret part of an invitation's link.
#[derive(Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct InvitationToken {
    pub token: String,
}

/// The password that somebody who was invited chooses.
#[derive(Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Acceptance {
    pub token: String,
    pub password: String,
    /// A code of the second factor, or a recovery code, where one is asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// Whose password is forgotten.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ForgottenPassword {
    /// What they sign in with.
    pub name: String,
}

/// A new password, with the one that is to go.
#[derive(Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PasswordChange {
    pub current: String,
    pub new: String,
}

/// A browser that is signed in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SessionView {
    pub id: Uuid,
    pub created_at: DateTime<Utc>,
    pub expires_at: DateTime<Utc>,
    /// Where it signed in from.
    pub address: Option<String>,
    /// What the browser calls itself.
    pub used_with: Option<String>,
    /// Whether it is the one that asks.
    pub current: bool,
}
