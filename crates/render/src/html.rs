//! HTML: one file that needs no script and asks nothing of the network. Where a report wants it, a script
//! in it answers its reader (see [`crate::answering`]).

use base64::{Engine, engine::general_purpose::STANDARD};
use maple_lark_data::stop;
use std::{collections::BTreeSet, sync::LazyLock};

use maple_lark_document::document::{Align, Body, Document, Heading, ShownTable};
use minijinja::{AutoEscape, Environment, value::Serde};
use serde_json::{Value, json};

use crate::{
    RenderError, answering,
    chart::{self, Size, values::values},
    palette, place, template_values,
};

/// A table of so many columns is a card a row on a phone: of fewer the rows fit, and with more a card is
/// no easier to read.
const LEAST_CARDS: usize = 4;
const MOST_CARDS: usize = 16;
/// A longer word than this is broken in the cells of a mail.
const LONGEST_WORD: usize = 24;

static TEMPLATES: LazyLock<Environment<'static>> = LazyLock::new(|| {
    let mut environment = Environment::new();
    environment.set_auto_escape_callback(|_| AutoEscape::Html);
    environment.set_undefined_behavior(minijinja::UndefinedBehavior::Strict);
    environment.add_test("unbroken", is_unbroken);
    for (name, text) in [
        ("parts", include_str!("../templates/parts.html")),
        ("report", include_str!("../templates/report.html")),
        ("mail", include_str!("../templates/mail.html")),
    ] {
        // The templates are part of the program; the tests render each of them.
        environment
            .add_template(name, text)
            .expect("a template of the program is valid");
    }
    environment
});

/// Whether a text has a word that may be wider than its cell. In a mail such a one breaks anywhere; others keep their
/// columns as wide as their words.
fn is_unbroken(text: &str) -> bool {
    text.split_whitespace()
        .any(|word| word.chars().count() > LONGEST_WORD)
}

/// Renders one of the program's own templates, escaping every value for HTML.
pub(crate) fn render_template(name: &str, values: &Value) -> Result<String, RenderError> {
    Ok(TEMPLATES.get_template(name)?.render(Serde(values))?)
}

/// The whole document as one HTML file.
pub fn html(document: &Document) -> Result<String, RenderError> {
    page(document, false)
}

/// The blocks of a document as an HTML file, without what stands around them.
pub fn html_of_blocks(document: &Document) -> Result<String, RenderError> {
    page(document, true)
}

fn page(document: &Document, blocks_alone: bool) -> Result<String, RenderError> {
    let answers = document.interactive && !blocks_alone;
    let mut model = template_values(document);
    let mut colours = BTreeSet::new();
    let mut named = |svg: String| Value::from(named_colours(&svg, &mut colours));
    for (section_index, section) in document.sections.iter().enumerate() {
        for (block_index, block) in section.blocks.iter().enumerate() {
            stop::check();
            let body = &mut model["sections"][section_index]["blocks"][block_index]["body"];
            if let Body::Figures { figures } = &block.body {
                for (index, figure) in figures
                    .iter()
                    .enumerate()
                    .filter(|(_, figure)| !figure.sparkline.is_empty())
                {
                    body["figures"][index]["strokes"] = strokes(&figure.sparkline).into();
                }
            }
            if let Body::Table { table } = &block.body {
                shown_table(table, body);
            }
            if let Body::Page { parts, address, .. } = &block.body {
                body["place"] = place(address).into();
                for (index, part) in parts.iter().enumerate() {
                    body["parts"][index]["base64"] = STANDARD.encode(&part.png).into();
                }
            }
            if let Body::Chart { chart } = &block.body {
                let name = format!("chart-{}-{}", section_index + 1, block_index + 1);
                let size = Size::of(block.width);
                let (wide, narrow) = chart::on_page(chart, size, &name, answers);
                body["svg"] = named(wide);
                if !blocks_alone {
                    body["values"] = values(chart, document).into();
                }
                body["narrow_svg"] = narrow.map_or(Value::Null, &mut named);
                if answers && let Some(points) = answering::points(chart) {
                    body["points"] = in_script(&points);
                }
            }
        }
    }
    let dark: String = colours
        .iter()
        .map(|colour| format!("--{}: {}; ", &colour[1..], palette::dark(colour)))
        .collect();
    let reader = answers.then(|| {
        json!({ "settings": in_script(&answering::settings(document)), "policy": answering::script_policy(), "script": answering::SCRIPT })
    });
    let mut whole = json!({ "reader": reader, "most_cards": MOST_CARDS, "blocks_alone": blocks_alone, "statuses": statuses(), "accent": palette::accent(&document.theme.accent, false), "dark_accent": palette::accent(&document.theme.accent, true), "dark_colours": dark });
    whole["document"] = model;
    render_template("report", &whole)
}

