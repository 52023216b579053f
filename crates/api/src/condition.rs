//! Whether everything that a service needs is as it should be.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::words::words;

words!(
    /// How something stands that a service needs.
    Stands, "standing of a thing", {
    /// As it should.
    Ok = "ok",
    /// It works, and somebody should see to it.
    Warning = "warning",
    /// The service does not do its work like this, or not all of it.
    Problem = "problem",
});

/// One thing that was looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// What was looked at, such as `database`.
    pub what: String,
    pub stands: Stands,
    /// What was found.
    pub words: String,
    /// What to do about it.
    pub remedy: Option<String>,
}

/// What the service found when it looked at everything that it needs.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Condition {
    pub looked_at: DateTime<Utc>,
    pub findings: Vec<Finding>,
}
