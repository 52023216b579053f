//! Box plots: median, quartiles, and what lies far outside.

use maple_lark_data::{series, stop};

use super::{Drawing, Groups, MOST_BARS, MOST_TOLD, done, in_words, missing};
use crate::{
    chart::{BoxRow, Plot},
    compose::{
        CannotShow, axis,
        column::{thresholds, title},
    },
    document::Body,
};

impl Drawing<'_, '_> {
    pub(super) fn boxes(&mut self, value: &str, row: Option<&str>) -> Result<Body, CannotShow> {
        let (number, unit, number_format) =
            (self.number(value)?, self.unit(value), self.number_format());
        let by = row.map(|row| self.column(row)).transpose()?;
        let mut groups = Groups::new();
        for row in &self.table.rows {
            stop::check();
            let name = by.map_or_else(|| title(self.query, value), |by| self.text(&row[by]));
            if let Some(value) = row[number].as_number().filter(|n| n.is_finite()) {
                groups.add(name, value);
            }
        }
        let groups = groups.in_order();
        if groups.is_empty() {
            return Ok(missing());
        }
        if groups.len() > MOST_BARS {
            return Err(CannotShow::too_many(groups.len(), "boxes", MOST_BARS));
        }
        let all: Vec<f64> = groups
            .iter()
            .flat_map(|(_, values)| values.iter().copied())
            .collect();
        let limits = thresholds(self.query, value);
        let (axis, factor) = axis::axis_for(&all, &limits, &unit, false, number_format);
        let mut told = Vec::new();
        let mut boxes = Vec::new();
        for (name, mut values) in groups {
            values.iter_mut().for_each(|value| *value *= factor);
            boxes.push(box_of(name, &mut values));
        }
        let medians: Vec<Option<f64>> = boxes
            .iter()
            .map(|drawn| Some(drawn.median / factor))
            .collect();
        let labels = self.labels(value, &medians);
        for (drawn, label) in boxes.iter_mut().zip(labels) {
            told.push(format!("{}: median {label}", drawn.name));
            drawn.label = label;
        }
        let what = format!("Box plot: {}", self.block.title);
        let description = in_words(&what, told, MOST_TOLD);
        let limits = axis::limits(&limits, factor, &axis.unit, number_format);
        Ok(done(axis, limits, Plot::Boxes { boxes }, description))
    }
}

/// Whiskers reach the last value within one and a half times the quartiles' distance.
fn box_of(name: String, values: &mut [f64]) -> BoxRow {
    let mut at = |percentile| series::percentile(values, percentile);
    let (lower_quartile, median, upper_quartile) = (at(25.0), at(50.0), at(75.0));
    let reach = 1.5 * (upper_quartile - lower_quartile);
    let (inside, outside): (Vec<f64>, Vec<f64>) = values
        .iter()
        .partition(|value| **value >= lower_quartile - reach && **value <= upper_quartile + reach);
    let low = inside.iter().copied().fold(lower_quartile, f64::min);
    let high = inside.iter().copied().fold(upper_quartile, f64::max);
    BoxRow {
        name,
        low,
        lower_quartile,
        median,
        upper_quartile,
        high,
        outside,
        label: String::new(),
    }
}
