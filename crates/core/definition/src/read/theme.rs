//! Reads themes from their tables.

use crate::{
    model::{
        picture::Picture,
        theme::{Paper, Theme},
    },
    problem::Placed,
    read::{
        name::{read_name, read_team},
        node::Node,
    },
};

pub(crate) fn read(root: &Node<'_>) -> Option<Placed<Theme>> {
    let node = root.table("theme")?;
    let usual = Theme::default();
    let name = read_name(&node);
    let teams = read_team(&node);
    let text = |key| node.text(key).map(|text| text.value);
    let truth = |key| node.truth(key);
    let accent = match node.text("accent") {
        None => usual.accent,
        Some(text) if is_colour(&text.value) => text.value.to_ascii_lowercase(),
        Some(text) => {
            node.report(
                "accent",
                format!("\"{}\" is not a colour such as \"#0b4f6c\"", text.value),
            );
            usual.accent
        }
    };
    let theme = Theme {
        title: text("title").unwrap_or_else(|| name.clone()),
        name,
        teams,
        paper: if node.choice("paper", &["a4", "letter"]) == Some("letter") {
            Paper::Letter
        } else {
            Paper::A4
        },
        landscape: node.choice("orientation", &["portrait", "landscape"]) == Some("landscape"),
        margin: node
            .whole("margin-mm", 8..=40)
            .map_or(usual.margin, |margin| margin as f64),
        compact: node.choice("density", &["comfortable", "compact"]) == Some("compact"),
        dark: node.choice("mode", &["light", "dark"]) == Some("dark"),
        accent,
        logo: node.parsed::<Picture>("logo"),
        organisation: text("organisation"),
        header: text("header"),
        footer: text("footer"),
        cover: truth("cover").unwrap_or(usual.cover),
        contents: truth("contents").unwrap_or(usual.contents),
        new_pages: truth("sections-on-new-pages").unwrap_or(usual.new_pages),
        two_across: truth("two-across").unwrap_or(usual.two_across),
        provenance: truth("provenance").unwrap_or(usual.provenance),
    };
    let place = node.place();
    node.close();
    Some(Placed {
        value: theme,
        place,
    })
}

fn is_colour(text: &str) -> bool {
    text.len() == 7 && text.starts_with('#') && text[1..].chars().all(|c| c.is_ascii_hexdigit())
}
