//! Object storage that is spoken to as S3, by the HTTP client that all else goes by.

use std::{error::Error as _, io::ErrorKind, sync::Arc, time::Duration};

use async_trait::async_trait;
use http_body_util::BodyExt;
use object_store::{
    Attribute, Attributes, BackoffConfig, ClientOptions, ObjectStore, ObjectStoreExt, PutOptions,
    RetryConfig,
    aws::{AmazonS3Builder, Checksum},
    client::{
        HttpClient, HttpConnector, HttpError, HttpErrorKind, HttpRequest, HttpResponse,
        HttpResponseBody, HttpService,
    },
    path::Path,
    prefix::PrefixStore,
};
use reqwest::{Certificate, Client, Url, redirect::Policy};

use crate::DeliveryError;

/// So often a request is made again that the storage did not answer, or asked to be made again.
const RETRIES: usize = 2;

/// Signs of what a server says that are repeated.
const LONGEST_WORDS: usize = 200;

/// Why object storage cannot be used as it is set.
#[derive(Debug, thiserror::Error)]
pub enum BadStorage {
    #[error("its certificates cannot be used: {0}")]
    Certificates(#[from] reqwest::Error),
    #[error(transparent)]
    Settings(#[from] object_store::Error),
}

/// A bucket, and as whom it is used; the secret is looked up already.
#[derive(Clone)]
pub struct ObjectStorage {
    /// The server, such as `https://objects.orrin-sound.example`.
    pub endpoint: Url,
    pub region: String,
    pub bucket: String,
    /// What all names there begin with; may be empty.
    pub prefix: String,
    /// Whether the bucket is part of the server's name and not of the path.
    pub by_host: bool,
    pub access_key: String,
    pub secret_key: String,
    /// PEM certificates that are trusted beside the system's.
    pub ca: Option<Vec<u8>>,
    /// How long a request may take.
    pub timeout: Duration,
}

impl ObjectStorage {
    /// Makes ready to use it; nothing is asked yet. What is put there carries its SHA-256, which the
    /// storage checks before it says that it has it.
    ///
    /// # Errors
    /// If the certificates cannot be read, or the settings contradict each other.
    pub fn open(self) -> Result<Arc<dyn ObjectStore>, BadStorage> {
        let mut client = Client::builder().redirect(Policy::none());
        for one in Certificate::from_pem_bundle(self.ca.as_deref().unwrap_or_default())? {
            client = client.add_root_certificate(one);
        }
        let client = client.build()?;
        Ok(self.open_by(client)?)
    }

    /// The same by a client that trusts and reaches what it may.
    fn open_by(self, client: Client) -> Result<Arc<dyn ObjectStore>, object_store::Error> {
        let bucket = AmazonS3Builder::new()
            .with_endpoint(self.address())
            .with_allow_http(self.endpoint.scheme() == "http")
            .with_region(self.region)
            .with_bucket_name(self.bucket)
            .with_virtual_hosted_style_request(self.by_host)
            .with_access_key_id(self.access_key)
            .with_secret_access_key(self.secret_key)
            .with_checksum_algorithm(Checksum::SHA256)
            .with_disable_bulk_delete(true)
            .with_retry(RetryConfig {
                backoff: BackoffConfig::default(),
                max_retries: RETRIES,
                retry_timeout: self.timeout,
            })
            .with_http_connector(Connector {
                client,
                timeout: self.timeout,
            })
            .build()?;
        Ok(match self.prefix.trim_matches('/') {
            "" => Arc::new(bucket),
            prefix => Arc::new(PrefixStore::new(bucket, prefix)),
        })
    }

    /// Where the bucket is reached.
    #[must_use]
    pub fn address(&self) -> String {
        let address = self.endpoint.as_str().trim_end_matches('/');
        match (self.by_host, address.split_once("://")) {
            (true, Some((scheme, host))) => format!("{scheme}://{}.{host}", self.bucket),
            _ => address.to_owned(),
        }
    }
}

/// A bucket that documents go into.
pub struct Bucket {
    place: Arc<dyn ObjectStore>,
    /// What it is called in words to people.
    name: String,
}

impl Bucket {
    /// Makes ready to use a bucket by a client that reaches what it may. Nothing is asked yet.
    ///
    /// # Errors
    /// If the settings contradict each other.
    pub fn open(
        storage: ObjectStorage,
        client: Client,
        name: String,
    ) -> Result<Self, object_store::Error> {
        let place = storage.open_by(client)?;
        Ok(Self { place, name })
    }

    /// Puts an object there, whose SHA-256 the storage checks. One of the same name is replaced, so putting
    /// it again is harmless.
    ///
    /// # Errors
    /// If the storage does not answer, or does not take it.
    pub async fn put(
        &self,
        name: &str,
        media_type: &str,
        bytes: &[u8],
    ) -> Result<(), DeliveryError> {
        let mut attributes = Attributes::new();
        attributes.insert(Attribute::ContentType, media_type.to_owned().into());
        let options = PutOptions {
            attributes,
            ..PutOptions::default()
        };
        let (name, body) = (Path::from(name), bytes.to_vec().into());
        let put = self.place.put_opts(&name, body, options).await;
        put.map_err(|error| self.judged(&error))?;
        Ok(())
    }

    /// Removes an object.
    ///
    /// # Errors
    /// If the storage does not answer, or does not let it go.
    pub async fn remove(&self, name: &str) -> Result<(), DeliveryError> {
        let name = Path::from(name);
        let removed = self.place.delete(&name).await;
        removed.map_err(|error| self.judged(&error))
    }

    /// What a failure means: what lasts is refused, the rest is tried again.
    fn judged(&self, error: &object_store::Error) -> DeliveryError {
        let server = self.name.clone();
        let mut innermost: &dyn std::error::Error = error;
        while let Some(source) = innermost.source() {
            innermost = source;
        }
        // What a server says beside that may be a whole page.
        let why = innermost.to_string();
        let why = why.lines().next().unwrap_or_default();
        let why: String = why.chars().take(LONGEST_WORDS).collect();
        match error {
            object_store::Error::Unauthenticated { .. }
            | object_store::Error::PermissionDenied { .. } => DeliveryError::Refused {
                server,
                words: format!("{why}; check access-key and secret-key, and what they may do"),
            },
            object_store::Error::NotFound { .. } => DeliveryError::Refused {
                server,
                words: format!("{why}; check url and bucket"),
            },
            _ => DeliveryError::Unreachable { server, words: why },
        }
    }
}

/// The program's own client, as the library of object storage uses it.
#[derive(Debug, Clone)]
struct Connector {
    client: Client,
    timeout: Duration,
}

impl HttpConnector for Connector {
    fn connect(&self, _: &ClientOptions) -> object_store::Result<HttpClient> {
        Ok(HttpClient::new(self.clone()))
    }
}

#[async_trait]
impl HttpService for Connector {
    async fn call(&self, request: HttpRequest) -> Result<HttpResponse, HttpError> {
        let (parts, body) = request.into_parts();
        let body = body.collect().await?.to_bytes();
        let request = ::http::Request::from_parts(parts, body);
        let mut request = reqwest::Request::try_from(request).map_err(failed)?;
        *request.timeout_mut() = Some(self.timeout);
        let answer = self.client.execute(request).await.map_err(failed)?;
        let (parts, body) = ::http::Response::<reqwest::Body>::from(answer).into_parts();
        let body = HttpResponseBody::new(body.map_err(failed));
        Ok(HttpResponse::from_parts(parts, body))
    }
}

/// What kind of failure it is decides whether it is tried again. The address may carry a signature.
fn failed(error: reqwest::Error) -> HttpError {
    let mut kind = match () {
        () if error.is_timeout() => HttpErrorKind::Timeout,
        () if error.is_connect() => HttpErrorKind::Connect,
        () if error.is_decode() => HttpErrorKind::Decode,
        () => HttpErrorKind::Unknown,
    };
    let mut source = error.source();
    while let Some(inner) = source {
        match inner
            .downcast_ref::<std::io::Error>()
            .map(std::io::Error::kind)
        {
            Some(ErrorKind::TimedOut) => kind = HttpErrorKind::Timeout,
            Some(
                ErrorKind::ConnectionAborted
                | ErrorKind::ConnectionReset
                | ErrorKind::BrokenPipe
                | ErrorKind::UnexpectedEof,
            ) if kind == HttpErrorKind::Unknown => kind = HttpErrorKind::Interrupted,
            _ => {}
        }
        source = inner.source();
    }
    HttpError::new(kind, error.without_url())
}
