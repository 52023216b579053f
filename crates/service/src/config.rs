//! The configuration of the service: one TOML file, secrets by reference.

use std::{
    collections::{BTreeMap, BTreeSet},
    net::{Ipv4Addr, Ipv6Addr, SocketAddr, ToSocketAddrs},
    path::{Path, PathBuf},
    time::Duration,
};

use maple_lark_api::{Words, Work};
use maple_lark_definition::{BadSetting, Kind, MailTls, Mailbox, Setting, size, split_address};
use maple_lark_delivery::{MailServer, MailSignIn};
use maple_lark_sources::{
    AddressRange, BadRange, Boundary, BrowserSettings, Commands, MachinePart, Permissions,
};
use maple_lark_time::span::Span;
use serde::Deserialize;
use url::Url;

use crate::{secrets::Vault, tls::CertificateFiles};

mod directory;
mod groups;
mod identity_provider;
mod storage;
mod telemetry;

pub use directory::Organisation;
pub use groups::Meaning;
pub use identity_provider::IdentityProvider;
pub use storage::Storage;
pub use telemetry::Telemetry;

/// A checked configuration with its secrets looked up. Its `Debug` shows none of them.
#[derive(Clone)]
pub struct Config {
    pub listen: SocketAddr,
    /// What the service proves with who it is, if it speaks TLS itself.
    pub tls: Option<CertificateFiles>,
    /// How people reach the console, for links in mails.
    pub public_url: String,
    pub database: String,
    pub connections: u32,
    /// Whether a standby may take over from its server without anything being lost.
    pub database_fails_over: bool,
    /// The parts of the work that this process takes; the command line says it.
    pub work: BTreeSet<Work>,
    /// How long a database that does not answer is waited for at the start; the command line
    /// says it.
    pub wait_for_database: Duration,
    pub log_json: bool,
    /// How long a process that died keeps its work from others.
    pub lease: Duration,
    /// How long a connection is kept that sends no whole request.
    pub head_timeout: Duration,
    pub first_administrator_password: Option<String>,
    pub mail: Option<Mail>,
    /// The folder of the demo's mail server, shown in the console.
    pub demo_mailbox: Option<PathBuf>,
    /// The channel of kind syslog that gets the audit trail.
    pub audit_channel: Option<String>,
    /// Who is mailed the digest of each day of the archive that is sealed.
    pub archive_head_to: Option<Mailbox>,
    /// By which people sign in beside those who were invited.
    pub directory: Option<Organisation>,
    /// By which people sign in in the browser, beside those who were invited.
    pub identity_provider: Option<IdentityProvider>,
    /// Where snapshots and documents are kept outside of the database.
    pub storage: Option<Storage>,
    /// Where traces and measures are sent.
    pub telemetry: Option<Telemetry>,
    /// What sources may reach.
    pub boundary: Boundary,
    /// What definitions may use of this machine.
    pub permissions: Permissions,
    /// Proxies that are believed whom they ask for.
    pub trusted_proxies: Vec<AddressRange>,
    /// Origins whose pages may have published views in them.
    pub embed_in: Vec<String>,
    /// Kinds that authors may change although they are the administrator's.
    pub authors_may_change: Vec<Kind>,
    /// Seals the secrets that the service keeps.
    pub vault: Vault,
    /// Folders that documents may be delivered into.
    pub deliver_into: Vec<PathBuf>,
    pub notices: Notices,
    pub bounces: Option<Bounces>,
    /// Programs whose first line settings of sources and channels may name.
    pub commands: Commands,
    /// Programs that channels may hand documents to, by name.
    pub programs: Commands,
    /// Programs that sources may be, by name.
    pub source_programs: Commands,
    /// Folders with fonts for characters that the program's own does not have.
    pub fonts: Vec<PathBuf>,
    /// How live pages are looked at.
    pub browser: BrowserSettings,
}

#[derive(Clone)]
pub struct Mail {
    pub server: MailServer,
    /// The wait before the second attempt; each later one waits twice as long, up to an hour.
    pub first_retry: Duration,
    /// After this long a delivery that is still refused is given up.
    pub retry_for: Duration,
}

