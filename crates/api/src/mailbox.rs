//! The mailbox of the demo.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ReceivedHead {
    pub id: String,
    pub from: String,
    pub to: String,
    pub subject: String,
    pub received_at: Option<DateTime<Utc>>,
    pub size: u64,
    pub attachments: usize,
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ReceivedMessage {
    #[serde(flatten)]
    pub head: ReceivedHead,
    pub message_id: String,
    pub text: String,
    /// Names of the attached files, in order; `/demo/mailbox/{id}/files/{index}` has them.
    pub files: Vec<String>,
}
