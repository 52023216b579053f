//! What a channel definition holds: a way for documents to leave, never a secret.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::{
    model::{
        http::Web, mailbox::Mailbox, query::placeholder::JsonTemplate, setting::Setting,
        sftp::SftpServer, snmp::SnmpSignIn, template::Template,
    },
    problem::{Place, Placed},
};

/// A mail server, or another way than mail.
#[derive(Debug, Clone, PartialEq)]
pub struct Channel {
    /// Its name, unique among channels.
    pub name: String,
    /// The teams that may use it; all if there are none.
    pub teams: Vec<Placed<String>>,
    /// Its title for people.
    pub title: String,
    /// What it is, and how it is reached.
    pub kind: ChannelKind,
    /// How many deliveries one service process has under way on it.
    pub max_concurrency: usize,
    /// How many deliveries begin in a minute at most, all processes together.
    pub rate_per_minute: Option<u32>,
    /// How many seconds one attempt may take.
    pub timeout_seconds: u64,
    /// Where it was read.
    pub place: Place,
}

/// The kinds of channels.
#[derive(Debug, Clone, PartialEq)]
pub enum ChannelKind {
    /// A mail server.
    MailServer(Box<MailServerSettings>),
    /// A folder of the service's machine.
    Folder(FolderSettings),
    /// HTTP PUT, as WebDAV servers and object stores take it (RFC 9110, RFC 4918).
    Upload(UploadSettings),
    /// A bucket of object storage that is spoken to as S3.
    ObjectStorage(Box<ObjectStorageSettings>),
    /// A request for each delivery to an address on the web.
    Webhook(WebhookSettings),
    /// A line for each delivery in a system log.
    Syslog(SyslogSettings),
    /// A program of the administrator's that carries documents further.
    Program(ProgramSettings),
    /// A folder of another machine, by SFTP.
    Sftp(Box<SftpSettings>),
    /// A notification for each delivery by SNMP.
    Snmp(Box<SnmpSettings>),
}

impl ChannelKind {
    /// The words for the kinds, in definitions.
    pub const NAMES: [&str; 9] = [
        "mail-server",
        "folder",
        "upload",
        "object-storage",
        "webhook",
        "syslog",
        "program",
        "sftp",
        "snmp",
    ];

    /// The word for this kind, in definitions.
    #[must_use]
    pub fn name(&self) -> &'static str {
        match self {
            ChannelKind::MailServer(_) => "mail-server",
            _ => self.travels().name(),
        }
    }

    /// How a delivery by this kind of channel travels.
    #[must_use]
    pub fn travels(&self) -> ChannelType {
        match self {
            ChannelKind::MailServer(_) => ChannelType::Mail,
            ChannelKind::Folder(_) => ChannelType::Folder,
            ChannelKind::Upload(_) => ChannelType::Upload,
            ChannelKind::ObjectStorage(_) => ChannelType::ObjectStorage,
            ChannelKind::Webhook(_) => ChannelType::Webhook,
            ChannelKind::Syslog(_) => ChannelType::Syslog,
            ChannelKind::Program(_) => ChannelType::Program,
            ChannelKind::Sftp(_) => ChannelType::Sftp,
            ChannelKind::Snmp(_) => ChannelType::Snmp,
        }
    }

    /// Where it leads, as written: references are shown, not what they refer to.
    #[must_use]
    pub fn place(&self) -> String {
        match self {
            ChannelKind::MailServer(server) => format!("{}:{}", server.host.written(), server.port),
            ChannelKind::Folder(folder) => folder.folder.clone(),
            ChannelKind::Upload(upload) => upload.web.url.written(),
            ChannelKind::ObjectStorage(storage) => {
                format!("{} at {}", storage.bucket, storage.url.written())
            }
            // Whoever knows the address of a webhook may post there.
            ChannelKind::Webhook(webhook) => host_of(&webhook.web.url.written()),
            ChannelKind::Syslog(syslog) => syslog.address.written(),
            ChannelKind::Program(program) => program.program.clone(),
            ChannelKind::Sftp(sftp) => sftp.server.place(&sftp.folder),
            ChannelKind::Snmp(snmp) => snmp.address.written(),
        }
    }
}

/// How a delivery travels.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ChannelType {
    /// By a mail server.
    Mail,
    /// Into a folder.
    Folder,
    /// By HTTP PUT.
    Upload,
    /// Into a bucket.
    ObjectStorage,
    /// By a request to a web hook.
    Webhook,
    /// As a line of a system log.
    Syslog,
    /// By a program.
    Program,
    /// By SFTP.
    Sftp,
    /// As an SNMP notification.
    Snmp,
    /// The channel was removed before anything was sent by it.
    Removed,
}

impl ChannelType {
    /// All ways that a delivery travels.
    pub const ALL: [ChannelType; 10] = [
        ChannelType::Mail,
        ChannelType::Folder,
        ChannelType::Upload,
        ChannelType::ObjectStorage,
        ChannelType::Webhook,
        ChannelType::Syslog,
        ChannelType::Program,
        ChannelType::Sftp,
        ChannelType::Snmp,
        ChannelType::Removed,
    ];

    /// Its word, the same in the API, in tables and on the command line.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            ChannelType::Mail => "mail",
            ChannelType::Folder => "folder",
            ChannelType::Upload => "upload",
            ChannelType::ObjectStorage => "object-storage",
            ChannelType::Webhook => "webhook",
            ChannelType::Syslog => "syslog",
            ChannelType::Program => "program",
            ChannelType::Sftp => "sftp",
            ChannelType::Snmp => "snmp",
            ChannelType::Removed => "removed",
        }
    }
}

