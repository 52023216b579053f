//! Reads what a block shows of the columns of its query.

use crate::{
    model::{
        block::{BarForm, BlockKind, ForecastPart, HeatBy, LineStyle, PolarBy, TrendColumn},
        message_values,
        picture::Picture,
        template::Template,
    },
    read::{node::Node, over_time},
};
use maple_lark_data::{figures::Order, series::Aggregation};

/// What a block may show, by its key `show`.
pub(crate) const SHAPES: [&str; 24] = [
    "figures",
    "line",
    "area",
    "stacked-area",
    "steps",
    "bar",
    "column",
    "ranking",
    "breakdown",
    "heat-map",
    "small-multiples",
    "polar",
    "timeline",
    "availability",
    "forecast",
    "scatter",
    "histogram",
    "box",
    "share",
    "table",
    "text",
    "image",
    "page",
    "page-break",
];

pub(crate) fn check_text(node: &Node<'_>, text: &str) {
    if let Err(error) = message_values::check_text(&Template::new(text.to_owned())) {
        node.report("text", error);
    }
}

/// What a block shows of its query's columns.
#[expect(
    clippy::too_many_lines,
    reason = "one arm a kind, with its keys in the order of the documentation"
)]
pub(crate) fn read_kind(node: &Node<'_>, shape: &str) -> Option<BlockKind> {
    let texts = |key| {
        node.texts(key)
            .into_iter()
            .map(|text| text.value)
            .collect::<Vec<_>>()
    };
    let text = |key| node.text(key).map(|text| text.value);
    let required = |key| node.required(key).value;
    let kind = match shape {
        "figures" => BlockKind::Figures {
            columns: texts("columns"),
            before: node.text("before"),
            since: {
                if node.has("before") && node.has("since") {
                    node.report("since", "does not go with \"before\"; give one of them");
                }
                over_time::earlier_time(node)
            },
            trend: node.text("trend"),
        },
        "line" | "area" | "stacked-area" | "steps" => BlockKind::Line {
            time: node.required("time").value,
            values: required_values(node),
            series: text("series"),
            style: match shape {
                "area" => LineStyle::Area,
                "stacked-area" => LineStyle::Stacked,
                "steps" => LineStyle::Steps,
                _ => LineStyle::Line,
            },
            spans: node.text("spans"),
        },
        "bar" | "column" => BlockKind::Bar {
            label: node.required("label").value,
            values: required_values(node),
            form: BarForm {
                stacked: node.truth("stacked").unwrap_or(false),
                upright: shape == "column",
            },
            series: text("series"),
        },
        "ranking" => BlockKind::Ranking {
            label: required("label"),
            value: required("value"),
            limit: node.whole("limit", 1..=60).unwrap_or(10) as usize,
            order: if node.choice("order", &["highest", "lowest"]) == Some("lowest") {
                Order::Lowest
            } else {
                Order::Highest
            },
        },
        "breakdown" => BlockKind::Breakdown {
            label: required("label"),
            value: required("value"),
        },
        "heat-map" => BlockKind::Heat {
            by: match (text("time"), text("row"), text("column")) {
                (Some(time), None, None) => HeatBy::HourAndWeekday { time },
                (None, Some(row), Some(column)) => HeatBy::Columns { row, column },
                _ => {
                    let instead = ["time", "row", "column"]
                        .map(|key| {
                            if node.has(key) {
                                String::new()
                            } else {
                                node.instead(key)
                            }
                        })
                        .concat();
                    node.report_self(format!("a heat map has either time, for hours and weekdays, or row and column{instead}"));
                    return None;
                }
            },
            value: required("value"),
            aggregation: node
                .parsed::<Aggregation>("with")
                .unwrap_or(Aggregation::Mean),
        },
        "small-multiples" => BlockKind::Multiples {
            time: required("time"),
            value: required("value"),
            series: required("series"),
            limit: node.whole("limit", 1..=60).unwrap_or(60) as usize,
        },
        "polar" => BlockKind::Polar {
            by: read_around(node)?,
            value: required("value"),
            aggregation: node
                .parsed::<Aggregation>("with")
                .unwrap_or(Aggregation::Mean),
            series: text("series"),
        },
        "timeline" => BlockKind::Timeline {
            time: required("time"),
            row: required("row"),
            state: required("state"),
        },
        "availability" => BlockKind::Availability {
            label: required("label"),
            outages: node.text("outages"),
        },
        "forecast" => BlockKind::Forecast {
            time: required("time"),
            without: read_without(node),
        },
        "scatter" => BlockKind::Scatter {
            across: required("across"),
            up: required("up"),
            series: text("series"),
        },
        "histogram" => BlockKind::Histogram {
            value: required("value"),
            bins: node.whole("bins", 2..=60).map(|n| n as usize),
        },
        "box" => BlockKind::Boxes {
            value: required("value"),
            row: text("row"),
        },
        "share" => BlockKind::Share {
            label: required("label"),
            value: required("value"),
            round: node.truth("round").unwrap_or(false),
        },
        "image" => {
            let description = required("description");
            // A block that is not there must not be passed over in silence.
            required("data");
            BlockKind::Image {
                data: node.parsed::<Picture>("data")?,
                description,
            }
        }
        "page" => BlockKind::Page { part: text("part") },
        "page-break" => BlockKind::PageBreak,
        "table" => BlockKind::Table {
            columns: texts("columns"),
            limit: node
                .value_of("limit")
                .is_none_or(|(value, _)| value.as_str().is_none())
                .then(|| node.whole("limit", 1..=100_000))
                .flatten()
                .map(|n| n as usize),
            bars: texts("bars"),
            trend: read_trend(node),
        },
        _ => {
            let text = node.required("text").value;
            check_text(node, &text);
            BlockKind::Text(text)
        }
    };
    if let BlockKind::Line {
        values,
        series: Some(_),
        ..
    }
    | BlockKind::Bar {
        values,
        series: Some(_),
        ..
    } = &kind
        && values.len() > 1
    {
        node.report("value", "with series there can be only one value column");
    }
    Some(kind)
}

