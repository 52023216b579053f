//! Live pages, looked at while somebody composes; nothing is kept.

use base64::{Engine, engine::general_purpose::STANDARD};
use maple_lark_api::{PageLook, PageOrder, PagePiece, PageStepTime, ProblemDetails};
use maple_lark_definition::{Ask, Origin, Query, Times, edit, query_alone};
use maple_lark_sources::{Captured, Kept, Question, SourceError, StepTime};
use maple_lark_store::Store;
use maple_lark_time::{Window, window::Step};
use rocket::{Route, State, post, routes, serde::json::Json};
use serde_json::json;

use super::{Answer, body::Body, client::Client, problem::Problem, queries::window_of_keys};
use crate::{access::Author, engine::EngineHandle};

pub fn routes() -> Vec<Route> {
    routes![look]
}

/// How a live page looks now, with the parts that somebody may want. A page that cannot be shown is
/// answered with what was there instead.
#[utoipa::path(post, operation_id = "look_at_page", path = "/pages/look", tag = "sources", request_body = PageOrder, responses((status = 200, body = PageLook), (status = 422, body = ProblemDetails)))]
#[post("/pages/look", data = "<order>")]
async fn look(
    user: Author,
    client: Client,
    order: Body<PageOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<PageLook> {
    let order = order.into_inner();
    let mut query = asked(&order)?;
    let definitions = engine.definitions(store, &user.1).await?;
    let no_page = || {
        Problem::new(
            422,
            "Not a page",
            "the query asks no live page; it needs \"source\" and \"page\"",
        )
    };
    let Origin::Source { name, ask } = &mut query.origin else {
        return Err(no_page());
    };
    let Ask::Page(page) = &mut **ask else {
        return Err(no_page());
    };
    page.steps.truncate(order.steps.unwrap_or(usize::MAX));
    let source = definitions.set.sources.get(&name.value);
    let source = source.ok_or_else(|| Problem::not_found(format!("source \"{}\"", name.value)))?;
    let window = window(&order, engine)?;
    let times = Times {
        step: Step::fitting(&window, 160),
        comparison: None,
        window,
    };
    let question = Question {
        ask,
        times: &times,
        values: &order.values,
    };
    match client
        .waits_for(engine.reader().outline(source, question))
        .await?
    {
        Ok(captured) => Ok(Json(seen(captured))),
        Err(SourceError::Page { failed, .. }) => Ok(Json(PageLook {
            title: String::new(),
            address: String::new(),
            picture: failed.picture.map(|png| STANDARD.encode(png)),
            width: 0,
            height: 0,
            parts: Vec::new(),
            steps: failed.steps.into_iter().map(step).collect(),
            note: None,
            problem: Some(failed.problem.to_string()),
        })),
        Err(error) => Err(Problem::new(422, "The page refused", error.to_string())),
    }
}

fn asked(order: &PageOrder) -> Result<Query, Problem> {
    let refused = |error: edit::BadEdit| Problem::new(422, "Not understood", error.to_string());
    let mut keys = order.keys.clone();
    if let Some(keys) = keys.as_object_mut() {
        keys.remove("name");
    }
    let keys = json!({ "query": keys });
    let keys = keys.as_object().cloned().unwrap_or_default();
    let text = edit::rewritten("", &keys).map_err(refused)?;
    query_alone("query", &text).map_err(Problem::definitions)
}

fn window(order: &PageOrder, engine: &EngineHandle) -> Result<Window, Problem> {
    window_of_keys(order.time_zone.as_deref(), order.window.as_ref(), engine)
}

fn step(step: StepTime) -> PageStepTime {
    PageStepTime {
        what: step.what,
        seconds: step.took.as_secs_f64(),
    }
}

fn seen(captured: Captured) -> PageLook {
    let (picture, width, height) = match captured.kept {
        Kept::Look {
            parts,
            width,
            height,
            ..
        } => {
            let first = parts.into_iter().next();
            (first.map(|part| STANDARD.encode(part.png)), width, height)
        }
        _ => (None, 0, 0),
    };
    let parts = captured.outline.into_iter().map(|part| PagePiece {
        selector: part.selector,
        title: part.title,
        is_table: part.is_table,
        x: part.x,
        y: part.y,
        width: part.width,
        height: part.height,
    });
    PageLook {
        title: captured.title,
        address: captured.address,
        picture,
        width,
        height,
        parts: parts.collect(),
        steps: captured.steps.into_iter().map(step).collect(),
        note: captured.note,
        problem: None,
    }
}
