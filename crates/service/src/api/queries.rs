//! Asking without making anything: a query tried alone, what a source has to offer, what a
//! parameter can be, and what samplers have kept.

use maple_lark_api::AnswerColumn;
use maple_lark_api::CatalogueEntry;
use maple_lark_api::CatalogueItem;
use maple_lark_api::Choice;
use maple_lark_api::ChoicesOrder;
use maple_lark_api::ParameterChoices;
use maple_lark_api::ProblemDetails;
use maple_lark_api::QueryAnswer;
use maple_lark_api::QueryOrder;
use maple_lark_api::SamplerView;
use std::{collections::BTreeMap, time::Instant};

use chrono::TimeDelta;

use maple_lark_data::{
    figures::{Context, apply_all},
    status::Thresholds,
};

use maple_lark_definition::{
    Ask, Dashboard, DefinitionSet, Origin, ParameterKind, ParameterValue, Query, Sql, Times,
    query_alone,
};

use maple_lark_document::snapshot::Outcome;

use maple_lark_store::Store;

use maple_lark_time::{Window, Zone, window::Step};

use rocket::{Route, State, get, post, routes, serde::json::Json};

use super::{Answer, problem::Problem};

use crate::{
    access::{Author, Viewer},
    engine::{Definitions, EngineHandle},
};

pub fn routes() -> Vec<Route> {
    routes![try_query, catalogue, choices, samplers]
}

