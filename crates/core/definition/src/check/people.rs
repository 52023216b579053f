//! Checks of people and groups.

use std::collections::BTreeMap;

use maple_lark_time::nearest::suggestion;

use crate::{
    model::people::Addressee,
    problem::{Placed, Problem},
    set::DefinitionSet,
};

impl DefinitionSet {
    pub(crate) fn check_addressees(
        &self,
        listed: &[Placed<Addressee>],
        problems: &mut Vec<Problem>,
    ) {
        for addressee in listed {
            if let Addressee::Named(name) = &addressee.value
                && !self.people.contains_key(name)
                && !self.groups.contains_key(name)
            {
                let near = suggestion(
                    name,
                    self.people
                        .keys()
                        .chain(self.groups.keys())
                        .map(String::as_str),
                );
                problems.push(
                    addressee
                        .place
                        .problem(format!("there is no person or group \"{name}\".{near}")),
                );
            }
        }
    }

    pub(crate) fn check_people(&self, problems: &mut Vec<Problem>) {
        // Each team has an address book of its own: nobody finds out who is in another's.
        let mut addresses: BTreeMap<(Option<&str>, String), &str> = BTreeMap::new();
        let mut users: BTreeMap<(Option<&str>, &str), &str> = BTreeMap::new();
        for person in self.people.values() {
            let team = person.teams.first().map(|team| team.value.as_str());
            if let Some(other) = person
                .user
                .as_deref()
                .and_then(|user| users.insert((team, user), &person.name))
            {
                problems.push(person.place.problem(format!(
                    "\"{other}\" is the user \"{}\" already",
                    person.user.as_deref().unwrap_or_default()
                )));
            }
            let address = person.address.to_lowercase();
            if let Some(other) = addresses.insert((team, address), &person.name) {
                problems.push(person.place.problem(format!(
                    "{} is the address of \"{other}\" already",
                    person.address
                )));
            }
        }
        for group in self.groups.values() {
            if self.people.contains_key(&group.name) {
                problems.push(group.place.problem(format!(
                    "a person is called \"{0}\" already, so \"{0}\" would mean either",
                    group.name
                )));
            }
            self.check_addressees(&group.members, problems);
            if let Some(way) = self.way_back(&group.name, &group.name, &mut Vec::new()) {
                problems.push(
                    group
                        .place
                        .problem(format!("the group holds itself: {}", way.join(" holds "))),
                );
            }
        }
    }

    /// How a group comes to hold `wanted`, if it does.
    fn way_back(&self, from: &str, wanted: &str, seen: &mut Vec<String>) -> Option<Vec<String>> {
        if seen.iter().any(|name| name == from) {
            return None;
        }
        seen.push(from.to_owned());
        self.groups
            .get(from)?
            .members
            .iter()
            .find_map(|member| match &member.value {
                Addressee::Named(name) if name == wanted => {
                    Some(vec![from.to_owned(), wanted.to_owned()])
                }
                Addressee::Named(name) => self
                    .way_back(name, wanted, seen)
                    .map(|way| [vec![from.to_owned()], way].concat()),
                Addressee::Mailbox(_) => None,
            })
    }
}
