//! A line for a syslog server (RFC 5424).

use std::time::Duration;

use maple_lark_api::AuditOutcome;
use maple_lark_data::status::Status;
use maple_lark_definition::{Channel, Setting, SyslogSettings};
use maple_lark_delivery::{DeliveryError, Severity, SyslogLine, send_line};
use maple_lark_sources::Reader;
use maple_lark_store::{audit::Entry, deliveries::Delivery, notices::Notice};

use super::{ChannelDriver, ChannelError, Place, refused};
use crate::engine::{
    deliver::{Deliverer, failure::Failure, opened::opened},
    shared::Shared,
};

/// A channel of this kind with its settings.
pub struct Syslog<'a> {
    pub channel: &'a Channel,
    pub settings: &'a SyslogSettings,
}

impl Syslog<'_> {
    /// Sends a line to where this channel's lines go.
    async fn line(&self, shared: &Shared, line: SyslogLine) -> Result<String, DeliveryError> {
        let (channel, settings) = (self.channel, self.settings);
        let address = syslog_address(&shared.reader, &settings.address)
            .await
            .map_err(|error| refused(channel, error))?;
        let patience = Duration::from_secs(channel.timeout_seconds);
        send_line(&address, settings.tcp, patience, &line).await
    }

    /// Hands on an entry of the audit trail.
    pub async fn entry(&self, shared: &Shared, entry: &Entry) -> Result<(), DeliveryError> {
        let line = SyslogLine {
            facility: self.settings.facility,
            severity: match *entry.outcome {
                AuditOutcome::Done => Severity::Informational,
                AuditOutcome::Refused | AuditOutcome::Failed => Severity::Warning,
            },
            at: entry.at,
            host: public_host(shared),
            message_id: "audit".to_owned(),
            data: vec![
                ("id", entry.id.to_string()),
                ("user", entry.actor.clone().unwrap_or_default()),
                ("address", entry.address.clone().unwrap_or_default()),
                ("action", entry.action.clone()),
                ("subject", entry.subject.clone()),
                ("outcome", entry.outcome.to_string()),
                ("sha256", entry.sha256.clone()),
            ],
            text: said(entry),
        };
        self.line(shared, line).await.map(drop)
    }
}

#[rocket::async_trait]
impl ChannelDriver for Syslog<'_> {
    async fn send(&self, deliverer: &Deliverer, delivery: &Delivery) -> Result<String, Failure> {
        let (shared, settings) = (&*deliverer.shared, self.settings);
        let run = opened(shared, delivery).await?;
        let document = &run.document;
        let severity = match document.summary.status {
            Status::Critical => Severity::Error,
            Status::Warning => Severity::Warning,
            _ => Severity::Informational,
        };
        let line = SyslogLine {
            facility: settings.facility,
            severity,
            at: delivery.created_at,
            host: public_host(shared),
            message_id: "report".to_owned(),
            data: vec![
                ("report", run.run.report.clone()),
                ("run", delivery.run_id.to_string()),
                ("audience", delivery.audience.clone()),
                ("window", document.front.window_machine.clone()),
                ("status", document.summary.status.word().to_lowercase()),
            ],
            text: format!(
                "{}, {}: {}",
                document.title, document.front.window_label, document.summary.headline
            ),
        };
        Ok(self.line(shared, line).await?)
    }

    async fn notify(
        &self,
        shared: &Shared,
        notice: &Notice,
        words: &str,
    ) -> Result<(), DeliveryError> {
        let line = SyslogLine {
            facility: self.settings.facility,
            severity: if notice.kind.is_good() {
                Severity::Informational
            } else {
                Severity::Error
            },
            at: notice.created_at,
            host: public_host(shared),
            message_id: "notice".to_owned(),
            data: vec![
                ("subject", notice.subject.clone()),
                ("notice", words.to_owned()),
            ],
            text: notice.text.replace('\n', " "),
        };
        self.line(shared, line).await.map(drop)
    }

    async fn test(&self, shared: &Shared) -> Result<String, ChannelError> {
        let (channel, settings) = (self.channel, self.settings);
        let address = syslog_address(&shared.reader, &settings.address).await?;
        let line = SyslogLine {
            facility: settings.facility,
            severity: Severity::Informational,
            at: shared.now(),
            host: "-".to_owned(),
            message_id: "test".to_owned(),
            data: Vec::new(),
            text: "A test line from Maple Lark".to_owned(),
        };
        Ok(send_line(
            &address,
            settings.tcp,
            Duration::from_secs(channel.timeout_seconds),
            &line,
        )
        .await?)
    }
}

/// Where a channel's lines go.
///
/// # Errors
/// In words, what to do where they may not go there.
async fn syslog_address(reader: &Reader, written: &Setting) -> Result<String, ChannelError> {
    let place = Place::of(reader, written).await?;
    // What was looked at is what is connected to. A name that is not known now may be later; the attempt says so.
    let first = place.addresses.first();
    Ok(first.map_or_else(|| place.address.clone(), ToString::to_string))
}

fn public_host(shared: &Shared) -> String {
    shared
        .config
        .public_url
        .split("://")
        .last()
        .unwrap_or_default()
        .split([':', '/'])
        .next()
        .unwrap_or_default()
        .to_owned()
}

/// What an entry is called in words.
fn said(entry: &Entry) -> String {
    let who = entry.actor.as_deref().unwrap_or("nobody signed in");
    let what = maple_lark_api::audited_as(&entry.action).unwrap_or(&entry.action);
    format!("{who} {what}: {} ({})", entry.subject, *entry.outcome)
}
