//! Ready-made dashboards: which there are, what they make of a source and a few values, and
//! whether dashboards that were made of them are up to date.

use std::{collections::BTreeMap, sync::LazyLock};

use maple_lark_api::{
    DefinitionFile, Files, FilledTemplate, NewTemplate, ProblemDetails, TemplateBlock,
    TemplateInput, TemplateOrder, TemplateReport, TemplateUpdate, TemplateView,
};
use maple_lark_definition::{
    DashboardTemplate, Definition, DefinitionSet, InputKind, Kind,
    fill::{self, CannotFill, Filling, NewReport},
};
use maple_lark_store::{Store, definitions::StoredDefinition, teams::Sight};
use maple_lark_time::nearest::suggestion;
use rocket::{Route, State, get, post, routes, serde::json::Json};
use rust_embed::RustEmbed;

use super::{
    Answer, Made,
    body::Body,
    changes::{Order, carry_out, is_free, new_name},
    definitions::stored_definition,
    difference::difference,
    made,
    problem::Problem,
    seen,
    writer::Writer,
};
use crate::{
    access::{Author, Viewer},
    engine::EngineHandle,
};

/// The templates that come with the program.
#[derive(RustEmbed)]
#[folder = "../../templates"]
struct Embedded;

static SHIPPED: LazyLock<BTreeMap<String, DashboardTemplate>> = LazyLock::new(|| {
    let read = |name: std::borrow::Cow<'static, str>| {
        let file = Embedded::get(&name)?;
        let text = std::str::from_utf8(&file.data).ok()?;
        // A test reads every one of them.
        match Definition::parse(&name, text) {
            Ok(Definition::Template(template)) => Some((template.name.clone(), *template)),
            _ => None,
        }
    };
    Embedded::iter().filter_map(read).collect()
});

pub fn routes() -> Vec<Route> {
    routes![list, one, show_filled, make, updates, share]
}

/// The templates of this place and those of the program; a name that both have is this place's.
fn all(set: &DefinitionSet) -> BTreeMap<&str, (&DashboardTemplate, bool)> {
    let shipped = SHIPPED
        .iter()
        .map(|(name, template)| (name.as_str(), (template, false)));
    let own = set
        .templates
        .iter()
        .map(|(name, template)| (name.as_str(), (template, true)));
    shipped.chain(own).collect()
}

fn named<'s>(set: &'s DefinitionSet, name: &str) -> Result<(&'s DashboardTemplate, bool), Problem> {
    let all = all(set);
    all.get(name).copied().ok_or_else(|| {
        let near = suggestion(name, all.keys().copied());
        Problem::new(
            404,
            "Not found",
            format!("there is no template \"{name}\".{near}"),
        )
    })
}

