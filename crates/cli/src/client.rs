//! Speaks the public API.

use futures::StreamExt;
use maple_lark_api::ProblemDetails;
use reqwest::{Method, RequestBuilder, Response};
use serde::{Serialize, de::DeserializeOwned};
use serde_json::Value as Json;

use crate::{failure::Failure, saved, typed};

/// Replaces what a terminal would obey instead of showing it, in all texts of an answer: a title
/// or an error of some source must not move the cursor. Ends of lines and tabs stay.
fn plain(answer: &mut Json) {
    match answer {
        Json::String(text) if text.contains(is_obeyed) => {
            // The end of a line in a file of another system is none of these.
            let lines: Vec<String> = text
                .split("\r\n")
                .map(|line| line.replace(is_obeyed, "\u{fffd}"))
                .collect();
            *text = lines.join("\r\n");
        }
        Json::Array(all) => all.iter_mut().for_each(plain),
        Json::Object(all) => all.values_mut().for_each(plain),
        _ => {}
    }
}

/// What an event says.
fn event<T: DeserializeOwned>(data: &str) -> Option<T> {
    let mut value = serde_json::from_str(data.trim()).ok()?;
    plain(&mut value);
    serde_json::from_value(value).ok()
}

fn is_obeyed(c: char) -> bool {
    c.is_control() && !matches!(c, '\n' | '\t')
}

const DEFAULT_ADDRESS: &str = "http://127.0.0.1:8480";

pub struct Client {
    http: reqwest::Client,
    address: String,
    token: Option<String>,
}

/// The address of a service as somebody writes it.
pub fn address_of(text: &str) -> Result<String, &'static str> {
    let read = reqwest::Url::parse(text);
    let is_address = |url: reqwest::Url| url.has_host() && matches!(url.scheme(), "http" | "https");
    if read.is_ok_and(is_address) {
        Ok(text.to_owned())
    } else {
        Err(
            "it is the address of the service, such as https://reports.host.example; the mail address of a user is their --email",
        )
    }
}

impl Client {
    /// A client that is not signed in.
    pub fn new(address: Option<String>) -> Self {
        let address = address
            .or_else(|| saved::load().map(|saved| saved.address))
            .unwrap_or_else(|| DEFAULT_ADDRESS.to_owned());
        Self {
            http: reqwest::Client::builder()
                .user_agent(concat!("maple-lark/", env!("CARGO_PKG_VERSION")))
                .build()
                .unwrap_or_default(),
            address: address.trim_end_matches('/').to_owned(),
            token: None,
        }
    }

    /// A client with the token of the environment or of the saved sign-in.
    pub fn signed_in(address: Option<String>) -> Result<Self, Failure> {
        let client = Self::new(address);
        let remembered = || {
            saved::load()
                .filter(|saved| saved.address == client.address)
                .map(|saved| saved.token)
        };
        let token = typed::token_of_the_environment().or_else(remembered);
        let token = token.ok_or(Failure::NotSignedIn)?;
        Ok(client.with_token(token))
    }

    /// The same client with this token.
    #[must_use]
    pub fn with_token(mut self, token: String) -> Self {
        self.token = Some(token);
        self
    }

    pub fn address(&self) -> &str {
        &self.address
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request = self
            .http
            .request(method, format!("{}/api/v1{path}", self.address));
        match &self.token {
            Some(token) => request.bearer_auth(token),
            None => request,
        }
    }

    async fn send(&self, request: RequestBuilder) -> Result<Response, Failure> {
        let response = request
            .send()
            .await
            .map_err(|error| self.unreachable(&error))?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status();
        let problem = match response.json::<Json>().await {
            Ok(mut problem) => {
                plain(&mut problem);
                serde_json::from_value::<ProblemDetails>(problem).ok()
            }
            Err(_) => None,
        };
        Err(Failure::Refused(problem.unwrap_or_else(|| {
            ProblemDetails::new(
                status.as_u16(),
                "Error",
                format!(
                    "{} answered {status}, which is not how Maple Lark answers",
                    self.address
                ),
            )
        })))
    }

    fn unreachable(&self, error: &reqwest::Error) -> Failure {
        let mut words = error.to_string();
        let mut source = std::error::Error::source(error);
        while let Some(inner) = source {
            words = inner.to_string();
            source = inner.source();
        }
        Failure::Unreachable {
            address: self.address.clone(),
            words,
        }
    }

    async fn read<T: DeserializeOwned>(&self, response: Response) -> Result<T, Failure> {
        let not_understood = |error: &dyn std::fmt::Display| {
            Failure::Local(format!(
                "the answer of {} is not understood: {error}. Do the command line and the service have the same version?",
                self.address
            ))
        };
        let mut answer: Json = response
            .json()
            .await
            .map_err(|error| not_understood(&error))?;
        plain(&mut answer);
        serde_json::from_value(answer).map_err(|error| not_understood(&error))
    }

    pub async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, Failure> {
        self.read(self.send(self.request(Method::GET, path)).await?)
            .await
    }

