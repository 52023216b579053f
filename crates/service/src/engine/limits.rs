//! How much of one thing this process does at a time.

use std::{
    collections::{HashMap, HashSet},
    sync::{Arc, Mutex},
};

use maple_lark_definition::Source;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

/// Keeps one source, or one channel, from being used too much at once by this process,
/// whatever uses it.
#[derive(Default)]
pub struct ConcurrencyLimits(Mutex<HashMap<(String, usize), Arc<Semaphore>>>);

impl ConcurrencyLimits {
    /// A permit to ask a source, given back when it is dropped.
    pub async fn of_source(&self, source: &Source) -> Option<OwnedSemaphorePermit> {
        self.of(&source.name, source.max_concurrency).await
    }

    /// The same where there may be no source to wait for.
    pub async fn of_source_if_any(&self, source: Option<&Source>) -> Option<OwnedSemaphorePermit> {
        match source {
            Some(source) => self.of_source(source).await,
            None => None,
        }
    }

    /// A permit for anything that has a name and a limit.
    pub async fn of(&self, name: &str, max_concurrency: usize) -> Option<OwnedSemaphorePermit> {
        let limit = {
            let mut known = self
                .0
                .lock()
                .unwrap_or_else(|poisoned| poisoned.into_inner());
            known
                .entry((name.to_owned(), max_concurrency))
                .or_insert_with(|| Arc::new(Semaphore::new(max_concurrency)))
                .clone()
        };
        // The semaphore is never closed.
        limit.acquire_owned().await.ok()
    }
}

/// The samplers whose question is under way.
#[derive(Debug, Default, Clone)]
pub struct Sampling(Arc<Mutex<HashSet<String>>>);

impl Sampling {
    /// The turn of a sampler, until it is dropped; none while one is under way.
    pub fn begin(&self, sampler: &str) -> Option<Turn> {
        self.lock().insert(sampler.to_owned()).then(|| Turn {
            of: self.clone(),
            sampler: sampler.to_owned(),
        })
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, HashSet<String>> {
        self.0
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner())
    }
}

/// Until it is dropped, the sampler has its turn.
#[derive(Debug)]
pub struct Turn {
    of: Sampling,
    sampler: String,
}

impl Drop for Turn {
    fn drop(&mut self) {
        self.of.lock().remove(&self.sampler);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sampler_has_one_question_under_way() {
        let sampling = Sampling::default();
        let turn = sampling.begin("gates").unwrap();
        assert!(sampling.begin("gates").is_none());
        assert!(sampling.begin("disks").is_some());
        drop(turn);
        assert!(sampling.begin("gates").is_some());
    }
}
