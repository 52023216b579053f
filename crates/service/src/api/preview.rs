//! What a dashboard or a report would show, before it is sent or even applied: collected now,
//! composed, and not kept.

use std::time::Duration;

use chrono::{DateTime, Utc};
use maple_lark_api::{BlockPlace, PreviewOrder, ProblemDetails};
use maple_lark_definition::{Audience, Dashboard, Definition, Format, Kind, Report, edit};
use maple_lark_document::{
    compose::compose,
    snapshot::{FrozenDefinition, Snapshot},
};
use maple_lark_render::{Rendered, html_of_blocks};
use maple_lark_sources::Values;
use maple_lark_store::{Store, teams::Sight};
use maple_lark_time::{Window, nearest::suggestion};
use rocket::{Route, State, post, routes};

use super::{
    archive::{format_named, one_file, written},
    body::Body,
    client::Client,
    documents::File,
    layout,
    problem::Problem,
    queries::checked,
    seen,
};
use crate::{
    access::Author,
    engine::{Definitions, EngineHandle},
};

/// Nobody looks at a page that comes later than this.
const PATIENCE: Duration = Duration::from_secs(300);

/// What a definition is called that is not applied.
const FILE: &str = "preview.toml";

pub fn routes() -> Vec<Route> {
    routes![preview]
}

