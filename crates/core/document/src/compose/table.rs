//! Tables as they are shown.

use std::collections::HashMap;

use maple_lark_data::{
    Column, ColumnKind, PackedTable, Table, Unit, Value,
    figures::{Operation, Role},
    number_format::NumberFormat,
    status::{Status, StatusCounts, Thresholds},
    stop,
};
use maple_lark_definition::{Block as Definition, Dashboard, Query, TrendColumn};
use maple_lark_time::Zone;

use crate::{
    compose::{
        CannotShow, Context,
        answers::{self, Answer, answer},
        column::{
            ColumnFormat, chosen, column, numeric_column, readable, thresholds, title, unit,
            wanted_decimals,
        },
        figures::{scale, shares},
        slug,
    },
    document::{Align, Body, Cell, DataTable, Heading, ShownAs, ShownTable},
    snapshot::Snapshot,
};

/// How many rows a table shows in a laid-out document unless its author says otherwise, and
/// the most that it may; CSV has them all.
const USUAL_ROWS: usize = 200;
const MOST_ROWS: usize = 10_000;

/// What a table block shows of its rows.
pub(crate) struct TableOptions<'a> {
    pub(super) columns: &'a [String],
    pub(super) limit: Option<usize>,
    pub(super) bars: &'a [String],
    pub(super) trends: Option<Trends<'a>>,
}

#[expect(
    clippy::too_many_lines,
    reason = "a table from its columns to its last sentence, in the order of reading"
)]
pub(crate) fn shown_table(
    block: &Definition,
    query: &Query,
    answer: &Answer,
    wanted: &TableOptions<'_>,
    context: &mut Context<'_>,
) -> Result<Body, CannotShow> {
    let whole = &answer.table;
    let indexes = chosen(&whole.columns, query, wanted.columns)?;
    let zone = context.snapshot.window.zone;
    let file = keep_rows(block, query, whole, &indexes, context);
    if whole.is_empty() {
        // What there is to say of how they came about is the answer here.
        let sentence = context.notes.pop();
        return Ok(Body::Empty {
            sentence: sentence.unwrap_or_else(|| "No rows in this window.".to_owned()),
            rows: true,
        });
    }

    let shown = wanted
        .limit
        .unwrap_or(USUAL_ROWS)
        .min(MOST_ROWS)
        .min(whole.len());
    let table = &Table {
        columns: whole.columns.clone(),
        rows: whole.rows().take(shown).collect(),
        truncated: whole.truncated,
    };
    let columns: Vec<ColumnFormat> = indexes
        .iter()
        .map(|index| {
            let window = &context.snapshot.window;
            ColumnFormat::new(query, table, *index, window, context.number_format)
        })
        .collect();
    let cells = |(place, row): (usize, &Vec<Value>)| {
        columns
            .iter()
            .map(|column| column.cell(&row[column.index], answer.role(place)))
            .collect()
    };
    let mut rows: Vec<Vec<Cell>> = table.rows.iter().enumerate().map(cells).collect();
    for name in wanted.bars {
        let index = numeric_column(table, query, name)?;
        let place = indexes.iter().position(|shown| *shown == index);
        let place = place.ok_or_else(|| CannotShow::BarsNotShown(name.clone()))?;
        let lengths = lengths(table, index, answer, unit(query, name));
        rows.iter_mut()
            .zip(lengths)
            .for_each(|(row, length)| row[place].bar = length);
    }
    let mut headings: Vec<Heading> = columns
        .iter()
        .enumerate()
        .map(|(place, column)| heading_over(column, rows.iter().map(|row| &row[place])))
        .collect();
    if let Some(trends) = &wanted.trends {
        let key = column(&whole.columns, query, &trends.of.key)?;
        rows.iter_mut().zip(&table.rows).for_each(|(cells, row)| {
            cells.push(trends.cell(&row[key], zone, context.number_format))
        });
        headings.push(trends.heading());
    }
    let cut = (shown < whole.len() || table.truncated).then(|| {
        let count = |rows: usize| context.number_format.number(rows as f64, 0);
        let cut_off = if table.truncated {
            " (the limit of the source cut the rest off)"
        } else {
            ""
        };
        let more = if table.truncated { "more than " } else { "" };
        format!(
            "The first {} of {more}{}{cut_off} rows.",
            count(shown),
            count(whole.len())
        )
    });
    Ok(Body::Table {
        table: ShownTable {
            headings,
            rows,
            sums_up: (0..shown)
                .filter(|place| answer.role(*place) != Role::Plain)
                .collect(),
            cut,
            file,
            judged: judge(answer, query, &indexes, context),
        },
    })
}