/// A table as the template takes it: what its columns are called on a phone and how their cells stand, and
/// cells that are only text as that text, for there may be thousands.
fn shown_table(table: &ShownTable, body: &mut Value) {
    if (LEAST_CARDS..=MOST_CARDS).contains(&table.headings.len()) {
        body["labels"] = labels(&table.headings).into();
    }
    let kinds = table.headings.iter().map(|heading| match heading.align {
        _ if heading.trend => "trend",
        Align::Right => "number",
        Align::Left => "",
    });
    body["kinds"] = kinds.collect();
    for (row, cells) in table.rows.iter().enumerate() {
        for (column, cell) in cells.iter().enumerate() {
            let shown = &mut body["table"]["rows"][row][column];
            if !cell.trend.is_empty() {
                shown["strokes"] = strokes(&cell.trend).into();
            } else if cell.mark.is_none() && cell.bar.is_none() {
                *shown = shown["text"].take();
            }
        }
    }
}

/// What the columns of a table are called, as custom properties for the style sheet: on a phone, where
/// each row is a card, they stand before its cells. The first needs no name.
fn labels(headings: &[Heading]) -> String {
    let named = headings.iter().enumerate().skip(1);
    let each = named.map(|(index, heading)| {
        let unit = match heading.unit.as_str() {
            "" => String::new(),
            unit => format!(" ({unit})"),
        };
        format!(
            "--c{}:{};",
            index + 1,
            css_string(&(heading.title.clone() + &unit))
        )
    });
    each.collect()
}

/// A text as a string of a style sheet: what could end it, or hide it, is written as its number.
fn css_string(text: &str) -> String {
    let signs = text.chars().map(|sign| match sign {
        '"' | '\\' | '<' | '\0'..='\x1f' | '\x7f' => format!("\\{:x} ", u32::from(sign)),
        sign => sign.to_string(),
    });
    format!("\"{}\"", signs.collect::<String>())
}

/// Data as it may stand in a page's script element.
fn in_script(data: &Value) -> Value {
    data.to_string().replace('<', "\\u003c").into()
}

/// The colours of a figure as variables that the page can set for readers who prefer the dark,
/// with what they are in the light. Texts have no quotation marks of their own (see [`escaped`]).
fn named_colours(svg: &str, colours: &mut BTreeSet<String>) -> String {
    // For one character the search is several times as fast as for three, and a picture of thousands of
    // points is gone through for a few dozen colours.
    let mut parts = svg.split('#');
    let mut out = String::with_capacity(svg.len() + svg.len() / 8);
    out += parts.next().unwrap_or_default();
    for part in parts {
        let value = out.ends_with("=\"").then(|| part.split_once('"')).flatten();
        if let Some((colour, rest)) = value {
            for piece in ["var(--", colour, ",#", colour, ")\"", rest] {
                out += piece;
            }
            if !colours.iter().any(|known| &known[1..] == colour) {
                colours.insert(format!("#{colour}"));
            }
        } else {
            out.push('#');
            out += part;
        }
    }
    out
}

/// A line without axes, broken where a value is missing.
fn strokes(values: &[Option<f64>]) -> String {
    let step = 120.0 / values.len().saturating_sub(1).max(1) as f64;
    let point = |(index, value): (usize, &Option<f64>)| {
        value.map(|value| format!("{:.1},{:.1}", index as f64 * step, 18.0 - value * 16.0))
    };
    let points: Vec<Option<String>> = values.iter().enumerate().map(point).collect();
    let stroke = |part: &[Option<String>]| {
        format!(
            "<polyline points=\"{}\"/>",
            part.iter()
                .flatten()
                .map(String::as_str)
                .collect::<Vec<_>>()
                .join(" ")
        )
    };
    points
        .split(Option::is_none)
        .filter(|part| !part.is_empty())
        .map(stroke)
        .collect()
}

/// A text as it may stand in HTML and XML, also between quotation marks.
pub(crate) fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for part in text.split_inclusive(['&', '<', '>', '"']) {
        let (plain, sign) = match part.char_indices().next_back() {
            Some((at, '&')) => (&part[..at], "&amp;"),
            Some((at, '<')) => (&part[..at], "&lt;"),
            Some((at, '>')) => (&part[..at], "&gt;"),
            Some((at, '"')) => (&part[..at], "&quot;"),
            _ => (part, ""),
        };
        out += plain;
        out += sign;
    }
    out
}

pub(crate) fn statuses() -> Value {
    use maple_lark_data::status::Status;
    let entry = |status: Status, paper: &str| json!({ "word": status.word(), "mark": palette::mark(status), "ink": palette::status(status), "paper": paper });
    json!({
        "ok": entry(Status::Ok, "#e9f4ee"),
        "unknown": entry(Status::Unknown, "#eef1f3"),
        "warning": entry(Status::Warning, "#fdf3e3"),
        "critical": entry(Status::Critical, "#fbebed"),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_name_of_a_column_leaves_its_string() {
        assert_eq!(css_string("Kö 'n' %"), "\"Kö 'n' %\"");
        assert_eq!(
            css_string("a\"b\\c\nd</style>"),
            r#""a\22 b\5c c\a d\3c /style>""#
        );
    }
}
