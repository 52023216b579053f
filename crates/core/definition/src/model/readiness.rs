//! What a scheduled run waits for.

use serde::{Deserialize, Serialize};

use crate::{
    model::query::ask::Ask,
    problem::{Place, Placed},
};

/// A question that must be answered with yes before a scheduled run collects its data.
#[derive(Debug, Clone, PartialEq)]
pub struct Readiness {
    /// The source that is asked.
    pub source: Placed<String>,
    /// What it is asked.
    pub ask: Ask,
    /// Which answer means that the data is there.
    pub ready_when: ReadyWhen,
    /// How long to wait before asking again, in seconds.
    pub every_seconds: u64,
    /// How long after its instant a run waits at most, in seconds.
    pub deadline_seconds: u64,
    /// What happens if there was no yes in time.
    pub at_deadline: AtDeadline,
    /// Where it was read.
    pub place: Place,
}

/// Which answer to a question means that the data is ready.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum ReadyWhen {
    /// The first value of the first row is true.
    #[default]
    FirstIsTrue,
    /// This column is true in every row, and there is a row.
    AllTrue(String),
    /// There is a row.
    HasRows,
}

/// What becomes of a run whose data is not ready in time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AtDeadline {
    /// It is made and sent, marked as incomplete.
    Run,
    /// It is held, and its owner told.
    #[default]
    Hold,
    /// It is put on record as skipped.
    Skip,
}