/// Show what a dashboard or a report says of a window now. The sources are asked; nothing is
/// kept or sent. A block that fails says so in its place.
#[utoipa::path(post, operation_id = "preview", path = "/preview", tag = "dashboards", request_body = PreviewOrder, responses((status = 200, description = "the document, in its own media type"), (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/preview", data = "<order>")]
async fn preview(
    user: Author,
    client: Client,
    order: Body<PreviewOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Result<File, Problem> {
    let order = order.into_inner();
    let format = format_named(order.format.as_deref().unwrap_or("html"))?;
    let mut definitions = Definitions::clone(&*engine.definitions(store, &user.1).await?);
    put_beside(&order.beside, &user.1, &mut definitions)?;
    let report = match order.block {
        Some(place) if order.report.is_some() => only_of_report(place, &order, &mut definitions)?,
        Some(place) => {
            let order = with_only(place, &order, &definitions)?;
            report_of(&order, &user.1, &mut definitions)?
        }
        None => report_of(&order, &user.1, &mut definitions)?,
    };
    let asked = ready(&order, report, engine.now(), &definitions)?;
    let looking = engine.preview(&asked.needed, &asked.report, asked.window, asked.values);
    let looked = client
        .waits_for(tokio::time::timeout(PATIENCE, looking))
        .await?;
    let snapshot = looked.map_err(|_| {
        Problem::new(
            504,
            "Took too long",
            "the sources did not answer within five minutes; narrow the window, or run the report",
        )
    })?;
    let whole = order.block.is_none() || format != Format::Html;
    let files = if whole {
        client
            .waits_for(written(engine, move || Ok(snapshot), format))
            .await??
    } else {
        client.waits_for(block_alone(engine, snapshot)).await??
    };
    let mut file = one_file(files, format, "preview", engine.now().timestamp())?;
    file.download = format != Format::Html;
    Ok(file)
}

/// What sources are asked for a page.
pub(super) struct Asked {
    /// As a run would have it: what the report needs, and nothing else.
    pub needed: Definitions,
    pub report: Report,
    pub window: Window,
    pub values: Values,
}

fn ready(
    order: &PreviewOrder,
    report: Report,
    now: DateTime<Utc>,
    definitions: &Definitions,
) -> Result<Asked, Problem> {
    let needed = Definitions::frozen(&definitions.freeze(&report))
        .map_err(|error| Problem::new(422, "Cannot be previewed", error.to_string()))?;
    Ok(Asked {
        values: values_of(order, definitions, &report)?,
        window: report.window.window(order.at.unwrap_or(now), report.zone),
        needed,
        report,
    })
}

/// What is asked for a whole report or dashboard, as somebody sees it.
///
/// # Errors
/// If it is not there, or a value does not fit.
pub(super) fn prepared(
    order: &PreviewOrder,
    sight: &Sight,
    now: DateTime<Utc>,
    definitions: &mut Definitions,
) -> Result<Asked, Problem> {
    let report = report_of(order, sight, definitions)?;
    ready(order, report, now, definitions)
}

/// The same order for a dashboard that has nothing but one of its blocks.
fn with_only(
    place: BlockPlace,
    order: &PreviewOrder,
    definitions: &Definitions,
) -> Result<PreviewOrder, Problem> {
    let refused = |words: String| Problem::new(422, "Cannot be previewed", words);
    let stored;
    let text = match (&order.definition, &order.dashboard) {
        (Some(text), None) => text,
        (None, Some(name)) => {
            stored = definitions
                .text_of(Kind::Dashboard, name)
                .ok_or_else(|| Problem::not_found(format!("dashboard \"{name}\"")))?;
            stored
        }
        _ => {
            return Err(refused(
                "a block by itself is of a dashboard: give dashboard or definition".to_owned(),
            ));
        }
    };
    let text = alone(text, place)?;
    Ok(PreviewOrder {
        definition: Some(text),
        dashboard: None,
        block: None,
        ..order.clone()
    })
}

/// The text of a dashboard with nothing but one of its blocks.
fn alone(text: &str, place: BlockPlace) -> Result<String, Problem> {
    let refused = |words: String| Problem::new(422, "Cannot be previewed", words);
    let keys = edit::keys(text).map_err(|error| refused(error.to_string()))?;
    let alone = keys
        .as_object()
        .and_then(|keys| edit::only_block(keys, place.section, place.block));
    let alone = alone.ok_or_else(|| {
        refused(format!(
            "the dashboard has no block {} in section {}; both are counted from 1",
            place.block, place.section
        ))
    })?;
    edit::rewritten("", &alone).map_err(|error| refused(error.to_string()))
}

/// A report that shows nothing but one block of one of its dashboards, with what it changes about it.
fn only_of_report(
    place: BlockPlace,
    order: &PreviewOrder,
    definitions: &mut Definitions,
) -> Result<Report, Problem> {
    let refused = |words: String| Problem::new(422, "Cannot be previewed", words);
    let (Some(name), Some(dashboard), None) = (&order.report, &order.dashboard, &order.definition)
    else {
        return Err(refused(
            "a block of a report stands in one of its dashboards: give report and dashboard"
                .to_owned(),
        ));
    };
    let report = definitions.set.reports.get(name);
    let report = report.ok_or_else(|| Problem::not_found(format!("report \"{name}\"")))?;
    if !report.dashboards.iter().any(|one| one.value == *dashboard) {
        return Err(refused(format!(
            "the report \"{name}\" does not show the dashboard \"{dashboard}\""
        )));
    }
    let text = |kind: Kind, name: &str| definitions.text_of(kind, name).map(str::to_owned);
    let (Some(own), Some(whole)) = (text(Kind::Report, name), text(Kind::Dashboard, dashboard))
    else {
        return Err(Problem::not_found(format!("dashboard \"{dashboard}\"")));
    };
    let block = definitions
        .set
        .dashboards
        .get(dashboard)
        .and_then(|found| found.sections.get(place.section.checked_sub(1)?))
        .and_then(|section| section.blocks.get(place.block.checked_sub(1)?));
    let title = block.map(layout::title_of).unwrap_or_default();
    let concerns: Vec<bool> = report
        .changes
        .iter()
        .map(|change| layout::concerns(change, dashboard, title))
        .collect();
    let mut keys = edit::keys(&own).map_err(|error| refused(error.to_string()))?;
    keys["report"]["dashboards"] = serde_json::json!([dashboard]);
    // What it changes elsewhere would not be found.
    if let Some(changes) = keys
        .get_mut("change")
        .and_then(serde_json::Value::as_array_mut)
    {
        let mut concerns = concerns.into_iter();
        changes.retain(|_| concerns.next().unwrap_or_default());
    }
    if keys["change"].as_array().is_some_and(Vec::is_empty) {
        keys.as_object_mut().map(|keys| keys.remove("change"));
    }
    let own = keys
        .as_object()
        .ok_or_else(|| refused("it is no report".to_owned()))
        .and_then(|keys| edit::rewritten("", keys).map_err(|error| refused(error.to_string())))?;
    for text in [alone(&whole, place)?, own] {
        let definition = Definition::parse(FILE, &text).map_err(Problem::definitions)?;
        let frozen = FrozenDefinition {
            file: FILE.to_owned(),
            text,
        };
        definitions.put(definition, frozen);
    }
    let report = definitions.set.reports.get(name).cloned();
    report.ok_or_else(|| Problem::not_found(format!("report \"{name}\"")))
}

/// The page of one block.
async fn block_alone(engine: &EngineHandle, snapshot: Snapshot) -> Result<Vec<Rendered>, Problem> {
    let work = move || {
        let document = compose(&snapshot).map_err(|error| error.to_string())?;
        html_of_blocks(&document).map_err(|error| error.to_string())
    };
    let page = engine.compute(work).await?;
    let page = page.map_err(|error| Problem::new(422, "Cannot be previewed", error))?;
    Ok(vec![Rendered {
        format: Format::Html,
        file_name: "block.html".to_owned(),
        media_type: Format::Html.media_type(),
        bytes: page.into_bytes(),
    }])
}

/// Puts definitions that are not applied yet beside those that are; none of those is replaced.
fn put_beside(
    texts: &[String],
    sight: &Sight,
    definitions: &mut Definitions,
) -> Result<(), Problem> {
    for text in texts {
        let definition = Definition::parse("beside.toml", text).map_err(Problem::definitions)?;
        let sampler = match &definition {
            Definition::Sampler(sampler) => &sampler.name,
            other => {
                return Err(Problem::new(
                    422,
                    "Cannot be previewed",
                    format!(
                        "a {} cannot be used along with a preview",
                        other.kind().name()
                    ),
                ));
            }
        };
        is_nameable(&definition, sight, definitions)?;
        if !definitions.set.samplers.contains_key(sampler) {
            let frozen = FrozenDefinition {
                file: "beside.toml".to_owned(),
                text: text.clone(),
            };
            definitions.put(definition, frozen);
        }
    }
    Ok(())
}

/// Refuses what is of a team that they are not in, and a name that something hidden has, or could have. What is
/// shown under a name finds the runs and the history of that name.
fn is_nameable(
    definition: &Definition,
    sight: &Sight,
    definitions: &Definitions,
) -> Result<(), Problem> {
    // Whose it is comes first: whether its name is taken is the team's to know.
    seen::is_own(sight, definition)?;
    let (kind, name) = (definition.kind(), definition.name());
    if let Some(problem) =
        seen::misnamed(sight, definition, definitions.text_of(kind, name).is_some())
    {
        return Err(Problem::definitions(vec![problem]));
    }
    if definitions.hides(kind, name) {
        return Err(seen::taken(kind, name));
    }
    Ok(())
}

/// The report to show; for a dashboard, one that has it alone. What is not applied yet is put
/// into the definitions and checked against what is there.
#[expect(
    clippy::too_many_lines,
    reason = "the parts of an order, one after the other"
)]
fn report_of(
    order: &PreviewOrder,
    sight: &Sight,
    definitions: &mut Definitions,
) -> Result<Report, Problem> {
    let named =
        |name: &String, definitions: &Definitions| definitions.set.reports.get(name).cloned();
    let dashboard = match (&order.report, &order.dashboard, &order.definition) {
        (Some(name), None, None) => {
            return named(name, definitions)
                .ok_or_else(|| Problem::not_found(format!("report \"{name}\"")));
        }
        (None, Some(name), None) => name.clone(),
        (None, None, Some(text)) => {
            let definition = Definition::parse(FILE, text).map_err(Problem::definitions)?;
            is_nameable(&definition, sight, definitions)?;
            let (name, frozen) = (
                definition.name().to_owned(),
                FrozenDefinition {
                    file: FILE.to_owned(),
                    text: text.clone(),
                },
            );
            let is_report = match &definition {
                Definition::Report(_) => true,
                Definition::Dashboard(_) => false,
                other => {
                    return Err(Problem::new(
                        422,
                        "Cannot be previewed",
                        format!("a {} shows nothing by itself", other.kind().name()),
                    ));
                }
            };
            definitions.put(definition, frozen);
            let wrong: Vec<_> = definitions
                .set
                .check_content()
                .into_iter()
                .filter(|problem| problem.file == FILE)
                .collect();
            if !wrong.is_empty() {
                return Err(Problem::definitions(wrong));
            }
            match named(&name, definitions).filter(|_| is_report) {
                Some(report) => return Ok(report),
                None => name,
            }
        }
        _ => {
            return Err(Problem::new(
                422,
                "Nothing to preview",
                "give one of report, dashboard and definition",
            ));
        }
    };
    let dashboard = definitions
        .set
        .dashboard(&dashboard)
        .ok_or_else(|| Problem::not_found(format!("dashboard \"{dashboard}\"")))?
        .into_owned();
    let text = around(&dashboard, order)?;
    let definition = Definition::parse("window", &text).map_err(Problem::definitions)?;
    let Definition::Report(report) = &definition else {
        return Err(Problem::new(422, "Cannot be previewed", "it is no report"));
    };
    let report = (**report).clone();
    if let Some(theme) = report
        .theme
        .as_ref()
        .filter(|theme| !definitions.set.themes.contains_key(&theme.value))
    {
        return Err(Problem::not_found(format!("theme \"{}\"", theme.value)));
    }
    definitions.put(
        definition,
        FrozenDefinition {
            file: "window".to_owned(),
            text,
        },
    );
    Ok(report)
}

