//! Sources and dashboards.

use std::time::Instant;

use maple_lark_api::{DashboardView, ProblemDetails, SourceTest, SourceView};
use maple_lark_definition::{DefinitionSet, Query};
use maple_lark_store::{Store, teams::Sight};
use rocket::{Route, State, get, post, routes, serde::json::Json};

use super::{Answer, client::Client, layout, problem::Problem};
use crate::{
    access::{Author, Viewer},
    engine::EngineHandle,
};

pub fn routes() -> Vec<Route> {
    routes![list, test, dashboards]
}

/// All sources.
#[utoipa::path(get, operation_id = "list_sources", path = "/sources", tag = "sources", responses((status = 200, body = Vec<SourceView>)))]
#[get("/sources")]
async fn list(
    user: Viewer,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Vec<SourceView>> {
    let definitions = engine.definitions(store, &user.1).await?;
    let set = &definitions.set;
    let view = set.sources.values().map(|source| SourceView {
        name: source.name.clone(),
        title: source.title.clone(),
        file: source.place.file.clone(),
        kind: source.kind.name().to_owned(),
        // What is shared is used by its name.
        address: if source.teams.is_empty() || user.1 == Sight::All {
            source.kind.place()
        } else {
            String::new()
        },
        timeout_seconds: source.timeout_seconds,
        row_limit: source.row_limit,
        used_by: {
            let asks = |query: &Query| query.source().is_some_and(|name| name.value == source.name);
            let dashboards = set
                .dashboards
                .values()
                .filter(|dashboard| dashboard.queries.iter().any(asks))
                .map(|dashboard| dashboard.name.clone());
            let samplers = set
                .samplers
                .values()
                .filter(|sampler| asks(&sampler.query))
                .map(|sampler| format!("sampler {}", sampler.name));
            dashboards.chain(samplers).collect()
        },
    });
    Ok(Json(view.collect()))
}

/// Sign in at a source and say what is there, or why it refuses.
#[utoipa::path(post, operation_id = "test_source", path = "/sources/{name}/test", tag = "sources", params(("name" = String, Path)), responses((status = 200, body = SourceTest), (status = 404, body = ProblemDetails)))]
#[post("/sources/<name>/test")]
async fn test(
    user: Author,
    client: Client,
    name: &str,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<SourceTest> {
    let definitions = engine.definitions(store, &user.1).await?;
    let set = &definitions.set;
    let source = set
        .sources
        .get(name)
        .ok_or_else(|| Problem::not_found(format!("source \"{name}\"")))?;
    let began = Instant::now();
    let answer = client.waits_for(engine.reader().test(source)).await?;
    let milliseconds = began.elapsed().as_millis() as i64;
    Ok(Json(match answer {
        Ok(greeting) => SourceTest {
            works: true,
            detail: greeting.found,
            milliseconds,
            warning: greeting.warning,
        },
        Err(error) => SourceTest {
            works: false,
            detail: error.to_string(),
            milliseconds,
            warning: None,
        },
    }))
}

/// All dashboards.
#[utoipa::path(get, operation_id = "list_dashboards", path = "/dashboards", tag = "dashboards", responses((status = 200, body = Vec<DashboardView>)))]
#[get("/dashboards")]
async fn dashboards(
    user: Viewer,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Vec<DashboardView>> {
    let definitions = engine.definitions(store, &user.1).await?;
    let set = &definitions.set;
    Ok(Json(
        set.dashboards
            .keys()
            .filter_map(|name| dashboard(set, name))
            .collect(),
    ))
}

fn dashboard(set: &DefinitionSet, name: &str) -> Option<DashboardView> {
    let dashboard = set.dashboard(name)?;
    let mut sources: Vec<String> = dashboard
        .queries
        .iter()
        .filter_map(|query| query.source())
        .map(|name| name.value.clone())
        .collect();
    sources.sort();
    sources.dedup();
    Some(DashboardView {
        name: dashboard.name.clone(),
        title: dashboard.title.clone(),
        file: dashboard.place.file.clone(),
        summary: dashboard.summary.clone(),
        sections: dashboard.sections.len(),
        block_titles: dashboard
            .sections
            .iter()
            .flat_map(|section| &section.blocks)
            .filter(|block| block.borrowed.is_none() && !block.title.is_empty())
            .map(|block| block.title.clone())
            .collect(),
        blocks: dashboard
            .sections
            .iter()
            .flat_map(|section| &section.blocks)
            .filter(|block| block.query.is_some())
            .count(),
        parameters: dashboard
            .parameters
            .iter()
            .map(|parameter| parameter.title.clone())
            .collect(),
        sources,
        used_by: set
            .reports
            .values()
            .filter(|report| report.dashboards.iter().any(|used| used.value == name))
            .map(|report| report.name.clone())
            .collect(),
        layout: set
            .dashboards
            .get(name)
            .map(|dashboard| layout::sections(dashboard, &[]))
            .unwrap_or_default(),
    })
}
