//! Definition files: what is stored, and in which versions; what is asked to be changed goes to `changes`.

use maple_lark_api::{
    Applied, CopyOrder, DefinitionFile, DefinitionName, DefinitionVersion, DefinitionVersions,
    Files, Plan, ProblemDetails, SavedFrom,
};
use maple_lark_data::digest::sha256;
use maple_lark_definition::{Definition, Kind, edit};
use maple_lark_store::{
    Store,
    definitions::{StoredDefinition, Version},
    teams::Sight,
};
use rocket::{Route, State, delete, get, post, routes, serde::json::Json};

use super::{
    Answer, Made,
    body::{Body, whole},
    changes::{Order, carry_out, checked, is_free, new_name},
    difference::difference,
    keeping, made,
    problem::Problem,
    seen::{self, Share},
    version::Versioned,
    writer::Writer,
};
use crate::{
    access::Author,
    engine::{Definitions, EngineHandle},
};

pub fn routes() -> Vec<Route> {
    routes![
        list, names, plan, apply, one, copy, remove, versions, version, restore
    ]
}

/// All definitions, as files.
#[utoipa::path(get, operation_id = "list_definitions", path = "/definitions", tag = "definitions", responses((status = 200, body = Vec<DefinitionFile>)))]
#[get("/definitions")]
async fn list(user: Author, store: &State<Store>) -> Answer<Vec<DefinitionFile>> {
    let stored = seen::shares(&user.1, store.definitions().await?).whole;
    Ok(Json(apart(stored.into_iter().map(as_stored).collect())))
}

/// Files of different name spaces can have one path. In a folder they are apart, each in one with the name of its
/// name space.
fn apart(mut files: Vec<DefinitionFile>) -> Vec<DefinitionFile> {
    let mut paths = std::collections::HashSet::new();
    for one in &mut files {
        while !paths.insert(one.file.clone()) {
            let read = Definition::parse(&one.file, &one.text).ok();
            let space = read.and_then(|read| Some(read.name().split_once('.')?.0.to_owned()));
            one.file = format!("{}/{}", space.as_deref().unwrap_or("more"), one.file);
        }
    }
    files
}

/// All definitions by name, without their texts: what others can refer to, and who saved it last.
#[utoipa::path(get, operation_id = "list_definition_names", path = "/definitions/names", tag = "definitions", responses((status = 200, body = Vec<DefinitionName>)))]
#[get("/definitions/names")]
async fn names(user: Author, store: &State<Store>) -> Answer<Vec<DefinitionName>> {
    let mut stored = store.definitions().await?;
    stored.retain(|one| seen::share(&user.1, &one.file, &one.text) != Share::Nothing);
    let named = |one: StoredDefinition| DefinitionName {
        kind: one.kind,
        name: one.name,
        title: one.title,
        file: one.file,
        saved_at: one.updated_at,
        saved_by: one.updated_by,
    };
    Ok(Json(stored.into_iter().map(named).collect()))
}