/// Keeps the rows behind a block, and says what their file is called.
pub(crate) fn keep_rows(
    block: &Definition,
    query: &Query,
    whole: &PackedTable,
    indexes: &[usize],
    context: &mut Context<'_>,
) -> String {
    let file_name = free_file_name(&block.title, context);
    let with_unit = |name: &str| match unit(query, name).symbol() {
        "" => name.to_owned(),
        symbol => format!("{name} [{symbol}]"),
    };
    let names = || {
        indexes
            .iter()
            .map(|index| whole.columns[*index].name.as_str())
    };
    let is_chart = block.kind.is_chart();
    context.data.push(DataTable {
        title: block.title.clone(),
        file_name: file_name.clone(),
        headings: names().map(with_unit).collect(),
        titles: names().map(|name| title(query, name)).collect(),
        units: names().map(|name| unit(query, name)).collect(),
        shown_as: if is_chart {
            ShownAs::Chart
        } else {
            ShownAs::Table
        },
        is_file: !is_chart || block.csv.unwrap_or(context.charts_are_files),
        table: whole.select(indexes),
        zone: context.snapshot.window.zone,
    });
    file_name
}

/// The heading of a column, as wide as its cells want it.
fn heading_over<'c>(
    column: &ColumnFormat,
    cells: impl Iterator<Item = &'c Cell> + Clone,
) -> Heading {
    let longest = cells.clone().map(|cell| cell.text.chars().count()).max();
    let marks = if cells.clone().any(|cell| cell.mark.is_some()) {
        3
    } else {
        0
    };
    // A heading may break between words, so only its longest word counts whole.
    let heading = format!("{} {}", column.title, column.scale.suffix);
    let word = heading
        .split_whitespace()
        .map(|word| word.chars().count())
        .max()
        .unwrap_or(0)
        .max(heading.chars().count() / 2);
    let width = longest.unwrap_or(0).max(word) + marks;
    Heading {
        title: column.title.clone(),
        unit: column.scale.suffix.clone(),
        align: column.align,
        weight: width.clamp(4, 40) as f64 + 2.0,
        trend: false,
    }
}

/// How all rows stand, each by its worst value; those that sum up others would count twice.
fn judge(
    answer: &Answer,
    query: &Query,
    indexes: &[usize],
    context: &mut Context<'_>,
) -> StatusCounts {
    let columns = &answer.table.columns;
    let forecast = reached_columns(query, columns);
    // What a row is known by: its first text, or else its first cell.
    let text = |index: &&usize| columns[**index].kind == ColumnKind::Text;
    let named = indexes.iter().find(text).or(indexes.first()).copied();
    let (zone, format) = (context.snapshot.window.zone, context.number_format);
    let name =
        |row: &[Value]| named.map_or_else(String::new, |at| readable(&row[at], zone, true, format));
    let limits = |index: &usize| {
        Some((
            *index,
            thresholds(query, &answer.table.columns[*index].name),
        ))
        .filter(|(_, thresholds)| thresholds.is_set())
    };
    let limited: Vec<(usize, Thresholds)> = indexes.iter().filter_map(limits).collect();
    let mut judged = StatusCounts::default();
    if limited.is_empty() && forecast.is_none() {
        return judged;
    }
    for (_, row) in answer
        .table
        .rows()
        .enumerate()
        .filter(|(place, _)| answer.role(*place) == Role::Plain)
    {
        stop::check();
        if let Some(places) = forecast {
            tell_reached(query, &row, places, &name(&row), context);
        }
        if limited.is_empty() {
            continue;
        }
        let mut worst = Status::Unknown;
        let mut any = false;
        for (index, thresholds) in &limited {
            let Some(value) = row[*index].as_number() else {
                continue;
            };
            let status = thresholds.status(Some(value));
            worst = if any { worst.max(status) } else { status };
            any = true;
            if status > Status::Unknown {
                let column = &columns[*index].name;
                let what = title(query, column);
                let unit = (&unit(query, column), wanted_decimals(query, column));
                let said = (&*name(&row), &*what);
                context
                    .past
                    .add_value(said, value, unit, thresholds, format);
            }
        }
        judged.add(worst);
    }
    judged
}

/// Names a limit that is likely to be reached.
fn tell_reached(
    query: &Query,
    row: &[Value],
    (limit, likely): (usize, usize),
    name: &str,
    context: &mut Context<'_>,
) {
    let Value::Instant(at) = row[likely] else {
        return;
    };
    let (window, format) = (&context.snapshot.window, context.number_format);
    let day = format.date(window.zone.local(at).date());
    let limit = row[limit].as_number().unwrap_or_default();
    let limit = unit(query, "limit").format(limit, format);
    let says = format!("{limit} likely on {day}");
    let end = window.to;
    context.past.add_reached(name, says, at, end);
}

