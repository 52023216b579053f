//! What a service says about itself.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The program and the rules that it works by.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct About {
    pub version: String,
    pub zone_rules: ZoneRulesView,
    /// What is wrong with the service machine's clock; nothing if it is right.
    pub clock: Option<String>,
}

/// The rules of time zones in use.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ZoneRulesView {
    /// The release of the IANA time zone database, such as `2026f`.
    pub version: String,
    /// Whether they are the ones that the program brings along, not the system's.
    pub bundled: bool,
    /// Whether they are older than a year, so that clocks may have been changed by law since.
    pub old: bool,
}
