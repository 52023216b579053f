//! Heat maps: by hour and weekday, or by two columns.

use std::collections::{BTreeMap, BTreeSet};

use chrono::{Datelike, Timelike};
use maple_lark_data::{
    Unit, Value,
    figures::Operation,
    series::{self, Aggregation},
    stop,
};
use maple_lark_definition::HeatBy;

use super::{Drawing, MOST_BARS, Places, done, extremes, missing, put_in_order};
use crate::{
    chart::{HeatCell, Plot},
    compose::{CannotShow, axis},
    document::Body,
};

/// The values of each cell by row and column.
struct Grid {
    rows: Vec<String>,
    columns: Vec<String>,
    values: BTreeMap<(usize, usize), Vec<f64>>,
    /// The cells in which an objective was missed.
    missed: BTreeSet<(usize, usize)>,
}

impl Drawing<'_, '_> {
    #[expect(
        clippy::too_many_lines,
        reason = "reads, scales and describes one grid"
    )]
    pub(super) fn heat(
        &mut self,
        by: &HeatBy,
        value: &str,
        aggregation: Aggregation,
    ) -> Result<Body, CannotShow> {
        let number = self.number(value)?;
        let Grid {
            rows,
            columns,
            values,
            missed,
        } = match by {
            HeatBy::HourAndWeekday { time } => self.by_hour(time, number)?,
            HeatBy::Columns { row, column } => self.by_columns(row, column, number)?,
        };
        if rows.len() > MOST_BARS || columns.len() > MOST_BARS {
            return Err(CannotShow::TooMany {
                what: format!("{} rows and {} columns", rows.len(), columns.len()),
                most: format!("{MOST_BARS} of each"),
            });
        }
        let cells: BTreeMap<(usize, usize), f64> = values
            .into_iter()
            .filter(|(_, values)| !values.is_empty())
            .map(|(at, mut values)| (at, series::one(&mut values, aggregation)))
            .collect();
        let Some(((row, column), most)) = cells.iter().max_by(|a, b| a.1.total_cmp(b.1)) else {
            return Ok(missing());
        };
        let (unit, number_format) = (self.unit(value), self.number_format());
        let most = format!(
            " Highest: {} {}, {}.",
            rows[*row],
            columns[*column],
            unit.format(*most, number_format)
        );
        let (low, high) = extremes(cells.values());
        let no_limits = Default::default();
        let (axis, factor) = axis::axis_for(&[low, high], &no_limits, &unit, false, number_format);
        let decimals = match high * factor {
            _ if (high - low) * factor >= 20.0 => 0,
            // 99.95 and 100 are different promises.
            high if unit == Unit::Percent && high > 99.0 && high <= 100.0 => 2,
            _ => 1,
        };
        let cell = |at: (usize, usize)| {
            let value = cells.get(&at)?;
            let number = number_format.number(value * factor, decimals);
            Some(HeatCell {
                share: if high > low {
                    (value - low) / (high - low)
                } else {
                    0.5
                },
                label: if missed.contains(&at) {
                    format!("◆{number}")
                } else {
                    number
                },
            })
        };
        let line = |row: usize| {
            let places = 0..columns.len();
            places.map(|column| cell((row, column))).collect()
        };
        let grid = (0..rows.len()).map(line).collect();
        let [low, high] = [low, high].map(|value| unit.format(value, number_format));
        let marked = if missed.is_empty() {
            ""
        } else {
            let note = "◆ marks where the objective was missed.".to_owned();
            self.context.notes.push(note);
            " ◆: objective missed."
        };
        let description = format!(
            "Heat map: {}, from {low} to {high}.{most}{marked}",
            self.block.title
        );
        let plot = Plot::Heat {
            columns,
            rows,
            cells: grid,
            low,
            high,
        };
        Ok(done(axis, Vec::new(), plot, description))
    }

    fn by_hour(&self, time: &str, number: usize) -> Result<Grid, CannotShow> {
        let time = self.times(time)?;
        let mut values: BTreeMap<_, Vec<f64>> = BTreeMap::new();
        for row in &self.table.rows {
            stop::check();
            let (Some(at), Some(value)) = (self.instant(&row[time]), row[number].as_number())
            else {
                continue;
            };
            let local = self.window().zone.local(at);
            let weekday = local.weekday().num_days_from_monday() as usize;
            values
                .entry((weekday, local.hour() as usize))
                .or_default()
                .push(value);
        }
        Ok(Grid {
            rows: ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"]
                .map(str::to_owned)
                .to_vec(),
            columns: (0..24).map(|hour| format!("{hour:02}")).collect(),
            values,
            missed: BTreeSet::new(),
        })
    }

    fn by_columns(&self, row: &str, column: &str, number: usize) -> Result<Grid, CannotShow> {
        let (by_row, by_column) = (self.column(row)?, self.column(column)?);
        let (mut rows, mut columns) = (Places::default(), Places::default());
        let mut values: BTreeMap<_, Vec<f64>> = BTreeMap::new();
        let (mut missed, result) = (BTreeSet::new(), self.results());
        for row in &self.table.rows {
            stop::check();
            let at = (
                rows.of(self.text(&row[by_row])),
                columns.of(self.text(&row[by_column])),
            );
            values
                .entry(at)
                .or_default()
                .extend(row[number].as_number());
            if result.is_some_and(|result| row[result] == Value::Text("missed".to_owned())) {
                missed.insert(at);
            }
        }
        let (mut rows, mut columns) = (rows.names, columns.names);
        let (to_row, to_column) = (put_in_order(&mut rows), put_in_order(&mut columns));
        let to = |(row, column): (usize, usize)| (to_row[row], to_column[column]);
        Ok(Grid {
            rows,
            columns,
            values: values.into_iter().map(|(at, all)| (to(at), all)).collect(),
            missed: missed.into_iter().map(to).collect(),
        })
    }

    /// The column that says whether objectives were met, where the rows are availabilities.
    fn results(&self) -> Option<usize> {
        let mut operations = self.query.then.iter();
        let availability = operations.any(|one| matches!(one, Operation::Availability(_)));
        self.table.column("result").filter(|_| availability)
    }
}