/// The text of a report that has one dashboard alone.
fn around(dashboard: &Dashboard, order: &PreviewOrder) -> Result<String, Problem> {
    // A basic string in TOML takes what a string in JSON does.
    let quoted = |text: &str| serde_json::Value::from(text).to_string();
    let mut text = format!(
        "[report]\nname = {0}\ntitle = {1}\ndashboards = [{0}]\n",
        quoted(&dashboard.name),
        quoted(&dashboard.title)
    );
    if let Some(theme) = &order.theme {
        text += &format!("theme = {}\n", quoted(theme));
    }
    let mut window = order
        .window
        .clone()
        .unwrap_or_else(|| serde_json::json!({ "previous": "day" }));
    let compares = dashboard
        .queries
        .iter()
        .filter_map(|query| query.ask())
        .any(|ask| ask.names().iter().any(|name| name.starts_with("compare_")));
    if compares && let Some(keys) = window.as_object_mut() {
        keys.entry("compare")
            .or_insert_with(|| "window-before".into());
    }
    let refused = |error: edit::BadEdit| Problem::new(422, "Not understood", error.to_string());
    edit::rescheduled(
        &text,
        order.time_zone.as_deref().unwrap_or("UTC"),
        None,
        Some(&window),
    )
    .map_err(refused)
}

