//! Templates: dashboards with gaps, which somebody fills with a source and a few values.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::problem::{Place, Placed};

/// What a template is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Purpose {
    /// Whether things are up.
    Availability,
    /// How full things are.
    Capacity,
    /// How fast things are.
    Performance,
    /// How one unit is.
    Unit,
    /// What there is.
    Inventory,
    /// Security and certificates.
    Security,
    /// Jobs and backups.
    Jobs,
    /// What this service itself makes and delivers.
    Delivery,
}

impl Purpose {
    /// All, in the order of a catalogue.
    pub const ALL: [Purpose; 8] = [
        Purpose::Availability,
        Purpose::Capacity,
        Purpose::Performance,
        Purpose::Unit,
        Purpose::Inventory,
        Purpose::Security,
        Purpose::Jobs,
        Purpose::Delivery,
    ];

    /// The words for them, in the order of [`Purpose::ALL`].
    pub const NAMES: [&str; 8] = [
        "availability",
        "capacity",
        "performance",
        "unit",
        "inventory",
        "security",
        "jobs",
        "delivery",
    ];

    /// The word in definitions, API and command line.
    #[must_use]
    pub fn name(self) -> &'static str {
        Self::NAMES[self as usize]
    }

    /// The heading above the templates of this purpose.
    #[must_use]
    pub fn title(self) -> &'static str {
        match self {
            Purpose::Availability => "Availability",
            Purpose::Capacity => "Capacity",
            Purpose::Performance => "Performance",
            Purpose::Unit => "Health of one unit",
            Purpose::Inventory => "Inventory",
            Purpose::Security => "Security and certificates",
            Purpose::Jobs => "Jobs and backups",
            Purpose::Delivery => "Delivery of reports",
        }
    }
}

/// What the value of an input is; where a source's catalogue has such things, they are offered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum InputKind {
    /// Any text.
    Text,
    /// A number.
    Number,
    /// Texts, one a line or between commas.
    List,
    /// One of these.
    Choice(Vec<String>),
    /// A table of the source.
    Table,
    /// A column of the table that another input names.
    Column(String),
    /// A metric of the source.
    Metric,
    /// A label of the metric that another input names.
    Label(String),
    /// A file of the source, or a pattern of files.
    File,
}

impl InputKind {
    /// The word in definitions and API.
    #[must_use]
    pub fn name(&self) -> &'static str {
        match self {
            InputKind::Text => "text",
            InputKind::Number => "number",
            InputKind::List => "list",
            InputKind::Choice(_) => "choice",
            InputKind::Table => "table",
            InputKind::Column(_) => "column",
            InputKind::Metric => "metric",
            InputKind::Label(_) => "label",
            InputKind::File => "file",
        }
    }
}

/// A gap of a template.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Input {
    /// Its name in placeholders: `${name}`.
    pub name: String,
    /// Its label for people.
    pub title: String,
    /// What its value is.
    pub kind: InputKind,
    /// The value where none is given; without it, one must be.
    pub default: Option<String>,
    /// A value as it could be.
    pub example: String,
    /// What to enter, in a sentence.
    pub note: Option<String>,
}

/// A block as a small picture of the dashboard shows it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SketchBlock {
    /// How it shows its rows, as `show` has it.
    pub show: &'static str,
    /// Its title, with examples in the gaps.
    pub title: String,
    /// How many twelfths of the page it takes.
    pub twelfths: u8,
}

/// A dashboard with gaps.
#[derive(Debug, Clone, PartialEq)]
pub struct DashboardTemplate {
    /// Its name, unique among templates.
    pub name: String,
    /// The team that it belongs to; none if it belongs to all.
    pub teams: Vec<Placed<String>>,
    /// Its title for people.
    pub title: String,
    /// The question that it answers, in a line.
    pub question: String,
    /// What it is for.
    pub purpose: Purpose,
    /// Raised with each change, so that dashboards made of it can be brought up to date.
    pub version: u32,
    /// The kind of source that it reads.
    pub source_kind: &'static str,
    /// What the source must have or permit.
    pub needs: Option<String>,
    /// How to use it, as CommonMark.
    pub instructions: Option<String>,
    /// The gaps, in the order in which they are asked for.
    pub inputs: Vec<Input>,
    /// What it looks like.
    pub sketch: Vec<SketchBlock>,
    /// How many samplers it makes beside the dashboard.
    pub samplers: usize,
    /// The whole text, of which dashboards are made.
    pub text: String,
    /// Where it was read.
    pub place: Place,
}

/// Of what a dashboard was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MadeFrom {
    /// The template.
    pub template: String,
    /// Its version then.
    pub version: u32,
    /// The source that it was given.
    pub source: String,
    /// The values of its inputs.
    pub values: BTreeMap<String, String>,
}
