//! Carries documents to recipients. It knows messages, mail servers, folders and web hooks, not
//! runs or reports; when to try again is decided by whoever asks, from
//! [`DeliveryError::is_temporary`].

mod bounce;
mod folder;
mod http;
mod message;
mod object_storage;
mod program;
mod smtp;
mod snmp;
mod syslog;
mod unanswered;

pub use bounce::{Bounce, read_bounce};
pub use folder::{is_within, remove_files, write_files};
pub use http::{HttpTarget, SignedIn, post_message, put_files};
pub use message::{Attachment, BadDkimKey, DkimKey, ListHeaders, Message};
pub use object_storage::{BadStorage, Bucket, ObjectStorage};
pub use program::{HandedOver, Program, run_program};
pub use smtp::{MailServer, MailSession, MailSignIn, Probe, ProbeStep};
pub use snmp::{
    SnmpNotification, SnmpReceiver, SnmpSender, SnmpValue, engine_id, send_notification,
};
pub use syslog::{Severity, SyslogLine, send_line};
pub use unanswered::SnmpProof;

/// Why something did not go out, in the other side's own words where it spoke.
#[derive(Debug, thiserror::Error)]
pub enum DeliveryError {
    #[error("{server} cannot be reached: {words}")]
    Unreachable { server: String, words: String },
    #[error("{server} refused for now: {words}")]
    Postponed { server: String, words: String },
    #[error("{server} refused: {words}")]
    Refused { server: String, words: String },
    /// It was handed over, but the confirmation never came.
    #[error(
        "{server} was given the message, but the connection was lost before it confirmed: {words}"
    )]
    Unconfirmed { server: String, words: String },
    #[error("the message cannot be made: {words}")]
    Message { words: String },
}

impl DeliveryError {
    /// Whether the same thing may well be taken later.
    pub fn is_temporary(&self) -> bool {
        matches!(
            self,
            Self::Unreachable { .. } | Self::Postponed { .. } | Self::Unconfirmed { .. }
        )
    }
}
