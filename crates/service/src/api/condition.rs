//! Whether everything that the service needs is as it should be.

use std::sync::Arc;

use maple_lark_api::{Condition, Finding, Stands};
use maple_lark_store::{Store, StoreError};
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
    store: &State<Store>,
    config: &State<Arc<Config>>,
) -> Answer<Condition> {
    let mut findings = vec![at_work(&engine.down())];
    findings.extend(in_doubt(store).await?);
    findings.extend(check::condition(config).await);
    Ok(Json(Condition {
        looked_at: engine.now(),
        findings,
    }))
}

/// Runs that are held since the database was restored.
async fn in_doubt(store: &Store) -> Result<Option<Finding>, StoreError> {
    let (runs, restored) = (store.in_doubt().await?, store.last_restored().await?);
    let Some(restored) = restored.filter(|_| runs > 0) else {
        return Ok(None);
    };
    let at = restored.found_at.format("%Y-%m-%d %H:%M");
    Ok(Some(Finding {
        what: "restored".to_owned(),
        stands: Stands::Warning,
        words: format!(
            "the database was restored from a copy (found {at} UTC); runs that may have been sent after the copy was made are held: {runs}"
        ),
        remedy: Some(
            "See the mail server's log for what was sent, then release each or leave it."
                .to_owned(),
        ),
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
