//! Availability against objectives, with outages.

use chrono::{DateTime, Utc};
use maple_lark_data::{
    Table, Unit, Value,
    figures::Role,
    number_format::NumberFormat,
    status::{Status, StatusCounts},
    stop,
};

use super::{Drawing, Groups, MOST_BARS, MOST_TOLD, in_words, instant, judged};
use crate::{
    chart::{AvailabilityRow, Plot, ValueAxis},
    compose::{CannotShow, answers, axis, column::column},
    document::Body,
};

/// How much of the axis lies beside the lowest value and the objectives.
const BESIDE: f64 = 0.15;

/// Where the columns stand.
struct Places {
    names: usize,
    share: usize,
    objective: usize,
    result: usize,
    /// How many decimals all shares and objectives have: those of the most exact.
    decimals: u32,
}

type Outages = Vec<(String, Vec<(DateTime<Utc>, DateTime<Utc>)>)>;

/// Each thing in words; what missed its objective comes first.
fn told(rows: &[AvailabilityRow]) -> Vec<String> {
    let mut told: Vec<&AvailabilityRow> = rows.iter().collect();
    told.sort_by_key(|row| row.met == Some(true));
    let words = |row: &AvailabilityRow| {
        let word = match row.met {
            Some(true) => ", met",
            Some(false) => ", missed",
            None => "",
        };
        format!("{}: {}{word}", row.name, row.label)
    };
    told.into_iter().map(words).collect()
}

/// An axis of percent that begins a little under the lowest share and objective.
fn near_the_objectives(rows: &[AvailabilityRow], format: NumberFormat) -> ValueAxis {
    let known = rows.iter().flat_map(|row| [row.at, row.objective]);
    let lowest = known.flatten().fold(100.0, f64::min);
    let from = (lowest - (100.0 - lowest).max(0.02) * BESIDE).max(0.0);
    let unit = Unit::Percent.scale(100.0).suffix;
    let mut axis = axis::value_axis(from, 100.0, 4, &unit, format);
    // Beyond all of the time there is nothing.
    axis.max = 100.0;
    axis.ticks.retain(|tick| tick.at <= 100.0);
    axis
}

impl Drawing<'_, '_> {
    pub(super) fn availability(
        &mut self,
        label: &str,
        outages: Option<&str>,
    ) -> Result<Body, CannotShow> {
        let names = self.column(label)?;
        let (share, objective, result) = (
            self.number("availability")?,
            self.number("objective")?,
            self.column("result")?,
        );
        if self.table.rows.len() > MOST_BARS {
            let count = self.table.rows.len();
            return Err(CannotShow::too_many(count, "things", MOST_BARS));
        }
        let outages = outages.map(|name| self.outages(name, label)).transpose()?;
        let outages = outages.unwrap_or_default();
        let places = Places {
            names,
            share,
            objective,
            result,
            decimals: self.decimals([share, objective]),
        };
        let mut counts = StatusCounts::default();
        let mut rows = Vec::new();
        for (place, row) in self.table.rows.iter().enumerate() {
            stop::check();
            let is_whole = matches!(self.roles.get(place), Some(Role::Total | Role::Subtotal));
            let mut row = self.availability_row(&places, row, is_whole);
            if let (Some(false), Some(at), Some(objective)) = (row.met, row.at, row.objective) {
                let said = row.label.replace(" of ", " %, objective ");
                let far = (objective - at) / (100.0 - at).max(f64::MIN_POSITIVE);
                self.context
                    .past
                    .add(&row.name, said, Status::Critical, far);
            }
            if let Some(met) = row.met {
                counts.add(if met { Status::Ok } else { Status::Critical });
            }
            let of = outages.iter().find(|(of, _)| *of == row.name && !is_whole);
            row.outages = of.map_or_else(Vec::new, |(_, outages)| outages.clone());
            rows.push(row);
        }
        let what = format!("Availability: {}", self.block.title);
        let description = in_words(&what, told(&rows), MOST_TOLD);
        let axis = near_the_objectives(&rows, self.number_format());
        let plot = Plot::Availability {
            rows,
            times: axis::time_axis(self.window(), 9),
        };
        Ok(judged(axis, Vec::new(), plot, description, counts))
    }

    fn decimals(&self, columns: [usize; 2]) -> u32 {
        let cells = self
            .table
            .rows
            .iter()
            .flat_map(|row| columns.map(|at| &row[at]));
        let decimals = cells.map(|cell| match cell {
            Value::Decimal(exact) => exact.scale(),
            _ => 0,
        });
        decimals.max().unwrap_or_default()
    }

    fn availability_row(&self, places: &Places, row: &[Value], is_whole: bool) -> AvailabilityRow {
        let name = match &row[places.names] {
            // A row for a group or for everything has its name in an earlier column.
            Value::Missing => row[..places.names]
                .iter()
                .find(|value| **value != Value::Missing)
                .map_or_else(|| "All".to_owned(), |value| self.text(value)),
            own => self.text(own),
        };
        let format = self.number_format();
        let percent = |value: &Value| match value {
            Value::Decimal(exact) => {
                let mut exact = *exact;
                exact.rescale(places.decimals);
                exact.to_string().replace('.', &format.point.to_string())
            }
            value => value
                .as_number()
                .map_or_else(|| "–".to_owned(), |number| format.share(number)),
        };
        let label = match (&row[places.share], &row[places.objective]) {
            (Value::Missing, _) => "no data".to_owned(),
            (share, Value::Missing) => format!("{} %", percent(share)),
            (share, objective) => format!("{} of {} %", percent(share), percent(objective)),
        };
        AvailabilityRow {
            name,
            is_whole,
            at: row[places.share].as_number(),
            objective: row[places.objective].as_number(),
            met: match &row[places.result] {
                Value::Text(word) if word == "met" => Some(true),
                Value::Text(word) if word == "missed" => Some(false),
                _ => None,
            },
            label,
            outages: Vec::new(),
        }
    }

    /// The outages of each thing, as far as they are in the window.
    fn outages(&self, name: &str, label: &str) -> Result<Outages, CannotShow> {
        let dashboard = self.context.dashboard;
        let query = answers::query(dashboard, name)?;
        let table = Table::from(answers::answer(self.context.snapshot, dashboard, query)?.table);
        if table.rows.is_empty() {
            return Ok(Vec::new());
        }
        let find = |name: &str| column(&table.columns, query, name);
        let (of, from, to) = (find(label)?, find("from")?, find("to")?);
        let window = self.window();
        let mut groups = Groups::new();
        for row in &table.rows {
            stop::check();
            if let (Some(from), Some(to)) = (instant(&row[from], window), instant(&row[to], window))
            {
                groups.add(
                    self.text(&row[of]),
                    (from.max(window.from), to.min(window.to)),
                );
            }
        }
        Ok(groups.in_order())
    }
}
