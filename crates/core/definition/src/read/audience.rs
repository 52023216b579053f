//! Reads audiences from their tables.

use std::collections::BTreeMap;

use maple_lark_data::status::Status;

use crate::{
    model::audience::{Audience, AudienceQuery, DeliveryOptions},
    problem::Placed,
    read::{ask, node::Node, parameter::read_values, people::read_addressees},
};

pub(crate) fn read_audience(node: Node<'_>) -> Audience {
    let name = node.required("name").value;
    let (to, cc, bcc) = (
        read_addressees(&node, "to"),
        read_addressees(&node, "cc"),
        read_addressees(&node, "bcc"),
    );
    let options = read_options(&node);
    if !node.has("to") && options.channels.is_empty() {
        node.report_self("the key \"to\" is missing here; it lists the recipients (or name channels = [\"…\"] that its documents go to)");
    }
    let parameters = read_values(node.table("parameters"));
    let place = node.place();
    node.close();
    Audience {
        name,
        to,
        cc,
        bcc,
        parameters,
        options,
        place,
    }
}

fn read_options(node: &Node<'_>) -> DeliveryOptions {
    let only_when = match node.choice("only-when", &["warning", "critical"]) {
        Some("warning") => Some(Status::Warning),
        Some(_) => Some(Status::Critical),
        None => None,
    };
    DeliveryOptions {
        together: node.truth("together").unwrap_or(false),
        channels: node.texts("channels"),
        only_when,
    }
}

pub(crate) fn read_query(node: Node<'_>) -> Option<AudienceQuery> {
    let source = node.required("source");
    let ask = ask::read_ask(&node);
    let (name, to) = (node.required("name").value, node.required("to").value);
    let mut parameters = BTreeMap::new();
    if let Some(table) = node.table("parameters") {
        for key in table.keys() {
            match table.value_of(&key).and_then(|(value, place)| {
                Some(Placed {
                    value: value.as_str()?.to_owned(),
                    place,
                })
            }) {
                Some(column) => drop(parameters.insert(key, column)),
                None => table.report(
                    &key,
                    "must be the name of the column that holds its value, in quotes",
                ),
            }
        }
    }
    if parameters.is_empty() {
        node.report_self(
            "say which column narrows what an audience sees: parameters = { port = \"code\" }",
        );
    }
    let options = read_options(&node);
    let place = node.place();
    node.close();
    Some(AudienceQuery {
        source,
        ask: ask?,
        name,
        to,
        parameters,
        options,
        place,
    })
}
