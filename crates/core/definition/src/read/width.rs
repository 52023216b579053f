//! Reads the width of a block from their tables.

use crate::{model::width::Width, read::node::Node};

/// Reads `width`: a word, or a number of twelfths.
pub(crate) fn read(node: &Node<'_>) -> Option<Width> {
    if node
        .value_of("width")
        .is_some_and(|(value, _)| value.is_integer())
    {
        return node
            .whole("width", Width::LEAST..=12)
            .map(|twelfths| Width(twelfths as u8));
    }
    node.parsed("width")
}
