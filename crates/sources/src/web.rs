//! Reading by HTTP: within bounds, signed in, with patience for a service that asks for it.

use std::{
    net::{IpAddr, SocketAddr},
    sync::Arc,
    time::Duration,
};

use futures::StreamExt;
use maple_lark_core::definition::{SignIn, Source, Web};
use reqwest::{
    Client, Method, Response, StatusCode, Url,
    dns::{Name, Resolve, Resolving},
    header::{HeaderName, HeaderValue},
    redirect::Policy,
};

use crate::{Boundary, Greeting, Reader, SourceError};

/// No answer is read past this.
const MOST_BYTES: usize = 256 << 20;
/// How often a service that is busy is asked again.
const PATIENCE: u32 = 4;

/// One request, ready to be sent.
pub struct Call {
    pub method: Method,
    pub url: Url,
    pub headers: Vec<(String, String)>,
    pub body: Option<serde_json::Value>,
}

/// A client that reaches only what the boundary lets it, follows no redirect (a sign-in must
/// not be carried elsewhere) and uses no proxy.
pub fn client(boundary: &Arc<Boundary>, ca: Option<&[u8]>) -> Result<Client, String> {
    let mut builder = Client::builder()
        .redirect(Policy::none())
        .no_proxy()
        .connect_timeout(Duration::from_secs(10))
        .user_agent("maple-lark")
        .dns_resolver(Arc::new(Guarded(boundary.clone())));
    if let Some(pem) = ca {
        for certificate in reqwest::Certificate::from_pem_bundle(pem).map_err(|error| error.to_string())? {
            builder = builder.add_root_certificate(certificate);
        }
    }
    builder.build().map_err(|error| error.to_string())
}

/// Resolves names and leaves out addresses that may not be reached. The port is not known
/// here; [`Reader::call`] has looked at the name's addresses with it before.
struct Guarded(Arc<Boundary>);

impl Resolve for Guarded {
    fn resolve(&self, name: Name) -> Resolving {
        let boundary = self.0.clone();
        Box::pin(async move {
            let found: Vec<SocketAddr> = tokio::net::lookup_host((name.as_str(), 0)).await?.filter(|address| boundary.refusal(*address).is_none()).collect();
            if found.is_empty() {
                return Err("the name has no address that may be reached".into());
            }
            Ok(Box::new(found.into_iter()) as Box<dyn Iterator<Item = SocketAddr> + Send>)
        })
    }
}

