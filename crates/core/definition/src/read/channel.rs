//! Reads channels from their tables.

use maple_lark_time::span::Span;

use crate::{
    model::{
        channel::{
            Channel, ChannelKind, Dkim, FolderSettings, MailServerSettings, MailSignIn, MailTls,
            ObjectStorageSettings, ProgramSettings, SftpSettings, SnmpSettings, SyslogSettings,
            UploadSettings, WebhookSettings,
        },
        mailbox::Mailbox,
        message_values,
        query::{mib::Object, placeholder::JsonTemplate},
        setting::Setting,
        template::Template,
    },
    read::{
        files,
        http::{read_url, read_web},
        name::{read_name, read_teams},
        node::Node,
        setting::{address, ca_file, secret, setting},
        sftp, snmp,
    },
};

/// Below this are the numbers of enterprises (RFC 2578).
const ENTERPRISES: [u64; 6] = [1, 3, 6, 1, 4, 1];

/// Whether a part of an address was made to be guessed by nobody: long, of letters and digits.
fn has_key(url: &str) -> bool {
    let behind_host = url.splitn(4, '/').nth(3).unwrap_or_default();
    behind_host.split(['/', '?', '&', '=']).any(|part| {
        let has = |is: fn(&char) -> bool| part.chars().any(|c| is(&c));
        part.len() >= 16 && has(char::is_ascii_digit) && has(char::is_ascii_alphabetic)
    })
}

#[expect(
    clippy::too_many_lines,
    reason = "reads one key after the other, in the order of the documentation"
)]
pub(crate) fn read(root: &Node<'_>) -> Option<Channel> {
    let node = root.table("channel")?;
    let name = read_name(&node);
    let teams = read_teams(&node);
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
        "object-storage" => read_object_storage(&node)
            .map(Box::new)
            .map(ChannelKind::ObjectStorage),
        "webhook" => {
            let text = node.text("text").map(|text| Template::new(text.value));
            if let Some(Err(error)) = text.as_ref().map(message_values::check) {
                node.report("text", error);
            }
            let key = secret(&node, "key");
            let web = read_web(&node)?;
            if let Setting::Plain(url) = &web.url
                && has_key(url)
            {
                node.report(
                    "url",
                    "contains a key that lets anyone post there; refer to it as \"env:NAME\", \"file:/path\" or \"secret:name\"",
                );
            }
            let body = read_body(&node, text.is_some());
            Some(ChannelKind::Webhook(WebhookSettings {
                web,
                key,
                text,
                body,
            }))
        }
        "program" => Some(ChannelKind::Program(ProgramSettings {
            program: node.required("program").value,
        })),
        "sftp" => {
            let (server, folder) = (sftp::read(&node), node.required("folder").value);
            server.map(|server| ChannelKind::Sftp(Box::new(SftpSettings { server, folder })))
        }
        "snmp" => read_receiver(&node).map(Box::new).map(ChannelKind::Snmp),
        _ => {
            let address = address(&node, 514);
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
    let max_concurrency = node.whole("max-concurrency", 1..=64).unwrap_or(4) as usize;
    let rate_per_minute = node
        .whole("rate-per-minute", 1..=100_000)
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
        teams,
        title,
        kind: kind?,
        max_concurrency,
        rate_per_minute,
        timeout_seconds,
        place,
    })
}

/// A message in the shape that whoever receives it wants.
fn read_body(node: &Node<'_>, has_text: bool) -> Option<JsonTemplate> {
    let written = node.text("body")?.value;
    let body = JsonTemplate::parse(&written)
        .map_err(|error| node.report("body", error))
        .ok()?;
    for name in body.names() {
        if name == "text" && !has_text {
            node.report(
                "body",
                "has {{ text }}, so text = \"…\" must say what is told of a run",
            );
        } else if !WebhookSettings::NAMES.contains(&name.as_str()) {
            node.report(
                "body",
                format!(
                    "{{{{ {name} }}}} is nothing that a message has; there are {}",
                    WebhookSettings::NAMES.join(", ")
                ),
            );
        }
    }
    Some(body)
}

fn read_receiver(node: &Node<'_>) -> Option<SnmpSettings> {
    let (address, sign_in) = (address(node, 162), snmp::read_sign_in(node));
    let confirmed = node.choice("notification", &["inform", "trap"]) != Some("trap");
    let enterprise = node.parsed::<Object>("enterprise");
    if let Some(number) = enterprise.as_ref().map(|object| &object.number)
        && (!number.starts_with(&ENTERPRISES) || number.len() == ENTERPRISES.len())
    {
        node.report(
            "enterprise",
            "must be a number below 1.3.6.1.4.1, such as \"1.3.6.1.4.1.32473.1\"",
        );
    }
    Some(SnmpSettings {
        address: address?,
        sign_in: sign_in?,
        confirmed,
        enterprise: enterprise.map_or_else(
            || SnmpSettings::USUAL_ENTERPRISE.to_vec(),
            |object| object.number,
        ),
    })
}

fn read_object_storage(node: &Node<'_>) -> Option<ObjectStorageSettings> {
    let url = read_url(node);
    let bucket = node.required("bucket").value;
    if bucket.contains('/') {
        node.report(
            "bucket",
            "must be the name alone; what names in it begin with is the prefix",
        );
    }
    for key in ["access-key", "secret-key"] {
        node.required(key);
    }
    let (access_key, secret_key) = (setting(node, "access-key"), secret(node, "secret-key"));
    let text = |key: &'static str| node.text(key).map(|text| text.value);
    Some(ObjectStorageSettings {
        region: text("region").unwrap_or_else(|| "us-east-1".to_owned()),
        prefix: text("prefix").unwrap_or_default(),
        name_in_host: node.truth("name-in-host").unwrap_or(false),
        ca_file: ca_file(node),
        url: url?,
        bucket,
        access_key: access_key?,
        secret_key: secret_key?,
    })
}

#[expect(
    clippy::too_many_lines,
    reason = "reads one key after the other, in the order of the documentation"
)]
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
    let max_size = files::read_size(node, "max-size");
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
        max_size,
    })
}
