//! A line for a syslog server (RFC 5424).

use std::time::Duration;

use maple_lark_data::status::Status;
use maple_lark_definition::{Channel, Setting, SyslogSettings, split_address};
use maple_lark_delivery::{DeliveryError, Severity, SyslogLine, send_line};
use maple_lark_sources::{NoClient, Reader};
use maple_lark_store::{deliveries::Delivery, notices::Notice};

use super::{ChannelDriver, ChannelError, refused};
use crate::engine::{
    deliver::{Deliverer, failure::Failure, opened::opened},
    shared::Shared,
};

/// A channel of this kind with its settings.
pub struct Syslog<'a> {
    pub channel: &'a Channel,
    pub settings: &'a SyslogSettings,
}

#[rocket::async_trait]
impl ChannelDriver for Syslog<'_> {
    async fn send(&self, deliverer: &Deliverer, delivery: &Delivery) -> Result<String, Failure> {
        let (shared, channel, settings) = (&*deliverer.shared, self.channel, self.settings);
        let address = syslog_address(&shared.reader, &settings.address)
            .await
            .map_err(|error| refused(channel, error))?;
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
        Ok(send_line(
            &address,
            settings.tcp,
            Duration::from_secs(channel.timeout_seconds),
            &line,
        )
        .await?)
    }

    async fn notify(
        &self,
        shared: &Shared,
        notice: &Notice,
        words: &str,
    ) -> Result<(), DeliveryError> {
        let (channel, settings) = (self.channel, self.settings);
        let address = syslog_address(&shared.reader, &settings.address)
            .await
            .map_err(|error| refused(channel, error))?;
        let line = SyslogLine {
            facility: settings.facility,
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
        send_line(
            &address,
            settings.tcp,
            Duration::from_secs(channel.timeout_seconds),
            &line,
        )
        .await
        .map(drop)
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

/// Where a channel's lines go, if that may be reached.
///
/// # Errors
/// In words, what to do where it may not.
async fn syslog_address(reader: &Reader, written: &Setting) -> Result<String, ChannelError> {
    let address = reader.setting(written).await?;
    let (host, port) =
        split_address(&address).ok_or_else(|| ChannelError::NotAnAddress(address.clone()))?;
    match reader.addresses(host, port).await {
        Err(NoClient::OutOfBounds(reason)) => Err(ChannelError::OutOfBounds { address, reason }),
        // What was looked at is what is connected to.
        Ok(found) if !found.is_empty() => Ok(found[0].to_string()),
        // A name that is not known now may be later; the attempt says so.
        _ => Ok(address),
    }
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
