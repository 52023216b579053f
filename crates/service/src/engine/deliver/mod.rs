//! The outbox and what carries its deliveries.

mod attempts;
mod channel;
mod failure;
mod message;
mod opened;
mod outbox;

use std::sync::Arc;

pub use channel::{ChannelError, driver, mail::mail_server_of};
pub use message::{plain_message, test_message};
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
}

impl Deliverer {
    fn new(shared: Arc<Shared>) -> Self {
        Self {
            shared,
            channel_limits: ConcurrencyLimits::default(),
            sessions: channel::mail::Sessions::default(),
            messages: message::Prepared::default(),
            attempts: attempts::AttemptWriter::default(),
        }
    }
}
