//! What the sheets of a spreadsheet hold, whatever the format that it is written in.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use maple_lark_data::{
    ColumnKind, Unit, Value,
    number_format::{NumberFormat, decimals},
};
use maple_lark_definition::LineStyle;
use maple_lark_document::{
    chart::{Chart, Plot},
    document::{Block, Body, DataTable, Document, ShownAs},
};

/// The rows that a sheet can hold below its headings.
pub const MOST_ROWS: usize = 1_048_575;
/// The letters that a cell can hold.
pub const LONGEST_TEXT: usize = 32_767;
/// The smallest whole number that a spreadsheet does not write out.
const LONGEST_WHOLE: u64 = 1_000_000_000_000_000;
/// More columns than these are printed on pages that lie.
pub const MOST_UPRIGHT: usize = 6;
/// What stands above the columns of figures, but for the first, which is that of their block, and whether it
/// stands right.
pub const FIGURE_HEADINGS: [(&str, bool); 5] = [
    ("Value", false),
    ("Number", true),
    ("Unit", false),
    ("Status", false),
    ("Change", false),
];

/// What has a sheet of its own, after the summary.
pub enum Part<'a> {
    Table(&'a DataTable),
    /// A chart that a spreadsheet can draw.
    Chart(&'a Block, &'a Chart, Grid),
    /// One that it cannot and that has no rows.
    Words(&'a Block, &'a str),
}

/// The tables, whole whatever a page shows of them, then the charts with what is behind them.
pub fn parts(document: &Document) -> Vec<Part<'_>> {
    let of_tables = |data: &&DataTable| data.shown_as == ShownAs::Table;
    let tables = document.data.iter().filter(of_tables).map(Part::Table);
    let mut all: Vec<Part<'_>> = tables.collect();
    // The rows behind the charts, in the order of the charts that have any.
    let mut rows = document
        .data
        .iter()
        .filter(|data| !of_tables(data))
        .peekable();
    for block in document.sections.iter().flat_map(|section| &section.blocks) {
        let chart = match &block.body {
            Body::Chart { chart } => Some(chart),
            Body::Empty { .. } | Body::Failed { .. } => None,
            _ => continue,
        };
        let data = rows.next_if(|data| data.title == block.title);
        let Some(chart) = chart else { continue };
        all.push(match (grid(chart, document), data) {
            (Some(grid), _) => Part::Chart(block, chart, grid),
            (None, Some(data)) => Part::Table(data),
            (None, None) => Part::Words(block, &chart.description),
        });
    }
    all
}

/// What the summary says below its title, line by line: what it is called, and what it is.
pub fn summary_lines(document: &Document) -> Vec<(&str, String)> {
    let front = &document.front;
    let mut lines = vec![
        ("Window", front.window_label.clone()),
        ("", front.window_exact.clone()),
    ];
    lines.push(("Status", document.summary.headline.clone()));
    lines.extend(
        document
            .summary
            .lines
            .iter()
            .map(|line| ("", line.text.clone())),
    );
    lines.extend(
        front
            .filters
            .iter()
            .map(|(name, value)| (name.as_str(), value.clone())),
    );
    lines.push(("Made", front.made_at.clone()));
    lines.push(("Sources", front.sources.join(", ")));
    lines.push(("Run", front.run_id.clone()));
    if let Some(version) = &front.zone_rules {
        lines.push(("Time zone rules", version.clone()));
    }
    if let Some(head) = &front.archive_head {
        lines.push(("Archive up to", head.clone()));
    }
    lines
}

/// What stands above a column.
pub struct Head {
    pub text: String,
    /// In characters.
    pub width: f64,
    /// Above numbers and times, which stand right in their cells.
    pub right: bool,
}

/// What stands above the columns of a table.
pub fn heads<'a>(data: &'a DataTable, shapes: &'a [Shape]) -> impl Iterator<Item = Head> + 'a {
    shapes.iter().enumerate().map(|(column, shape)| {
        let text = heading(data, column);
        let kind = data.table.columns[column].kind;
        Head {
            width: shape.width(&text),
            right: !shape.exact && !matches!(kind, ColumnKind::Boolean | ColumnKind::Text),
            text,
        }
    })
}

/// What stands above the rows that a chart is drawn from.
pub fn heads_of_chart(chart: &Chart, grid: &Grid) -> impl Iterator<Item = Head> {
    let first = Head {
        text: grid.first.clone(),
        width: 22.0,
        right: matches!(grid.rows.first(), Some((Label::Instant(_), _))),
    };
    let named = grid.series.iter().map(|name| Head {
        text: match chart.axis.unit.as_str() {
            "" => name.clone(),
            unit => format!("{name} [{unit}]"),
        },
        width: 14.0,
        right: true,
    });
    std::iter::once(first).chain(named)
}

/// The title of a column, the zone of its times, its unit.
fn heading(data: &DataTable, column: usize) -> String {
    let mut heading = data.titles[column].clone();
    if data.table.columns[column].kind == ColumnKind::Instant {
        heading += &format!(" ({})", data.zone);
    }
    let symbol = data.units[column].symbol();
    if !symbol.is_empty() {
        heading += &format!(" [{symbol}]");
    }
    heading
}

/// Sheet names: at most 31 letters, none of which means something, each once.
#[derive(Default)]
pub struct Names(Vec<String>);

