//! For whoever watches this service.

use maple_lark_store::Store;
use rocket::{State, get, serde::json::Json};
use serde_json::{Value, json};

use super::problem::Problem;
use crate::engine::EngineHandle;

/// Whether the process is alive.
#[utoipa::path(get, operation_id = "health", path = "/health", tag = "watching", responses((status = 200, description = "it is alive", content_type = "application/json")))]
#[get("/health")]
pub fn health() -> Json<Value> {
    Json(json!({ "status": "alive" }))
}

/// Whether it can do its work: the database answers, its tables are up to date, and all parts of
/// the engine are at work.
#[utoipa::path(get, operation_id = "ready", path = "/ready", tag = "watching", responses((status = 200, description = "it can do its work", content_type = "application/json"), (status = 503, description = "it cannot, and why")))]
#[get("/ready")]
pub async fn ready(
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Result<Json<Value>, Problem> {
    let down = engine.down();
    if !down.is_empty() {
        let words = format!(
            "a part of the engine has ended unexpectedly and is begun again: {}; the log says why",
            down.join(", ")
        );
        return Err(Problem::new(503, "Not ready", words));
    }
    match store.ready().await {
        Ok(true) => Ok(Json(match engine.clock_difference() {
            // It is gone by the database's clock, so work goes on.
            Some(words) => json!({ "status": "ready", "warning": words }),
            None => json!({ "status": "ready" }),
        })),
        Ok(false) => Err(Problem::new(
            503,
            "Not ready",
            "the tables of the database are not up to date yet",
        )),
        Err(error) => Err(error.into()),
    }
}
