//! Definitions by their keys: what a form shows of one, a new one, and a change that leaves the
//! rest of its text as it is.

use maple_lark_api::{
    DefinitionFile, DefinitionKeys, DefinitionPatch, Files, NewDefinition, Plan, ProblemDetails,
};
use maple_lark_data::digest::sha256;
use maple_lark_definition::{Kind, edit};
use maple_lark_store::{Store, definitions::StoredDefinition};
use rocket::{Route, State, get, patch, post, routes, serde::json::Json};
use serde_json::{Map, Value};

use super::{
    Answer,
    body::Body,
    changes::{Order, carry_out, is_free, new_name},
    definitions::{as_stored, planned, stored_definition},
    problem::Problem,
    version::Versioned,
    writer::Writer,
};
use crate::{access::Author, engine::EngineHandle};

pub fn routes() -> Vec<Route> {
    routes![one, make, change, plan]
}

/// A definition as JSON, for forms.
#[utoipa::path(get, operation_id = "get_definition_keys", path = "/definitions/{kind}/{name}/keys", tag = "definitions", params(("kind" = String, Path), ("name" = String, Path)), responses((status = 200, body = DefinitionKeys), (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[get("/definitions/<kind>/<name>/keys")]
async fn one(
    user: Author,
    kind: &str,
    name: &str,
    store: &State<Store>,
) -> Result<Versioned<DefinitionKeys>, Problem> {
    let kind = kind_of(kind)?;
    let stored = stored_definition(kind.name(), name, store, &user.1).await?;
    let keys = DefinitionKeys {
        kind,
        keys: edit::keys(&stored.text).map_err(refused)?,
        based_on: sha256(stored.text.as_bytes()),
        name: stored.name,
        file: stored.file,
    };
    Ok(Versioned::new(keys, &stored.text))
}

/// Make a definition of its keys.
#[utoipa::path(post, operation_id = "make_definition", path = "/definitions/{kind}", tag = "definitions", params(("kind" = String, Path)), request_body = NewDefinition, responses((status = 201, body = DefinitionFile), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/definitions/<kind>", data = "<order>")]
async fn make(
    by: Writer,
    kind: &str,
    order: Body<NewDefinition>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Result<rocket::response::status::Created<Json<DefinitionFile>>, Problem> {
    let kind = kind_of(kind)?;
    let name = named(kind, &order.keys).ok_or_else(|| {
        let words = format!(
            "give {}.name: small letters, digits and hyphens",
            kind.name()
        );
        Problem::new(422, "No name", words)
    })?;
    let name = &new_name(&by.sight, kind, &teams(kind, &order.keys), name);
    let mut keys = order.keys.clone();
    if let Some(own) = keys.get_mut(kind.name()) {
        own["name"] = Value::from(name.clone());
    }
    let file = DefinitionFile::new(
        format!("{}/{name}.toml", folder(kind)),
        edit::patched("", &keys).map_err(refused)?,
    );
    let change = Order::new(by.from, |stored| {
        is_free(stored, kind, name)?;
        Ok(Files {
            files: vec![file.clone()],
            message: order.message.clone(),
            remove_others: false,
        })
    });
    carry_out(store, engine, &by, &change).await?;
    drop(change);
    let address = format!("/api/v1/definitions/{}/{name}", kind.name());
    let made = stored_definition(kind.name(), name, store, &by.sight).await?;
    Ok(rocket::response::status::Created::new(address).body(Json(as_stored(made))))
}

/// Change some keys of a definition; comments, the order of keys and what is not named stay.
#[utoipa::path(patch, operation_id = "change_definition", path = "/definitions/{kind}/{name}", tag = "definitions", params(("kind" = String, Path), ("name" = String, Path), ("If-Match" = Option<String>, Header, description = "the ETag of what was read; another version is not changed")), request_body = DefinitionPatch, responses((status = 200, body = DefinitionFile), (status = 404, body = ProblemDetails), (status = 412, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[patch("/definitions/<kind>/<name>", data = "<order>")]
async fn change(
    by: Writer,
    kind: &str,
    name: &str,
    order: Body<DefinitionPatch>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<DefinitionFile> {
    let kind = kind_of(kind)?;
    if named(kind, &order.keys).is_some_and(|other| other != name) {
        return Err(Problem::new(
            422,
            "The name stays",
            "a definition keeps its name, by which others refer to it; copy it under another name",
        ));
    }
    let change = Order::new(by.from, |stored| {
        let is_it = |one: &&StoredDefinition| one.kind == kind.name() && one.name == name;
        let old = stored
            .iter()
            .find(is_it)
            .ok_or_else(|| Problem::not_found(format!("{} \"{name}\"", kind.name())))?;
        let text = edit::patched(&old.text, &order.keys).map_err(refused)?;
        by.if_match.holds(old, Some(&text))?;
        Ok(Files {
            files: vec![DefinitionFile {
                based_on: order.based_on.clone(),
                ..DefinitionFile::new(old.file.clone(), text)
            }],
            message: order.message.clone(),
            remove_others: false,
        })
    });
    carry_out(store, engine, &by, &change).await?;
    drop(change);
    let stored = stored_definition(kind.name(), name, store, &by.sight).await?;
    Ok(Json(as_stored(stored)))
}

/// What a change of keys would do, and what would go at once by it. Nothing is changed.
#[utoipa::path(post, operation_id = "plan_definition_change", path = "/definitions/{kind}/{name}/plan", tag = "definitions", params(("kind" = String, Path), ("name" = String, Path)), request_body = DefinitionPatch, responses((status = 200, body = Plan), (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/definitions/<kind>/<name>/plan", data = "<order>")]
async fn plan(
    user: Author,
    kind: &str,
    name: &str,
    order: Body<DefinitionPatch>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Plan> {
    let kind = kind_of(kind)?;
    let stored = stored_definition(kind.name(), name, store, &user.1).await?;
    let text = edit::patched(&stored.text, &order.keys).map_err(refused)?;
    let files = Files {
        files: vec![DefinitionFile::new(stored.file, text)],
        message: None,
        remove_others: false,
    };
    Ok(Json(planned(files, user, store, engine).await?))
}

fn refused(error: edit::BadEdit) -> Problem {
    Problem::new(422, "Not understood", error.to_string())
}

/// A kind whose definitions have keys; a calendar is a file of its own form.
fn kind_of(word: &str) -> Result<Kind, Problem> {
    Kind::from_name(word)
        .filter(|kind| *kind != Kind::Calendar)
        .ok_or_else(|| Problem::not_found(format!("kind of definition \"{word}\" that has keys")))
}

fn named(kind: Kind, keys: &Map<String, Value>) -> Option<&str> {
    let name = keys.get(kind.name())?.get("name")?.as_str()?;
    Some(name).filter(|name| !name.is_empty())
}

/// The teams that keys say a definition belongs to.
fn teams(kind: Kind, keys: &Map<String, Value>) -> Vec<String> {
    let own = keys.get(kind.name());
    let of = |key: &str| own.and_then(|own| own.get(key)).cloned();
    let teams = [
        of("team").map(|team| vec![team]),
        of("teams").and_then(|teams| teams.as_array().cloned()),
    ];
    let named = teams.into_iter().flatten().flatten();
    named
        .filter_map(|team| team.as_str().map(str::to_owned))
        .collect()
}

/// The folder that definitions of a kind are written into.
fn folder(kind: Kind) -> String {
    match kind {
        Kind::Person | Kind::Group => "people".to_owned(),
        kind => format!("{}s", kind.name()),
    }
}
