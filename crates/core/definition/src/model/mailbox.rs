//! A mail address with an optional display name (RFC 5322).

use std::fmt;

use serde::{Deserialize, Serialize};

/// A mail address with an optional display name: `Runa Holm <runa@orrin-sound.example>`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Mailbox {
    /// The display name.
    pub name: Option<String>,
    /// The address (RFC 5322).
    pub address: String,
}

#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
/// The text is no mail address. The message says why.
#[error(
    "\"{given}\" is not a mail address; write \"name@host.example\" or \"Full Name <name@host.example>\""
)]
pub struct BadMailbox {
    given: String,
}

impl std::str::FromStr for Mailbox {
    type Err = BadMailbox;

    fn from_str(given: &str) -> Result<Self, BadMailbox> {
        let bad = || BadMailbox {
            given: given.to_owned(),
        };
        let (name, address) = match given
            .trim()
            .strip_suffix('>')
            .and_then(|text| text.rsplit_once('<'))
        {
            Some((name, address)) => (
                Some(name.trim().trim_matches('"').to_owned()).filter(|name| !name.is_empty()),
                address.trim(),
            ),
            None => (None, given.trim()),
        };
        let (local, host) = address.rsplit_once('@').ok_or_else(bad)?;
        let allowed =
            |c: char| !c.is_whitespace() && !c.is_control() && !"<>()[],;:\\\"@".contains(c);
        let fits = !local.is_empty()
            && !host.is_empty()
            && local.len() <= 64
            && host.len() <= 255
            && local.chars().all(allowed)
            && host.chars().all(allowed);
        let dots = host.split('.').all(|label| !label.is_empty())
            && local.split('.').all(|part| !part.is_empty());
        if !fits
            || !dots
            || name
                .as_ref()
                .is_some_and(|name| name.chars().any(char::is_control))
        {
            return Err(bad());
        }
        Ok(Mailbox {
            name,
            address: address.to_owned(),
        })
    }
}

impl fmt::Display for Mailbox {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.name {
            Some(name) => write!(f, "{name} <{}>", self.address),
            None => f.write_str(&self.address),
        }
    }
}

impl TryFrom<String> for Mailbox {
    type Error = BadMailbox;

    fn try_from(given: String) -> Result<Self, BadMailbox> {
        given.parse()
    }
}
