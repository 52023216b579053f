//! Asking without making anything: a query tried alone, what a source has to offer, what a
//! parameter can be, and what samplers have kept.

use std::{collections::BTreeMap, time::Instant};

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_api::{
    AnswerColumn, CatalogueEntry, CatalogueItem, Choice, ChoicesOrder, ParameterChoices,
    ProblemDetails, QueryAnswer, QueryOrder, SamplerView,
};
use maple_lark_data::{PackedTable, Value};
use maple_lark_definition::{
    Ask, Dashboard, Definition, DefinitionSet, Origin, Parameter, ParameterKind, ParameterValue,
    Query, Sql, Times, edit, query_alone,
};
use maple_lark_sources::Values;
use maple_lark_store::Store;
use maple_lark_time::{DateForm, Window, Zone, nearest::suggestion, window::Step};
use rocket::{Route, State, get, post, routes, serde::json::Json};

use super::{Answer, body::Body, client::Client, drafts, problem::Problem};
use crate::{
    access::{Asker, Author, Viewer},
    engine::{Among, EngineHandle},
};

pub fn routes() -> Vec<Route> {
    routes![try_query, catalogue, choices, samplers]
}

/// Ask a query once and show what comes back; nothing is kept.
#[utoipa::path(post, operation_id = "try_query", path = "/queries/try", tag = "sources", request_body = QueryOrder, responses((status = 200, body = QueryAnswer), (status = 422, body = ProblemDetails)))]
#[post("/queries/try", data = "<order>")]
#[expect(
    clippy::too_many_lines,
    reason = "reads an order, asks, and answers field by field"
)]
async fn try_query(
    user: Author,
    client: Client,
    order: Body<QueryOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<QueryAnswer> {
    let order = order.into_inner();
    let definitions = engine.definitions(store, &user.1).await?;
    let set = &definitions.set;
    let window = window_of(&order, engine)?;
    let (alone, drafted);
    let (dashboard, query) = match (&order.definition, &order.dashboard, &order.query) {
        (Some(text), None, None) => {
            alone = query_alone("query", text).map_err(Problem::definitions)?;
            (None, &alone)
        }
        (Some(text), None, Some(query)) => {
            drafted = with_only(text, query, order.steps)?;
            let query = drafted.queries.iter().find(|known| known.name == *query);
            let query = query.ok_or_else(|| Problem::not_found("query in that text".to_owned()))?;
            (Some(&drafted), query)
        }
        (None, Some(dashboard), Some(query)) => {
            let (dashboard, query) = stored_query(set, dashboard, query)?;
            (Some(dashboard), query)
        }
        _ => {
            return Err(Problem::new(
                422,
                "Nothing to try",
                "give definition, or dashboard and query, or the text of a dashboard as definition and query",
            ));
        }
    };
    let parameters = dashboard.map_or(&[][..], |dashboard| &dashboard.parameters);
    let mut values = defaults(parameters);
    match dashboard {
        Some(_) => values.extend(checked(parameters, &order.values)?),
        // A query that stands alone has no parameters that could say.
        None => values.extend(order.values),
    }
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
    let among = Among {
        set,
        dashboard,
        times: &times,
        values: &values,
    };
    let began = Instant::now();
    let asked = client
        .waits_for(engine.ask(&among, query))
        .await?
        .map_err(|error| Problem::new(422, "The query failed", error.to_string()))?;
    let shown = order.rows.unwrap_or(100).min(1000);
    let zone = times.window.zone;
    let cell = |value: &Value| (*value != Value::Missing).then(|| shown_of(value.exact(zone)));
    Ok(Json(QueryAnswer {
        columns: columns(&asked.table),
        rows: asked
            .table
            .rows()
            .take(shown)
            .map(|row| row.iter().map(cell).collect())
            .collect(),
        row_count: asked.table.len(),
        truncated: asked.table.truncated,
        milliseconds: began.elapsed().as_millis() as i64,
        by_hand: by_hand(set, query),
        fields: fields_found(query, &asked.table),
        sent: asked.sent,
        note: asked.note,
        window: times.window.exact_in_words(DateForm::Words),
    }))
}

/// What was picked, as somebody would write it for its source.
fn by_hand(set: &DefinitionSet, query: &Query) -> Option<String> {
    let Origin::Source { name, ask } = &query.origin else {
        return None;
    };
    let Ask::Sql(Sql {
        pick: Some(pick), ..
    }) = &**ask
    else {
        return None;
    };
    let dialect = set.sources.get(&name.value)?.kind.dialect()?;
    pick.by_hand(dialect).ok()
}

/// So many characters of a cell are shown.
const MOST_OF_A_CELL: usize = 2000;

/// A cell as it is shown: the beginning of a long one, and how long it is.
fn shown_of(text: String) -> String {
    match text.char_indices().nth(MOST_OF_A_CELL) {
        Some((end, _)) => {
            let length = text.chars().count();
            format!("{}… ({length} characters)", &text[..end])
        }
        None => text,
    }
}

/// The window that a report with these keys would have now.
fn window_by_keys(
    zone: Zone,
    keys: &serde_json::Value,
    now: DateTime<Utc>,
) -> Result<Window, Problem> {
    let report = "[report]\nname = \"window\"\ntitle = \"Window\"\ndashboards = [\"window\"]\n";
    let text = edit::rescheduled(report, zone.name(), None, Some(keys))
        .map_err(|error| Problem::new(422, "Not a window", error.to_string()))?;
    match Definition::parse("window", &text).map_err(Problem::definitions)? {
        Definition::Report(report) => Ok(report.window.window(now, zone)),
        _ => Err(Problem::new(422, "Not a window", "it is no report")),
    }
}

/// The window that an order names: the last 24 hours unless it says otherwise.
fn window_of(order: &QueryOrder, engine: &EngineHandle) -> Result<Window, Problem> {
    if order.window.is_some() && (order.from.is_some() || order.to.is_some()) {
        let words = "give either window, or from and to";
        return Err(Problem::new(422, "Not a window", words));
    }
    let window = window_of_keys(order.time_zone.as_deref(), order.window.as_ref(), engine)?;
    if order.window.is_some() {
        return Ok(window);
    }
    let to = order.to.unwrap_or(window.to);
    let from = order.from.unwrap_or(to - TimeDelta::hours(24));
    if from >= to {
        return Err(Problem::new(
            422,
            "Not a window",
            "the window ends before it begins",
        ));
    }
    Ok(Window { from, to, ..window })
}

/// The window that has these keys in a report, counted from now; the last 24 hours without them.
pub(super) fn window_of_keys(
    time_zone: Option<&str>,
    keys: Option<&serde_json::Value>,
    engine: &EngineHandle,
) -> Result<Window, Problem> {
    let zone = time_zone.unwrap_or("UTC").parse();
    let zone = zone.map_err(|error: maple_lark_time::zone::UnknownZone| {
        Problem::new(422, "Not a time zone", error.to_string())
    })?;
    if let Some(keys) = keys {
        return window_by_keys(zone, keys, engine.now());
    }
    let to = engine.now();
    Ok(Window {
        from: to - TimeDelta::hours(24),
        to,
        zone,
        within: None,
    })
}

/// A dashboard that is not applied yet, with nothing but one query and what that needs.
fn with_only(text: &str, query: &str, steps: Option<usize>) -> Result<Dashboard, Problem> {
    let refused = |error: edit::BadEdit| Problem::new(422, "Not understood", error.to_string());
    let keys = edit::keys(text).map_err(refused)?;
    let alone = keys
        .as_object()
        .and_then(|keys| edit::only_query(keys, query, steps))
        .ok_or_else(|| Problem::not_found(format!("query \"{query}\" in that text")))?;
    let text = edit::rewritten("", &alone).map_err(refused)?;
    match Definition::parse(drafts::FILE, &text).map_err(Problem::definitions)? {
        Definition::Dashboard(dashboard) => Ok(dashboard),
        other => Err(Problem::new(
            422,
            "Not understood",
            format!("a {} has no queries to try", other.kind().name()),
        )),
    }
}

fn stored_query<'s>(
    set: &'s DefinitionSet,
    dashboard: &str,
    query: &str,
) -> Result<(&'s Dashboard, &'s Query), Problem> {
    let dashboard = set
        .dashboards
        .get(dashboard)
        .ok_or_else(|| Problem::not_found(format!("dashboard \"{dashboard}\"")))?;
    let query = dashboard
        .queries
        .iter()
        .find(|known| known.name == *query)
        .ok_or_else(|| Problem::not_found(format!("query \"{query}\" in that dashboard")))?;
    Ok((dashboard, query))
}