impl Names {
    pub fn free(&mut self, title: &str) -> String {
        let clean: String = title
            .chars()
            .map(|c| {
                if matches!(c, '[' | ']' | ':' | '*' | '?' | '/' | '\\' | '\'') || c.is_control() {
                    ' '
                } else {
                    c
                }
            })
            .collect();
        let clean = if clean.trim().is_empty() {
            "Sheet"
        } else {
            clean.trim()
        };
        let short = |most: usize| {
            clean
                .chars()
                .take(most)
                .collect::<String>()
                .trim()
                .to_owned()
        };
        let taken = |name: &str| {
            self.0
                .iter()
                .any(|known| known.to_lowercase() == name.to_lowercase())
        };
        let mut name = short(31);
        let mut number = 2;
        while taken(&name) {
            name = format!("{} {number}", short(27));
            number += 1;
        }
        self.0.push(name.clone());
        name
    }
}

/// What the values of a column have in common.
#[derive(Default)]
pub struct Shape {
    /// Whether its whole numbers have more digits than a spreadsheet's numbers, which is
    /// fifteen: identifiers, as a rule. All of such a column is text, so that it is of one type;
    /// a fraction is the nearest number.
    pub exact: bool,
    pub decimals: usize,
    /// In characters, of the longest value.
    longest: usize,
}

impl Shape {
    /// So wide that values are whole and a heading breaks between words at most.
    fn width(&self, heading: &str) -> f64 {
        let word = heading.split(' ').map(|word| word.chars().count()).max();
        let widest = self.longest.max(word.unwrap_or_default());
        widest.clamp(8, 60) as f64 + 2.0
    }
}

/// What the columns of a table are like.
pub fn shapes(data: &DataTable) -> Vec<Shape> {
    let mut shapes: Vec<Shape> = Vec::new();
    shapes.resize_with(data.table.columns.len(), Shape::default);
    let mut fractions: Vec<(bool, f64)> = vec![(false, 0.0); shapes.len()];
    let (mut rows, mut row) = (data.table.rows(), Vec::new());
    while rows.next_into(&mut row) {
        for ((value, shape), (has_fraction, largest)) in
            row.iter().zip(&mut shapes).zip(&mut fractions)
        {
            shape.exact |= match value {
                Value::Integer(n) => n.unsigned_abs() >= LONGEST_WHOLE,
                Value::Decimal(n) => {
                    n.is_integer()
                        && n.trunc().mantissa().unsigned_abs() >= u128::from(LONGEST_WHOLE)
                }
                _ => false,
            };
            let long = match value {
                Value::Missing => 0,
                Value::Text(text) => text
                    .lines()
                    .map(|line| line.chars().count())
                    .max()
                    .unwrap_or(0),
                Value::Instant(_) => 20,
                Value::Date(_) => 11,
                Value::Boolean(_) => 5,
                number => {
                    let number = number.as_number().unwrap_or_default();
                    *has_fraction |= number.fract() != 0.0;
                    *largest = largest.max(number.abs());
                    0
                }
            };
            shape.longest = shape.longest.max(long);
        }
    }
    for (((has_fraction, largest), shape), unit) in
        fractions.into_iter().zip(&mut shapes).zip(&data.units)
    {
        shape.decimals = match unit {
            Unit::Currency(_) => 2,
            // A fraction, and the largest.
            Unit::Percent | Unit::Ratio if has_fraction => decimals(&[0.5, largest], true),
            _ if has_fraction => decimals(&[0.5, largest], false),
            _ => 0,
        };
        let plain = NumberFormat::default();
        let number = plain.number(largest, shape.decimals).chars().count() + 1;
        shape.longest = shape.longest.max(if shape.exact { 20 } else { number });
    }
    shapes
}

/// What a chart of a spreadsheet is drawn from: one row for each time or category.
pub struct Grid {
    pub first: String,
    pub series: Vec<String>,
    pub rows: Vec<(Label, Vec<Option<f64>>)>,
    pub drawn: Drawn,
}

/// How it is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Drawn {
    Lines,
    Area,
    Bars { upright: bool, stacked: bool },
}

pub enum Label {
    Text(String),
    Instant(i64),
}

/// The charts that a spreadsheet can draw: lines, areas and bars.
fn grid(chart: &Chart, document: &Document) -> Option<Grid> {
    let zone = document.zone;
    match &chart.plot {
        Plot::Lines { series, style, .. } if *style != LineStyle::Stacked => {
            // By instant: on a day with 25 hours the wall clock shows one hour twice.
            let mut rows: BTreeMap<DateTime<Utc>, Vec<Option<f64>>> = BTreeMap::new();
            for (index, one) in series.iter().enumerate() {
                for (at, value) in one.stretches.iter().flatten() {
                    rows.entry(*at).or_insert_with(|| vec![None; series.len()])[index] =
                        Some(*value);
                }
            }
            let drawn = if *style == LineStyle::Area {
                Drawn::Area
            } else {
                Drawn::Lines
            };
            let rows = rows
                .into_iter()
                .map(|(at, values)| (Label::Instant(zone.local(at).and_utc().timestamp()), values))
                .collect();
            Some(Grid {
                first: format!("Time ({zone})"),
                series: series.iter().map(|one| one.name.clone()).collect(),
                rows,
                drawn,
            })
        }
        Plot::Bars {
            categories,
            series,
            form,
        } => {
            let rows = categories
                .iter()
                .enumerate()
                .map(|(index, name)| {
                    (
                        Label::Text(name.clone()),
                        series.iter().map(|bars| bars.values[index]).collect(),
                    )
                })
                .collect();
            let drawn = Drawn::Bars {
                upright: form.upright,
                stacked: form.stacked,
            };
            Some(Grid {
                first: String::new(),
                series: series.iter().map(|bars| bars.name.clone()).collect(),
                rows,
                drawn,
            })
        }
        _ => None,
    }
}
