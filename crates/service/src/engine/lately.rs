//! The documents that were composed a moment ago: what goes into a mail right after it was made is not read and
//! composed a second time.

use std::{
    collections::VecDeque,
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};

use maple_lark_document::{Snapshot, document::Document};
use uuid::Uuid;

use super::definitions::Definitions;

/// A composed document with what it was composed from.
#[derive(Clone)]
pub struct Composed {
    /// Those that its run began with.
    pub definitions: Arc<Definitions>,
    pub snapshot: Arc<Snapshot>,
    pub document: Arc<Document>,
}

impl Composed {
    pub fn of(
        definitions: &Arc<Definitions>,
        snapshot: &Arc<Snapshot>,
        document: &Arc<Document>,
    ) -> Self {
        Self {
            definitions: definitions.clone(),
            snapshot: snapshot.clone(),
            document: document.clone(),
        }
    }
}

/// So many are kept.
const MOST: usize = 16;
/// Each for so long: what has waited longer is read again, as its records may have changed.
const LONGEST: Duration = Duration::from_secs(60);
/// Only those of snapshots of at most so many bytes, as they are stored: a large one is made again.
const LARGEST: usize = 32 << 10;

/// The latest documents, by the snapshot and the way somebody reads numbers and dates.
pub struct Lately<T = Composed>(Mutex<VecDeque<Kept<T>>>);

struct Kept<T> {
    snapshot: Uuid,
    variant: String,
    since: Instant,
    of: T,
}

/// Whether the document of a snapshot of so many bytes is kept.
pub fn is_small(bytes: usize) -> bool {
    bytes <= LARGEST
}

impl<T> Default for Lately<T> {
    fn default() -> Self {
        Self(Mutex::default())
    }
}

impl<T: Clone> Lately<T> {
    /// Keeps one; the oldest goes for it.
    pub fn put(&self, snapshot: Uuid, variant: &str, of: T, now: Instant) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.retain(|one| now.duration_since(one.since) < LONGEST);
        if kept.len() == MOST {
            kept.pop_front();
        }
        kept.push_back(Kept {
            snapshot,
            variant: variant.to_owned(),
            since: now,
            of,
        });
    }

    /// The document of a snapshot, if it is still kept.
    pub fn get(&self, snapshot: Uuid, variant: &str, now: Instant) -> Option<T> {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let mut kept = kept.iter().rev();
        let found = kept.find(|one| one.snapshot == snapshot && one.variant == variant)?;
        (now.duration_since(found.since) < LONGEST).then(|| found.of.clone())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_latest_are_kept_by_snapshot_and_way_of_reading() {
        let lately = Lately::default();
        let ids: Vec<Uuid> = (0..=MOST).map(|_| Uuid::now_v7()).collect();
        let now = Instant::now();
        for (n, id) in ids.iter().enumerate() {
            assert_eq!(lately.get(*id, "", now), None);
            lately.put(*id, "", n, now);
        }
        assert_eq!(lately.get(ids[0], "", now), None);
        assert_eq!(lately.get(ids[1], "", now), Some(1));
        assert_eq!(lately.get(ids[1], "de", now), None);
        assert_eq!(lately.get(ids[MOST], "", now), Some(MOST));
        // What was made again counts.
        lately.put(ids[MOST], "", 99, now);
        assert_eq!(lately.get(ids[MOST], "", now), Some(99));
        assert_eq!(lately.get(ids[MOST], "", now + LONGEST), None);
        // What is too old goes with the next.
        lately.put(ids[0], "", 100, now + LONGEST);
        assert_eq!(lately.0.lock().unwrap().len(), 1);
        assert!(is_small(LARGEST) && !is_small(LARGEST + 1));
    }
}
