//! The composed document: what a reader sees, before any format. PDF, HTML and the mail
//! body are written from this one model.

use std::{
    borrow::Cow,
    fmt,
    ops::Range,
    sync::{Arc, OnceLock},
};

use chrono::{DateTime, Utc};
use maple_lark_data::{
    PackedTable, Unit,
    digest::sha256_of,
    number_format::NumberFormat,
    status::{Status, StatusCounts},
};
use maple_lark_definition::{Packing, Picture, Theme, Width, rows};
use maple_lark_time::Zone;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::{chart::Chart, markdown::Part};

/// A document, composed: every word and figure of it, in the order of its pages. A format only
/// draws it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Document {
    /// The language of its words, as BCP 47 has it: `en`.
    pub language: String,
    /// The report's name.
    pub report: String,
    /// The title on its front.
    pub title: String,
    /// What it is, of when, from what.
    pub front: Front,
    /// Whether things are well.
    pub summary: Summary,
    /// The sections, in order.
    pub sections: Vec<Section>,
    /// Where each figure comes from.
    pub provenance: Vec<Provenance>,
    /// The rows behind each table and chart, whole.
    pub data: Vec<DataTable>,
    /// The beginning of every file name: report and window.
    pub file_stem: String,
    /// Whether files travel packed in one.
    pub packing: Packing,
    /// Colours, fonts, logo and page.
    pub theme: Theme,
    /// The report's time zone.
    pub zone: Zone,
    /// How its reader writes numbers and dates.
    pub number_format: NumberFormat,
    /// Blocks that failed: title and reason.
    pub failed: Vec<(String, String)>,
    /// Whether its HTML answers its reader: exact values, lines switched off, tables sorted and filtered.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub interactive: bool,
}

impl Document {
    /// The rows that are CSV files.
    pub fn files(&self) -> impl Iterator<Item = &DataTable> {
        self.data.iter().filter(|data| data.is_file)
    }

    /// All key figures, in their order.
    #[must_use]
    pub fn figures(&self) -> impl DoubleEndedIterator<Item = &Figure> {
        let blocks = self.sections.iter().flat_map(|section| &section.blocks);
        blocks
            .filter_map(|block| {
                if let Body::Figures { figures } = &block.body {
                    Some(figures)
                } else {
                    None
                }
            })
            .flatten()
    }
}

/// What this is, of when, from what.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Front {
    /// The window for people: `Monday, 23 November 2026`.
    pub window_label: String,
    /// The window with both ends and the zone.
    pub window_exact: String,
    /// The window as an ISO 8601 interval.
    pub window_machine: String,
    /// The window it is compared with, in words.
    pub compared_with: Option<String>,
    /// Why the data may be incomplete.
    pub incomplete: Option<String>,
    /// The archive's latest day and its digest when the data was read.
    #[serde(default)]
    pub archive_head: Option<String>,
    /// The values of parameters, each with its title.
    pub filters: Vec<(String, String)>,
    /// The titles of the sources.
    pub sources: Vec<String>,
    /// The instant that the run was for, in the report's zone; nothing if it was made in that minute.
    pub scheduled_for: Option<String>,
    /// The instant that the figures were sealed at, in the report's zone.
    pub made_at: String,
    /// Seconds since 1970, for the metadata of files.
    pub made_at_seconds: i64,
    /// The run, as API and command line name it.
    pub run_id: String,
    /// The release of the IANA time zone database that times were worked out by.
    pub zone_rules: Option<String>,
}

/// Whether things are well, in at most a few lines.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Summary {
    /// The worst status of all that has limits.
    pub status: Status,
    /// One sentence.
    pub headline: String,
    /// What bears the sentence out, the worst first.
    pub lines: Vec<SummaryLine>,
    /// The first of what is past its limits, in words; nothing where nothing is.
    pub worst: Option<String>,
}

/// One line of a summary.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SummaryLine {
    /// What it says.
    pub text: String,
    /// Where that is shown, if it is in one place.
    pub place: Option<Place>,
}

impl From<String> for SummaryLine {
    fn from(text: String) -> Self {
        Self { text, place: None }
    }
}

impl PartialEq<&str> for SummaryLine {
    fn eq(&self, text: &&str) -> bool {
        self.text == *text
    }
}

/// Where a block stands in a document; both are counted from nought.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Place {
    /// The section.
    pub section: usize,
    /// The block in it.
    pub block: usize,
}

/// A part of a document under a title of its own.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Section {
    /// Its title.
    pub title: String,
    /// The text above its blocks.
    pub text: Vec<Part>,
    /// Its blocks, in order.
    pub blocks: Vec<Block>,
}

