//! One block of a dashboard with the rows of its query, as a reader sees it.

use chrono::{DateTime, Datelike, Utc};

use super::{Context, slug};
use crate::{
    chart::{self, BarSeries, Chart, Plot, Series},
    definition::{Block as Definition, BlockKind, Dashboard, Origin, Query},
    document::{Align, Block, Body, Cell, DataTable, Figure, Heading, ShownTable},
    figures::{Figures, Operation, Role, Surroundings, apply_all},
    markdown,
    nearest::suggestion,
    series::How,
    snapshot::{Outcome, Snapshot},
    status::{Status, Thresholds, Worse},
    table::{Table, Value},
    unit::{Scale, Unit},
    writing::Writing,
    zone::Zone,
};

/// The most rows that a table shows in a laid-out document; CSV has them all.
const MOST_ROWS: usize = 200;
/// The most lines that a figure can tell apart.
const MOST_SERIES: usize = 16;

pub(super) fn compose(block: &Definition, context: &mut Context<'_>) -> Block {
    let body = match &block.kind {
        BlockKind::Text(text) => Body::Text { parts: markdown::read(text) },
        _ => with_rows(block, context).unwrap_or_else(|reason| Body::Failed { reason }),
    };
    Block { title: block.title.clone(), width: block.width, note: block.note.clone(), body }
}

fn with_rows(block: &Definition, context: &mut Context<'_>) -> Result<Body, String> {
    let name = block.query.as_ref().map(|query| query.value.as_str()).unwrap_or_default();
    let dashboard = context.dashboard;
    let query = dashboard.queries.iter().find(|query| query.name == name).ok_or_else(|| format!("there is no query \"{name}\""))?;
    let snapshot = context.snapshot;
    let figures = answer(snapshot, dashboard, query)?;
    let table = &figures.table;
    match &block.kind {
        // What is empty may not know its columns yet.
        BlockKind::Table { columns, .. } if table.rows.is_empty() && columns.iter().any(|name| table.column(name).is_none()) => {
            Ok(Body::Empty { sentence: "No rows in this window.".to_owned() })
        }
        BlockKind::Table { columns, limit } => shown_table(block, query, &figures, columns, *limit, context),
        _ if table.rows.is_empty() => Ok(Body::Empty { sentence: format!("{} has no data in this window.", source_title(snapshot, dashboard, query)) }),
        BlockKind::Figures { columns } => key_figures(query, table, columns, snapshot.window.zone, context.writing),
        BlockKind::Line { time, values, series } => lines(block, query, table, (time, values, series.as_deref()), context),
        BlockKind::Bar { label, values } => bars(block, query, table, label, values, context),
        BlockKind::Text(_) => Ok(Body::Text { parts: Vec::new() }),
    }
}

/// A query's rows with everything done to them that its author lists.
///
/// # Errors
/// If the query failed, a query that it needs did, or what is to be done cannot be.
pub(crate) fn answer(snapshot: &Snapshot, dashboard: &Dashboard, query: &Query) -> Result<Figures, String> {
    let other = |name: &str| {
        let query = dashboard.queries.iter().find(|query| query.name == name).ok_or_else(|| format!("there is no query \"{name}\""))?;
        answer(snapshot, dashboard, query)
    };
    let figures = match &query.origin {
        Origin::Query(name) => other(&name.value)?,
        _ => {
            let record = snapshot.query(&dashboard.name, query.record()).ok_or_else(|| format!("the snapshot has no answer to \"{}\"", query.record()))?;
            match &record.outcome {
                Outcome::Failed(reason) => return Err(reason.clone()),
                Outcome::Rows(table) => table.clone().into(),
            }
        }
    };
    let around = Surroundings {
        window: &snapshot.window,
        step: dashboard.step(query, &snapshot.window),
        thresholds: &|column| thresholds(query, column),
        other: &other,
    };
    apply_all(figures.table, &query.then, &around).map_err(|error| error.to_string())
}

