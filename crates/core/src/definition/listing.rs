//! Where a service that answers in JSON says what it can be asked about.

use super::{query::read_path, reader::Node};

/// `[source.catalogue]`: a request, and where in its answer the names are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listing {
    /// Behind the source's URL.
    pub path: String,
    /// A JSONPath (RFC 9535) to one entry for each thing.
    pub rows: String,
    /// Within an entry; the entry itself if nothing is said.
    pub name: String,
    pub kind: Option<String>,
    pub unit: Option<String>,
    pub description: Option<String>,
    /// To the names of its labels or fields.
    pub items: Option<String>,
}

pub(super) fn read(node: &Node<'_>) -> Option<Listing> {
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
