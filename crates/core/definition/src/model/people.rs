//! People and groups: the address book that audiences are named from.

use std::{fmt, str::FromStr};

use maple_lark_data::number_format::NumberFormat;
use maple_lark_time::Zone;
use serde::{Deserialize, Serialize};

use crate::{
    model::{
        mailbox::{BadMailbox, Mailbox},
        name::is_definition_name,
    },
    problem::{Place, Placed},
};

/// Somebody who gets documents, and how they read numbers, dates and times.
#[derive(Debug, Clone, PartialEq)]
pub struct Person {
    /// Their name in definitions, unique among people.
    pub name: String,
    /// The team that it belongs to; none if it belongs to all.
    pub teams: Vec<Placed<String>>,
    /// Their name for people.
    pub title: String,
    /// Their mail address.
    pub address: String,
    /// Their own time zone, named beside the report's.
    pub zone: Option<Zone>,
    /// How they write numbers and dates; nothing for the report's way.
    pub number_format: Option<NumberFormat>,
    /// Nothing is sent to somebody who is not active.
    pub active: bool,
    /// Who they are in the service, for what is sent "to me".
    pub user: Option<String>,
    /// Where it was read.
    pub place: Place,
}

/// Several recipients under one name; groups may hold groups.
#[derive(Debug, Clone, PartialEq)]
pub struct Group {
    /// Its name, unique among groups.
    pub name: String,
    /// The team that it belongs to; none if it belongs to all.
    pub teams: Vec<Placed<String>>,
    /// Its title for people.
    pub title: String,
    /// Who is in it.
    pub members: Vec<Placed<Addressee>>,
    /// Where it was read.
    pub place: Place,
}

/// What can stand in a list of recipients.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Addressee {
    /// An address as it stands.
    Mailbox(Mailbox),
    /// A person or a group.
    Named(String),
}

impl FromStr for Addressee {
    type Err = BadMailbox;

    fn from_str(text: &str) -> Result<Self, BadMailbox> {
        if is_definition_name(text) {
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
    /// Where their messages go.
    pub mailbox: Mailbox,
    /// How they read numbers, dates and times.
    #[serde(default, skip_serializing_if = "RecipientFormat::is_usual")]
    pub format: RecipientFormat,
}

/// How one person reads a report, where that is not the report's own way.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct RecipientFormat {
    /// How they read numbers and dates, if not as the report has it.
    pub number_format: Option<NumberFormat>,
    /// The zone they read times in, if not the report's.
    pub zone: Option<Zone>,
}

impl RecipientFormat {
    /// Whether they read everything as the report has it.
    #[must_use]
    pub fn is_usual(&self) -> bool {
        self.number_format.is_none() && self.zone.is_none()
    }

    /// Names the way of reading; equal ways have equal names, and the report's own has none.
    #[must_use]
    pub fn key(&self) -> String {
        let number_format = self
            .number_format
            .map(|number_format| number_format.to_string())
            .unwrap_or_default();
        let zone = self.zone.map(|zone| zone.to_string()).unwrap_or_default();
        [number_format, zone]
            .into_iter()
            .filter(|part| !part.is_empty())
            .collect::<Vec<_>>()
            .join("; ")
    }
}

impl Person {
    /// The person as somebody who gets a delivery.
    #[must_use]
    pub fn recipient(&self) -> Recipient {
        Recipient {
            mailbox: Mailbox {
                name: Some(self.title.clone()),
                address: self.address.clone(),
            },
            format: self.format(),
        }
    }

    pub(crate) fn format(&self) -> RecipientFormat {
        RecipientFormat {
            number_format: self.number_format,
            zone: self.zone,
        }
    }
}
