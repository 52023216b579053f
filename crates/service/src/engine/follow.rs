//! Follows the database's clock, and puts right what a wrong one has left.

use std::{sync::Arc, time::Duration};

use maple_lark_store::StoreError;
use tokio::sync::watch;

use super::{
    clock::{TOLERATED, look},
    schedule,
    shared::Shared,
};

/// How often the database is asked for its time.
const EVERY: Duration = Duration::from_secs(5);
/// What earlier clocks have left in the records is looked through once in so many rounds.
const ROUNDS: u32 = 12;

/// Follows the database's clock until the engine stops, and puts right what an earlier, wrong
/// one has left: leases and waits that reach too far, and instants that were passed over.
pub async fn follow(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    let (mut told, mut round, mut first) = (None, 0, true);
    while !*stopped.borrow() {
        if let Err(error) = look_whether_restored(&shared).await {
            tracing::warn!(%error, "it could not be looked whether the database is still the same");
        }
        match look(&shared.clock, &shared.store).await {
            Ok(jump) => {
                let difference = shared.clock.difference();
                if difference != told {
                    match &difference {
                        Some(words) => tracing::warn!(words, "the clocks differ"),
                        None => tracing::info!("this machine's clock is right again"),
                    }
                    told = difference;
                }
                if jump.abs() > TOLERATED {
                    tracing::warn!(seconds = jump.num_seconds(), "the database's clock jumped");
                }
                let jumped = first || jump.abs() > TOLERATED;
                if (round == 0 || jumped)
                    && let Err(error) = put_right(&shared, jumped).await
                {
                    tracing::error!(%error, "what a wrong clock may have left could not be looked through");
                }
                (round, first) = ((round + 1) % ROUNDS, false);
            }
            Err(error) => {
                tracing::warn!(%error, "the database could not be asked for its time");
            }
        }
        tokio::select! {
            () = tokio::time::sleep(EVERY) => {}
            _ = stopped.changed() => {}
        }
    }
}

/// Holds what may have been sent already, once an earlier copy of the database was put in its place.
async fn look_whether_restored(shared: &Shared) -> Result<(), StoreError> {
    let fails_over = shared.config.database_fails_over;
    let found = shared.store.look_whether_restored(fails_over, shared.now());
    if let Some(restored) = found.await? {
        tracing::warn!(
            runs = restored.runs,
            "the database was restored from a copy: what was on its way then is held"
        );
        shared.wake.notify_waiters();
    }
    Ok(())
}

async fn put_right(shared: &Shared, jumped: bool) -> Result<(), StoreError> {
    let moved = shared
        .store
        .bring_back(shared.now(), shared.lease(), jumped)
        .await?;
    if moved > 0 {
        tracing::warn!(
            moved,
            "leases and waits reached further than any can; a clock must have been wrong"
        );
    }
    schedule::reschedule(shared).await
}
