//! Moves the bodies of snapshots and documents to where they are kept, in small pieces beside what
//! goes on, and removes those from the place outside of the database that nothing shows any more.

use std::{
    sync::Arc,
    time::{Duration, Instant},
};

use maple_lark_store::StoreError;
use tokio::sync::watch;

use super::shared::Shared;

/// How often it is looked whether something is to be moved.
const EVERY: Duration = Duration::from_secs(60);
/// So many are moved at a time, of each kind.
const PIECE: u64 = 25;
/// The longest rest between two pieces.
const LONGEST_REST: Duration = Duration::from_secs(5);
/// So many that cannot be moved are passed over until it is looked again.
const MOST_LOST: usize = 1000;

/// Moves what is not where it is kept, until the engine stops.
pub async fn watch_the_storage(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    if let Some(storage) = &shared.config.storage {
        match storage.outside.sweep().await {
            Ok(0) => {}
            Ok(count) => {
                tracing::info!(count, "files were removed that a process left half written")
            }
            Err(error) => {
                tracing::error!(%error, "what was left half written could not be looked for")
            }
        }
    }
    while !*stopped.borrow() {
        if let Err(error) = move_all(&shared, &stopped).await {
            tracing::error!(%error, "snapshots and documents could not be moved to where they are kept; it is tried again in a minute");
        }
        tokio::select! {
            () = tokio::time::sleep(EVERY) => {}
            _ = stopped.changed() => {}
        }
    }
}

async fn move_all(shared: &Shared, stopped: &watch::Receiver<bool>) -> Result<(), StoreError> {
    let Some(storage) = &shared.config.storage else {
        return Ok(());
    };
    let (mut out, mut back, mut removed) = (0, 0, 0);
    let mut lost = Vec::new();
    while !*stopped.borrow() && lost.len() < MOST_LOST {
        let began = Instant::now();
        let when = (shared.now(), storage.grace);
        let moved = shared.store.move_bodies(when, &lost, PIECE).await?;
        if moved.is_nothing() {
            break;
        }
        out += moved.out;
        back += moved.back;
        removed += moved.removed;
        for (id, error) in moved.lost {
            tracing::error!(%id, %error, "a snapshot or document cannot be brought back into the database");
            lost.push(id);
        }
        // At most half of the time, so that those who make reports hardly notice.
        tokio::time::sleep(began.elapsed().min(LONGEST_REST)).await;
    }
    if out + back + removed > 0 {
        tracing::info!(out, back, removed, place = %storage.title, "snapshots and documents were moved to where they are kept");
    }
    // The database uses again what they took.
    if out > 0 {
        shared.store.give_back_room().await?;
    }
    Ok(())
}
