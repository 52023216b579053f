//! How much of what sources have answered a process holds at a time.

use std::sync::{
    Arc,
    atomic::{AtomicUsize, Ordering},
};

use tokio::sync::Notify;

/// The answers for one snapshot of a run may take so much together.
pub const OF_A_SNAPSHOT: usize = 1_000_000_000;
/// A run that holds nothing yet waits while the others of its process hold more than this.
const OF_ALL: usize = 1_000_000_000;

/// The room that answers take in the memory of this process, in bytes.
#[derive(Debug, Default)]
pub struct Room {
    taken: AtomicUsize,
    freed: Notify,
}

/// What one run holds; it is given back when this is dropped.
#[derive(Debug)]
pub struct Held {
    room: Arc<Room>,
    taken: AtomicUsize,
}

impl Room {
    /// Waits until there is room for a run to begin. Those that have begun are never kept
    /// waiting, so that they come to their end and give back what they hold.
    pub async fn begin(self: &Arc<Self>) -> Held {
        loop {
            let freed = self.freed.notified();
            if self.taken.load(Ordering::Acquire) <= OF_ALL {
                return Held {
                    room: self.clone(),
                    taken: AtomicUsize::new(0),
                };
            }
            freed.await;
        }
    }
}

impl Held {
    /// Takes room for an answer; answers whether the run may hold as much.
    pub fn take(&self, bytes: usize) -> bool {
        let before = self.taken.fetch_add(bytes, Ordering::AcqRel);
        if before.saturating_add(bytes) > OF_A_SNAPSHOT {
            self.taken.fetch_sub(bytes, Ordering::AcqRel);
            return false;
        }
        self.room.taken.fetch_add(bytes, Ordering::AcqRel);
        true
    }

    /// How many bytes it holds.
    pub fn size(&self) -> usize {
        self.taken.load(Ordering::Acquire)
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        let taken = self.size();
        self.room.taken.fetch_sub(taken, Ordering::AcqRel);
        self.room.freed.notify_waiters();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_run_holds_so_much_and_another_begins_when_there_is_room() {
        let room = Arc::new(Room::default());
        let first = room.begin().await;
        assert!(first.take(OF_A_SNAPSHOT - 1) && first.take(1));
        assert!(!first.take(1), "that is more than one may hold");
        assert_eq!(first.size(), OF_A_SNAPSHOT);
        let second = room.begin().await;
        assert!(second.take(1), "who has begun goes on");
        let waiting = tokio::spawn({
            let room = room.clone();
            async move { room.begin().await }
        });
        tokio::task::yield_now().await;
        assert!(!waiting.is_finished());
        drop(first);
        let third = waiting.await.unwrap();
        assert!(third.take(OF_A_SNAPSHOT));
        drop((second, third));
        assert_eq!(room.taken.load(Ordering::Acquire), 0);
    }
}
