//! What time it is: the database's clock, which all processes share, or one that a test moves.

use std::{
    sync::{
        Arc, Mutex,
        atomic::{AtomicI64, Ordering},
    },
    time::Instant,
};

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_store::StoreError;

/// A clock that differs by more than this is said to be wrong.
pub const TOLERATED: TimeDelta = TimeDelta::seconds(2);

#[derive(Debug, Clone)]
pub enum Clock {
    /// The database's, kept up between two looks by the time that has passed since the last.
    /// Nothing that happens to this machine's clock moves it.
    Database(Arc<Followed>),
    /// Microseconds since 1970, set by whoever else holds it.
    Simulated(Arc<AtomicI64>),
}

/// The database's clock, as it was when it was looked at last.
#[derive(Debug)]
pub struct Followed {
    seen: Mutex<(DateTime<Utc>, Instant)>,
    /// How much this machine's clock is ahead of it, in milliseconds.
    ahead: AtomicI64,
}

impl Clock {
    /// A clock that goes by this machine's until the database is asked.
    pub fn of_the_database() -> Self {
        Self::Database(Arc::new(Followed {
            seen: Mutex::new((Utc::now(), Instant::now())),
            ahead: AtomicI64::new(0),
        }))
    }

    pub fn now(&self) -> DateTime<Utc> {
        match self {
            Clock::Database(followed) => followed.now(),
            // Whoever sets it stays within chrono's range of years.
            Clock::Simulated(microseconds) => {
                DateTime::from_timestamp_micros(microseconds.load(Ordering::Acquire))
                    .unwrap_or_default()
            }
        }
    }

    /// What is wrong with this machine's clock, in words; nothing if it tells the same time as
    /// the database's.
    pub fn difference(&self) -> Option<String> {
        let Clock::Database(followed) = self else {
            return None;
        };
        let ahead = TimeDelta::milliseconds(followed.ahead.load(Ordering::Relaxed));
        (ahead.abs() > TOLERATED).then(|| {
            let way = if ahead > TimeDelta::zero() {
                "ahead of"
            } else {
                "behind"
            };
            format!(
                "this machine's clock is {} s {way} the database's. The service goes by the database's clock; set this machine's right",
                (ahead.abs() + TimeDelta::milliseconds(500)).num_seconds()
            )
        })
    }
}

impl Followed {
    fn now(&self) -> DateTime<Utc> {
        let (at, since) = *self.lock();
        at + TimeDelta::from_std(since.elapsed()).unwrap_or_default()
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, (DateTime<Utc>, Instant)> {
        self.seen
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner())
    }

    /// Goes on from what the database said, `asked` having been the moment before. Answers by
    /// how much it has jumped.
    fn follow(&self, said: DateTime<Utc>, asked: Instant) -> TimeDelta {
        let half = TimeDelta::from_std(asked.elapsed() / 2).unwrap_or_default();
        let (expected, now) = (self.now(), said + half);
        *self.lock() = (now, Instant::now());
        let ahead = Utc::now() - now;
        self.ahead
            .store(ahead.num_milliseconds(), Ordering::Relaxed);
        now - expected
    }
}

/// Asks the database for its time once; answers by how much the clock has jumped.
///
/// # Errors
/// If the database cannot be used.
pub async fn look(clock: &Clock, store: &maple_lark_store::Store) -> Result<TimeDelta, StoreError> {
    let Clock::Database(followed) = clock else {
        return Ok(TimeDelta::zero());
    };
    let asked = Instant::now();
    let said = store.time().await?;
    Ok(followed.follow(said, asked))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_database_s_clock_is_followed_and_a_difference_said() {
        let clock = Clock::of_the_database();
        let Clock::Database(followed) = &clock else {
            unreachable!()
        };
        assert_eq!(clock.difference(), None);
        let right = Utc::now() - TimeDelta::hours(1);
        let jump = followed.follow(right, Instant::now());
        assert!((jump + TimeDelta::hours(1)).abs() < TimeDelta::seconds(1));
        assert!((clock.now() - right).abs() < TimeDelta::seconds(1));
        let said = clock.difference().unwrap();
        assert!(
            said.starts_with("this machine's clock is 3600 s ahead of the database's"),
            "{said}"
        );
        followed.follow(Utc::now() + TimeDelta::seconds(90), Instant::now());
        assert!(clock.difference().unwrap().contains("s behind"));
        followed.follow(Utc::now() + TimeDelta::seconds(1), Instant::now());
        assert_eq!(clock.difference(), None);
    }
}
