//! Who is meant by a name, a group or an address.

use maple_lark_time::nearest::suggestion;

use crate::{
    model::{
        mailbox::{BadMailbox, Mailbox},
        people::{Addressee, Recipient, RecipientFormat},
    },
    problem::{Place, Placed},
    set::DefinitionSet,
};

/// Why a word that a user wrote means nobody.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum NobodyMeant {
    /// Nobody among the people belongs to this user.
    #[error(
        "nobody in the address book is the user \"{0}\"; give a person the line user = \"{0}\""
    )]
    NotAPerson(String),
    /// There is neither a person nor a group of that name.
    #[error("\"{name}\" is not a mail address, and no person or group is called that.{suggestion}")]
    Unknown {
        /// The name.
        name: String,
        /// The nearest name there is, as a sentence; empty if none is near.
        suggestion: String,
    },
    /// The address is none.
    #[error(transparent)]
    Address(#[from] BadMailbox),
}

pub(crate) fn same(one: &Addressee, other: &Addressee) -> bool {
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
    #[must_use]
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
    #[must_use]
    pub fn recipient(&self, mailbox: Mailbox) -> Option<Recipient> {
        match self
            .people
            .values()
            .find(|person| person.address.eq_ignore_ascii_case(&mailbox.address))
        {
            Some(person) => person.active.then(|| Recipient {
                mailbox,
                format: person.format(),
            }),
            None => Some(Recipient {
                mailbox,
                format: RecipientFormat::default(),
            }),
        }
    }

    /// Who is meant by a word that a user wrote: `me`, the name of a person or a group, or a
    /// mail address.
    ///
    /// # Errors
    /// Why that is nobody.
    pub fn meant_by(&self, user: &str, written: &str) -> Result<Vec<Mailbox>, NobodyMeant> {
        if written == "me" {
            let person = self
                .people
                .values()
                .find(|person| person.user.as_deref() == Some(user));
            let person = person.ok_or_else(|| NobodyMeant::NotAPerson(user.to_owned()))?;
            return Ok(vec![person.recipient().mailbox]);
        }
        match written.parse::<Addressee>()? {
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
                Err(NobodyMeant::Unknown {
                    suggestion: suggestion(&name, known),
                    name,
                })
            }
        }
    }

    /// The people and groups that a list leads to, for freezing.
    #[must_use]
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
}
