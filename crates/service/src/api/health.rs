//! For whoever watches this service.

use maple_lark_store::Store;
use rocket::{State, get, serde::json::Json};
use serde_json::{Value, json};

use super::problem::Problem;

/// Whether the process is alive.
#[get("/health")]
pub fn health() -> Json<Value> {
    Json(json!({ "status": "alive" }))
}

/// Whether it can do its work: the database answers and its tables are up to date.
#[get("/ready")]
pub async fn ready(store: &State<Store>) -> Result<Json<Value>, Problem> {
    match store.ready().await {
        Ok(true) => Ok(Json(json!({ "status": "ready" }))),
        Ok(false) => Err(Problem::new(
            503,
            "Not ready",
            "the tables of the database are not up to date yet",
        )),
        Err(error) => Err(error.into()),
    }
}
