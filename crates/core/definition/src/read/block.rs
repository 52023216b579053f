//! Reads blocks from their tables.

use crate::{
    model::{
        block::{Block, BlockKind, Changes},
        page::{Keep, PartAsk},
        query::{Query, ask::Ask},
        width::Width,
    },
    read::{
        block_kind::{SHAPES, read_kind},
        changes,
        node::Node,
        width,
    },
};
use maple_lark_time::nearest::suggestion;

/// That a block which shows a page has a query that keeps how it looks, with the part in question.
fn check_page(node: &Node<'_>, part: Option<&str>, queries: &[Query], name: &str) {
    let Some(query) = queries.iter().find(|query| query.name == name) else {
        return;
    };
    let Some(Ask::Page(page)) = query.ask() else {
        node.report(
            "query",
            format!("\"{name}\" asks no live page; a block with show = \"page\" needs a query with page = \"/…\""),
        );
        return;
    };
    let Keep::Look { parts, .. } = &page.keep else {
        node.report(
            "query",
            format!("\"{name}\" reads rows of the page; show = \"page\" needs a query that keeps how it looks"),
        );
        return;
    };
    let Some(part) = part else { return };
    let names = |one: &PartAsk| one.title.as_deref() == Some(part) || one.selector == part;
    if !parts.iter().any(names) {
        let known = parts
            .iter()
            .map(|one| one.title.as_deref().unwrap_or(&one.selector));
        node.report(
            "part",
            format!(
                "the query \"{name}\" keeps no part \"{part}\".{}",
                suggestion(part, known)
            ),
        );
    }
}

#[expect(
    clippy::too_many_lines,
    reason = "reads one key after the other, in the order of the documentation"
)]
pub(crate) fn read_block(node: Node<'_>, queries: &[Query]) -> Option<Block> {
    if node.has("from") {
        let borrowed = changes::read_borrowed(&node);
        let changes = changes::read_changes(&node);
        let place = node.place();
        node.close();
        let (title, kind) = (String::new(), BlockKind::Text(String::new()));
        return Some(Block {
            title,
            note: None,
            width: None,
            csv: None,
            query: None,
            kind,
            borrowed: Some(borrowed?),
            changes,
            place,
        });
    }
    let shape = node.required_choice("show", &SHAPES);
    let bare = matches!(shape, Some("text" | "image" | "page-break"));
    let title = if bare {
        node.text("title")
            .map_or_else(String::new, |title| title.value)
    } else {
        node.required("title").value
    };
    let note = node.text("note").map(|note| note.value);
    let width = width::read(&node);
    let csv = node.truth("csv");
    let query = if bare {
        None
    } else {
        Some(node.required("query"))
    };
    if let Some(query) = &query
        && !query.value.is_empty()
        && !queries.iter().any(|known| known.name == query.value)
    {
        let names: Vec<&str> = queries.iter().map(|query| query.name.as_str()).collect();
        node.report(
            "query",
            format!(
                "there is no query \"{}\" in this dashboard.{}",
                query.value,
                suggestion(&query.value, names)
            ),
        );
    }
    let kind = read_kind(&node, shape?)?;
    if let (BlockKind::Page { part }, Some(query)) = (&kind, &query) {
        check_page(&node, part.as_deref(), queries, &query.value);
    }
    if csv.is_some() && !kind.is_chart() {
        node.report(
            "csv",
            "only a chart may say whether its rows are a file; those of a table always are",
        );
    }
    if kind.is_chart() && width.is_some_and(|width| width < Width::LEAST_OF_CHARTS) {
        node.report(
            "width",
            "a chart needs at least a third of the page (4 twelfths) to be read",
        );
    }
    let place = node.place();
    let block = Block {
        title,
        note,
        width,
        csv,
        query,
        kind,
        borrowed: None,
        changes: Changes {
            hide: node.truth("hide").unwrap_or(false),
            ..Changes::default()
        },
        place,
    };
    for also in block
        .queries()
        .skip(usize::from(block.query.is_some()))
        .filter(|also| !queries.iter().any(|known| known.name == also.value))
    {
        let names: Vec<&str> = queries.iter().map(|query| query.name.as_str()).collect();
        node.report_at(
            &also.place,
            format!(
                "there is no query \"{}\" in this dashboard.{}",
                also.value,
                suggestion(&also.value, names)
            ),
        );
    }
    node.close();
    Some(block)
}
