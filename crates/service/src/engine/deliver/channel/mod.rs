//! What each kind of channel does, one file a kind, behind one trait: the outbox knows no kinds.

mod facts;
pub mod folder;
pub mod mail;
pub mod object_storage;
pub mod program;
pub mod sftp;
pub mod snmp;
pub mod syslog;
pub mod upload;
mod web;
pub mod webhook;

use std::net::SocketAddr;

use maple_lark_definition::{Channel, ChannelKind, Setting, split_address};
use maple_lark_delivery::{BadDkimKey, DeliveryError};
use maple_lark_sources::{KeyError, NoClient, Reader, SettingError};
use maple_lark_store::{deliveries::Delivery, notices::Notice};

use super::{Deliverer, failure::Failure};
use crate::engine::shared::Shared;

/// What a channel can do.
#[rocket::async_trait]
pub trait ChannelDriver: Send + Sync {
    /// Carries a delivery and answers with the words of the other side.
    async fn send(&self, deliverer: &Deliverer, delivery: &Delivery) -> Result<String, Failure>;

    /// Hands over a notice to owners. Not every kind takes them.
    async fn notify(
        &self,
        shared: &Shared,
        notice: &Notice,
        words: &str,
    ) -> Result<(), DeliveryError> {
        let _ = (shared, words);
        Err(DeliveryError::Refused {
            server: notice.recipient.clone().unwrap_or_default(),
            words: "notices go to mail addresses and to channels of kind webhook, syslog and snmp"
                .to_owned(),
        })
    }

    /// Sends something that shows that the channel works and is marked as a test. Answers in
    /// words, as the other side does.
    async fn test(&self, shared: &Shared) -> Result<String, ChannelError>;
}

/// What carries deliveries by a channel.
pub fn driver(channel: &Channel) -> Box<dyn ChannelDriver + '_> {
    match &channel.kind {
        ChannelKind::MailServer(_) => Box::new(mail::Mail {
            channel: Some(channel),
        }),
        ChannelKind::Folder(settings) => Box::new(folder::Folder { channel, settings }),
        ChannelKind::Upload(settings) => Box::new(upload::Upload { channel, settings }),
        ChannelKind::ObjectStorage(settings) => {
            Box::new(object_storage::ObjectStorage { channel, settings })
        }
        ChannelKind::Webhook(settings) => Box::new(webhook::Webhook { channel, settings }),
        ChannelKind::Syslog(settings) => Box::new(syslog::Syslog { channel, settings }),
        ChannelKind::Program(settings) => Box::new(program::Program { channel, settings }),
        ChannelKind::Sftp(settings) => Box::new(sftp::Sftp { channel, settings }),
        ChannelKind::Snmp(settings) => Box::new(snmp::Snmp { channel, settings }),
    }
}

/// Why a channel cannot be used, apart from what its other side says.
#[derive(Debug, thiserror::Error)]
pub enum ChannelError {
    #[error(transparent)]
    Setting(#[from] SettingError),
    #[error(transparent)]
    Key(#[from] KeyError),
    #[error(
        "{0} is not a folder that documents may go into; an administrator can allow it in the configuration: deliver-into = [\"{0}\"]"
    )]
    FolderNotAllowed(String),
    #[error("{folder}: {error}")]
    Folder {
        folder: String,
        #[source]
        error: std::io::Error,
    },
    #[error(
        "there is no program \"{0}\" in the configuration; an administrator can add it there, under [programs]"
    )]
    NoProgram(String),
    #[error("{0} is not host:port")]
    NotAnAddress(String),
    #[error(
        "{address} may not be reached: {reason}; an administrator can allow it under sources-may-reach"
    )]
    OutOfBounds {
        address: String,
        reason: &'static str,
    },
    #[error("{setting} {path} cannot be read: {error}")]
    File {
        setting: &'static str,
        path: String,
        #[source]
        error: std::io::Error,
    },
    #[error("dkim.key: {0}")]
    DkimKey(#[from] BadDkimKey),
    #[error("the channel \"{name}\" is of kind \"{kind}\" and no mail server")]
    NoMailServer { name: String, kind: &'static str },
    #[error(
        "no mail server is configured; add [mail] to the configuration of the service, or a channel of kind \"mail-server\" and name it under [deliver]"
    )]
    NoMail,
    #[error("a mail server is tested with a mail: say to whom")]
    NeedsRecipient,
    #[error(transparent)]
    Delivery(#[from] DeliveryError),
}

/// A delivery that fails because its channel cannot be used.
fn refused(channel: &Channel, error: impl std::fmt::Display) -> DeliveryError {
    DeliveryError::Refused {
        server: format!("the channel \"{}\"", channel.name),
        words: error.to_string(),
    }
}

/// Where a channel's server is, if that may be reached.
struct Place {
    /// `host:port`, as it is told.
    address: String,
    host: String,
    /// What it leads to; nothing if its name is not known now.
    addresses: Vec<SocketAddr>,
}

impl Place {
    /// # Errors
    /// In words, what to do where it may not.
    async fn of(reader: &Reader, written: &Setting) -> Result<Self, ChannelError> {
        let address = reader.setting(written).await?;
        let (host, port) =
            split_address(&address).ok_or_else(|| ChannelError::NotAnAddress(address.clone()))?;
        let addresses = match reader.addresses(host, port).await {
            Err(NoClient::OutOfBounds(reason)) => {
                return Err(ChannelError::OutOfBounds { address, reason });
            }
            found => found.unwrap_or_default(),
        };
        let host = host.to_owned();
        Ok(Self {
            address,
            host,
            addresses,
        })
    }
}
