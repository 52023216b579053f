//! Reads dashboards from their tables.

use std::collections::BTreeMap;

use maple_lark_data::figures::{Operation, Since};
use maple_lark_time::nearest::suggestion;

use crate::{
    model::{
        dashboard::{Dashboard, Section},
        dashboard_template::MadeFrom,
        parameter::Parameter,
        query::Query,
    },
    read::{
        block::read_block,
        block_kind::check_text,
        name::{read_name, read_team},
        node::Node,
        parameter::read_parameter,
        query,
    },
};

#[expect(
    clippy::too_many_lines,
    reason = "reads one key after the other, in the order of the documentation"
)]
pub(crate) fn read(root: &Node<'_>) -> Option<Dashboard> {
    let node = root.table("dashboard")?;
    let name = read_name(&node);
    let teams = read_team(&node);
    let title = node.required("title").value;
    let summary = node.text("summary").map(|text| text.value);
    let made_from = node.table("template").map(read_made_from);
    let place = node.place();
    node.close();
    let parameters: Vec<Parameter> = root
        .tables("parameter")
        .into_iter()
        .map(read_parameter)
        .collect();
    let queries: Vec<Query> = root
        .tables("query")
        .into_iter()
        .filter_map(|node| query::read(node, None))
        .collect();
    for (index, query) in queries.iter().enumerate() {
        for needed in query.needs().filter(|needed| {
            !queries[..index]
                .iter()
                .any(|earlier| earlier.name == **needed)
        }) {
            let names: Vec<&str> = queries[..index]
                .iter()
                .map(|query| query.name.as_str())
                .collect();
            let words = format!(
                "the query \"{}\" needs the answer of \"{needed}\", which must stand before it in this dashboard.{}",
                query.name,
                suggestion(needed, names)
            );
            root.report_at(&query.place, words);
        }
        let summing = query
            .needs()
            .filter_map(|needed| queries.iter().find(|known| known.name == needed))
            .find(|known| known.then.iter().any(Operation::sums_up));
        if let Some(summing) = summing {
            let words = format!(
                "the query \"{}\" needs the rows of \"{}\", some of which sum up others; take them from a query without totals",
                query.name, summing.name
            );
            root.report_at(&query.place, words);
        }
        if queries[..index]
            .iter()
            .any(|earlier| earlier.name == query.name)
        {
            root.report_at(
                &query.place,
                format!("two queries are named \"{}\"", query.name),
            );
        }
    }
    one_named_run(root, &queries);
    let by_name = |name: &str| queries.iter().any(|query| query.name == name);
    for from in parameters
        .iter()
        .filter_map(|parameter: &Parameter| parameter.choices_from.as_ref())
        .filter(|from| !by_name(&from.value))
    {
        let names: Vec<&str> = queries.iter().map(|query| query.name.as_str()).collect();
        root.report_at(
            &from.place,
            format!(
                "there is no query \"{}\" in this dashboard.{}",
                from.value,
                suggestion(&from.value, names)
            ),
        );
    }
    let sections: Vec<Section> = root
        .tables("section")
        .into_iter()
        .map(|section| read_section(section, &queries))
        .collect();
    if sections.is_empty() {
        root.report(
            "section",
            "a dashboard needs at least one [[section]] with a [[section.block]]",
        );
    }
    Some(Dashboard {
        name,
        teams,
        title,
        summary,
        made_from,
        parameters,
        queries,
        sections,
        place,
    })
}

/// A snapshot has room for the rows of one named run, so that all queries mean the same one.
fn one_named_run(root: &Node<'_>, queries: &[Query]) {
    let mut first = None;
    for query in queries {
        for since in query.then.iter().filter_map(Operation::compares_with) {
            let Since::Run(run) = since else { continue };
            let first = first.get_or_insert(run);
            if *first != run {
                let words = format!(
                    "the query \"{}\" is compared with the run {run}, and another of this dashboard with {first}; name the same run, or make a dashboard for each",
                    query.name
                );
                root.report_at(&query.place, words);
            }
        }
    }
}

fn read_made_from(node: Node<'_>) -> MadeFrom {
    let template = read_name(&node);
    let version = node.whole("version", 1..=1_000_000).unwrap_or(1) as u32;
    let source = node.required("source").value;
    let mut values = BTreeMap::new();
    if let Some(given) = node.table("values") {
        for name in given.keys() {
            match given.value_of(&name).and_then(|(value, _)| value.as_str()) {
                Some(value) => drop(values.insert(name, value.to_owned())),
                None => given.report(&name, "must be a text in quotes"),
            }
        }
    }
    node.close();
    MadeFrom {
        template,
        version,
        source,
        values,
    }
}

fn read_section(node: Node<'_>, queries: &[Query]) -> Section {
    let title = node.required("title").value;
    let text = node.text("text").map(|text| text.value);
    if let Some(text) = &text {
        check_text(&node, text);
    }
    let blocks = node
        .tables("block")
        .into_iter()
        .filter_map(|block| read_block(block, queries))
        .collect();
    node.close();
    Section {
        title,
        text,
        blocks,
    }
}
