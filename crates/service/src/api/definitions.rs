//! Definition files: what is stored, what a change would do, and the change itself.

use std::collections::{HashMap, HashSet, hash_map::Entry};

use chrono::{DateTime, Utc};
use maple_lark_api::{
    Applied, Change, ChangeAction, CopyOrder, DefinitionFile, DefinitionName, DefinitionVersion,
    DefinitionVersions, Files, Plan, ProblemDetails, SavedFrom,
};
use maple_lark_data::digest::sha256;
use maple_lark_definition::{Definition, DefinitionSet, Kind, Problem as FileProblem, edit};
use maple_lark_store::{
    Store, StoreError,
    definitions::{Change as StoredChange, Rule, Saved, StoredDefinition, Version},
    teams::Sight,
};
use rocket::{Route, State, delete, get, post, routes, serde::json::Json};

use super::{
    Answer,
    body::{Body, whole},
    difference::{changed_meanwhile, difference},
    problem::Problem,
    seen::{self, Share, Shares},
    teams,
    version::Versioned,
    writer::Writer,
};
use crate::{
    access::{Author, Subject, may_change},
    engine::{Definitions, EngineHandle, parse_all},
};

pub fn routes() -> Vec<Route> {
    routes![
        list, names, plan, apply, one, copy, remove, versions, version, restore
    ]
}

/// So many changes of one order are named in the audit trail; the versions have all of them.
const MOST_NOTED: usize = 30;
/// How many of the next instants a change shows.
const NEXT: usize = 3;

/// A checked change: what it does, and the set that it leads to.
struct Prepared {
    changes: Vec<Change>,
    unchanged: usize,
    put: Vec<StoredDefinition>,
    remove: Vec<(String, String)>,
    set: DefinitionSet,
}