/// What parameters are where nobody chooses.
/// Values that somebody gives, if each is one that its parameter can have.
///
/// # Errors
/// Which is not, and why.
pub(super) fn checked(parameters: &[Parameter], given: &Values) -> Result<Values, Problem> {
    let bad = |words: String| Problem::new(422, "A value does not fit", words);
    for (name, value) in given {
        let known = parameters.iter().find(|parameter| parameter.name == *name);
        let parameter = known.ok_or_else(|| {
            bad(format!(
                "there is no parameter \"{name}\" here.{}",
                suggestion(name, parameters.iter().map(|one| one.name.as_str()))
            ))
        })?;
        if let Some(refusal) = parameter.refusal(value) {
            return Err(bad(format!("the value of \"{name}\": {refusal}")));
        }
    }
    Ok(given.clone())
}

fn defaults(parameters: &[Parameter]) -> BTreeMap<String, ParameterValue> {
    parameters
        .iter()
        .filter_map(|parameter| Some((parameter.name.clone(), parameter.default.clone()?)))
        .collect()
}

fn columns(table: &PackedTable) -> Vec<AnswerColumn> {
    let column = |column: &maple_lark_data::Column| AnswerColumn {
        name: column.name.clone(),
        kind: column.kind.name().to_owned(),
        numeric: column.kind.is_numeric(),
    };
    table.columns.iter().map(column).collect()
}

