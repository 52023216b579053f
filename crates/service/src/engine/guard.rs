//! Work that must not take its worker down: a panic becomes an error in words, and what has to
//! go on for as long as the engine does is begun again.

use std::{
    collections::BTreeMap,
    panic::AssertUnwindSafe,
    sync::{Arc, Mutex},
    time::Duration,
};

use futures::FutureExt;
use maple_lark_data::stop::{self, Stop, StopWhenDropped, Stopped};
use tokio::sync::Semaphore;

/// So long a part of the engine rests before it is begun again.
const REST: Duration = Duration::from_secs(1);

/// Work that ended where it should not have: a fault of this program. What it said is in the
/// log alone, since it may name values.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("it ended unexpectedly; this is a fault of Maple Lark, whose log says more")]
pub struct Panicked;

/// Does work; a panic in it is answered as an error.
///
/// What the work has in its hands when it panics is dropped; what it shares with others is behind
/// locks, which take a poisoned value as it is.
pub async fn guarded<T>(work: impl Future<Output = T>) -> Result<T, Panicked> {
    AssertUnwindSafe(work)
        .catch_unwind()
        .await
        .map_err(|_| Panicked)
}

/// Which parts of the engine are down at this moment, and how many workers of each.
#[derive(Debug, Default)]
pub struct Parts(Mutex<BTreeMap<&'static str, usize>>);

impl Parts {
    /// Their names; none if all is well.
    pub fn down(&self) -> Vec<&'static str> {
        self.lock().keys().copied().collect()
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, BTreeMap<&'static str, usize>> {
        self.0
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner())
    }

    /// Keeps a part going until it ends by itself, which it does when the engine stops.
    pub async fn keep_up<F: Future<Output = ()>>(&self, name: &'static str, part: impl Fn() -> F) {
        while let Err(error) = guarded(part()).await {
            tracing::error!(part = name, %error, "a part of the engine is begun again");
            self.fell(name);
            tokio::time::sleep(REST).await;
            self.rose(name);
        }
    }

    fn fell(&self, name: &'static str) {
        *self.lock().entry(name).or_default() += 1;
    }

    fn rose(&self, name: &'static str) {
        let mut down = self.lock();
        let left = down.remove(name).unwrap_or_default().saturating_sub(1);
        if left > 0 {
            down.insert(name, left);
        }
    }
}

/// So long something is computed for somebody who waits for it.
pub const LONGEST_LOOK: Duration = Duration::from_secs(60);

/// Why there is no answer for somebody who waited for it.
#[derive(Debug, thiserror::Error)]
pub enum NotComputed {
    #[error("the calculation took longer than {} s; narrow the window, or ask for fewer rows", LONGEST_LOOK.as_secs())]
    TooLong,
    #[error(transparent)]
    Ended(#[from] Panicked),
}

/// Threads for computing: as many at a time as there are processors, apart from those that
/// answer requests and renew leases. Those of runs and those of people who look are apart, too.
#[derive(Debug)]
pub struct Computing(Arc<Semaphore>);

impl Default for Computing {
    fn default() -> Self {
        let processors = std::thread::available_parallelism().map_or(2, usize::from);
        Self(Arc::new(Semaphore::new(processors)))
    }
}

impl Computing {
    /// Does heavy work when it is its turn. Who lets go of the answer ends the work: at a
    /// deadline, when a run is cancelled, when the service stops. Its turn ends with it.
    ///
    /// # Errors
    /// If it panics.
    pub async fn run<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, Panicked> {
        // Never closed: it lives as long as the engine.
        let turn = self.0.clone().acquire_owned().await;
        let stop = Stop::default();
        let _stop = StopWhenDropped(stop.clone());
        let work = move || {
            let _turn = turn;
            stop::under(&stop, work)
        };
        match tokio::task::spawn_blocking(work).await {
            Ok(Ok(done)) => Ok(done),
            Ok(Err(Stopped)) | Err(_) => Err(Panicked),
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};

    use super::*;

    #[tokio::test]
    async fn a_panic_is_an_error_that_keeps_its_words_to_the_log() {
        assert_eq!(guarded(async { 3 }).await, Ok(3));
        let error = guarded(async { panic!("the value {}", "hunter2") }).await;
        let error: Panicked = error.map(|()| 0).unwrap_err();
        assert!(!error.to_string().contains("hunter2"), "{error}");
        let error = Computing::default().run(|| panic!("deep")).await;
        assert_eq!(error.map(|()| 0), Err(Panicked));
    }

    #[tokio::test]
    async fn a_part_that_panics_is_down_for_a_moment_and_then_begun_again() {
        let parts = Arc::new(Parts::default());
        let begun = Arc::new(AtomicUsize::new(0));
        let counting = begun.clone();
        let kept = parts.clone();
        let task = tokio::spawn(async move {
            let part = || async {
                assert!(counting.fetch_add(1, Ordering::SeqCst) > 1, "too early");
            };
            kept.keep_up("clock", part).await;
        });
        while parts.down().is_empty() {
            tokio::task::yield_now().await;
        }
        assert_eq!(parts.down(), ["clock"]);
        task.await.unwrap();
        assert_eq!((begun.load(Ordering::SeqCst), parts.down().len()), (3, 0));
    }

    #[test]
    fn a_part_of_many_workers_is_down_until_all_of_them_are_up() {
        let parts = Parts::default();
        parts.fell("runs");
        parts.fell("runs");
        parts.rose("runs");
        assert_eq!(parts.down(), ["runs"]);
        parts.rose("runs");
        assert!(parts.down().is_empty());
    }

    #[tokio::test(flavor = "multi_thread", worker_threads = 1)]
    async fn computing_leaves_the_async_threads_free() {
        let computing = Computing::default();
        let (tell, told) = std::sync::mpsc::channel::<()>();
        // Waits for what only an async thread can say.
        let computed = computing.run(move || told.recv());
        let free = async {
            tokio::task::yield_now().await;
            tell.send(()).unwrap();
        };
        let (computed, ()) = tokio::join!(computed, free);
        assert_eq!(computed.unwrap(), Ok(()));
    }

    #[tokio::test(flavor = "multi_thread", worker_threads = 1)]
    async fn what_nobody_waits_for_ends_and_gives_its_turn_back() {
        let computing = Computing(Arc::new(Semaphore::new(1)));
        let (tell, told) = std::sync::mpsc::channel();
        let endless = computing.run(move || {
            tell.send(()).unwrap();
            loop {
                stop::check();
            }
        });
        let begun = tokio::task::spawn_blocking(move || told.recv());
        tokio::select! {
            _ = endless => unreachable!("it has no end"),
            begun = begun => begun.unwrap().unwrap(),
        }
        assert_eq!(computing.run(|| "next").await, Ok("next"));
    }
}
