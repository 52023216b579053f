//! TLS by the service itself: ends it on the address that people use, and passes on what was said to the web
//! server on this machine.
//!
//! Certificate and key are read again when their files change; connections that are open keep the ones
//! that they began with. New files that cannot be used leave the old ones in place.

use std::{
    collections::HashMap,
    fs, io,
    net::{Ipv4Addr, SocketAddr},
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, PoisonError, RwLock},
    time::Duration,
};

use chrono::{DateTime, Utc};
use rustls::{
    ServerConfig,
    pki_types::{CertificateDer, PrivateKeyDer, pem::PemObject},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpListener, TcpSocket, TcpStream},
    sync::oneshot,
    task::JoinSet,
};
use tokio_rustls::TlsAcceptor;

/// The files are looked at this often.
const LOOK_AGAIN: Duration = Duration::from_secs(2);
/// What is on its way when the service stops has so long.
const MERCY: Duration = Duration::from_secs(1);
/// A record of TLS that begins a connection begins with this.
const HANDSHAKE: u8 = 22;
/// So much is passed on at a time.
const PORTION: usize = 32 * 1024;

/// A certificate with what comes between it and its authority, and its key: two files in PEM (RFC 7468).
#[derive(Debug, Clone)]
pub struct CertificateFiles {
    pub certificate: PathBuf,
    pub key: PathBuf,
}

/// Why a certificate cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum BadCertificate {
    #[error("{} cannot be read: {error}", path.display())]
    File {
        path: PathBuf,
        #[source]
        error: io::Error,
    },
    #[error("{} has no certificate in PEM", .0.display())]
    None(PathBuf),
    #[error("{} has no private key in PEM that is not itself encrypted", .0.display())]
    NoKey(PathBuf),
    #[error("the certificate in {} cannot be understood", .0.display())]
    NotUnderstood(PathBuf),
    #[error("the key does not fit the certificate, or is of a kind that cannot be used: {0}")]
    DoesNotFit(#[from] rustls::Error),
}

/// What a certificate says of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Validity {
    pub from: DateTime<Utc>,
    pub until: DateTime<Utc>,
}

/// What is read of both files.
struct Loaded {
    config: Arc<ServerConfig>,
    validity: Validity,
}

impl CertificateFiles {
    /// How long the certificate in the files holds.
    ///
    /// # Errors
    /// If the files cannot be read or do not fit each other.
    pub fn validity(&self) -> Result<Validity, BadCertificate> {
        self.load().map(|loaded| loaded.validity)
    }

    fn load(&self) -> Result<Loaded, BadCertificate> {
        let read = |path: &Path| {
            fs::read(path).map_err(|error| BadCertificate::File {
                path: path.to_owned(),
                error,
            })
        };
        let chain = CertificateDer::pem_slice_iter(&read(&self.certificate)?)
            .collect::<Result<Vec<_>, _>>()
            .map_err(|_| BadCertificate::None(self.certificate.clone()))?;
        let own = chain
            .first()
            .ok_or_else(|| BadCertificate::None(self.certificate.clone()))?;
        let validity =
            validity(own).ok_or_else(|| BadCertificate::NotUnderstood(self.certificate.clone()))?;
        let key = PrivateKeyDer::from_pem_slice(&read(&self.key)?)
            .map_err(|_| BadCertificate::NoKey(self.key.clone()))?;
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let mut config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()?
            .with_no_client_auth()
            .with_single_cert(chain, key)?;
        config.alpn_protocols = vec![b"http/1.1".to_vec()];
        Ok(Loaded {
            config: Arc::new(config),
            validity,
        })
    }

    /// What is another once somebody has put other files there.
    fn stamps(&self) -> [Option<(u64, u64, i64, i64)>; 2] {
        [&self.certificate, &self.key].map(|path| {
            let found = fs::metadata(path).ok()?;
            Some((found.ino(), found.len(), found.mtime(), found.mtime_nsec()))
        })
    }
}

fn validity(certificate: &CertificateDer<'_>) -> Option<Validity> {
    let (_, parsed) = x509_parser::parse_x509_certificate(certificate).ok()?;
    let at = |time: x509_parser::time::ASN1Time| DateTime::from_timestamp(time.timestamp(), 0);
    Some(Validity {
        from: at(parsed.validity().not_before)?,
        until: at(parsed.validity().not_after)?,
    })
}

/// Who speaks through which of the connections to the web server.
#[derive(Debug, Default, Clone)]
pub struct Callers(Arc<Mutex<HashMap<SocketAddr, SocketAddr>>>);

