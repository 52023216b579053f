//! What this service is, and by which rules it works.

use maple_lark_api::{About, ZoneRulesView};
use maple_lark_time::zone::rules_in_use;
use rocket::{Route, State, get, routes, serde::json::Json};

use crate::{access::SignedIn, engine::EngineHandle};

pub fn routes() -> Vec<Route> {
    routes![about]
}

/// The version of the program, and the rules of time zones in use.
#[utoipa::path(get, operation_id = "about", path = "/about", tag = "service", responses((status = 200, body = About)))]
#[get("/about")]
fn about(_user: SignedIn, engine: &State<EngineHandle>) -> Json<About> {
    let rules = rules_in_use();
    Json(About {
        clock: engine.clock_difference(),
        version: env!("CARGO_PKG_VERSION").to_owned(),
        zone_rules: ZoneRulesView {
            old: rules.is_old(engine.now()),
            bundled: rules.bundled,
            version: rules.version,
        },
    })
}
