//! What a block of a dashboard shows.

use maple_lark_data::{
    figures::{Order, Since},
    series::Aggregation,
};
use serde::{Deserialize, Serialize};

use crate::{
    model::{picture::Picture, width::Width},
    problem::{Place, Placed},
};

/// How the lines of a chart are drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LineStyle {
    /// Lines only.
    #[default]
    Line,
    /// Filled down to zero.
    Area,
    /// Areas on top of one another; the values are sums.
    Stacked,
    /// A value holds until the next one.
    Steps,
}

/// How bars are set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct BarForm {
    /// The bars of a category on one another instead of side by side.
    pub stacked: bool,
    /// Standing instead of lying.
    pub upright: bool,
}

/// What a dashboard shows in one place: a chart, a table, a text and so on.
#[derive(Debug, Clone, PartialEq)]
pub struct Block {
    /// Its title; may be empty.
    pub title: String,
    /// A remark beneath it.
    pub note: Option<String>,
    /// Nothing where the report's theme decides.
    pub width: Option<Width>,
    /// Whether the rows of a chart are a CSV file too. If nothing is said, they are where the
    /// document has no table.
    pub csv: Option<bool>,
    /// Nothing only for text.
    pub query: Option<Placed<String>>,
    /// What it shows.
    pub kind: BlockKind,
    /// The block of another dashboard that stands here, with `changes`.
    pub borrowed: Option<Borrowed>,
    /// What a report changed about it.
    pub changes: Changes,
    /// Where it was read.
    pub place: Place,
}

/// What a block shows, with the columns it is made of.
#[derive(Debug, Clone, PartialEq)]
pub enum BlockKind {
    /// One row; each column is a key figure. `before` is a query with the same columns of
    /// another window, `trend` one with the same columns over time.
    Figures {
        /// A key figure for each of these columns of the first row.
        columns: Vec<String>,
        /// The query whose first row is compared with.
        before: Option<Placed<String>>,
        /// Or the same query at an earlier time.
        since: Option<Since>,
        /// The query with the values over time for a small line.
        trend: Option<Placed<String>>,
    },
    /// Values over time; one line for each value of `series`, or for each value column.
    Line {
        /// The column of instants.
        time: String,
        /// A line for each of these columns.
        values: Vec<String>,
        /// The column whose values tell lines apart.
        series: Option<String>,
        /// How lines are drawn.
        style: LineStyle,
        /// The query with stretches of time to mark.
        spans: Option<Placed<String>>,
    },
    /// One bar, or one group or stack of bars, for each row.
    Bar {
        /// The column with the names of the bars.
        label: String,
        /// A bar for each of these columns.
        values: Vec<String>,
        /// How bars are set.
        form: BarForm,
        /// The column whose values tell bars of one name apart.
        series: Option<String>,
    },
    /// The highest first, so many of them.
    Ranking {
        /// The column with the names.
        label: String,
        /// The column that they are ranked by.
        value: String,
        /// How many are shown.
        limit: usize,
        /// Which end comes first.
        order: Order,
    },
    /// From the first row, by the changes in those between, to the last.
    Breakdown {
        /// The column with the names of the steps.
        label: String,
        /// The column with their amounts.
        value: String,
    },
    /// A value for each hour of the day and day of the week, or for each pair of two columns.
    Heat {
        /// What its rows and columns are.
        by: HeatBy,
        /// The column of values.
        value: String,
        /// How the values of a cell become one.
        aggregation: Aggregation,
    },
    /// The state of each thing over time, by a column of words or by thresholds.
    Timeline {
        /// The column of instants at which a state began.
        time: String,
        /// The column that says whose state it is.
        row: String,
        /// The column with the state's word.
        state: String,
    },
    /// How long each thing was up, against its objective, with its outages.
    Availability {
        /// The column with the names.
        label: String,
        /// The query with the outages.
        outages: Option<Placed<String>>,
    },
    /// What was, what a method makes of it, and what comes.
    Forecast {
        /// The column of instants.
        time: String,
        /// What is not drawn.
        without: Vec<ForecastPart>,
    },
    /// A small chart for each thing, all on the same axes, the worst first.
    Multiples {
        /// The column of instants.
        time: String,
        /// The column of values.
        value: String,
        /// The column whose values make a chart each.
        series: String,
        /// How many are shown.
        limit: usize,
    },
    /// Values around a circle.
    Polar {
        /// What goes around.
        by: PolarBy,
        /// The column of values.
        value: String,
        /// How the values of a sector become one.
        aggregation: Aggregation,
        /// The column whose values tell outlines apart; one filled circle without it.
        series: Option<String>,
    },
    /// One value against another.
    Scatter {
        /// The column of values across.
        across: String,
        /// The column of values upwards.
        up: String,
        /// The column whose values tell groups apart.
        series: Option<String>,
    },
    /// How many values fall into each bin.
    Histogram {
        /// The column of values.
        value: String,
        /// How many bins; as many as suit the values, if not given.
        bins: Option<usize>,
    },
    /// How values spread: median, quartiles and what is far from them.
    Boxes {
        /// The column of values.
        value: String,
        /// The column whose values make a box each; one box for all without it.
        row: Option<String>,
    },
    /// What each part has of the whole.
    Share {
        /// The column with the parts' names.
        label: String,
        /// The column with their amounts.
        value: String,
        /// A ring, instead of one bar.
        round: bool,
    },
    /// Rows as they come; every column unless some are named.
    Table {
        /// The columns, in this order; all of them, if empty.
        columns: Vec<String>,
        /// How many rows are shown at most.
        limit: Option<usize>,
        /// The columns whose cells have a small bar.
        bars: Vec<String>,
        /// A last column with a small line for each row.
        trend: Option<TrendColumn>,
    },
    /// CommonMark.
    Text(String),
    /// A picture, as the data URL that the definition holds.
    Image {
        /// The picture.
        data: Picture,
        /// What it shows, for those who do not see it.
        description: String,
    },
    /// A live page, or a part of it, as it looked.
    Page {
        /// The part, by its title or its selector; all that the query keeps, if not given.
        part: Option<String>,
    },
    /// What follows begins on a new page.
    PageBreak,
}

