//! The steps of a run, as they go on record.

use std::time::Duration;

use chrono::{DateTime, Utc};
use futures::future::BoxFuture;
use maple_lark_api::{StepKind, StepState};
use maple_lark_store::{Store, StoreError, claims::Claim, steps::EndedStep};

use crate::engine::shared::Shared;

/// A step that takes longer is shown while it is under way.
const A_MOMENT: Duration = Duration::from_millis(200);

/// A step of a run that is under way. Most are done in a moment, and are written down when they have ended: to
/// write twice costs the records more than many of them take.
pub struct Step<'a> {
    store: &'a Store,
    claim: Claim,
    kind: StepKind,
    subject: String,
    pub started_at: DateTime<Utc>,
}

impl<'a> Step<'a> {
    pub fn begin(shared: &'a Shared, claim: Claim, kind: StepKind, subject: String) -> Self {
        Self {
            store: &shared.store,
            claim,
            kind,
            subject,
            started_at: shared.now(),
        }
    }

    pub fn subject(&self) -> &str {
        &self.subject
    }

    /// Does the work of the step. If it takes longer than a moment, it goes on record meanwhile that it is under way.
    ///
    /// # Errors
    /// The run is another process's; the work is broken off then.
    pub fn carry_out<'s, T: Send>(
        &'s self,
        work: impl Future<Output = T> + Send + 's,
    ) -> BoxFuture<'s, Result<T, StoreError>> {
        // What a query or a document takes is much; carried about by value it would not fit a thread's stack.
        let mut work = Box::pin(work);
        Box::pin(async move {
            tokio::select! {
                done = &mut work => return Ok(done),
                () = tokio::time::sleep(A_MOMENT) => {}
            }
            let begun =
                self.store
                    .begin_step(self.claim, self.kind, &self.subject, self.started_at);
            // What is written is awaited even if the work ends first: it must not come after how the step has ended.
            let ((), done) = tokio::try_join!(begun, async { Ok(work.await) })?;
            Ok(done)
        })
    }

    /// How the step has ended, to be written with what came of it.
    pub fn ended(&self, state: StepState, detail: String, at: DateTime<Utc>) -> EndedStep<'_> {
        EndedStep {
            kind: self.kind,
            subject: &self.subject,
            state,
            detail: Some(detail),
            started_at: Some(self.started_at),
            ended_at: at,
        }
    }

    /// Writes down how the step has ended.
    ///
    /// # Errors
    /// The run is another process's.
    pub async fn end(
        &self,
        state: StepState,
        detail: String,
        at: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let ended = self.ended(state, detail, at);
        self.store.end_step(self.claim, &ended).await
    }
}
