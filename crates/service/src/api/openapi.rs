//! The description of the API (OpenAPI 3.1), made from the handlers themselves.

use rocket::{get, serde::json::Json};
use utoipa::OpenApi;

use super::{
    about, agenda, archive, definitions, delivery, documents, mailbox, overview, preview, queries,
    reports, runs, schedules, secrets, sessions, sources, themes,
};

#[derive(OpenApi)]
#[openapi(
    info(title = "Maple Lark", description = "Snapshots monitoring data on a schedule, turns it into documents and mails them. Errors are problem details (RFC 9457).", license(name = "MIT OR Apache-2.0")),
    servers((url = "/api/v1")),
    paths(
        sessions::sign_in, sessions::who, sessions::sign_out, sessions::make_token, sessions::list_tokens, sessions::revoke_token,
        about::about, overview::overview,
        definitions::list, definitions::plan, definitions::apply, definitions::one, definitions::copy, definitions::remove,
        sources::list, sources::test, sources::dashboards,
        reports::list, reports::one, reports::run, reports::pause, reports::resume,
        reports::backfill_report, reports::copy, reports::schedule, reports::reschedule,
        queries::try_query, queries::catalogue, queries::choices, queries::samplers, preview::preview, secrets::list, secrets::set, secrets::remove,
        schedules::explain, schedules::explain_all, agenda::agenda, agenda::calendars,
        runs::list, runs::one, runs::events,
        runs::cancel,
        documents::one, archive::again, archive::matching, themes::preview,
        delivery::channels, delivery::test_channel, delivery::test_mail, delivery::people, delivery::forget_bounces, delivery::remove_unsubscribe,
        delivery::resend, delivery::release, delivery::revoke_links, delivery::notices, delivery::preview,
        mailbox::list, mailbox::one, mailbox::html, mailbox::file,
    )
)]
struct Description;

/// The description as JSON text, as it is served and as the console's types are made from.
pub fn openapi() -> String {
    // The description is data of the program; it always has a JSON form.
    Description::openapi().to_pretty_json().unwrap_or_default()
}

#[get("/openapi.json")]
pub fn description() -> Json<utoipa::openapi::OpenApi> {
    Json(Description::openapi())
}