/// A part of the figure of a forecast that can be left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ForecastPart {
    /// What the method makes of the past.
    Fitted,
    /// How far what comes may lie beside it.
    Interval,
    /// The limits.
    Limits,
    /// When they are reached.
    Crossing,
}

impl ForecastPart {
    /// The words that definitions use, in the order of the variants.
    pub const NAMES: [&'static str; 4] = ["fitted", "interval", "limits", "crossing"];

    /// The part of a word.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        let all = [Self::Fitted, Self::Interval, Self::Limits, Self::Crossing];
        let place = Self::NAMES.iter().position(|known| *known == name)?;
        Some(all[place])
    }
}

/// A last column of a table with a small line for each row: the values over time that another
/// query has for it.
#[derive(Debug, Clone, PartialEq)]
pub struct TrendColumn {
    /// The query with the values over time.
    pub query: Placed<String>,
    /// The column, of both queries, by which rows belong together.
    pub key: String,
    /// The column of values.
    pub value: String,
    /// Whether each line has a scale of its own. Otherwise all have one, so that a line higher up
    /// is of more.
    pub own_scales: bool,
}

/// What goes around a polar chart, clockwise from the top.
#[derive(Debug, Clone, PartialEq)]
pub enum PolarBy {
    /// The hours of the day, in the report's zone.
    Hour {
        /// The column of instants.
        time: String,
    },
    /// Directions, from north by way of east.
    Direction {
        /// The column of degrees; 370 is where 10 is.
        direction: String,
        /// How many sectors there are; the first is around north.
        sectors: usize,
    },
}

impl PolarBy {
    /// The column that says where a row is on the circle.
    fn column(&self) -> &str {
        match self {
            Self::Hour { time } => time,
            Self::Direction { direction, .. } => direction,
        }
    }
}

impl HeatBy {
    /// The columns that say in which cell a row is.
    fn columns(&self) -> Vec<&str> {
        match self {
            Self::HourAndWeekday { time } => vec![time],
            Self::Columns { row, column } => vec![row, column],
        }
    }
}

/// What the rows and columns of a heat map are.
#[derive(Debug, Clone, PartialEq)]
pub enum HeatBy {
    /// Hours across and weekdays down.
    HourAndWeekday {
        /// The column of instants.
        time: String,
    },
    /// A row and a column for each value of two columns.
    Columns {
        /// The column whose values go down.
        row: String,
        /// The column whose values go across.
        column: String,
    },
}

impl BlockKind {
    /// Whether it is drawn, with axes and labels.
    #[must_use]
    pub fn is_chart(&self) -> bool {
        !matches!(
            self,
            Self::Figures { .. }
                | Self::Table { .. }
                | Self::Text(_)
                | Self::Image { .. }
                | Self::Page { .. }
                | Self::PageBreak
        )
    }

