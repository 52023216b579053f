//! Files on other machines by SFTP (draft-ietf-secsh-filexfer-02) over SSH (RFC 4251 to 4254). The server
//! is known by its key, which is pinned: nothing is said to one that shows another.

mod find;
mod sign_in;

use std::{
    net::SocketAddr,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

use russh::{
    Disconnect,
    client::{self, Handle},
    keys::{HashAlg, PublicKeyOrCertificate},
};
use russh_sftp::{
    client::{RawSftpSession, SftpSession, error::Error as Answer},
    protocol::{OpenFlags, Packet, StatusCode},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
    time::timeout,
};
use uuid::Uuid;

pub use sign_in::SignIn;

/// Puts a file in the place of another in one step, where the server can.
const REPLACE: &str = "posix-rename@openssh.com";
/// One part of a file that is read.
const PART: usize = 256 * 1024;

/// Where files are, and as whom.
#[derive(Clone)]
pub struct Server {
    /// As it is told: `host:port`.
    pub address: String,
    /// What it leads to, all of which may be reached. They are tried one after the other.
    pub addresses: Vec<SocketAddr>,
    /// The fingerprints of its keys, such as `SHA256:…`; one of them has to be shown.
    pub host_keys: Vec<String>,
    pub user: String,
    pub sign_in: SignIn,
    /// How long connecting may take, and each request after it.
    pub timeout: Duration,
}

/// Why files cannot be had or put there. No password and no key is part of it.
#[derive(Debug, thiserror::Error)]
pub enum SftpError {
    #[error("{address} cannot be reached: {words}")]
    Unreachable { address: String, words: String },
    #[error(
        "{address} shows the key {shown}, which is none that host-key names; ask its administrator whether it has a new one before you change that"
    )]
    HostKey { address: String, shown: String },
    #[error("{address} refused the sign-in of {user}: {words}")]
    SignIn {
        address: String,
        user: String,
        words: String,
    },
    #[error("the private key cannot be used: {0}")]
    Key(String),
    #[error("{path}: {words}")]
    Refused { path: String, words: String },
    /// What may go by, such as a disk that is full or a connection that was lost.
    #[error("{path}: {words}")]
    Failed { path: String, words: String },
    #[error("{path} is larger than {limit} bytes")]
    TooLarge { path: String, limit: u64 },
}

impl SftpError {
    /// Whether it may go by itself.
    #[must_use]
    pub fn is_passing(&self) -> bool {
        matches!(self, Self::Unreachable { .. } | Self::Failed { .. })
    }

    /// What a server says of a file.
    fn of(path: &str, error: &Answer) -> Self {
        let path = path.to_owned();
        match error {
            Answer::Status(status) => {
                let words = if status.error_message.is_empty() {
                    status.status_code.to_string()
                } else {
                    status.error_message.clone()
                };
                // A server has no other word for a disk that is full.
                match status.status_code {
                    StatusCode::Failure | StatusCode::NoConnection | StatusCode::ConnectionLost => {
                        Self::Failed { path, words }
                    }
                    _ => Self::Refused { path, words },
                }
            }
            other => Self::Failed {
                path,
                words: other.to_string(),
            },
        }
    }
}

/// Knows the server by its key, and remembers what it showed.
struct Pinned {
    allowed: Vec<String>,
    shown: Arc<Mutex<Option<String>>>,
}

impl client::Handler for Pinned {
    type Error = russh::Error;

    async fn check_server_key(
        &mut self,
        key: &PublicKeyOrCertificate,
    ) -> Result<bool, Self::Error> {
        let shown = match key {
            PublicKeyOrCertificate::PublicKey { key, .. } => key.fingerprint(HashAlg::Sha256),
            PublicKeyOrCertificate::Certificate(certificate) => {
                certificate.public_key().fingerprint(HashAlg::Sha256)
            }
        };
        let shown = shown.to_string();
        let known = self.allowed.contains(&shown);
        *self.shown.lock().unwrap_or_else(PoisonError::into_inner) = Some(shown);
        Ok(known)
    }
}

/// What is in a folder.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Entry {
    name: String,
    is_folder: bool,
    is_file: bool,
}

/// A connection to a server; it ends when this is dropped.
pub struct Connection {
    handle: Handle<Pinned>,
    files: SftpSession,
}

