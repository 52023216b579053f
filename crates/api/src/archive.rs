//! Documents that were made.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::{runs::DocumentView, state::RunState};

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
    /// When the snapshot went: then neither of the two can be said.
    pub snapshot_removed_at: Option<DateTime<Utc>>,
}

/// A document that was found in the archive.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ArchiveEntry {
    pub document: DocumentView,
    pub run: Uuid,
    /// Whether you see its run, too: what was sent to you is yours to find, its run is its team's.
    pub sees_run: bool,
    pub state: RunState,
    pub report: String,
    pub title: String,
    /// Of the window, in words.
    pub window: String,
    pub made_at: DateTime<Utc>,
    /// How it was judged: `ok`, `unknown`, `warning` or `critical`.
    pub status: Option<String>,
    /// So many mails with it were accepted.
    pub sent: i64,
    /// Where the words that were looked for stand in it, in pieces; none without words.
    pub found: Vec<FoundPiece>,
}

/// A piece of a document's text.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FoundPiece {
    pub text: String,
    /// Whether it is what was looked for.
    pub hit: bool,
}

/// A page of the archive.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ArchivePage {
    pub items: Vec<ArchiveEntry>,
    /// How many there are; 10,000 if there are more.
    pub total: u64,
    pub more: bool,
    pub page: u64,
    pub size: u64,
}
