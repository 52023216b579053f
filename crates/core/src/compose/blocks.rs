//! One block of a dashboard with the rows of its query, as a reader sees it.

use std::collections::HashMap;

use chrono::Datelike;

use super::{Context, charts, slug};
use crate::{
    definition::{
        Block as Definition, BlockKind, Dashboard, Origin, Placed, Query, TrendColumn, Width,
    },
    document::{Align, Block, Body, Cell, DataTable, Figure, Heading, ShownTable},
    figures::{Figures, Operation, Role, Surroundings, apply_all},
    nearest::suggestion,
    packed::PackedTable,
    series::How,
    snapshot::{Outcome, Snapshot},
    status::{Judged, Status, Thresholds, Worse},
    table::{Column, Table, Value},
    unit::{Scale, Unit},
    writing::Writing,
    zone::Zone,
};

/// How many rows a table shows in a laid-out document unless its author says otherwise, and
/// the most that it may; CSV has them all.
const USUAL_ROWS: usize = 200;
const MOST_ROWS: usize = 10_000;

pub(super) fn compose(block: &Definition, context: &mut Context<'_>) -> Block {
    let body = match &block.kind {
        // Read when the values that it may name are known.
        BlockKind::Text(_) => Body::Text { parts: Vec::new() },
        BlockKind::Image { data, description } => Body::Image {
            picture: data.clone(),
            description: description.clone(),
        },
        BlockKind::PageBreak => Body::PageBreak,
        _ => with_rows(block, context).unwrap_or_else(|reason| Body::Failed { reason }),
    };
    let usual = if context.two_across && matches!(body, Body::Chart { .. }) {
        Width::HALF
    } else {
        Width::FULL
    };
    Block {
        title: block.title.clone(),
        width: block.width.unwrap_or(usual),
        note: block.note.clone(),
        body,
    }
}

fn with_rows(block: &Definition, context: &mut Context<'_>) -> Result<Body, String> {
    let name = block
        .query
        .as_ref()
        .map(|query| query.value.as_str())
        .unwrap_or_default();
    let dashboard = context.dashboard;
    let query = dashboard
        .queries
        .iter()
        .find(|query| query.name == name)
        .ok_or_else(|| format!("there is no query \"{name}\""))?;
    let snapshot = context.snapshot;
    let answer = answer(snapshot, dashboard, query)?;
    if let BlockKind::Table {
        columns,
        limit,
        bars,
        trend,
    } = &block.kind
    {
        // What is empty may not know its columns yet.
        if answer.table.is_empty()
            && columns
                .iter()
                .any(|name| answer.table.column(name).is_none())
        {
            return Ok(Body::Empty {
                sentence: "No rows in this window.".to_owned(),
                rows: true,
            });
        }
        let trends = trend
            .as_ref()
            .map(|trend| Trends::new(trend, snapshot, dashboard, context.writing))
            .transpose()?;
        return shown_table(
            block,
            query,
            &answer,
            &Wanted {
                columns,
                limit: *limit,
                bars,
                trends,
            },
            context,
        );
    }
    let table = &Table::from(answer.table);
    match &block.kind {
        _ if table.rows.is_empty() => Ok(Body::Empty {
            sentence: format!(
                "{} has no data in this window.",
                source_title(snapshot, dashboard, query)
            ),
            rows: false,
        }),
        BlockKind::Figures {
            columns,
            before,
            trend,
        } => {
            let other = |name: &Option<Placed<String>>| {
                let query = name.as_ref().and_then(|name| {
                    dashboard
                        .queries
                        .iter()
                        .find(|query| query.name == name.value)
                });
                query
                    .map(|query| {
                        self::answer(snapshot, dashboard, query)
                            .map(|answer| Table::from(answer.table))
                    })
                    .transpose()
            };
            let beside = Beside {
                before: other(before)?,
                trend: other(trend)?,
            };
            key_figures(
                query,
                table,
                columns,
                &beside,
                snapshot.window.zone,
                context.writing,
            )
        }
        _ => charts::chart(block, query, table, context),
    }
}

