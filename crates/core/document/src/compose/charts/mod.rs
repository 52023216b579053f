//! The charts of blocks: what each kind makes of its query's rows.

mod availability;
mod bars;
mod boxes;
mod breakdown;
mod forecast;
mod heat;
mod histogram;
mod lines;
mod multiples;
mod polar;
mod scatter;
mod share;
mod timeline;

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use maple_lark_data::{
    Table, Unit, Value, figures::Role, natural, number_format::NumberFormat, status::StatusCounts,
};
use maple_lark_definition::{Block as Definition, BlockKind, Query};
use maple_lark_time::Window;

use crate::{
    chart::{Chart, Limit, Plot, ValueAxis},
    compose::{
        CannotShow, Context,
        column::{column, numeric_column, readable, thresholds, unit, wanted_decimals},
    },
    document::Body,
};

/// The most series that a figure can tell apart.
const MOST_SERIES: usize = 16;

/// So many things are told one by one in a chart's words; of more, what stands out.
const MOST_TOLD: usize = 4;

/// The most bars, rows of a timeline or boxes in one figure.
const MOST_BARS: usize = 60;

/// Draws a block that is a chart.
#[expect(clippy::too_many_lines, reason = "one arm a kind")]
pub(crate) fn chart(
    block: &Definition,
    query: &Query,
    table: &Table,
    roles: &[Role],
    context: &mut Context<'_>,
) -> Result<Body, CannotShow> {
    let mut drawing = Drawing {
        block,
        query,
        table,
        roles,
        context,
    };
    match &block.kind {
        BlockKind::Line {
            time,
            values,
            series,
            style,
            spans,
        } => {
            let spans = spans.as_ref().map(|spans| spans.value.as_str());
            drawing.lines(time, values, series.as_deref(), *style, spans)
        }
        BlockKind::Bar {
            label,
            values,
            form,
            series,
        } => drawing.bars(label, values, *form, series.as_deref()),
        BlockKind::Ranking {
            label,
            value,
            limit,
            order,
        } => drawing.ranking(label, value, *limit, *order),
        BlockKind::Breakdown { label, value } => drawing.breakdown(label, value),
        BlockKind::Heat {
            by,
            value,
            aggregation,
        } => drawing.heat(by, value, *aggregation),
        BlockKind::Multiples {
            time,
            value,
            series,
            limit,
        } => drawing.multiples(time, value, series, *limit),
        BlockKind::Polar {
            by,
            value,
            aggregation,
            series,
        } => drawing.polar(by, value, *aggregation, series.as_deref()),
        BlockKind::Timeline { time, row, state } => drawing.timeline(time, row, state),
        BlockKind::Availability { label, outages } => {
            let outages = outages.as_ref().map(|name| name.value.as_str());
            drawing.availability(label, outages)
        }
        BlockKind::Forecast { time, without } => drawing.forecast(time, without),
        BlockKind::Scatter { across, up, series } => drawing.scatter(across, up, series.as_deref()),
        BlockKind::Histogram { value, bins } => drawing.histogram(value, *bins),
        BlockKind::Boxes { value, row } => drawing.boxes(value, row.as_deref()),
        BlockKind::Share {
            label,
            value,
            round,
        } => drawing.share(label, value, *round),
        _ => Err(CannotShow::NoChart),
    }
}

struct Drawing<'d, 'c> {
    block: &'d Definition,
    query: &'d Query,
    table: &'d Table,
    /// What each row is, if any sums up others.
    roles: &'d [Role],
    context: &'d mut Context<'c>,
}

/// Things by name, in the order in which names first come.
struct Groups<T> {
    places: HashMap<String, usize>,
    all: Vec<(String, Vec<T>)>,
}

impl<T> Groups<T> {
    fn new() -> Self {
        Self {
            places: HashMap::new(),
            all: Vec::new(),
        }
    }

    fn add(&mut self, name: String, one: T) {
        match self.places.get(&name) {
            Some(place) => self.all[*place].1.push(one),
            None => {
                self.places.insert(name.clone(), self.all.len());
                self.all.push((name, vec![one]));
            }
        }
    }

    /// All of them; those that come by the alphabet as people put them in order.
    fn in_order(self) -> Vec<(String, Vec<T>)> {
        let mut all = self.all;
        let names: Vec<&str> = all.iter().map(|(name, _)| &**name).collect();
        if natural::order(&names).is_some() {
            all.sort_by(|(a, _), (b, _)| natural::compare(a, b));
        }
        all
    }
}

