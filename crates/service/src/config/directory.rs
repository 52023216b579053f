//! The organisation's directory: where it is, how people are found in it, and what their groups make
//! of them.

use std::{collections::BTreeMap, net::IpAddr, path::PathBuf, time::Duration};

use maple_lark_definition::split_address;
use maple_lark_directory::{
    BadFilter, Directory, Filter, Groups, Protection, Settings, same_entry,
};
use maple_lark_time::span::Span;
use serde::Deserialize;

use super::{
    BadKey, TlsWord, file_at,
    groups::{Meaning, elapsed},
    look_up,
};

const USUAL_CHECK: Duration = Duration::from_secs(900);
const USUAL_TIMEOUT: Duration = Duration::from_secs(10);

/// The directory with what groups mean here.
#[derive(Clone)]
pub struct Organisation {
    pub directory: Directory,
    pub meaning: Meaning,
    /// How often it is looked whether people are still let in.
    pub check_every: Duration,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct DirectoryFile {
    host: String,
    tls: TlsWord,
    ca_file: Option<PathBuf>,
    user: Option<String>,
    password: Option<String>,
    base: String,
    person: Option<String>,
    name: Option<String>,
    mail: Option<String>,
    /// Below which groups are looked for.
    groups: Option<String>,
    group: Option<String>,
    /// The attribute of people that lists their groups.
    member_of: Option<String>,
    timeout: Option<Span>,
    check_every: Option<Span>,
    #[serde(default)]
    roles: BTreeMap<String, Vec<String>>,
    #[serde(default)]
    teams: BTreeMap<String, Vec<String>>,
}

impl DirectoryFile {
    /// # Errors
    /// Which key is wrong.
    pub(super) fn checked(self) -> Result<Organisation, BadKey> {
        let reader = match (&self.user, &self.password) {
            (Some(user), Some(written)) => {
                let password = look_up(written);
                let password =
                    password.map_err(|error| BadKey::new("directory.password", error))?;
                Some((user.clone(), password))
            }
            (None, None) => None,
            _ => return Err(BadKey::new("directory", "user and password go together")),
        };
        let groups = self.groups_of_people()?;
        let person = filter("person", self.person.as_deref().unwrap_or("(uid={})"))?;
        let ca = self.ca_file.as_deref();
        let ca = ca.map(|path| file_at("directory.ca-file", path));
        let protection = match self.tls {
            TlsWord::Off if !is_own(&self.host) => {
                return Err(BadKey::new(
                    "directory.tls",
                    format!(
                        "passwords would go to {} for everybody on the way to read; use \"tls\" or \"starttls\"",
                        self.host
                    ),
                ));
            }
            TlsWord::Off => Protection::None,
            TlsWord::Starttls => Protection::StartTls,
            TlsWord::Tls => Protection::Tls,
        };
        let settings = Settings {
            host: self.host,
            protection,
            ca: ca.transpose()?,
            reader,
            base: self.base,
            person,
            name: self.name.unwrap_or_else(|| "uid".to_owned()),
            mail: self.mail.unwrap_or_else(|| "mail".to_owned()),
            groups,
            timeout: elapsed("directory.timeout", self.timeout, USUAL_TIMEOUT)?,
        };
        Ok(Organisation {
            directory: Directory::new(settings).map_err(|error| BadKey::new("directory", error))?,
            meaning: Meaning::checked("directory", self.roles, self.teams, same_entry)?,
            check_every: elapsed("directory.check-every", self.check_every, USUAL_CHECK)?,
        })
    }

    fn groups_of_people(&self) -> Result<Groups, BadKey> {
        match (&self.groups, &self.member_of) {
            (Some(_), Some(_)) => Err(BadKey::new(
                "directory",
                "groups are searched for, or people list them: give groups or member-of, not both",
            )),
            (Some(base), None) => Ok(Groups::Search {
                base: base.clone(),
                filter: filter("group", self.group.as_deref().unwrap_or("(member={})"))?,
            }),
            (None, Some(attribute)) => Ok(Groups::Attribute(attribute.clone())),
            (None, None) => Ok(Groups::None),
        }
    }
}

fn filter(key: &str, text: &str) -> Result<Filter, BadKey> {
    text.parse()
        .map_err(|error: BadFilter| BadKey::new(format!("directory.{key}"), error))
}

/// Whether an address is of this machine alone.
pub(super) fn is_own(host: &str) -> bool {
    let name = split_address(host).map_or(host, |(name, _)| name);
    let address = name.trim_matches(['[', ']']).parse::<IpAddr>();
    name == "localhost" || address.is_ok_and(|address| address.is_loopback())
}