/// What goes around a polar chart.
fn read_around(node: &Node<'_>) -> Option<PolarBy> {
    let text = |key| node.text(key).map(|text| text.value);
    let sectors = node
        .whole("sectors", 4..=36)
        .map(|sectors| sectors as usize);
    match (text("time"), text("direction")) {
        (Some(time), None) => {
            if sectors.is_some() {
                let words = "goes with direction; by time there is a sector for each hour";
                node.report("sectors", words);
            }
            Some(PolarBy::Hour { time })
        }
        (None, Some(direction)) => Some(PolarBy::Direction {
            direction,
            sectors: sectors.unwrap_or(16),
        }),
        _ => {
            let instead = ["time", "direction"]
                .map(|key| {
                    if node.has(key) {
                        String::new()
                    } else {
                        node.instead(key)
                    }
                })
                .concat();
            node.report_self(format!("a polar chart has either time, for the hours of the day, or direction, a column of degrees{instead}"));
            None
        }
    }
}

fn read_without(node: &Node<'_>) -> Vec<ForecastPart> {
    let named = node.texts("without").into_iter();
    let parts = named.filter_map(|name| {
        let part = ForecastPart::from_name(&name.value);
        if part.is_none() {
            let known = ForecastPart::NAMES.join(", ");
            node.report(
                "without",
                format!("knows no part \"{}\"; there are {known}", name.value),
            );
        }
        part
    });
    parts.collect()
}

fn read_trend(node: &Node<'_>) -> Option<TrendColumn> {
    let own_scales = node.choice("trend-scale", &["shared", "each"]) == Some("each");
    match (
        node.text("trend"),
        node.text("trend-by"),
        node.text("trend-of"),
    ) {
        (Some(query), Some(key), Some(value)) => Some(TrendColumn {
            query,
            key: key.value,
            value: value.value,
            own_scales,
        }),
        (None, None, None) => None,
        _ => {
            node.report_self("a table with a column of trends needs all three: trend, the query; trend-by, the column that tells which row a value belongs to; trend-of, the column of the values");
            None
        }
    }
}

fn required_values(node: &Node<'_>) -> Vec<String> {
    let values: Vec<String> = node
        .texts("value")
        .into_iter()
        .map(|value| value.value)
        .collect();
    if values.is_empty() {
        node.report_self(
            "the key \"value\" is missing here; it names the column, or the columns, to draw",
        );
    }
    values
}