/// All definitions, as files.
#[utoipa::path(get, operation_id = "list_definitions", path = "/definitions", tag = "definitions", responses((status = 200, body = Vec<DefinitionFile>)))]
#[get("/definitions")]
async fn list(user: Author, store: &State<Store>) -> Answer<Vec<DefinitionFile>> {
    let stored = seen::shares(&user.1, store.definitions().await?).whole;
    Ok(Json(stored.into_iter().map(as_stored).collect()))
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
    let shares = seen::shares(&user.1, store.definitions().await?);
    let now = engine.now();
    let files = files.into_inner();
    let work = move || checked(&files, shares, "", now);
    let prepared = engine.compute(work).await??;
    Ok(Json(Plan {
        changes: prepared.changes,
        unchanged: prepared.unchanged,
    }))
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
    let order = Order {
        verbatim: by.from != SavedFrom::Console,
        ..Order::new(by.from, |_| Ok((*files).clone()))
    };
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
#[utoipa::path(post, operation_id = "copy_definition", path = "/definitions/{kind}/{name}/copy", tag = "definitions", params(("kind" = String, Path), ("name" = String, Path)), request_body = CopyOrder, responses((status = 200, body = DefinitionFile), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/definitions/<kind>/<name>/copy", data = "<order>")]
async fn copy(
    by: Writer,
    kind: &str,
    name: &str,
    order: Body<CopyOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<DefinitionFile> {
    let original = stored_definition(kind, name, store, &by.sight).await?;
    let known = Kind::from_name(kind).filter(|kind| ![Kind::Report, Kind::Calendar].contains(kind));
    let known = known.ok_or_else(|| {
        Problem::new(422, "Not copied like this", format!("a {kind} is not copied like this; a report has a copy of its own, a calendar is its file"))
    })?;
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
    let made = stored_definition(known.name(), &order.name, store, &by.sight).await?;
    Ok(Json(as_stored(made)))
}

/// Refuses a name that something of the kind has.
pub fn is_free(stored: &[StoredDefinition], kind: Kind, name: &str) -> Result<(), Problem> {
    let taken = stored
        .iter()
        .any(|one| one.kind == kind.name() && one.name == name);
    if !taken {
        return Ok(());
    }
    Err(Problem::new(
        409,
        "Name taken",
        format!(
            "there is a {} \"{name}\" already; choose another name",
            kind.name()
        ),
    ))
}

/// The file of a copy, beside the original's.
pub fn copied(
    original: &StoredDefinition,
    kind: Kind,
    order: &CopyOrder,
) -> Result<DefinitionFile, Problem> {
    let title = order
        .title
        .clone()
        .unwrap_or_else(|| format!("{} (copy)", original.title));
    let text = edit::renamed(&original.text, kind, &order.name, &title)
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

type MakeFiles<'a> = dyn Fn(&[StoredDefinition]) -> Result<Files, Problem> + Send + Sync + 'a;

/// What is to be changed: files, made of the definitions that are stored at the moment.
pub struct Order<'a> {
    files: Box<MakeFiles<'a>>,
    from: SavedFrom,
    /// Reports that begin paused, so that nobody gets two mails unasked.
    pub paused: Vec<String>,
    /// Whether the texts stay as they are given: files of a folder are what they are. What else is made
    /// by somebody who is in one team belongs to it, unless it says otherwise.
    verbatim: bool,
}

impl<'a> Order<'a> {
    pub fn new(
        from: SavedFrom,
        files: impl Fn(&[StoredDefinition]) -> Result<Files, Problem> + Send + Sync + 'a,
    ) -> Self {
        Self {
            files: Box::new(files),
            from,
            paused: Vec::new(),
            verbatim: false,
        }
    }
}

/// As often an order is checked anew because others changed the definitions meanwhile.
const MOST_TRIES: usize = 50;

/// Checks an order against the definitions and makes it so, all of it or nothing. What was
/// checked is what it is written over: where others were faster it is checked anew.
pub async fn carry_out(
    store: &Store,
    engine: &EngineHandle,
    by: &Writer,
    order: &Order<'_>,
) -> Result<Applied, Problem> {
    for _ in 0..MOST_TRIES {
        let version = store.definitions_version().await?;
        let shares = seen::shares(&by.sight, store.definitions().await?);
        let mut files = (order.files)(&shares.whole)?;
        if !order.verbatim {
            given_to_team(&mut files, &shares.whole, &by.sight);
        }
        match change_once(store, engine, by, order, (files, version, shares)).await {
            Err(Refused::Meanwhile) => {}
            Err(Refused::Problem(problem)) => return Err(problem),
            Ok(applied) => return Ok(applied),
        }
    }
    Err(Problem::new(
        409,
        "Changed meanwhile",
        "others keep changing the definitions; nothing of this was done, try it again",
    ))
}

/// Gives new definitions that name no team to the one that whoever makes them is in.
fn given_to_team(files: &mut Files, stored: &[StoredDefinition], sight: &Sight) {
    let Sight::Teams(teams) = sight else { return };
    let [team] = &teams[..] else { return };
    for file in &mut files.files {
        let Ok(definition) = Definition::parse(&file.file, &file.text) else {
            continue;
        };
        let kind = definition.kind();
        let is_new = is_free(stored, kind, definition.name()).is_ok();
        let is_shared = matches!(kind, Kind::Source | Kind::Channel | Kind::Calendar);
        if !is_new || is_shared || !definition.teams().is_empty() {
            continue;
        }
        let keys = serde_json::json!({ kind.name(): { "team": team } });
        let keys = keys.as_object().cloned().unwrap_or_default();
        if let Ok(text) = edit::patched(&file.text, &keys) {
            file.text = text;
        }
    }
}

/// Why a change was not made.
enum Refused {
    /// The definitions are not those any more that it was checked against.
    Meanwhile,
    Problem(Problem),
}

impl From<StoreError> for Refused {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::DefinitionsChanged => Self::Meanwhile,
            error => Self::Problem(error.into()),
        }
    }
}

/// The schedule of each report, and when it is due first.
fn rules(set: &DefinitionSet, now: DateTime<Utc>) -> Vec<Rule> {
    let scheduled = set.reports.values().filter_map(|report| {
        let plan = set.plan(report)?;
        let rule = format!("{} in {}", plan.schedule.sentence(), report.zone);
        // What a calendar says may have changed under the same name.
        let named = plan
            .schedule
            .calendars
            .iter()
            .filter_map(|name| set.calendars.get(name));
        let rule = named.fold(rule, |rule, calendar| {
            format!("{rule}; {}", calendar.sha256)
        });
        Some(Rule {
            report: report.name.clone(),
            rule,
            first: plan.next_after(now),
            most_runs: plan.schedule.most_runs,
        })
    });
    scheduled.collect()
}