/// Names with their places, in the order in which they first come.
#[derive(Default)]
struct Places {
    places: HashMap<String, usize>,
    names: Vec<String>,
}

impl Places {
    fn of(&mut self, name: String) -> usize {
        if let Some(place) = self.places.get(&name) {
            return *place;
        }
        self.places.insert(name.clone(), self.names.len());
        self.names.push(name);
        self.names.len() - 1
    }
}

/// Puts names that come by the alphabet as people put them in order. Answers with the new place of
/// each old one.
fn put_in_order(names: &mut Vec<String>) -> Vec<usize> {
    let by_alphabet: Vec<&str> = names.iter().map(|name| &**name).collect();
    let Some(order) = natural::order(&by_alphabet) else {
        return (0..names.len()).collect();
    };
    let mut places = vec![0; names.len()];
    for (new, old) in order.iter().enumerate() {
        places[*old] = new;
    }
    *names = order
        .iter()
        .map(|old| std::mem::take(&mut names[*old]))
        .collect();
    places
}

/// A chart in two sentences: what it is, and the first so many of what is told of it.
fn in_words(what: &str, told: Vec<String>, most: usize) -> String {
    let mut words = format!("{what}.");
    let more = told.len().saturating_sub(most);
    if !told.is_empty() {
        words += &format!(" {}", told[..told.len() - more].join("; "));
        if more > 0 {
            words += &format!("; and {more} more");
        }
        words += ".";
    }
    words
}

fn missing() -> Body {
    Body::Empty {
        sentence: "Every value in this window is missing.".to_owned(),
        rows: false,
    }
}

fn instant(value: &Value, window: &Window) -> Option<DateTime<Utc>> {
    match value {
        Value::Instant(at) => Some(*at),
        Value::Date(date) => Some(window.zone.start_of(*date)),
        _ => None,
    }
}

/// The lowest and the highest of values; the wrong way round if there are none.
fn extremes<'v>(values: impl IntoIterator<Item = &'v f64>) -> (f64, f64) {
    values
        .into_iter()
        .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), value| {
            (low.min(*value), high.max(*value))
        })
}

impl Drawing<'_, '_> {
    fn number_format(&self) -> NumberFormat {
        self.context.number_format
    }

    fn window(&self) -> &Window {
        &self.context.snapshot.window
    }

    fn column(&self, name: &str) -> Result<usize, CannotShow> {
        column(&self.table.columns, self.query, name)
    }

    fn number(&self, name: &str) -> Result<usize, CannotShow> {
        numeric_column(self.table, self.query, name)
    }

    fn unit(&self, name: &str) -> Unit {
        unit(self.query, name)
    }

    /// Values beside each other, as the author of their column wants them read.
    fn labels(&self, column: &str, values: &[Option<f64>]) -> Vec<String> {
        let (decimals, limits) = (
            wanted_decimals(self.query, column),
            thresholds(self.query, column),
        );
        self.unit(column)
            .format_alike(values, &limits, self.number_format(), decimals)
    }

    fn text(&self, value: &Value) -> String {
        readable(value, self.window().zone, true, self.number_format())
    }

    fn instant(&self, value: &Value) -> Option<DateTime<Utc>> {
        instant(value, self.window())
    }

    fn times(&self, time: &str) -> Result<usize, CannotShow> {
        let index = self.column(time)?;
        let rows = &self.table.rows;
        if rows.iter().all(|row| self.instant(&row[index]).is_none()) {
            return Err(CannotShow::NoTimes {
                query: self.query.name.clone(),
                column: time.to_owned(),
            });
        }
        Ok(index)
    }

    /// A label and a number of each row that has the number.
    fn labelled(&self, label: usize, number: usize) -> Vec<(String, f64)> {
        let rows = self.table.rows.iter();
        rows.filter_map(|row| Some((self.text(&row[label]), row[number].as_number()?)))
            .collect()
    }
}

fn done(axis: ValueAxis, limits: Vec<Limit>, plot: Plot, description: String) -> Body {
    judged(axis, limits, plot, description, StatusCounts::default())
}

/// A chart with how its values stand; limits off its axis are left out.
fn judged(
    axis: ValueAxis,
    mut limits: Vec<Limit>,
    plot: Plot,
    description: String,
    judged: StatusCounts,
) -> Body {
    limits.retain(|limit| limit.at >= axis.min && limit.at <= axis.max);
    Body::Chart {
        chart: Chart {
            axis,
            limits,
            plot,
            description,
            judged,
        },
    }
}