impl Section {
    /// How its blocks stand side by side, where there is a page's width.
    #[must_use]
    pub fn rows(&self) -> Vec<Range<usize>> {
        rows(
            &self
                .blocks
                .iter()
                .map(|block| block.width)
                .collect::<Vec<_>>(),
        )
    }
}

/// A figure, chart, table, text or picture with its title.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Block {
    /// Its title; may be empty.
    pub title: String,
    /// How much of a line it takes.
    pub width: Width,
    /// A remark beneath it.
    pub note: Option<String>,
    /// What it shows.
    pub body: Body,
}

/// What a block shows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum Body {
    /// Key figures, beside each other.
    Figures {
        /// The figures.
        figures: Vec<Figure>,
    },
    /// A chart.
    Chart {
        /// The chart.
        chart: Chart,
    },
    /// A table.
    Table {
        /// The table.
        table: ShownTable,
    },
    /// A text.
    Text {
        /// Its paragraphs.
        parts: Vec<Part>,
    },
    /// A picture.
    Image {
        /// Its bytes and size.
        picture: Picture,
        /// What it shows, for those who do not see it.
        description: String,
    },
    /// A live page, or parts of it, as they looked. Lengths are in CSS pixels.
    Page {
        /// The parts; one if it is the whole page.
        parts: Vec<PagePart>,
        /// Where the page is.
        address: String,
        /// The whole page.
        width: u32,
        /// The whole page.
        height: u32,
        /// The whole page on one sheet of PDF of its size, if it is to be drawn sharp.
        #[serde(skip)]
        printed: Option<Arc<[u8]>>,
    },
    /// In formats that have pages, what follows is on a new one.
    PageBreak,
    /// The query answered, with nothing.
    Empty {
        /// The sentence that stands in its place.
        sentence: String,
        /// Whether it would be a table.
        rows: bool,
    },
    /// The block could not be shown.
    Failed {
        /// Why, for the reader.
        reason: String,
    },
}

/// A part of a live page. Lengths are in CSS pixels.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PagePart {
    /// Its title; may be empty.
    pub title: String,
    /// What it shows, for those who do not see it.
    pub description: String,
    /// From the page's left.
    pub x: u32,
    /// From the page's top.
    pub y: u32,
    /// How wide it is.
    pub width: u32,
    /// How high it is.
    pub height: u32,
    /// Heights, from its top, at which it can be cut through nothing.
    pub cuts: Vec<u32>,
    /// Its picture.
    #[serde(skip)]
    pub png: Arc<[u8]>,
}

/// A key figure.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Figure {
    /// What messages and conditions call it: the name of its column.
    pub name: String,
    /// What it counts.
    pub title: String,
    /// With its unit: `99.95 %`.
    pub value: String,
    /// Nothing where no threshold is set.
    pub status: Option<Status>,
    /// The limit that it is past: `critical from 5 %`; nothing where it is well.
    #[serde(skip)]
    pub passed: Option<String>,
    /// The threshold in words: `warning from 2 %, critical from 5 %`.
    pub limits: Option<String>,
    /// `+3 (+12.5 %) against 24`.
    pub change: Option<String>,
    /// The bare number, in `unit`.
    pub amount: Option<f64>,
    /// The unit of the bare number: `B` where the value reads `1.2 GiB`; empty if it has none.
    pub unit: String,
    /// The value that it is compared with, as a bare number.
    pub before: Option<f64>,
    /// The figure over time, from 0 for its lowest to 1 for its highest; empty if not wanted.
    pub sparkline: Vec<Option<f64>>,
}

/// To which side the cells of a column are set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Align {
    /// Texts.
    Left,
    /// Numbers.
    Right,
}

/// A table as it is shown: words only.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ShownTable {
    /// The heads of its columns.
    pub headings: Vec<Heading>,
    /// Its rows, as many cells as there are heads.
    pub rows: Vec<Vec<Cell>>,
    /// The rows, by position, that sum up others and are set apart.
    pub sums_up: Vec<usize>,
    /// How many rows are here, if not all: `The first 200 of 1,234 rows.`
    pub cut: Option<String>,
    /// The CSV file that has them all. A format names it only where it travels along.
    pub file: String,
    /// All rows of the query, also those that are not shown.
    pub judged: StatusCounts,
}

impl ShownTable {
    /// A sentence on what is cut, with the file that has all rows if it is one of those that
    /// travel along.
    #[must_use]
    pub fn with_file(&self, cut: &str, travelling: &[String]) -> String {
        if travelling.contains(&self.file) {
            format!("{cut} All rows that were read are in {}.", self.file)
        } else {
            cut.to_owned()
        }
    }