/// The fields of a file as they were found out, ready to be written down.
fn fields_found(query: &Query, table: &PackedTable) -> Option<String> {
    let inferred = match query.ask() {
        Some(Ask::File(rows)) => rows.fields.is_empty(),
        Some(Ask::Output(output)) => output.rows.fields.is_empty(),
        _ => false,
    };
    let field = |column: &maple_lark_data::Column| {
        format!(
            "[[query.field]]\nname = {:?}\nkind = \"{}\"\n",
            column.name,
            column.kind.name()
        )
    };
    inferred.then(|| {
        table
            .columns
            .iter()
            .map(field)
            .collect::<Vec<_>>()
            .join("\n")
    })
}

/// What can be asked of a source: tables with columns, metrics with labels, files, checks.
#[utoipa::path(get, operation_id = "source_catalogue", path = "/sources/{name}/catalogue", tag = "sources", params(("name" = String, Path), ("search" = Option<String>, Query)), responses((status = 200, body = Vec<CatalogueEntry>), (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[get("/sources/<name>/catalogue?<search>")]
async fn catalogue(
    user: Author,
    client: Client,
    name: &str,
    search: Option<&str>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Vec<CatalogueEntry>> {
    let definitions = engine.definitions(store, &user.1).await?;
    let set = &definitions.set;
    let source = set
        .sources
        .get(name)
        .ok_or_else(|| Problem::not_found(format!("source \"{name}\"")))?;
    let entries = client
        .waits_for(
            engine
                .reader()
                .catalogue(source, search.unwrap_or_default()),
        )
        .await?
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
    user: Asker,
    client: Client,
    name: &str,
    order: Body<ChoicesOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Vec<ParameterChoices>> {
    let definitions = engine.definitions(store, &user.1).await?;
    let set = &definitions.set;
    let dashboard = set
        .dashboard(name)
        .ok_or_else(|| Problem::not_found(format!("dashboard \"{name}\"")))?;
    let window = Window {
        from: engine.now() - TimeDelta::hours(24),
        to: engine.now(),
        zone: Zone::UTC,
        within: None,
    };
    let times = Times {
        step: Step::fitting(&window, 160),
        comparison: None,
        window,
    };
    let mut values = defaults(&dashboard.parameters);
    values.extend(checked(&dashboard.parameters, &order.into_inner().values)?);
    let among = Among {
        set,
        dashboard: Some(&dashboard),
        times: &times,
        values: &values,
    };
    let mut view = Vec::new();
    for parameter in &dashboard.parameters {
        let choices = choices_of(engine, &among, &dashboard, parameter);
        view.push(client.waits_for(choices).await?);
    }
    Ok(Json(view))
}

/// So many choices are offered at most.
const MOST_CHOICES: usize = 2000;

/// What one parameter can be. That its query failed is said beside what else is known.
async fn choices_of(
    engine: &EngineHandle,
    among: &Among<'_>,
    dashboard: &Dashboard,
    parameter: &Parameter,
) -> ParameterChoices {
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
    let (kind, mut choices) = match &parameter.kind {
        ParameterKind::Text => ("text", Vec::new()),
        ParameterKind::Number => ("number", Vec::new()),
        ParameterKind::List => ("list", Vec::new()),
        ParameterKind::Choice(words) => {
            let choice = |word: &String| Choice {
                value: word.clone(),
                title: word.clone(),
            };
            ("choice", words.iter().map(choice).collect())
        }
    };
    let mut problem = None;
    if let Some(query) = query {
        match engine.ask(among, query).await {
            Ok(answer) => choices.extend(answer.table.rows().take(MOST_CHOICES).map(|row| {
                let text = |place: usize| row.get(place).map(|value| value.exact(Zone::UTC));
                let value = text(0).unwrap_or_default();
                Choice {
                    title: text(1).unwrap_or_else(|| value.clone()),
                    value,
                }
            })),
            Err(error) => problem = Some(error.to_string()),
        }
    }
    ParameterChoices {
        name: parameter.name.clone(),
        title: parameter.title.clone(),
        kind: kind.to_owned(),
        default: parameter.default.as_ref().map(ParameterValue::readable),
        depends_on,
        choices,
        problem,
    }
}

/// All samplers with how much history each has kept.
#[utoipa::path(get, operation_id = "list_samplers", path = "/samplers", tag = "sources", responses((status = 200, body = Vec<SamplerView>)))]
#[get("/samplers")]
async fn samplers(
    user: Viewer,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Vec<SamplerView>> {
    let definitions = engine.definitions(store, &user.1).await?;
    let set = &definitions.set;
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
