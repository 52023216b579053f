//! Reading by HTTP: within bounds, signed in, with patience for a service that asks for it.

use std::{
    collections::HashMap,
    net::{IpAddr, SocketAddr},
    sync::{Arc, Mutex},
    time::Duration,
};

use base64::{Engine, engine::general_purpose::STANDARD};
use futures::StreamExt;
use maple_lark_definition::{SignIn, Source, Web};
use reqwest::{
    Client, ClientBuilder, Method, RequestBuilder, Response, StatusCode, Url,
    header::{COOKIE, HeaderName, HeaderValue},
    redirect::Policy,
};
use rustls::{ClientConfig, RootCertStore, crypto::ring};

use crate::{Greeting, Reader, SettingProblem, SourceError, within_size};

/// How often a service that is busy is asked again.
const PATIENCE: u32 = 4;

/// One request, ready to be sent.
pub struct Call {
    pub method: Method,
    pub url: Url,
    pub headers: Vec<(String, String)>,
    pub body: Option<serde_json::Value>,
}

/// Clients by where they lead: each knows the addresses of one name, which were looked at, and
/// looks nothing up by itself. A name that gets another address meanwhile leads nowhere else.
pub struct Clients {
    /// Certificates are loaded once.
    tls: Result<ClientConfig, Arc<rustls::Error>>,
    kept: Mutex<HashMap<(String, Vec<SocketAddr>), Client>>,
}

/// So many clients keep their connections.
const MOST_KEPT: usize = 64;

/// Why there is no client for an address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NoClient {
    /// It may not be reached.
    OutOfBounds(&'static str),
    /// The name has no address.
    Unknown(String),
    /// The certificates to trust cannot be used.
    Certificates(String),
}

impl Clients {
    pub(crate) fn new() -> Self {
        let mut roots = RootCertStore::empty();
        roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        let config = ClientConfig::builder_with_provider(Arc::new(ring::default_provider()))
            .with_safe_default_protocol_versions();
        let tls = config
            .map(|config| config.with_root_certificates(roots).with_no_client_auth())
            .map_err(Arc::new);
        Self {
            tls,
            kept: Mutex::default(),
        }
    }

    fn lead_to(&self, host: &str, addresses: Vec<SocketAddr>) -> Result<Client, NoClient> {
        let key = (host.to_owned(), addresses);
        let mut kept = self
            .kept
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner());
        if let Some(client) = kept.get(&key) {
            return Ok(client.clone());
        }
        let client = leading_to(host, &key.1)
            .use_preconfigured_tls(self.tls.clone().map_err(unusable)?)
            .build()
            .map_err(unusable)?;
        if kept.len() >= MOST_KEPT {
            kept.clear();
        }
        kept.insert(key, client.clone());
        Ok(client)
    }
}

fn unusable(error: impl std::fmt::Display) -> NoClient {
    NoClient::Certificates(error.to_string())
}

/// Why an answer is none, in words.
async fn refusal(response: Response) -> String {
    match response.status() {
        StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN => {
            "it refuses the sign-in; check [source.sign-in]".to_owned()
        }
        status if status.is_redirection() => {
            let to = response.headers().get("location");
            let to = to.and_then(|to| to.to_str().ok()).unwrap_or("elsewhere");
            format!(
                "it sends on to {to}, which is not followed; write that address into the source"
            )
        }
        _ => excerpt(response).await,
    }
}

/// Follows no redirect (a sign-in must not be carried elsewhere) and uses no proxy.
fn leading_to(host: &str, addresses: &[SocketAddr]) -> ClientBuilder {
    Client::builder()
        .redirect(Policy::none())
        .no_proxy()
        .connect_timeout(Duration::from_secs(10))
        .user_agent("maple-lark")
        .resolve_to_addrs(host, addresses)
}

impl Reader {
    /// The addresses that a host has now, by number or by name; all of them may be reached.
    ///
    /// # Errors
    /// If one may not be, or the name has none.
    pub async fn addresses(&self, host: &str, port: u16) -> Result<Vec<SocketAddr>, NoClient> {
        let host = host.trim_matches(['[', ']']);
        let found: Vec<SocketAddr> = match host.parse::<IpAddr>() {
            Ok(ip) => vec![SocketAddr::new(ip, port)],
            Err(_) => tokio::net::lookup_host((host, port))
                .await
                .map_err(|error| NoClient::Unknown(error.to_string()))?
                .collect(),
        };
        match found.iter().find_map(|found| self.boundary.refusal(*found)) {
            Some(reason) => Err(NoClient::OutOfBounds(reason)),
            None => Ok(found),
        }
    }

