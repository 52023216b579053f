//! The composed document: what a reader sees, before any format. PDF, HTML and the mail
//! body are written from this one model.

use std::{borrow::Cow, ops::Range};

use maple_lark_data::{
    PackedTable,
    status::{Status, StatusCounts},
};
use maple_lark_definition::{Packing, Picture, Theme, Width, rows};
use maple_lark_time::Zone;
use serde::{Deserialize, Serialize};

use crate::{chart::Chart, markdown::Part};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Document {
    pub language: String,
    pub report: String,
    pub title: String,
    pub front: Front,
    pub summary: Summary,
    pub sections: Vec<Section>,
    pub provenance: Vec<Provenance>,
    /// The data behind each table block, whole, for CSV.
    pub data: Vec<DataTable>,
    /// The beginning of every file name: report and window.
    pub file_stem: String,
    pub packing: Packing,
    pub theme: Theme,
    /// The report's time zone.
    pub zone: Zone,
    /// Blocks that failed: title and reason.
    pub failed: Vec<(String, String)>,
}

impl Document {
    /// All key figures, in their order.
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
    pub window_label: String,
    pub window_exact: String,
    pub window_machine: String,
    /// The window it is compared with, in words.
    pub compared_with: Option<String>,
    /// Why the data may be incomplete.
    pub incomplete: Option<String>,
    pub filters: Vec<(String, String)>,
    pub sources: Vec<String>,
    pub scheduled_for: String,
    pub made_at: String,
    /// Seconds since 1970, for the metadata of files.
    pub made_at_seconds: i64,
    pub run_id: String,
    /// The release of the IANA time zone database that times were worked out by.
    pub zone_rules: Option<String>,
}

/// Whether things are well, in at most a few lines.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Summary {
    pub status: Status,
    pub headline: String,
    pub lines: Vec<String>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Section {
    pub title: String,
    pub text: Vec<Part>,
    pub blocks: Vec<Block>,
}

impl Section {
    /// How its blocks stand side by side, where there is a page's width.
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

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Block {
    pub title: String,
    pub width: Width,
    pub note: Option<String>,
    pub body: Body,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum Body {
    Figures {
        figures: Vec<Figure>,
    },
    Chart {
        chart: Chart,
    },
    Table {
        table: ShownTable,
    },
    Text {
        parts: Vec<Part>,
    },
    Image {
        picture: Picture,
        description: String,
    },
    /// In formats that have pages, what follows is on a new one.
    PageBreak,
    /// The query answered, with nothing.
    Empty {
        sentence: String,
        /// Whether it would be a table.
        rows: bool,
    },
    Failed {
        reason: String,
    },
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Figure {
    /// What messages and conditions call it: the name of its column.
    pub name: String,
    pub title: String,
    /// With its unit: `99.95 %`.
    pub value: String,
    /// Nothing where no threshold is set.
    pub status: Option<Status>,
    /// The threshold in words: `warning from 2 %, critical from 5 %`.
    pub limits: Option<String>,
    /// `+3 (+12.5 %) against 24`.
    pub change: Option<String>,
    /// The bare number, and what it was in the comparison window.
    pub amount: Option<f64>,
    pub before: Option<f64>,
    /// The figure over time, from 0 for its lowest to 1 for its highest; empty if not wanted.
    pub sparkline: Vec<Option<f64>>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Align {
    Left,
    Right,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ShownTable {
    pub headings: Vec<Heading>,
    pub rows: Vec<Vec<Cell>>,
    /// The rows, by position, that sum up others and are set apart.
    pub sums_up: Vec<usize>,
    /// Why not all rows are here, and where they are.
    pub cut: Option<String>,
    /// All rows of the query, also those that are not shown.
    pub judged: StatusCounts,
}

impl ShownTable {
    /// The table for formats that cannot draw: its columns of trends are left out.
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

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Heading {
    pub title: String,
    pub unit: String,
    pub align: Align,
    /// A share of the table's width, from the longest text in the column.
    pub weight: f64,
    /// Whether its cells are drawn as lines over time instead of texts.
    pub trend: bool,
}

#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Cell {
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
    pub title: String,
    pub file_name: String,
    /// Column headings: the column's name, with its unit in brackets if it has one.
    pub headings: Vec<String>,
    pub table: PackedTable,
    pub zone: Zone,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Provenance {
    pub query: String,
    pub source: String,
    pub asked_at: String,
    pub took: String,
    pub rows: String,
    /// SHA-256 of the rows as the snapshot holds them; empty where the query failed.
    pub sha256: String,
}
