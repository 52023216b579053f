//! The organisation's directory: where it is, how people are found in it, and what their groups make
//! of them.

use std::{collections::BTreeMap, net::IpAddr, path::PathBuf, time::Duration};

use maple_lark_api::Role;
use maple_lark_definition::split_address;
use maple_lark_directory::{
    BadFilter, Directory, Filter, Groups, Person, Protection, Settings, same_entry,
};
use maple_lark_time::span::Span;
use serde::Deserialize;

use super::{TlsWord, look_up};

/// A group whose members are everybody in the directory.
const EVERYBODY: &str = "*";
const USUAL_CHECK: Duration = Duration::from_secs(900);
const USUAL_TIMEOUT: Duration = Duration::from_secs(10);

/// The directory with what groups mean here.
#[derive(Clone)]
pub struct Organisation {
    pub directory: Directory,
    /// The groups of each role, the highest first.
    roles: Vec<(Role, Vec<String>)>,
    teams: BTreeMap<String, Vec<String>>,
    /// How often it is looked whether people are still let in.
    pub check_every: Duration,
}

impl Organisation {
    /// The highest role that somebody's groups give them; nothing if they may not sign in.
    #[must_use]
    pub fn role(&self, person: &Person) -> Option<Role> {
        let mut roles = self.roles.iter();
        let found = roles.find(|(_, groups)| is_in(person, groups));
        found.map(|(role, _)| *role)
    }

    /// The teams that somebody's groups put them into.
    #[must_use]
    pub fn teams(&self, person: &Person) -> Vec<String> {
        let led = self.teams.iter();
        led.filter(|(_, groups)| is_in(person, groups))
            .map(|(team, _)| team.clone())
            .collect()
    }

    /// The teams that groups lead to: who is in them follows from the directory.
    #[must_use]
    pub fn led_to(&self) -> Vec<String> {
        self.teams.keys().cloned().collect()
    }
}

fn is_in(person: &Person, groups: &[String]) -> bool {
    let is_member = |group: &String| person.groups.iter().any(|own| same_entry(own, group));
    groups
        .iter()
        .any(|group| group == EVERYBODY || is_member(group))
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
    /// In words, which key is wrong and why.
    pub(super) fn checked(self) -> Result<Organisation, String> {
        let reader = match (&self.user, &self.password) {
            (Some(user), Some(written)) => {
                let password = look_up(written);
                let password = password.map_err(|error| format!("directory.password: {error}"))?;
                Some((user.clone(), password))
            }
            (None, None) => None,
            _ => return Err("directory: user and password go together".to_owned()),
        };
        let groups = self.groups_of_people()?;
        let person = filter("person", self.person.as_deref().unwrap_or("(uid={})"))?;
        let ca = self.ca_file.as_ref().map(|path| {
            std::fs::read(path).map_err(|error| {
                format!(
                    "directory.ca-file: {} cannot be read: {error}",
                    path.display()
                )
            })
        });
        let protection = match self.tls {
            TlsWord::Off if !is_own(&self.host) => {
                return Err(format!(
                    "directory.tls: passwords would go to {} for everybody on the way to read; use \"tls\" or \"starttls\"",
                    self.host
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
            timeout: elapsed("timeout", self.timeout, USUAL_TIMEOUT)?,
        };
        Ok(Organisation {
            directory: Directory::new(settings).map_err(|error| format!("directory: {error}"))?,
            roles: roles(self.roles)?,
            teams: self.teams,
            check_every: elapsed("check-every", self.check_every, USUAL_CHECK)?,
        })
    }

    fn groups_of_people(&self) -> Result<Groups, String> {
        match (&self.groups, &self.member_of) {
            (Some(_), Some(_)) => Err(
                "directory: groups are searched for, or people list them: give groups or member-of, not both"
                    .to_owned(),
            ),
            (Some(base), None) => Ok(Groups::Search {
                base: base.clone(),
                filter: filter("group", self.group.as_deref().unwrap_or("(member={})"))?,
            }),
            (None, Some(attribute)) => Ok(Groups::Attribute(attribute.clone())),
            (None, None) => Ok(Groups::None),
        }
    }
}

fn filter(key: &str, text: &str) -> Result<Filter, String> {
    text.parse()
        .map_err(|error: BadFilter| format!("directory.{key}: {error}"))
}

fn elapsed(key: &str, span: Option<Span>, usual: Duration) -> Result<Duration, String> {
    match span.map(|span| span.elapsed()) {
        None => Ok(usual),
        Some(Some(length)) if length.num_seconds() >= 1 => {
            Ok(Duration::from_secs(length.num_seconds().unsigned_abs()))
        }
        Some(_) => Err(format!(
            "directory.{key} must be made of hours, minutes and seconds, such as \"PT15M\""
        )),
    }
}

fn roles(mut written: BTreeMap<String, Vec<String>>) -> Result<Vec<(Role, Vec<String>)>, String> {
    let mut roles = Vec::new();
    for role in [Role::Administrator, Role::Author, Role::Viewer] {
        let groups = written.remove(&role.to_string());
        roles.extend(groups.map(|groups| (role, groups)));
    }
    if let Some(other) = written.keys().next() {
        let known = other.parse::<Role>();
        let words = known.err().map(|error| error.to_string());
        return Err(format!("directory.roles: {}", words.unwrap_or_default()));
    }
    if roles.is_empty() {
        return Err(
            "directory.roles: nobody could sign in; say which groups have which role, such as viewer = [\"*\"] for everybody in the directory"
                .to_owned(),
        );
    }
    if roles
        .iter()
        .any(|(role, groups)| *role > Role::Viewer && groups.iter().any(|one| one == EVERYBODY))
    {
        return Err(
            "directory.roles: \"*\" is for viewers alone; name the groups of authors and administrators"
                .to_owned(),
        );
    }
    Ok(roles)
}

/// Whether an address is of this machine alone.
fn is_own(host: &str) -> bool {
    let name = split_address(host).map_or(host, |(name, _)| name);
    let address = name.trim_matches(['[', ']']).parse::<IpAddr>();
    name == "localhost" || address.is_ok_and(|address| address.is_loopback())
}