    /// The word for it in `show`.
    #[must_use]
    pub fn show(&self) -> &'static str {
        match self {
            Self::Figures { .. } => "figures",
            Self::Line { style, .. } => match style {
                LineStyle::Line => "line",
                LineStyle::Area => "area",
                LineStyle::Stacked => "stacked-area",
                LineStyle::Steps => "steps",
            },
            Self::Bar { form, .. } if form.upright => "column",
            Self::Bar { .. } => "bar",
            Self::Ranking { .. } => "ranking",
            Self::Breakdown { .. } => "breakdown",
            Self::Heat { .. } => "heat-map",
            Self::Multiples { .. } => "small-multiples",
            Self::Polar { .. } => "polar",
            Self::Timeline { .. } => "timeline",
            Self::Availability { .. } => "availability",
            Self::Forecast { .. } => "forecast",
            Self::Scatter { .. } => "scatter",
            Self::Histogram { .. } => "histogram",
            Self::Boxes { .. } => "box",
            Self::Share { .. } => "share",
            Self::Table { .. } => "table",
            Self::Text(_) => "text",
            Self::Image { .. } => "image",
            Self::Page { .. } => "page",
            Self::PageBreak => "page-break",
        }
    }

    /// The columns of its query that a chart is made of, in the order in which a reader of its
    /// rows wants them; none for what is no chart.
    #[must_use]
    #[expect(clippy::too_many_lines, reason = "one arm a kind")]
    pub fn columns(&self) -> Vec<&str> {
        let (first, values, more): (Vec<&str>, &[String], Option<&str>) = match self {
            Self::Line {
                time,
                values,
                series,
                ..
            } => (vec![time], values, series.as_deref()),
            Self::Bar {
                label,
                values,
                series,
                ..
            } => (vec![label], values, series.as_deref()),
            Self::Ranking { label, value, .. }
            | Self::Breakdown { label, value }
            | Self::Share { label, value, .. } => (vec![label, value], &[], None),
            Self::Heat { by, value, .. } => (by.columns(), std::slice::from_ref(value), None),
            Self::Multiples {
                time,
                value,
                series,
                ..
            } => (vec![time, value, series], &[], None),
            Self::Polar {
                by, value, series, ..
            } => (vec![by.column(), value], &[], series.as_deref()),
            Self::Timeline { time, row, state } => (vec![time, row, state], &[], None),
            Self::Availability { label, .. } => (
                vec![label, "availability", "objective", "result", "down"],
                &[],
                None,
            ),
            Self::Forecast { time, .. } => (
                vec![
                    time, "observed", "fitted", "forecast", "low_80", "high_80", "low_95",
                    "high_95",
                ],
                &[],
                None,
            ),
            Self::Scatter { across, up, series } => (vec![across, up], &[], series.as_deref()),
            Self::Histogram { value, .. } => (vec![value], &[], None),
            Self::Boxes { value, row } => (
                row.iter().map(String::as_str).collect(),
                std::slice::from_ref(value),
                None,
            ),
            Self::Figures { .. }
            | Self::Table { .. }
            | Self::Text(_)
            | Self::Image { .. }
            | Self::Page { .. }
            | Self::PageBreak => (Vec::new(), &[], None),
        };
        let mut columns: Vec<&str> = Vec::new();
        // What tells lines apart stands before their values.
        let keys = first.into_iter().chain(more);
        for name in keys.chain(values.iter().map(String::as_str)) {
            if !columns.contains(&name) {
                columns.push(name);
            }
        }
        columns
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
            BlockKind::Availability { outages, .. } => [outages.as_mut(), None],
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
            BlockKind::Availability { outages, .. } => [outages.as_ref(), None],
            BlockKind::Table { trend, .. } => [trend.as_ref().map(|trend| &trend.query), None],
            _ => [None, None],
        };
        self.query.iter().chain(also.into_iter().flatten())
    }
}

/// A block that is taken from another dashboard: `from = "ferry-operations / Fullest disks"`.
#[derive(Debug, Clone, PartialEq)]
pub struct Borrowed {
    /// The dashboard it is taken from.
    pub dashboard: Placed<String>,
    /// The block's title there.
    pub title: String,
}

/// What is different about a block that is used again.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Changes {
    /// Whether it is left out.
    pub hide: bool,
    /// Another title.
    pub title: Option<String>,
    /// Another remark.
    pub note: Option<String>,
    /// Another width.
    pub width: Option<Width>,
    /// Another number of rows.
    pub limit: Option<Limit>,
    /// Another way of showing the same rows.
    pub kind: Option<BlockKind>,
}

/// How many rows a changed block shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Limit {
    /// This many at most.
    Rows(usize),
    /// All of them.
    All,
}
