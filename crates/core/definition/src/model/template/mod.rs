//! A text with merged values, in Jinja syntax.
//!
//! Authors write templates and every process renders them, so what they may do is bounded before
//! they are parsed: their length, their tags, what a tag may hold. Rendering has fuel and an
//! output limit.

mod bounds;

use std::io::{self, Write};

use minijinja::{Environment, ErrorKind, UndefinedBehavior, filters, tests};
use serde::Serialize;

/// A template in Jinja syntax, as its author wrote it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Template {
    text: String,
}

impl Template {
    /// Takes a text as it is; [`Template::render`] and the checks read it.
    #[must_use]
    pub fn new(text: String) -> Self {
        Self { text }
    }
}

/// Why a template cannot be rendered.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadTemplate {
    /// It cannot be read. The text says where and why.
    #[error("the template is not valid: {0}.")]
    Syntax(String),
    /// It names a value that there is none of.
    #[error("the template names something that does not exist: {0}.")]
    Unknown(String),
    /// It is larger or deeper than a template may be.
    #[error("the template is more than a message needs: {0}.")]
    OutOfBounds(#[from] bounds::OutOfBounds),
    /// Rendering took too many steps.
    #[error("rendering the template takes more steps than a message needs (limit {MOST_STEPS}).")]
    TooLong,
    /// What it renders is too large.
    #[error("the template writes more than {MOST_OUTPUT} bytes.")]
    TooLarge,
}

/// So many instructions of the template engine one rendering may take.
const MOST_STEPS: u64 = 100_000;

/// So many bytes one rendering may write.
const MOST_OUTPUT: usize = 1_000_000;

/// The key figures that a template names; none of one that is out of bounds.
#[must_use]
pub fn figures_named(template: &Template) -> Vec<String> {
    if bounds::check(&template.text).is_err() {
        return Vec::new();
    }
    let environment = Environment::empty();
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

/// What templates have at hand: filters and tests that make nothing larger than it is.
fn environment() -> Environment<'static> {
    let mut environment = Environment::empty();
    environment.add_filter("upper", filters::upper);
    environment.add_filter("lower", filters::lower);
    environment.add_filter("title", filters::title);
    environment.add_filter("capitalize", filters::capitalize);
    environment.add_filter("trim", filters::trim);
    environment.add_filter("default", filters::default);
    environment.add_filter("length", filters::length);
    environment.add_filter("first", filters::first);
    environment.add_filter("last", filters::last);
    environment.add_filter("int", filters::int);
    environment.add_filter("float", filters::float);
    environment.add_filter("round", filters::round);
    environment.add_filter("abs", filters::abs);
    environment.add_test("defined", tests::is_defined);
    environment.add_test("undefined", tests::is_undefined);
    environment.add_test("none", tests::is_none);
    environment.set_undefined_behavior(UndefinedBehavior::Strict);
    environment.set_auto_escape_callback(|_| minijinja::AutoEscape::None);
    environment.set_fuel(Some(MOST_STEPS));
    environment
}

/// Takes what is written up to the limit.
#[derive(Default)]
struct Output {
    bytes: Vec<u8>,
    full: bool,
}

impl Write for Output {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.bytes.len() + bytes.len() > MOST_OUTPUT {
            self.full = true;
            return Err(io::Error::other("the template writes too much"));
        }
        self.bytes.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// The template with any values merged in; what they may be is up to whoever asks.
pub(crate) fn merge(template: &Template, values: &impl Serialize) -> Result<String, BadTemplate> {
    bounds::check(&template.text)?;
    let environment = environment();
    let mut output = Output::default();
    let rendered = environment
        .template_from_str(&template.text)
        .and_then(|parsed| {
            let values = minijinja::value::Serde(values);
            parsed.render_captured_to(values, &mut output).map(drop)
        });
    match rendered {
        Ok(()) => Ok(String::from_utf8_lossy(&output.bytes).into_owned()),
        Err(_) if output.full => Err(BadTemplate::TooLarge),
        Err(error) => Err(in_words(template, &error)),
    }
}

fn in_words(template: &Template, error: &minijinja::Error) -> BadTemplate {
    let line = error
        .line()
        .map(|line| format!(" (line {line})"))
        .unwrap_or_default();
    match error.kind() {
        ErrorKind::OutOfFuel => BadTemplate::TooLong,
        ErrorKind::UndefinedError => {
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
}

#[cfg(test)]
mod limit_tests {
    use super::*;

    fn rendered(text: &str) -> Result<String, BadTemplate> {
        let values =
            serde_json::json!({ "title": "a title", "figures": { "a": "1", "b": "2", "c": "3" } });
        merge(&Template::new(text.to_owned()), &values)
    }

    #[test]
    fn what_messages_need_is_there() {
        let text = "{# a note #}{% for name in figures %}{{ name | upper }}{% endfor %} {{ title|capitalize }}{% if missing is defined %}!{% else %}.{% endif %}";
        assert_eq!(rendered(text).unwrap(), "ABC A title.");
        assert_eq!(rendered("{{ \"}}\" }}").unwrap(), "}}");
    }

    /// Each of these hung a process, took its memory, or overflowed its stack.
    #[test]
    fn what_would_take_a_process_down_is_refused() {
        let many = |open: &str, inner: &str, close: &str| {
            format!("{}{inner}{}", open.repeat(5_000), close.repeat(5_000))
        };
        for text in [
            format!("{{{{ {}1 }}}}", "-".repeat(5_000)),
            format!("{{{{ {}title }}}}", "not ".repeat(5_000)),
            format!("{{{{ title{} }}}}", "|upper".repeat(5_000)),
            format!("{{{{ title{} }}}}", ".a".repeat(5_000)),
            format!("{{{{ \"}}}}\" ~ {}1 }}}}", "-".repeat(5_000)),
            many("{% if title %}", "x", "{% endif %}"),
            format!(
                "{{% if title %}}{}{{% endif %}}",
                "{% elif title %}".repeat(5_000)
            ),
            "{% set a = \"x\" %}{% set a = a ~ a %}".to_owned(),
            "{{ \"x\" * 99999999 }}".to_owned(),
            "{% macro m() %}{{ m() }}{% endmacro %}{{ m() }}".to_owned(),
        ] {
            let error = rendered(&text).unwrap_err();
            assert!(matches!(error, BadTemplate::OutOfBounds(_)), "{error}");
        }
        assert!(rendered("{{ title | replace(\"a\", \"aa\") }}").is_err());
        assert!(rendered("{% for n in range(99) %}x{% endfor %}").is_err());
        let nested = format!(
            "{}{{{{ title }}}}{}",
            "{% for name in figures %}".repeat(40),
            "{% endfor %}".repeat(40)
        );
        assert_eq!(rendered(&nested), Err(BadTemplate::TooLong));
        let long = "x".repeat(40_000);
        let wide = format!(
            "{}{long}{}",
            "{% for name in figures %}".repeat(4),
            "{% endfor %}".repeat(4)
        );
        assert_eq!(rendered(&wide), Err(BadTemplate::TooLarge));
    }
}
