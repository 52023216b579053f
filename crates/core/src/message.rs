//! Subject and message templates: merged values, checked before they are saved.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::{document::Document, snapshot::Snapshot};

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
    pub audience: String,
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
    pub fn of(snapshot: &Snapshot, document: &Document, audience: &str) -> Self {
        let figures = document.figures().map(|figure| (figure.name.clone(), figure.value.clone())).rev().collect();
        Self {
            status: document.summary.status.word().to_lowercase(),
            summary: document.summary.headline.clone(),
            figures,
            report: ReportValues { name: snapshot.report.clone(), title: document.title.clone() },
            window: WindowValues {
                label: snapshot.window.label(),
                exact: snapshot.window.exact(),
                zone: snapshot.window.zone.to_string(),
                duration: snapshot.window.duration(),
            },
            run: RunValues { id: snapshot.run_id.clone(), scheduled_for: snapshot.window.zone.readable(snapshot.scheduled_for) },
            audience: audience.to_owned(),
        }
    }

    fn sample() -> Self {
        let text = || "x".to_owned();
        Self {
            report: ReportValues { name: text(), title: text() },
            window: WindowValues { label: text(), exact: text(), zone: text(), duration: text() },
            run: RunValues { id: text(), scheduled_for: text() },
            audience: text(),
            status: text(),
            summary: text(),
            figures: BTreeMap::new(),
        }
    }
}

/// Refuses a template that cannot be rendered or names an unknown value.
pub fn check(template: &Template) -> Result<(), String> {
    let known = "report.name, report.title, window.label, window.exact, window.zone, window.duration, run.id, run.scheduled_for, audience, status, summary, figures.NAME";
    render(template, &Values::sample()).map(drop).map_err(|error| format!("{error} Known: {known}"))
}

/// The template with its values merged in, as plain text; escaping for HTML or for mail
/// headers is up to whoever puts it there. A figure that this run does not have, because its
/// query failed or found nothing, is "not known".
pub fn render(template: &Template, values: &Values) -> Result<String, BadTemplate> {
    let mut values = values.clone();
    for name in figures_named(template) {
        values.figures.entry(name).or_insert_with(|| "not known".to_owned());
    }
    merge(template, &values)
}

/// The key figures that a template names.
pub fn figures_named(template: &Template) -> Vec<String> {
    let environment = minijinja::Environment::new();
    let Ok(parsed) = environment.template_from_str(&template.text) else { return Vec::new() };
    let mut names: Vec<String> = parsed.undeclared_variables(true).iter().filter_map(|name| name.strip_prefix("figures.").map(str::to_owned)).collect();
    names.sort();
    names
}

/// The template with any values merged in; what they may be is up to whoever asks.
pub(crate) fn merge(template: &Template, values: &impl Serialize) -> Result<String, BadTemplate> {
    let mut environment = minijinja::Environment::new();
    environment.set_undefined_behavior(minijinja::UndefinedBehavior::Strict);
    environment.set_auto_escape_callback(|_| minijinja::AutoEscape::None);
    environment.render_str(&template.text, minijinja::value::Serde(values)).map_err(|error| {
        let line = error.line().map(|line| format!(" (line {line})")).unwrap_or_default();
        match error.kind() {
            minijinja::ErrorKind::UndefinedError => {
                let named = error.range().and_then(|range| template.text.get(range)).unwrap_or("a value");
                BadTemplate::Unknown(format!("{named}{line}"))
            }
            _ => BadTemplate::Syntax(format!("{}{line}", error.detail().unwrap_or("unknown error"))),
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn unknown_names_and_broken_syntax_are_refused() {
        assert!(check(&Template::new("{{ report.title }}: {{ window.label }}".into())).is_ok());
        let unknown = check(&Template::new("{{ report.titel }}".into())).unwrap_err();
        assert!(unknown.contains("does not exist: report.titel (line 1). Known: report.name, "), "{unknown}");
        assert!(check(&Template::new("{{ report.title ".into())).unwrap_err().contains("not valid"));
    }
}