impl fmt::Display for ChannelType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}

fn host_of(url: &str) -> String {
    match url.split_once("://") {
        Some((scheme, rest)) => format!("{scheme}://{}/…", rest.split('/').next().unwrap_or(rest)),
        None => url.to_owned(),
    }
}

/// A bucket, and as whom it is used.
#[derive(Debug, Clone, PartialEq)]
pub struct ObjectStorageSettings {
    /// The server.
    pub url: Setting,
    /// The region that requests are signed for.
    pub region: String,
    /// The bucket's name.
    pub bucket: String,
    /// What all names in it begin with; may be empty.
    pub prefix: String,
    /// Whether the bucket is part of the server's name and not of the path.
    pub name_in_host: bool,
    /// Whose requests they are.
    pub access_key: Setting,
    /// What they are signed with.
    pub secret_key: Setting,
    /// Certificates (PEM) to trust beside the machine's own.
    pub ca_file: Option<String>,
}

/// A mail server, and who messages are from.
#[derive(Debug, Clone, PartialEq)]
pub struct MailServerSettings {
    /// The server's name or address.
    pub host: Setting,
    /// Its port.
    pub port: u16,
    /// Whether the connection is encrypted.
    pub tls: MailTls,
    /// Certificates (PEM) to trust beside the machine's own.
    pub ca_file: Option<String>,
    /// How the service signs in, if the server wants it.
    pub sign_in: Option<MailSignIn>,
    /// Who messages are from.
    pub from: Mailbox,
    /// Where answers go, if not there.
    pub reply_to: Option<Mailbox>,
    /// Where bounces go (the envelope's sender); `from` if nothing is said.
    pub bounces: Option<Mailbox>,
    /// How messages are signed, if they are.
    pub dkim: Option<Dkim>,
    /// The max_size message it takes, in bytes, if it does not say so itself.
    pub max_size: Option<u64>,
}

/// Whether a connection to a mail server is encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MailTls {
    /// Never.
    Off,
    /// STARTTLS, and nothing is sent without it.
    StartTls,
    /// TLS from the first byte.
    Tls,
}

/// How the service signs in to a mail server.
#[derive(Debug, Clone, PartialEq)]
pub enum MailSignIn {
    /// PLAIN or LOGIN, whichever the server offers.
    Password {
        /// The name.
        user: Setting,
        /// The password.
        password: Setting,
    },
    /// XOAUTH2; a token in a file is read anew for every connection.
    Token {
        /// The name.
        user: Setting,
        /// The token.
        token: Setting,
    },
}

/// Signs messages as RFC 6376 says.
#[derive(Debug, Clone, PartialEq)]
pub struct Dkim {
    /// The domain that signs.
    pub domain: String,
    /// The name under which it publishes the key.
    pub selector: String,
    /// An RSA key in PEM.
    pub key: Setting,
}

/// A folder that documents are written to.
#[derive(Debug, Clone, PartialEq)]
pub struct FolderSettings {
    /// Its path; must lie in one that the configuration allows.
    pub folder: String,
    /// Files of how many runs of one report and audience are kept; all if nothing is said.
    pub keep: Option<u32>,
}

/// An address that documents are sent to by HTTP.
#[derive(Debug, Clone, PartialEq)]
pub struct UploadSettings {
    /// The address, and how the service signs in.
    pub web: Web,
}

/// An address that is told of each delivery.
#[derive(Debug, Clone, PartialEq)]
pub struct WebhookSettings {
    /// The address, and how the service signs in.
    pub web: Web,
    /// Signs each message with HMAC-SHA-256.
    pub key: Option<Setting>,
    /// For chat systems: sent as `{"text": …}` instead of the whole message.
    pub text: Option<Template>,
    /// What is sent instead of that, for those that want another shape, with [`WebhookSettings::NAMES`] in its
    /// texts.
    pub body: Option<JsonTemplate>,
}

impl WebhookSettings {
    /// What may stand in a body.
    pub const NAMES: [&str; 5] = ["text", "title", "status", "report", "url"];
}

/// A system log (RFC 5424) that is told of each delivery.
#[derive(Debug, Clone, PartialEq)]
pub struct SyslogSettings {
    /// `host:port`.
    pub address: Setting,
    /// Over TCP, instead of UDP.
    pub tcp: bool,
    /// 0 to 23 (RFC 5424).
    pub facility: u8,
}

/// A program that documents are handed to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProgramSettings {
    /// Its name in the configuration, which says what is started and with which arguments.
    pub program: String,
}

/// A folder of another machine that documents are written to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SftpSettings {
    /// The machine.
    pub server: SftpServer,
    /// The folder, from the root or from where its user begins.
    pub folder: String,
}

/// Whoever takes notifications (RFC 3416) and is told of each delivery.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SnmpSettings {
    /// `host:port`, by UDP.
    pub address: Setting,
    /// As whom the service speaks.
    pub sign_in: SnmpSignIn,
    /// Whether the receiver confirms (an inform), or nobody does (a trap).
    pub confirmed: bool,
    /// The number below which everything of the notifications is.
    pub enterprise: Vec<u64>,
}

impl SnmpSettings {
    /// Below the number that is kept for examples (RFC 5612), for those that have none of their own.
    pub const USUAL_ENTERPRISE: [u64; 8] = [1, 3, 6, 1, 4, 1, 32473, 1];
}