/// Who hears of trouble beside a report's owner, and how.
#[derive(Clone)]
pub struct Notices {
    pub to: Option<Mailbox>,
    /// Channels that are told too, such as a syslog or a chat.
    pub channels: Vec<String>,
    /// The channel of kind mail-server that carries them, if not the service's own server.
    pub mail_server: Option<String>,
    /// How long what happens is gathered into one mail.
    pub gather: Duration,
    /// A source that failed in so many runs in a row is worth a notice.
    pub source_failures: i32,
}

/// Where bounces come in.
#[derive(Clone)]
pub struct Bounces {
    pub maildir: PathBuf,
    /// An address is suppressed after so many hard bounces.
    pub limit: i32,
}

#[derive(Debug, thiserror::Error)]
pub enum ConfigError {
    #[error("the configuration {path} cannot be read: {error}")]
    Unreadable { path: String, error: std::io::Error },
    #[error("the configuration {path} is not valid: {words}")]
    Invalid { path: String, words: String },
}

/// Why a key of a section does not hold.
#[derive(Debug, thiserror::Error)]
#[error("{key}: {why}")]
struct BadKey {
    key: String,
    #[source]
    why: Box<dyn std::error::Error + Send + Sync>,
}

impl BadKey {
    fn new(
        key: impl Into<String>,
        why: impl Into<Box<dyn std::error::Error + Send + Sync>>,
    ) -> Self {
        Self {
            key: key.into(),
            why: why.into(),
        }
    }
}

/// A file that a key names.
fn file_at(key: &str, path: &Path) -> Result<Vec<u8>, BadKey> {
    std::fs::read(path)
        .map_err(|error| BadKey::new(key, format!("{} cannot be read: {error}", path.display())))
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct File {
    #[serde(default = "default_listen")]
    listen: SocketAddr,
    tls: Option<TlsFile>,
    public_url: Option<String>,
    database: String,
    #[serde(default = "default_connections")]
    connections: u32,
    #[serde(default)]
    database_fails_over: bool,
    #[serde(default)]
    log: Log,
    lease: Option<Span>,
    head_timeout: Option<Span>,
    first_administrator_password: Option<String>,
    mail: Option<MailFile>,
    demo: Option<Demo>,
    /// Addresses that sources may reach although they are the service's own or link-local.
    #[serde(default)]
    sources_may_reach: Vec<String>,
    /// Folders that sources of kind "files" may read.
    #[serde(default)]
    sources_may_read: Vec<PathBuf>,
    /// File systems whose room local checks may measure, and what of this machine itself they may tell.
    #[serde(default = "default_disks")]
    sources_may_measure: Vec<PathBuf>,
    /// A folder with the journal that local checks count, if it is not this machine's own.
    journal_folder: Option<PathBuf>,
    /// References to the environment and to files that definitions may have.
    #[serde(default)]
    definitions_may_use: Vec<String>,
    /// Proxies that are believed whom they ask for.
    #[serde(default)]
    trusted_proxies: Vec<String>,
    /// Origins whose pages may have published views in them, such as "https://intranet.host.example".
    #[serde(default)]
    embed_in: Vec<String>,
    /// Kinds of definitions that authors may change beside what is theirs.
    #[serde(default)]
    authors_may_change: Vec<String>,
    /// The hosts that a stored secret may be sent to.
    #[serde(default)]
    secret_hosts: BTreeMap<String, Vec<String>>,
    /// Folders with fonts for characters that the program's own does not have.
    #[serde(default = "default_fonts")]
    fonts: Vec<PathBuf>,
    audit_channel: Option<String>,
    archive_head_to: Option<Mailbox>,
    directory: Option<directory::DirectoryFile>,
    identity_provider: Option<identity_provider::IdentityProviderFile>,
    storage: Option<storage::StorageFile>,
    telemetry: Option<telemetry::TelemetryFile>,
    /// 64 hexadecimal digits, by reference.
    secret_key: Option<String>,
    #[serde(default)]
    deliver_into: Vec<PathBuf>,
    #[serde(default)]
    notices: NoticesFile,
    bounces: Option<BouncesFile>,
    #[serde(default)]
    commands: Commands,
    #[serde(default)]
    programs: Commands,
    #[serde(default)]
    source_programs: Commands,
    #[serde(default)]
    browser: BrowserFile,
}

/// A certificate and its key, in PEM.
#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct TlsFile {
    certificate: PathBuf,
    key: PathBuf,
}