/// What applying these files would change. Nothing is changed.
#[utoipa::path(post, operation_id = "plan_definitions", path = "/definitions/plan", tag = "definitions", request_body = Files, responses((status = 200, body = Plan), (status = 422, body = ProblemDetails)))]
#[post("/definitions/plan", data = "<files>")]
async fn plan(
    user: Author,
    files: Body<Files>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Plan> {
    Ok(Json(
        planned(files.into_inner(), user, store, engine).await?,
    ))
}

/// What files would change of what a user sees, and what would go at once by the change.
pub async fn planned(
    files: Files,
    user: Author,
    store: &Store,
    engine: &EngineHandle,
) -> Result<Plan, Problem> {
    let shares = seen::shares(&user.1, store.definitions().await?);
    let now = engine.now();
    let before = Definitions::stored(&shares.whole);
    let work = move || checked(&files, shares, ("", &user.1), now);
    let prepared = engine.compute(work).await??;
    let mut changes = prepared.changes;
    let sets = (&before.set, &prepared.set);
    keeping::says_what_goes(store, sets, now, &mut changes).await?;
    Ok(Plan {
        changes,
        unchanged: prepared.unchanged,
    })
}

/// Apply these files: all of them, or none if one is not valid.
#[utoipa::path(post, operation_id = "apply_definitions", path = "/definitions/apply", tag = "definitions", request_body = Files, responses((status = 200, body = Applied), (status = 422, body = ProblemDetails)))]
#[post("/definitions/apply", data = "<files>")]
async fn apply(
    by: Writer,
    files: Body<Files>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Applied> {
    let mut order = Order::new(by.from, |_| Ok((*files).clone()));
    order.verbatim = by.from != SavedFrom::Console;
    Ok(Json(carry_out(store, engine, &by, &order).await?))
}

/// One definition, as its file.
#[utoipa::path(get, operation_id = "get_definition", path = "/definitions/{kind}/{name}", tag = "definitions", params(("kind" = String, Path), ("name" = String, Path)), responses((status = 200, body = DefinitionFile), (status = 404, body = ProblemDetails)))]
#[get("/definitions/<kind>/<name>")]
async fn one(
    user: Author,
    kind: &str,
    name: &str,
    store: &State<Store>,
) -> Result<Versioned<DefinitionFile>, Problem> {
    let stored = stored_definition(kind, name, store, &user.1).await?;
    let text = stored.text.clone();
    Ok(Versioned::new(as_stored(stored), &text))
}

/// Copy a source, dashboard or sampler under another name. Reports have a copy of their own,
/// which begins paused.
#[utoipa::path(post, operation_id = "copy_definition", path = "/definitions/{kind}/{name}/copy", tag = "definitions", params(("kind" = String, Path), ("name" = String, Path)), request_body = CopyOrder, responses((status = 201, body = DefinitionFile), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/definitions/<kind>/<name>/copy", data = "<order>")]
async fn copy(
    by: Writer,
    kind: &str,
    name: &str,
    order: Body<CopyOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Made<DefinitionFile> {
    let original = stored_definition(kind, name, store, &by.sight).await?;
    let known = Kind::from_name(kind).filter(|kind| ![Kind::Report, Kind::Calendar].contains(kind));
    let known = known.ok_or_else(|| {
        Problem::new(422, "Not copied like this", format!("a {kind} is not copied like this; a report has a copy of its own, a calendar is its file"))
    })?;
    let order = named_anew(&original, known, &by.sight, &order);
    let file = copied(&original, known, &order)?;
    let copy = Order::new(by.from, |stored| {
        is_free(stored, known, &order.name)?;
        Ok(Files {
            files: vec![file.clone()],
            message: None,
            remove_others: false,
        })
    });
    carry_out(store, engine, &by, &copy).await?;
    drop(copy);
    let stored = stored_definition(known.name(), &order.name, store, &by.sight).await?;
    Ok(made(as_stored(stored)))
}

/// An order to copy with the name that the copy gets: in the name space of the team that it belongs to.
pub fn named_anew(
    original: &StoredDefinition,
    kind: Kind,
    sight: &Sight,
    order: &CopyOrder,
) -> CopyOrder {
    CopyOrder {
        name: new_name(sight, kind, &teams_of(original), &order.name),
        ..order.clone()
    }
}

/// The teams that a stored definition belongs to.
fn teams_of(stored: &StoredDefinition) -> Vec<String> {
    let read = Definition::parse(&stored.file, &stored.text);
    let teams = read.iter().flat_map(Definition::teams);
    teams.map(|team| team.value.clone()).collect()
}

/// The file of a copy, beside the original's. It belongs to whom the original belongs to, or to the team in
/// whose name space its name is.
pub fn copied(
    original: &StoredDefinition,
    kind: Kind,
    order: &CopyOrder,
) -> Result<DefinitionFile, Problem> {
    let title = order
        .title
        .clone()
        .unwrap_or_else(|| format!("{} (copy)", original.title));
    let team = order.name.split_once('.').map(|(team, _)| team);
    let own = teams_of(original);
    let moved = team.filter(|team| own.iter().all(|other| other != team));
    let text = edit::renamed(&original.text, kind, &order.name, &title)
        .and_then(|text| match moved {
            Some(team) => edit::given_to(&text, kind, team),
            None => Ok(text),
        })
        .map_err(|error| Problem::new(422, "Not understood", error.to_string()))?;
    let folder = original
        .file
        .rsplit_once('/')
        .map(|(folder, _)| format!("{folder}/"))
        .unwrap_or_default();
    Ok(DefinitionFile::new(
        format!("{folder}{}.toml", order.name),
        text,
    ))
}

/// Remove one definition. What was made of it stays, but for the history of a sampler; what
/// still needs it prevents it.
#[utoipa::path(delete, operation_id = "remove_definition", path = "/definitions/{kind}/{name}", tag = "definitions", params(("kind" = String, Path), ("name" = String, Path), ("If-Match" = Option<String>, Header, description = "the ETag of what was read; another version is not changed")), responses((status = 200, body = Applied), (status = 404, body = ProblemDetails), (status = 412, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[delete("/definitions/<kind>/<name>")]
async fn remove(
    by: Writer,
    kind: &str,
    name: &str,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Applied> {
    let removal = Order::new(by.from, |stored| {
        let is_it = |one: &StoredDefinition| (one.kind.as_str(), one.name.as_str()) == (kind, name);
        let old = stored
            .iter()
            .find(|one| is_it(one))
            .ok_or_else(|| Problem::not_found(format!("{kind} \"{name}\"")))?;
        by.if_match.holds(old, None)?;
        let others = stored.iter().filter(|one| !is_it(one));
        Ok(Files {
            files: others
                .map(|one| DefinitionFile::new(one.file.clone(), one.text.clone()))
                .collect(),
            message: None,
            remove_others: true,
        })
    });
    let applied = carry_out(store, engine, &by, &removal).await?;
    if kind == Kind::Sampler.name() {
        store.remove_sampler(name).await?;
    }
    Ok(Json(applied))
}

/// The versions of a definition, the latest first: who saved it when and by what, and what changed.
#[utoipa::path(get, operation_id = "list_versions", path = "/definitions/{kind}/{name}/versions", tag = "definitions", params(("kind" = String, Path), ("name" = String, Path), ("page" = Option<u64>, Query), ("size" = Option<u64>, Query, description = "at most 100; 25 if nothing is said")), responses((status = 200, body = DefinitionVersions), (status = 404, body = ProblemDetails)))]
#[get("/definitions/<kind>/<name>/versions?<page>&<size>")]
#[expect(
    clippy::too_many_arguments,
    reason = "what the address may hold, and two states of the service"
)]
async fn versions(
    user: Author,
    kind: &str,
    name: &str,
    page: Option<&str>,
    size: Option<&str>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<DefinitionVersions> {
    let page = whole("page", page)?.unwrap_or(1).max(1);
    let size = whole("size", size)?.unwrap_or(25).clamp(1, 100);
    let mut found = store.versions(kind, name, page, size).await?;
    found.retain(|version| sees(&user.1, version));
    if found.is_empty() && page == 1 {
        return Err(Problem::not_found(format!("{kind} \"{name}\"")));
    }
    let work = move || found.iter().map(version_view).collect();
    Ok(Json(DefinitionVersions {
        items: engine.compute(work).await?,
        page,
        size,
    }))
}

/// One version of a definition as it was, to be looked at or saved as a file.
#[utoipa::path(get, operation_id = "get_version", path = "/definitions/{kind}/{name}/versions/{version}", tag = "definitions", params(("kind" = String, Path), ("name" = String, Path), ("version" = i32, Path)), responses((status = 200, body = DefinitionVersion), (status = 404, body = ProblemDetails)))]
#[get("/definitions/<kind>/<name>/versions/<version>")]
async fn version(
    user: Author,
    kind: &str,
    name: &str,
    version: i32,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<DefinitionVersion> {
    let found = stored_version(store, &user.1, kind, name, version).await?;
    let work = move || DefinitionVersion {
        text: found.text.clone(),
        ..version_view(&found)
    };
    Ok(Json(engine.compute(work).await?))
}

/// Make a definition what it was in a version. That is a new version, and nothing is lost.
#[utoipa::path(post, operation_id = "restore_version", path = "/definitions/{kind}/{name}/versions/{version}/restore", tag = "definitions", params(("kind" = String, Path), ("name" = String, Path), ("version" = i32, Path), ("If-Match" = Option<String>, Header, description = "the ETag of what was read; another version is not changed")), responses((status = 200, body = Applied), (status = 404, body = ProblemDetails), (status = 412, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/definitions/<kind>/<name>/versions/<version>/restore")]
async fn restore(
    by: Writer,
    kind: &str,
    name: &str,
    version: i32,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Applied> {
    let found = stored_version(store, &by.sight, kind, name, version).await?;
    let text = found.text.ok_or_else(|| {
        let words = format!(
            "version {version} removed the {kind} \"{name}\", so it has no text; choose an earlier version"
        );
        Problem::new(422, "Nothing to restore", words)
    })?;
    let order = Order::new(by.from, |stored| {
        let is_it = |one: &&StoredDefinition| one.kind == kind && one.name == name;
        if let Some(now) = stored.iter().find(is_it) {
            by.if_match.holds(now, Some(&text))?;
        }
        Ok(Files {
            files: vec![DefinitionFile::new(found.file.clone(), text.clone())],
            message: Some(format!("restored from version {version}")),
            remove_others: false,
        })
    });
    Ok(Json(carry_out(store, engine, &by, &order).await?))
}

/// Whether somebody sees a version: what it is, and what it was before.
fn sees(sight: &Sight, version: &Version) -> bool {
    let mut texts = [&version.text, &version.before].into_iter().flatten();
    texts.all(|text| seen::share(sight, &version.file, text) == Share::All)
}

async fn stored_version(
    store: &Store,
    sight: &Sight,
    kind: &str,
    name: &str,
    version: i32,
) -> Result<Version, Problem> {
    let nothing = || Problem::not_found(format!("version {version} of the {kind} \"{name}\""));
    store
        .version(kind, name, version)
        .await?
        .filter(|found| sees(sight, found))
        .ok_or_else(nothing)
}

fn version_view(version: &Version) -> DefinitionVersion {
    let text = |text: &Option<String>| text.clone().unwrap_or_default();
    DefinitionVersion {
        version: version.version,
        file: version.file.clone(),
        saved_at: version.saved_at,
        saved_by: version.saved_by.clone(),
        saved_from: *version.saved_from,
        message: version.message.clone(),
        removed: version.text.is_none(),
        diff: difference(&text(&version.before), &text(&version.text)),
        text: None,
    }
}

pub async fn stored_definition(
    kind: &str,
    name: &str,
    store: &Store,
    sight: &Sight,
) -> Result<StoredDefinition, Problem> {
    let nothing = || Problem::not_found(format!("{kind} \"{name}\""));
    let found = store.definition(kind, name).await?.ok_or_else(nothing)?;
    match seen::share(sight, &found.file, &found.text) {
        Share::All => Ok(found),
        Share::Nothing => Err(nothing()),
        Share::Name => Err(Problem::new(
            403,
            "Not permitted",
            format!(
                "the {kind} \"{name}\" is shared with you for use; an administrator sees and changes its settings"
            ),
        )),
    }
}

/// A definition as it is stored, with what an order can be based on.
pub fn as_stored(stored: StoredDefinition) -> DefinitionFile {
    DefinitionFile {
        based_on: Some(sha256(stored.text.as_bytes())),
        file: stored.file,
        text: stored.text,
    }
}