/// Ask a query once and show what comes back; nothing is kept.
#[utoipa::path(post, operation_id = "try_query", path = "/queries/try", tag = "sources", request_body = QueryOrder, responses((status = 200, body = QueryAnswer), (status = 422, body = ProblemDetails)))]
#[post("/queries/try", data = "<order>")]
async fn try_query(
    _user: Author,
    order: Json<QueryOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<QueryAnswer> {
    let order = order.into_inner();
    let set = Definitions::stored(&store.definitions().await?).set;
    let zone: Zone = order
        .time_zone
        .as_deref()
        .unwrap_or("UTC")
        .parse()
        .map_err(|error: maple_lark_time::zone::UnknownZone| {
            Problem::new(422, "Not a time zone", error.to_string())
        })?;
    let to = order.to.unwrap_or_else(|| engine.now());
    let from = order.from.unwrap_or(to - TimeDelta::hours(24));
    if from >= to {
        return Err(Problem::new(
            422,
            "Not a window",
            "the window ends before it begins",
        ));
    }
    let window = Window {
        from,
        to,
        zone,
        within: None,
    };
    let alone;
    let (dashboard, query): (Option<&Dashboard>, &Query) =
        match (&order.definition, &order.dashboard, &order.query) {
            (Some(text), None, None) => {
                alone = query_alone("query", text).map_err(Problem::definitions)?;
                (None, &alone)
            }
            (None, Some(dashboard), Some(query)) => {
                let dashboard = set
                    .dashboards
                    .get(dashboard)
                    .ok_or_else(|| Problem::not_found(format!("dashboard \"{dashboard}\"")))?;
                let query = dashboard
                    .queries
                    .iter()
                    .find(|known| known.name == *query)
                    .ok_or_else(|| {
                        Problem::not_found(format!("query \"{query}\" in that dashboard"))
                    })?;
                (Some(dashboard), query)
            }
            _ => {
                return Err(Problem::new(
                    422,
                    "Nothing to try",
                    "give either definition, or dashboard and query",
                ));
            }
        };
    let defaults = dashboard
        .iter()
        .flat_map(|dashboard| &dashboard.parameters)
        .filter_map(|parameter| Some((parameter.name.clone(), parameter.default.clone()?)));
    let mut values: BTreeMap<String, ParameterValue> = defaults.collect();
    values.extend(order.values);
    let times = Times {
        step: query.step.unwrap_or_else(|| {
            dashboard.map_or_else(
                || Step::fitting(&window, 160),
                |dashboard| dashboard.step(query, &window),
            )
        }),
        comparison: None,
        window,
    };
    let began = Instant::now();
    let asked = ask(engine, &set, dashboard, query, &times, &values, 0)
        .await
        .map_err(|words| Problem::new(422, "The query failed", words))?;
    let milliseconds = began.elapsed().as_millis() as i64;
    let table = asked.table;
    let shown = order.rows.unwrap_or(100).min(1000);
    let cell = |value: &maple_lark_data::Value| {
        (*value != maple_lark_data::Value::Missing).then(|| value.exact(zone))
    };
    let inferred = matches!(query.ask(), Some(Ask::File(rows)) if rows.fields.is_empty());
    let fields = inferred.then(|| {
        table
            .columns
            .iter()
            .map(|column| {
                format!(
                    "[[query.field]]\nname = {:?}\nkind = \"{}\"\n",
                    column.name,
                    column.kind.name()
                )
            })
            .collect::<Vec<_>>()
            .join("\n")
    });
    Ok(Json(QueryAnswer {
        columns: table
            .columns
            .iter()
            .map(|column| AnswerColumn {
                name: column.name.clone(),
                kind: column.kind.name().to_owned(),
                numeric: column.kind.is_numeric(),
            })
            .collect(),
        rows: table
            .rows()
            .take(shown)
            .map(|row| row.iter().map(cell).collect())
            .collect(),
        row_count: table.len(),
        truncated: table.truncated,
        milliseconds,
        sent: asked.sent,
        note: asked.note,
        by_hand: match query.ask() {
            Some(Ask::Sql(Sql {
                pick: Some(pick), ..
            })) => Some(pick.by_hand()),
            _ => None,
        },
        fields,
        window: times.window.exact_in_words(),
    }))
}

/// A query with those that it needs and everything done to its rows.
fn ask<'a>(
    engine: &'a EngineHandle,
    set: &'a DefinitionSet,
    dashboard: Option<&'a Dashboard>,
    query: &'a Query,
    times: &'a Times,
    values: &'a BTreeMap<String, ParameterValue>,
    depth: usize,
) -> futures::future::BoxFuture<'a, Result<maple_lark_sources::Answer, String>> {
    Box::pin(async move {
        if depth > 20 {
            return Err("its queries need one another without end".to_owned());
        }
        let other = |name: &str| {
            dashboard
                .and_then(|dashboard| dashboard.queries.iter().find(|query| query.name == name))
        };
        let mut answers = BTreeMap::new();
        for name in query.needs() {
            let needed = other(name)
                .ok_or_else(|| format!("there is no query \"{name}\" to take rows from"))?;
            answers.insert(
                name.to_owned(),
                ask(engine, set, dashboard, needed, times, values, depth + 1).await?,
            );
        }
        let mut answer = match &query.origin {
            Origin::Query(name) => answers
                .get(&name.value)
                .cloned()
                .ok_or_else(|| format!("there is no query \"{}\"", name.value))?,
            Origin::Sampler(name) => {
                set.samplers
                    .get(&name.value)
                    .ok_or_else(|| format!("there is no sampler \"{}\"", name.value))?;
                match engine
                    .history(&name.value, &times.window, &query.then)
                    .await
                {
                    Outcome::Rows(table) => maple_lark_sources::Answer {
                        table,
                        sent: query.written(),
                        note: None,
                    },
                    Outcome::Failed(reason) => return Err(reason),
                }
            }
            Origin::Source { name, ask } => {
                let source = set.sources.get(&name.value).ok_or_else(|| {
                    format!(
                        "there is no source \"{}\".{}",
                        name.value,
                        maple_lark_time::nearest::suggestion(
                            &name.value,
                            set.sources.keys().map(String::as_str)
                        )
                    )
                })?;
                engine.read(source, ask, times, values).await?
            }
        };
        let thresholds = |column: &str| {
            query
                .hint(column)
                .map_or_else(Thresholds::default, |hint| hint.thresholds)
        };
        let found = |name: &str| {
            answers
                .get(name)
                .map(|answer| maple_lark_data::Table::from(answer.table.clone()).into())
                .ok_or_else(|| format!("there is no query \"{name}\""))
        };
        let around = Context {
            window: &times.window,
            step: times.step,
            thresholds: &thresholds,
            other: &found,
        };
        let table = std::mem::take(&mut answer.table);
        let figures =
            apply_all(table.into(), &query.then, &around).map_err(|error| error.to_string())?;
        answer.table = figures.table.into();
        Ok(answer)
    })
}

