//! HTML: one file that needs no script and asks nothing of the network.

use std::sync::LazyLock;

use maple_lark_core::{
    definition::Width,
    document::{Body, Document},
};
use minijinja::{AutoEscape, Environment, value::Serde};
use serde_json::{Value, json};

use crate::{
    RenderError,
    chart::{self, Size},
    palette, template_values,
};

static TEMPLATES: LazyLock<Environment<'static>> = LazyLock::new(|| {
    let mut environment = Environment::new();
    environment.set_auto_escape_callback(|_| AutoEscape::Html);
    environment.set_undefined_behavior(minijinja::UndefinedBehavior::Strict);
    for (name, text) in [
        ("parts", include_str!("../templates/parts.html")),
        ("report", include_str!("../templates/report.html")),
        ("mail", include_str!("../templates/mail.html")),
    ] {
        // The templates are part of the program; the tests render each of them.
        environment.add_template(name, text).expect("a template of the program is valid");
    }
    environment
});

/// Renders one of the program's own templates, escaping every value for HTML.
pub(crate) fn render_template(name: &str, values: &Value) -> Result<String, RenderError> {
    Ok(TEMPLATES.get_template(name)?.render(Serde(values))?)
}

/// The whole document as one HTML file.
pub fn html(document: &Document) -> Result<String, RenderError> {
    let mut model = template_values(document);
    for (section_index, section) in document.sections.iter().enumerate() {
        for (block_index, block) in section.blocks.iter().enumerate() {
            if let Body::Chart { chart } = &block.body {
                // A phone gets a figure drawn for its width instead of a shrunken one.
                let wide = if block.width == Width::Half { Size::Half } else { Size::Full };
                let body = &mut model["sections"][section_index]["blocks"][block_index]["body"];
                body["svg"] = chart::svg(chart, wide)?.into();
                body["narrow_svg"] = if wide == Size::Full { chart::svg(chart, Size::Half)?.into() } else { Value::Null };
            }
        }
    }
    render_template("report", &json!({ "document": model, "statuses": statuses() }))
}

pub(crate) fn statuses() -> Value {
    use maple_lark_core::status::Status;
    let entry = |status: Status, paper: &str| json!({ "word": status.word(), "mark": palette::mark(status), "ink": palette::status(status), "paper": paper });
    json!({
        "ok": entry(Status::Ok, "#e9f4ee"),
        "unknown": entry(Status::Unknown, "#eef1f3"),
        "warning": entry(Status::Warning, "#fdf3e3"),
        "critical": entry(Status::Critical, "#fbebed"),
    })
}
