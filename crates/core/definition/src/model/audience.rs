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
    pub name: String,
    pub to: Vec<Placed<Addressee>>,
    pub cc: Vec<Placed<Addressee>>,
    pub bcc: Vec<Placed<Addressee>>,
    pub parameters: BTreeMap<String, Placed<ParameterValue>>,
    pub options: DeliveryOptions,
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
    pub source: Placed<String>,
    pub ask: Ask,
    /// The column with the audience's name.
    pub name: String,
    /// The column with its addresses, separated by commas, or people and groups.
    pub to: String,
    /// The column behind each parameter's value.
    pub parameters: BTreeMap<String, Placed<String>>,
    pub options: DeliveryOptions,
    pub place: Place,
}

/// An audience of one run: everybody found, every value known.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ResolvedAudience {
    pub name: String,
    pub to: Vec<Recipient>,
    pub cc: Vec<Recipient>,
    pub bcc: Vec<Recipient>,
    pub together: bool,
    pub channels: Vec<String>,
    pub only_when: Option<Status>,
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