/// What can be asked of a source: tables with columns, metrics with labels, files, checks.
#[utoipa::path(get, operation_id = "source_catalogue", path = "/sources/{name}/catalogue", tag = "sources", params(("name" = String, Path), ("search" = Option<String>, Query)), responses((status = 200, body = Vec<CatalogueEntry>), (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[get("/sources/<name>/catalogue?<search>")]
async fn catalogue(
    _user: Author,
    name: &str,
    search: Option<&str>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Vec<CatalogueEntry>> {
    let set = Definitions::stored(&store.definitions().await?).set;
    let source = set
        .sources
        .get(name)
        .ok_or_else(|| Problem::not_found(format!("source \"{name}\"")))?;
    let entries = engine
        .reader()
        .catalogue(source, search.unwrap_or_default())
        .await
        .map_err(|error| Problem::new(422, "The source refused", error.to_string()))?;
    let item = |item: maple_lark_sources::Item| CatalogueItem {
        name: item.name,
        kind: item.kind,
        description: item.description,
        values: item.values,
    };
    let view = entries.into_iter().map(|entry| CatalogueEntry {
        name: entry.name,
        kind: entry.kind,
        unit: entry.unit,
        description: entry.description,
        items: entry.items.into_iter().map(item).collect(),
    });
    Ok(Json(view.collect()))
}

/// The parameters of a dashboard with what each can be, given the values chosen already.
#[utoipa::path(post, operation_id = "parameter_choices", path = "/dashboards/{name}/choices", tag = "dashboards", params(("name" = String, Path)), request_body = ChoicesOrder, responses((status = 200, body = Vec<ParameterChoices>), (status = 404, body = ProblemDetails)))]
#[post("/dashboards/<name>/choices", data = "<order>")]
async fn choices(
    _user: Viewer,
    name: &str,
    order: Json<ChoicesOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Vec<ParameterChoices>> {
    let set = Definitions::stored(&store.definitions().await?).set;
    let dashboard = set
        .dashboard(name)
        .ok_or_else(|| Problem::not_found(format!("dashboard \"{name}\"")))?;
    let window = Window {
        from: engine.now() - TimeDelta::hours(24),
        to: engine.now(),
        zone: Zone::utc(),
        within: None,
    };
    let times = Times {
        step: Step::fitting(&window, 160),
        comparison: None,
        window,
    };
    let mut values: BTreeMap<String, ParameterValue> = dashboard
        .parameters
        .iter()
        .filter_map(|parameter| Some((parameter.name.clone(), parameter.default.clone()?)))
        .collect();
    values.extend(order.into_inner().values);
    let mut view = Vec::new();
    for parameter in &dashboard.parameters {
        let query = parameter.choices_from.as_ref().and_then(|from| {
            dashboard
                .queries
                .iter()
                .find(|query| query.name == from.value)
        });
        let depends_on = query
            .and_then(Query::ask)
            .map(|ask| ask.names())
            .unwrap_or_default()
            .into_iter()
            .filter(|name| dashboard.parameters.iter().any(|p| p.name == *name))
            .collect();
        let fixed = |words: &[String]| {
            words
                .iter()
                .map(|word| Choice {
                    value: word.clone(),
                    title: word.clone(),
                })
                .collect()
        };
        let (kind, mut choices, mut problem) = match &parameter.kind {
            ParameterKind::Text => ("text", Vec::new(), None),
            ParameterKind::Number => ("number", Vec::new(), None),
            ParameterKind::List => ("list", Vec::new(), None),
            ParameterKind::Choice(words) => ("choice", fixed(words), None),
        };
        if let Some(query) = query {
            match ask(engine, &set, Some(&dashboard), query, &times, &values, 0).await {
                Ok(answer) => {
                    let zone = Zone::utc();
                    choices.extend(answer.table.rows().take(2000).map(|row| {
                        let value = row
                            .first()
                            .map(|value| value.exact(zone))
                            .unwrap_or_default();
                        Choice {
                            title: row
                                .get(1)
                                .map_or_else(|| value.clone(), |title| title.exact(zone)),
                            value,
                        }
                    }));
                }
                Err(reason) => problem = Some(reason),
            }
        }
        let default = parameter.default.as_ref().map(ParameterValue::readable);
        view.push(ParameterChoices {
            name: parameter.name.clone(),
            title: parameter.title.clone(),
            kind: kind.to_owned(),
            default,
            depends_on,
            choices,
            problem,
        });
    }
    Ok(Json(view))
}

/// All samplers with how much history each has kept.
#[utoipa::path(get, operation_id = "list_samplers", path = "/samplers", tag = "sources", responses((status = 200, body = Vec<SamplerView>)))]
#[get("/samplers")]
async fn samplers(_user: Viewer, store: &State<Store>) -> Answer<Vec<SamplerView>> {
    let set = Definitions::stored(&store.definitions().await?).set;
    let states = store.sampler_states().await?;
    let view = set.samplers.values().map(|sampler| {
        let state = states.iter().find(|state| state.sampler == sampler.name);
        SamplerView {
            name: sampler.name.clone(),
            title: sampler.title.clone(),
            source: sampler
                .query
                .source()
                .map(|source| source.value.clone())
                .unwrap_or_default(),
            every_seconds: sampler.every_seconds,
            keep_days: sampler.keep_seconds as f64 / 86_400.0,
            last_at: state.and_then(|state| state.last_at),
            works: state.is_none_or(|state| state.works),
            detail: state.and_then(|state| state.detail.clone()),
            samples: state.map_or(0, |state| state.samples),
            since: state.and_then(|state| state.since),
        }
    });
    Ok(Json(view.collect()))
}
