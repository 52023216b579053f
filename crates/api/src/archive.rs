//! Documents that were made.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::runs::DocumentView;

/// A document that a file is the same as.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Match {
    pub document: DocumentView,
    pub run: Uuid,
    pub report: String,
    /// Of the window, in words.
    pub window: String,
    pub made_at: DateTime<Utc>,
    /// Whether the stored snapshot still has the SHA-256 that it was kept under.
    pub snapshot_unaltered: bool,
    /// Whether the snapshot, written again now, gives the same bytes. Another version of this
    /// program may write them otherwise.
    pub reproducible: bool,
}