    /// The table for formats that cannot draw: its columns of trends are left out.
    #[must_use]
    pub fn in_words(&self) -> Cow<'_, Self> {
        if !self.headings.iter().any(|heading| heading.trend) {
            return Cow::Borrowed(self);
        }
        let kept: Vec<usize> = (0..self.headings.len())
            .filter(|column| !self.headings[*column].trend)
            .collect();
        Cow::Owned(Self {
            headings: kept
                .iter()
                .map(|column| self.headings[*column].clone())
                .collect(),
            rows: self
                .rows
                .iter()
                .map(|row| kept.iter().map(|column| row[*column].clone()).collect())
                .collect(),
            ..self.clone()
        })
    }
}

/// The head of a column.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Heading {
    /// Its words.
    pub title: String,
    /// The unit of its numbers; empty if there is none.
    pub unit: String,
    /// To which side its cells are set.
    pub align: Align,
    /// A share of the table's width, from the longest text in the column.
    pub weight: f64,
    /// Whether its cells are drawn as lines over time instead of texts.
    pub trend: bool,
}

/// One cell of a shown table.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Cell {
    /// Its words.
    pub text: String,
    /// Only where it deserves a mark: warning or critical.
    pub mark: Option<Status>,
    /// How long a bar behind the text is, from 0 to 1.
    pub bar: Option<f64>,
    /// In a column of trends: the shape over time, from 0 for its lowest to 1 for its highest
    /// value. The text then says what the line shows.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub trend: Vec<Option<f64>>,
}

/// A table as its source gave it, with what its columns are called and counted in.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct DataTable {
    /// The title of the block or query that it belongs to.
    pub title: String,
    /// The name of its file, without an ending.
    pub file_name: String,
    /// Column headings: the column's name, with its unit in brackets if it has one.
    pub headings: Vec<String>,
    /// The columns' titles, for people.
    pub titles: Vec<String>,
    /// What each column is counted in.
    pub units: Vec<Unit>,
    /// What the rows are shown as.
    pub shown_as: ShownAs,
    /// Whether they are a CSV file.
    pub is_file: bool,
    /// The rows.
    pub table: PackedTable,
    /// The zone that instants are written in.
    pub zone: Zone,
}

/// What rows are shown as.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ShownAs {
    /// A table.
    Table,
    /// A chart.
    Chart,
}

/// Where figures come from.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Provenance {
    /// The query.
    pub query: String,
    /// The source's title.
    pub source: String,
    /// When it was asked, in the report's zone.
    pub asked_at: String,
    /// How long the answer took, in words.
    pub took: String,
    /// How many rows came, in words.
    pub rows: String,
    /// Of a live page: where it was, when it had finished, and the browser.
    pub detail: Option<String>,
    /// When it was asked.
    pub asked: DateTime<Utc>,
    /// How long the answer took.
    pub seconds: f64,
    /// How many rows came; nothing where the query failed.
    pub count: Option<usize>,
    /// SHA-256 of the rows as the snapshot holds them; empty where the query failed.
    pub sha256: RowsDigest,
}

/// The SHA-256 of rows in lower-case hexadecimal, worked out when somebody first reads it: that of a million rows takes
/// a second, and CSV does not show it.
#[derive(Clone, Default)]
pub struct RowsDigest(Arc<Digested>);

#[derive(Default)]
struct Digested {
    rows: Option<PackedTable>,
    digest: OnceLock<String>,
}

impl RowsDigest {
    /// That of a table's canonical JSON.
    #[must_use]
    pub fn of(table: &PackedTable) -> Self {
        Self(Arc::new(Digested {
            rows: Some(table.clone()),
            digest: OnceLock::new(),
        }))
    }

    /// 64 digits, or nothing where there are no rows.
    #[must_use]
    pub fn as_str(&self) -> &str {
        let Digested { rows, digest } = &*self.0;
        digest.get_or_init(|| rows.as_ref().map(sha256_of).unwrap_or_default())
    }
}

impl From<String> for RowsDigest {
    fn from(digest: String) -> Self {
        Self(Arc::new(Digested {
            rows: None,
            digest: digest.into(),
        }))
    }
}

impl fmt::Debug for RowsDigest {
    fn fmt(&self, to: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Debug::fmt(self.as_str(), to)
    }
}

impl PartialEq for RowsDigest {
    fn eq(&self, other: &Self) -> bool {
        self.as_str() == other.as_str()
    }
}

impl Serialize for RowsDigest {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(self.as_str())
    }
}

impl<'de> Deserialize<'de> for RowsDigest {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        String::deserialize(from).map(Self::from)
    }
}