impl Connection {
    /// Connects, looks at the server's key and signs in.
    ///
    /// # Errors
    /// If it cannot be reached, shows another key or does not let the user in.
    pub async fn open(server: &Server) -> Result<Self, SftpError> {
        let unreachable = |words: String| SftpError::Unreachable {
            address: server.address.clone(),
            words,
        };
        let opened = timeout(server.timeout, async {
            let mut handle = connected(server).await?;
            sign_in::sign_in(&mut handle, server).await?;
            let files = match subsystem(&handle).await {
                Ok(stream) => SftpSession::new(stream).await,
                Err(error) => return Err(unreachable(format!("it offers no SFTP: {error}"))),
            };
            let files =
                files.map_err(|error| unreachable(format!("it offers no SFTP: {error}")))?;
            Ok(Self { handle, files })
        });
        let opened = opened.await.unwrap_or_else(|_| {
            let words = format!("no answer within {} s", server.timeout.as_secs());
            Err(unreachable(words))
        })?;
        opened.files.set_timeout(server.timeout.as_secs());
        Ok(opened)
    }

    /// The files that a pattern finds in a folder, by their paths from there and in their order: `*` and `?`
    /// stand for signs of a name, `**` for any folders. Names that begin with a dot are found by such only.
    ///
    /// # Errors
    /// If the pattern is none or finds too many, or a folder cannot be read.
    pub async fn find(&self, folder: &str, pattern: &str) -> Result<Vec<String>, SftpError> {
        find::find(self, folder, pattern).await
    }

    /// What is in a file.
    ///
    /// # Errors
    /// If it cannot be read, or has more bytes than `limit`.
    pub async fn read(&self, path: &str, limit: u64) -> Result<Vec<u8>, SftpError> {
        let mut file = self
            .files
            .open(path)
            .await
            .map_err(|error| SftpError::of(path, &error))?;
        let failed = |error: std::io::Error| SftpError::Failed {
            path: path.to_owned(),
            words: error.to_string(),
        };
        let (mut bytes, mut part) = (Vec::new(), vec![0; PART]);
        loop {
            match file.read(&mut part).await.map_err(failed)? {
                0 => break,
                read => bytes.extend_from_slice(&part[..read]),
            }
            if bytes.len() as u64 > limit {
                return Err(SftpError::TooLarge {
                    path: path.to_owned(),
                    limit,
                });
            }
        }
        file.close().await.map_err(failed)?;
        Ok(bytes)
    }

    /// Makes a folder, and those that it is in.
    ///
    /// # Errors
    /// If one of them cannot be made.
    pub async fn make_folder(&self, path: &str) -> Result<(), SftpError> {
        let exists = async |path: &str| {
            let found = self.files.try_exists(path).await;
            found.map_err(|error| SftpError::of(path, &error))
        };
        if path.is_empty() || exists(path).await? {
            return Ok(());
        }
        let places = path.match_indices('/').map(|(place, _)| place);
        for end in places.filter(|place| *place > 0).chain([path.len()]) {
            let part = &path[..end];
            if exists(part).await? {
                continue;
            }
            // Another one may have made it in the meantime.
            if let Err(error) = self.files.create_dir(part).await
                && !exists(part).await?
            {
                return Err(SftpError::of(part, &error));
            }
        }
        Ok(())
    }

    /// Puts a file where another of its name may be: written under a name of its own, brought to disk where the
    /// server can say so, and only then given its name, so nobody ever sees half of it.
    ///
    /// # Errors
    /// If it cannot be written; then what was there is still there.
    pub async fn put(&self, path: &str, bytes: &[u8]) -> Result<(), SftpError> {
        let (folder, name) = match path.rsplit_once('/') {
            Some((folder, name)) => (format!("{folder}/"), name),
            None => (String::new(), path),
        };
        let partial = format!("{folder}.{name}.{}.part", Uuid::new_v4().simple());
        let written = match self.write(&partial, bytes).await {
            Ok(()) => self.rename(&partial, path).await,
            failed => failed,
        };
        if written.is_err() {
            // What is left of it is in nobody's way, where even that is refused.
            let _ = self.files.remove_file(partial).await;
        }
        written
    }

    async fn write(&self, path: &str, bytes: &[u8]) -> Result<(), SftpError> {
        let flags = OpenFlags::CREATE | OpenFlags::EXCLUDE | OpenFlags::WRITE;
        let said = |error: Answer| SftpError::of(path, &error);
        let failed = |error: std::io::Error| SftpError::Failed {
            path: path.to_owned(),
            words: error.to_string(),
        };
        let mut file = self
            .files
            .open_with_flags(path, flags)
            .await
            .map_err(said)?;
        file.write_all(bytes).await.map_err(failed)?;
        file.flush().await.map_err(failed)?;
        file.sync_all().await.map_err(said)?;
        file.close().await.map_err(failed)
    }

    /// Gives a file a name that another one may have.
    async fn rename(&self, from: &str, to: &str) -> Result<(), SftpError> {
        let said = |error: Answer| SftpError::of(to, &error);
        let Err(refused) = self.files.rename(from, to).await else {
            return Ok(());
        };
        if !self.files.try_exists(to).await.map_err(said)? {
            return Err(said(refused));
        }
        match self.replace(from, to).await {
            Ok(true) => Ok(()),
            Ok(false) => {
                // A server that knows no better: for a moment there is no file of that name.
                self.files.remove_file(to).await.map_err(said)?;
                self.files.rename(from, to).await.map_err(said)
            }
            Err(error) => Err(error),
        }
    }

