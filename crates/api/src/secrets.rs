//! Stored secrets, by name.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

#[derive(Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSecret {
    pub value: String,
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct SecretView {
    pub name: String,
    pub updated_at: DateTime<Utc>,
    pub updated_by: String,
    /// Its version, for `If-Match`: another one is not replaced or removed.
    pub version: String,
}