/// The title of the source whose rows a query's answer begins with.
fn source_title<'a>(snapshot: &'a Snapshot, dashboard: &'a Dashboard, query: &'a Query) -> &'a str {
    match &query.origin {
        Origin::Query(name) => match dashboard.queries.iter().find(|query| query.name == name.value) {
            Some(query) => source_title(snapshot, dashboard, query),
            None => "The source",
        },
        _ => snapshot.query(&dashboard.name, query.record()).map_or("The source", |record| &record.source_title),
    }
}

/// The position of a named column, or what is wrong with the name.
fn column(table: &Table, query: &Query, name: &str) -> Result<usize, String> {
    table.column(name).ok_or_else(|| {
        let known: Vec<&str> = table.columns.iter().map(|column| column.name.as_str()).collect();
        format!("the query \"{}\" has no column \"{name}\".{} It has: {}", query.name, suggestion(name, known.iter().copied()), known.join(", "))
    })
}

fn numeric_column(table: &Table, query: &Query, name: &str) -> Result<usize, String> {
    let index = column(table, query, name)?;
    let kind = table.columns[index].kind;
    // A column of nothing but missing values has no kind of its own.
    let bare = table.rows.iter().all(|row| row[index] == Value::Missing);
    if kind.is_numeric() || bare {
        Ok(index)
    } else {
        Err(format!("the column \"{name}\" of the query \"{}\" holds {}s, not numbers", query.name, kind.name()))
    }
}

fn chosen(table: &Table, query: &Query, names: &[String]) -> Result<Vec<usize>, String> {
    if names.is_empty() { Ok((0..table.columns.len()).collect()) } else { names.iter().map(|name| column(table, query, name)).collect() }
}