/// What a query answers, as far as its author wants it.
pub(crate) struct Answer {
    pub table: PackedTable,
    /// What each row is, if any sums up others.
    roles: Vec<Role>,
}

impl Answer {
    fn role(&self, place: usize) -> Role {
        self.roles.get(place).copied().unwrap_or(Role::Plain)
    }
}

impl From<Figures> for Answer {
    fn from(figures: Figures) -> Self {
        Self {
            table: figures.table.into(),
            roles: figures.roles,
        }
    }
}

impl From<Answer> for Figures {
    fn from(answer: Answer) -> Self {
        Self {
            table: answer.table.into(),
            roles: answer.roles,
        }
    }
}

/// A query's rows with everything done to them that its author lists.
///
/// # Errors
/// If the query failed, a query that it needs did, or what is to be done cannot be.
pub(crate) fn answer(
    snapshot: &Snapshot,
    dashboard: &Dashboard,
    query: &Query,
) -> Result<Answer, String> {
    let other = |name: &str| {
        let query = dashboard
            .queries
            .iter()
            .find(|query| query.name == name)
            .ok_or_else(|| format!("there is no query \"{name}\""))?;
        answer(snapshot, dashboard, query).map(Figures::from)
    };
    let answer = match &query.origin {
        Origin::Query(name) => {
            let query = dashboard
                .queries
                .iter()
                .find(|query| query.name == name.value)
                .ok_or_else(|| format!("there is no query \"{}\"", name.value))?;
            answer(snapshot, dashboard, query)?
        }
        _ => {
            let record = snapshot
                .query(&dashboard.name, query.record())
                .ok_or_else(|| format!("the snapshot has no answer to \"{}\"", query.record()))?;
            match &record.outcome {
                Outcome::Failed(reason) => return Err(reason.clone()),
                Outcome::Rows(table) => Answer {
                    table: table.clone(),
                    roles: Vec::new(),
                },
            }
        }
    };
    // Rows to which nothing is done stay packed, however many they are.
    if query.then.is_empty() {
        return Ok(answer);
    }
    let around = Surroundings {
        window: &snapshot.window,
        step: dashboard.step(query, &snapshot.window),
        thresholds: &|column| thresholds(query, column),
        other: &other,
    };
    apply_all(answer.table.into(), &query.then, &around)
        .map(Answer::from)
        .map_err(|error| error.to_string())
}

/// The title of the source whose rows a query's answer begins with.
fn source_title<'a>(snapshot: &'a Snapshot, dashboard: &'a Dashboard, query: &'a Query) -> &'a str {
    match &query.origin {
        Origin::Query(name) => match dashboard
            .queries
            .iter()
            .find(|query| query.name == name.value)
        {
            Some(query) => source_title(snapshot, dashboard, query),
            None => "The source",
        },
        _ => snapshot
            .query(&dashboard.name, query.record())
            .map_or("The source", |record| &record.source_title),
    }
}

/// The position of a named column, or what is wrong with the name.
pub(super) fn column(columns: &[Column], query: &Query, name: &str) -> Result<usize, String> {
    columns
        .iter()
        .position(|column| column.name == name)
        .ok_or_else(|| {
            let known: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
            format!(
                "the query \"{}\" has no column \"{name}\".{} It has: {}",
                query.name,
                suggestion(name, known.iter().copied()),
                known.join(", ")
            )
        })
}

pub(super) fn numeric_column(table: &Table, query: &Query, name: &str) -> Result<usize, String> {
    let index = column(&table.columns, query, name)?;
    let kind = table.columns[index].kind;
    // A column of nothing but missing values has no kind of its own.
    let bare = table.rows.iter().all(|row| row[index] == Value::Missing);
    if kind.is_numeric() || bare {
        Ok(index)
    } else {
        Err(format!(
            "the column \"{name}\" of the query \"{}\" holds {}s, not numbers",
            query.name,
            kind.name()
        ))
    }
}

fn chosen(columns: &[Column], query: &Query, names: &[String]) -> Result<Vec<usize>, String> {
    if names.is_empty() {
        Ok((0..columns.len()).collect())
    } else {
        names
            .iter()
            .map(|name| column(columns, query, name))
            .collect()
    }
}

