//! Who somebody is, as the organisation knows them: by its directory (LDAP, RFC 4511), where they are searched
//! for by an account that may only read and their password is tried by signing in as them, or by its
//! OpenID provider. Nothing is ever written there, and no password is kept.

mod filter;
mod groups;
mod provider;

use std::{sync::Arc, time::Duration};

use ldap3::{
    Ldap, LdapConnAsync, LdapConnSettings, LdapError, Scope, SearchEntry, SearchOptions, StdStream,
};
use rustls::{
    ClientConfig, RootCertStore,
    crypto::ring,
    pki_types::{CertificateDer, pem::PemObject},
};

pub use filter::{BadFilter, Filter};
pub use groups::{Groups, same_entry};
pub use provider::{Begun, LetIn, NotLooked, Provider, ProviderError, ProviderSettings};

/// LDAP's result code for a name or a password that is wrong (RFC 4511, 4.1.9).
const INVALID_CREDENTIALS: u32 = 49;
/// And for an entry that is not there.
const NO_SUCH_OBJECT: u32 = 32;
/// Groups of one person; more are not looked at.
const MOST_GROUPS: i32 = 1_000;

/// How the way to the directory is protected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Protection {
    /// Not at all: only on the machine itself.
    None,
    /// From the first request on (RFC 4513, 3).
    StartTls,
    /// From the connection on.
    Tls,
}

/// Where the directory is and how people are found in it.
#[derive(Clone)]
pub struct Settings {
    /// Host, with a port if it is not the usual one.
    pub host: String,
    pub protection: Protection,
    /// Certificates in PEM to trust instead of the system's.
    pub ca: Option<Vec<u8>>,
    /// The name and the password of the account that searches; without one it asks unnamed.
    pub reader: Option<(String, String)>,
    /// The entry below which people are.
    pub base: String,
    /// Finds somebody by the name that they sign in with.
    pub person: Filter,
    /// The attribute with that name.
    pub name: String,
    /// The attribute with their mail address.
    pub mail: String,
    pub groups: Groups,
    /// How long one request may take.
    pub timeout: Duration,
}

/// Somebody whom the directory or the provider knows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Person {
    /// The distinguished name of their entry (RFC 4514), or what the provider calls them for good.
    pub entry: String,
    /// The name that they sign in with, as the directory writes it.
    pub name: String,
    pub mail: Option<String>,
    /// Their groups, by distinguished names or as the provider calls them.
    pub groups: Vec<String>,
}

/// Why the directory gave no answer. No password is part of it.
#[derive(Debug, thiserror::Error)]
pub enum DirectoryError {
    #[error("the directory {host} cannot be reached: {words}")]
    Unreachable { host: String, words: String },
    #[error("the certificates of ca-file cannot be read")]
    Certificates,
    #[error("the directory refuses the account that searches in it: {0}")]
    Reader(String),
    #[error("the directory did not answer in time")]
    Late,
    #[error("the directory finds several people called \"{0}\"; the filter must find one")]
    Several(String),
    #[error("the directory does not know the entry \"{0}\", below which people are looked for")]
    NoBase(String),
    #[error("the directory refused: {0}")]
    Refused(String),
}

/// The organisation's directory. Each question has a connection of its own.
#[derive(Clone)]
pub struct Directory {
    settings: Settings,
    tls: Option<Arc<ClientConfig>>,
}

impl Directory {
    /// # Errors
    /// If the certificates to trust cannot be read.
    pub fn new(settings: Settings) -> Result<Self, DirectoryError> {
        let tls = match settings.protection {
            Protection::None => None,
            Protection::StartTls | Protection::Tls => Some(trusting(settings.ca.as_deref())?),
        };
        Ok(Self { settings, tls })
    }

    /// Where it is, for people.
    #[must_use]
    pub fn host(&self) -> &str {
        &self.settings.host
    }

