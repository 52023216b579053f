//! The description of the API (OpenAPI 3.1), made from the handlers themselves.

use std::collections::{BTreeSet, HashMap};

use rocket::{get, serde::json::Json};
use serde_json::{Value, json};
use utoipa::OpenApi;

use super::{
    about, agenda, archive, archive_proof, audit, condition, definitions, delivery, documents,
    drafts, forgotten, hand_over, health, keeping, keys, layout, mailbox, metrics, overview, pages,
    passkeys, preview, publishing, queries, report_list, reports, runs, schedules, search,
    second_factor, secrets, sessions, sources, teams, templates, themes, users,
};

use maple_lark_api::{ReportFilter, ReportOrder, right_to};

use crate::access::SESSION_COOKIE;

#[derive(OpenApi)]
#[openapi(
    info(title = "Maple Lark", description = "Snapshots monitoring data on a schedule, turns it into documents and mails them. Errors are problem details (RFC 9457).", license(name = "MIT OR Apache-2.0")),
    servers((url = "/api/v1")),
    paths(
        condition::look,
        sessions::sign_in, sessions::ways, sessions::who, sessions::sign_out, sessions::make_token, sessions::new_token, sessions::list_tokens, sessions::revoke_token,
        users::list, users::add, users::change, users::remove, users::renew, users::invitation, users::accept, forgotten::forgotten, users::set_password, users::sessions, users::end_session,
        keeping::show, keeping::set, keeping::plan, keeping::going, keeping::gone, keeping::kept, keeping::keep_run, keeping::keep_run_no_longer,
        second_factor::show, second_factor::begin, second_factor::confirm, second_factor::turn_off, second_factor::reset,
        hand_over::owned, hand_over::hand_over,
        passkeys::list, passkeys::begin, passkeys::add, passkeys::remove, passkeys::ask, passkeys::sign_in,
        publishing::list, publishing::publish, publishing::revoke,
        teams::list, teams::add, teams::change, teams::remove, teams::put_member, teams::remove_member,
        about::about, overview::overview,
        definitions::list, definitions::names, definitions::plan, definitions::apply, definitions::one, definitions::copy, definitions::remove,
        drafts::draft, keys::one, keys::make, keys::change, keys::plan,
        definitions::versions, definitions::version, definitions::restore,
        sources::list, sources::test, sources::dashboards,
        report_list::list, report_list::names, reports::one, layout::of_report, reports::run, reports::pause, reports::resume,
        reports::backfill_report, reports::copy, reports::schedule, reports::reschedule,
        queries::try_query, queries::catalogue, queries::choices, queries::samplers, preview::preview, secrets::list, secrets::set, secrets::remove,
        schedules::explain, schedules::explain_all, agenda::agenda, agenda::subscribe, agenda::feed, agenda::calendars,
        runs::list, runs::one, runs::events,
        runs::cancel, runs::definitions, runs::failed_pages, runs::log, pages::look,
        templates::list, templates::one, templates::show_filled, templates::share, templates::make, templates::updates,
        documents::one, archive::again, archive::matching, search::search, search::zip, search::front, themes::preview,
        delivery::channels, delivery::test_channel, delivery::test_mail, delivery::people, delivery::forget_bounces, delivery::remove_unsubscribe,
        delivery::resend, delivery::release, delivery::revoke_links, delivery::notices, delivery::preview,
        mailbox::list, mailbox::one, mailbox::html, mailbox::file,
        audit::list, audit::export, audit::proof, archive_proof::days, archive_proof::day,
        health::health, health::ready, metrics::metrics,
    ),
    // Named by parameters alone.
    components(schemas(ReportFilter, ReportOrder))
)]
struct Description;

/// The description as JSON text, as it is served and as the console's types are made from.
pub fn openapi() -> String {
    // The description is data of the program; it always has a JSON form.
    serde_json::to_string_pretty(&described()).unwrap_or_default()
}

#[get("/openapi.json")]
pub fn description() -> Json<Value> {
    Json(described())
}

/// Operations that are carried out once for each key that their sender gives them.
const ONCE: [&str; 3] = ["run_report", "backfill_report", "resend_run"];

/// What the handlers say of themselves, with what is the same for all of them: how to sign in,
/// what each status means, and that errors are problem details.
fn described() -> Value {
    let mut api = serde_json::to_value(Description::openapi()).unwrap_or_default();
    api["components"]["securitySchemes"] = json!({
        "token": { "type": "http", "scheme": "bearer", "description": "an API token" },
        "session": { "type": "apiKey", "in": "cookie", "name": SESSION_COOKIE, "description": "a sign-in in the console" },
    });
    let paths = api["paths"].as_object_mut().into_iter().flatten();
    for (path, methods) in paths {
        // What whoever watches the service asks is not below the others.
        let is_outside = ["/health", "/ready", "/metrics"].contains(&path.as_str());
        for (method, operation) in methods.as_object_mut().into_iter().flatten() {
            complete(method, operation);
        }
        if is_outside {
            methods["servers"] = json!([{ "url": "/" }]);
        }
    }
    api
}

