//! How much of one thing this process does at a time.

use std::{
    collections::{HashMap, HashSet},
    hash::Hash,
    sync::{Arc, Mutex},
};

use maple_lark_definition::Source;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

/// What something is done for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Purpose {
    /// Runs and samplers: what was promised.
    Work,
    /// Somebody who tries a query or looks at a preview. However many do, work does not wait
    /// for them.
    Looking,
}

/// Keeps one source, or one channel, from being used too much at once by this process. Who
/// looks has half as many permits (one at least) beside those of the work.
#[derive(Default)]
pub struct ConcurrencyLimits(Mutex<HashMap<(Purpose, String, usize), Arc<Semaphore>>>);

impl ConcurrencyLimits {
    /// A permit to ask a source, given back when it is dropped.
    pub(crate) async fn of_source(
        &self,
        source: &Source,
        purpose: Purpose,
    ) -> Option<OwnedSemaphorePermit> {
        let permits = match purpose {
            Purpose::Work => source.max_concurrency,
            Purpose::Looking => source.max_concurrency.div_ceil(2),
        };
        self.permit(&source.name, permits, purpose).await
    }

    /// The same where there may be no source to wait for.
    pub(crate) async fn of_source_if_any(
        &self,
        source: Option<&Source>,
        purpose: Purpose,
    ) -> Option<OwnedSemaphorePermit> {
        match source {
            Some(source) => self.of_source(source, purpose).await,
            None => None,
        }
    }

    /// A permit for anything that has a name and a limit.
    pub async fn of(&self, name: &str, max_concurrency: usize) -> Option<OwnedSemaphorePermit> {
        self.permit(name, max_concurrency, Purpose::Work).await
    }

    async fn permit(
        &self,
        name: &str,
        max_concurrency: usize,
        purpose: Purpose,
    ) -> Option<OwnedSemaphorePermit> {
        let limit = {
            let mut known = self
                .0
                .lock()
                .unwrap_or_else(|poisoned| poisoned.into_inner());
            known
                .entry((purpose, name.to_owned(), max_concurrency))
                .or_insert_with(|| Arc::new(Semaphore::new(max_concurrency)))
                .clone()
        };
        // The semaphore is never closed.
        limit.acquire_owned().await.ok()
    }
}

/// Things that are under way, each once at a time, by their names.
#[derive(Debug, Clone)]
pub struct Turns<N>(Arc<Mutex<HashSet<N>>>);

impl<N> Default for Turns<N> {
    fn default() -> Self {
        Self(Arc::default())
    }
}

impl<N: Clone + Eq + Hash> Turns<N> {
    /// The turn of a thing, until it is dropped; none while one is under way.
    pub fn begin(&self, name: N) -> Option<Turn<N>> {
        self.lock().insert(name.clone()).then(|| Turn {
            of: self.clone(),
            name,
        })
    }

    /// How many are under way.
    pub fn count(&self) -> usize {
        self.lock().len()
    }

    /// What is under way.
    pub fn all(&self) -> Vec<N> {
        self.lock().iter().cloned().collect()
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, HashSet<N>> {
        self.0
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner())
    }
}

/// Until it is dropped, the thing has its turn.
#[derive(Debug)]
pub struct Turn<N: Clone + Eq + Hash> {
    of: Turns<N>,
    name: N,
}

impl<N: Clone + Eq + Hash> Drop for Turn<N> {
    fn drop(&mut self) {
        self.of.lock().remove(&self.name);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_thing_is_under_way_once_at_a_time() {
        let turns: Turns<&str> = Turns::default();
        let turn = turns.begin("gates").unwrap();
        assert!(turns.begin("gates").is_none());
        assert!(turns.begin("disks").is_some());
        assert_eq!(turns.count(), 1);
        drop(turn);
        assert!(turns.begin("gates").is_some());
    }
}
