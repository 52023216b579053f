//! The outbox and what carries its deliveries.

mod attempts;
mod channel;
mod failure;
mod message;
mod opened;
mod outbox;

use std::{
    collections::HashMap,
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};

pub use channel::{ChannelError, driver, mail::mail_server_of, syslog::Syslog};
pub use message::{plain_message, templates_of, test_message};
pub use outbox::watch_the_outbox;

use super::{limits::ConcurrencyLimits, shared::Shared};

/// What deliveries of one process share.
pub struct Deliverer {
    shared: Arc<Shared>,
    /// How many deliveries each channel has in its hands.
    channel_limits: ConcurrencyLimits,
    sessions: channel::mail::Sessions,
    messages: message::Prepared,
    attempts: attempts::AttemptWriter,
    /// When it was looked last whether something waits for each channel to work again.
    hurried: Mutex<HashMap<String, Instant>>,
}

/// So often it is looked whether something waits for a channel that works.
const HURRY_EVERY: Duration = Duration::from_secs(2);

impl Deliverer {
    fn new(shared: Arc<Shared>) -> Self {
        Self {
            shared,
            channel_limits: ConcurrencyLimits::default(),
            sessions: channel::mail::Sessions::default(),
            messages: message::Prepared::default(),
            attempts: attempts::AttemptWriter::default(),
            hurried: Mutex::default(),
        }
    }

    /// A delivery has got through on a channel: those that wait for it to work are tried now.
    async fn works(&self, via: &str) {
        {
            let mut hurried = self
                .hurried
                .lock()
                .unwrap_or_else(|poisoned| poisoned.into_inner());
            let last = hurried.get(via).map(Instant::elapsed);
            if last.is_some_and(|last| last < HURRY_EVERY) {
                return;
            }
            hurried.insert(via.to_owned(), Instant::now());
        }
        match self.shared.store.hurry(via, self.shared.now()).await {
            Ok(0) => {}
            Ok(count) => {
                tracing::info!(channel = via, count, "the channel works again");
                self.shared.wake.notify_waiters();
            }
            // They are tried at their own time.
            Err(error) => tracing::warn!(%error, "deliveries could not be hurried"),
        }
    }
}
