//! Where channels that speak HTTP lead, signed in.

use std::time::Duration;

use maple_lark_definition::{Channel, Setting, SignIn, Web};
use maple_lark_delivery::{DeliveryError, HttpTarget, SignedIn};
use maple_lark_sources::{NoClient, Reader};
use reqwest::Client;
use url::Url;

use super::refused;

/// Where a web channel leads, signed in.
pub async fn http_target(
    reader: &Reader,
    channel: &Channel,
    web: &Web,
) -> Result<HttpTarget, DeliveryError> {
    let name = format!("the channel \"{}\"", channel.name);
    let url = reader.setting(&web.url).await;
    let url = HttpTarget::address(&url.map_err(|error| refused(channel, error))?)
        .ok_or_else(|| refused(channel, "its url is not one"))?;
    let host = url.host_str().map(str::to_owned);
    let setting = async |setting: &Setting| {
        let found = reader.setting_for(setting, host.as_deref()).await;
        found.map_err(|error| refused(channel, error))
    };
    let ca = certificates(channel, web.ca_file.as_deref()).await?;
    let sign_in = match &web.sign_in {
        // A form is for live pages; no channel can be given one.
        None | Some(SignIn::Form(_)) => None,
        Some(SignIn::Cookie { name, value }) => Some(SignedIn::Header {
            name: "Cookie".to_owned(),
            value: format!("{name}={}", setting(value).await?),
        }),
        Some(SignIn::Basic { user, password }) => Some(SignedIn::Basic {
            user: setting(user).await?,
            password: setting(password).await?,
        }),
        Some(SignIn::Bearer { token }) => Some(SignedIn::Bearer {
            token: setting(token).await?,
        }),
        Some(SignIn::Header { name, value }) => Some(SignedIn::Header {
            name: name.clone(),
            value: setting(value).await?,
        }),
    };
    let mut headers = Vec::new();
    for (name, value) in &web.headers {
        headers.push((name.clone(), setting(value).await?));
    }
    let client = client_for(reader, channel, &url, ca.as_deref()).await?;
    Ok(HttpTarget {
        client,
        url,
        headers,
        sign_in,
        timeout: Duration::from_secs(channel.timeout_seconds),
        name,
    })
}

/// What the `ca-file` of a channel holds.
pub async fn certificates(
    channel: &Channel,
    file: Option<&str>,
) -> Result<Option<Vec<u8>>, DeliveryError> {
    let Some(path) = file else { return Ok(None) };
    let read = tokio::fs::read(path).await;
    let read =
        read.map_err(|error| refused(channel, format!("ca-file {path} cannot be read: {error}")));
    read.map(Some)
}

/// A client for an address that the service may reach.
pub async fn client_for(
    reader: &Reader,
    channel: &Channel,
    url: &Url,
    ca: Option<&[u8]>,
) -> Result<Client, DeliveryError> {
    reader.web_client(url, ca).await.map_err(|error| match error {
        NoClient::OutOfBounds(reason) => refused(channel, format!("it may not be reached: {reason}; an administrator can allow it under sources-may-reach")),
        NoClient::Unknown(words) => DeliveryError::Unreachable { server: format!("the channel \"{}\"", channel.name), words },
        NoClient::Certificates(words) => refused(channel, format!("its ca-file holds no usable certificates: {words}")),
    })
}
