//! Reads what is to be done to a query's rows: the list of `[[query.then]]`.

use maple_lark_data::{
    figures::{Computation, Operation, Order, Predicate},
    series::Aggregation,
};
use maple_lark_time::{span::Span, window::Step};

use crate::read::{node::Node, over_time};

const WORDS: [&str; 23] = [
    "resample",
    "rate",
    "difference",
    "cumulative",
    "moving-mean",
    "group",
    "top",
    "bottom",
    "sort",
    "limit",
    "rank",
    "filter",
    "compute",
    "select",
    "statistics",
    "breakdown",
    "join",
    "histogram-percentile",
    "availability",
    "forecast",
    "changes",
    "compare",
    "stand-out",
];

pub(crate) fn read_all(node: &Node<'_>) -> Vec<Operation> {
    let mut operations: Vec<Operation> = Vec::new();
    for one in node.tables("then") {
        let operation = read(&one);
        if let Some(operation) = &operation
            && let Some(before) = operations.iter().find(|before| before.sums_up())
            && !operation.keeps_rows()
        {
            let words = format!(
                "\"{}\" must come before \"{}\", which makes rows that sum up others",
                operation.name(),
                before.name()
            );
            one.report("do", words);
        }
        let mut compared = operations
            .iter()
            .filter(|before| before.compares_with().is_some());
        if let Some(operation) = operation
            .as_ref()
            .filter(|one| one.compares_with().is_some())
            && let Some(before) = compared.next()
        {
            let words = format!(
                "\"{}\" cannot follow \"{}\": rows are compared once; begin another query with of = \"…\"",
                operation.name(),
                before.name()
            );
            one.report("do", words);
        }
        one.close();
        operations.extend(operation);
    }
    operations
}

#[expect(
    clippy::too_many_lines,
    reason = "one arm a kind, with its keys in the order of the documentation"
)]
fn read(node: &Node<'_>) -> Option<Operation> {
    let word = node.required_choice("do", &WORDS)?;
    let texts = |key| {
        node.texts(key)
            .into_iter()
            .map(|text| text.value)
            .collect::<Vec<_>>()
    };
    let required_list = |key| {
        let list = texts(key);
        if list.is_empty() {
            node.report_self(format!(
                "the key \"{key}\" is missing here; it names one or more columns"
            ));
        }
        list
    };
    let text = |key| node.text(key).map(|text| text.value);
    let how = |otherwise| node.parsed::<Aggregation>("with").unwrap_or(otherwise);
    let order = |otherwise| match node.choice("order", &["highest", "lowest"]) {
        Some("lowest") => Order::Lowest,
        Some(_) => Order::Highest,
        None => otherwise,
    };
    let rows = || node.whole("rows", 1..=100_000).unwrap_or(10) as usize;
    Some(match word {
        "resample" => Operation::Resample {
            time: node.required("time").value,
            every: node.parsed::<Step>("every"),
            values: texts("value"),
            with: how(Aggregation::Mean),
            by: texts("by"),
        },
        "rate" => Operation::Rate {
            time: node.required("time").value,
            values: texts("value"),
            by: texts("by"),
            per_seconds: read_per(node),
        },
        "difference" => Operation::Difference {
            values: texts("value"),
            by: texts("by"),
        },
        "cumulative" => Operation::Cumulative {
            values: texts("value"),
            by: texts("by"),
        },
        "moving-mean" => Operation::MovingMean {
            values: texts("value"),
            by: texts("by"),
            over: node.whole("over", 2..=10_000).unwrap_or(7) as usize,
        },
        "group" => Operation::Group {
            by: texts("by"),
            values: texts("value"),
            with: how(Aggregation::Sum),
            total: text("total"),
            shares: node.truth("shares").unwrap_or(false),
        },
        "top" | "bottom" => {
            let others = text("others");
            let sum = texts("sum");
            if others.is_some() && sum.is_empty() {
                node.report_self(
                    "with \"others\", the key \"sum\" says of which columns the rest is added up",
                );
            }
            let order = if word == "top" {
                Order::Highest
            } else {
                Order::Lowest
            };
            Operation::Top {
                rows: rows(),
                of: node.required("of").value,
                order,
                others,
                sum,
            }
        }
        "sort" => {
            let order = order(Order::Lowest);
            Operation::Sort {
                by: required_list("by")
                    .into_iter()
                    .map(|name| (name, order))
                    .collect(),
            }
        }
        "limit" => Operation::Limit { rows: rows() },
        "rank" => Operation::Rank {
            of: node.required("of").value,
            order: order(Order::Highest),
            column: text("column").unwrap_or_else(|| "rank".to_owned()),
        },
        "filter" => Operation::Filter {
            column: node.required("column").value,
            when: read_predicate(node)?,
        },
        "compute" => {
            let ways = ["percent", "ratio", "sum", "difference", "product"];
            let how = node.required_choice("how", &ways).map(|how| match how {
                "percent" => Computation::Percent,
                "ratio" => Computation::Ratio,
                "sum" => Computation::Sum,
                "difference" => Computation::Difference,
                _ => Computation::Product,
            });
            let of = required_list("of");
            if matches!(how, Some(Computation::Percent | Computation::Ratio)) && of.len() != 2 {
                node.report("of", "needs two columns here: the part, then the whole");
            }
            Operation::Compute {
                column: node.required("column").value,
                of,
                factor: node.number("factor").unwrap_or(1.0),
                // The last, so that every key is read.
                computation: how?,
            }
        }
        "select" => Operation::Select {
            columns: required_list("columns"),
        },
        "statistics" => Operation::Statistics {
            values: texts("value"),
            by: texts("by"),
            percentiles: read_percentiles(node),
        },
        "breakdown" => Operation::Breakdown {
            label: node.required("label").value,
            value: node.required("value").value,
            after: text("after").unwrap_or_else(|| "After".to_owned()),
        },
        "join" => Operation::Join {
            with: node.required("with").value,
            on: required_list("on"),
            only_matching: node.choice("keep", &["all", "matching"]) == Some("matching"),
        },
        "availability" => Operation::Availability(Box::new(over_time::availability(node)?)),
        "forecast" => Operation::Forecast(Box::new(over_time::forecast(node)?)),
        "stand-out" => Operation::StandOut(Box::new(over_time::stand_out(node))),
        "changes" => Operation::Changes(Box::new(over_time::changes(node)?)),
        "compare" => Operation::Compare(Box::new(over_time::compare(node)?)),
        _ => Operation::HistogramPercentile {
            bound: text("bound").unwrap_or_else(|| "le".to_owned()),
            value: text("value").unwrap_or_else(|| "value".to_owned()),
            by: texts("by"),
            percentile: read_percentile(node, "percentile").unwrap_or(95.0),
        },
    })
}