/// The values to show it with: those given, then those of the audience, the report and the
/// dashboard. Each must be known and fit, and none may be missing.
fn values_of(
    order: &PreviewOrder,
    definitions: &Definitions,
    report: &Report,
) -> Result<Values, Problem> {
    let audience: Option<&Audience> = match &order.audience {
        None => None,
        Some(name) => Some(
            report
                .audiences
                .iter()
                .find(|audience| audience.name == *name)
                .ok_or_else(|| {
                    let names = report
                        .audiences
                        .iter()
                        .map(|audience| audience.name.as_str());
                    Problem::new(
                        404,
                        "Not found",
                        format!(
                            "this report has no audience \"{name}\".{}",
                            suggestion(name, names)
                        ),
                    )
                })?,
        ),
    };
    let parameters = definitions.set.parameters_of(report);
    let mut values = definitions
        .set
        .values(report, audience.map(|audience| &audience.parameters));
    values.extend(checked(&parameters, &order.values)?);
    match parameters
        .iter()
        .find(|parameter| !values.contains_key(&parameter.name))
    {
        Some(missing) => Err(Problem::new(
            422,
            "A value does not fit",
            format!(
                "the parameter \"{}\" ({}) needs a value",
                missing.name, missing.title
            ),
        )),
        None => Ok(values),
    }
}
