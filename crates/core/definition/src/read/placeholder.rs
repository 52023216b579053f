//! Reads texts with placeholders from their tables.

use crate::{model::query::placeholder::PlaceholderText, read::node::Node};

pub(crate) fn template(node: &Node<'_>, key: &str, text: &str) -> Option<PlaceholderText> {
    PlaceholderText::parse(text)
        .map_err(|error| node.report(key, error.to_string()))
        .ok()
}