/// The title of a column: the author's, else its name with spaces and a capital.
fn title(query: &Query, name: &str) -> String {
    if let Some(title) = query.hint(name).and_then(|hint| hint.title.clone()) {
        return title;
    }
    if query.then.iter().any(|operation| matches!(operation, Operation::Statistics { .. })) {
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
    let ending = match (number.fract() == 0.0, number as i64 % 10, number as i64 % 100) {
        (true, 1, rest) if rest != 11 => "st",
        (true, 2, rest) if rest != 12 => "nd",
        (true, 3, rest) if rest != 13 => "rd",
        _ => "th",
    };
    format!("{number}{ending}")
}

fn unit(query: &Query, name: &str) -> Unit {
    match query.hint(name) {
        Some(hint) => hint.unit.clone(),
        // What this product itself has worked out as a percentage.
        None if query.then.iter().any(|operation| operation.percentages(name)) => Unit::Percent,
        // Statistics are in the unit of what they are of.
        None => query.then.iter().find_map(|operation| operation.unit_from(name)).map(|of| unit(query, of)).unwrap_or_default(),
    }
}

fn thresholds(query: &Query, name: &str) -> Thresholds {
    query.hint(name).map(|hint| hint.thresholds).unwrap_or_default()
}

fn key_figures(query: &Query, table: &Table, names: &[String], zone: Zone, writing: Writing) -> Result<Body, String> {
    let row = &table.rows[0];
    let figures = chosen(table, query, names)?
        .into_iter()
        .map(|index| {
            let name = &table.columns[index].name;
            let (unit, thresholds) = (unit(query, name), thresholds(query, name));
            let value = match &row[index] {
                Value::Missing => "–".to_owned(),
                value => value.as_number().map_or_else(|| readable(value, zone, true, writing), |number| unit.format(number, writing)),
            };
            Figure {
                title: title(query, name),
                value,
                status: thresholds.is_set().then(|| thresholds.status(row[index].as_number())),
                limits: limits_in_words(&thresholds, &unit, writing),
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
    let parts: Vec<String> = [("warning", thresholds.warning), ("critical", thresholds.critical)]
        .into_iter()
        .filter_map(|(word, limit)| Some(format!("{word} {direction} {}", unit.format(limit?, writing))))
        .collect();
    (!parts.is_empty()).then(|| parts.join(", "))
}

fn lines(
    block: &Definition,
    query: &Query,
    table: &Table,
    (time, values, series): (&str, &[String], Option<&str>),
    context: &mut Context<'_>,
) -> Result<Body, String> {
    let time_index = column(table, query, time)?;
    let window = &context.snapshot.window;
    let mut groups: Vec<(String, Points)> = Vec::new();
    let instant = |row: &[Value]| match &row[time_index] {
        Value::Instant(at) => Some(*at),
        Value::Date(date) => Some(window.zone.start_of(*date)),
        _ => None,
    };
    if table.rows.iter().all(|row| instant(row).is_none()) {
        return Err(format!("the column \"{time}\" of the query \"{}\" holds no times", query.name));
    }
    match series {
        Some(series) => {
            let (value_index, series_index) = (numeric_column(table, query, &values[0])?, column(table, query, series)?);
            for row in &table.rows {
                let Some(at) = instant(row) else { continue };
                let name = readable(&row[series_index], window.zone, true, context.writing);
                let group = match groups.iter().position(|(known, _)| *known == name) {
                    Some(found) => found,
                    None => {
                        groups.push((name, Points::new()));
                        groups.len() - 1
                    }
                };
                groups[group].1.push((at, row[value_index].as_number()));
            }
        }
        None => {
            for name in values {
                let index = numeric_column(table, query, name)?;
                let points = table.rows.iter().filter_map(|row| Some((instant(row)?, row[index].as_number()))).collect();
                groups.push((title(query, name), points));
            }
        }
    }
    if groups.len() > MOST_SERIES {
        return Err(format!("{} series are too many to tell apart in one figure; narrow the query to {MOST_SERIES} or fewer", groups.len()));
    }
    let (unit, thresholds) = (unit(query, &values[0]), thresholds(query, &values[0]));
    let all: Vec<f64> = groups.iter().flat_map(|(_, points)| points.iter().filter_map(|(_, value)| *value)).collect();
    if all.is_empty() {
        return Ok(Body::Empty { sentence: "Every value in this window is missing.".to_owned() });
    }
    let (axis, factor) = chart::axis_for(&all, &thresholds, &unit, false, context.writing);
    let limits = visible(chart::limits(&thresholds, factor, &axis.unit, context.writing), &axis);
    let description = describe_lines(&block.title, &groups, &unit, &window.label(), context.writing);
    let series = groups
        .into_iter()
        .map(|(name, mut points)| {
            points.sort_by_key(|(at, _)| *at);
            let scaled: Vec<_> = points.into_iter().map(|(at, value)| (at, value.map(|value| value * factor))).collect();
            let stretches = chart::stretches(&scaled).into_iter().map(chart::thin).collect();
            Series { colour: context.colours.of(&name), name, stretches }
        })
        .collect();
    let chart = Chart { axis, limits, plot: Plot::Lines { axis: chart::time_axis(window, 9), series }, description };
    Ok(Body::Chart { chart })
}

fn visible(limits: Vec<chart::Limit>, axis: &chart::ValueAxis) -> Vec<chart::Limit> {
    limits.into_iter().filter(|limit| limit.at >= axis.min && limit.at <= axis.max).collect()
}

/// The points of one series; a missing value is a gap.
type Points = Vec<(DateTime<Utc>, Option<f64>)>;

fn describe_lines(title: &str, groups: &[(String, Points)], unit: &Unit, window: &str, writing: Writing) -> String {
    let mut text = format!("Line chart: {title}, {window}.");
    for (name, points) in groups {
        let values: Vec<f64> = points.iter().filter_map(|(_, value)| *value).collect();
        let Some(last) = values.last() else {
            text += &format!(" {name}: no values.");
            continue;
        };
        let (low, high) = values.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), v| (low.min(*v), high.max(*v)));
        text += &format!(" {name}: lowest {}, highest {}, last {}.", unit.format(low, writing), unit.format(high, writing), unit.format(*last, writing));
    }
    text
}

fn bars(block: &Definition, query: &Query, table: &Table, label: &str, names: &[String], context: &mut Context<'_>) -> Result<Body, String> {
    let label_index = column(table, query, label)?;
    let indexes: Vec<usize> = names.iter().map(|name| numeric_column(table, query, name)).collect::<Result<_, _>>()?;
    const MOST_BARS: usize = 60;
    if table.rows.len() > MOST_BARS {
        return Err(format!("{} bars are too many for one figure; narrow the query to {MOST_BARS} or fewer", table.rows.len()));
    }
    let (unit, thresholds) = (unit(query, &names[0]), thresholds(query, &names[0]));
    let all: Vec<f64> = table.rows.iter().flat_map(|row| indexes.iter().filter_map(|index| row[*index].as_number())).collect();
    if all.is_empty() {
        return Ok(Body::Empty { sentence: "Every value in this window is missing.".to_owned() });
    }
    let (axis, factor) = chart::axis_for(&all, &thresholds, &unit, true, context.writing);
    let categories: Vec<String> = table.rows.iter().map(|row| readable(&row[label_index], context.snapshot.window.zone, true, context.writing)).collect();
    let series: Vec<BarSeries> = names
        .iter()
        .zip(&indexes)
        .map(|(name, index)| {
            let values: Vec<Option<f64>> = table.rows.iter().map(|row| row[*index].as_number()).collect();
            let title = title(query, name);
            BarSeries {
                colour: context.colours.of(&title),
                name: title,
                labels: values.iter().map(|value| value.map_or_else(|| "–".to_owned(), |value| unit.format(value, context.writing))).collect(),
                statuses: values.iter().map(|value| if thresholds.is_set() { thresholds.status(*value) } else { Status::Ok }).collect(),
                values: values.iter().map(|value| value.map(|value| value * factor)).collect(),
            }
        })
        .collect();
    let mut description = format!("Bar chart: {}.", block.title);
    for bars in &series {
        let pairs: Vec<String> = categories.iter().zip(&bars.labels).map(|(category, value)| format!("{category} {value}")).collect();
        description += &format!(" {}: {}.", bars.name, pairs.join(", "));
    }
    let limits = visible(chart::limits(&thresholds, factor, &axis.unit, context.writing), &axis);
    Ok(Body::Chart { chart: Chart { axis, limits, plot: Plot::Bars { categories, series }, description } })
}

fn shown_table(
    block: &Definition,
    query: &Query,
    figures: &Figures,
    names: &[String],
    limit: Option<usize>,
    context: &mut Context<'_>,
) -> Result<Body, String> {
    let table = &figures.table;
    let indexes = chosen(table, query, names)?;
    let zone = context.snapshot.window.zone;
    let file_name = free_file_name(&block.title, context);
    let heading = |index: &usize| {
        let name = &table.columns[*index].name;
        let symbol = unit(query, name).symbol().to_owned();
        if symbol.is_empty() { name.clone() } else { format!("{name} [{symbol}]") }
    };
    let whole = Table {
        columns: indexes.iter().map(|index| table.columns[*index].clone()).collect(),
        rows: table.rows.iter().map(|row| indexes.iter().map(|index| row[*index].clone()).collect()).collect(),
        truncated: table.truncated,
    };
    context.data.push(DataTable {
        title: block.title.clone(),
        file_name: file_name.clone(),
        headings: indexes.iter().map(heading).collect(),
        table: whole,
        zone,
    });
    if table.rows.is_empty() {
        return Ok(Body::Empty { sentence: "No rows in this window.".to_owned() });
    }

    let shown = limit.unwrap_or(MOST_ROWS).min(MOST_ROWS).min(table.rows.len());
    let this_year = zone.local(context.snapshot.window.to).year();
    let columns: Vec<ColumnFormat> = indexes.iter().map(|index| ColumnFormat::new(query, table, *index, zone, this_year, context.writing)).collect();
    let cells = |(place, row): (usize, &Vec<Value>)| columns.iter().map(|column| column.cell(&row[column.index], figures.role(place))).collect();
    let rows: Vec<Vec<Cell>> = table.rows[..shown].iter().enumerate().map(cells).collect();
    let sums_up = (0..shown).filter(|place| figures.role(*place) != Role::Plain).collect();
    let headings = columns
        .iter()
        .enumerate()
        .map(|(i, column)| {
            let longest = rows.iter().map(|row| row[i].text.chars().count()).max().unwrap_or(0);
            let marks = if rows.iter().any(|row| row[i].mark.is_some()) { 3 } else { 0 };
            // A heading may break between words, so only its longest word counts whole.
            let heading = format!("{} {}", column.title, column.scale.suffix);
            let word = heading.split_whitespace().map(|word| word.chars().count()).max().unwrap_or(0).max(heading.chars().count() / 2);
            Heading {
                title: column.title.clone(),
                unit: column.scale.suffix.clone(),
                align: column.align,
                weight: (longest.max(word) + marks).clamp(4, 40) as f64 + 2.0,
            }
        })
        .collect();
    let total = context.writing.number(table.rows.len() as f64, 0);
    let cut = (shown < table.rows.len() || table.truncated).then(|| {
        let more = if table.truncated { format!("more than {total} (the limit of the source cut the rest off)") } else { total };
        format!("The first {} of {more} rows; all rows that were read are in {file_name}.", context.writing.number(shown as f64, 0))
    });
    Ok(Body::Table { table: ShownTable { headings, rows, sums_up, cut } })
}

fn free_file_name(title: &str, context: &Context<'_>) -> String {
    let base = format!("{}_{}", context.file_stem, slug(title));
    let taken = |name: &str| context.data.iter().any(|data| data.file_name == name);
    let first = format!("{base}.csv");
    if !taken(&first) {
        return first;
    }
    (2..).map(|n| format!("{base}-{n}.csv")).find(|name| !taken(name)).unwrap_or(first)
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
    fn new(query: &Query, table: &Table, index: usize, zone: Zone, this_year: i32, writing: Writing) -> Self {
        let column = &table.columns[index];
        let numbers: Vec<f64> = table.rows.iter().filter_map(|row| row[index].as_number()).collect();
        let unit = unit(query, &column.name);
        let scale =
            if numbers.is_empty() { Scale { factor: 1.0, suffix: String::new() } } else { unit.scale(numbers.iter().fold(0.0, |most, n| n.abs().max(most))) };
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
            align: if column.kind.is_numeric() { Align::Right } else { Align::Left },
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
            (_, Some(number)) => self.writing.number(number * self.scale.factor, self.decimals),
            (value, None) => readable(value, self.zone, self.year, self.writing),
        };
        let status = if self.thresholds.is_set() && number.is_some() { self.thresholds.status(number) } else { Status::Ok };
        Cell { text, mark: (status >= Status::Warning).then_some(status) }
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
fn readable(value: &Value, zone: Zone, year: bool, writing: Writing) -> String {
    match value {
        Value::Missing => "–".to_owned(),
        Value::Boolean(true) => "yes".to_owned(),
        Value::Boolean(false) => "no".to_owned(),
        Value::Text(text) => text.clone(),
        Value::Instant(at) => writing.time(zone.local(*at), year),
        Value::Date(date) => writing.date(*date),
        number => number.as_number().map_or_else(|| "–".to_owned(), |number| writing.readable(number)),
    }
}
