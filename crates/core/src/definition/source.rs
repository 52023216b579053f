//! What a source definition holds: where to read and how to sign in, never a secret.

use std::str::FromStr;

use super::{
    listing::{self, Listing},
    read_name,
    reader::{Node, Place},
};
use crate::span::Span;

#[derive(Debug, Clone, PartialEq)]
pub struct Source {
    pub name: String,
    pub title: String,
    /// How long one query may take, in seconds.
    pub timeout_seconds: u64,
    /// How many rows one query may return; more are cut off and said to be.
    pub row_limit: usize,
    /// How many queries one service process asks it at a time.
    pub at_a_time: usize,
    pub kind: SourceKind,
    pub place: Place,
}

#[derive(Debug, Clone, PartialEq)]
pub enum SourceKind {
    Postgresql(PostgresqlSource),
    /// A service that answers requests in JSON.
    HttpJson(Web, Option<Listing>),
    /// CSV or JSON Lines in a folder of the service's machine.
    Folder(String),
    /// CSV or JSON Lines behind a URL.
    FilesByHttp(Web, Option<Listing>),
    OpenMetrics(Web),
    /// This machine looks at others: connections, certificates, names, disks.
    LocalChecks,
}

impl SourceKind {
    pub const NAMES: [&str; 5] = [
        "postgresql",
        "http-json",
        "files",
        "open-metrics",
        "local-checks",
    ];

    pub fn name(&self) -> &'static str {
        match self {
            SourceKind::Postgresql(_) => "postgresql",
            SourceKind::HttpJson(..) => "http-json",
            SourceKind::Folder(_) | SourceKind::FilesByHttp(..) => "files",
            SourceKind::OpenMetrics(_) => "open-metrics",
            SourceKind::LocalChecks => "local-checks",
        }
    }

    /// Where it is, as written: references are shown, not what they refer to.
    pub fn place(&self) -> String {
        match self {
            SourceKind::Postgresql(settings) => format!(
                "{} at {}",
                settings.database.written(),
                settings.address.written()
            ),
            SourceKind::HttpJson(web, _)
            | SourceKind::FilesByHttp(web, _)
            | SourceKind::OpenMetrics(web) => web.url.written(),
            SourceKind::Folder(folder) => folder.clone(),
            SourceKind::LocalChecks => "this machine".to_owned(),
        }
    }
}

/// A place that is read by HTTP.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Web {
    /// What every path is put behind.
    pub url: Setting,
    pub sign_in: Option<SignIn>,
    pub headers: Vec<(String, Setting)>,
    /// Certificates (PEM) to trust beside the machine's own.
    pub ca_file: Option<String>,
}

/// Secrets are only ever references.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SignIn {
    Basic { user: Setting, password: Setting },
    Bearer { token: Setting },
    Header { name: String, value: Setting },
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PostgresqlSource {
    /// `host:port`.
    pub address: Setting,
    pub database: Setting,
    pub user: Setting,
    /// Only ever a reference.
    pub password: Option<Setting>,
    pub tls: Tls,
    /// Certificates (PEM) to trust instead of the machine's own.
    pub ca_file: Option<String>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tls {
    Off,
    /// Encrypted, without a check of who answers.
    Require,
    /// Encrypted, and the certificate must be valid for the host.
    VerifyFull,
}

/// A text given as it is, or by a reference that is looked up when it is needed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Setting {
    Plain(String),
    /// `env:NAME`: an environment variable of the service.
    Environment(String),
    /// `file:/path`: the first line of a file that the service can read.
    File(String),
    /// `secret:name`: kept encrypted by the service.
    Secret(String),
    /// `command:name`: the first line that a command prints, which the configuration of the
    /// service names. Definitions cannot say what is run.
    Command(String),
}

impl Setting {
    /// As it is written in a definition; shows the reference, never what it refers to.
    pub fn written(&self) -> String {
        match self {
            Setting::Plain(text) => text.clone(),
            Setting::Environment(name) => format!("env:{name}"),
            Setting::File(path) => format!("file:{path}"),
            Setting::Secret(name) => format!("secret:{name}"),
            Setting::Command(name) => format!("command:{name}"),
        }
    }
}