    /// A client that leads to a URL's host, as far as it may be reached, with certificates to
    /// trust beside the machine's own.
    ///
    /// # Errors
    /// Why there is none.
    pub async fn web_client(&self, url: &Url, ca: Option<&[u8]>) -> Result<Client, NoClient> {
        let host = url.host_str().unwrap_or_default();
        let addresses = self
            .addresses(host, url.port_or_known_default().unwrap_or(80))
            .await?;
        let Some(pem) = ca else {
            return self.clients.lead_to(host, addresses);
        };
        let trusted = reqwest::Certificate::from_pem_bundle(pem).map_err(unusable)?;
        trusted
            .into_iter()
            .fold(
                leading_to(host, &addresses),
                ClientBuilder::add_root_certificate,
            )
            .build()
            .map_err(unusable)
    }

    /// The addresses of a source's host; refuses one that may not be reached.
    pub(crate) async fn within_bounds(
        &self,
        source: &Source,
        host: &str,
        port: u16,
    ) -> Result<Vec<SocketAddr>, SourceError> {
        self.addresses(host, port)
            .await
            .map_err(|error| no_client(source, format!("{host}:{port}"), error))
    }

    /// Sends a request and gives the answer once it is a success. A service that is busy (429,
    /// 503) is asked again when it says, as long as the source's timeout lasts.
    #[expect(
        clippy::too_many_lines,
        reason = "asks again as long as a service is busy"
    )]
    pub(crate) async fn call(
        &self,
        source: &Source,
        web: &Web,
        call: &Call,
    ) -> Result<Response, SourceError> {
        let address = shown(&call.url);
        let unusable = |problem: SettingProblem| SourceError::Setting {
            source_name: source.name.clone(),
            setting: "ca-file",
            reference: web.ca_file.clone().unwrap_or_default(),
            problem,
        };
        let ca = match &web.ca_file {
            Some(path) => Some(
                tokio::fs::read(path)
                    .await
                    .map_err(|error| unusable(SettingProblem::Unreadable(error)))?,
            ),
            None => None,
        };
        let client =
            self.web_client(&call.url, ca.as_deref())
                .await
                .map_err(|error| match error {
                    NoClient::Certificates(words) => unusable(SettingProblem::Certificates(words)),
                    other => no_client(source, host_and_port(&call.url), other),
                })?;
        for attempt in 1.. {
            let request = client
                .request(call.method.clone(), call.url.clone())
                .timeout(Duration::from_secs(source.timeout_seconds));
            let mut request = self.signed_in(source, web, call, request).await?;
            if let Some(body) = &call.body {
                request = request.json(body);
            }
            let response = request.send().await.map_err(|error| {
                if error.is_timeout() && !error.is_connect() {
                    SourceError::Timeout {
                        source_name: source.name.clone(),
                        seconds: source.timeout_seconds,
                    }
                } else {
                    SourceError::Unreachable {
                        source_name: source.name.clone(),
                        address: address.clone(),
                        words: innermost(&error),
                    }
                }
            })?;
            let status = response.status();
            if status.is_success() {
                return Ok(response);
            }
            let busy = matches!(
                status,
                StatusCode::TOO_MANY_REQUESTS | StatusCode::SERVICE_UNAVAILABLE
            );
            if busy && attempt < PATIENCE {
                tokio::time::sleep(asked_to_wait(&response, attempt)).await;
                continue;
            }
            return Err(SourceError::Status {
                source_name: source.name.clone(),
                address,
                status: status.as_u16(),
                words: refusal(response).await,
            });
        }
        unreachable!("the loop ends with an answer")
    }

    /// A request with the headers and the sign-in that its source has.
    async fn signed_in(
        &self,
        source: &Source,
        web: &Web,
        call: &Call,
        mut request: RequestBuilder,
    ) -> Result<RequestBuilder, SourceError> {
        let host = call.url.host_str();
        for (name, value) in &web.headers {
            request = request.header(
                name,
                self.resolve_for(source, "headers", value, host).await?,
            );
        }
        for (name, value) in &call.headers {
            let bad = || SourceError::Query {
                source_name: source.name.clone(),
                words: format!("\"{name}\" cannot be sent as a header"),
            };
            request = request.header(
                HeaderName::try_from(name).map_err(|_| bad())?,
                HeaderValue::try_from(value).map_err(|_| bad())?,
            );
        }
        Ok(match &web.sign_in {
            // A form is filled in a browser only.
            None | Some(SignIn::Form(_)) => request,
            Some(SignIn::Cookie { name, value }) => {
                let value = self.resolve_for(source, "value", value, host).await?;
                request.header(COOKIE, sensitive(source, format!("{name}={value}"))?)
            }
            Some(SignIn::Basic { user, password }) => request.basic_auth(
                self.resolve_for(source, "user", user, host).await?,
                Some(self.resolve_for(source, "password", password, host).await?),
            ),
            Some(SignIn::Bearer { token }) => {
                request.bearer_auth(self.resolve_for(source, "token", token, host).await?)
            }
            Some(SignIn::Header { name, value }) => {
                let value = self.resolve_for(source, "value", value, host).await?;
                request.header(name, sensitive(source, value)?)
            }
        })
    }

    /// A sign-in as a header with its value; none for one that is made in a form.
    pub(crate) async fn signing_header(
        &self,
        source: &Source,
        sign_in: &SignIn,
        host: Option<&str>,
    ) -> Result<Option<(String, String)>, SourceError> {
        Ok(Some(match sign_in {
            SignIn::Basic { user, password } => {
                let user = self.resolve_for(source, "user", user, host).await?;
                let password = self.resolve_for(source, "password", password, host).await?;
                let both = STANDARD.encode(format!("{user}:{password}"));
                ("Authorization".to_owned(), format!("Basic {both}"))
            }
            SignIn::Bearer { token } => {
                let token = self.resolve_for(source, "token", token, host).await?;
                ("Authorization".to_owned(), format!("Bearer {token}"))
            }
            SignIn::Header { name, value } | SignIn::Cookie { name, value } => {
                let value = self.resolve_for(source, "value", value, host).await?;
                (name.clone(), value)
            }
            SignIn::Form(_) => return Ok(None),
        }))
    }

    /// The whole answer as bytes.
    pub(crate) async fn bytes(
        &self,
        source: &Source,
        address: &str,
        response: Response,
    ) -> Result<Vec<u8>, SourceError> {
        let failed = |words: String| SourceError::Answer {
            source_name: source.name.clone(),
            address: address.to_owned(),
            words,
        };
        let (mut bytes, mut stream) = (Vec::new(), response.bytes_stream());
        while let Some(part) = stream.next().await {
            bytes.extend_from_slice(&part.map_err(|error| failed(innermost(&error)))?);
            within_size(source, bytes.len())?;
        }
        Ok(bytes)
    }

    /// The source's URL with something behind it.
    pub(crate) async fn url(
        &self,
        source: &Source,
        web: &Web,
        path: &str,
    ) -> Result<Url, SourceError> {
        let base = self.resolve(source, "url", &web.url).await?;
        let joined = if path.is_empty() {
            base
        } else {
            format!(
                "{}/{}",
                base.trim_end_matches('/'),
                path.trim_start_matches('/')
            )
        };
        let url = Url::parse(&joined)
            .ok()
            .filter(|url| ["http", "https"].contains(&url.scheme()) && url.host_str().is_some());
        url.ok_or_else(|| SourceError::Setting {
            source_name: source.name.clone(),
            setting: "url",
            reference: web.url.written(),
            problem: SettingProblem::NotAUrl,
        })
    }
}

