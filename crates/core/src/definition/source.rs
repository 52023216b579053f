//! What a source definition holds: where to read and how to sign in, never a secret.

use std::str::FromStr;

use super::{
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
}

impl Setting {
    /// As it is written in a definition; shows the reference, never what it refers to.
    pub fn written(&self) -> String {
        match self {
            Setting::Plain(text) => text.clone(),
            Setting::Environment(name) => format!("env:{name}"),
            Setting::File(path) => format!("file:{path}"),
        }
    }
}

#[derive(Debug, thiserror::Error)]
pub enum BadSetting {
    #[error("\"env:\" must be followed by the name of an environment variable, such as \"env:READER_PASSWORD\"")]
    NoVariable,
    #[error("\"file:\" must be followed by an absolute path, such as \"file:/etc/maple-lark/reader-password\"")]
    NoPath,
}

impl FromStr for Setting {
    type Err = BadSetting;

    fn from_str(text: &str) -> Result<Self, BadSetting> {
        if let Some(name) = text.strip_prefix("env:") {
            let valid = !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
            return valid.then(|| Setting::Environment(name.to_owned())).ok_or(BadSetting::NoVariable);
        }
        match text.strip_prefix("file:") {
            Some(path) if path.starts_with('/') => Ok(Setting::File(path.to_owned())),
            Some(_) => Err(BadSetting::NoPath),
            None => Ok(Setting::Plain(text.to_owned())),
        }
    }
}

pub(super) fn read(root: &Node<'_>) -> Option<Source> {
    let node = root.table("source")?;
    let name = read_name(&node);
    let title = node.text("title").map_or_else(|| name.clone(), |title| title.value);
    node.required_choice("kind", &["postgresql"])?;
    let setting = |key| {
        node.required(key);
        node.parsed::<Setting>(key)
    };
    let (address, database, user) = (setting("address"), setting("database"), setting("user"));
    let password = node.parsed::<Setting>("password");
    if let Some(Setting::Plain(_)) = password {
        node.report("password", "a password must not stand in a definition; refer to it as \"env:NAME\" or \"file:/path\"");
    }
    if let Some(Setting::Plain(text)) = &address
        && split_address(text).is_none()
    {
        node.report("address", format!("\"{text}\" is not host:port, such as \"127.0.0.1:5432\""));
    }
    let tls = match node.choice("tls", &["off", "require", "verify-full"]) {
        Some("off") => Tls::Off,
        Some("require") => Tls::Require,
        _ => Tls::VerifyFull,
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
    let kind = SourceKind::Postgresql(PostgresqlSource { address: address?, database: database?, user: user?, password, tls });
    Some(Source { name, title, timeout_seconds, row_limit, at_a_time, kind, place })
}

/// `host:port` taken apart; IPv6 addresses stand in brackets.
pub fn split_address(text: &str) -> Option<(&str, u16)> {
    let (host, port) = text.rsplit_once(':')?;
    let host = host.strip_prefix('[').and_then(|host| host.strip_suffix(']')).unwrap_or(host);
    let port = port.parse().ok()?;
    (!host.is_empty() && port > 0).then_some((host, port))
}
