//! Where traces and measures are sent (OTLP).

use std::{collections::BTreeMap, time::Duration};

use maple_lark_time::span::Span;
use reqwest::header::{HeaderMap, HeaderName, HeaderValue};
use serde::Deserialize;
use url::Url;

use super::{BadKey, groups::elapsed, look_up};

const USUAL_EVERY: Duration = Duration::from_secs(60);

/// A collector that takes OTLP by HTTP.
#[derive(Debug, Clone)]
pub struct Telemetry {
    /// Its address, below which `/v1/traces` and `/v1/metrics` are.
    pub endpoint: Url,
    /// What is sent along, such as a token.
    pub headers: HeaderMap,
    /// How often measures are sent.
    pub every: Duration,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct TelemetryFile {
    endpoint: String,
    #[serde(default)]
    headers: BTreeMap<String, String>,
    every: Option<Span>,
}

impl TelemetryFile {
    /// # Errors
    /// Which key is wrong.
    pub(super) fn checked(self) -> Result<Telemetry, BadKey> {
        let key = "telemetry.endpoint";
        let endpoint = look_up(&self.endpoint).map_err(|error| BadKey::new(key, error))?;
        let endpoint: Url = endpoint
            .trim_end_matches('/')
            .parse()
            .ok()
            .filter(|url: &Url| matches!(url.scheme(), "http" | "https") && url.has_host())
            .ok_or_else(|| {
                BadKey::new(
                    key,
                    "it is not an address such as \"http://127.0.0.1:4318\"",
                )
            })?;
        let mut headers = HeaderMap::new();
        for (name, written) in &self.headers {
            let key = format!("telemetry.headers.{name}");
            let value = look_up(written).map_err(|error| BadKey::new(&key, error))?;
            let sent = (
                HeaderName::from_bytes(name.as_bytes()),
                HeaderValue::from_str(&value),
            );
            let (Ok(name), Ok(mut value)) = sent else {
                return Err(BadKey::new(&key, "it cannot be sent as a header"));
            };
            value.set_sensitive(true);
            headers.insert(name, value);
        }
        Ok(Telemetry {
            endpoint,
            headers,
            every: elapsed("telemetry.every", self.every, USUAL_EVERY)?,
        })
    }
}
