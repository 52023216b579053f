//! Whether everything that the service needs is as it should be.

use std::sync::Arc;

use maple_lark_api::{Condition, Finding, Stands};
use rocket::{Route, State, get, routes, serde::json::Json};

use super::Answer;
use crate::{Config, access::Administrator, check, engine::EngineHandle};

pub fn routes() -> Vec<Route> {
    routes![look]
}

/// Look at everything that the service needs: its database, mail server, directory, folders, programs,
/// fonts, browser and rules of time zones, each with what to do where something is wrong. Nothing is
/// made, sent or changed.
#[utoipa::path(get, operation_id = "get_condition", path = "/condition", tag = "watching", responses((status = 200, body = Condition)))]
#[get("/condition")]
async fn look(
    _user: Administrator,
    engine: &State<EngineHandle>,
    config: &State<Arc<Config>>,
) -> Answer<Condition> {
    let mut findings = vec![at_work(&engine.down())];
    findings.extend(check::condition(config).await);
    Ok(Json(Condition {
        looked_at: engine.now(),
        findings,
    }))
}

fn at_work(down: &[&'static str]) -> Finding {
    let is_well = down.is_empty();
    Finding {
        what: "engine".to_owned(),
        stands: if is_well { Stands::Ok } else { Stands::Problem },
        words: if is_well {
            "all of its parts are at work".to_owned()
        } else {
            format!(
                "ended unexpectedly, and is begun again: {}",
                down.join(", ")
            )
        },
        remedy: (!is_well)
            .then(|| "The log says why; send it to whoever looks after the program.".to_owned()),
    }
}