/// Refuses a change that is not all theirs.
fn may_all(
    by: &Writer,
    engine: &EngineHandle,
    before: &DefinitionSet,
    prepared: &Prepared,
) -> Result<(), Problem> {
    for change in &prepared.changes {
        let teams = |set: &DefinitionSet| {
            let teams = set.teams_of(change.kind, &change.name)?.iter();
            Some(teams.map(|team| team.value.clone()).collect::<Vec<_>>())
        };
        let subject = Subject {
            kind: change.kind,
            name: &change.name,
            before: teams(before),
            after: teams(&prepared.set).filter(|_| change.action != ChangeAction::Remove),
        };
        may_change(&by.user, &by.sight, engine.config(), &subject)
            .map_err(|refusal| refusal.problem())?;
    }
    Ok(())
}

async fn change_once(
    store: &Store,
    engine: &EngineHandle,
    by: &Writer,
    order: &Order<'_>,
    (files, version, shares): (Files, i64, Shares),
) -> Result<Applied, Refused> {
    let (now, user) = (engine.now(), &by.user);
    let (message, name) = (files.message.clone(), user.name.clone());
    let before = Definitions::stored(&shares.whole);
    let work = move || {
        is_based_on(&files, &shares.whole)?;
        checked(&files, shares, &name, now)
    };
    let prepared = engine.compute(work).await.map_err(Problem::from);
    let prepared = prepared.and_then(|done| done).map_err(Refused::Problem)?;
    may_all(by, engine, &before.set, &prepared).map_err(Refused::Problem)?;
    teams::check(store, &by.sight, &prepared.changes, &prepared.set)
        .await
        .map_err(Refused::Problem)?;
    let change = StoredChange {
        based_on: version,
        paused: order.paused.clone(),
        schedules: rules(&prepared.set, now),
        put: prepared.put,
        remove: prepared.remove,
        saved: Saved {
            at: now,
            by: user.name.clone(),
            from: order.from,
            message,
        },
    };
    store.change_definitions(change).await?;
    for change in prepared.changes.iter().take(MOST_NOTED) {
        let (action, kind) = (change.action, change.kind.name());
        by.trail.note(format!("{action} {kind} {}", change.name));
    }
    engine.wake();
    tracing::info!(
        user = user.name,
        changes = prepared.changes.len(),
        "definitions were applied"
    );
    Ok(Applied {
        changes: prepared.changes,
        unchanged: prepared.unchanged,
    })
}

/// A change that goes together with the definitions that whoever makes it sees, and with the others,
/// of which nothing is told.
fn checked(
    files: &Files,
    shares: Shares,
    user: &str,
    now: DateTime<Utc>,
) -> Result<Prepared, Problem> {
    let (stored, mut others) = (shares.whole, shares.by_name);
    let prepared = prepare(files, &stored, &others, user, now).map_err(Problem::definitions)?;
    if shares.hidden.is_empty() {
        return Ok(prepared);
    }
    others.extend(shares.hidden);
    prepare(files, &stored, &others, user, now).map_err(|_| {
        Problem::new(
            409,
            "Does not go together",
            "this does not go together with definitions that you do not see: a name or a file is taken, or something still needs what you change. Choose another name, or ask an administrator",
        )
    })
}