impl Callers {
    /// Who it is behind a connection that the web server sees; without TLS everybody is who they seem.
    pub fn behind(&self, seen: SocketAddr) -> SocketAddr {
        self.lock().get(&seen).copied().unwrap_or(seen)
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, HashMap<SocketAddr, SocketAddr>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Remembers a caller for as long as the answer is kept.
    fn remember(&self, seen: SocketAddr, caller: SocketAddr) -> Remembered {
        self.lock().insert(seen, caller);
        Remembered(self.clone(), seen)
    }
}

struct Remembered(Callers, SocketAddr);

impl Drop for Remembered {
    fn drop(&mut self) {
        self.0.lock().remove(&self.1);
    }
}

/// The address that people use, opened.
pub struct Front {
    listener: TcpListener,
    files: CertificateFiles,
    current: RwLock<Arc<ServerConfig>>,
    callers: Callers,
    /// A connection that has not agreed on TLS by then is ended.
    within: Duration,
}

impl Front {
    /// Opens the address.
    ///
    /// # Errors
    /// If that is not possible, or the certificate cannot be used.
    pub async fn open(
        address: SocketAddr,
        files: CertificateFiles,
        callers: Callers,
        within: Duration,
    ) -> io::Result<Self> {
        let loaded = files.load().map_err(io::Error::other)?;
        Ok(Self {
            listener: TcpListener::bind(address).await?,
            files,
            current: RwLock::new(loaded.config),
            callers,
            within,
        })
    }

    /// Passes on what is said from when the web server's port is known until `stopped`.
    pub async fn serve(self, port: oneshot::Receiver<u16>, stopped: impl Future<Output = ()>) {
        let Ok(port) = port.await else {
            return;
        };
        let front = Arc::new(self);
        let looking = tokio::spawn(front.clone().keep_current());
        let mut under_way = JoinSet::new();
        tokio::pin!(stopped);
        loop {
            tokio::select! {
                () = &mut stopped => break,
                Some(_) = under_way.join_next(), if !under_way.is_empty() => {}
                accepted = front.listener.accept() => match accepted {
                    Ok((stream, caller)) => {
                        let front = front.clone();
                        under_way.spawn(async move {
                            if let Err(error) = front.pass_on(stream, caller, port).await {
                                tracing::debug!(%error, %caller, "a connection ended");
                            }
                        });
                    }
                    Err(error) => {
                        // No room for one more file, most likely; others will end.
                        tracing::warn!(%error, "a connection cannot be taken; it is tried again");
                        tokio::time::sleep(Duration::from_millis(100)).await;
                    }
                },
            }
        }
        looking.abort();
        let rest = async { while under_way.join_next().await.is_some() {} };
        let _ = tokio::time::timeout(MERCY, rest).await;
    }

    /// One connection from its beginning to its end.
    async fn pass_on(&self, stream: TcpStream, caller: SocketAddr, port: u16) -> io::Result<()> {
        stream.set_nodelay(true)?;
        let mut first = [0];
        let begun = tokio::time::timeout(self.within, stream.peek(&mut first)).await;
        if begun?? == 0 {
            return Ok(());
        }
        if first[0] != HANDSHAKE {
            return refuse(stream).await;
        }
        let config = self
            .current
            .read()
            .unwrap_or_else(PoisonError::into_inner)
            .clone();
        let accepted = TlsAcceptor::from(config).accept(stream);
        let mut outside = tokio::time::timeout(self.within, accepted).await??;
        let socket = TcpSocket::new_v4()?;
        socket.bind((Ipv4Addr::LOCALHOST, 0).into())?;
        let _remembered = self.callers.remember(socket.local_addr()?, caller);
        let mut inside = socket.connect((Ipv4Addr::LOCALHOST, port).into()).await?;
        inside.set_nodelay(true)?;
        let passed =
            tokio::io::copy_bidirectional_with_sizes(&mut outside, &mut inside, PORTION, PORTION);
        passed.await.map(drop)
    }

    /// Reads the files again when they have changed.
    async fn keep_current(self: Arc<Self>) {
        let mut known = self.files.stamps();
        loop {
            tokio::time::sleep(LOOK_AGAIN).await;
            let files = self.files.clone();
            let looking = tokio::task::spawn_blocking(move || {
                let now = files.stamps();
                (now, (now != known).then(|| files.load()))
            });
            let Ok((now, loaded)) = looking.await else {
                continue;
            };
            known = now;
            match loaded {
                None => {}
                Some(Ok(loaded)) => {
                    let until = loaded.validity.until;
                    tracing::info!(%until, "a new certificate is used");
                    *self.current.write().unwrap_or_else(PoisonError::into_inner) = loaded.config;
                }
                Some(Err(error)) => {
                    tracing::warn!(%error, "the new certificate cannot be used; the one before stays");
                }
            }
        }
    }
}

/// Tells somebody who speaks plain HTTP what to do.
async fn refuse(mut stream: TcpStream) -> io::Result<()> {
    const WORDS: &str = "This address speaks HTTPS: begin it with https://\n";
    let answer = format!(
        "HTTP/1.1 400 Bad Request\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{WORDS}",
        WORDS.len()
    );
    stream.write_all(answer.as_bytes()).await?;
    stream.shutdown().await?;
    // What is left unread would make the answer be thrown away.
    let (mut rest, mut read) = (stream.take(64 * 1024), Vec::new());
    let reading = rest.read_to_end(&mut read);
    let _ = tokio::time::timeout(MERCY, reading).await;
    Ok(())
}
