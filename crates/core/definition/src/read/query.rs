//! Reads queries from their tables.

use maple_lark_data::status::{Direction, Thresholds};
use maple_lark_time::window::Step;

use crate::{
    model::query::{ColumnHint, Origin, Query},
    read::{ask::read_ask, name::read_identifier, node::Node, operation},
};

/// Reads a query; one that stands alone is given its name.
pub(crate) fn read(node: Node<'_>, alone: Option<&str>) -> Option<Query> {
    let name = alone.map_or_else(|| read_identifier(&node, "name"), str::to_owned);
    let origin = if node.has("of") {
        Some(Origin::Query(node.required("of")))
    } else if node.has("sampler") {
        Some(Origin::Sampler(node.required("sampler")))
    } else {
        let source = node.required("source");
        read_ask(&node).map(|ask| Origin::Source {
            name: source,
            ask: Box::new(ask),
        })
    };
    let columns = node.tables("column").into_iter().map(read_hint).collect();
    let step = node.parsed::<Step>("step");
    let then = operation::read_all(&node);
    let same_for_all = node.truth("same-for-all").unwrap_or(false);
    let place = node.place();
    node.close();
    Some(Query {
        name,
        origin: origin?,
        recorded_as: None,
        step,
        columns,
        same_for_all,
        then,
        place,
    })
}

fn read_hint(column: Node<'_>) -> ColumnHint {
    let hint = ColumnHint {
        name: column.required("name").value,
        title: column.text("title").map(|title| title.value),
        unit: column.parsed("unit").unwrap_or_default(),
        decimals: column
            .whole("decimals", 0..=6)
            .and_then(|decimals| usize::try_from(decimals).ok()),
        thresholds: Thresholds {
            warning: column.number("warning"),
            critical: column.number("critical"),
            worse: match column.choice("worse", &["higher", "lower"]) {
                Some("lower") => Direction::Lower,
                _ => Direction::Higher,
            },
        },
    };
    if let (Some(warning), Some(critical)) = (hint.thresholds.warning, hint.thresholds.critical) {
        let turned = match hint.thresholds.worse {
            Direction::Higher => critical < warning,
            Direction::Lower => critical > warning,
        };
        if turned {
            column.report("critical", "critical is on the better side of warning; swap them, or set worse = \"higher\" or \"lower\"");
        }
    }
    column.close();
    hint
}
