//! How long what was made is kept, what is kept for good, and what went.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::words::words;

words!(
    /// What of a run goes, in the order in which it goes.
    KeepStage, "part of a run", {
    Documents = "documents",
    Snapshots = "snapshots",
    /// Its state, steps and deliveries: nothing of it is left.
    Record = "record",
});

words!(
    /// Why something goes.
    KeepWhy, "reason to go", {
    Age = "age",
    /// The report has more runs than are to be kept.
    Number = "number",
    /// Documents and snapshots take more room than they may.
    Size = "size",
});

/// How long what was made is kept. Where a term is left out, it is kept for good. What a report says of
/// itself under `[keep]` goes before all of it but `at_least`.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct KeepPolicy {
    /// How long documents are kept after their run, as ISO 8601 has it: `P2Y`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub documents: Option<String>,
    /// How long snapshots are kept, of which documents can be made again; not shorter than documents.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub snapshots: Option<String>,
    /// How long the records of runs are kept; not shorter than snapshots.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub records: Option<String>,
    /// Of so many runs of each report the documents are kept at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most_runs: Option<u32>,
    /// So many megabytes documents and snapshots take at most, all together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most_megabytes: Option<u64>,
    /// Nothing goes sooner than this, whatever a report or the rest says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_least: Option<String>,
}

/// How long things are kept, and what there is.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Keeping {
    pub policy: KeepPolicy,
    /// Nothing if nobody has set it: then everything is kept for good.
    pub set_at: Option<DateTime<Utc>>,
    pub set_by: Option<String>,
    /// Reports that say something of their own.
    pub reports: Vec<ReportKeeping>,
    /// Runs that are over.
    pub runs: i64,
    /// Those of them whose documents are there.
    pub with_documents: i64,
    /// Those that somebody keeps for good.
    pub kept: i64,
    pub document_bytes: i64,
    pub snapshot_bytes: i64,
}

/// What a report says of how long it is kept, in words.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReportKeeping {
    pub report: String,
    pub title: String,
    pub words: String,
}

/// Something of a run that is to go.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GoingView {
    pub run: Uuid,
    pub report: String,
    /// When the run was over.
    pub ended_at: DateTime<Utc>,
    pub what: KeepStage,
    pub why: KeepWhy,
    pub bytes: i64,
}

/// What is to go, the oldest first.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct GoingList {
    pub items: Vec<GoingView>,
    /// By when it goes.
    pub until: DateTime<Utc>,
    /// Whether there is more than is listed.
    pub more: bool,
    /// Bytes of what is listed.
    pub bytes: i64,
}

/// Something of a run that went.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RemovalView {
    pub at: DateTime<Utc>,
    pub what: KeepStage,
    pub why: String,
    pub run: Uuid,
    pub report: String,
    pub title: String,
    pub ended_at: DateTime<Utc>,
    pub window_from: DateTime<Utc>,
    pub window_to: DateTime<Utc>,
    pub bytes: i64,
    pub files: Vec<RemovedFile>,
}

/// A document that went.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RemovedFile {
    pub name: String,
    pub sha256: String,
    pub size: i64,
}

/// A page of what went, the latest first.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RemovalPage {
    pub items: Vec<RemovalView>,
    pub total: u64,
    pub page: u64,
    pub size: u64,
}

/// A run that somebody keeps for good.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KeptRun {
    pub run: Uuid,
    pub report: String,
    pub at: DateTime<Utc>,
    pub by: String,
    pub because: String,
}

/// A page of the runs that are kept for good, the latest first.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct KeptPage {
    pub items: Vec<KeptRun>,
    pub total: u64,
    pub page: u64,
    pub size: u64,
}

/// Why a run is kept for good.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct KeepOrder {
    /// For whoever asks later: an audit, an incident.
    pub because: String,
}
