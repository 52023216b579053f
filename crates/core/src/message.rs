//! Subject and message templates: merged values, checked before they are saved.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::{document::Document, markdown, snapshot::Snapshot};

/// A template in Jinja syntax, as its author wrote it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Template {
    text: String,
}

impl Template {
    pub fn new(text: String) -> Self {
        Self { text }
    }
}

/// The values that a template may name.
#[derive(Debug, Clone, Serialize)]
pub struct Values {
    pub report: ReportValues,
    pub window: WindowValues,
    pub run: RunValues,
    /// Nothing in texts that several audiences see.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub audience: Option<String>,
    /// `ok`, `warning`, `critical` or `unknown`.
    pub status: String,
    /// How things are, in one sentence.
    pub summary: String,
    /// Key figures as their readers see them, by the name of their column.
    pub figures: BTreeMap<String, String>,
}

#[derive(Debug, Clone, Serialize)]
pub struct ReportValues {
    pub name: String,
    pub title: String,
}

#[derive(Debug, Clone, Serialize)]
pub struct WindowValues {
    pub label: String,
    pub exact: String,
    pub zone: String,
    /// Elapsed time, so that a day may have 23 or 25 hours.
    pub duration: String,
}

#[derive(Debug, Clone, Serialize)]
pub struct RunValues {
    pub id: String,
    pub scheduled_for: String,
}

#[derive(Debug, thiserror::Error)]
pub enum BadTemplate {
    #[error("the template is not valid: {0}.")]
    Syntax(String),
    #[error("the template names something that does not exist: {0}.")]
    Unknown(String),
}

impl Values {
    /// `audience` is nothing for what is a part of the document, which several may see.
    pub fn of(snapshot: &Snapshot, document: &Document, audience: Option<&str>) -> Self {
        let figures = document
            .figures()
            .map(|figure| (figure.name.clone(), figure.value.clone()))
            .rev()
            .collect();
        Self {
            status: document.summary.status.word().to_lowercase(),
            summary: document.summary.headline.clone(),
            figures,
            report: ReportValues {
                name: snapshot.report.clone(),
                title: document.title.clone(),
            },
            window: WindowValues {
                label: snapshot.window.label(),
                exact: snapshot.window.exact(),
                zone: snapshot.window.zone.to_string(),
                duration: snapshot.window.duration(),
            },
            run: RunValues {
                id: snapshot.run_id.clone(),
                scheduled_for: snapshot.window.zone.readable(snapshot.scheduled_for),
            },
            audience: audience.map(str::to_owned),
        }
    }

    /// The same values with `change` done to each text.
    fn each(self, change: impl Fn(&str) -> String) -> Self {
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
            figures: self
                .figures
                .into_iter()
                .map(|(name, value)| (name, change(&value)))
                .collect(),
        }
    }

    fn sample() -> Self {
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
            figures: BTreeMap::new(),
        }
    }
}

const KNOWN: &str = "report.name, report.title, window.label, window.exact, window.zone, window.duration, run.id, run.scheduled_for, status, summary, figures.NAME";

/// Refuses a template that cannot be rendered or names an unknown value.
pub fn check(template: &Template) -> Result<(), String> {
    render(template, &Values::sample())
        .map(drop)
        .map_err(|error| format!("{error} Known: {KNOWN}, audience"))
}

/// The same for a text that is a part of the document, which several audiences may see.
pub fn check_text(template: &Template) -> Result<(), String> {
    render(
        template,
        &Values {
            audience: None,
            ..Values::sample()
        },
    )
    .map(drop)
    .map_err(|error| format!("{error} Known: {KNOWN}"))
}

/// A CommonMark text with its values merged in. They are shown as they are, whatever signs are
/// in them: nothing in a value becomes a link, a list or an emphasis.
pub fn render_text(template: &Template, values: Values) -> Result<String, BadTemplate> {
    render(template, &values.each(markdown::escaped))
}

/// The template with its values merged in, as plain text; escaping for HTML or for mail
/// headers is up to whoever puts it there. A figure that this run does not have, because its
/// query failed or found nothing, is "not known".
pub fn render(template: &Template, values: &Values) -> Result<String, BadTemplate> {
    let mut values = values.clone();
    for name in figures_named(template) {
        values
            .figures
            .entry(name)
            .or_insert_with(|| "not known".to_owned());
    }
    merge(template, &values)
}

/// The key figures that a template names.
pub fn figures_named(template: &Template) -> Vec<String> {
    let environment = minijinja::Environment::new();
    let Ok(parsed) = environment.template_from_str(&template.text) else {
        return Vec::new();
    };
    let mut names: Vec<String> = parsed
        .undeclared_variables(true)
        .iter()
        .filter_map(|name| name.strip_prefix("figures.").map(str::to_owned))
        .collect();
    names.sort();
    names
}

/// The template with any values merged in; what they may be is up to whoever asks.
pub(crate) fn merge(template: &Template, values: &impl Serialize) -> Result<String, BadTemplate> {
    let mut environment = minijinja::Environment::new();
    environment.set_undefined_behavior(minijinja::UndefinedBehavior::Strict);
    environment.set_auto_escape_callback(|_| minijinja::AutoEscape::None);
    environment
        .render_str(&template.text, minijinja::value::Serde(values))
        .map_err(|error| {
            let line = error
                .line()
                .map(|line| format!(" (line {line})"))
                .unwrap_or_default();
            match error.kind() {
                minijinja::ErrorKind::UndefinedError => {
                    let named = error
                        .range()
                        .and_then(|range| template.text.get(range))
                        .unwrap_or("a value");
                    BadTemplate::Unknown(format!("{named}{line}"))
                }
                _ => BadTemplate::Syntax(format!(
                    "{}{line}",
                    error.detail().unwrap_or("unknown error")
                )),
            }
        })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn unknown_names_and_broken_syntax_are_refused() {
        assert!(
            check(&Template::new(
                "{{ report.title }}: {{ window.label }}".into()
            ))
            .is_ok()
        );
        let unknown = check(&Template::new("{{ report.titel }}".into())).unwrap_err();
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
                .contains("does not exist: audience (line 1)")
        );
        assert!(
            check(&Template::new("{{ report.title ".into()))
                .unwrap_err()
                .contains("not valid")
        );
    }
}