/// The title of a column: the author's, else its name with spaces and a capital.
pub(super) fn title(query: &Query, name: &str) -> String {
    if let Some(title) = query.hint(name).and_then(|hint| hint.title.clone()) {
        return title;
    }
    if query
        .then
        .iter()
        .any(|operation| matches!(operation, Operation::Statistics { .. }))
    {
        if name == "deviation" {
            return "Standard deviation".to_owned();
        }
        if let Ok(How::Percentile(percentile)) = name.parse::<How>()
            && name.starts_with('p')
        {
            return format!("{} percentile", ordinal(percentile));
        }
    }
    let mut words = name.replace('_', " ");
    if let Some(first) = words.get_mut(..1) {
        first.make_ascii_uppercase();
    }
    words
}

/// `95th`, `99.9th`, `1st`.
fn ordinal(number: f64) -> String {
    let ending = match (
        number.fract() == 0.0,
        number as i64 % 10,
        number as i64 % 100,
    ) {
        (true, 1, rest) if rest != 11 => "st",
        (true, 2, rest) if rest != 12 => "nd",
        (true, 3, rest) if rest != 13 => "rd",
        _ => "th",
    };
    format!("{number}{ending}")
}

pub(super) fn unit(query: &Query, name: &str) -> Unit {
    match query.hint(name) {
        Some(hint) => hint.unit.clone(),
        // What this product itself has worked out as a percentage.
        None if query
            .then
            .iter()
            .any(|operation| operation.percentages(name)) =>
        {
            Unit::Percent
        }
        // Statistics are in the unit of what they are of.
        None => query
            .then
            .iter()
            .find_map(|operation| operation.unit_from(name))
            .map(|of| unit(query, of))
            .unwrap_or_default(),
    }
}

pub(super) fn thresholds(query: &Query, name: &str) -> Thresholds {
    query
        .hint(name)
        .map(|hint| hint.thresholds)
        .unwrap_or_default()
}

/// What key figures are seen beside.
struct Beside {
    before: Option<Table>,
    trend: Option<Table>,
}

impl Beside {
    /// What a figure was in the comparison window.
    fn before(&self, name: &str) -> Option<f64> {
        let table = self.before.as_ref()?;
        table.rows.first()?.get(table.column(name)?)?.as_number()
    }

    /// How far a figure is from what it was; nothing where there is nothing to compare.
    fn change(
        &self,
        name: &str,
        now: Option<f64>,
        unit: &Unit,
        writing: Writing,
    ) -> Option<String> {
        self.before.as_ref()?.column(name)?;
        let before = self.before(name);
        let (Some(now), Some(before)) = (now, before) else {
            return Some("nothing to compare with".to_owned());
        };
        let difference = now - before;
        if difference == 0.0 {
            return Some("as before".to_owned());
        }
        let sign = if difference > 0.0 { "+" } else { "−" };
        // A share of a share misleads, and a difference of percentages is none: they change by points.
        let shares = matches!(unit, Unit::Percent | Unit::Ratio);
        let amount = unit.format(difference.abs(), writing);
        let amount = if shares {
            amount.replace('%', "points")
        } else {
            amount
        };
        let part = (before > 0.0 && !shares).then(|| {
            format!(
                " ({sign}{})",
                Unit::Percent.format((difference.abs() / before * 1000.0).round() / 10.0, writing)
            )
        });
        Some(format!(
            "{sign}{amount}{} against {}",
            part.unwrap_or_default(),
            unit.format(before, writing)
        ))
    }

    /// The figure over time, as shares of the way from its lowest to its highest value.
    fn sparkline(&self, name: &str) -> Vec<Option<f64>> {
        let Some((table, index)) = self
            .trend
            .as_ref()
            .and_then(|table| Some((table, table.column(name)?)))
        else {
            return Vec::new();
        };
        shares(
            &table
                .rows
                .iter()
                .map(|row| row[index].as_number())
                .collect::<Vec<_>>(),
        )
    }
}

