//! Whether the archive is what was kept, day by day.

use chrono::{DateTime, NaiveDate, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A page of the archive's days, the latest first.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ArchiveDayPage {
    pub items: Vec<ArchiveDayView>,
    pub total: u64,
    pub page: u64,
    pub size: u64,
}

/// A day that is over, in UTC.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ArchiveDayView {
    pub day: NaiveDate,
    /// How many documents were made on it.
    pub documents: i64,
    /// SHA-256 over the digest of the day before, the audit trail's at the day's end, and what is
    /// known of each document.
    pub sha256: String,
    pub sealed_at: DateTime<Utc>,
    /// Whether the list of its documents, the day before it and the audit trail are what was sealed.
    pub intact: bool,
}

/// What has become of the documents of a day.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ArchiveDayProof {
    pub day: ArchiveDayView,
    /// Whether nothing is wrong with the day and its documents.
    pub intact: bool,
    /// Documents whose bytes or digest are others now; at most twenty.
    pub altered: Vec<ArchiveFault>,
    /// Documents that are gone although nothing on record let them go; at most twenty.
    pub missing: Vec<ArchiveFault>,
    /// Documents that say they are of that day and were not there at its end; at most twenty.
    pub added: Vec<ArchiveFault>,
    /// How many went after as long as they are kept.
    pub let_go: i64,
}

/// A document that is not as it was sealed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ArchiveFault {
    pub document: Uuid,
    pub run: Uuid,
    pub file_name: String,
}
