//! Columns: which ones, what they are called, and how their values are written.

use chrono::{Datelike, TimeDelta};
use maple_lark_data::{
    Column, Table, Unit, Value,
    figures::{Operation, Role},
    number_format::{self, NumberFormat},
    series::Aggregation,
    status::{Status, Thresholds},
    unit::Scale,
};
use maple_lark_definition::Query;
use maple_lark_time::{Window, Zone};

use crate::{
    compose::CannotShow,
    document::{Align, Cell},
};

/// The position of a named column, or what is wrong with the name.
pub(crate) fn column(columns: &[Column], query: &Query, name: &str) -> Result<usize, CannotShow> {
    columns
        .iter()
        .position(|column| column.name == name)
        .ok_or_else(|| CannotShow::no_column(&query.name, name, columns))
}

pub(crate) fn numeric_column(
    table: &Table,
    query: &Query,
    name: &str,
) -> Result<usize, CannotShow> {
    let index = column(&table.columns, query, name)?;
    let kind = table.columns[index].kind;
    // A column of nothing but missing values has no kind of its own.
    let bare = table.rows.iter().all(|row| row[index] == Value::Missing);
    if kind.is_numeric() || bare {
        Ok(index)
    } else {
        Err(CannotShow::NotNumbers {
            query: query.name.clone(),
            column: name.to_owned(),
            kind: kind.name(),
        })
    }
}

pub(crate) fn chosen(
    columns: &[Column],
    query: &Query,
    names: &[String],
) -> Result<Vec<usize>, CannotShow> {
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
pub(crate) fn title(query: &Query, name: &str) -> String {
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
        if let Ok(Aggregation::Percentile(percentile)) = name.parse::<Aggregation>()
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

pub(crate) fn unit(query: &Query, name: &str) -> Unit {
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
        None if query.then.iter().any(|operation| operation.seconds(name)) => Unit::Seconds,
        // Statistics are in the unit of what they are of.
        None => query
            .then
            .iter()
            .find_map(|operation| Some((operation, operation.unit_from(name)?)))
            .map(|(operation, of)| match (operation, unit(query, of)) {
                // A difference of percentages is none.
                (Operation::Compare(_), Unit::Percent) if name.ends_with("_change") => {
                    Unit::Other("points".to_owned())
                }
                (_, unit) => unit,
            })
            .unwrap_or_default(),
    }
}

/// Whether its rows are availabilities.
fn availability(query: &Query) -> bool {
    let mut operations = query.then.iter();
    operations.any(|operation| matches!(operation, Operation::Availability(_)))
}

/// The decimals that an author wants of a column.
pub(crate) fn wanted_decimals(query: &Query, name: &str) -> Option<usize> {
    query.hint(name).and_then(|hint| hint.decimals)
}

pub(crate) fn thresholds(query: &Query, name: &str) -> Thresholds {
    query
        .hint(name)
        .map(|hint| hint.thresholds)
        .unwrap_or_default()
}

/// How all cells of one column read, so that they can be compared at a glance: one scale
/// and one count of decimals.
pub(crate) struct ColumnFormat {
    pub(crate) index: usize,
    pub(crate) title: String,
    pub(crate) scale: Scale,
    decimals: usize,
    pub(crate) align: Align,
    thresholds: Thresholds,
    zone: Zone,
    year: bool,
    /// Whether it says days without their hours.
    days: bool,
    number_format: NumberFormat,
}

/// A forecast that reaches further ahead does not know the hour.
const KNOWN_BY_HOUR: TimeDelta = TimeDelta::days(7);

impl ColumnFormat {
    pub(crate) fn new(
        query: &Query,
        table: &Table,
        index: usize,
        window: &Window,
        number_format: NumberFormat,
    ) -> Self {
        let zone = window.zone;
        let this_year = zone.local(window.to).year();
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
        let decimals = decimals(query, table, index, &unit, &scaled);
        let thresholds = thresholds(query, &column.name);
        // No cell reads as if it were on another side of a limit than it is.
        let decimals = numbers.iter().fold(decimals, |most, number| {
            let telling = thresholds.telling_places(*number, scale.factor, decimals, decimals + 2);
            most.max(telling)
        });
        let years = |value: &Value| match value {
            Value::Instant(at) => zone.local(*at).year() != this_year,
            Value::Date(_) => true,
            _ => false,
        };
        let forecast = query.then.iter().any(|one| one.forecasts(&column.name));
        let far =
            |value: &Value| matches!(value, Value::Instant(at) if *at - window.to > KNOWN_BY_HOUR);
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
            thresholds,
            zone,
            year: table.rows.iter().any(|row| years(&row[index])),
            days: forecast && table.rows.iter().any(|row| far(&row[index])),
            number_format,
        }
    }

    /// A row that sums up others has nothing to say where it has no value.
    pub(crate) fn cell(&self, value: &Value, role: Role) -> Cell {
        let number = value.as_number();
        let text = match (value, number) {
            (Value::Missing, _) if role != Role::Plain => String::new(),
            (Value::Missing, _) => "–".to_owned(),
            (_, Some(number)) => self
                .number_format
                .number(number * self.scale.factor, self.decimals),
            (Value::Instant(at), _) if self.days => {
                self.number_format.date(self.zone.local(*at).date())
            }
            (value, None) => readable(value, self.zone, self.year, self.number_format),
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

/// The decimals of a column whose numbers are these, as they are shown.
fn decimals(query: &Query, table: &Table, index: usize, unit: &Unit, scaled: &[f64]) -> usize {
    let name = table.columns[index].name.as_str();
    if let Some(wanted) = wanted_decimals(query, name) {
        return wanted;
    }
    match unit {
        Unit::Currency(_) => 2,
        // Worked out with as many decimals as tell it from its objective.
        _ if availability(query) && ["availability", "margin", "objective"].contains(&name) => {
            let decimals = table.rows.iter().map(|row| match &row[index] {
                Value::Decimal(exact) => exact.scale() as usize,
                _ => 0,
            });
            decimals.max().unwrap_or(2)
        }
        Unit::Percent | Unit::Ratio => number_format::decimals(scaled, true),
        _ => number_format::decimals(scaled, false),
    }
}

/// A value that is not a number, for people.
pub(crate) fn readable(
    value: &Value,
    zone: Zone,
    year: bool,
    number_format: NumberFormat,
) -> String {
    match value {
        Value::Missing => "–".to_owned(),
        Value::Boolean(true) => "yes".to_owned(),
        Value::Boolean(false) => "no".to_owned(),
        Value::Text(text) => text.clone(),
        Value::Instant(at) => number_format.time(zone.local(*at), year),
        Value::Date(date) => number_format.date(*date),
        number => number
            .as_number()
            .map_or_else(|| "–".to_owned(), |number| number_format.readable(number)),
    }
}
