//! What a source definition holds: where to read and how to sign in, never a secret.

use crate::{
    model::{
        http::Web, listing::Listing, query::builder::Dialect, setting::Setting, sftp::SftpServer,
        snmp::SnmpSignIn,
    },
    problem::{Place, Placed},
};

/// Something that answers questions.
#[derive(Debug, Clone, PartialEq)]
pub struct Source {
    /// Its name, unique among sources.
    pub name: String,
    /// The teams that may use it; all if there are none.
    pub teams: Vec<Placed<String>>,
    /// Its title for people.
    pub title: String,
    /// How long one query may take, in seconds.
    pub timeout_seconds: u64,
    /// How many rows one query may return; more are cut off and said to be.
    pub row_limit: usize,
    /// An answer with more bytes than this fails.
    pub max_bytes: u64,
    /// How many queries one service process asks it at a time.
    pub max_concurrency: usize,
    /// What it is, and how it is reached.
    pub kind: SourceKind,
    /// Where it was read.
    pub place: Place,
}

/// The kinds of sources.
#[derive(Debug, Clone, PartialEq)]
pub enum SourceKind {
    /// A PostgreSQL database.
    Postgresql(DatabaseServer),
    /// A MySQL or MariaDB database.
    Mysql(DatabaseServer),
    /// An SQLite database: a file on the service's machine.
    Sqlite(String),
    /// A service that answers requests in JSON.
    HttpJson(Web, Option<Listing>),
    /// CSV or JSON Lines in a folder of the service's machine.
    Folder(String),
    /// CSV or JSON Lines behind a URL.
    FilesByHttp(Web, Option<Listing>),
    /// A service that shows metrics as text (OpenMetrics).
    OpenMetrics(Web),
    /// A live page, as a browser shows it.
    WebPage(Web),
    /// This machine looks at others: connections, certificates, names, disks.
    LocalChecks,
    /// A program of the service's machine, by its name in the configuration.
    Program(String),
    /// A directory (LDAP).
    Ldap(DirectoryServer),
    /// A device or a machine that answers by SNMP.
    Snmp(SnmpAgent),
    /// CSV or JSON Lines in a folder of another machine, by SFTP.
    Sftp(Box<SftpFolder>),
}

impl SourceKind {
    /// The words for the kinds, in definitions.
    pub const NAMES: [&str; 12] = [
        "postgresql",
        "mysql",
        "sqlite",
        "http-json",
        "files",
        "open-metrics",
        "web-page",
        "local-checks",
        "program",
        "ldap",
        "snmp",
        "sftp",
    ];

    /// Those that are asked in SQL.
    pub const DATABASES: [&str; 3] = ["postgresql", "mysql", "sqlite"];

    /// The SQL that it understands, if it is asked in SQL.
    #[must_use]
    pub fn dialect(&self) -> Option<Dialect> {
        match self {
            SourceKind::Postgresql(_) => Some(Dialect::Postgresql),
            SourceKind::Mysql(_) => Some(Dialect::Mysql),
            SourceKind::Sqlite(_) => Some(Dialect::Sqlite),
            _ => None,
        }
    }

    /// How it is reached by HTTP, if it is.
    #[must_use]
    pub fn web(&self) -> Option<&Web> {
        match self {
            SourceKind::HttpJson(web, _)
            | SourceKind::FilesByHttp(web, _)
            | SourceKind::OpenMetrics(web)
            | SourceKind::WebPage(web) => Some(web),
            SourceKind::Postgresql(_)
            | SourceKind::Mysql(_)
            | SourceKind::Sqlite(_)
            | SourceKind::Folder(_)
            | SourceKind::LocalChecks
            | SourceKind::Program(_)
            | SourceKind::Ldap(_)
            | SourceKind::Snmp(_)
            | SourceKind::Sftp(_) => None,
        }
    }

    /// The settings whose values nobody is to read, each with whether it is an address, of which the
    /// host may be known.
    #[must_use]
    pub fn secrets(&self) -> Vec<(&Setting, bool)> {
        let plain = |settings: Vec<_>| settings.into_iter().map(|one| (one, false)).collect();
        match self {
            SourceKind::Postgresql(server) | SourceKind::Mysql(server) => {
                plain(server.password.iter().collect())
            }
            SourceKind::Ldap(server) => plain(server.password.iter().collect()),
            SourceKind::Snmp(agent) => plain(agent.sign_in.secrets()),
            SourceKind::Sftp(folder) => plain(folder.server.sign_in.secrets()),
            SourceKind::HttpJson(web, _)
            | SourceKind::FilesByHttp(web, _)
            | SourceKind::OpenMetrics(web)
            | SourceKind::WebPage(web) => {
                let mut all: Vec<_> = plain(web.secrets());
                all.push((&web.url, true));
                all
            }
            SourceKind::Sqlite(_)
            | SourceKind::Folder(_)
            | SourceKind::LocalChecks
            | SourceKind::Program(_) => Vec::new(),
        }
    }

