//! Reads the table `[keep]` of a report.

use maple_lark_time::span::Span;

use crate::{model::keep::KeepTerms, read::node::Node};

/// Most runs and megabytes that a limit can name.
const MOST: i64 = 1_000_000_000;

/// Nothing if the table says nothing: the report is kept as long as others then.
pub(crate) fn read(node: Node<'_>) -> Option<KeepTerms> {
    let keep = KeepTerms {
        documents: node.parsed::<Span>("documents"),
        snapshots: node.parsed::<Span>("snapshots"),
        records: node.parsed::<Span>("records"),
        most_runs: node
            .whole("most-runs", 1..=MOST)
            .and_then(|runs| u32::try_from(runs).ok()),
        most_megabytes: node
            .whole("most-megabytes", 1..=MOST)
            .and_then(|megabytes| u64::try_from(megabytes).ok()),
    };
    if let Err(error) = keep.in_order() {
        node.report(error.key(), error);
    }
    node.close();
    (keep != KeepTerms::default()).then_some(keep)
}