/// All templates, by purpose and title.
#[utoipa::path(get, operation_id = "list_templates", path = "/templates", tag = "templates", responses((status = 200, body = Vec<TemplateView>)))]
#[get("/templates")]
async fn list(
    user: Viewer,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Vec<TemplateView>> {
    let definitions = engine.definitions(store, &user.1).await?;
    let set = &definitions.set;
    let mut found: Vec<(&DashboardTemplate, bool)> = all(set).into_values().collect();
    found.sort_by_key(|(template, _)| (template.purpose, template.title.clone()));
    Ok(Json(
        found
            .into_iter()
            .map(|(template, own)| view(template, own, set))
            .collect(),
    ))
}

/// One template.
#[utoipa::path(get, operation_id = "get_template", path = "/templates/{name}", tag = "templates", params(("name" = String, Path)), responses((status = 200, body = TemplateView), (status = 404, body = ProblemDetails)))]
#[get("/templates/<name>")]
async fn one(
    user: Viewer,
    name: &str,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<TemplateView> {
    let definitions = engine.definitions(store, &user.1).await?;
    let (template, own) = named(&definitions.set, name)?;
    Ok(Json(view(template, own, &definitions.set)))
}

/// What a template makes of a source and values: the definitions, which are not kept.
#[utoipa::path(post, operation_id = "fill_template", path = "/templates/{name}/fill", tag = "templates", params(("name" = String, Path)), request_body = TemplateOrder, responses((status = 200, body = FilledTemplate), (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/templates/<name>/fill", data = "<order>")]
async fn show_filled(
    user: Author,
    name: &str,
    order: Body<TemplateOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<FilledTemplate> {
    let definitions = engine.definitions(store, &user.1).await?;
    // Only what they see makes a name taken.
    let stored = seen::shares(&user.1, store.definitions().await?).whole;
    let (template, _) = named(&definitions.set, name)?;
    let made = filled(template, &order, &user.1, &definitions.set, &stored)?;
    Ok(Json(made))
}

/// Make a dashboard of a template, with the samplers that it reads and, if wanted, a report that
/// shows it: all of it or nothing.
#[utoipa::path(post, operation_id = "use_template", path = "/templates/{name}/use", tag = "templates", params(("name" = String, Path)), request_body = TemplateOrder, responses((status = 201, body = FilledTemplate), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/templates/<name>/use", data = "<order>")]
async fn make(
    by: Writer,
    name: &str,
    order: Body<TemplateOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Made<FilledTemplate> {
    let definitions = engine.definitions(store, &by.sight).await?;
    let (template, _) = named(&definitions.set, name)?;
    let set = &definitions.set;
    let change = Order::new(by.from, |stored| {
        let made = filled(template, &order, &by.sight, set, stored)?;
        is_free(stored, Kind::Dashboard, &made.dashboard)?;
        if let Some(report) = &made.report {
            is_free(stored, Kind::Report, report)?;
        }
        Ok(Files {
            files: made.files,
            message: Some(format!(
                "made of the template {} {}",
                template.name, template.version
            )),
            remove_others: false,
        })
    });
    let applied = carry_out(store, engine, &by, &change).await?;
    drop(change);
    // As it was made, whatever name was free.
    let of = |kind: Kind| {
        applied
            .changes
            .iter()
            .find(move |change| change.kind == kind)
    };
    let report = of(Kind::Report);
    let mut files = Vec::new();
    for change in &applied.changes {
        let stored = stored_definition(change.kind.name(), &change.name, store, &by.sight).await?;
        files.push(DefinitionFile::new(stored.file, stored.text));
    }
    Ok(made(FilledTemplate {
        dashboard: of(Kind::Dashboard).map_or_else(String::new, |change| change.name.clone()),
        report: report.map(|change| change.name.clone()),
        schedule: report.and_then(|change| change.schedule.clone()),
        files,
    }))
}

/// Make a template of a dashboard, for everybody here.
#[utoipa::path(post, operation_id = "make_template", path = "/dashboards/{name}/template", tag = "templates", params(("name" = String, Path)), request_body = NewTemplate, responses((status = 201, body = DefinitionFile), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/dashboards/<name>/template", data = "<order>")]
async fn share(
    by: Writer,
    name: &str,
    order: Body<NewTemplate>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Made<DefinitionFile> {
    let definitions = engine.definitions(store, &by.sight).await?;
    let set = &definitions.set;
    let stored = stored_definition(Kind::Dashboard.name(), name, store, &by.sight).await?;
    let refused = |words: String| Problem::new(422, "Cannot be a template", words);
    let queries = set.dashboards.get(name).map(|dashboard| &dashboard.queries);
    let sources: std::collections::BTreeSet<&str> = queries
        .into_iter()
        .flatten()
        .filter_map(|query| query.source())
        .map(|source| source.value.as_str())
        .collect();
    let mut kinds = sources.iter().filter_map(|source| set.sources.get(*source));
    let (Some(source), None) = (kinds.next(), kinds.next()) else {
        return Err(refused(format!(
            "a template reads one source; this dashboard asks {}",
            if sources.is_empty() {
                "none".to_owned()
            } else {
                sources.into_iter().collect::<Vec<_>>().join(" and ")
            }
        )));
    };
    let new = new_name(&by.sight, Kind::Template, &[], &order.name);
    let text = fill::NewTemplate {
        name: &new,
        title: &order.title,
        question: &order.question,
        purpose: &order.purpose,
        source_kind: source.kind.name(),
        inputs: &order.inputs,
    }
    .of(&stored.text)
    .map_err(|error| refused(error.to_string()))?;
    let file = DefinitionFile::new(format!("templates/{new}.toml"), text);
    let change = Order::new(by.from, |stored| {
        is_free(stored, Kind::Template, &new)?;
        Ok(Files {
            files: vec![file.clone()],
            message: Some(format!("made of the dashboard {name}")),
            remove_others: false,
        })
    });
    carry_out(store, engine, &by, &change).await?;
    drop(change);
    let stored = stored_definition(Kind::Template.name(), &new, store, &by.sight).await?;
    Ok(made(DefinitionFile::new(stored.file, stored.text)))
}

/// The dashboards whose templates have newer versions, with what would change.
#[utoipa::path(get, operation_id = "list_template_updates", path = "/template-updates", tag = "templates", responses((status = 200, body = Vec<TemplateUpdate>)))]
#[get("/template-updates")]
async fn updates(
    user: Author,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Vec<TemplateUpdate>> {
    let definitions = engine.definitions(store, &user.1).await?;
    let stored = store.definitions().await?;
    let work = move || {
        let set = &definitions.set;
        let templates = all(set);
        let dashboards = stored
            .iter()
            .filter(|one| one.kind == Kind::Dashboard.name());
        dashboards
            .filter_map(|one| {
                let from = set.dashboards.get(&one.name)?.made_from.as_ref()?;
                let (template, _) = templates.get(from.template.as_str())?;
                if template.version <= from.version {
                    return None;
                }
                let filling = Filling {
                    name: &one.name,
                    title: Some(&one.title),
                    source: &from.source,
                    values: &from.values,
                };
                let now = template.fill(&filling).ok()?.dashboard.text;
                Some(TemplateUpdate {
                    dashboard: one.name.clone(),
                    title: one.title.clone(),
                    template: template.name.clone(),
                    version: from.version,
                    latest: template.version,
                    diff: difference(&one.text, &now),
                    file: DefinitionFile::new(one.file.clone(), now),
                })
            })
            .collect()
    };
    Ok(Json(engine.compute(work).await?))
}

fn view(template: &DashboardTemplate, own: bool, set: &DefinitionSet) -> TemplateView {
    let made_of_it = set.dashboards.values().filter(|dashboard| {
        let from = dashboard.made_from.as_ref();
        from.is_some_and(|from| from.template == template.name)
    });
    TemplateView {
        name: template.name.clone(),
        title: template.title.clone(),
        question: template.question.clone(),
        purpose: template.purpose.name().to_owned(),
        purpose_title: template.purpose.title().to_owned(),
        version: template.version,
        source_kind: template.source_kind.to_owned(),
        needs: template.needs.clone(),
        instructions: template.instructions.clone(),
        inputs: template.inputs.iter().map(input_view).collect(),
        blocks: template
            .sketch
            .iter()
            .map(|block| TemplateBlock {
                show: block.show.to_owned(),
                title: block.title.clone(),
                twelfths: block.twelfths,
            })
            .collect(),
        samplers: template.samplers,
        own,
        used_by: made_of_it.map(|dashboard| dashboard.name.clone()).collect(),
    }
}

fn input_view(input: &maple_lark_definition::Input) -> TemplateInput {
    TemplateInput {
        name: input.name.clone(),
        title: input.title.clone(),
        kind: input.kind.name().to_owned(),
        of: match &input.kind {
            InputKind::Column(of) | InputKind::Label(of) => Some(of.clone()),
            _ => None,
        },
        choices: match &input.kind {
            InputKind::Choice(choices) => choices.clone(),
            _ => Vec::new(),
        },
        default: input.default.clone(),
        example: input.example.clone(),
        note: input.note.clone(),
    }
}

fn filled(
    template: &DashboardTemplate,
    order: &TemplateOrder,
    sight: &Sight,
    set: &DefinitionSet,
    stored: &[StoredDefinition],
) -> Result<FilledTemplate, Problem> {
    let refused = |words: String| Problem::new(422, "Cannot be made", words);
    let source = set.sources.get(&order.source).ok_or_else(|| {
        let near = suggestion(&order.source, set.sources.keys().map(String::as_str));
        refused(format!("there is no source \"{}\".{near}", order.source))
    })?;
    if source.kind.name() != template.source_kind {
        return Err(refused(format!(
            "this template reads a source of kind \"{}\"; \"{}\" is of kind \"{}\"",
            template.source_kind,
            source.name,
            source.kind.name()
        )));
    }
    let own = |name: &str| new_name(sight, Kind::Dashboard, &[], name);
    let usual = template.name.rsplit('.').next().unwrap_or_default();
    let named = order.name.as_deref().map(own);
    let name = named.unwrap_or_else(|| free_name(&own(usual), stored));
    let made = template
        .fill(&Filling {
            name: &name,
            title: order.title.as_deref(),
            source: &order.source,
            values: &order.values,
        })
        .map_err(|error: CannotFill| refused(error.to_string()))?;
    let file = |folder: &str, name: &str, text: String| {
        DefinitionFile::new(format!("{folder}/{name}.toml"), text)
    };
    let samplers = made.samplers.into_iter();
    let mut files: Vec<DefinitionFile> = samplers
        .map(|sampler| file("samplers", &sampler.name, sampler.text))
        .collect();
    let title = match Definition::parse("dashboard", &made.dashboard.text) {
        Ok(dashboard) => dashboard.title().to_owned(),
        Err(problems) => return Err(Problem::definitions(problems)),
    };
    files.push(file("dashboards", &name, made.dashboard.text));
    let (report, schedule) = match &order.report {
        None => (None, None),
        Some(wanted) => {
            let (text, schedule) = report(wanted, &name, &title)?;
            files.push(file("reports", &name, text));
            (Some(name.clone()), schedule)
        }
    };
    Ok(FilledTemplate {
        dashboard: name,
        report,
        schedule,
        files,
    })
}

/// The text of the report that shows a new dashboard, and its schedule in words.
fn report(
    wanted: &TemplateReport,
    name: &str,
    title: &str,
) -> Result<(String, Option<String>), Problem> {
    let usual_window = serde_json::json!({ "previous": "day" });
    let usual_formats = ["pdf".to_owned()];
    let text = NewReport {
        name,
        title: wanted.title.as_deref().unwrap_or(title),
        owner: None,
        time_zone: wanted.time_zone.as_deref().unwrap_or("UTC"),
        dashboards: &[name.to_owned()],
        formats: if wanted.formats.is_empty() {
            &usual_formats
        } else {
            &wanted.formats
        },
        window: wanted.window.as_ref().unwrap_or(&usual_window),
        schedule: wanted.schedule.as_ref(),
        to: &wanted.to,
    }
    .text()
    .map_err(|error| Problem::new(422, "Cannot be made", error.to_string()))?;
    let file = format!("reports/{name}.toml");
    match Definition::parse(&file, &text).map_err(Problem::definitions)? {
        Definition::Report(report) => {
            let schedule = report
                .schedule
                .as_ref()
                .map(|schedule| format!("{}, {}", schedule.sentence(), report.zone));
            Ok((text, schedule))
        }
        _ => Err(Problem::new(422, "Cannot be made", "it is no report")),
    }
}

/// A name that no dashboard and no report has: `disks`, `disks-2` and so on.
fn free_name(wanted: &str, stored: &[StoredDefinition]) -> String {
    let taken = |name: &str| {
        stored.iter().any(|one| {
            one.name == name
                && [Kind::Dashboard.name(), Kind::Report.name()].contains(&one.kind.as_str())
        })
    };
    if !taken(wanted) {
        return wanted.to_owned();
    }
    let numbered = (2..).map(|number| format!("{wanted}-{number}"));
    numbered
        .take(stored.len() + 1)
        .find(|name| !taken(name))
        .unwrap_or_else(|| wanted.to_owned())
}
