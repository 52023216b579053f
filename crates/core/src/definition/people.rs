//! People and groups: the address book that audiences are named from.

use std::{collections::BTreeMap, fmt, str::FromStr};

use serde::{Deserialize, Serialize};

use super::{
    DefinitionSet, Mailbox, Problem, is_name, read_name,
    reader::{Node, Place, Placed},
    report::BadMailbox,
};
use crate::{nearest::suggestion, writing::Writing, zone::Zone};

/// Somebody who gets documents, and how they read numbers, dates and times.
#[derive(Debug, Clone, PartialEq)]
pub struct Person {
    pub name: String,
    pub title: String,
    pub address: String,
    /// Their own time zone, named beside the report's.
    pub zone: Option<Zone>,
    /// How they write numbers and dates; nothing for the report's way.
    pub writing: Option<Writing>,
    /// Nothing is sent to somebody who is not active.
    pub active: bool,
    /// Who they are in the service, for what is sent "to me".
    pub user: Option<String>,
    pub place: Place,
}

/// Several recipients under one name; groups may hold groups.
#[derive(Debug, Clone, PartialEq)]
pub struct Group {
    pub name: String,
    pub title: String,
    pub members: Vec<Placed<Addressee>>,
    pub place: Place,
}

/// What can stand in a list of recipients.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Addressee {
    Mailbox(Mailbox),
    /// A person or a group.
    Named(String),
}

impl FromStr for Addressee {
    type Err = BadMailbox;

    fn from_str(text: &str) -> Result<Self, BadMailbox> {
        if is_name(text) {
            Ok(Addressee::Named(text.to_owned()))
        } else {
            text.parse().map(Addressee::Mailbox)
        }
    }
}

impl fmt::Display for Addressee {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Addressee::Mailbox(mailbox) => mailbox.fmt(f),
            Addressee::Named(name) => f.write_str(name),
        }
    }
}

/// Somebody who gets a delivery, as found when the run began.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Recipient {
    pub mailbox: Mailbox,
    #[serde(default, skip_serializing_if = "Reading::is_usual")]
    pub reading: Reading,
}

/// How one person reads a report, where that is not the report's own way.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct Reading {
    pub writing: Option<Writing>,
    pub zone: Option<Zone>,
}

impl Reading {
    pub fn is_usual(&self) -> bool {
        self.writing.is_none() && self.zone.is_none()
    }

    /// Names the way of reading; equal ways have equal names, and the report's own has none.
    pub fn key(&self) -> String {
        let writing = self
            .writing
            .map(|writing| writing.to_string())
            .unwrap_or_default();
        let zone = self.zone.map(|zone| zone.to_string()).unwrap_or_default();
        [writing, zone]
            .into_iter()
            .filter(|part| !part.is_empty())
            .collect::<Vec<_>>()
            .join("; ")
    }
}

pub(super) fn read_person(root: &Node<'_>) -> Option<Person> {
    let node = root.table("person")?;
    let name = read_name(&node);
    let title = node
        .text("title")
        .map_or_else(|| name.clone(), |title| title.value);
    node.required("address");
    let mailbox = node.parsed::<Mailbox>("address");
    if mailbox
        .as_ref()
        .is_some_and(|mailbox| mailbox.name.is_some())
    {
        node.report(
            "address",
            "write the address alone; the name shown with it is the title",
        );
    }
    let zone = node.parsed::<Zone>("time-zone");
    let (numbers, dates) = (
        node.choice("numbers", &Writing::NUMBERS),
        node.choice("dates", &Writing::DATES),
    );
    let writing = (numbers.is_some() || dates.is_some())
        .then(|| Writing::like(numbers.unwrap_or_default(), dates.unwrap_or_default()));
    let active = node.truth("active").unwrap_or(true);
    if name == "me" {
        node.report("name", "\"me\" means whoever asks; choose another name");
    }
    let user = node.text("user").map(|user| user.value);
    let place = node.place();
    node.close();
    Some(Person {
        name,
        title,
        address: mailbox?.address,
        zone,
        writing,
        active,
        user,
        place,
    })
}

pub(super) fn read_group(root: &Node<'_>) -> Option<Group> {
    let node = root.table("group")?;
    let name = read_name(&node);
    let title = node
        .text("title")
        .map_or_else(|| name.clone(), |title| title.value);
    let members = read_addressees(&node, "members");
    if members.is_empty() {
        node.report("members", "a group needs members, such as members = [\"runa-holm\", \"harbour@orrin-sound.example\"]");
    }
    let place = node.place();
    node.close();
    Some(Group {
        name,
        title,
        members,
        place,
    })
}

/// A list of people, groups and mail addresses; nobody may stand in it twice.
pub(super) fn read_addressees(node: &Node<'_>, key: &'static str) -> Vec<Placed<Addressee>> {
    let mut found: Vec<Placed<Addressee>> = Vec::new();
    for text in node.texts(key) {
        match text.value.parse::<Addressee>() {
            Ok(value) if found.iter().any(|earlier| same(&earlier.value, &value)) => {
                node.report_at(&text.place, format!("{} is named twice", text.value))
            }
            Ok(value) => found.push(Placed {
                value,
                place: text.place,
            }),
            Err(error) => node.report_at(
                &text.place,
                format!("{error}, or the name of a person or a group"),
            ),
        }
    }
    found
}

fn same(one: &Addressee, other: &Addressee) -> bool {
    match (one, other) {
        (Addressee::Mailbox(one), Addressee::Mailbox(other)) => {
            one.address.eq_ignore_ascii_case(&other.address)
        }
        (one, other) => one == other,
    }
}

