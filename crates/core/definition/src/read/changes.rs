//! Reads borrowed blocks and the changes a report makes from their tables.

use crate::{
    model::{
        block::{Borrowed, Changes, Limit},
        report::Change,
    },
    problem::Placed,
    read::{block_kind::read_kind, node::Node, width},
};

pub(crate) fn read_borrowed(node: &Node<'_>) -> Option<Borrowed> {
    let from = node.text("from")?;
    match from.value.split_once('/') {
        Some((dashboard, title)) if !dashboard.trim().is_empty() && !title.trim().is_empty() => {
            Some(Borrowed {
                dashboard: Placed {
                    value: dashboard.trim().to_owned(),
                    place: from.place,
                },
                title: title.trim().to_owned(),
            })
        }
        _ => {
            node.report("from", "must name a dashboard and the title of one of its blocks, such as \"ferry-operations / Fullest disks\"");
            None
        }
    }
}

/// The keys that may be changed; each is optional.
pub(crate) fn read_changes(node: &Node<'_>) -> Changes {
    let limit = match node.value_of("limit") {
        Some((value, _)) if value.as_str() == Some("all") => {
            node.known_key("limit");
            Some(Limit::All)
        }
        Some(_) => node
            .whole("limit", 1..=100_000)
            .map(|rows| Limit::Rows(rows as usize)),
        None => None,
    };
    let shape = node.choice("show", &["figures", "line", "bar", "table"]);
    Changes {
        hide: node.truth("hide").unwrap_or(false),
        title: node.text("title").map(|text| text.value),
        note: node.text("note").map(|text| text.value),
        width: width::read(node),
        limit,
        kind: shape.and_then(|shape| read_kind(node, shape)),
    }
}

pub(crate) fn read_change(node: Node<'_>) -> Change {
    let change = Change {
        dashboard: node.text("dashboard"),
        block: node.required("block"),
        changes: read_changes(&node),
    };
    if change.changes == Changes::default() {
        node.report_self("nothing is changed here: set hide, title, note, width, limit (a number or \"all\") or show");
    }
    node.close();
    change
}