impl Reader {
    /// Why an address may not be reached, by number or by name, if it may not.
    ///
    /// # Errors
    /// If the name has no address.
    pub async fn out_of_bounds(&self, host: &str, port: u16) -> std::io::Result<Option<&'static str>> {
        let host = host.trim_matches(['[', ']']);
        let found: Vec<SocketAddr> = match host.parse::<IpAddr>() {
            Ok(ip) => vec![SocketAddr::new(ip, port)],
            Err(_) => tokio::net::lookup_host((host, port)).await?.collect(),
        };
        Ok(found.into_iter().find_map(|found| self.boundary.refusal(found)))
    }

    /// A client that reaches only what may be reached, with certificates to trust beside the
    /// machine's own.
    ///
    /// # Errors
    /// If the certificates cannot be used.
    pub fn web_client(&self, ca: Option<&[u8]>) -> Result<Client, String> {
        match ca {
            None => self.client.clone(),
            Some(pem) => client(&self.boundary, Some(pem)),
        }
    }

    /// Refuses an address that may not be reached.
    pub(crate) async fn within_bounds(&self, source: &Source, host: &str, port: u16) -> Result<(), SourceError> {
        let address = format!("{host}:{port}");
        match self.out_of_bounds(host, port).await {
            Ok(None) => Ok(()),
            Ok(Some(reason)) => Err(SourceError::OutOfBounds { source_name: source.name.clone(), address, reason }),
            Err(error) => Err(SourceError::Unreachable { source_name: source.name.clone(), address, words: error.to_string() }),
        }
    }

    /// Sends a request and gives the answer once it is a success. A service that is busy (429,
    /// 503) is asked again when it says, as long as the source's timeout lasts.
    pub(crate) async fn call(&self, source: &Source, web: &Web, call: &Call) -> Result<Response, SourceError> {
        let address = shown(&call.url);
        let port = call.url.port_or_known_default().unwrap_or(80);
        self.within_bounds(source, call.url.host_str().unwrap_or_default(), port).await?;
        let own;
        let client = match &web.ca_file {
            None => self.client.as_ref().map_err(|words| SourceError::Files { source_name: source.name.clone(), words: words.clone() })?,
            Some(path) => {
                let unusable =
                    |problem: String| SourceError::Setting { source_name: source.name.clone(), setting: "ca-file", reference: path.clone(), problem };
                let pem = tokio::fs::read(path).await.map_err(|error| unusable(format!("cannot be read: {error}")))?;
                own = client(&self.boundary, Some(&pem)).map_err(|error| unusable(format!("holds no usable certificates: {error}")))?;
                &own
            }
        };
        for attempt in 1.. {
            let mut request = client.request(call.method.clone(), call.url.clone()).timeout(Duration::from_secs(source.timeout_seconds));
            for (name, value) in &web.headers {
                request = request.header(name, self.resolve(source, "headers", value).await?);
            }
            for (name, value) in &call.headers {
                let bad = || SourceError::Query { source_name: source.name.clone(), words: format!("\"{name}\" cannot be sent as a header") };
                request = request.header(HeaderName::try_from(name).map_err(|_| bad())?, HeaderValue::try_from(value).map_err(|_| bad())?);
            }
            request = match &web.sign_in {
                None => request,
                Some(SignIn::Basic { user, password }) => {
                    request.basic_auth(self.resolve(source, "user", user).await?, Some(self.resolve(source, "password", password).await?))
                }
                Some(SignIn::Bearer { token }) => request.bearer_auth(self.resolve(source, "token", token).await?),
                Some(SignIn::Header { name, value }) => {
                    let value = self.resolve(source, "value", value).await?;
                    // Marked, so that nothing on the way prints it.
                    let mut value = HeaderValue::try_from(value).map_err(|_| SourceError::Setting {
                        source_name: source.name.clone(),
                        setting: "value",
                        reference: "the sign-in".to_owned(),
                        problem: "cannot be sent as a header".to_owned(),
                    })?;
                    value.set_sensitive(true);
                    request.header(name, value)
                }
            };
            if let Some(body) = &call.body {
                request = request.json(body);
            }
            let response = request.send().await.map_err(|error| {
                if error.is_timeout() && !error.is_connect() {
                    SourceError::Timeout { source_name: source.name.clone(), seconds: source.timeout_seconds }
                } else {
                    SourceError::Unreachable { source_name: source.name.clone(), address: address.clone(), words: innermost(&error) }
                }
            })?;
            let status = response.status();
            if status.is_success() {
                return Ok(response);
            }
            let busy = matches!(status, StatusCode::TOO_MANY_REQUESTS | StatusCode::SERVICE_UNAVAILABLE);
            if busy && attempt < PATIENCE {
                tokio::time::sleep(asked_to_wait(&response, attempt)).await;
                continue;
            }
            let words = match status {
                StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN => "it refuses the sign-in; check [source.sign-in]".to_owned(),
                status if status.is_redirection() => {
                    let to = response.headers().get("location").and_then(|to| to.to_str().ok()).unwrap_or("elsewhere");
                    format!("it sends on to {to}, which is not followed; write that address into the source")
                }
                _ => excerpt(response).await,
            };
            return Err(SourceError::Status { source_name: source.name.clone(), address, status: status.as_u16(), words });
        }
        unreachable!("the loop ends with an answer")
    }

    /// The whole answer as bytes.
    pub(crate) async fn bytes(&self, source: &Source, address: &str, response: Response) -> Result<Vec<u8>, SourceError> {
        let failed = |words: String| SourceError::Answer { source_name: source.name.clone(), address: address.to_owned(), words };
        let (mut bytes, mut stream) = (Vec::new(), response.bytes_stream());
        while let Some(part) = stream.next().await {
            bytes.extend_from_slice(&part.map_err(|error| failed(innermost(&error)))?);
            if bytes.len() > MOST_BYTES {
                return Err(failed(format!("it is longer than {} MiB; narrow the query", MOST_BYTES >> 20)));
            }
        }
        Ok(bytes)
    }

    /// The source's URL with something behind it.
    pub(crate) async fn url(&self, source: &Source, web: &Web, path: &str) -> Result<Url, SourceError> {
        let base = self.resolve(source, "url", &web.url).await?;
        let joined = if path.is_empty() { base } else { format!("{}/{}", base.trim_end_matches('/'), path.trim_start_matches('/')) };
        let url = Url::parse(&joined).ok().filter(|url| ["http", "https"].contains(&url.scheme()) && url.host_str().is_some());
        url.ok_or_else(|| SourceError::Setting {
            source_name: source.name.clone(),
            setting: "url",
            reference: web.url.written(),
            problem: "is not an http or https URL".to_owned(),
        })
    }
}