    /// Whoever has this name and password; nothing if nobody has.
    ///
    /// # Errors
    /// If the directory gives no answer.
    pub async fn sign_in(
        &self,
        name: &str,
        password: &str,
    ) -> Result<Option<Person>, DirectoryError> {
        // A sign-in without a password is one as nobody, which succeeds (RFC 4513, 5.1.2).
        if password.is_empty() || name.trim().is_empty() {
            return Ok(None);
        }
        let Some(person) = self.find(name).await? else {
            return Ok(None);
        };
        let mut connection = self.connect().await?;
        let answer = connection.simple_bind(&person.entry, password).await;
        let code = answer.map_err(|error| self.failed(&error))?.rc;
        let _ = connection.unbind().await;
        match code {
            0 => Ok(Some(person)),
            // Who is locked or must change their password is refused with other codes.
            INVALID_CREDENTIALS => Ok(None),
            other => {
                tracing::warn!(
                    code = other,
                    entry = person.entry,
                    "the directory refuses a sign-in"
                );
                Ok(None)
            }
        }
    }

    /// Whoever has this name; nothing if nobody has.
    ///
    /// # Errors
    /// If the directory gives no answer, or several people.
    pub async fn find(&self, name: &str) -> Result<Option<Person>, DirectoryError> {
        let mut connection = self.reading().await?;
        let found = self.person(&mut connection, name).await;
        let _ = connection.unbind().await;
        found
    }

    /// Whether the directory answers and has the entry below which people are looked for; an answer
    /// in words.
    ///
    /// # Errors
    /// If it does not, or refuses the account that searches.
    pub async fn test(&self) -> Result<String, DirectoryError> {
        let mut connection = self.reading().await?;
        let found = self
            .search(
                &mut connection,
                (&self.settings.base, Scope::Base),
                "(objectClass=*)",
                &["1.1"],
                1,
            )
            .await?;
        let _ = connection.unbind().await;
        if found.is_empty() {
            return Err(DirectoryError::NoBase(self.settings.base.clone()));
        }
        Ok(format!("{} knows {}", self.host(), self.settings.base))
    }

    async fn person(
        &self,
        connection: &mut Ldap,
        name: &str,
    ) -> Result<Option<Person>, DirectoryError> {
        let settings = &self.settings;
        let mut attributes = vec![settings.name.as_str(), settings.mail.as_str()];
        if let Groups::Attribute(attribute) = &settings.groups {
            attributes.push(attribute);
        }
        let filter = settings.person.of(name);
        let place = (settings.base.as_str(), Scope::Subtree);
        let mut found = self
            .search(connection, place, &filter, &attributes, 2)
            .await?;
        if found.len() > 1 {
            return Err(DirectoryError::Several(name.to_owned()));
        }
        let Some(entry) = found.pop() else {
            return Ok(None);
        };
        let first = |attribute: &str| values(&entry, attribute).first().cloned();
        // A filter may find people by more than their names; they sign in by their names alone.
        let known =
            first(&settings.name).filter(|known| known.to_lowercase() == name.to_lowercase());
        let Some(known) = known else {
            return Ok(None);
        };
        let groups = match &settings.groups {
            Groups::None => Vec::new(),
            Groups::Attribute(attribute) => values(&entry, attribute),
            Groups::Search { base, filter } => {
                let place = (base.as_str(), Scope::Subtree);
                let filter = filter.of(&entry.dn);
                let found = self
                    .search(connection, place, &filter, &["1.1"], MOST_GROUPS)
                    .await?;
                found.into_iter().map(|group| group.dn).collect()
            }
        };
        Ok(Some(Person {
            mail: first(&settings.mail),
            name: known,
            groups,
            entry: entry.dn,
        }))
    }

    async fn search(
        &self,
        connection: &mut Ldap,
        (base, scope): (&str, Scope),
        filter: &str,
        attributes: &[&str],
        most: i32,
    ) -> Result<Vec<SearchEntry>, DirectoryError> {
        let found = connection
            .with_search_options(SearchOptions::new().sizelimit(most))
            .with_timeout(self.settings.timeout)
            .search(base, scope, filter, attributes)
            .await
            .map_err(|error| self.failed(&error))?;
        let (entries, result) = (found.0, found.1);
        match result.rc {
            // More than the limit are as many as the limit.
            0 | 4 => {}
            NO_SUCH_OBJECT => return Err(DirectoryError::NoBase(base.to_owned())),
            _ => return Err(DirectoryError::Refused(result.to_string())),
        }
        let entries = entries.into_iter();
        // What is elsewhere, behind a referral, is not followed: its server was not named.
        let own = entries.filter(|entry| !entry.is_ref() && !entry.is_intermediate());
        Ok(own.map(SearchEntry::construct).collect())
    }

