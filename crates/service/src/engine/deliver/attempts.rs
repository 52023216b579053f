//! Writes down how attempts ended.

use std::sync::{Arc, Mutex};

use maple_lark_store::{StoreError, deliveries::Ended};
use tokio::sync::oneshot;

use crate::engine::shared::Shared;

/// Says whether it was written.
type Answer = oneshot::Sender<Result<bool, Arc<StoreError>>>;

/// How attempts ended, on the way into the records. Those that come while others are being
/// written are written together: one commit for as many as there are.
#[derive(Default)]
pub struct AttemptWriter {
    waiting: Mutex<Vec<(Ended, Answer)>>,
    writing: tokio::sync::Mutex<()>,
}

impl AttemptWriter {
    /// Answers when the ending is durable: whether the delivery was still this process's.
    pub async fn write(&self, shared: &Shared, ended: Ended) -> Result<bool, StoreError> {
        let (tell, told) = oneshot::channel();
        self.lock().push((ended, tell));
        {
            // The task that holds the lock writes what has gathered meanwhile, its own and others.
            let _turn = self.writing.lock().await;
            let together = std::mem::take(&mut *self.lock());
            if !together.is_empty() {
                let (endings, tells): (Vec<Ended>, Vec<_>) = together.into_iter().unzip();
                let written = shared
                    .store
                    .end_attempts(&endings, shared.now())
                    .await
                    .map_err(Arc::new);
                for (ended, tell) in endings.iter().zip(tells) {
                    // Nobody waits any more if the process is being stopped.
                    let _ = tell.send(
                        written
                            .as_ref()
                            .map(|written| written.contains(&ended.claim.delivery))
                            .map_err(Clone::clone),
                    );
                }
            }
        }
        match told.await {
            Ok(Ok(written)) => Ok(written),
            Ok(Err(error)) => Err(StoreError::Unwritten(error)),
            Err(_) => Err(StoreError::Stopped),
        }
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Vec<(Ended, Answer)>> {
        self.waiting
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner())
    }
}
