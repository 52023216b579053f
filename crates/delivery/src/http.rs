//! Documents by HTTP PUT, and messages to web hooks.

use std::time::Duration;

use base64::{Engine, engine::general_purpose::STANDARD};
use chrono::{DateTime, Utc};
use hmac::{Hmac, KeyInit, Mac};
use reqwest::{Client, Method, RequestBuilder, StatusCode, Url};
use sha2::{Digest, Sha256};

use crate::DeliveryError;

/// Where to, and as whom; every secret is looked up already.
pub struct HttpTarget {
    pub client: Client,
    pub url: Url,
    pub headers: Vec<(String, String)>,
    pub sign_in: Option<SignedIn>,
    pub timeout: Duration,
    /// What it is called in words to people; an address may be a secret itself.
    pub name: String,
}

pub enum SignedIn {
    Basic { user: String, password: String },
    Bearer { token: String },
    Header { name: String, value: String },
}

impl HttpTarget {
    /// An address as text, understood.
    pub fn address(text: &str) -> Option<Url> {
        text.parse().ok()
    }

    fn request(&self, method: Method, url: Url) -> RequestBuilder {
        let mut request = self.client.request(method, url).timeout(self.timeout);
        for (name, value) in &self.headers {
            request = request.header(name, value);
        }
        match &self.sign_in {
            None => request,
            Some(SignedIn::Basic { user, password }) => request.basic_auth(user, Some(password)),
            Some(SignedIn::Bearer { token }) => request.bearer_auth(token),
            Some(SignedIn::Header { name, value }) => request.header(name, value),
        }
    }

    async fn send(&self, request: RequestBuilder) -> Result<StatusCode, DeliveryError> {
        let response = request.send().await.map_err(|error| {
            let mut innermost: &dyn std::error::Error = &error;
            while let Some(source) = innermost.source() {
                innermost = source;
            }
            let words = if error.is_timeout() {
                format!("no answer within {} s", self.timeout.as_secs())
            } else {
                innermost.to_string()
            };
            // A request that was begun may have been carried out; the next try has the same
            // name or id, so that nothing is there twice.
            DeliveryError::Unreachable {
                server: self.name.clone(),
                words,
            }
        })?;
        Ok(response.status())
    }

    fn judged(&self, status: StatusCode) -> Result<String, DeliveryError> {
        let (server, words) = (self.name.clone(), status.to_string());
        match status {
            status if status.is_success() => Ok(words),
            StatusCode::REQUEST_TIMEOUT | StatusCode::TOO_MANY_REQUESTS | StatusCode::LOCKED => {
                Err(DeliveryError::Postponed { server, words })
            }
            StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN => Err(DeliveryError::Refused {
                server,
                words: format!("{words}; check [channel.sign-in] and what that account may do"),
            }),
            status if status.is_server_error() && status != StatusCode::INSUFFICIENT_STORAGE => {
                Err(DeliveryError::Postponed { server, words })
            }
            status if status.is_redirection() => Err(DeliveryError::Refused {
                server,
                words: format!("{words}; write the address that it leads to"),
            }),
            _ => Err(DeliveryError::Refused { server, words }),
        }
    }
}

/// Puts each file at the target's address, with the SHA-256 of its bytes (RFC 9530). Folders
/// that a WebDAV server (RFC 4918) does not have yet are made.
///
/// # Errors
/// At the first file that is not taken; putting the same files again is harmless.
pub async fn put_files(
    target: &HttpTarget,
    folders: &[String],
    files: &[(&str, &str, &[u8])],
) -> Result<String, DeliveryError> {
    let address = |parts: &mut dyn Iterator<Item = &str>| {
        let mut url = target.url.clone();
        if let Ok(mut path) = url.path_segments_mut() {
            path.pop_if_empty().extend(parts);
        }
        url
    };
    let mut answer = "nothing to put".to_owned();
    for (name, media_type, bytes) in files {
        let url = address(&mut folders.iter().map(String::as_str).chain([*name]));
        let put = || {
            let digest = STANDARD.encode(Sha256::digest(bytes));
            let request = target.request(Method::PUT, url.clone());
            request
                .header("Content-Type", *media_type)
                .header("Repr-Digest", format!("sha-256=:{digest}:"))
                .body(bytes.to_vec())
        };
        let mut status = target.send(put()).await?;
        if matches!(status, StatusCode::CONFLICT | StatusCode::NOT_FOUND) && !folders.is_empty() {
            let mkcol = Method::from_bytes(b"MKCOL").unwrap_or(Method::PUT);
            for depth in 1..=folders.len() {
                // One that is there already answers 405, which is as good.
                target
                    .send(target.request(
                        mkcol.clone(),
                        address(&mut folders[..depth].iter().map(String::as_str)),
                    ))
                    .await?;
            }
            status = target.send(put()).await?;
        }
        answer = format!("{} files; {}", files.len(), target.judged(status)?);
    }
    Ok(answer)
}

/// Posts a JSON message. With a key its id, time and body are signed as the Standard Webhooks
/// specification says (`webhook-id`, `webhook-timestamp`, `webhook-signature`); the id is the
/// same however often it is sent.
///
/// # Errors
/// If the receiver does not take it.
pub async fn post_message(
    target: &HttpTarget,
    id: &str,
    at: DateTime<Utc>,
    key: Option<&str>,
    body: String,
) -> Result<String, DeliveryError> {
    let seconds = at.timestamp().to_string();
    let mut request = target
        .request(Method::POST, target.url.clone())
        .header("Content-Type", "application/json");
    request = request
        .header("webhook-id", id)
        .header("webhook-timestamp", &seconds);
    if let Some(key) = key {
        request = request.header("webhook-signature", signature(key, id, &seconds, &body));
    }
    let status = target.send(request.body(body)).await?;
    target.judged(status)
}

fn signature(key: &str, id: &str, seconds: &str, body: &str) -> String {
    // Keys may be written in base64 behind "whsec_", as the specification has them.
    let bytes = key
        .strip_prefix("whsec_")
        .and_then(|text| STANDARD.decode(text).ok())
        .unwrap_or_else(|| key.as_bytes().to_vec());
    // HMAC takes keys of any length.
    let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(&bytes) else {
        return String::new();
    };
    mac.update(format!("{id}.{seconds}.{body}").as_bytes());
    format!("v1,{}", STANDARD.encode(mac.finalize().into_bytes()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_signature_is_the_one_of_the_specification() {
        // The example of the Standard Webhooks specification.
        let body = "{\"test\": 2432232314}";
        let signed = signature(
            "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw",
            "msg_p5jXN8AQM9LWM0D4loKWxJek",
            "1614265330",
            body,
        );
        assert_eq!(signed, "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=");
    }
}
