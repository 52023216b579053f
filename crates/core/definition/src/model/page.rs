//! What is asked of a live page: how it is looked at, when it has finished, what is kept.

use crate::model::{query::placeholder::PlaceholderText, setting::Setting};

/// What is asked of a live page.
#[derive(Debug, Clone, PartialEq)]
pub struct PageAsk {
    /// What stands behind the source's address, with places for the window and for parameters.
    pub path: PlaceholderText,
    /// How it is looked at.
    pub view: PageView,
    /// What is done on it before it is kept.
    pub steps: Vec<PageStep<PlaceholderText>>,
    /// When it has finished drawing.
    pub finished: Finished,
    /// Selectors of what is left out, such as navigation.
    pub hide: Vec<String>,
    /// What is kept of it.
    pub keep: Keep,
}

/// How a page is looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PageView {
    /// In CSS pixels.
    pub width: u32,
    /// In CSS pixels; the page may be longer.
    pub height: u32,
    /// Pixels of the picture for each CSS pixel.
    pub scale: u32,
    /// Whether dark colours are preferred; the page's own choice, if nothing is said.
    pub dark: Option<bool>,
    /// Whether the page's style for print is used, instead of that for screens.
    pub print_style: bool,
    /// The language and country that the page is asked for, such as `en-GB`.
    pub locale: String,
}

impl Default for PageView {
    fn default() -> Self {
        Self {
            width: 1280,
            height: 800,
            scale: 2,
            dark: None,
            print_style: false,
            locale: "en-GB".to_owned(),
        }
    }
}

/// One thing done on a page. `T` is what a value is written as: a setting that may be secret
/// where somebody signs in, a text with placeholders elsewhere.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PageStep<T> {
    /// Goes to an address behind the source's.
    Open(String),
    /// Fills a field, named by its label or by a selector.
    Fill {
        /// The label's words, or a selector.
        field: String,
        /// What is typed or chosen.
        with: T,
    },
    /// Presses a button or link, named by its words or by a selector.
    Press(String),
    /// Waits until a selector is there.
    WaitFor(String),
}

impl<T> PageStep<T> {
    /// The step with another value in the place of its own.
    ///
    /// # Errors
    /// Those of the change.
    pub fn try_map<U, E>(&self, change: impl FnOnce(&T) -> Result<U, E>) -> Result<PageStep<U>, E> {
        Ok(match self {
            Self::Open(path) => PageStep::Open(path.clone()),
            Self::Press(control) => PageStep::Press(control.clone()),
            Self::WaitFor(selector) => PageStep::WaitFor(selector.clone()),
            Self::Fill { field, with } => PageStep::Fill {
                field: field.clone(),
                with: change(with)?,
            },
        })
    }

    /// The step in words, without what is typed.
    #[must_use]
    pub fn in_words(&self) -> String {
        match self {
            Self::Open(path) => format!("open {path}"),
            Self::Fill { field, .. } => format!("fill \"{field}\""),
            Self::Press(control) => format!("press \"{control}\""),
            Self::WaitFor(selector) => format!("wait for \"{selector}\""),
        }
    }
}

/// The steps of a sign-in by form.
pub type SignInSteps = Vec<PageStep<Setting>>;

/// When a page has finished drawing: all that is said must hold together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finished {
    /// Selectors that must be there.
    pub there: Vec<String>,
    /// Selectors that must be gone, such as a spinner.
    pub gone: Vec<String>,
    /// Texts that must be there.
    pub text: Vec<String>,
    /// An expression of the page's own language (ECMAScript) that must be true.
    pub when: Option<String>,
    /// No request may be under way for so long.
    pub quiet_milliseconds: u64,
    /// So long after all else holds.
    pub after_milliseconds: u64,
    /// How long it may take.
    pub limit_seconds: u64,
}

impl Default for Finished {
    fn default() -> Self {
        Self {
            there: Vec::new(),
            gone: Vec::new(),
            text: Vec::new(),
            when: None,
            quiet_milliseconds: 500,
            after_milliseconds: 0,
            limit_seconds: 30,
        }
    }
}

/// What is kept of a page.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Keep {
    /// How it looks.
    Look {
        /// The parts that are kept; the whole page if there are none.
        parts: Vec<PartAsk>,
        /// Whether the browser prints it too, so that it is sharp in the PDF.
        printed: bool,
    },
    /// The rows of a table on it, by its selector.
    Table(String),
    /// The rows of the CSV that its steps download.
    Download,
}

/// A part of a page.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PartAsk {
    /// Where it is.
    pub selector: String,
    /// Its title, if not the one that it has itself.
    pub title: Option<String>,
    /// What it shows, for those who do not see it; its own text, if not given.
    pub description: Option<String>,
}