/// Values as shares of the way from the lowest to the highest; a flat line is in the middle.
fn shares(values: &[Option<f64>]) -> Vec<Option<f64>> {
    let (low, high) = values
        .iter()
        .flatten()
        .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), v| {
            (low.min(*v), high.max(*v))
        });
    // A thousandth is finer than any picture.
    let share = |value: f64| {
        if high > low {
            ((value - low) / (high - low) * 1000.0).round() / 1000.0
        } else {
            0.5
        }
    };
    values.iter().map(|value| value.map(share)).collect()
}

fn key_figures(
    query: &Query,
    table: &Table,
    names: &[String],
    beside: &Beside,
    zone: Zone,
    writing: Writing,
) -> Result<Body, String> {
    let row = &table.rows[0];
    let figures = chosen(&table.columns, query, names)?
        .into_iter()
        .map(|index| {
            let name = &table.columns[index].name;
            let (unit, thresholds) = (unit(query, name), thresholds(query, name));
            let value = match &row[index] {
                Value::Missing => "–".to_owned(),
                value => value.as_number().map_or_else(
                    || readable(value, zone, true, writing),
                    |number| unit.format(number, writing),
                ),
            };
            Figure {
                name: name.clone(),
                title: title(query, name),
                value,
                status: thresholds
                    .is_set()
                    .then(|| thresholds.status(row[index].as_number())),
                limits: limits_in_words(&thresholds, &unit, writing),
                change: beside.change(name, row[index].as_number(), &unit, writing),
                amount: row[index].as_number(),
                before: beside.before(name),
                sparkline: beside.sparkline(name),
            }
        })
        .collect();
    Ok(Body::Figures { figures })
}

fn limits_in_words(thresholds: &Thresholds, unit: &Unit, writing: Writing) -> Option<String> {
    let direction = match thresholds.worse {
        Worse::Higher => "from",
        Worse::Lower => "at or below",
    };
    let parts: Vec<String> = [
        ("warning", thresholds.warning),
        ("critical", thresholds.critical),
    ]
    .into_iter()
    .filter_map(|(word, limit)| {
        Some(format!(
            "{word} {direction} {}",
            unit.format(limit?, writing)
        ))
    })
    .collect();
    (!parts.is_empty()).then(|| parts.join(", "))
}

/// What a table block shows of its rows.
struct Wanted<'a> {
    columns: &'a [String],
    limit: Option<usize>,
    bars: &'a [String],
    trends: Option<Trends<'a>>,
}

