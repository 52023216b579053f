//! One block of a dashboard with the rows of its query, as a reader sees it.

use maple_lark_data::Table;
use maple_lark_definition::{Block as Definition, BlockKind, Placed, Width};

use crate::{
    compose::{
        CannotShow, Context, answers,
        answers::{answer, source_title},
        charts,
        figures::{Beside, key_figures},
        page,
        table::{TableOptions, Trends, keep_rows, shown_table},
    },
    document::{Block, Body},
};

pub(super) fn compose_block(block: &Definition, context: &mut Context<'_>) -> Block {
    let body = match &block.kind {
        // Read when the values that it may name are known.
        BlockKind::Text(_) => Body::Text { parts: Vec::new() },
        BlockKind::Image { data, description } => Body::Image {
            picture: data.clone(),
            description: description.clone(),
        },
        BlockKind::PageBreak => Body::PageBreak,
        BlockKind::Page { part } => {
            let query = block.query.as_ref();
            let query = query.map_or("", |query| query.value.as_str());
            page::page(context, query, part.as_deref()).unwrap_or_else(|error| Body::Failed {
                reason: error.to_string(),
            })
        }
        _ => with_rows(block, context).unwrap_or_else(|error| Body::Failed {
            reason: error.to_string(),
        }),
    };
    let usual = if context.two_across && matches!(body, Body::Chart { .. }) {
        Width::HALF
    } else {
        Width::FULL
    };
    Block {
        title: block.title.clone(),
        width: block.width.unwrap_or(usual),
        note: context.with_notes(block.note.clone()),
        body,
    }
}

#[expect(clippy::too_many_lines, reason = "one arm a kind of block with rows")]
fn with_rows(block: &Definition, context: &mut Context<'_>) -> Result<Body, CannotShow> {
    let name = block
        .query
        .as_ref()
        .map(|query| query.value.as_str())
        .unwrap_or_default();
    let dashboard = context.dashboard;
    let query = answers::query(dashboard, name)?;
    let snapshot = context.snapshot;
    let answer = answer(snapshot, dashboard, query)?;
    context.notes.extend(answer.notes.iter().cloned());
    if let BlockKind::Table {
        columns,
        limit,
        bars,
        trend,
    } = &block.kind
    {
        // What is empty may not know its columns yet.
        if answer.table.is_empty()
            && columns
                .iter()
                .any(|name| answer.table.column(name).is_none())
        {
            return Ok(Body::Empty {
                sentence: "No rows in this window.".to_owned(),
                rows: true,
            });
        }
        let trends = trend
            .as_ref()
            .map(|trend| Trends::new(trend, snapshot, dashboard, context.number_format))
            .transpose()?;
        return shown_table(
            block,
            query,
            &answer,
            &TableOptions {
                columns,
                limit: *limit,
                bars,
                trends,
            },
            context,
        );
    }
    // Columns that are not there are the chart's to complain of.
    let named = block.kind.columns();
    let places: Vec<usize> = named
        .iter()
        .filter_map(|name| {
            answer
                .table
                .columns
                .iter()
                .position(|column| column.name == *name)
        })
        .collect();
    if block.kind.is_chart() && places.len() == named.len() {
        keep_rows(block, query, &answer.table, &places, context);
    }
    let roles = answer.roles;
    let table = &Table::from(answer.table);
    match &block.kind {
        _ if table.rows.is_empty() => Ok(Body::Empty {
            sentence: format!(
                "{} has no data in this window.",
                source_title(snapshot, dashboard, query)
            ),
            rows: false,
        }),
        BlockKind::Figures {
            columns,
            before,
            since,
            trend,
        } => {
            let other = |name: &Option<Placed<String>>| {
                let query = name.as_ref().and_then(|name| {
                    dashboard
                        .queries
                        .iter()
                        .find(|query| query.name == name.value)
                });
                query
                    .map(|query| {
                        answers::answer(snapshot, dashboard, query)
                            .map(|answer| Table::from(answer.table))
                    })
                    .transpose()
            };
            let beside = Beside {
                before: match since {
                    Some(since) => {
                        answers::earlier_answer(snapshot, dashboard, query, since)?.map(Table::from)
                    }
                    None => other(before)?,
                },
                trend: other(trend)?,
            };
            key_figures(
                query,
                table,
                columns,
                &beside,
                snapshot.window.zone,
                context.number_format,
            )
        }
        _ => charts::chart(block, query, table, &roles, context),
    }
}
