//! What a message template holds: a subject and a message that several reports share.

use crate::{model::template::Template, problem::Place};

#[derive(Debug, Clone, PartialEq)]
pub struct MessageTemplate {
    pub name: String,
    pub title: String,
    pub subject: Option<Template>,
    pub message: Option<Template>,
    pub place: Place,
}