fn shown_table(
    block: &Definition,
    query: &Query,
    answer: &Answer,
    wanted: &Wanted<'_>,
    context: &mut Context<'_>,
) -> Result<Body, String> {
    let whole = &answer.table;
    let indexes = chosen(&whole.columns, query, wanted.columns)?;
    let zone = context.snapshot.window.zone;
    let file_name = free_file_name(&block.title, context);
    let heading = |index: &usize| {
        let name = &whole.columns[*index].name;
        let symbol = unit(query, name).symbol().to_owned();
        if symbol.is_empty() {
            name.clone()
        } else {
            format!("{name} [{symbol}]")
        }
    };
    context.data.push(DataTable {
        title: block.title.clone(),
        file_name: file_name.clone(),
        headings: indexes.iter().map(heading).collect(),
        table: whole.select(&indexes),
        zone,
    });
    if whole.is_empty() {
        return Ok(Body::Empty {
            sentence: "No rows in this window.".to_owned(),
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
    let this_year = zone.local(context.snapshot.window.to).year();
    let columns: Vec<ColumnFormat> = indexes
        .iter()
        .map(|index| ColumnFormat::new(query, table, *index, zone, this_year, context.writing))
        .collect();
    let cells = |(place, row): (usize, &Vec<Value>)| {
        columns
            .iter()
            .map(|column| column.cell(&row[column.index], answer.role(place)))
            .collect()
    };
    let rows: Vec<Vec<Cell>> = table.rows.iter().enumerate().map(cells).collect();
    let bars: Vec<(usize, Vec<Option<f64>>)> = wanted
        .bars
        .iter()
        .map(|name| {
            let index = numeric_column(table, query, name)?;
            let place = indexes
                .iter()
                .position(|shown| *shown == index)
                .ok_or_else(|| format!("the column \"{name}\" has bars but is not shown"))?;
            Ok((place, lengths(table, index, answer, unit(query, name))))
        })
        .collect::<Result<_, String>>()?;
    let mut rows = rows;
    for (place, lengths) in bars {
        rows.iter_mut()
            .zip(lengths)
            .for_each(|(row, length)| row[place].bar = length);
    }
    let sums_up = (0..shown)
        .filter(|place| answer.role(*place) != Role::Plain)
        .collect();
    let mut headings: Vec<Heading> = columns
        .iter()
        .enumerate()
        .map(|(i, column)| {
            let longest = rows
                .iter()
                .map(|row| row[i].text.chars().count())
                .max()
                .unwrap_or(0);
            let marks = if rows.iter().any(|row| row[i].mark.is_some()) {
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
            Heading {
                title: column.title.clone(),
                unit: column.scale.suffix.clone(),
                align: column.align,
                weight: (longest.max(word) + marks).clamp(4, 40) as f64 + 2.0,
                trend: false,
            }
        })
        .collect();
    if let Some(trends) = &wanted.trends {
        let key = column(&whole.columns, query, &trends.of.key)?;
        rows.iter_mut()
            .zip(&table.rows)
            .for_each(|(cells, row)| cells.push(trends.cell(&row[key], zone, context.writing)));
        headings.push(Heading {
            title: trends.title.clone(),
            unit: String::new(),
            align: Align::Left,
            weight: 16.0,
            trend: true,
        });
    }
    let total = context.writing.number(whole.len() as f64, 0);
    let cut = (shown < whole.len() || table.truncated).then(|| {
        let more = if table.truncated {
            format!("more than {total} (the limit of the source cut the rest off)")
        } else {
            total
        };
        format!(
            "The first {} of {more} rows; all rows that were read are in {file_name}.",
            context.writing.number(shown as f64, 0)
        )
    });
    let judged = judge(answer, query, &indexes);
    Ok(Body::Table {
        table: ShownTable {
            headings,
            rows,
            sums_up,
            cut,
            judged,
        },
    })
}

/// How all rows stand, each by its worst value; those that sum up others would count twice.
fn judge(answer: &Answer, query: &Query, indexes: &[usize]) -> Judged {
    let limits = |index: &usize| {
        Some((
            *index,
            thresholds(query, &answer.table.columns[*index].name),
        ))
        .filter(|(_, thresholds)| thresholds.is_set())
    };
    let limited: Vec<(usize, Thresholds)> = indexes.iter().filter_map(limits).collect();
    let mut judged = Judged::default();
    if limited.is_empty() {
        return judged;
    }
    for (_, row) in answer
        .table
        .rows()
        .enumerate()
        .filter(|(place, _)| answer.role(*place) == Role::Plain)
    {
        let statuses = limited.iter().filter_map(|(index, thresholds)| {
            row[*index]
                .as_number()
                .map(|value| thresholds.status(Some(value)))
        });
        judged.add(statuses.max().unwrap_or(Status::Unknown));
    }
    judged
}

/// The lines of a table's last column, by what their rows are known by.
struct Trends<'a> {
    of: &'a TrendColumn,
    title: String,
    unit: Unit,
    by_key: HashMap<String, Vec<Option<f64>>>,
}

impl<'a> Trends<'a> {
    fn new(
        of: &'a TrendColumn,
        snapshot: &Snapshot,
        dashboard: &Dashboard,
        writing: Writing,
    ) -> Result<Self, String> {
        let query = dashboard
            .queries
            .iter()
            .find(|query| query.name == of.query.value)
            .ok_or_else(|| format!("there is no query \"{}\"", of.query.value))?;
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
                    .entry(readable(&row[key], snapshot.window.zone, true, writing))
                    .or_default()
                    .push(row[value].as_number());
            }
        }
        Ok(Self {
            of,
            title: title(query, &of.value),
            unit: unit(query, &of.value),
            by_key,
        })
    }

    fn cell(&self, key: &Value, zone: Zone, writing: Writing) -> Cell {
        let values = self
            .by_key
            .get(&readable(key, zone, true, writing))
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
            [*first, *last, least, most].map(|value| self.unit.format(value, writing));
        Cell {
            text: format!("from {first} to {last}, between {least} and {most}"),
            trend: shares(values),
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
    let taken = |name: &str| context.data.iter().any(|data| data.file_name == name);
    let first = format!("{base}.csv");
    if !taken(&first) {
        return first;
    }
    (2..)
        .map(|n| format!("{base}-{n}.csv"))
        .find(|name| !taken(name))
        .unwrap_or(first)
}

/// How all cells of one column read, so that they can be compared at a glance: one scale
/// and one count of decimals.
struct ColumnFormat {
    index: usize,
    title: String,
    scale: Scale,
    decimals: usize,
    align: Align,
    thresholds: Thresholds,
    zone: Zone,
    year: bool,
    writing: Writing,
}

impl ColumnFormat {
    fn new(
        query: &Query,
        table: &Table,
        index: usize,
        zone: Zone,
        this_year: i32,
        writing: Writing,
    ) -> Self {
        let column = &table.columns[index];
        let numbers: Vec<f64> = table
            .rows
            .iter()
            .filter_map(|row| row[index].as_number())
            .collect();
        let unit = unit(query, &column.name);
        let scale = if numbers.is_empty() {
            Scale {
                factor: 1.0,
                suffix: String::new(),
            }
        } else {
            unit.scale(numbers.iter().fold(0.0, |most, n| n.abs().max(most)))
        };
        let scaled: Vec<f64> = numbers.iter().map(|n| n * scale.factor).collect();
        let decimals = match unit {
            Unit::Currency(_) => 2,
            _ => decimals(&scaled),
        };
        let years = |value: &Value| match value {
            Value::Instant(at) => zone.local(*at).year() != this_year,
            Value::Date(_) => true,
            _ => false,
        };
        ColumnFormat {
            index,
            title: title(query, &column.name),
            scale,
            decimals,
            align: if column.kind.is_numeric() {
                Align::Right
            } else {
                Align::Left
            },
            thresholds: thresholds(query, &column.name),
            zone,
            year: table.rows.iter().any(|row| years(&row[index])),
            writing,
        }
    }

    /// A row that sums up others has nothing to say where it has no value.
    fn cell(&self, value: &Value, role: Role) -> Cell {
        let number = value.as_number();
        let text = match (value, number) {
            (Value::Missing, _) if role != Role::Plain => String::new(),
            (Value::Missing, _) => "–".to_owned(),
            (_, Some(number)) => self
                .writing
                .number(number * self.scale.factor, self.decimals),
            (value, None) => readable(value, self.zone, self.year, self.writing),
        };
        let status = if self.thresholds.is_set() && number.is_some() {
            self.thresholds.status(number)
        } else {
            Status::Ok
        };
        Cell {
            text,
            mark: (status >= Status::Warning).then_some(status),
            ..Cell::default()
        }
    }
}

/// As many decimals as the largest value deserves; two where values crowd below 100 %.
fn decimals(values: &[f64]) -> usize {
    if values.iter().all(|v| v.fract() == 0.0) {
        return 0;
    }
    let largest = values.iter().fold(0f64, |most, v| most.max(v.abs()));
    match largest {
        l if l >= 1000.0 => 0,
        l if l > 99.0 && l <= 100.0 => 2,
        l if l >= 100.0 => 1,
        l if l >= 10.0 => 1,
        l if l >= 0.1 => 2,
        _ => 4,
    }
}

/// A value that is not a number, for people.
pub(super) fn readable(value: &Value, zone: Zone, year: bool, writing: Writing) -> String {
    match value {
        Value::Missing => "–".to_owned(),
        Value::Boolean(true) => "yes".to_owned(),
        Value::Boolean(false) => "no".to_owned(),
        Value::Text(text) => text.clone(),
        Value::Instant(at) => writing.time(zone.local(*at), year),
        Value::Date(date) => writing.date(*date),
        number => number
            .as_number()
            .map_or_else(|| "–".to_owned(), |number| writing.readable(number)),
    }
}