    /// Whether the server puts a file in the place of another in one step, and did.
    async fn replace(&self, from: &str, to: &str) -> Result<bool, SftpError> {
        let said = |error: Answer| SftpError::of(to, &error);
        let stream = subsystem(&self.handle).await;
        let stream = stream.map_err(|error| SftpError::Failed {
            path: to.to_owned(),
            words: error.to_string(),
        })?;
        let session = RawSftpSession::new(stream);
        let version = session.init().await.map_err(said)?;
        if !version.extensions.contains_key(REPLACE) {
            return Ok(false);
        }
        let text = |text: &str| {
            let length = (text.len() as u32).to_be_bytes();
            [&length[..], text.as_bytes()].concat()
        };
        let names = [text(from), text(to)].concat();
        match session.extended(REPLACE, names).await.map_err(said)? {
            Packet::Status(status) if status.status_code == StatusCode::Ok => Ok(true),
            Packet::Status(status) => Err(said(Answer::Status(status))),
            _ => Err(said(Answer::UnexpectedPacket)),
        }
    }

    /// Removes a file.
    ///
    /// # Errors
    /// If the server does not.
    pub async fn remove(&self, path: &str) -> Result<(), SftpError> {
        let removed = self.files.remove_file(path).await;
        removed.map_err(|error| SftpError::of(path, &error))
    }

    /// What is in a folder, links followed; nothing if there is no such folder.
    async fn entries(&self, folder: &str) -> Result<Option<Vec<Entry>>, SftpError> {
        let found = match self.files.read_dir(folder).await {
            Ok(found) => found,
            Err(Answer::Status(status)) if status.status_code == StatusCode::NoSuchFile => {
                return Ok(None);
            }
            Err(error) => return Err(SftpError::of(folder, &error)),
        };
        let mut entries = Vec::new();
        for one in found {
            let mut kind = one.file_type();
            if kind.is_symlink() {
                // One that leads nowhere is nothing.
                match self.files.metadata(one.path()).await {
                    Ok(leads_to) => kind = leads_to.file_type(),
                    Err(_) => continue,
                }
            }
            entries.push(Entry {
                name: one.file_name(),
                is_folder: kind.is_dir(),
                is_file: kind.is_file(),
            });
        }
        entries.sort();
        Ok(Some(entries))
    }

    /// Whether there is a file.
    async fn is_file(&self, path: &str) -> Result<bool, SftpError> {
        match self.files.metadata(path).await {
            Ok(found) => Ok(found.file_type().is_file()),
            Err(Answer::Status(status)) if status.status_code == StatusCode::NoSuchFile => {
                Ok(false)
            }
            Err(error) => Err(SftpError::of(path, &error)),
        }
    }

    /// Says good-bye.
    pub async fn close(self) {
        // Who has gone already does not hear it.
        let _ = self.files.close().await;
        let said = self
            .handle
            .disconnect(Disconnect::ByApplication, "", "en")
            .await;
        drop(said);
    }
}

/// A channel on which SFTP is spoken.
async fn subsystem(
    handle: &Handle<Pinned>,
) -> Result<russh::ChannelStream<client::Msg>, russh::Error> {
    let channel = handle.channel_open_session().await?;
    channel.request_subsystem(true, "sftp").await?;
    Ok(channel.into_stream())
}

/// A connection to a server that showed a key that is known.
async fn connected(server: &Server) -> Result<Handle<Pinned>, SftpError> {
    let unreachable = |words: String| SftpError::Unreachable {
        address: server.address.clone(),
        words,
    };
    let mut last = "the name has no address".to_owned();
    for address in &server.addresses {
        let stream = match TcpStream::connect(address).await {
            Ok(stream) => stream,
            Err(error) => {
                last = error.to_string();
                continue;
            }
        };
        let shown = Arc::default();
        let pinned = Pinned {
            allowed: server.host_keys.clone(),
            shown: Arc::clone(&shown),
        };
        let config = Arc::new(client::Config {
            nodelay: true,
            ..client::Config::default()
        });
        return match client::connect_stream(config, stream, pinned).await {
            Ok(handle) => Ok(handle),
            Err(error) => {
                let shown = shown.lock().unwrap_or_else(PoisonError::into_inner).take();
                match (error, shown) {
                    (russh::Error::UnknownKey, Some(shown)) => Err(SftpError::HostKey {
                        address: server.address.clone(),
                        shown,
                    }),
                    (error, _) => Err(unreachable(error.to_string())),
                }
            }
        };
    }
    Err(unreachable(last))
}
