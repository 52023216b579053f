//! Requests to the provider: bounded in time and size, and nowhere but where they are sent.

use std::{error::Error, fmt::Write as _};

use futures::{StreamExt, future::BoxFuture};
use openidconnect::{HttpRequest, HttpResponse, http};
use reqwest::{Certificate, Client, redirect};

use super::ProviderSettings;

/// What a provider answers is short.
const MOST_BYTES: usize = 2_000_000;

/// Why a provider gave no answer, or none that counts. No secret is part of it.
#[derive(Debug, thiserror::Error)]
pub enum ProviderError {
    #[error("the certificates of ca-file cannot be read")]
    Certificates,
    #[error("the address \"{address}\" is none that a provider or a browser can have: {words}")]
    Address { address: String, words: String },
    #[error("the provider {issuer} gives no answer: {words}")]
    Unreachable { issuer: String, words: String },
    #[error("the provider refuses: {0}")]
    Refused(String),
    #[error("what the provider signed does not hold: {0}")]
    NotValid(String),
    #[error(
        "the provider says nothing of \"{0}\"; name the claim that has it, or ask for the scope that brings it"
    )]
    NoClaim(String),
    #[error(
        "the provider gives no refresh token, so it could not be looked later whether this user is still let in; allow it offline access, or set check-every = \"never\""
    )]
    NoGrant,
}

/// An error with what caused it, in a line.
pub(super) fn in_words(error: &dyn Error) -> String {
    let mut words = error.to_string();
    let mut cause = error.source();
    while let Some(next) = cause {
        // What a cause says is often said by what it caused.
        let more = next.to_string();
        if !words.contains(&more) {
            let _ = write!(words, ": {more}");
        }
        cause = next.source();
    }
    words
}

#[derive(Debug, thiserror::Error)]
pub(super) enum RequestError {
    #[error(transparent)]
    Request(#[from] reqwest::Error),
    #[error(transparent)]
    Http(#[from] http::Error),
    #[error("it answers with more than {} MB", MOST_BYTES / 1_000_000)]
    Large,
}

/// The way to the provider.
#[derive(Clone)]
pub(super) struct Http(Client);

impl Http {
    pub(super) fn new(settings: &ProviderSettings) -> Result<Self, ProviderError> {
        // An answer that leads elsewhere is none (RFC 9700, 4.12).
        let mut client = Client::builder()
            .redirect(redirect::Policy::none())
            .no_proxy()
            .timeout(settings.timeout);
        if let Some(pem) = &settings.ca {
            let trusted =
                Certificate::from_pem_bundle(pem).map_err(|_| ProviderError::Certificates)?;
            if trusted.is_empty() {
                return Err(ProviderError::Certificates);
            }
            client = client.tls_built_in_root_certs(false);
            for one in trusted {
                client = client.add_root_certificate(one);
            }
        }
        let client = client.build().map_err(|_| ProviderError::Certificates)?;
        Ok(Self(client))
    }

    /// What sends a request. It borrows nothing, so that whoever waits for it may be on any thread.
    pub(super) fn sending(
        &self,
    ) -> impl Fn(HttpRequest) -> BoxFuture<'static, Result<HttpResponse, RequestError>> + use<>
    {
        let own = self.clone();
        move |request| {
            let own = own.clone();
            Box::pin(async move { own.send(request).await })
        }
    }

    async fn send(&self, request: HttpRequest) -> Result<HttpResponse, RequestError> {
        let answer = self.0.execute(request.try_into()?).await?;
        let mut response = http::Response::builder().status(answer.status());
        if let Some(headers) = response.headers_mut() {
            *headers = answer.headers().clone();
        }
        let mut body = Vec::new();
        let mut parts = answer.bytes_stream();
        while let Some(part) = parts.next().await {
            body.extend_from_slice(&part?);
            if body.len() > MOST_BYTES {
                return Err(RequestError::Large);
            }
        }
        Ok(response.body(body)?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cause_is_said_once() {
        #[derive(Debug, thiserror::Error)]
        #[error("the request failed")]
        struct Outer(#[source] std::io::Error);
        let refused = || std::io::Error::other("connection refused");
        assert_eq!(
            in_words(&Outer(refused())),
            "the request failed: connection refused"
        );
        #[derive(Debug, thiserror::Error)]
        #[error("it said: {0}")]
        struct Same(#[source] std::io::Error);
        assert_eq!(in_words(&Same(refused())), "it said: connection refused");
    }
}
