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
    pub fn carry_out<'s, T: Send + 's>(
        &'s self,
        work: impl Future<Output = T> + Send + 's,
    ) -> BoxFuture<'s, Result<T, StoreError>> {
        // What a query or a document takes is much; carried about by value it would not fit a thread's stack.
        let work = Box::pin(work);
        let begun = self
            .store
            .begin_step(self.claim, self.kind, &self.subject, self.started_at);
        Box::pin(noted_if_long(work, begun))
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

/// Does work. If it takes longer than a moment, that is noted meanwhile.
async fn noted_if_long<T, E>(
    mut work: impl Future<Output = T> + Unpin,
    note: impl Future<Output = Result<(), E>>,
) -> Result<T, E> {
    tokio::select! {
        done = &mut work => return Ok(done),
        () = tokio::time::sleep(A_MOMENT) => {}
    }
    // The note is awaited even if the work ends first: it must not come after what is noted of the end.
    let ((), done) = tokio::try_join!(note, async { Ok(work.await) })?;
    Ok(done)
}

#[cfg(test)]
mod tests {
    use std::{
        future::{pending, ready},
        sync::atomic::{AtomicBool, Ordering},
    };

    use tokio::sync::oneshot;

    use super::*;

    #[tokio::test]
    async fn work_that_is_done_in_a_moment_is_not_noted() {
        let note = async { Err("noted") };
        assert_eq!(noted_if_long(ready(7), note).await, Ok(7));
    }

    #[tokio::test]
    async fn work_that_ends_while_it_is_noted_waits_for_the_note() {
        let (begun, begins) = oneshot::channel();
        let (ended, ends) = oneshot::channel();
        let noted = AtomicBool::new(false);
        let work = Box::pin(async {
            begins.await.unwrap();
            ended.send(()).unwrap();
            7
        });
        let note = async {
            begun.send(()).unwrap();
            ends.await.unwrap();
            tokio::task::yield_now().await;
            noted.store(true, Ordering::Relaxed);
            Ok::<_, ()>(())
        };
        assert_eq!(noted_if_long(work, note).await, Ok(7));
        assert!(noted.load(Ordering::Relaxed));
    }

    #[tokio::test]
    async fn work_that_cannot_be_noted_is_broken_off() {
        let work = pending::<u8>();
        let note = async { Err("another process has taken the run over") };
        assert!(noted_if_long(work, note).await.is_err());
    }
}
