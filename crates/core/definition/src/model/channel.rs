//! What a channel definition holds: a way for documents to leave, never a secret.

use crate::{
    model::{http::Web, mailbox::Mailbox, setting::Setting, template::Template},
    problem::Place,
};

/// A mail server, or another way than mail.
#[derive(Debug, Clone, PartialEq)]
pub struct Channel {
    pub name: String,
    pub title: String,
    pub kind: ChannelKind,
    /// How many deliveries one service process has under way on it.
    pub max_concurrency: usize,
    /// How many deliveries begin in a minute at most, all processes together.
    pub rate_per_minute: Option<u32>,
    pub timeout_seconds: u64,
    pub place: Place,
}

#[derive(Debug, Clone, PartialEq)]
pub enum ChannelKind {
    MailServer(Box<MailServerSettings>),
    Folder(FolderSettings),
    /// HTTP PUT, as WebDAV servers and object stores take it (RFC 9110, RFC 4918).
    Upload(UploadSettings),
    Webhook(WebhookSettings),
    Syslog(SyslogSettings),
}

impl ChannelKind {
    pub const NAMES: [&str; 5] = ["mail-server", "folder", "upload", "webhook", "syslog"];

    pub fn name(&self) -> &'static str {
        match self {
            ChannelKind::MailServer(_) => "mail-server",
            ChannelKind::Folder(_) => "folder",
            ChannelKind::Upload(_) => "upload",
            ChannelKind::Webhook(_) => "webhook",
            ChannelKind::Syslog(_) => "syslog",
        }
    }

    /// Where it leads, as written: references are shown, not what they refer to.
    pub fn place(&self) -> String {
        match self {
            ChannelKind::MailServer(server) => format!("{}:{}", server.host.written(), server.port),
            ChannelKind::Folder(folder) => folder.folder.clone(),
            ChannelKind::Upload(upload) => upload.web.url.written(),
            // Whoever knows the address of a webhook may post there.
            ChannelKind::Webhook(webhook) => host_of(&webhook.web.url.written()),
            ChannelKind::Syslog(syslog) => syslog.address.written(),
        }
    }
}

fn host_of(url: &str) -> String {
    match url.split_once("://") {
        Some((scheme, rest)) => format!("{scheme}://{}/…", rest.split('/').next().unwrap_or(rest)),
        None => url.to_owned(),
    }
}

#[derive(Debug, Clone, PartialEq)]
pub struct MailServerSettings {
    pub host: Setting,
    pub port: u16,
    pub tls: MailTls,
    /// Certificates (PEM) to trust beside the machine's own.
    pub ca_file: Option<String>,
    pub sign_in: Option<MailSignIn>,
    pub from: Mailbox,
    pub reply_to: Option<Mailbox>,
    /// Where bounces go (the envelope's sender); `from` if nothing is said.
    pub bounces: Option<Mailbox>,
    pub dkim: Option<Dkim>,
    /// The max_size message it takes, in bytes, if it does not say so itself.
    pub max_size: Option<u64>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MailTls {
    Off,
    /// STARTTLS, and nothing is sent without it.
    StartTls,
    /// TLS from the first byte.
    Tls,
}

#[derive(Debug, Clone, PartialEq)]
pub enum MailSignIn {
    /// PLAIN or LOGIN, whichever the server offers.
    Password { user: Setting, password: Setting },
    /// XOAUTH2; a token in a file is read anew for every connection.
    Token { user: Setting, token: Setting },
}

/// Signs messages as RFC 6376 says.
#[derive(Debug, Clone, PartialEq)]
pub struct Dkim {
    pub domain: String,
    pub selector: String,
    /// An RSA key in PEM.
    pub key: Setting,
}

#[derive(Debug, Clone, PartialEq)]
pub struct FolderSettings {
    pub folder: String,
    /// Files of how many runs of one report and audience are kept; all if nothing is said.
    pub keep: Option<u32>,
}

#[derive(Debug, Clone, PartialEq)]
pub struct UploadSettings {
    pub web: Web,
}

#[derive(Debug, Clone, PartialEq)]
pub struct WebhookSettings {
    pub web: Web,
    /// Signs each message with HMAC-SHA-256.
    pub key: Option<Setting>,
    /// For chat systems: sent as `{"text": …}` instead of the whole message.
    pub text: Option<Template>,
}

#[derive(Debug, Clone, PartialEq)]
pub struct SyslogSettings {
    /// `host:port`.
    pub address: Setting,
    pub tcp: bool,
    /// 0 to 23 (RFC 5424).
    pub facility: u8,
}
