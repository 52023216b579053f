//! The times that a query may be asked with.

use chrono::{DateTime, Utc};
use maple_lark_time::{Window, window::Step};

use crate::model::query::placeholder::Filler;

/// The times that a query may be asked with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Times {
    /// The window.
    pub window: Window,
    /// The window that it is compared with, if any.
    pub comparison: Option<Window>,
    /// The step that suits the window.
    pub step: Step,
}

/// What a time name stands for in a query.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TimeValue {
    /// One instant.
    Instant(DateTime<Utc>),
    /// Several, in order.
    Instants(Vec<DateTime<Utc>>),
}

impl Times {
    /// The names that a query may use for times, beside its own parameters.
    ///
    /// - `from` and `to`: the window;
    /// - `parts_from` and `parts_to`: the starts and ends of the parts of the window that
    ///   count (office hours); one part, the window itself, where nothing narrows it;
    /// - `compare_from` and `compare_to`: the comparison window;
    /// - `steps`: the starts of the resampling steps, the first of them the window's own.
    pub const NAMES: [&str; 7] = [
        "from",
        "to",
        "parts_from",
        "parts_to",
        "compare_from",
        "compare_to",
        "steps",
    ];

    /// The value of one of [`Times::NAMES`]; nothing for other names, and for a comparison
    /// window where there is none.
    #[must_use]
    pub fn value(&self, name: &str) -> Option<TimeValue> {
        let starts = |parts: Vec<(DateTime<Utc>, DateTime<Utc>)>| {
            parts.into_iter().map(|(from, _)| from).collect()
        };
        let ends = |parts: Vec<(DateTime<Utc>, DateTime<Utc>)>| {
            parts.into_iter().map(|(_, to)| to).collect()
        };
        Some(match name {
            "from" => TimeValue::Instant(self.window.from),
            "to" => TimeValue::Instant(self.window.to),
            "parts_from" => TimeValue::Instants(starts(self.window.parts())),
            "parts_to" => TimeValue::Instants(ends(self.window.parts())),
            "compare_from" => TimeValue::Instant(self.comparison.as_ref()?.from),
            "compare_to" => TimeValue::Instant(self.comparison.as_ref()?.to),
            "steps" => TimeValue::Instants(self.step.starts(&self.window)),
            _ => return None,
        })
    }

    /// The names that a request may use for times: as they are they read ISO 8601 in UTC, with
    /// `_unix` they are seconds since 1970-01-01T00:00:00Z, with `_unix_ms` milliseconds.
    pub const PLACEHOLDERS: [&str; 14] = [
        "from",
        "from_unix",
        "from_unix_ms",
        "to",
        "to_unix",
        "to_unix_ms",
        "compare_from",
        "compare_from_unix",
        "compare_from_unix_ms",
        "compare_to",
        "compare_to_unix",
        "compare_to_unix_ms",
        "step",
        "step_seconds",
    ];

    /// The value of one of [`Times::PLACEHOLDERS`]; nothing for other names, and for a
    /// comparison window where there is none.
    #[must_use]
    pub fn filler(&self, name: &str) -> Option<Filler> {
        match name {
            "step" => return Some(Filler::Text(self.step.to_string())),
            "step_seconds" => return Some(Filler::Number(self.step.usual_seconds() as f64)),
            _ => {}
        }
        let (instant, form) = match name.strip_suffix("_unix_ms") {
            Some(instant) => (instant, "ms"),
            None => name
                .strip_suffix("_unix")
                .map_or((name, ""), |instant| (instant, "s")),
        };
        let at = match instant {
            "from" => self.window.from,
            "to" => self.window.to,
            "compare_from" => self.comparison.as_ref()?.from,
            "compare_to" => self.comparison.as_ref()?.to,
            _ => return None,
        };
        Some(match form {
            "ms" => Filler::Number(at.timestamp_millis() as f64),
            "s" => Filler::Number(at.timestamp() as f64),
            _ => Filler::Text(at.to_rfc3339_opts(chrono::SecondsFormat::AutoSi, true)),
        })
    }
}
