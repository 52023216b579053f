//! Teams: who shares definitions, and the addresses that their reports may go to.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A team.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TeamView {
    pub name: String,
    pub title: String,
    /// Patterns of the mail addresses that its reports may go to, such as `*@orrin-sound.example`; any
    /// address if there are none.
    pub addresses: Vec<String>,
    pub members: Vec<TeamMember>,
    /// How many definitions belong to it.
    pub definitions: usize,
    /// Whether you may add and remove members.
    pub own: bool,
}

/// Somebody in a team.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TeamMember {
    pub name: String,
    /// Owners add and remove members.
    pub owner: bool,
}

/// A new team.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewTeam {
    /// What definitions call it: small letters, digits and hyphens.
    pub name: String,
    /// For people; its name if nothing is said.
    #[serde(default)]
    pub title: Option<String>,
    #[serde(default)]
    pub addresses: Vec<String>,
}

/// What is to change of a team; the rest stays.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TeamChange {
    #[serde(default)]
    pub title: Option<String>,
    #[serde(default)]
    pub addresses: Option<Vec<String>>,
}

/// What somebody is in a team.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Membership {
    #[serde(default)]
    pub owner: bool,
}
