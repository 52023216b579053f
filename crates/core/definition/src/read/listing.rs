//! Reads where a service lists what it has from their tables.

use crate::{
    model::listing::Listing,
    read::{ask::read_path, node::Node},
};

pub(crate) fn read(node: &Node<'_>) -> Option<Listing> {
    let table = node.table("catalogue")?;
    let path = table.required("path").value;
    table.required("rows");
    let rows = read_path(&table, "rows");
    let name = if table.has("name") {
        read_path(&table, "name")
    } else {
        Some("$".to_owned())
    };
    let [kind, unit, description, items] =
        ["kind", "unit", "description", "items"].map(|key| read_path(&table, key));
    table.close();
    Some(Listing {
        path,
        rows: rows?,
        name: name?,
        kind,
        unit,
        description,
        items,
    })
}
