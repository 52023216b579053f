//! What a wording definition holds: a subject and a message that several reports share.

use super::{
    read_name,
    reader::{Node, Place},
};
use crate::message::{self, Template};

#[derive(Debug, Clone, PartialEq)]
pub struct Wording {
    pub name: String,
    pub title: String,
    pub subject: Option<Template>,
    pub message: Option<Template>,
    pub place: Place,
}

pub(super) fn read(root: &Node<'_>) -> Option<Wording> {
    let node = root.table("wording")?;
    let name = read_name(&node);
    let title = node
        .text("title")
        .map_or_else(|| name.clone(), |title| title.value);
    let (subject, message) = (
        read_template(&node, "subject"),
        read_template(&node, "text"),
    );
    if subject.is_none() && message.is_none() {
        node.report_self("a wording has a subject, a text or both");
    }
    let place = node.place();
    node.close();
    Some(Wording {
        name,
        title,
        subject,
        message,
        place,
    })
}

pub(super) fn read_template(node: &Node<'_>, key: &'static str) -> Option<Template> {
    let template = Template::new(node.text(key)?.value);
    if let Err(error) = message::check(&template) {
        node.report(key, error);
    }
    Some(template)
}
