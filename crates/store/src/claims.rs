//! Claims of work. Each has a token of its own, which everything carries that is written under it.

use uuid::Uuid;

use crate::entity::run::Model as Run;

/// One claim of a run: what a worker writes about it carries the claim, so that a process whose
/// lease ran out meanwhile writes nothing into the work of whoever has taken it over, be it the
/// same process.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Claim {
    pub run: Uuid,
    /// Made anew with each claim.
    pub token: Uuid,
}

impl Run {
    /// The claim that this row was read under; nobody's if it is not claimed.
    pub fn claim(&self) -> Claim {
        Claim {
            run: self.id,
            token: self.lease_owner.unwrap_or_default(),
        }
    }
}

/// One claim of a delivery, which is one attempt. What is written about the attempt carries it,
/// as with [`Claim`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AttemptClaim {
    pub delivery: Uuid,
    pub attempt: i64,
    /// Made anew with each claim.
    pub token: Uuid,
}

/// What is written of an attempt that nobody works on any more.
pub(crate) const ABANDONED: &str =
    "outcome = 'unknown', answer = 'the service ended while this attempt was under way'";
