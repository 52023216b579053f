//! Who gets a report, and which parameter values they may see.

use std::collections::BTreeMap;

use maple_lark_data::status::Status;
use serde::{Deserialize, Serialize};

use crate::{
    model::{
        parameter::{ParameterValue, Values},
        people::{Addressee, Recipient},
        query::ask::Ask,
    },
    problem::{Place, Placed},
};

/// Recipients and the parameter values that they may see.
#[derive(Debug, Clone, PartialEq)]
pub struct Audience {
    /// Its name, unique within the report.
    pub name: String,
    /// Who the message is to.
    pub to: Vec<Placed<Addressee>>,
    /// Who gets a copy that all can see.
    pub cc: Vec<Placed<Addressee>>,
    /// Who gets a copy that nobody else sees.
    pub bcc: Vec<Placed<Addressee>>,
    /// The values that these recipients see, by parameter.
    pub parameters: BTreeMap<String, Placed<ParameterValue>>,
    /// How it is delivered.
    pub options: DeliveryOptions,
    /// Where it was read.
    pub place: Place,
}

/// How an audience is served.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct DeliveryOptions {
    /// One mail that names them all, instead of one each.
    pub together: bool,
    /// Where else its documents go.
    pub channels: Vec<Placed<String>>,
    /// It gets something only when the document is at least this bad.
    pub only_when: Option<Status>,
}

/// Audiences that a query names: one for each of its rows.
#[derive(Debug, Clone, PartialEq)]
pub struct AudienceQuery {
    /// The source that is asked.
    pub source: Placed<String>,
    /// The question. Each row of its answer is an audience.
    pub ask: Ask,
    /// The column with the audience's name.
    pub name: String,
    /// The column with its addresses, separated by commas, or people and groups.
    pub to: String,
    /// The column behind each parameter's value.
    pub parameters: BTreeMap<String, Placed<String>>,
    /// How all of them are delivered.
    pub options: DeliveryOptions,
    /// Where it was read.
    pub place: Place,
}

/// An audience of one run: everybody found, every value known.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ResolvedAudience {
    /// Its name, unique within the run.
    pub name: String,
    /// Who the message is to.
    pub to: Vec<Recipient>,
    /// Who gets a copy that all can see.
    pub cc: Vec<Recipient>,
    /// Who gets a copy that nobody else sees.
    pub bcc: Vec<Recipient>,
    /// Whether one message goes to all, instead of one to each.
    pub together: bool,
    /// The channels it goes through beside mail, or instead of it.
    pub channels: Vec<String>,
    /// Sent only if the documents' worst status is this or worse.
    pub only_when: Option<Status>,
    /// The value of every parameter.
    pub values: Values,
}

impl ResolvedAudience {
    /// Everybody who gets a mail: those it is addressed to, then those in copy, then those in
    /// blind copy.
    pub fn everybody(&self) -> impl Iterator<Item = &Recipient> {
        [&self.to, &self.cc, &self.bcc].into_iter().flatten()
    }
}

impl DeliveryOptions {
    pub(crate) fn resolved(&self) -> ResolvedAudience {
        ResolvedAudience {
            name: String::new(),
            to: Vec::new(),
            cc: Vec::new(),
            bcc: Vec::new(),
            together: self.together,
            channels: self
                .channels
                .iter()
                .map(|name| name.value.clone())
                .collect(),
            only_when: self.only_when,
            values: Values::new(),
        }
    }
}
