//! Key figures.

use maple_lark_data::{
    Table, Unit, Value, figures::direction, number_format::NumberFormat, status::Thresholds,
};
use maple_lark_definition::Query;
use maple_lark_time::Zone;

use crate::{
    compose::{
        CannotShow,
        column::{chosen, readable, thresholds, title, unit, wanted_decimals},
        past::passed_in_words,
    },
    document::{Body, Figure},
};

/// What key figures are seen beside.
pub(crate) struct Beside {
    pub(super) before: Option<Table>,
    pub(super) trend: Option<Table>,
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
        limits: &Thresholds,
        number_format: NumberFormat,
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
        let amount = unit.format(difference.abs(), number_format);
        let amount = if shares {
            amount.replace('%', "points")
        } else {
            amount
        };
        let part = (before > 0.0 && !shares).then(|| {
            format!(
                " ({sign}{})",
                Unit::Percent.format(difference.abs() / before * 100.0, number_format)
            )
        });
        let turned = match direction(now, before, limits) {
            word @ ("better" | "worse") => format!(", {word}"),
            _ => String::new(),
        };
        Some(format!(
            "{sign}{amount}{} against {}{turned}",
            part.unwrap_or_default(),
            unit.format(before, number_format)
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
        let rows = table.rows.iter();
        let values: Vec<_> = rows.map(|row| row[index].as_number()).collect();
        shares(&values, scale(values.iter()))
    }
}

/// The lowest and the highest of some values; nothing lies between those of none.
pub(crate) fn scale<'v>(values: impl Iterator<Item = &'v Option<f64>>) -> (f64, f64) {
    values
        .flatten()
        .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), v| {
            (low.min(*v), high.max(*v))
        })
}

/// Values as shares of the way from the lowest to the highest of a scale; where there is no way, a
/// line is in the middle.
pub(crate) fn shares(values: &[Option<f64>], (low, high): (f64, f64)) -> Vec<Option<f64>> {
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

pub(crate) fn key_figures(
    query: &Query,
    table: &Table,
    names: &[String],
    beside: &Beside,
    zone: Zone,
    number_format: NumberFormat,
) -> Result<Body, CannotShow> {
    let row = &table.rows[0];
    let figures = chosen(&table.columns, query, names)?
        .into_iter()
        .map(|index| {
            let name = &table.columns[index].name;
            let (unit, thresholds) = (unit(query, name), thresholds(query, name));
            let number = row[index].as_number();
            let decimals = wanted_decimals(query, name);
            let value = match &row[index] {
                Value::Missing => "–".to_owned(),
                value => number.map_or_else(
                    || readable(value, zone, true, number_format),
                    |number| unit.format_judged(number, &thresholds, number_format, decimals),
                ),
            };
            let passed = number.and_then(|number| thresholds.passed(number));
            Figure {
                name: name.clone(),
                title: title(query, name),
                value,
                status: thresholds.is_set().then(|| thresholds.status(number)),
                passed: passed.map(|passed| {
                    passed_in_words(&thresholds, passed, (&unit, None), number_format)
                }),
                limits: limits_in_words(&thresholds, &unit, number_format),
                change: beside.change(name, number, &unit, &thresholds, number_format),
                amount: number,
                unit: unit.symbol().to_owned(),
                before: beside.before(name),
                sparkline: beside.sparkline(name),
            }
        })
        .collect();
    Ok(Body::Figures { figures })
}

fn limits_in_words(
    thresholds: &Thresholds,
    unit: &Unit,
    number_format: NumberFormat,
) -> Option<String> {
    let direction = thresholds.worse.from();
    let parts: Vec<String> = [
        ("warning", thresholds.warning),
        ("critical", thresholds.critical),
    ]
    .into_iter()
    .filter_map(|(word, limit)| {
        Some(format!(
            "{word} {direction} {}",
            unit.format(limit?, number_format)
        ))
    })
    .collect();
    (!parts.is_empty()).then(|| parts.join(", "))
}
