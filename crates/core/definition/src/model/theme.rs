//! What a theme holds: how a report's documents are laid out and coloured.

use serde::{Deserialize, Serialize};

use crate::{model::picture::Picture, problem::Placed};

/// How documents look. What is said in them does not change with it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Theme {
    /// Its name, unique among themes.
    pub name: String,
    /// The team that it belongs to; none if it belongs to all.
    #[serde(skip)]
    pub teams: Vec<Placed<String>>,
    /// Its title for people.
    pub title: String,
    /// The size of a page.
    pub paper: Paper,
    /// Whether pages lie on their side.
    pub landscape: bool,
    /// In millimetres, on every side.
    pub margin: f64,
    /// Whether everything is set closer together.
    pub compact: bool,
    /// Light on dark, where it is read on a screen.
    pub dark: bool,
    /// The colour of titles, `#0b4f6c`.
    pub accent: String,
    /// A logo for the front.
    pub logo: Option<Picture>,
    /// Whose documents they are.
    pub organisation: Option<String>,
    /// What stands in the header and the footer of every page but the first, instead of the
    /// report's title and the run.
    pub header: Option<String>,
    /// A line at the foot of each page.
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

/// The sizes of a page.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Paper {
    /// 210 × 297 mm (ISO 216).
    A4,
    /// 8.5 × 11 inches.
    Letter,
}

impl Paper {
    /// Width and height in points, upright.
    #[must_use]
    pub fn size(self) -> (f64, f64) {
        match self {
            Paper::A4 => (595.28, 841.89),
            Paper::Letter => (612.0, 792.0),
        }
    }
}

impl Default for Theme {
    fn default() -> Self {
        Self {
            name: String::new(),
            teams: Vec::new(),
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

impl Theme {
    /// How wide a page's content is, in points.
    #[must_use]
    pub fn room(&self) -> f64 {
        let (width, height) = self.paper.size();
        self.between_margins(if self.landscape { height } else { width })
    }

    /// The same on a page that lies.
    #[must_use]
    pub fn lying_room(&self) -> f64 {
        self.between_margins(self.paper.size().1)
    }

    /// How high a page's content is, in points, between its header and its footer.
    #[must_use]
    pub fn height(&self) -> f64 {
        let (width, height) = self.paper.size();
        self.between_margins(if self.landscape { width } else { height }) - 3.0 * 72.0 / 25.4
    }

    fn between_margins(&self, across: f64) -> f64 {
        across - 2.0 * self.margin * 72.0 / 25.4
    }
}
