//! What a block of a dashboard shows.

use maple_lark_data::{figures::Order, series::Aggregation};
use serde::{Deserialize, Serialize};

use crate::{
    model::{picture::Picture, width::Width},
    problem::{Place, Placed},
};

#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LineStyle {
    #[default]
    Line,
    /// Filled down to zero.
    Area,
    /// Areas on top of one another; the values are sums.
    Stacked,
    /// A value holds until the next one.
    Steps,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct BarForm {
    /// The bars of a category on one another instead of side by side.
    pub stacked: bool,
    /// Standing instead of lying.
    pub upright: bool,
}

#[derive(Debug, Clone, PartialEq)]
pub struct Block {
    pub title: String,
    pub note: Option<String>,
    /// Nothing where the report's theme decides.
    pub width: Option<Width>,
    /// Nothing only for text.
    pub query: Option<Placed<String>>,
    pub kind: BlockKind,
    /// The block of another dashboard that stands here, with `changes`.
    pub borrowed: Option<Borrowed>,
    pub changes: Changes,
    pub place: Place,
}

#[derive(Debug, Clone, PartialEq)]
pub enum BlockKind {
    /// One row; each column is a key figure. `before` is a query with the same columns of
    /// another window, `trend` one with the same columns over time.
    Figures {
        columns: Vec<String>,
        before: Option<Placed<String>>,
        trend: Option<Placed<String>>,
    },
    /// Values over time; one line for each value of `series`, or for each value column.
    Line {
        time: String,
        values: Vec<String>,
        series: Option<String>,
        style: LineStyle,
        spans: Option<Placed<String>>,
    },
    /// One bar, or one group or stack of bars, for each row.
    Bar {
        label: String,
        values: Vec<String>,
        form: BarForm,
        series: Option<String>,
    },
    /// The highest first, so many of them.
    Ranking {
        label: String,
        value: String,
        limit: usize,
        order: Order,
    },
    /// From the first row, by the changes in those between, to the last.
    Breakdown {
        label: String,
        value: String,
    },
    /// A value for each hour of the day and day of the week, or for each pair of two columns.
    Heat {
        by: HeatBy,
        value: String,
        aggregation: Aggregation,
    },
    /// The state of each thing over time, by a column of words or by thresholds.
    Timeline {
        time: String,
        row: String,
        state: String,
    },
    /// One value against another.
    Scatter {
        across: String,
        up: String,
        series: Option<String>,
    },
    Histogram {
        value: String,
        bins: Option<usize>,
    },
    Boxes {
        value: String,
        row: Option<String>,
    },
    Share {
        label: String,
        value: String,
        round: bool,
    },
    /// Rows as they come; every column unless some are named.
    Table {
        columns: Vec<String>,
        limit: Option<usize>,
        bars: Vec<String>,
        trend: Option<TrendColumn>,
    },
    /// CommonMark.
    Text(String),
    /// A picture, as the data URL that the definition holds.
    Image {
        data: Picture,
        description: String,
    },
    PageBreak,
}

/// A last column of a table with a small line for each row: the values over time that another
/// query has for it.
#[derive(Debug, Clone, PartialEq)]
pub struct TrendColumn {
    pub query: Placed<String>,
    /// The column, of both queries, by which rows belong together.
    pub key: String,
    pub value: String,
}

/// What the rows and columns of a heat map are.
#[derive(Debug, Clone, PartialEq)]
pub enum HeatBy {
    HourAndWeekday { time: String },
    Columns { row: String, column: String },
}

impl BlockKind {
    /// Whether it is drawn, with axes and labels.
    pub fn is_chart(&self) -> bool {
        !matches!(
            self,
            Self::Figures { .. }
                | Self::Table { .. }
                | Self::Text(_)
                | Self::Image { .. }
                | Self::PageBreak
        )
    }
}

impl Block {
    pub(crate) fn written_text(&self) -> Option<&str> {
        if let BlockKind::Text(text) = &self.kind {
            Some(text)
        } else {
            None
        }
    }

    /// The same, to be given other names.
    pub(crate) fn queries_mut(&mut self) -> impl Iterator<Item = &mut Placed<String>> {
        let also = match &mut self.kind {
            BlockKind::Figures { before, trend, .. } => [before.as_mut(), trend.as_mut()],
            BlockKind::Line { spans, .. } => [spans.as_mut(), None],
            BlockKind::Table { trend, .. } => [trend.as_mut().map(|trend| &mut trend.query), None],
            _ => [None, None],
        };
        self.query.iter_mut().chain(also.into_iter().flatten())
    }

    /// The queries that it shows something of.
    pub fn queries(&self) -> impl Iterator<Item = &Placed<String>> {
        let also = match &self.kind {
            BlockKind::Figures { before, trend, .. } => [before.as_ref(), trend.as_ref()],
            BlockKind::Line { spans, .. } => [spans.as_ref(), None],
            BlockKind::Table { trend, .. } => [trend.as_ref().map(|trend| &trend.query), None],
            _ => [None, None],
        };
        self.query.iter().chain(also.into_iter().flatten())
    }
}

/// A block that is taken from another dashboard: `from = "ferry-operations / Fullest disks"`.
#[derive(Debug, Clone, PartialEq)]
pub struct Borrowed {
    pub dashboard: Placed<String>,
    pub title: String,
}

/// What is different about a block that is used again.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Changes {
    pub hide: bool,
    pub title: Option<String>,
    pub note: Option<String>,
    pub width: Option<Width>,
    pub limit: Option<Limit>,
    pub kind: Option<BlockKind>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Limit {
    Rows(usize),
    All,
}
