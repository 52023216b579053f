//! A text with merged values, in Jinja syntax.

use serde::Serialize;

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

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadTemplate {
    #[error("the template is not valid: {0}.")]
    Syntax(String),
    #[error("the template names something that does not exist: {0}.")]
    Unknown(String),
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
