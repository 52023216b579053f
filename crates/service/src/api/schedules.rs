//! Explains a schedule and a window without saving anything.

use chrono::{DateTime, Utc};
use maple_lark_core::{Zone, definition::schedule_and_window};
use rocket::{Route, post, routes, serde::json::Json};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Answer, problem::Problem};
use crate::access::Viewer;

pub fn routes() -> Vec<Route> {
    routes![explain]
}

const MOST_INSTANTS: usize = 1000;

/// A schedule, a window or both, with the keys that they have in a report's definition.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Question {
    pub time_zone: String,
    #[serde(default)]
    pub schedule: Option<serde_json::Value>,
    #[serde(default)]
    pub window: Option<serde_json::Value>,
    /// Instants after this one are listed; now if nothing is said. Without a schedule it is
    /// the instant that the window follows from.
    #[serde(default)]
    pub after: Option<DateTime<Utc>>,
    #[serde(default)]
    pub count: Option<usize>,
    /// The reader's own time zone, to show the instants in as well.
    #[serde(default)]
    pub reader_zone: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Explained {
    /// The schedule in one sentence, with its zone.
    pub schedule: Option<String>,
    /// The window in words.
    pub window: Option<String>,
    pub instants: Vec<ExplainedInstant>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ExplainedInstant {
    pub at: DateTime<Utc>,
    /// RFC 3339 with the offset of the report's zone.
    pub local: String,
    /// In the reader's zone, if one was given.
    pub reader: Option<String>,
    /// ISO 8601 interval with the zone (RFC 9557).
    pub window: Option<String>,
    pub window_label: Option<String>,
}

/// Say a schedule back in words, with its next instants and their windows.
#[utoipa::path(post, operation_id = "explain_schedule", path = "/schedules/explain", tag = "schedules", request_body = Question, responses((status = 200, body = Explained), (status = 422, body = Problem)))]
#[post("/schedules/explain", data = "<question>")]
fn explain(_user: Viewer, question: Json<Question>) -> Answer<Explained> {
    let reader: Option<Zone> = question
        .reader_zone
        .as_deref()
        .map(str::parse)
        .transpose()
        .map_err(|error: maple_lark_core::zone::UnknownZone| Problem::new(422, "Unknown zone", error.to_string()))?;
    let mut parts = serde_json::Map::new();
    parts.insert("time-zone".to_owned(), question.time_zone.clone().into());
    parts.extend(question.schedule.clone().map(|value| ("schedule".to_owned(), value)));
    parts.extend(question.window.clone().map(|value| ("window".to_owned(), value)));
    let text = toml_edit::ser::to_string(&parts)
        .map_err(|error| Problem::new(422, "Not understood", format!("the schedule or the window cannot be read: {error}")))?;
    let (zone, schedule, window) = schedule_and_window("question", &text).map_err(Problem::definitions)?;
    let after = question.after.unwrap_or_else(Utc::now);
    let count = question.count.unwrap_or(5).min(MOST_INSTANTS);
    let instants: Vec<DateTime<Utc>> = match &schedule {
        Some(schedule) => {
            schedule.instants(after, DateTime::<Utc>::MAX_UTC, zone).take(schedule.most_runs.map_or(count, |most| count.min(most as usize))).collect()
        }
        None => vec![after],
    };
    let explained = instants.into_iter().map(|at| {
        let of_run = window.map(|rule| rule.window(at, zone));
        ExplainedInstant {
            at,
            local: zone.rfc3339(at),
            reader: reader.map(|reader| reader.rfc3339(at)),
            window: of_run.map(|window| window.exact()),
            window_label: of_run.map(|window| window.label()),
        }
    });
    Ok(Json(Explained {
        schedule: schedule.as_ref().map(|schedule| format!("{}, {zone}", schedule.sentence())),
        window: window.map(|rule| rule.sentence()),
        instants: explained.collect(),
    }))
}