#[expect(
    clippy::too_many_lines,
    reason = "what a change would do, kind by kind, before anything is done"
)]
fn prepare(
    files: &Files,
    stored: &[StoredDefinition],
    others: &[StoredDefinition],
    user: &str,
    now: DateTime<Utc>,
) -> Result<Prepared, Vec<FileProblem>> {
    check_names(files, stored)?;
    let parsed = parse_all(
        files
            .files
            .iter()
            .map(|file| (file.file.as_str(), file.text.as_str())),
    )?;
    doubles(&parsed)?;
    let mut prepared = Prepared {
        changes: Vec::new(),
        unchanged: 0,
        put: Vec::new(),
        remove: Vec::new(),
        set: DefinitionSet::default(),
    };
    let given: HashSet<(&str, &str)> = parsed
        .iter()
        .map(|definition| (definition.kind().name(), definition.name()))
        .collect();
    let before: HashMap<(&str, &str), &StoredDefinition> = stored
        .iter()
        .map(|one| ((one.kind.as_str(), one.name.as_str()), one))
        .collect();
    let mut places = Places::default();
    for one in others {
        places.taken(&one.file, &one.kind, &one.name);
        if given.contains(&(one.kind.as_str(), one.name.as_str())) {
            let problem = FileProblem::of_a_file(&one.file, "the name is taken");
            places.problems.push(problem);
        }
        if let Ok(definition) = Definition::parse(&one.file, &one.text) {
            prepared.set.put(definition);
        }
    }
    for one in stored {
        let kept = given.contains(&(one.kind.as_str(), one.name.as_str()));
        if !kept && !files.remove_others {
            places.taken(&one.file, &one.kind, &one.name);
        }
        if kept || !files.remove_others {
            // What is stored was checked when it came in; if it cannot be read any more it
            // is left as it is.
            if let Ok(definition) = Definition::parse(&one.file, &one.text) {
                prepared.set.put(definition);
            }
        } else {
            prepared.remove.push((one.kind.clone(), one.name.clone()));
            // A kind that this version does not know any more goes without a word.
            prepared
                .changes
                .extend(Kind::from_name(&one.kind).map(|kind| {
                    change(
                        ChangeAction::Remove,
                        kind,
                        &one.name,
                        &one.file,
                        &one.text,
                        "",
                    )
                }));
        }
    }
    drop(given);
    for (definition, file) in parsed.into_iter().zip(&files.files) {
        let (kind, name) = (definition.kind(), definition.name().to_owned());
        let before = before.get(&(kind.name(), name.as_str())).copied();
        places.taken(&file.file, kind.name(), &name);
        if before.is_some() && file.based_on.as_deref() == Some("") {
            let words = format!(
                "there is a {} \"{name}\" already; choose another name",
                kind.name()
            );
            places.problems.push(definition.place().problem(words));
        }
        if before.is_some_and(|before| before.text == file.text && before.file == file.file) {
            prepared.unchanged += 1;
        } else {
            let action = if before.is_some() {
                ChangeAction::Alter
            } else {
                ChangeAction::Add
            };
            prepared.changes.push(change(
                action,
                kind,
                &name,
                &file.file,
                before.map_or("", |before| &before.text),
                &file.text,
            ));
            prepared.put.push(StoredDefinition {
                kind: kind.name().to_owned(),
                name,
                title: definition.title().to_owned(),
                file: file.file.clone(),
                text: file.text.clone(),
                updated_at: now,
                updated_by: user.to_owned(),
            });
        }
        prepared.set.put(definition);
    }
    for change in prepared
        .changes
        .iter_mut()
        .filter(|change| change.kind == Kind::Report && change.action != ChangeAction::Remove)
    {
        let Some(report) = prepared.set.reports.get(&change.name) else {
            continue;
        };
        if let Some(plan) = prepared.set.plan(report) {
            change.schedule = Some(format!("{}, {}", plan.schedule.sentence(), report.zone));
            change.next = plan
                .instants(now, DateTime::<Utc>::MAX_UTC)
                .take(NEXT)
                .map(|at| report.zone.rfc3339(at))
                .collect();
        }
    }
    let mut problems = prepared.set.check();
    problems.extend(places.problems);
    if problems.is_empty() {
        Ok(prepared)
    } else {
        Err(problems)
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

/// Refuses what was made from another text than the one that is stored now.
fn is_based_on(files: &Files, stored: &[StoredDefinition]) -> Result<(), Problem> {
    let by_file: HashMap<&str, &StoredDefinition> =
        stored.iter().map(|one| (one.file.as_str(), one)).collect();
    for file in &files.files {
        let Some(based_on) = file.based_on.as_deref().filter(|one| !one.is_empty()) else {
            continue;
        };
        let now = by_file.get(file.file.as_str()).ok_or_else(|| {
            let words = format!(
                "{} was removed or moved to another file since you read it; nothing was saved",
                file.file
            );
            Problem::new(412, "Changed meanwhile", words)
        })?;
        if sha256(now.text.as_bytes()) != based_on {
            return Err(changed_meanwhile(now, Some(&file.text)));
        }
    }
    Ok(())
}

/// Files of one order.
const MOST_FILES: usize = 10_000;
/// Characters of a file's path.
const LONGEST_PATH: usize = 200;

/// Characters of what is said of a change.
const LONGEST_MESSAGE: usize = 1_000;

/// A file's path leads from its folder to a file in it, on every system that it is exported to.
fn check_names(files: &Files, stored: &[StoredDefinition]) -> Result<(), Vec<FileProblem>> {
    if files.files.len() > MOST_FILES {
        let words = format!(
            "{} files; at most {MOST_FILES} may be in one order",
            files.files.len()
        );
        return Err(vec![FileProblem::of_a_file("", &words)]);
    }
    let message = files.message.as_deref().unwrap_or_default();
    if message.chars().count() > LONGEST_MESSAGE {
        let words = format!("the message of a change has at most {LONGEST_MESSAGE} characters");
        return Err(vec![FileProblem::of_a_file("", &words)]);
    }
    let is_plain = |path: &str| {
        path.chars().count() <= LONGEST_PATH
            && path.split('/').all(|part| {
                !part.is_empty()
                    && !part.starts_with('.')
                    && !part.contains(|c: char| c.is_control() || r#"\:*?"<>|"#.contains(c))
            })
    };
    let ends = |path: &str| path.ends_with(".toml") || path.ends_with(".ics");
    // What is stored under such a name can still be moved or removed.
    let known: HashSet<&str> = stored.iter().map(|one| one.file.as_str()).collect();
    let problems: Vec<FileProblem> = files
        .files
        .iter()
        .filter(|file| !known.contains(file.file.as_str()))
        .filter(|file| !is_plain(&file.file) || !ends(&file.file))
        .map(|file| {
            let shown: String = file.file.chars().take(80).collect();
            FileProblem::of_a_file(&shown, "the path must be relative and plain, such as \"reports/daily.toml\": no part may be empty, begin with a dot or contain \\ : * ? \" < > |; it ends in .toml or .ics and has at most 200 characters")
        })
        .take(100)
        .collect();
    if problems.is_empty() {
        Ok(())
    } else {
        Err(problems)
    }
}

/// Which file each definition is in: a file holds one.
#[derive(Default)]
struct Places {
    by_file: HashMap<String, (String, String)>,
    problems: Vec<FileProblem>,
}

impl Places {
    fn taken(&mut self, file: &str, kind: &str, name: &str) {
        match self.by_file.entry(file.to_owned()) {
            Entry::Vacant(free) => drop(free.insert((kind.to_owned(), name.to_owned()))),
            Entry::Occupied(taken) => {
                let (other, of) = taken.get();
                let words = format!(
                    "the file already holds the {other} \"{of}\"; put the {kind} \"{name}\" in a file of its own"
                );
                self.problems.push(FileProblem::of_a_file(file, &words));
            }
        }
    }
}

fn doubles(parsed: &[Definition]) -> Result<(), Vec<FileProblem>> {
    let mut problems = Vec::new();
    let mut known: HashMap<(Kind, &str), &Definition> = HashMap::new();
    for one in parsed {
        let first = *known.entry((one.kind(), one.name())).or_insert(one);
        if !std::ptr::eq(first, one) {
            problems.push(one.place().problem(format!(
                "the {} \"{}\" is already defined in {}",
                one.kind().name(),
                one.name(),
                first.place().file
            )));
        }
    }
    if problems.is_empty() {
        Ok(())
    } else {
        Err(problems)
    }
}

fn change(
    action: ChangeAction,
    kind: Kind,
    name: &str,
    file: &str,
    before: &str,
    after: &str,
) -> Change {
    Change {
        action,
        kind,
        name: name.to_owned(),
        file: file.to_owned(),
        diff: difference(before, after),
        schedule: None,
        next: Vec::new(),
    }
}
