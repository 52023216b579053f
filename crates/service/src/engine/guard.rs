//! Work that must not take its worker down: a panic becomes an error in words, and what has to
//! go on for as long as the engine does is begun again.

use std::{collections::BTreeSet, panic::AssertUnwindSafe, sync::Mutex, time::Duration};

use futures::FutureExt;
use tokio::{sync::Semaphore, task::JoinError};

/// So long a part of the engine rests before it is begun again.
const REST: Duration = Duration::from_secs(1);

/// Work that ended where it should not have: a fault of this program.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("it ended unexpectedly ({0}); this is a fault of Maple Lark, whose log says more")]
pub struct Panicked(String);

impl Panicked {
    fn of(payload: &(dyn std::any::Any + Send)) -> Self {
        let words = payload
            .downcast_ref::<String>()
            .map(String::as_str)
            .or_else(|| payload.downcast_ref::<&str>().copied());
        Self(words.unwrap_or("without words").chars().take(200).collect())
    }
}

impl From<JoinError> for Panicked {
    fn from(error: JoinError) -> Self {
        match error.try_into_panic() {
            Ok(payload) => Self::of(&*payload),
            Err(error) => Self(error.to_string()),
        }
    }
}

/// Does work; a panic in it is answered as an error.
///
/// What the work has in its hands when it panics is dropped; what it shares with others is behind
/// locks, which take a poisoned value as it is.
pub async fn guarded<T>(work: impl Future<Output = T>) -> Result<T, Panicked> {
    AssertUnwindSafe(work)
        .catch_unwind()
        .await
        .map_err(|payload| Panicked::of(&*payload))
}

/// Which parts of the engine are down at this moment.
#[derive(Debug, Default)]
pub struct Parts(Mutex<BTreeSet<&'static str>>);

impl Parts {
    /// Their names; none if all is well.
    pub fn down(&self) -> Vec<&'static str> {
        self.lock().iter().copied().collect()
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, BTreeSet<&'static str>> {
        self.0
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner())
    }

    /// Keeps a part going until it ends by itself, which it does when the engine stops.
    pub async fn keep_up<F: Future<Output = ()>>(&self, name: &'static str, part: impl Fn() -> F) {
        while let Err(error) = guarded(part()).await {
            tracing::error!(part = name, %error, "a part of the engine is begun again");
            self.lock().insert(name);
            tokio::time::sleep(REST).await;
            self.lock().remove(name);
        }
    }
}

/// Threads for computing: as many at a time as there are processors, apart from those that
/// answer requests and renew leases.
#[derive(Debug)]
pub struct Computing(Semaphore);

impl Default for Computing {
    fn default() -> Self {
        let processors = std::thread::available_parallelism().map_or(2, usize::from);
        Self(Semaphore::new(processors))
    }
}

impl Computing {
    /// Does heavy work when it is its turn.
    ///
    /// # Errors
    /// If it panics.
    pub async fn run<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, Panicked> {
        // Never closed: it lives as long as the engine.
        let _turn = self.0.acquire().await;
        tokio::task::spawn_blocking(work)
            .await
            .map_err(Panicked::from)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    };

    use super::*;

    #[tokio::test]
    async fn a_panic_is_an_error_with_its_words() {
        assert_eq!(guarded(async { 3 }).await, Ok(3));
        let error = guarded(async { panic!("out of {}", "range") }).await;
        let error: Panicked = error.map(|()| 0).unwrap_err();
        assert!(error.to_string().contains("(out of range)"), "{error}");
        let error = Computing::default().run(|| panic!("deep")).await;
        assert!(error.unwrap_err().to_string().contains("(deep)"));
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
}