/// The browser that live pages are captured in.
#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
struct BrowserFile {
    program: Option<PathBuf>,
    most_at_once: Option<u16>,
    most_memory: Option<String>,
    idle: Option<Span>,
}

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
struct NoticesFile {
    to: Option<Mailbox>,
    channels: Vec<String>,
    mail_server: Option<String>,
    gather: Option<Span>,
    source_failures: Option<u16>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct BouncesFile {
    maildir: PathBuf,
    suppress_after: Option<u16>,
}

#[derive(Deserialize, Default, PartialEq)]
#[serde(rename_all = "kebab-case")]
enum Log {
    #[default]
    Text,
    Json,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct MailFile {
    host: String,
    port: u16,
    tls: TlsWord,
    user: Option<String>,
    password: Option<String>,
    from: Mailbox,
    reply_to: Option<Mailbox>,
    bounces: Option<Mailbox>,
    ca_file: Option<String>,
    first_retry: Option<Span>,
    retry_for: Option<Span>,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
enum TlsWord {
    Off,
    Starttls,
    Tls,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Demo {
    mailbox: PathBuf,
}

/// A page needs at least so much memory, in bytes.
const LEAST_MEMORY: u64 = 100_000_000;

fn default_listen() -> SocketAddr {
    SocketAddr::from(([127, 0, 0, 1], 8480))
}

fn default_fonts() -> Vec<PathBuf> {
    ["/usr/share/fonts", "/usr/local/share/fonts"]
        .map(PathBuf::from)
        .to_vec()
}

/// The file systems that may be measured, and what of this machine may be told.
///
/// # Errors
/// With what is neither.
fn measured(all: Vec<PathBuf>) -> Result<(Vec<PathBuf>, Vec<MachinePart>), PathBuf> {
    let (mut disks, mut machine) = (Vec::new(), Vec::new());
    for one in all {
        let part = MachinePart::ALL
            .into_iter()
            .find(|part| Path::new(part.name()) == one);
        match part {
            Some(part) => machine.push(part),
            None if one.is_absolute() => disks.push(one),
            None => return Err(one),
        }
    }
    Ok((disks, machine))
}

fn default_disks() -> Vec<PathBuf> {
    vec![PathBuf::from("/")]
}

fn default_connections() -> u32 {
    16
}

impl Config {
    /// Whether this process takes a part of the work.
    pub fn takes(&self, work: Work) -> bool {
        self.work.contains(&work)
    }

    /// What stands before every path that people open: empty, or such as "/reports".
    pub fn base(&self) -> &str {
        let begins = self.public_url.find("://").map_or(0, |at| at + 3);
        let path = self.public_url[begins..].find('/');
        path.map_or("", |at| &self.public_url[begins + at..])
    }

    /// Reads and checks a configuration file.
    ///
    /// # Errors
    /// What is wrong and where; the values of secrets are not part of it.
    #[expect(
        clippy::too_many_lines,
        reason = "a flat list of keys, in the order of the documentation"
    )]
    pub fn read(path: &str) -> Result<Self, ConfigError> {
        let text = std::fs::read_to_string(path).map_err(|error| ConfigError::Unreadable {
            path: path.to_owned(),
            error,
        })?;
        let invalid = |words: String| ConfigError::Invalid {
            path: path.to_owned(),
            words,
        };
        let bad_key = |bad: BadKey| invalid(bad.to_string());
        let file: File = toml_edit::de::from_str(&text).map_err(|error| {
            let line = error
                .span()
                .map(|span| format!("line {}: ", text[..span.start].matches('\n').count() + 1))
                .unwrap_or_default();
            invalid(format!("{line}{}", error.message()))
        })?;
        let seconds =
            |key: &str, span: Option<Span>, default: u64| match span.map(|span| span.elapsed()) {
                None => Ok(Duration::from_secs(default)),
                Some(Some(elapsed)) => Ok(Duration::from_secs(elapsed.num_seconds() as u64)),
                Some(None) => Err(invalid(format!(
                    "{key} must be made of hours, minutes and seconds, such as \"PT30S\""
                ))),
            };
        let secret = |key: &str, written: &str| {
            look_up(written).map_err(|error| invalid(format!("{key}: {error}")))
        };
        let mail = file
            .mail
            .map(|mail| {
                let password = mail
                    .password
                    .map(|written| secret("mail.password", &written))
                    .transpose()?;
                let tls = match mail.tls {
                    TlsWord::Off => MailTls::Off,
                    TlsWord::Starttls => MailTls::StartTls,
                    TlsWord::Tls => MailTls::Tls,
                };
                let ca = mail.ca_file.map(|path| {
                    std::fs::read(&path).map_err(|error| {
                        invalid(format!("mail.ca-file: {path} cannot be read: {error}"))
                    })
                });
                let server = MailServer {
                    host: mail.host,
                    port: mail.port,
                    tls,
                    ca: ca.transpose()?,
                    sign_in: mail
                        .user
                        .zip(password)
                        .map(|(user, password)| MailSignIn::Password { user, password }),
                    from: mail.from,
                    reply_to: mail.reply_to,
                    bounces: mail.bounces,
                    dkim: None,
                    max_size: None,
                    timeout: Duration::from_secs(30),
                };
                Ok(Mail {
                    server,
                    first_retry: seconds("mail.first-retry", mail.first_retry, 30)?,
                    retry_for: seconds("mail.retry-for", mail.retry_for, 86_400)?,
                })
            })
            .transpose()?;
        let database = secret("database", &file.database)?;
        let allowed = file.sources_may_reach.iter().map(|range| {
            range
                .parse()
                .map_err(|error: BadRange| invalid(format!("sources-may-reach: {error}")))
        });
        let trusted_proxies = file.trusted_proxies.iter().map(|range| {
            if range.parse::<SocketAddr>().is_ok() {
                let words = format!(
                    "trusted-proxies: \"{range}\": a proxy asks from any port, so name none"
                );
                return Err(invalid(words));
            }
            let read = range.parse();
            read.map_err(|error: BadRange| invalid(format!("trusted-proxies: {error}")))
        });
        let boundary = Boundary {
            own: std::iter::once(file.listen)
                .chain(database_addresses(&database))
                .collect(),
            allowed: allowed.collect::<Result<_, _>>()?,
        };
        let key = file
            .secret_key
            .map(|written| secret("secret-key", &written))
            .transpose()?;
        let key = key.map(|key| {
            let mut bytes = [0; 32];
            let read = hex::decode_to_slice(key.trim(), &mut bytes).map(|()| bytes);
            read.map_err(|_| invalid("secret-key: it must be 64 hexadecimal digits, as \"openssl rand -hex 32\" makes them".to_owned()))
        });
        let vault = Vault::new(key.transpose()?.as_ref());
        let tls = file.tls.map(|TlsFile { certificate, key }| {
            let files = CertificateFiles { certificate, key };
            let usable = files.validity();
            usable.map_err(|error| invalid(format!("tls: {error}")))?;
            Ok(files)
        });
        let tls = tls.transpose()?;
        let scheme = if tls.is_some() { "https" } else { "http" };
        let public_url = file
            .public_url
            .unwrap_or_else(|| format!("{scheme}://{}", file.listen))
            .trim_end_matches('/')
            .to_owned();
        if !is_address_of_people(&public_url) {
            return Err(invalid(format!(
                "public-url: \"{public_url}\" is not an address such as \"https://reports.host.example\" or \"https://host.example/reports\""
            )));
        }
        if file.identity_provider.is_some() && !vault.has_key() {
            return Err(invalid(
                "identity-provider: what begins a sign-in there is sealed, so a secret-key is needed; make a file with \"openssl rand -hex 32\" and name it as secret-key = \"file:/path\"".to_owned(),
            ));
        }
        let identity_provider = file
            .identity_provider
            .map(|provider| provider.checked(&public_url).map_err(bad_key))
            .transpose()?;
        for (key, folders) in [
            ("deliver-into", &file.deliver_into),
            ("sources-may-read", &file.sources_may_read),
        ] {
            if let Some(folder) = folders.iter().find(|folder| !folder.is_absolute()) {
                return Err(invalid(format!(
                    "{key}: {} is not an absolute path",
                    folder.display()
                )));
            }
        }
        let (disks, machine) = measured(file.sources_may_measure).map_err(|one| {
            let parts = MachinePart::ALL.map(MachinePart::name).join(", ");
            invalid(format!(
                "sources-may-measure: {} is neither an absolute path nor one of {parts}",
                one.display()
            ))
        })?;
        if let Some(folder) = file
            .journal_folder
            .as_ref()
            .filter(|folder| !folder.is_absolute())
        {
            return Err(invalid(format!(
                "journal-folder: {} is not an absolute path",
                folder.display()
            )));
        }
        if let Some(other) = file
            .definitions_may_use
            .iter()
            .find(|one| !one.starts_with("env:") && !one.starts_with("file:"))
        {
            return Err(invalid(format!(
                "definitions-may-use: \"{other}\" is neither \"env:NAME\" nor \"file:/path\"; a \"*\" at its end stands for anything"
            )));
        }
        let is_origin = |text: &str| {
            let host = text
                .strip_prefix("https://")
                .or(text.strip_prefix("http://"));
            let is_plain = |c: char| c.is_ascii_alphanumeric() || ".-:[]*".contains(c);
            host.is_some_and(|host| !host.is_empty() && host.chars().all(is_plain))
        };
        if let Some(other) = file.embed_in.iter().find(|one| !is_origin(one)) {
            return Err(invalid(format!(
                "embed-in: \"{other}\" is no origin such as \"https://intranet.host.example\": no path follows it"
            )));
        }
        let kinds = file
            .authors_may_change
            .iter()
            .map(|kind| match kind.as_str() {
                "sources" => Ok(Kind::Source),
                "channels" => Ok(Kind::Channel),
                other => Err(invalid(format!(
                    "authors-may-change: \"{other}\" is neither \"sources\" nor \"channels\""
                ))),
            });
        let authors_may_change = kinds.collect::<Result<_, _>>()?;
        for (table, all) in [
            ("commands", &file.commands),
            ("programs", &file.programs),
            ("source-programs", &file.source_programs),
        ] {
            let absolute = |command: &Vec<String>| {
                let program = command.first();
                program.is_some_and(|program| program.starts_with('/'))
            };
            if let Some((name, _)) = all.iter().find(|(_, command)| !absolute(command)) {
                return Err(invalid(format!(
                    "{table}.{name} must begin with the absolute path of a program, such as [\"/usr/local/bin/{name}\"]"
                )));
            }
        }
        let notices = Notices {
            to: file.notices.to,
            channels: file.notices.channels,
            mail_server: file.notices.mail_server,
            gather: seconds("notices.gather", file.notices.gather, 60)?,
            source_failures: i32::from(file.notices.source_failures.unwrap_or(3).max(1)),
        };
        let bounces = file.bounces.map(|bounces| Bounces {
            maildir: bounces.maildir,
            limit: i32::from(bounces.suppress_after.unwrap_or(3).max(1)),
        });
        let usual = BrowserSettings::default();
        let most_memory = file.browser.most_memory.map(|written| {
            size(&written).filter(|bytes| *bytes >= LEAST_MEMORY).ok_or_else(|| {
                invalid(format!(
                    "browser.most-memory: \"{written}\" is not a size of at least 100 MB, such as \"1 GB\""
                ))
            })
        });
        let browser = BrowserSettings {
            program: file.browser.program,
            most_at_once: file
                .browser
                .most_at_once
                .map_or(usual.most_at_once, usize::from)
                .clamp(1, 32),
            most_memory: most_memory.transpose()?.unwrap_or(usual.most_memory),
            idle: seconds("browser.idle", file.browser.idle, usual.idle.as_secs())?,
        };
        Ok(Config {
            listen: file.listen,
            tls,
            public_url,
            database,
            connections: file.connections.clamp(2, 200),
            database_fails_over: file.database_fails_over,
            work: Work::ALL.iter().copied().collect(),
            wait_for_database: Duration::ZERO,
            log_json: file.log == Log::Json,
            lease: seconds("lease", file.lease, 30)?,
            head_timeout: seconds("head-timeout", file.head_timeout, 30)?,
            first_administrator_password: file
                .first_administrator_password
                .map(|written| secret("first-administrator-password", &written))
                .transpose()?,
            mail,
            demo_mailbox: file.demo.map(|demo| demo.mailbox),
            audit_channel: file.audit_channel,
            archive_head_to: file.archive_head_to,
            directory: file
                .directory
                .map(|directory| directory.checked().map_err(bad_key))
                .transpose()?,
            identity_provider,
            storage: file
                .storage
                .map(|storage| storage.checked().map_err(bad_key))
                .transpose()?,
            telemetry: file
                .telemetry
                .map(|telemetry| telemetry.checked().map_err(bad_key))
                .transpose()?,
            boundary,
            permissions: Permissions {
                folders: file.sources_may_read,
                disks,
                machine,
                journal_folder: file.journal_folder,
                references: file.definitions_may_use,
                secret_hosts: file.secret_hosts,
            },
            authors_may_change,
            trusted_proxies: trusted_proxies.collect::<Result<_, _>>()?,
            embed_in: file.embed_in,
            vault,
            deliver_into: file.deliver_into,
            notices,
            bounces,
            commands: file.commands,
            programs: file.programs,
            source_programs: file.source_programs,
            fonts: file.fonts,
            browser,
        })
    }
}

/// Whether it begins with a host, and goes on with nothing but plain names.
fn is_address_of_people(text: &str) -> bool {
    let Ok(url) = Url::parse(text) else {
        return false;
    };
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "/-._~".contains(c);
    matches!(url.scheme(), "http" | "https")
        && url.has_host()
        && url.username().is_empty()
        && url.query().is_none()
        && url.fragment().is_none()
        && url.path().chars().all(is_plain)
        && !url.path().contains("//")
}

/// The addresses that a PostgreSQL URL leads to, as its name is known now.
fn database_addresses(url: &str) -> Vec<SocketAddr> {
    let Some(authority) = url
        .split_once("://")
        .and_then(|(_, rest)| rest.split(['/', '?']).next())
    else {
        return Vec::new();
    };
    let address = authority
        .rsplit_once('@')
        .map_or(authority, |(_, address)| address);
    if address.is_empty() {
        // It is reached by a socket of this machine, and most likely by loopback, too.
        let port = url
            .split(['?', '&'])
            .find_map(|one| one.strip_prefix("port="));
        let port = port.and_then(|port| port.parse().ok()).unwrap_or(5432);
        return vec![
            SocketAddr::from((Ipv4Addr::LOCALHOST, port)),
            SocketAddr::from((Ipv6Addr::LOCALHOST, port)),
        ];
    }
    let (host, port) = split_address(address).unwrap_or((address, 5432));
    let found = (host.trim_matches(['[', ']']), port).to_socket_addrs();
    found.map(Iterator::collect).unwrap_or_default()
}

/// Why a setting of the service's own cannot be looked up.
#[derive(Debug, thiserror::Error)]
pub enum LookUpError {
    #[error(transparent)]
    Written(#[from] BadSetting),
    #[error("the environment variable {0} is not set")]
    NotSet(String),
    #[error("{path} cannot be read: {error}")]
    File {
        path: String,
        #[source]
        error: std::io::Error,
    },
    #[error(
        "give it as \"env:NAME\" or \"file:/path\" here; commands are for the settings of sources and channels"
    )]
    Command,
    #[error(
        "a secret of the service itself cannot be one that it keeps; refer to it as \"env:NAME\" or \"file:/path\""
    )]
    Secret,
}

/// What a setting is, or what is behind a reference to it: `env:NAME` or `file:/path`.
///
/// # Errors
/// If it is not there or cannot be read.
pub fn look_up(written: &str) -> Result<String, LookUpError> {
    match written.parse::<Setting>()? {
        Setting::Plain(text) => Ok(text),
        Setting::Environment(name) => std::env::var(&name).map_err(|_| LookUpError::NotSet(name)),
        Setting::File(path) => match std::fs::read_to_string(&path) {
            Ok(text) => Ok(text.trim_end().to_owned()),
            Err(error) => Err(LookUpError::File { path, error }),
        },
        Setting::Command(_) => Err(LookUpError::Command),
        Setting::Secret(_) => Err(LookUpError::Secret),
    }
}

#[cfg(test)]
mod tests;
