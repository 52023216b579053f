//! `[deliver]` and `[approval]` in a report: in what form its mails go out, and who approves them.

use crate::{model::format::Format, problem::Placed};

/// In what form a report's mails go out.
#[derive(Debug, Clone, PartialEq)]
pub struct Deliver {
    /// A channel of kind mail-server; the service's own if nothing is said.
    pub mail_server: Option<Placed<String>>,
    /// The formats that are attached; all that are made if nothing is said.
    pub attach: Option<Vec<Format>>,
    /// What the message itself shows.
    pub body: MailContent,
    /// Whether it holds a link to the documents.
    pub link: Link,
    /// Past so many bytes, counted as encoded, a link goes instead of attachments.
    pub max_size: u64,
    /// For how many seconds a delivery is tried again.
    pub retry_for_seconds: Option<u64>,
    /// Recipients may take themselves off (RFC 8058).
    pub unsubscribe: bool,
    /// So many seconds after its instant an undelivered run is late.
    pub late_after_seconds: u64,
}

impl Default for Deliver {
    fn default() -> Self {
        Self {
            mail_server: None,
            attach: None,
            body: MailContent::Summary,
            link: Link::Console,
            max_size: 20_000_000,
            retry_for_seconds: None,
            unsubscribe: false,
            late_after_seconds: 3600,
        }
    }
}

/// What a message shows of its report.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MailContent {
    /// The first figures and the first chart.
    Summary,
    /// The whole report.
    Full,
    /// The author's message alone.
    Text,
}

/// Whether a message holds a link to its documents.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Link {
    /// It holds none.
    None,
    /// To the run in the console, for those who may sign in.
    Console,
    /// Opens the documents of this run for whoever has it, for so many seconds.
    Signed {
        /// How many seconds the link is good for.
        valid_seconds: u64,
    },
}

/// Somebody approves a run before it is sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Approval {
    /// How long it waits for that, in seconds.
    pub deadline_seconds: u64,
    /// Whether it goes out unseen at the deadline; it is cancelled if not.
    pub then_send: bool,
}
