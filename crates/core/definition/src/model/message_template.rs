//! What a message template holds: a subject and a message that several reports share.

use crate::{
    model::template::Template,
    problem::{Place, Placed},
};

/// A subject and a text that several reports' messages can have.
#[derive(Debug, Clone, PartialEq)]
pub struct MessageTemplate {
    /// Its name, unique among message templates.
    pub name: String,
    /// The team that it belongs to; none if it belongs to all.
    pub teams: Vec<Placed<String>>,
    /// Its title for people.
    pub title: String,
    /// The subject; the report's usual one, if there is none.
    pub subject: Option<Template>,
    /// The text; the report's usual one, if there is none.
    pub message: Option<Template>,
    /// Where it was read.
    pub place: Place,
}
