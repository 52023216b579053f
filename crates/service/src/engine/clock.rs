//! What time it is: the system's clock, or one that a test moves.

use std::sync::{
    Arc,
    atomic::{AtomicI64, Ordering},
};

use chrono::{DateTime, Utc};

#[derive(Debug, Clone, Default)]
pub enum Clock {
    #[default]
    System,
    /// Microseconds since 1970, set by whoever else holds it.
    Simulated(Arc<AtomicI64>),
}

impl Clock {
    pub fn now(&self) -> DateTime<Utc> {
        match self {
            Clock::System => Utc::now(),
            // Whoever sets it stays within chrono's range of years.
            Clock::Simulated(microseconds) => {
                DateTime::from_timestamp_micros(microseconds.load(Ordering::Acquire))
                    .unwrap_or_default()
            }
        }
    }
}