    /// A connection of the account that searches.
    async fn reading(&self) -> Result<Ldap, DirectoryError> {
        let mut connection = self.connect().await?;
        if let Some((name, password)) = &self.settings.reader {
            let answer = connection
                .with_timeout(self.settings.timeout)
                .simple_bind(name, password)
                .await;
            let answer = answer.map_err(|error| self.failed(&error))?;
            if answer.rc != 0 {
                return Err(DirectoryError::Reader(answer.to_string()));
            }
        }
        Ok(connection)
    }

    async fn connect(&self) -> Result<Ldap, DirectoryError> {
        let way = Way {
            host: &self.settings.host,
            protection: self.settings.protection,
            tls: self.tls.clone(),
            timeout: self.settings.timeout,
            stream: None,
        };
        connect(way).await.map_err(|error| self.failed(&error))
    }

    fn failed(&self, error: &LdapError) -> DirectoryError {
        match error {
            LdapError::Timeout { .. } => DirectoryError::Late,
            LdapError::LdapResult { result } => DirectoryError::Refused(result.to_string()),
            other => DirectoryError::Unreachable {
                host: self.settings.host.clone(),
                words: other.to_string(),
            },
        }
    }
}

/// The way to a directory.
#[derive(Debug)]
pub struct Way<'a> {
    /// Host, with a port if it is not the usual one. Its certificate must be valid for it.
    pub host: &'a str,
    pub protection: Protection,
    /// Whom to trust, where the way is protected.
    pub tls: Option<Arc<ClientConfig>>,
    /// How long connecting and each request may take.
    pub timeout: Duration,
    /// A connection that is there already, to whatever the host is.
    pub stream: Option<std::net::TcpStream>,
}

/// A connection to a directory, on which nobody has signed in.
///
/// # Errors
/// If it cannot be reached, or not be protected as it is to be.
pub async fn connect(way: Way<'_>) -> Result<Ldap, LdapError> {
    let scheme = match way.protection {
        Protection::Tls => "ldaps",
        Protection::None | Protection::StartTls => "ldap",
    };
    let mut settings = LdapConnSettings::new()
        .set_conn_timeout(way.timeout)
        .set_starttls(way.protection == Protection::StartTls);
    if let Some(tls) = way.tls {
        settings = settings.set_config(tls);
    }
    if let Some(stream) = way.stream {
        settings = settings.set_std_stream(StdStream::Tcp(stream));
    }
    let url = format!("{scheme}://{}", way.host);
    let (work, mut connection) = LdapConnAsync::with_settings(settings, &url).await?;
    tokio::spawn(async move {
        // Whoever asks hears of it by the answer that does not come.
        if let Err(error) = work.drive().await {
            tracing::debug!(%error, "a connection to the directory ended");
        }
    });
    connection.with_timeout(way.timeout);
    Ok(connection)
}

/// The values of an attribute; names of attributes have no case.
fn values(entry: &SearchEntry, attribute: &str) -> Vec<String> {
    let mut all = entry.attrs.iter();
    let found = all.find(|(name, _)| name.eq_ignore_ascii_case(attribute));
    found.map(|(_, values)| values.clone()).unwrap_or_default()
}

/// Whom a protected way trusts: these certificates in PEM, or the system's.
///
/// # Errors
/// If the certificates cannot be read.
pub fn trusting(ca: Option<&[u8]>) -> Result<Arc<ClientConfig>, DirectoryError> {
    let mut roots = RootCertStore::empty();
    match ca {
        Some(pem) => {
            for certificate in CertificateDer::pem_slice_iter(pem) {
                let certificate = certificate.map_err(|_| DirectoryError::Certificates)?;
                roots
                    .add(certificate)
                    .map_err(|_| DirectoryError::Certificates)?;
            }
            if roots.is_empty() {
                return Err(DirectoryError::Certificates);
            }
        }
        None => {
            roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
    }
    let config = ClientConfig::builder_with_provider(Arc::new(ring::default_provider()))
        .with_safe_default_protocol_versions()
        .map_err(|_| DirectoryError::Certificates)?;
    Ok(Arc::new(
        config.with_root_certificates(roots).with_no_client_auth(),
    ))
}
