//! What a channel definition holds: a way for documents to leave, never a secret.

use super::{
    Mailbox, Setting, Web, read_name,
    reader::{Node, Place},
    source::{ca_file, read_web, secret, setting},
};
use crate::{
    message::{self, Template},
    span::Span,
};

/// A mail server, or another way than mail.
#[derive(Debug, Clone, PartialEq)]
pub struct Channel {
    pub name: String,
    pub title: String,
    pub kind: ChannelKind,
    /// How many deliveries one service process has under way on it.
    pub at_a_time: usize,
    /// How many deliveries begin in a minute at most, all processes together.
    pub a_minute: Option<u32>,
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
    /// The largest message it takes, in bytes, if it does not say so itself.
    pub largest: Option<u64>,
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

pub(super) fn read(root: &Node<'_>) -> Option<Channel> {
    let node = root.table("channel")?;
    let name = read_name(&node);
    let title = node
        .text("title")
        .map_or_else(|| name.clone(), |title| title.value);
    let kind = match node.required_choice("kind", &ChannelKind::NAMES)? {
        "mail-server" => read_mail_server(&node)
            .map(Box::new)
            .map(ChannelKind::MailServer),
        "folder" => {
            let folder = node.required("folder").value;
            if !folder.is_empty() && !folder.starts_with('/') && !folder.starts_with("env:") {
                node.report(
                    "folder",
                    "must be an absolute path, such as \"/srv/reports\", or \"env:NAME\"",
                );
            }
            Some(ChannelKind::Folder(FolderSettings {
                folder,
                keep: node.whole("keep", 1..=10_000).map(|keep| keep as u32),
            }))
        }
        "upload" => read_web(&node).map(|web| ChannelKind::Upload(UploadSettings { web })),
        "webhook" => {
            let text = node.text("text").map(|text| Template::new(text.value));
            if let Some(Err(error)) = text.as_ref().map(message::check) {
                node.report("text", error);
            }
            let key = secret(&node, "key");
            read_web(&node).map(|web| ChannelKind::Webhook(WebhookSettings { web, key, text }))
        }
        _ => {
            let address = setting(&node, "address");
            if let Some(Setting::Plain(text)) = &address
                && super::split_address(text).is_none()
            {
                node.report(
                    "address",
                    format!("\"{text}\" is not host:port, such as \"127.0.0.1:514\""),
                );
            }
            let tcp = node.choice("protocol", &["udp", "tcp"]) == Some("tcp");
            let facility = node.whole("facility", 0..=23).unwrap_or(16) as u8;
            address.map(|address| {
                ChannelKind::Syslog(SyslogSettings {
                    address,
                    tcp,
                    facility,
                })
            })
        }
    };
    let at_a_time = node.whole("at-a-time", 1..=64).unwrap_or(4) as usize;
    let a_minute = node
        .whole("a-minute", 1..=100_000)
        .map(|limit| limit as u32);
    let timeout_seconds = match node.parsed::<Span>("timeout").map(|span| span.elapsed()) {
        None => 30,
        Some(Some(elapsed)) if (1..=600).contains(&elapsed.num_seconds()) => {
            elapsed.num_seconds() as u64
        }
        Some(_) => {
            node.report("timeout", "must be between \"PT1S\" and \"PT10M\"");
            30
        }
    };
    let place = node.place();
    node.close();
    Some(Channel {
        name,
        title,
        kind: kind?,
        at_a_time,
        a_minute,
        timeout_seconds,
        place,
    })
}

fn read_mail_server(node: &Node<'_>) -> Option<MailServerSettings> {
    let host = setting(node, "host");
    let tls = match node.choice("tls", &["off", "starttls", "tls"]) {
        Some("off") => MailTls::Off,
        Some("tls") => MailTls::Tls,
        _ => MailTls::StartTls,
    };
    let usual = match tls {
        MailTls::Off => 25,
        MailTls::StartTls => 587,
        MailTls::Tls => 465,
    };
    let port = node
        .whole("port", 1..=65_535)
        .map_or(usual, |port| port as u16);
    let sign_in = node.table("sign-in").and_then(|table| {
        let kind = table.required_choice("kind", &["password", "token"]);
        let user = setting(&table, "user");
        let key = if kind == Some("token") {
            "token"
        } else {
            "password"
        };
        table.required(key);
        let word = secret(&table, key);
        table.close();
        match (kind?, user?, word?) {
            ("token", user, token) => Some(MailSignIn::Token { user, token }),
            (_, user, password) => Some(MailSignIn::Password { user, password }),
        }
    });
    if sign_in.is_some() && tls == MailTls::Off {
        node.report(
            "tls",
            "a password would travel for everybody to read; use tls = \"starttls\" or \"tls\"",
        );
    }
    node.required("from");
    let from = node.parsed::<Mailbox>("from");
    let dkim = node.table("dkim").and_then(|table| {
        let (domain, selector) = (
            table.required("domain").value,
            table.required("selector").value,
        );
        table.required("key");
        let key = secret(&table, "key");
        table.close();
        Some(Dkim {
            domain,
            selector,
            key: key?,
        })
    });
    let largest = super::files::read_size(node, "largest");
    let (reply_to, bounces) = (node.parsed("reply-to"), node.parsed("bounces"));
    Some(MailServerSettings {
        host: host?,
        port,
        tls,
        ca_file: ca_file(node),
        sign_in,
        from: from?,
        reply_to,
        bounces,
        dkim,
        largest,
    })
}