/// Every operation: its name, its method in small letters, and its path.
pub fn operations() -> Vec<(String, String, String)> {
    let described = serde_json::to_value(Description::openapi()).unwrap_or_default();
    let mut all = Vec::new();
    for (path, methods) in described["paths"].as_object().into_iter().flatten() {
        for (method, operation) in methods.as_object().into_iter().flatten() {
            if let Some(name) = operation["operationId"].as_str() {
                all.push((name.to_owned(), method.clone(), path.clone()));
            }
        }
    }
    all
}

/// What may stand behind the question mark, by the method and the pattern of the path of each operation.
pub fn query_names() -> HashMap<(String, String), BTreeSet<String>> {
    let described = serde_json::to_value(Description::openapi()).unwrap_or_default();
    let mut all = HashMap::new();
    for (path, methods) in described["paths"].as_object().into_iter().flatten() {
        for (method, operation) in methods.as_object().into_iter().flatten() {
            let parameters = operation["parameters"].as_array().into_iter().flatten();
            let names = parameters
                .filter(|parameter| parameter["in"] == "query")
                .filter_map(|parameter| parameter["name"].as_str().map(str::to_owned));
            all.insert((method.clone(), path.clone()), names.collect());
        }
    }
    all
}

fn complete(method: &str, operation: &mut Value) {
    let name = operation["operationId"]
        .as_str()
        .unwrap_or_default()
        .to_owned();
    let is_open = right_to(&name).is_some_and(|right| right.least.is_none());
    if !is_open {
        operation["security"] = json!([{ "token": [] }, { "session": [] }]);
    } else {
        operation["security"] = json!([]);
    }
    if ONCE.contains(&name.as_str()) {
        let key = json!({
            "name": "Idempotency-Key", "in": "header", "required": false,
            "description": "a key for this request, such as a UUID; repeating the request with the same key within 24 hours returns the first answer and does nothing again",
            "schema": { "type": "string", "minLength": 1, "maxLength": 200 },
        });
        match operation["parameters"].as_array_mut() {
            Some(parameters) => parameters.push(key),
            None => operation["parameters"] = json!([key]),
        }
    }
    let has_body = operation.get("requestBody").is_some();
    let mut also: Vec<u16> = vec![400, 503];
    if !is_open {
        also.extend([401, 403]);
    }
    if has_body {
        also.extend([408, 413, 415, 422]);
    }
    if ONCE.contains(&name.as_str()) {
        also.push(409);
    }
    let responses = &mut operation["responses"];
    for status in also {
        let status = status.to_string();
        if responses.get(&status).is_none() {
            responses[status] = json!({});
        }
    }
    responses["default"] = json!({});
    for (status, response) in responses.as_object_mut().into_iter().flatten() {
        let known = response["description"]
            .as_str()
            .is_some_and(|words| !words.is_empty());
        if !known {
            response["description"] = meaning(status, method).into();
        }
        if !status.starts_with('2') {
            response["content"] = json!({
                "application/problem+json": { "schema": { "$ref": "#/components/schemas/ProblemDetails" } }
            });
        }
    }
}

/// What a status means here.
fn meaning(status: &str, method: &str) -> &'static str {
    match (status, method) {
        ("200", "get") => "the requested data",
        ("200", _) => "done; the current state",
        ("201", _) => "created; the new object",
        ("202", _) => "accepted; the current state of the run",
        ("204", _) => "done; no content",
        ("400", _) => "the request is malformed",
        ("401", _) => "not signed in, or the sign-in has expired",
        ("403", _) => {
            "the role or the token's scope does not permit this, or the request comes from another site"
        }
        ("404", _) => "not found",
        ("409", _) => "the current state does not allow it",
        ("412", _) => "it was changed since it was read",
        ("408", _) => "the body did not arrive in time",
        ("413", _) => "the body is too large",
        ("415", _) => "the body is not declared as JSON",
        ("422", _) => "the content is not valid; the detail says what and where",
        ("429", _) => "too many attempts; Retry-After says when to try again",
        ("503", _) => "the database is not available",
        ("504", _) => "it took too long",
        _ => "any other error",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::api::of_the_api;

    /// A call that nobody can read about is none.
    #[test]
    fn every_call_is_described() {
        let described: BTreeSet<(String, String)> = operations()
            .into_iter()
            .map(|(_, method, path)| (method, path))
            .collect();
        for route in of_the_api() {
            let path = route.uri.path().replace('<', "{").replace('>', "}");
            let call = (route.method.as_str().to_lowercase(), path);
            assert!(described.contains(&call), "{call:?}");
        }
    }
}
