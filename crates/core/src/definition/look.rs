//! What a look definition holds: how a report's documents are laid out and coloured.

use serde::{Deserialize, Serialize};

use super::{
    Picture, read_name,
    reader::{Node, Placed},
};

/// How documents look. What is said in them does not change with it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Look {
    pub name: String,
    pub title: String,
    pub paper: Paper,
    pub landscape: bool,
    /// In millimetres, on every side.
    pub margin: f64,
    pub compact: bool,
    pub dark: bool,
    /// The colour of titles, `#0b4f6c`.
    pub accent: String,
    pub logo: Option<Picture>,
    pub organisation: Option<String>,
    /// What stands in the header and the footer of every page but the first, instead of the
    /// report's title and the run.
    pub header: Option<String>,
    pub footer: Option<String>,
    /// A first page with nothing but what this is, when it is of, and how things are.
    pub cover: bool,
    /// A table of contents after the front.
    pub contents: bool,
    /// Every section begins on a new page.
    pub new_pages: bool,
    /// Two figures stand side by side unless a block says otherwise.
    pub two_across: bool,
    /// The page that says how the document was made.
    pub provenance: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Paper {
    A4,
    Letter,
}

impl Paper {
    /// Width and height in points, upright.
    pub fn size(self) -> (f64, f64) {
        match self {
            Paper::A4 => (595.28, 841.89),
            Paper::Letter => (612.0, 792.0),
        }
    }
}

impl Default for Look {
    fn default() -> Self {
        Self {
            name: String::new(),
            title: String::new(),
            paper: Paper::A4,
            landscape: false,
            margin: 17.0,
            compact: false,
            dark: false,
            accent: "#0b4f6c".to_owned(),
            logo: None,
            organisation: None,
            header: None,
            footer: None,
            cover: false,
            contents: false,
            new_pages: false,
            two_across: false,
            provenance: true,
        }
    }
}

impl Look {
    /// How wide a page's content is, in points.
    pub fn room(&self) -> f64 {
        let (width, height) = self.paper.size();
        self.between_margins(if self.landscape { height } else { width })
    }

    /// The same on a page that lies.
    pub fn lying_room(&self) -> f64 {
        self.between_margins(self.paper.size().1)
    }

    fn between_margins(&self, across: f64) -> f64 {
        across - 2.0 * self.margin * 72.0 / 25.4
    }
}

pub(super) fn read(root: &Node<'_>) -> Option<Placed<Look>> {
    let node = root.table("look")?;
    let usual = Look::default();
    let name = read_name(&node);
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
    let look = Look {
        title: text("title").unwrap_or_else(|| name.clone()),
        name,
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
        dark: node.choice("theme", &["light", "dark"]) == Some("dark"),
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
    Some(Placed { value: look, place })
}

fn is_colour(text: &str) -> bool {
    text.len() == 7 && text.starts_with('#') && text[1..].chars().all(|c| c.is_ascii_hexdigit())
}
