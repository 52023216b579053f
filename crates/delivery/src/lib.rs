//! Carries documents to recipients. It knows letters and mail servers, not runs or reports;
//! when to try again is decided by whoever asks, from [`DeliveryError::is_temporary`].

mod letter;
mod smtp;

pub use letter::{Attachment, Letter};
pub use smtp::{MailServer, MailTls, send};

/// Why a letter did not go out, in the server's own words where it spoke.
#[derive(Debug, thiserror::Error)]
pub enum DeliveryError {
    #[error("the mail server {server} cannot be reached: {words}")]
    Unreachable { server: String, words: String },
    #[error("the mail server {server} refused for now: {words}")]
    Postponed { server: String, words: String },
    #[error("the mail server {server} refused: {words}")]
    Refused { server: String, words: String },
    #[error("the message cannot be made: {words}")]
    Message { words: String },
}

impl DeliveryError {
    /// Whether the same letter may well be taken later.
    pub fn is_temporary(&self) -> bool {
        matches!(self, Self::Unreachable { .. } | Self::Postponed { .. })
    }
}
