//! A definition while somebody edits it, as form and as text at once.

use maple_lark_api::{Draft, DraftOrder, ProblemDetails};
use maple_lark_definition::{Definition, edit};
use maple_lark_document::snapshot::FrozenDefinition;
use maple_lark_store::Store;
use rocket::{Route, State, post, routes, serde::json::Json};

use super::{Answer, body::Body, problem::Problem, seen};
use crate::{
    access::Author,
    engine::{Definitions, EngineHandle},
};

/// What a draft is called in what is said of it.
pub const FILE: &str = "draft.toml";

pub fn routes() -> Vec<Route> {
    routes![draft]
}

/// Work on a definition without storing it: keys that were changed are written into the text, with
/// its comments kept, and what is wrong about it is said with its place.
#[utoipa::path(post, operation_id = "draft_definition", path = "/definitions/draft", tag = "definitions", request_body = DraftOrder, responses((status = 200, body = Draft), (status = 422, body = ProblemDetails)))]
#[post("/definitions/draft", data = "<order>")]
async fn draft(
    user: Author,
    order: Body<DraftOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Draft> {
    let order = order.into_inner();
    let mut definitions = Definitions::clone(&*engine.definitions(store, &user.1).await?);
    // What they save belongs to that team, whether it says so or not.
    let in_one_team = user.1.teams().is_some_and(|teams| teams.len() == 1);
    let work = move || {
        let text = match &order.keys {
            Some(keys) => edit::rewritten(&order.text, keys)?,
            None => order.text,
        };
        let wrong = match Definition::parse(FILE, &text) {
            Ok(definition) => {
                let there = definitions.text_of(definition.kind(), definition.name());
                let misnamed = seen::misnamed(&user.1, &definition, there.is_some());
                let frozen = FrozenDefinition {
                    file: FILE.to_owned(),
                    text: text.clone(),
                };
                definitions.put(definition, frozen);
                let mut wrong = if in_one_team {
                    definitions.set.check_content()
                } else {
                    definitions.set.check()
                };
                wrong.retain(|problem| problem.file == FILE);
                wrong.extend(misnamed);
                wrong
            }
            Err(wrong) => wrong,
        };
        Ok(Draft {
            keys: edit::keys(&text).ok(),
            problems: wrong.into_iter().map(Into::into).collect(),
            text,
        })
    };
    let drafted = engine.compute(work).await?;
    let refused = |error: edit::BadEdit| Problem::new(422, "Not understood", error.to_string());
    Ok(Json(drafted.map_err(refused)?))
}
