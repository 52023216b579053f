//! Where a service that answers in JSON says what it can be asked about.

/// `[source.catalogue]`: a request, and where in its answer the names are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listing {
    /// Behind the source's URL.
    pub path: String,
    /// A JSONPath (RFC 9535) to one entry for each thing.
    pub rows: String,
    /// Within an entry; the entry itself if nothing is said.
    pub name: String,
    /// Where an entry has its kind.
    pub kind: Option<String>,
    /// Where an entry has its unit.
    pub unit: Option<String>,
    /// Where an entry has its description.
    pub description: Option<String>,
    /// To the names of its labels or fields.
    pub items: Option<String>,
}