/// A URL for messages: without what stands behind the question mark, and without a sign-in.
pub fn shown(url: &Url) -> String {
    let mut url = without_sign_in(url);
    url.set_query(None);
    url.to_string()
}

/// A URL without the user and the password that the setting behind it may hold.
pub fn without_sign_in(url: &Url) -> Url {
    let mut url = url.clone();
    let _ = url.set_username("");
    let _ = url.set_password(None);
    url
}

/// How long the service wants us to wait (seconds, or a date), at most half a minute; else a
/// little longer each time.
fn asked_to_wait(response: &Response, attempt: u32) -> Duration {
    let after = response.headers().get("retry-after").and_then(|after| after.to_str().ok());
    let seconds = after.and_then(|after| {
        let date = || chrono::DateTime::parse_from_rfc2822(after).ok().map(|at| (at.to_utc() - chrono::Utc::now()).num_seconds().max(0) as u64);
        after.parse::<u64>().ok().or_else(date)
    });
    Duration::from_secs(seconds.unwrap_or(0).min(30)).max(Duration::from_millis(200 << attempt.min(4)))
}

/// The first words of what a service says is wrong.
async fn excerpt(response: Response) -> String {
    let text = tokio::time::timeout(Duration::from_secs(2), response.text()).await.ok().and_then(Result::ok).unwrap_or_default();
    let text: String = text.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(300).collect();
    if text.is_empty() { "it gives no reason".to_owned() } else { text }
}

/// The cause at the bottom, which says more than what is wrapped around it.
pub fn innermost(error: &dyn std::error::Error) -> String {
    let mut inner = error;
    while let Some(source) = inner.source() {
        inner = source;
    }
    inner.to_string()
}

pub async fn greet(reader: &Reader, source: &Source, web: &Web) -> Result<Greeting, SourceError> {
    let url = reader.url(source, web, "").await?;
    let plain = url.scheme() == "http" && web.sign_in.is_some();
    let call = Call { method: Method::GET, url, headers: Vec::new(), body: None };
    let found = match reader.call(source, web, &call).await {
        Ok(response) => format!("{} answered {}", shown(&call.url), response.status().as_u16()),
        // Many services have nothing at their root; that one answers is what was asked.
        Err(SourceError::Status { status, .. }) if ![401, 403].contains(&status) && status < 500 => {
            format!("{} answered {status}, as a service may at its root", shown(&call.url))
        }
        Err(error) => return Err(error),
    };
    let warning = plain.then(|| "the sign-in travels without encryption; use https where the service has it".to_owned());
    Ok(Greeting { found, warning })
}