#[derive(Debug, thiserror::Error)]
pub enum BadSetting {
    #[error(
        "\"env:\" must be followed by the name of an environment variable, such as \"env:READER_PASSWORD\""
    )]
    Variable,
    #[error(
        "\"file:\" must be followed by an absolute path, such as \"file:/etc/maple-lark/reader-password\""
    )]
    Path,
    #[error(
        "\"secret:\" must be followed by the name of a stored secret, in small letters, digits and hyphens, such as \"secret:reader-password\""
    )]
    Secret,
    #[error(
        "\"command:\" must be followed by the name of a command from the configuration of the service, such as \"command:mail-token\""
    )]
    Command,
}

impl FromStr for Setting {
    type Err = BadSetting;

    fn from_str(text: &str) -> Result<Self, BadSetting> {
        if let Some(name) = text.strip_prefix("env:") {
            let valid =
                !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
            return valid
                .then(|| Setting::Environment(name.to_owned()))
                .ok_or(BadSetting::Variable);
        }
        if let Some(name) = text.strip_prefix("secret:") {
            return super::is_name(name)
                .then(|| Setting::Secret(name.to_owned()))
                .ok_or(BadSetting::Secret);
        }
        if let Some(name) = text.strip_prefix("command:") {
            return super::is_name(name)
                .then(|| Setting::Command(name.to_owned()))
                .ok_or(BadSetting::Command);
        }
        match text.strip_prefix("file:") {
            Some(path) if path.starts_with('/') => Ok(Setting::File(path.to_owned())),
            Some(_) => Err(BadSetting::Path),
            None => Ok(Setting::Plain(text.to_owned())),
        }
    }
}

pub(super) fn read(root: &Node<'_>) -> Option<Source> {
    let node = root.table("source")?;
    let name = read_name(&node);
    let title = node
        .text("title")
        .map_or_else(|| name.clone(), |title| title.value);
    let kind = match node.required_choice("kind", &SourceKind::NAMES)? {
        "postgresql" => read_postgresql(&node).map(SourceKind::Postgresql),
        "http-json" => read_web(&node)
            .zip(Some(listing::read(&node)))
            .map(|(web, catalogue)| SourceKind::HttpJson(web, catalogue)),
        "open-metrics" => read_web(&node).map(SourceKind::OpenMetrics),
        "files" if node.has("url") => read_web(&node)
            .zip(Some(listing::read(&node)))
            .map(|(web, catalogue)| SourceKind::FilesByHttp(web, catalogue)),
        "files" => {
            let folder = node.required("folder").value;
            if !folder.is_empty() && !folder.starts_with('/') && !folder.starts_with("env:") {
                node.report(
                    "folder",
                    "must be an absolute path, such as \"/var/lib/inventory\", or \"env:NAME\"",
                );
            }
            Some(SourceKind::Folder(folder))
        }
        _ => Some(SourceKind::LocalChecks),
    };
    let timeout = node.parsed::<Span>("timeout");
    let timeout_seconds = match timeout.map(|span| span.elapsed()) {
        None => 30,
        Some(Some(elapsed)) if elapsed.num_seconds() <= 3600 => elapsed.num_seconds() as u64,
        Some(_) => {
            node.report("timeout", "must be between \"PT1S\" and \"PT1H\"");
            30
        }
    };
    let at_a_time = node.whole("at-a-time", 1..=100).unwrap_or(4) as usize;
    let row_limit = node.whole("row-limit", 1..=1_000_000).unwrap_or(100_000) as usize;
    let place = node.place();
    node.close();
    Some(Source {
        name,
        title,
        timeout_seconds,
        row_limit,
        at_a_time,
        kind: kind?,
        place,
    })
}

pub(super) fn setting(node: &Node<'_>, key: &'static str) -> Option<Setting> {
    node.required(key);
    node.parsed::<Setting>(key)
}

