//! Reads message templates from their tables.

use crate::{
    model::{message_template::MessageTemplate, message_values, template::Template},
    read::{
        name::{read_name, read_team},
        node::Node,
    },
};

pub(crate) fn read(root: &Node<'_>) -> Option<MessageTemplate> {
    let node = root.table("message-template")?;
    let name = read_name(&node);
    let teams = read_team(&node);
    let title = node
        .text("title")
        .map_or_else(|| name.clone(), |title| title.value);
    let (subject, message) = (
        read_template(&node, "subject"),
        read_template(&node, "text"),
    );
    if subject.is_none() && message.is_none() {
        node.report_missing(
            "subject",
            &[],
            "a message template has a subject, a text or both",
        );
    }
    let place = node.place();
    node.close();
    Some(MessageTemplate {
        name,
        teams,
        title,
        subject,
        message,
        place,
    })
}

pub(crate) fn read_template(node: &Node<'_>, key: &'static str) -> Option<Template> {
    let template = Template::new(node.text(key)?.value);
    if let Err(error) = message_values::check(&template) {
        node.report(key, error);
    }
    Some(template)
}