/// A header's value, marked so that nothing on the way prints it.
fn sensitive(source: &Source, value: String) -> Result<HeaderValue, SourceError> {
    let mut value = HeaderValue::try_from(value).map_err(|_| SourceError::Setting {
        source_name: source.name.clone(),
        setting: "value",
        reference: "the sign-in".to_owned(),
        problem: SettingProblem::NotAHeader,
    })?;
    value.set_sensitive(true);
    Ok(value)
}

pub fn host_and_port(url: &Url) -> String {
    format!(
        "{}:{}",
        url.host_str().unwrap_or_default(),
        url.port_or_known_default().unwrap_or(80)
    )
}

pub fn no_client(source: &Source, address: String, error: NoClient) -> SourceError {
    let source_name = source.name.clone();
    match error {
        NoClient::OutOfBounds(reason) => SourceError::OutOfBounds {
            source_name,
            address,
            reason,
        },
        NoClient::Unknown(words) | NoClient::Certificates(words) => SourceError::Unreachable {
            source_name,
            address,
            words,
        },
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
    let after = response
        .headers()
        .get("retry-after")
        .and_then(|after| after.to_str().ok());
    let seconds = after.and_then(|after| {
        let date = || {
            chrono::DateTime::parse_from_rfc2822(after)
                .ok()
                .map(|at| (at.to_utc() - chrono::Utc::now()).num_seconds().max(0) as u64)
        };
        after.parse::<u64>().ok().or_else(date)
    });
    Duration::from_secs(seconds.unwrap_or(0).min(30))
        .max(Duration::from_millis(200 << attempt.min(4)))
}

/// The first words of what a service says is wrong.
async fn excerpt(response: Response) -> String {
    let text = tokio::time::timeout(Duration::from_secs(2), response.text())
        .await
        .ok()
        .and_then(Result::ok)
        .unwrap_or_default();
    let text: String = text
        .split_whitespace()
        .collect::<Vec<_>>()
        .join(" ")
        .chars()
        .take(300)
        .collect();
    if text.is_empty() {
        "it gives no reason".to_owned()
    } else {
        text
    }
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
    let call = Call {
        method: Method::GET,
        url,
        headers: Vec::new(),
        body: None,
    };
    let found = match reader.call(source, web, &call).await {
        Ok(response) => format!(
            "{} answered {}",
            shown(&call.url),
            response.status().as_u16()
        ),
        // Many services have nothing at their root; that one answers is what was asked.
        Err(SourceError::Status { status, .. })
            if ![401, 403].contains(&status) && status < 500 =>
        {
            format!(
                "{} answered {status}, as a service may at its root",
                shown(&call.url)
            )
        }
        Err(error) => return Err(error),
    };
    let warning = plain.then(|| {
        "the sign-in travels without encryption; use https where the service has it".to_owned()
    });
    Ok(Greeting { found, warning })
}

#[cfg(test)]
mod tests {
    use tokio::{
        io::{AsyncReadExt, AsyncWriteExt},
        net::TcpListener,
    };

    use super::*;

    /// Answers every request with 204.
    async fn answering() -> SocketAddr {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        tokio::spawn(async move {
            while let Ok((mut stream, _)) = listener.accept().await {
                let _ = stream.read(&mut [0; 4096]).await;
                let _ = stream
                    .write_all(b"HTTP/1.1 204 No Content\r\nConnection: close\r\n\r\n")
                    .await;
            }
        });
        address
    }

    #[tokio::test]
    async fn a_client_connects_to_the_addresses_that_were_looked_at_and_asks_for_no_others() {
        let address = answering().await;
        let clients = Clients::new();
        // No server of names knows this one, so a look-up would fail.
        let client = clients.lead_to("name.invalid", vec![address]).unwrap();
        let url = format!("http://name.invalid:{}/", address.port());
        assert_eq!(
            client.get(&url).send().await.unwrap().status(),
            StatusCode::NO_CONTENT
        );
        // The same name with another address is another client: nothing of the first is used again.
        let nowhere = TcpListener::bind("127.0.0.1:0")
            .await
            .unwrap()
            .local_addr()
            .unwrap();
        let other = clients.lead_to("name.invalid", vec![nowhere]).unwrap();
        assert!(
            other
                .get(format!("http://name.invalid:{}/", nowhere.port()))
                .send()
                .await
                .is_err()
        );
        assert_eq!(clients.kept.lock().unwrap().len(), 2);
    }

    #[tokio::test]
    async fn clients_are_used_again_and_not_collected_without_end() {
        let clients = Clients::new();
        for port in 1..=200 {
            clients
                .lead_to(
                    "name.invalid",
                    vec![SocketAddr::from(([127, 0, 0, 1], port))],
                )
                .unwrap();
            clients
                .lead_to(
                    "name.invalid",
                    vec![SocketAddr::from(([127, 0, 0, 1], port))],
                )
                .unwrap();
            assert!(clients.kept.lock().unwrap().len() <= MOST_KEPT);
        }
    }
}
