//! The organisation's OpenID provider: where it is, which of its claims say what, and what groups mean.

use std::{collections::BTreeMap, path::PathBuf, time::Duration};

use maple_lark_directory::{Provider, ProviderSettings};
use maple_lark_time::span::Span;
use serde::Deserialize;
use url::Url;

use super::{
    BadKey,
    directory::is_own,
    file_at,
    groups::{Meaning, elapsed},
    look_up,
};

/// Where the provider sends the browser back to, below the public address.
pub const BACK: &str = "/sign-in/return";
const NEVER: &str = "never";
const USUAL_CHECK: Duration = Duration::from_secs(900);
const USUAL_TIMEOUT: Duration = Duration::from_secs(10);

/// The provider with what groups mean here.
#[derive(Clone)]
pub struct IdentityProvider {
    pub provider: Provider,
    /// What people call it.
    pub title: String,
    pub meaning: Meaning,
    /// How often it is looked whether people are still let in; never, if so chosen.
    pub check_every: Option<Duration>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct IdentityProviderFile {
    issuer: String,
    client: String,
    secret: Option<String>,
    title: Option<String>,
    scopes: Option<Vec<String>>,
    name: Option<String>,
    mail: Option<String>,
    /// The claim with somebody's groups.
    groups: Option<String>,
    ca_file: Option<PathBuf>,
    timeout: Option<Span>,
    check_every: Option<String>,
    #[serde(default)]
    roles: BTreeMap<String, Vec<String>>,
    #[serde(default)]
    teams: BTreeMap<String, Vec<String>>,
}

/// How often it is asked whether people are still let in; nothing if never.
fn check_every(written: Option<&str>) -> Result<Option<Duration>, BadKey> {
    const KEY: &str = "identity-provider.check-every";
    match written {
        None => Ok(Some(USUAL_CHECK)),
        Some(NEVER) => Ok(None),
        Some(written) => {
            let span: Result<Span, _> = written.parse();
            let span =
                span.map_err(|error| BadKey::new(KEY, format!("{error}; or say \"never\"")))?;
            elapsed(KEY, Some(span), USUAL_CHECK).map(Some)
        }
    }
}

impl IdentityProviderFile {
    /// # Errors
    /// Which key is wrong.
    pub(super) fn checked(self, public_url: &str) -> Result<IdentityProvider, BadKey> {
        let issuer = Url::parse(&self.issuer)
            .map_err(|error| BadKey::new("identity-provider.issuer", error))?;
        let host = issuer.host_str().unwrap_or_default().to_owned();
        if issuer.scheme() != "https" && !(issuer.scheme() == "http" && is_own(&host)) {
            return Err(BadKey::new(
                "identity-provider.issuer",
                format!(
                    "who people are would be for everybody on the way to change; use https://{host}"
                ),
            ));
        }
        let secret = self.secret.map(|written| {
            look_up(&written).map_err(|error| BadKey::new("identity-provider.secret", error))
        });
        let ca = self.ca_file.as_deref();
        let ca = ca.map(|path| file_at("identity-provider.ca-file", path));
        let check_every = check_every(self.check_every.as_deref())?;
        let settings = ProviderSettings {
            issuer: self.issuer,
            client: self.client,
            secret: secret.transpose()?,
            scopes: self
                .scopes
                .unwrap_or_else(|| ["profile", "email"].map(str::to_owned).to_vec()),
            name: self.name.unwrap_or_else(|| "preferred_username".to_owned()),
            mail: self.mail.unwrap_or_else(|| "email".to_owned()),
            groups: self.groups.unwrap_or_else(|| "groups".to_owned()),
            back: format!("{public_url}{BACK}"),
            looks_later: check_every.is_some(),
            ca: ca.transpose()?,
            timeout: elapsed("identity-provider.timeout", self.timeout, USUAL_TIMEOUT)?,
        };
        let provider =
            Provider::new(settings).map_err(|error| BadKey::new("identity-provider", error))?;
        Ok(IdentityProvider {
            provider,
            title: self.title.unwrap_or(host),
            meaning: Meaning::checked(
                "identity-provider",
                self.roles,
                self.teams,
                |one, other| one == other,
            )?,
            check_every,
        })
    }
}