    pub async fn get_with<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &[(&str, String)],
    ) -> Result<T, Failure> {
        self.read(
            self.send(self.request(Method::GET, path).query(query))
                .await?,
        )
        .await
    }

    pub async fn post<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T, Failure> {
        self.read(
            self.send(self.request(Method::POST, path).json(body))
                .await?,
        )
        .await
    }

    pub async fn patch<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T, Failure> {
        let request = self.request(Method::PATCH, path).json(body);
        self.read(self.send(request).await?).await
    }

    pub async fn put(&self, path: &str, body: &impl Serialize) -> Result<(), Failure> {
        self.send(self.request(Method::PUT, path).json(body))
            .await
            .map(drop)
    }

    pub async fn put_for<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T, Failure> {
        let request = self.request(Method::PUT, path).json(body);
        let response = self.send(request).await?;
        self.read(response).await
    }

    /// An order that is answered with nothing.
    pub async fn post_only(&self, path: &str, body: &impl Serialize) -> Result<(), Failure> {
        let request = self.request(Method::POST, path).json(body);
        self.send(request).await.map(drop)
    }

    /// A change that is answered with nothing.
    pub async fn patch_only(&self, path: &str, body: &impl Serialize) -> Result<(), Failure> {
        let request = self.request(Method::PATCH, path).json(body);
        self.send(request).await.map(drop)
    }

    pub async fn delete(&self, path: &str) -> Result<(), Failure> {
        self.send(self.request(Method::DELETE, path))
            .await
            .map(drop)
    }

    pub async fn delete_for<T: DeserializeOwned>(&self, path: &str) -> Result<T, Failure> {
        self.read(self.send(self.request(Method::DELETE, path)).await?)
            .await
    }

    pub async fn bytes(&self, path: &str) -> Result<Vec<u8>, Failure> {
        let response = self.send(self.request(Method::GET, path)).await?;
        response
            .bytes()
            .await
            .map(Into::into)
            .map_err(|error| self.unreachable(&error))
    }

    /// A file with the name that the service gives it.
    pub async fn file(
        &self,
        path: &str,
        query: &[(&str, &str)],
    ) -> Result<(String, Vec<u8>), Failure> {
        self.saved(self.request(Method::GET, path).query(query))
            .await
    }

    /// A file that the service makes of `body`.
    pub async fn file_from(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<(String, Vec<u8>), Failure> {
        self.saved(self.request(Method::POST, path).json(body))
            .await
    }

    async fn saved(&self, request: RequestBuilder) -> Result<(String, Vec<u8>), Failure> {
        let response = self.send(request).await?;
        let disposition = response
            .headers()
            .get("Content-Disposition")
            .and_then(|value| value.to_str().ok())
            .unwrap_or_default();
        let name = disposition
            .split("filename=\"")
            .nth(1)
            .and_then(|rest| rest.split('"').next())
            .unwrap_or("document")
            .to_owned();
        Ok((
            name,
            response
                .bytes()
                .await
                .map_err(|error| self.unreachable(&error))?
                .into(),
        ))
    }

    /// Hands over each server-sent event as it comes, until the stream ends or `each` has seen
    /// enough and says no.
    pub async fn events<T: DeserializeOwned>(
        &self,
        path: &str,
        mut each: impl FnMut(T) -> bool,
    ) -> Result<(), Failure> {
        let mut parts = self
            .send(self.request(Method::GET, path))
            .await?
            .bytes_stream();
        let mut pending = Vec::new();
        while let Some(part) = parts.next().await {
            pending.extend_from_slice(&part.map_err(|error| self.unreachable(&error))?);
            while let Some(end) = pending.iter().position(|byte| *byte == b'\n') {
                let line: Vec<u8> = pending.drain(..=end).collect();
                let line = String::from_utf8_lossy(&line);
                if let Some(value) = line.strip_prefix("data:").and_then(event)
                    && !each(value)
                {
                    return Ok(());
                }
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mail_address_is_no_address_of_a_service() {
        for good in [
            "http://127.0.0.1:8480",
            "https://reports.host.example/lark/",
        ] {
            assert_eq!(address_of(good).as_deref(), Ok(good));
        }
        for bad in [
            "jon.dal@host.example",
            "host:8480",
            "file:///x",
            "http://",
            "",
        ] {
            assert!(address_of(bad).unwrap_err().contains("--email"), "{bad}");
        }
    }

    #[test]
    fn nothing_that_a_terminal_obeys_comes_out_of_an_answer() {
        let mut answer = serde_json::json!({
            "title": "Port \u{1b}[2J\u{9b}2J é\nsecond\tline",
            "text": "one\r\ntwo\rover",
            "all": [{ "problem": "\u{7}bell\u{0}" }, 3, null],
        });
        plain(&mut answer);
        assert_eq!(
            answer["title"],
            "Port \u{fffd}[2J\u{fffd}2J é\nsecond\tline"
        );
        assert_eq!(answer["text"], "one\r\ntwo\u{fffd}over");
        assert_eq!(answer["all"][0]["problem"], "\u{fffd}bell\u{fffd}");
        assert_eq!(
            event::<Json>(" {\"a\": 1}\n"),
            Some(serde_json::json!({ "a": 1 }))
        );
        assert_eq!(event::<Json>("half"), None);
    }
}
