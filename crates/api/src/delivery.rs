//! Channels, recipients, messages and notices.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::NoticeKind;

/// A channel that documents are delivered by.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ChannelView {
    pub name: String,
    pub title: String,
    pub file: String,
    /// `mail-server`, `folder`, `upload`, `webhook` or `syslog`.
    pub kind: String,
    /// Where it leads, as the definition writes it; never a secret.
    pub place: String,
    /// The reports that use it.
    pub used_by: Vec<String>,
    /// How many deliveries wait on it.
    pub waiting: i64,
    /// Since when the oldest of them waits.
    pub oldest: Option<DateTime<Utc>>,
}

/// To whom a test mail goes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TestOrder {
    /// A mail address; channels that are no mail server need none.
    pub to: Option<String>,
}

/// How a test of a channel went.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ChannelTest {
    pub works: bool,
    /// Each step up to the first that failed.
    pub steps: Vec<TestStep>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TestStep {
    pub name: String,
    pub works: bool,
    /// In the other side's own words.
    pub words: String,
    /// What to do about it, where it failed.
    pub remedy: Option<String>,
}

/// Everybody who is known by name, and what is known of their addresses.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AddressBook {
    pub people: Vec<PersonView>,
    pub groups: Vec<GroupView>,
    /// Addresses that returned mail.
    pub bounced: Vec<BouncedView>,
    /// Who unsubscribed from which report.
    pub unsubscribes: Vec<UnsubscribeView>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PersonView {
    pub name: String,
    pub title: String,
    pub address: String,
    pub file: String,
    pub time_zone: Option<String>,
    /// How they write numbers and dates, by example.
    pub number_format: Option<String>,
    pub active: bool,
    /// Who they are in the service.
    pub user: Option<String>,
    /// The reports that they get, by themselves or in a group.
    pub reports: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct GroupView {
    pub name: String,
    pub title: String,
    pub file: String,
    pub members: Vec<String>,
    /// Everybody in it, groups opened.
    pub recipients: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BouncedView {
    pub address: String,
    pub hard_bounces: i32,
    pub words: String,
    pub last_at: DateTime<Utc>,
    /// Nothing is sent there since then.
    pub suppressed_at: Option<DateTime<Utc>>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct UnsubscribeView {
    pub report: String,
    pub address: String,
    pub unsubscribed_at: DateTime<Utc>,
}

/// What to send again, to whom.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ResendOrder {
    /// The deliveries to repeat; all of the run if neither these nor other recipients are named.
    #[serde(default)]
    pub deliveries: Vec<Uuid>,
    /// Others who get it this time: mail addresses, people or groups by name, or "me".
    #[serde(default)]
    pub to: Vec<String>,
    /// Whose view those others get; nothing if the run has one alone.
    pub audience: Option<String>,
    /// Stands at the top of each mail.
    pub note: Option<String>,
}

/// Something that owners were told, or will be in a moment.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NoticeView {
    pub kind: NoticeKind,
    /// The report, the source or the address that it is about.
    pub subject: String,
    pub run: Option<Uuid>,
    pub recipient: Option<String>,
    pub text: String,
    pub created_at: DateTime<Utc>,
    pub told_at: Option<DateTime<Utc>>,
}

/// A subject and a message that are not saved yet.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MessageDraft {
    /// That of the message template if there is none, or else the usual one.
    pub subject: Option<String>,
    /// That of the message template if there is none, or else none.
    pub text: Option<String>,
    /// The name of a message template.
    pub template: Option<String>,
    /// `summary`, `full` or `text`.
    pub body: Option<String>,
}

/// A message with the values of the report's latest run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MessagePreview {
    pub subject: String,
    pub text: String,
    pub html: Option<String>,
    /// Of which run the values are.
    pub run: Uuid,
    pub window: String,
    /// The key figures that a message can name, with their values.
    pub figures: std::collections::BTreeMap<String, String>,
}
