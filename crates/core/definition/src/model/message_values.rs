//! The values that a subject or a message may name.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::model::template::{BadTemplate, Template, figures_named, merge};

/// The values that a template may name.
#[derive(Debug, Clone, Serialize)]
pub struct MessageValues {
    /// The report.
    pub report: ReportValues,
    /// The window.
    pub window: WindowValues,
    /// The run.
    pub run: RunValues,
    /// Nothing in texts that several audiences see.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub audience: Option<String>,
    /// `ok`, `warning`, `critical` or `unknown`.
    pub status: String,
    /// How things are, in one sentence.
    pub summary: String,
    /// The first of what is past its limits, by name; empty where nothing is.
    pub worst: String,
    /// Key figures as their readers see them, by the name of their column.
    pub figures: BTreeMap<String, String>,
}

/// What a template may name of the report.
#[derive(Debug, Clone, Serialize)]
pub struct ReportValues {
    /// Its name.
    pub name: String,
    /// Its title.
    pub title: String,
}

/// What a template may name of the window.
#[derive(Debug, Clone, Serialize)]
pub struct WindowValues {
    /// For people: `Monday, 23 November 2026`.
    pub label: String,
    /// With both ends and the zone.
    pub exact: String,
    /// The zone.
    pub zone: String,
    /// Elapsed time, so that a day may have 23 or 25 hours.
    pub duration: String,
}

/// What a template may name of the run.
#[derive(Debug, Clone, Serialize)]
pub struct RunValues {
    /// The run, as API and command line name it.
    pub id: String,
    /// The instant it was for, in the report's zone.
    pub scheduled_for: String,
}

impl MessageValues {
    /// The same values with `change` done to each text.
    pub fn each(self, change: impl Fn(&str) -> String) -> Self {
        Self {
            report: ReportValues {
                name: change(&self.report.name),
                title: change(&self.report.title),
            },
            window: WindowValues {
                label: change(&self.window.label),
                exact: change(&self.window.exact),
                zone: change(&self.window.zone),
                duration: change(&self.window.duration),
            },
            run: RunValues {
                id: change(&self.run.id),
                scheduled_for: change(&self.run.scheduled_for),
            },
            audience: self.audience.as_deref().map(&change),
            // These are compared with in conditions more often than they are shown.
            status: self.status,
            summary: change(&self.summary),
            worst: change(&self.worst),
            figures: self
                .figures
                .into_iter()
                .map(|(name, value)| (name, change(&value)))
                .collect(),
        }
    }

    pub(crate) fn sample() -> Self {
        let text = || "x".to_owned();
        Self {
            report: ReportValues {
                name: text(),
                title: text(),
            },
            window: WindowValues {
                label: text(),
                exact: text(),
                zone: text(),
                duration: text(),
            },
            run: RunValues {
                id: text(),
                scheduled_for: text(),
            },
            audience: Some(text()),
            status: text(),
            summary: text(),
            worst: text(),
            figures: BTreeMap::new(),
        }
    }
}

const KNOWN: &str = "report.name, report.title, window.label, window.exact, window.zone, window.duration, run.id, run.scheduled_for, status, summary, worst, figures.NAME";

/// A text that cannot be rendered, or names a value that it does not have.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{error} Known: {KNOWN}{also}")]
pub struct BadText {
    #[source]
    error: BadTemplate,
    also: &'static str,
}

/// Refuses a template that cannot be rendered or names an unknown value.
pub fn check(template: &Template) -> Result<(), BadText> {
    render(template, &MessageValues::sample())
        .map(drop)
        .map_err(|error| BadText {
            error,
            also: ", audience",
        })
}

/// The same for a text that is a part of the document, which several audiences may see.
pub fn check_text(template: &Template) -> Result<(), BadText> {
    render(
        template,
        &MessageValues {
            audience: None,
            ..MessageValues::sample()
        },
    )
    .map(drop)
    .map_err(|error| BadText { error, also: "" })
}

/// The template with its values merged in, as plain text; escaping for HTML or for mail
/// headers is up to whoever puts it there. A figure that this run does not have, because its
/// query failed or found nothing, is "not known".
pub fn render(template: &Template, values: &MessageValues) -> Result<String, BadTemplate> {
    let mut values = values.clone();
    for name in figures_named(template) {
        values
            .figures
            .entry(name)
            .or_insert_with(|| "not known".to_owned());
    }
    merge(template, &values)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::template::Template;

    #[test]
    fn unknown_names_and_broken_syntax_are_refused() {
        assert!(
            check(&Template::new(
                "{{ report.title }}: {{ window.label }}".into()
            ))
            .is_ok()
        );
        let unknown = check(&Template::new("{{ report.titel }}".into()))
            .unwrap_err()
            .to_string();
        assert!(
            unknown.contains("does not exist: report.titel (line 1). Known: report.name, "),
            "{unknown}"
        );
        // A document may be seen by several audiences, so its texts cannot name one.
        let audience = Template::new("for {{ audience }}".into());
        assert!(check(&audience).is_ok());
        assert!(
            check_text(&audience)
                .unwrap_err()
                .to_string()
                .contains("does not exist: audience (line 1)")
        );
        assert!(
            check(&Template::new("{{ report.title ".into()))
                .unwrap_err()
                .to_string()
                .contains("not valid")
        );
    }
}
