//! Schedules and windows explained.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A schedule, a window or both, with the keys that they have in a report's definition.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Question {
    /// An IANA time zone. `time-zone`, as definitions write it, is understood too.
    #[serde(alias = "time-zone")]
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
    #[serde(default, alias = "reader-zone")]
    pub reader_time_zone: Option<String>,
    /// Calendars by name, as iCalendar text, in place of those that are stored.
    #[serde(default)]
    pub calendars: BTreeMap<String, String>,
}

/// Several questions at once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Questions {
    /// At most [`Questions::MOST`].
    pub questions: Vec<Question>,
}

impl Questions {
    /// So many questions may be asked at once.
    pub const MOST: usize = 100;
}

/// The answers to several questions, in their order.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Answers {
    pub answers: Vec<QuestionAnswer>,
}

/// Either of the two is there.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct QuestionAnswer {
    pub explained: Option<Explained>,
    /// Why the question was not understood.
    pub error: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Explained {
    /// The schedule in one sentence, with its zone.
    pub schedule: Option<String>,
    /// The window in words.
    pub window: Option<String>,
    pub instants: Vec<ExplainedInstant>,
    /// What the calendars skip or move up to the last of the instants.
    pub left_out: Vec<ExplainedLeftOut>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ExplainedLeftOut {
    /// RFC 3339 with the offset of the report's zone.
    pub local: String,
    /// What the calendar calls the day.
    pub day: String,
    /// When it runs instead; nothing if it does not.
    pub moved_to: Option<String>,
}

/// An instant of a schedule. What it does not have is left out: an answer has up to a hundred
/// thousand of them.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ExplainedInstant {
    pub at: DateTime<Utc>,
    /// RFC 3339 with the offset of the report's zone.
    pub local: String,
    /// In the reader's zone, if one was given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reader: Option<String>,
    /// ISO 8601 interval with the zone (RFC 9557).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub window: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub window_label: Option<String>,
    /// How much of the window counts, in seconds: elapsed time, so that a day may have
    /// 23 or 25 hours; with office hours only those.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub window_seconds: Option<i64>,
    /// The window it is compared with, as an ISO 8601 interval with the zone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub compared_with: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub compared_with_label: Option<String>,
    /// The resampling step that a figure across the page gets, an ISO 8601 duration.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub step: Option<String>,
    /// The parts of the window that count, where it is narrowed to certain hours or days; at
    /// most 20,000 in one answer.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<String>,
}
