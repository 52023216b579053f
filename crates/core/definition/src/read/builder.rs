//! Reads queries that are built from columns and measures from their tables.

use maple_lark_data::series::Aggregation;

use crate::{
    model::query::{
        ask::Sql,
        builder::{Filter, FilterTest, Measure, Pick},
    },
    read::node::Node,
};

pub(crate) fn read(query: &Node<'_>) -> Option<Sql> {
    let node = query.table("pick")?;
    let table = node.required("table").value;
    let measures: Vec<Measure> = node
        .tables("measure")
        .into_iter()
        .map(read_measure)
        .collect();
    if measures.is_empty() {
        node.report_self("a pick needs measures, such as measure = [{ column = \"cpu_percent\", with = \"mean\" }]");
    }
    let group = node
        .texts("group")
        .into_iter()
        .map(|text| text.value)
        .collect();
    let time = node.text("time").map(|text| text.value);
    let over_time = node.truth("over-time").unwrap_or(false);
    if over_time && time.is_none() {
        node.report(
            "over-time",
            "needs time = \"…\", the column that holds the time",
        );
    }
    let filters = node
        .tables("filter")
        .into_iter()
        .filter_map(read_filter)
        .collect();
    let top = node.whole("top", 1..=10_000);
    if over_time && top.is_some() {
        node.report(
            "top",
            "cannot go with over-time; narrow the groups with a filter",
        );
    }
    node.close();
    let pick = Pick {
        table,
        measures,
        group,
        time,
        over_time,
        filters,
        top,
    };
    match Sql::picked(pick) {
        Ok(sql) => Some(sql),
        Err(error) => {
            query.report("pick", error.to_string());
            None
        }
    }
}

fn read_measure(node: Node<'_>) -> Measure {
    let column = node.required("column").value;
    let with = node
        .parsed::<Aggregation>("with")
        .unwrap_or(Aggregation::Mean);
    if with == Aggregation::TimeMean || with == Aggregation::Last {
        node.report("with", "a pick can take mean, min, max, sum, count, median or a percentile; for others resample under [[query.then]]");
    }
    let name = node.text("name").map_or_else(
        || {
            if column == "*" {
                "rows".to_owned()
            } else {
                column.clone()
            }
        },
        |text| text.value,
    );
    node.close();
    Measure { column, with, name }
}

fn read_filter(node: Node<'_>) -> Option<Filter> {
    let column = node.required("column").value;
    let values = |key| {
        let texts = node.texts(key).into_iter().map(|text| text.value);
        Some(texts.collect::<Vec<_>>()).filter(|values| !values.is_empty())
    };
    let range = match (node.number("at-least"), node.number("at-most")) {
        (Some(least), Some(most)) => Some(FilterTest::Between(least, most)),
        (least, most) => least
            .map(FilterTest::AtLeast)
            .or(most.map(FilterTest::AtMost)),
    };
    let mut given = [
        values("is").map(FilterTest::Is),
        values("is-not").map(FilterTest::IsNot),
        node.text("contains")
            .map(|text| FilterTest::Contains(text.value)),
        range,
        node.text("parameter")
            .map(|text| FilterTest::Parameter(text.value)),
    ]
    .into_iter()
    .flatten();
    let wanted = given.next();
    if wanted.is_none() || given.next().is_some() {
        node.report_self(
            "a filter needs one of is = [\"…\"], is-not = [\"…\"], contains = \"…\", at-least = 5, at-most = 5 (both: between) or parameter = \"port\"",
        );
    }
    drop(given);
    node.close();
    Some(Filter {
        column,
        wanted: wanted?,
    })
}