/// A setting that must not stand in the definition itself.
pub(super) fn secret(node: &Node<'_>, key: &'static str) -> Option<Setting> {
    let secret = node.parsed::<Setting>(key);
    if let Some(Setting::Plain(_)) = secret {
        node.report(key, format!("a {key} must not stand in a definition; refer to it as \"env:NAME\", \"file:/path\" or \"secret:name\""));
    }
    secret
}

pub(super) fn ca_file(node: &Node<'_>) -> Option<String> {
    let path = node.text("ca-file")?.value;
    if !path.starts_with('/') {
        node.report(
            "ca-file",
            "must be an absolute path, such as \"/etc/ssl/own-ca.pem\"",
        );
    }
    Some(path)
}

fn read_postgresql(node: &Node<'_>) -> Option<PostgresqlSource> {
    let (address, database, user) = (
        setting(node, "address"),
        setting(node, "database"),
        setting(node, "user"),
    );
    let password = secret(node, "password");
    if let Some(Setting::Plain(text)) = &address
        && split_address(text).is_none()
    {
        node.report(
            "address",
            format!("\"{text}\" is not host:port, such as \"127.0.0.1:5432\""),
        );
    }
    let tls = match node.choice("tls", &["off", "require", "verify-full"]) {
        Some("off") => Tls::Off,
        Some("require") => Tls::Require,
        _ => Tls::VerifyFull,
    };
    let ca_file = ca_file(node);
    Some(PostgresqlSource {
        address: address?,
        database: database?,
        user: user?,
        password,
        tls,
        ca_file,
    })
}

pub(super) fn read_web(node: &Node<'_>) -> Option<Web> {
    let url = setting(node, "url");
    if let Some(Setting::Plain(text)) = &url
        && !["http://", "https://"].iter().any(|scheme| {
            text.strip_prefix(scheme)
                .is_some_and(|rest| !rest.is_empty())
        })
    {
        node.report(
            "url",
            format!("\"{text}\" is not a URL, such as \"https://metrics.orrin-sound.example\""),
        );
    }
    if let Some(Setting::Plain(text)) = &url
        && text
            .split_once("://")
            .is_some_and(|(_, rest)| rest.split('/').next().unwrap_or(rest).contains('@'))
    {
        node.report(
            "url",
            format!(
                "must not have a user or password in it; set them under [{}]",
                node.path("sign-in")
            ),
        );
    }
    let sign_in = node.table("sign-in").and_then(|table| {
        let needed = |key| {
            table.required(key);
            secret(&table, key)
        };
        let read = match table.required_choice("kind", &["basic", "bearer", "header"])? {
            "basic" => setting(&table, "user")
                .zip(needed("password"))
                .map(|(user, password)| SignIn::Basic { user, password }),
            "bearer" => needed("token").map(|token| SignIn::Bearer { token }),
            _ => Some(table.required("name").value)
                .zip(needed("value"))
                .map(|(name, value)| SignIn::Header { name, value }),
        };
        table.close();
        read
    });
    let mut headers = Vec::new();
    if let Some(table) = node.table("headers") {
        for name in table.keys() {
            match table
                .value_of(&name)
                .and_then(|(value, _)| value.as_str())
                .map(str::parse::<Setting>)
            {
                Some(Ok(value)) => headers.push((name, value)),
                Some(Err(error)) => table.report(&name, error.to_string()),
                None => table.report(&name, "must be a text in quotes"),
            }
        }
    }
    let ca_file = ca_file(node);
    Some(Web {
        url: url?,
        sign_in,
        headers,
        ca_file,
    })
}

/// `host:port` taken apart; IPv6 addresses stand in brackets.
pub fn split_address(text: &str) -> Option<(&str, u16)> {
    let (host, port) = text.rsplit_once(':')?;
    let host = host
        .strip_prefix('[')
        .and_then(|host| host.strip_suffix(']'))
        .unwrap_or(host);
    let port = port.parse().ok()?;
    (!host.is_empty() && port > 0).then_some((host, port))
}