/// Where a limit stands and when it is likely reached, where the rows are forecasts of limits.
fn reached_columns(query: &Query, columns: &[Column]) -> Option<(usize, usize)> {
    let mut operations = query.then.iter();
    let forecast = operations.any(|operation| matches!(operation, Operation::Forecast(_)));
    let place = |name: &str| columns.iter().position(|column| column.name == name);
    forecast.then(|| Some((place("limit")?, place("likely")?)))?
}

/// The lines of a table's last column, by what their rows are known by.
pub(crate) struct Trends<'a> {
    of: &'a TrendColumn,
    title: String,
    unit: Unit,
    by_key: HashMap<String, Vec<Option<f64>>>,
    /// That of all lines, unless each has its own.
    scale: Option<(f64, f64)>,
}

impl<'a> Trends<'a> {
    pub(crate) fn new(
        of: &'a TrendColumn,
        snapshot: &Snapshot,
        dashboard: &Dashboard,
        number_format: NumberFormat,
    ) -> Result<Self, CannotShow> {
        let query = answers::query(dashboard, &of.query.value)?;
        let table = Table::from(answer(snapshot, dashboard, query)?.table);
        let mut by_key: HashMap<String, Vec<Option<f64>>> = HashMap::new();
        // Without rows a query may not know its columns.
        if !table.rows.is_empty() {
            let (key, value) = (
                column(&table.columns, query, &of.key)?,
                numeric_column(&table, query, &of.value)?,
            );
            for row in &table.rows {
                by_key
                    .entry(readable(
                        &row[key],
                        snapshot.window.zone,
                        true,
                        number_format,
                    ))
                    .or_default()
                    .push(row[value].as_number());
            }
        }
        Ok(Self {
            of,
            title: title(query, &of.value),
            unit: unit(query, &of.value),
            scale: (!of.own_scales).then(|| scale(by_key.values().flatten())),
            by_key,
        })
    }

    fn heading(&self) -> Heading {
        Heading {
            title: self.title.clone(),
            unit: String::new(),
            align: Align::Left,
            weight: 16.0,
            trend: true,
        }
    }

    pub(crate) fn cell(&self, key: &Value, zone: Zone, number_format: NumberFormat) -> Cell {
        let values = self
            .by_key
            .get(&readable(key, zone, true, number_format))
            .map(Vec::as_slice)
            .unwrap_or_default();
        let known: Vec<f64> = values.iter().flatten().copied().collect();
        let (Some(first), Some(last)) = (known.first(), known.last()) else {
            return Cell {
                text: "–".to_owned(),
                ..Cell::default()
            };
        };
        let most = known.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let least = known.iter().copied().fold(f64::INFINITY, f64::min);
        let [first, last, least, most] =
            [*first, *last, least, most].map(|value| self.unit.format(value, number_format));
        Cell {
            text: format!("from {first} to {last}, between {least} and {most}"),
            trend: shares(values, self.scale.unwrap_or_else(|| scale(values.iter()))),
            ..Cell::default()
        }
    }
}

/// How long the bar in each cell of a column is, from 0 to 1: against a hundred percent, or
/// the largest value. Rows that sum up others have none, for they would dwarf the rest.
fn lengths(table: &Table, index: usize, answer: &Answer, unit: Unit) -> Vec<Option<f64>> {
    let plain = |place: usize| answer.role(place) == Role::Plain;
    let values = || {
        table
            .rows
            .iter()
            .enumerate()
            .map(|(place, row)| row[index].as_number().filter(|_| plain(place)))
    };
    let most = match unit {
        Unit::Percent => 100.0,
        Unit::Ratio => 1.0,
        _ => values().flatten().fold(0.0, f64::max),
    };
    values()
        .map(|value| {
            value
                .filter(|_| most > 0.0)
                .map(|value| ((value / most).clamp(0.0, 1.0) * 1000.0).round() / 1000.0)
        })
        .collect()
}

fn free_file_name(title: &str, context: &Context<'_>) -> String {
    let base = format!("{}_{}", context.file_stem, slug(title));
    let taken = |name: &str| {
        let mut files = context.data.iter().filter(|data| data.is_file);
        files.any(|data| data.file_name == name)
    };
    let first = format!("{base}.csv");
    if !taken(&first) {
        return first;
    }
    (2..)
        .map(|n| format!("{base}-{n}.csv"))
        .find(|name| !taken(name))
        .unwrap_or(first)
}
