//! Checks that this machine makes itself: connections, pages, certificates, names, disks.
//!
//! A target that does not answer is a row that says so, not an error: that is what was asked.

use std::{
    net::SocketAddr,
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};

use futures::{FutureExt, StreamExt, future::BoxFuture, stream};
use maple_lark_data::{Column, ColumnKind, Table, Value};
use maple_lark_definition::{Check, CheckKind, Source, split_address};
use rustls::{
    ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme,
    client::{
        WebPkiServerVerifier,
        danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier},
    },
    crypto::ring,
    pki_types::{CertificateDer, ServerName, UnixTime},
};
use tokio::net::TcpStream;

use crate::{Answer, Reader, SourceError, web};

/// What one check found beside whether all is well: values for the kind's own columns.
type Found = Result<Vec<Value>, CheckFailed>;

/// Why a target did not do what was asked; its words are the cell of the column `problem`.
#[derive(Debug, thiserror::Error)]
enum CheckFailed {
    #[error("no answer within {0} s")]
    NoAnswer(u64),
    #[error("it is not host:port")]
    NotAnAddress,
    #[error("it has no host")]
    NoHost,
    #[error("{0}")]
    NotAUrl(#[source] <reqwest::Url as std::str::FromStr>::Err),
    #[error(transparent)]
    OutOfReach(#[from] SourceError),
    #[error(transparent)]
    System(#[from] std::io::Error),
    #[error("{}", web::innermost(.0))]
    Request(#[source] reqwest::Error),
    #[error(transparent)]
    Tls(#[from] rustls::Error),
    #[error(transparent)]
    Name(#[from] rustls::pki_types::InvalidDnsNameError),
    #[error("it shows no certificate")]
    NoCertificate,
    #[error("its certificate cannot be read: {0}")]
    Unreadable(String),
    #[error("its certificate ends at no time")]
    NoEnd,
}

fn own_columns(kind: CheckKind) -> Vec<(&'static str, ColumnKind)> {
    match kind {
        CheckKind::Tcp => vec![],
        CheckKind::Http => vec![("status", ColumnKind::Integer)],
        CheckKind::Certificate => {
            vec![
                ("days_left", ColumnKind::Number),
                ("expires", ColumnKind::Instant),
                ("issuer", ColumnKind::Text),
                ("trusted", ColumnKind::Boolean),
            ]
        }
        CheckKind::Dns => vec![("addresses", ColumnKind::Text)],
        // What this machine tells of itself has rows of its own.
        CheckKind::Processor
        | CheckKind::Memory
        | CheckKind::Load
        | CheckKind::Network
        | CheckKind::Units
        | CheckKind::Journal => vec![],
        CheckKind::Disk => vec![
            ("used_percent", ColumnKind::Number),
            ("used_bytes", ColumnKind::Integer),
            ("free_bytes", ColumnKind::Integer),
            ("size_bytes", ColumnKind::Integer),
        ],
    }
}

/// One row a target: `target`, `ok`, `latency_ms`, the kind's own columns, and `problem`.
pub async fn read(reader: &Reader, source: &Source, check: &Check) -> Result<Answer, SourceError> {
    let own = own_columns(check.kind);
    let fixed = [
        ("target", ColumnKind::Text),
        ("ok", ColumnKind::Boolean),
        ("latency_ms", ColumnKind::Number),
    ];
    let columns = fixed
        .into_iter()
        .chain(own.iter().copied())
        .chain([("problem", ColumnKind::Text)]);
    let columns = columns
        .map(|(name, kind)| Column {
            name: name.to_owned(),
            kind,
        })
        .collect();
    let rows: Vec<BoxFuture<'_, Vec<Value>>> = check
        .targets
        .iter()
        .map(|target| row(reader, source, check, target, own.len()).boxed())
        .collect();
    let rows = stream::iter(rows)
        .buffered(check.concurrency)
        .collect::<Vec<_>>()
        .await;
    Ok(Answer::of(
        Table {
            columns,
            rows,
            truncated: false,
        },
        format!(
            "{} checks of {} targets, {} at once",
            check.kind.name(),
            check.targets.len(),
            check.concurrency
        ),
    ))
}

async fn row(
    reader: &Reader,
    source: &Source,
    check: &Check,
    target: &str,
    width: usize,
) -> Vec<Value> {
    let began = Instant::now();
    let found = tokio::time::timeout(
        Duration::from_secs(check.seconds),
        one(reader, source, check.kind, target, check.seconds),
    )
    .await;
    let took = Value::Number(began.elapsed().as_secs_f64() * 1000.0);
    let (ok, latency, own, problem) =
        match found.unwrap_or(Err(CheckFailed::NoAnswer(check.seconds))) {
            // A page with an error is an answer, and not well.
            Ok(own) => match own.first() {
                Some(Value::Integer(status)) if check.kind == CheckKind::Http && *status >= 400 => {
                    let problem = Value::Text(format!("answered {status}"));
                    (false, took, own, problem)
                }
                _ => (true, took, own, Value::Missing),
            },
            Err(problem) => (
                false,
                Value::Missing,
                vec![Value::Missing; width],
                Value::Text(problem.to_string()),
            ),
        };
    [Value::Text(target.to_owned()), Value::Boolean(ok), latency]
        .into_iter()
        .chain(own)
        .chain([problem])
        .collect()
}

async fn one(
    reader: &Reader,
    source: &Source,
    kind: CheckKind,
    target: &str,
    seconds: u64,
) -> Found {
    match kind {
        CheckKind::Tcp => connect(reader, source, target).await.map(|_| Vec::new()),
        CheckKind::Http => page(reader, source, target, seconds).await,
        CheckKind::Certificate => certificate(reader, source, target).await,
        CheckKind::Dns => {
            let found: Vec<SocketAddr> = tokio::net::lookup_host((target, 0)).await?.collect();
            let mut addresses: Vec<String> = found
                .iter()
                .map(|address| address.ip().to_string())
                .collect();
            addresses.sort();
            addresses.dedup();
            Ok(vec![Value::Text(addresses.join(", "))])
        }
        CheckKind::Processor
        | CheckKind::Memory
        | CheckKind::Load
        | CheckKind::Network
        | CheckKind::Units
        | CheckKind::Journal => Ok(vec![]),
        CheckKind::Disk => {
            let path = target.to_owned();
            if !reader.permissions.may_measure(std::path::Path::new(target)) {
                let words = format!(
                    "{target} may not be measured; an administrator can allow it in the configuration: sources-may-measure = [\"{target}\"]"
                );
                return Err(std::io::Error::other(words).into());
            }
            let found = tokio::task::spawn_blocking(move || rustix::fs::statvfs(path))
                .await
                .map_err(std::io::Error::other)?
                .map_err(std::io::Error::from)?;
            let (size, free) = (
                found.f_blocks * found.f_frsize,
                found.f_bavail * found.f_frsize,
            );
            let used = (found.f_blocks - found.f_bfree) * found.f_frsize;
            // As `df` counts: what is kept for the administrator is neither used nor free.
            let percent = if used + free > 0 {
                Value::Number(100.0 * used as f64 / (used + free) as f64)
            } else {
                Value::Missing
            };
            Ok(vec![
                percent,
                Value::Integer(used as i64),
                Value::Integer(free as i64),
                Value::Integer(size as i64),
            ])
        }
    }
}

async fn connect(reader: &Reader, source: &Source, target: &str) -> Result<TcpStream, CheckFailed> {
    let (host, port) = split_address(target).ok_or(CheckFailed::NotAnAddress)?;
    let addresses = reader.within_bounds(source, host, port).await?;
    Ok(TcpStream::connect(&addresses[..]).await?)
}

async fn page(reader: &Reader, source: &Source, target: &str, seconds: u64) -> Found {
    let url = reqwest::Url::parse(target).map_err(CheckFailed::NotAUrl)?;
    url.host_str().ok_or(CheckFailed::NoHost)?;
    let client = reader
        .web_client(&url, None)
        .await
        .map_err(|error| web::no_client(source, web::host_and_port(&url), error))?;
    let answer = client
        .get(url)
        .timeout(Duration::from_secs(seconds))
        .send()
        .await
        .map_err(CheckFailed::Request)?;
    Ok(vec![Value::Integer(i64::from(answer.status().as_u16()))])
}

/// Takes any certificate, because its days are asked for whether it is trusted or not, and
/// remembers whether it is.
#[derive(Debug)]
struct Looking {
    usual: Option<Arc<WebPkiServerVerifier>>,
    trusted: Mutex<bool>,
    schemes: Vec<SignatureScheme>,
}

impl ServerCertVerifier for Looking {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        chain: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let trusted = self.usual.as_ref().is_some_and(|usual| {
            usual
                .verify_server_cert(certificate, chain, name, ocsp, now)
                .is_ok()
        });
        *self
            .trusted
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner()) = trusted;
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        rustls::crypto::verify_tls12_signature(
            message,
            certificate,
            signed,
            &ring::default_provider().signature_verification_algorithms,
        )
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        rustls::crypto::verify_tls13_signature(
            message,
            certificate,
            signed,
            &ring::default_provider().signature_verification_algorithms,
        )
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.schemes.clone()
    }
}

async fn certificate(reader: &Reader, source: &Source, target: &str) -> Found {
    let stream = connect(reader, source, target).await?;
    let provider = Arc::new(ring::default_provider());
    let mut roots = RootCertStore::empty();
    roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
    let usual = WebPkiServerVerifier::builder_with_provider(Arc::new(roots), provider.clone())
        .build()
        .ok();
    let looking = Arc::new(Looking {
        usual,
        trusted: Mutex::new(false),
        schemes: provider
            .signature_verification_algorithms
            .supported_schemes(),
    });
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()?
        .dangerous()
        .with_custom_certificate_verifier(looking.clone())
        .with_no_client_auth();
    let (host, _) = split_address(target).ok_or(CheckFailed::NotAnAddress)?;
    let name = ServerName::try_from(host.to_owned())?;
    let shaken = tokio_rustls::TlsConnector::from(Arc::new(config))
        .connect(name, stream)
        .await?;
    let certificates = shaken.get_ref().1.peer_certificates().unwrap_or_default();
    let first = certificates.first().ok_or(CheckFailed::NoCertificate)?;
    let (_, parsed) = x509_parser::parse_x509_certificate(first)
        .map_err(|error| CheckFailed::Unreadable(error.to_string()))?;
    let expires = chrono::DateTime::from_timestamp(parsed.validity().not_after.timestamp(), 0)
        .ok_or(CheckFailed::NoEnd)?;
    let days = (expires - chrono::Utc::now()).num_seconds() as f64 / 86_400.0;
    let issuer = parsed
        .issuer()
        .iter_common_name()
        .next()
        .and_then(|name| name.as_str().ok())
        .map_or_else(|| parsed.issuer().to_string(), str::to_owned);
    let trusted = *looking
        .trusted
        .lock()
        .unwrap_or_else(|poisoned| poisoned.into_inner());
    Ok(vec![
        Value::Number((days * 10.0).floor() / 10.0),
        Value::Instant(expires),
        Value::Text(issuer),
        Value::Boolean(trusted),
    ])
}