impl DefinitionSet {
    /// Everybody whom a list names, each once, in its order: groups are opened, and people
    /// who are not active left out.
    pub fn recipients(&self, listed: &[Placed<Addressee>]) -> Vec<Recipient> {
        let (mut found, mut opened) = (Vec::new(), Vec::new());
        self.open(listed, &mut found, &mut opened);
        found
    }

    fn open(
        &self,
        listed: &[Placed<Addressee>],
        found: &mut Vec<Recipient>,
        opened: &mut Vec<String>,
    ) {
        for addressee in listed {
            let recipient = match &addressee.value {
                Addressee::Mailbox(mailbox) => self.recipient(mailbox.clone()),
                Addressee::Named(name) => match (self.people.get(name), self.groups.get(name)) {
                    (Some(person), _) => Some(person.recipient()).filter(|_| person.active),
                    (None, Some(group)) if !opened.contains(name) => {
                        opened.push(name.clone());
                        self.open(&group.members, found, opened);
                        None
                    }
                    _ => None,
                },
            };
            if let Some(recipient) = recipient
                && !found.iter().any(|known| {
                    known
                        .mailbox
                        .address
                        .eq_ignore_ascii_case(&recipient.mailbox.address)
                })
            {
                found.push(recipient);
            }
        }
    }

    /// A plain address; somebody in the address book keeps their own way of reading, and gets
    /// nothing while they are not active.
    pub fn recipient(&self, mailbox: Mailbox) -> Option<Recipient> {
        match self
            .people
            .values()
            .find(|person| person.address.eq_ignore_ascii_case(&mailbox.address))
        {
            Some(person) => person.active.then(|| Recipient {
                mailbox,
                reading: person.reading(),
            }),
            None => Some(Recipient {
                mailbox,
                reading: Reading::default(),
            }),
        }
    }

    /// Who is meant by a word that a user wrote: `me`, the name of a person or a group, or a
    /// mail address.
    ///
    /// # Errors
    /// Why that is nobody.
    pub fn meant_by(&self, user: &str, written: &str) -> Result<Vec<Mailbox>, String> {
        if written == "me" {
            let person = self
                .people
                .values()
                .find(|person| person.user.as_deref() == Some(user));
            let person = person.ok_or_else(|| format!("nobody in the address book is the user \"{user}\"; give a person the line user = \"{user}\""))?;
            return Ok(vec![person.recipient().mailbox]);
        }
        match written
            .parse::<Addressee>()
            .map_err(|error| error.to_string())?
        {
            Addressee::Mailbox(mailbox) => Ok(vec![mailbox]),
            Addressee::Named(name)
                if self.people.contains_key(&name) || self.groups.contains_key(&name) =>
            {
                let listed = [Placed {
                    value: Addressee::Named(name),
                    place: Place::default(),
                }];
                Ok(self
                    .recipients(&listed)
                    .into_iter()
                    .map(|recipient| recipient.mailbox)
                    .collect())
            }
            Addressee::Named(name) => {
                let known = self
                    .people
                    .keys()
                    .chain(self.groups.keys())
                    .map(String::as_str);
                Err(format!(
                    "\"{name}\" is not a mail address, and no person or group is called that.{}",
                    suggestion(&name, known)
                ))
            }
        }
    }

    /// The people and groups that a list leads to, for freezing.
    pub fn names_in<'a>(&'a self, listed: &'a [Placed<Addressee>]) -> (Vec<&'a str>, Vec<&'a str>) {
        let (mut people, mut groups) = (Vec::new(), Vec::new());
        let mut lists = vec![listed];
        while let Some(list) = lists.pop() {
            for addressee in list {
                match &addressee.value {
                    Addressee::Named(name) if self.people.contains_key(name) => {
                        people.push(name.as_str())
                    }
                    Addressee::Named(name) if !groups.contains(&name.as_str()) => {
                        if let Some(group) = self.groups.get(name) {
                            groups.push(name.as_str());
                            lists.push(&group.members);
                        }
                    }
                    Addressee::Named(_) => {}
                    Addressee::Mailbox(mailbox) => people.extend(
                        self.people
                            .values()
                            .filter(|person| person.address.eq_ignore_ascii_case(&mailbox.address))
                            .map(|person| person.name.as_str()),
                    ),
                }
            }
        }
        (people, groups)
    }

    pub(super) fn check_addressees(
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

    pub(super) fn check_people(&self, problems: &mut Vec<Problem>) {
        let mut addresses: BTreeMap<String, &str> = BTreeMap::new();
        let mut users: BTreeMap<&str, &str> = BTreeMap::new();
        for person in self.people.values() {
            if let Some(other) = person
                .user
                .as_deref()
                .and_then(|user| users.insert(user, &person.name))
            {
                problems.push(person.place.problem(format!(
                    "\"{other}\" is the user \"{}\" already",
                    person.user.as_deref().unwrap_or_default()
                )));
            }
            if let Some(other) = addresses.insert(person.address.to_lowercase(), &person.name) {
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

impl Person {
    pub fn recipient(&self) -> Recipient {
        Recipient {
            mailbox: Mailbox {
                name: Some(self.title.clone()),
                address: self.address.clone(),
            },
            reading: self.reading(),
        }
    }

    fn reading(&self) -> Reading {
        Reading {
            writing: self.writing,
            zone: self.zone,
        }
    }
}