    /// The word for this kind, in definitions.
    #[must_use]
    pub fn name(&self) -> &'static str {
        match self {
            SourceKind::Postgresql(_) => "postgresql",
            SourceKind::Mysql(_) => "mysql",
            SourceKind::Sqlite(_) => "sqlite",
            SourceKind::HttpJson(..) => "http-json",
            SourceKind::Folder(_) | SourceKind::FilesByHttp(..) => "files",
            SourceKind::OpenMetrics(_) => "open-metrics",
            SourceKind::WebPage(_) => "web-page",
            SourceKind::LocalChecks => "local-checks",
            SourceKind::Program(_) => "program",
            SourceKind::Ldap(_) => "ldap",
            SourceKind::Snmp(_) => "snmp",
            SourceKind::Sftp(_) => "sftp",
        }
    }

    /// Where it is, as written: references are shown, not what they refer to.
    #[must_use]
    pub fn place(&self) -> String {
        match self {
            SourceKind::Postgresql(settings) | SourceKind::Mysql(settings) => format!(
                "{} at {}",
                settings.database.written(),
                settings.address.written()
            ),
            SourceKind::HttpJson(web, _)
            | SourceKind::FilesByHttp(web, _)
            | SourceKind::OpenMetrics(web)
            | SourceKind::WebPage(web) => web.url.written(),
            SourceKind::Folder(folder) => folder.clone(),
            SourceKind::Sqlite(file) => file.clone(),
            SourceKind::LocalChecks => "this machine".to_owned(),
            SourceKind::Program(name) => name.clone(),
            SourceKind::Ldap(server) => format!("{} at {}", server.base, server.address.written()),
            SourceKind::Snmp(agent) => agent.address.written(),
            SourceKind::Sftp(folder) => folder.server.place(&folder.folder),
        }
    }
}

/// How a database on a server is reached.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DatabaseServer {
    /// `host:port`.
    pub address: Setting,
    /// The database's name.
    pub database: Setting,
    /// The user's name.
    pub user: Setting,
    /// Only ever a reference.
    pub password: Option<Setting>,
    /// Whether the connection is encrypted.
    pub tls: Tls,
    /// Certificates (PEM) to trust instead of the machine's own.
    pub ca_file: Option<String>,
}

/// Whether a connection to a database is encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tls {
    /// Never.
    Off,
    /// Encrypted, without a check of who answers.
    Require,
    /// Encrypted, and the certificate must be valid for the host.
    VerifyFull,
}

/// How a directory (LDAP, RFC 4511) is reached.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DirectoryServer {
    /// `host:port`.
    pub address: Setting,
    /// Whether the connection is encrypted.
    pub tls: DirectoryTls,
    /// Certificates (PEM) to trust instead of the machine's own.
    pub ca_file: Option<String>,
    /// The name of the entry that signs in; without one it is asked unnamed.
    pub user: Option<Setting>,
    /// Only ever a reference.
    pub password: Option<Setting>,
    /// The entry at or below which is searched unless a query says another.
    pub base: String,
}

/// Whether a connection to a directory is encrypted. The certificate must be valid for the host.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DirectoryTls {
    /// From the first byte.
    Tls,
    /// From the first request (RFC 4513, 3).
    StartTls,
    /// Never: only on this machine.
    Off,
}

/// How an SNMP agent is reached and asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SnmpAgent {
    /// `host:port`, by UDP.
    pub address: Setting,
    /// As whom it is asked.
    pub sign_in: SnmpSignIn,
}

/// Files on another machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SftpFolder {
    /// The machine.
    pub server: SftpServer,
    /// The folder, from the root or from where its user begins.
    pub folder: String,
}

/// `host:port` taken apart; IPv6 addresses stand in brackets.
#[must_use]
pub fn split_address(text: &str) -> Option<(&str, u16)> {
    let (host, port) = text.rsplit_once(':')?;
    let host = host
        .strip_prefix('[')
        .and_then(|host| host.strip_suffix(']'))
        .unwrap_or(host);
    let port = port.parse().ok()?;
    (!host.is_empty() && port > 0).then_some((host, port))
}