/// How long a rate is counted over: a second, unless something else is said.
fn read_per(node: &Node<'_>) -> f64 {
    match node.parsed::<Span>("per").map(|span| span.elapsed()) {
        None => 1.0,
        Some(Some(elapsed)) if elapsed.num_milliseconds() > 0 => {
            elapsed.num_milliseconds() as f64 / 1000.0
        }
        Some(_) => {
            node.report(
                "per",
                "must be a fixed length of time, such as \"PT1S\" or \"PT1H\"",
            );
            1.0
        }
    }
}

fn read_percentile(node: &Node<'_>, key: &'static str) -> Option<f64> {
    let percentile = node.number(key)?;
    if !(0.0..=100.0).contains(&percentile) {
        node.report(key, "must be between 0 and 100");
        return None;
    }
    Some(percentile)
}

fn read_percentiles(node: &Node<'_>) -> Vec<f64> {
    if !node.has("percentiles") {
        return vec![95.0];
    }
    let numbers = node.numbers("percentiles");
    if numbers
        .iter()
        .any(|percentile| !(0.0..=100.0).contains(percentile))
    {
        node.report("percentiles", "must be between 0 and 100");
    }
    numbers
}

fn read_predicate(node: &Node<'_>) -> Option<Predicate> {
    let past = node.choice("past", &["warning", "critical"]).map(|word| {
        if word == "warning" {
            Predicate::PastWarning
        } else {
            Predicate::PastCritical
        }
    });
    let range = match (node.number("at-least"), node.number("at-most")) {
        (Some(least), Some(most)) => Some(Predicate::Between(least, most)),
        (least, most) => least
            .map(Predicate::AtLeast)
            .or(most.map(Predicate::AtMost)),
    };
    let values = |key| {
        let texts = node.texts(key).into_iter().map(|text| text.value);
        Some(texts.collect::<Vec<_>>()).filter(|values| !values.is_empty())
    };
    let is = values("is").map(Predicate::Is);
    let is_not = values("is-not").map(Predicate::IsNot);
    let contains = node
        .text("contains")
        .map(|text| Predicate::Contains(text.value));
    let mut given = [past, range, is, is_not, contains].into_iter().flatten();
    let when = given.next();
    if when.is_none() || given.next().is_some() {
        node.report_self("\"filter\" needs one condition: past = \"warning\", at-least = 5, at-most = 5 (both: between), is = [\"failed\"], is-not = [\"failed\"] or contains = \"…\"");
    }
    when
}
