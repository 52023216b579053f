//! What stands on the page of a dashboard or a report, block by block, each to be asked for by its place.

use maple_lark_api::{
    BlockPlace, DashboardBlock, DashboardLayout, DashboardSection, ProblemDetails,
};
use maple_lark_definition::{Block, BlockKind, Change, Dashboard, Width};
use maple_lark_store::Store;
use rocket::{Route, State, get, routes, serde::json::Json};

use super::{Answer, problem::Problem};
use crate::{access::Viewer, engine::EngineHandle};

pub fn routes() -> Vec<Route> {
    routes![of_report]
}

/// What a report shows, dashboard by dashboard. Each block is previewed by itself, by its place.
#[utoipa::path(get, operation_id = "get_report_layout", path = "/reports/{name}/layout", tag = "reports", params(("name" = String, Path)), responses((status = 200, body = Vec<DashboardLayout>), (status = 404, body = ProblemDetails)))]
#[get("/reports/<name>/layout")]
async fn of_report(
    user: Viewer,
    name: &str,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Vec<DashboardLayout>> {
    let definitions = engine.definitions(store, &user.1).await?;
    let set = &definitions.set;
    let report = set.reports.get(name);
    let report = report.ok_or_else(|| Problem::not_found(format!("report \"{name}\"")))?;
    let shown = report.dashboards.iter();
    let shown = shown.filter_map(|dashboard| set.dashboards.get(&dashboard.value));
    Ok(Json(
        shown
            .map(|dashboard| DashboardLayout {
                dashboard: dashboard.name.clone(),
                title: dashboard.title.clone(),
                sections: sections(dashboard, &report.changes),
            })
            .collect(),
    ))
}

/// What a block is called: by itself, or as the one that it is taken from.
pub fn title_of(block: &Block) -> &str {
    match &block.borrowed {
        Some(borrowed) if block.title.is_empty() => &borrowed.title,
        _ => &block.title,
    }
}

/// Whether a report changes this block of this dashboard.
pub fn concerns(change: &Change, dashboard: &str, title: &str) -> bool {
    let here = change.dashboard.as_ref();
    change.block.value == title && here.is_none_or(|name| name.value == dashboard)
}

/// The sections of a dashboard with the blocks that are seen, in their places in the definition: what is
/// hidden leaves a gap in the count. A section that has lost all its blocks is left out.
pub fn sections(dashboard: &Dashboard, changes: &[Change]) -> Vec<DashboardSection> {
    let mut all = Vec::new();
    for (section, number) in dashboard.sections.iter().zip(1..) {
        let blocks: Vec<DashboardBlock> = section
            .blocks
            .iter()
            .zip(1..)
            .filter_map(|(block, index)| {
                let place = BlockPlace {
                    section: number,
                    block: index,
                };
                seen(block, &dashboard.name, changes, place)
            })
            .collect();
        if !blocks.is_empty() || section.blocks.is_empty() {
            all.push(DashboardSection {
                title: section.title.clone(),
                blocks,
            });
        }
    }
    all
}

fn seen(
    block: &Block,
    dashboard: &str,
    changes: &[Change],
    place: BlockPlace,
) -> Option<DashboardBlock> {
    let title = title_of(block);
    let own = changes
        .iter()
        .filter(|change| concerns(change, dashboard, title))
        .map(|change| &change.changes);
    let own: Vec<_> = own.collect();
    if block.changes.hide || block.kind == BlockKind::PageBreak || own.iter().any(|one| one.hide) {
        return None;
    }
    let width = own.iter().rev().find_map(|one| one.width).or(block.width);
    let title = own.iter().rev().find_map(|one| one.title.clone());
    Some(DashboardBlock {
        title: title.unwrap_or_else(|| title_of(block).to_owned()),
        place,
        twelfths: width.unwrap_or(Width::FULL).twelfths(),
    })
}
