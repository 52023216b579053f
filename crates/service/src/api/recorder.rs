//! The audit trail as it is written: what an operation did is put on record before it is answered.
//!
//! One place sees every request. Guards say who asks, handlers add what only they know; what is on
//! record is listed with the operations (`maple_lark_api::AUDITED`).

use std::collections::HashMap;

use maple_lark_api::{AuditOutcome, audited_as};
use maple_lark_store::{Store, audit::NewEntry};
use rocket::{
    Request, Response,
    fairing::{Fairing, Info, Kind},
    http::{ContentType, Status},
};

use super::{openapi, problem::Problem};
use crate::access::Trail;

/// Characters of a subject or a detail that are kept.
const LONGEST: usize = 2_000;

/// Writes the trail.
pub struct Recorder {
    /// The operation behind a method and the pattern of a path.
    operations: HashMap<(String, String), String>,
}

impl Recorder {
    pub fn new() -> Self {
        let operations = openapi::operations().into_iter();
        Self {
            operations: operations
                .map(|(name, method, path)| ((method, path), name))
                .collect(),
        }
    }

    fn operation(&self, request: &Request<'_>) -> Option<&str> {
        let route = request.route()?;
        let path = route.uri.path().strip_prefix("/api/v1")?;
        let path = path.replace('<', "{").replace('>', "}");
        let method = request.method().as_str().to_lowercase();
        self.operations.get(&(method, path)).map(String::as_str)
    }

    /// The entry that a request is worth, if any.
    fn entry(&self, request: &Request<'_>, status: Status) -> Option<NewEntry> {
        let noted = Trail::of(request).noted();
        let action = match noted.action {
            Some(action) => action,
            None => self.operation(request)?,
        };
        audited_as(action)?;
        let signs_in = [
            "sign_in",
            "make_token",
            "accept_invitation",
            "forgotten_password",
            "change_password",
        ];
        let outcome = match status.code {
            200..=399 => AuditOutcome::Done,
            403 => AuditOutcome::Refused,
            401 | 404 | 422 | 429 if signs_in.contains(&action) => AuditOutcome::Failed,
            // Nothing came of it.
            _ => return None,
        };
        let cut = |text: String| text.chars().take(LONGEST).collect::<String>();
        let details = noted.details.join("; ");
        Some(NewEntry {
            at: chrono::Utc::now(),
            actor: noted.actor.clone(),
            address: request.client_ip().map(|address| address.to_string()),
            action: action.to_owned(),
            subject: cut(noted.subject.clone().unwrap_or_else(|| subject(request))),
            detail: (!details.is_empty()).then(|| cut(details)),
            outcome,
        })
    }
}

/// What stands in the places of a path: `report daily`, `runa.holm`.
fn subject(request: &Request<'_>) -> String {
    let Some(route) = request.route() else {
        return String::new();
    };
    let pattern = route.uri.path().split('/').filter(|one| !one.is_empty());
    let path = request.uri().path();
    let given = path.segments();
    let places = pattern
        .zip(given)
        .filter(|(place, _)| place.starts_with('<'));
    let values: Vec<&str> = places.map(|(_, value)| value).collect();
    values.join(" ")
}

#[rocket::async_trait]
impl Fairing for Recorder {
    fn info(&self) -> Info {
        Info {
            name: "audit trail",
            kind: Kind::Response,
        }
    }

    async fn on_response<'r>(&self, request: &'r Request<'_>, response: &mut Response<'r>) {
        let Some(entry) = self.entry(request, response.status()) else {
            return;
        };
        let Some(store) = request.rocket().state::<Store>() else {
            return;
        };
        if let Err(error) = store.audit(&entry).await {
            tracing::error!(%error, action = entry.action, "what was done could not be put on record");
            refuse(response);
        }
    }
}

/// What is not on record is not acknowledged, and no document is handed out for it.
fn refuse(response: &mut Response<'_>) {
    let problem = Problem::new(
        503,
        "Not on record",
        "what was asked could not be put on record, since the database did not answer; look whether it was done before you ask again",
    );
    let body = problem.json();
    response.set_status(Status::ServiceUnavailable);
    response.set_header(ContentType::new("application", "problem+json"));
    response.remove_header("Content-Disposition");
    response.remove_header("ETag");
    response.set_sized_body(body.len(), std::io::Cursor::new(body));
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What has a body and changes nothing.
    const LOOKS: [&str; 15] = [
        "begin_passkey_sign_in",
        "draft_definition",
        "explain_schedule",
        "explain_schedules",
        "fill_template",
        "get_invitation",
        "look_at_page",
        "parameter_choices",
        "plan_definition_change",
        "plan_definitions",
        "plan_keeping",
        "preview",
        "preview_message",
        "preview_theme",
        "try_query",
    ];

    #[test]
    fn every_operation_that_changes_something_is_on_record() {
        for (name, method, path) in openapi::operations() {
            let on_record = audited_as(&name).is_some();
            let opens =
                ["download_archive", "get_document", "write_again"].contains(&name.as_str());
            let changes = method != "get" && !LOOKS.contains(&name.as_str());
            assert_eq!(on_record, changes || opens, "{name} {method} {path}");
        }
    }
}
