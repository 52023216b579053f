//! What the groups of the organisation's people mean here.

use std::{collections::BTreeMap, time::Duration};

use maple_lark_api::Role;
use maple_lark_directory::Person;
use maple_lark_time::span::Span;

use super::BadKey;

/// A group whose members are everybody.
const EVERYBODY: &str = "*";

/// Which groups have which role, and which lead into which team.
#[derive(Clone)]
pub struct Meaning {
    /// The groups of each role, the highest first.
    roles: Vec<(Role, Vec<String>)>,
    teams: BTreeMap<String, Vec<String>>,
    /// Whether two names are of one group.
    same: fn(&str, &str) -> bool,
}

impl Meaning {
    /// # Errors
    /// Which key of the section is wrong.
    pub(super) fn checked(
        section: &str,
        mut written: BTreeMap<String, Vec<String>>,
        teams: BTreeMap<String, Vec<String>>,
        same: fn(&str, &str) -> bool,
    ) -> Result<Self, BadKey> {
        let bad = |why: String| BadKey::new(format!("{section}.roles"), why);
        let mut roles = Vec::new();
        for role in [Role::Administrator, Role::Author, Role::Viewer] {
            let groups = written.remove(&role.to_string());
            roles.extend(groups.map(|groups| (role, groups)));
        }
        if let Some(other) = written.keys().next() {
            let known = other.parse::<Role>();
            let words = known.err().map(|error| error.to_string());
            return Err(bad(words.unwrap_or_default()));
        }
        if roles.is_empty() {
            return Err(bad(
                "nobody could sign in; say which groups have which role, such as viewer = [\"*\"] for everybody".to_owned(),
            ));
        }
        let of_all = |(role, groups): &(Role, Vec<String>)| {
            *role > Role::Viewer && groups.iter().any(|one| one == EVERYBODY)
        };
        if roles.iter().any(of_all) {
            return Err(bad(
                "\"*\" is for viewers alone; name the groups of authors and administrators"
                    .to_owned(),
            ));
        }
        Ok(Self { roles, teams, same })
    }

    fn is_in(&self, person: &Person, groups: &[String]) -> bool {
        let is_member = |group: &String| person.groups.iter().any(|own| (self.same)(own, group));
        groups
            .iter()
            .any(|group| group == EVERYBODY || is_member(group))
    }

    /// The highest role that somebody's groups give them; nothing if they may not sign in.
    #[must_use]
    pub fn role(&self, person: &Person) -> Option<Role> {
        let mut roles = self.roles.iter();
        let found = roles.find(|(_, groups)| self.is_in(person, groups));
        found.map(|(role, _)| *role)
    }

    /// The teams that somebody's groups put them into.
    #[must_use]
    pub fn teams(&self, person: &Person) -> Vec<String> {
        let led = self.teams.iter();
        led.filter(|(_, groups)| self.is_in(person, groups))
            .map(|(team, _)| team.clone())
            .collect()
    }

    /// The teams that groups lead to: who is in them follows from the groups.
    #[must_use]
    pub fn led_to(&self) -> Vec<String> {
        self.teams.keys().cloned().collect()
    }
}

/// A time that a clock measures, as it is written.
///
/// # Errors
/// If it has days or longer, or is less than a second.
pub(super) fn elapsed(key: &str, span: Option<Span>, usual: Duration) -> Result<Duration, BadKey> {
    match span.map(|span| span.elapsed()) {
        None => Ok(usual),
        Some(Some(length)) if length.num_seconds() >= 1 => {
            Ok(Duration::from_secs(length.num_seconds().unsigned_abs()))
        }
        Some(_) => Err(BadKey::new(
            key,
            "it must be made of hours, minutes and seconds, such as \"PT15M\"",
        )),
    }
}
