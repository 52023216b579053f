//! What is asked of the browser, and what comes of it.

use std::time::Duration;

use maple_lark_definition::{Finished, Keep, PageView};
use serde::Deserialize;
use url::Url;

use crate::Gate;

/// One capture, with every setting looked up and every placeholder filled.
pub struct Order {
    /// Captures with the same words here share a sign-in.
    pub session: String,
    /// The page.
    pub address: Url,
    /// How it is looked at.
    pub view: PageView,
    /// The IANA time zone that the page is told.
    pub zone: String,
    /// Headers that requests to the page's own origin have, and no others.
    pub headers: Vec<(String, String)>,
    /// Cookies of the page's own origin.
    pub cookies: Vec<(String, String)>,
    /// How somebody signs in by form; empty if nobody must.
    pub sign_in: Vec<Act>,
    /// What is done on the page before it is kept.
    pub steps: Vec<Act>,
    /// When it has finished drawing.
    pub finished: Finished,
    /// Selectors of what is left out.
    pub hide: Vec<String>,
    /// What is kept.
    pub keep: Keep,
    /// Selectors that must be there in the end, beside what is kept.
    pub must_have: Vec<String>,
    /// Whether the parts that somebody may want are listed too.
    pub outline: bool,
    /// How long all of it may take.
    pub limit: Duration,
    /// The most rows of a table.
    pub most_rows: usize,
    /// The most bytes of all that is kept.
    pub most_bytes: u64,
    /// Which addresses may be reached.
    pub gate: Gate,
}

impl Order {
    /// An order for a page as it looks, with nothing but its address and the way to it.
    #[must_use]
    pub fn of(session: String, address: Url, gate: Gate) -> Self {
        Self {
            session,
            address,
            view: PageView::default(),
            zone: "UTC".to_owned(),
            headers: Vec::new(),
            cookies: Vec::new(),
            sign_in: Vec::new(),
            steps: Vec::new(),
            finished: Finished::default(),
            hide: Vec::new(),
            keep: Keep::Look {
                parts: Vec::new(),
                printed: false,
            },
            must_have: Vec::new(),
            outline: false,
            limit: Duration::from_secs(60),
            most_rows: 1_000,
            most_bytes: 50_000_000,
            gate,
        }
    }
}

/// A step with its value.
pub type Act = maple_lark_definition::PageStep<Typed>;

/// What is typed into a field.
#[derive(Clone)]
pub struct Typed {
    /// The text.
    pub text: String,
    /// Of a secret: the hosts whose pages it may be typed into. It is seen in no picture and no
    /// error.
    pub secret_for: Option<Vec<String>>,
}

impl Typed {
    /// A text that everybody may see.
    #[must_use]
    pub fn plain(text: String) -> Self {
        Self {
            text,
            secret_for: None,
        }
    }

    /// Whether nobody may see it.
    #[must_use]
    pub fn is_secret(&self) -> bool {
        self.secret_for.is_some()
    }
}

/// What came of a capture.
#[derive(Debug, Clone)]
pub struct Captured {
    /// The page's own title.
    pub title: String,
    /// Where it was in the end.
    pub address: String,
    /// The browser with its version.
    pub browser: String,
    /// How long it took from the first request until the page had finished.
    pub finished_after: Duration,
    /// What was done, each with its time.
    pub steps: Vec<StepTime>,
    /// What a reader should know, such as that the page was longer.
    pub note: Option<String>,
    /// What was kept.
    pub kept: Kept,
    /// The parts that somebody may want, if they were asked for.
    pub outline: Vec<Outline>,
}

/// What was kept.
#[derive(Debug, Clone)]
pub enum Kept {
    /// How it looks.
    Look {
        /// The parts, in the order that they were asked for; one if it is the whole page.
        parts: Vec<Part>,
        /// The whole page in CSS pixels.
        width: u32,
        /// The whole page in CSS pixels.
        height: u32,
        /// The whole page as one page of PDF, if it was asked for.
        printed: Option<Vec<u8>>,
    },
    /// Rows of texts, the names of their columns first.
    Table(Vec<Vec<String>>),
    /// The file that the page offered.
    Download(Vec<u8>),
}

/// A part of a page, as it looks. Lengths are in CSS pixels.
#[derive(Debug, Clone)]
pub struct Part {
    /// Which of the parts asked for it is; nothing for the whole page.
    pub asked: Option<usize>,
    /// Its own title; may be empty.
    pub title: String,
    /// Its own words.
    pub text: String,
    /// From the page's left.
    pub x: u32,
    /// From the page's top.
    pub y: u32,
    pub width: u32,
    pub height: u32,
    /// Heights, from the part's top, at which it can be cut through nothing.
    pub cuts: Vec<u32>,
    /// The picture.
    pub png: Vec<u8>,
}

/// A part that somebody may want. Lengths are in CSS pixels.
#[derive(Debug, Clone, Deserialize)]
pub struct Outline {
    /// Leads to it.
    pub selector: String,
    /// What it is called on the page.
    pub title: String,
    /// Whether it is a table.
    pub is_table: bool,
    pub x: u32,
    pub y: u32,
    pub width: u32,
    pub height: u32,
}

/// One thing done, with the time that it took.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StepTime {
    /// What it was.
    pub what: String,
    /// How long it took.
    pub took: Duration,
}

/// A capture that did not come about.
#[derive(Debug)]
pub struct Failed {
    /// Why.
    pub problem: Problem,
    /// What was done, each with its time; the last is where it ended.
    pub steps: Vec<StepTime>,
    /// What was there instead (PNG), every field of it blank.
    pub picture: Option<Vec<u8>>,
}

/// Why a capture did not come about.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Problem {
    #[error(
        "there is no browser: {program} cannot be started ({words}). Install Debian's package chromium-headless-shell or chromium, or set \"program\" under [browser] in the configuration"
    )]
    NoBrowser { program: String, words: String },
    #[error("the browser did not start: {0}")]
    NotStarted(String),
    #[error("the browser ended in the middle of it")]
    Ended,
    #[error("{address} may not be reached: {reason}")]
    OutOfBounds { address: String, reason: String },
    #[error("{address} did not load: {words}")]
    NotLoaded { address: String, words: String },
    #[error("the page did not finish within {seconds} s: {}", .missing.join("; "))]
    NotFinished { missing: Vec<String>, seconds: u64 },
    #[error("it could not {step}: {words}")]
    Step { step: String, words: String },
    #[error(
        "the page shows the sign-in form again; check the user, the password and the steps under [source.sign-in]"
    )]
    SignedOut,
    #[error("the page has no \"{0}\"")]
    NoPart(String),
    #[error("the page downloaded nothing; its steps must press what offers the file")]
    NoDownload,
    #[error("the page's file is larger than {megabytes} MB, the limit of its source")]
    TooLarge { megabytes: u64 },
    #[error("the page took more than {megabytes} MB of memory, which is the limit")]
    Memory { megabytes: u64 },
    #[error("the page crashed; open it in a browser of your own to see whether it does so there")]
    Crashed,
    #[error("it took longer than {seconds} s, at: {step}")]
    Timeout { step: String, seconds: u64 },
    #[error("the page's own expression failed: {0}")]
    Expression(String),
    #[error("the browser refused: {0}")]
    Protocol(String),
}

impl From<chromiumoxide::error::CdpError> for Problem {
    fn from(error: chromiumoxide::error::CdpError) -> Self {
        use chromiumoxide::error::CdpError as E;
        match error {
            E::ChannelSendError(_) | E::NoResponse | E::Ws(_) => Problem::Ended,
            other => Problem::Protocol(other.to_string()),
        }
    }
}
