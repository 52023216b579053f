//! Ends a computation that nobody waits for any more.
//!
//! Long loops call [`check`]; once their [`Stop`] is set, it unwinds out of the computation up to
//! [`under`], and what was half made is dropped on the way. Nothing that is computed knows of
//! it, so that no function needs an error for it.

use std::{
    cell::RefCell,
    panic::{AssertUnwindSafe, catch_unwind, resume_unwind},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
};

thread_local! {
    static CURRENT: RefCell<Option<Stop>> = const { RefCell::new(None) };
}

/// Tells a computation to end; clones are the same one.
#[derive(Debug, Clone, Default)]
pub struct Stop(Arc<AtomicBool>);

/// The computation was told to end before it had a result.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("it was stopped")]
pub struct Stopped;

impl Stop {
    /// Ends the computations under it at their next check.
    pub fn stop(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Goes on, or unwinds if the computation is to end. For threads that were given the handle;
    /// elsewhere [`check`] finds it.
    pub fn check(&self) {
        if self.0.load(Ordering::Relaxed) {
            end();
        }
    }
}

/// Ends what is under a [`Stop`] when it is dropped: for whoever waits for the result.
#[derive(Debug)]
pub struct StopWhenDropped(pub Stop);

impl Drop for StopWhenDropped {
    fn drop(&mut self) {
        self.0.stop();
    }
}

/// Computes on this thread, for as long as `stop` is not set.
///
/// # Errors
/// If it was set and a [`check`] has seen it. A panic in the computation goes on.
///
/// ```
/// use maple_lark_data::stop::{self, Stop, Stopped};
///
/// let stop = Stop::default();
/// assert_eq!(stop::under(&stop, || 6 * 7), Ok(42));
/// stop.stop();
/// let endless = || loop {
///     stop::check();
/// };
/// assert_eq!(stop::under(&stop, endless), Err::<(), _>(Stopped));
/// ```
pub fn under<T>(stop: &Stop, work: impl FnOnce() -> T) -> Result<T, Stopped> {
    let outer = CURRENT.replace(Some(stop.clone()));
    let done = catch_unwind(AssertUnwindSafe(work));
    CURRENT.set(outer);
    done.or_else(|payload| {
        if payload.is::<Stopped>() {
            Err(Stopped)
        } else {
            resume_unwind(payload)
        }
    })
}

/// Unwinds up to [`under`]: for what has seen a [`Stop`] on another thread.
pub fn end() -> ! {
    // No panic: no hook is told, and nothing is printed.
    resume_unwind(Box::new(Stopped))
}

/// What the computation on this thread is under; something that is never set if nothing.
#[must_use]
pub fn current() -> Stop {
    CURRENT.with_borrow(|current| current.clone().unwrap_or_default())
}

/// To be called in loops that may be long; costs about as much as reading a flag.
#[inline]
pub fn check() {
    CURRENT.with_borrow(|current| {
        if let Some(stop) = current {
            stop.check();
        }
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_computation_ends_where_it_checks_and_leaves_nothing_behind() {
        let outer = Stop::default();
        let inner = Stop::default();
        inner.stop();
        let held = Arc::new(());
        let done = under(&outer, || {
            let held = held.clone();
            let ended = under(&inner, || {
                let _held = held;
                check();
                "went on"
            });
            // The outer one is not set, and is in force again.
            check();
            ended
        });
        assert_eq!(done, Ok(Err(Stopped)));
        assert_eq!(Arc::strong_count(&held), 1);
        check();
    }

    #[test]
    fn a_panic_is_no_stop() {
        let panicked = catch_unwind(|| under(&Stop::default(), || panic!("deep")));
        assert!(panicked.is_err());
        check();
    }
}
