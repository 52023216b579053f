//! How often values fall between round edges.

use super::{Drawing, done, extremes, missing};
use crate::{
    chart::{Bin, Plot},
    compose::{CannotShow, axis},
    document::Body,
};
use maple_lark_data::stop;

impl Drawing<'_, '_> {
    pub(super) fn histogram(
        &mut self,
        value: &str,
        bins: Option<usize>,
    ) -> Result<Body, CannotShow> {
        let (number, unit, number_format) =
            (self.number(value)?, self.unit(value), self.number_format());
        let rows = self.table.rows.iter();
        let values: Vec<f64> = rows
            .filter_map(|row| row[number].as_number())
            .filter(|value| value.is_finite())
            .collect();
        if values.is_empty() {
            return Ok(missing());
        }
        // As many as the square root of the values, and round edges.
        let wanted = bins
            .unwrap_or((values.len() as f64).sqrt().ceil() as usize)
            .clamp(2, 60);
        let scale = unit.scale(values.iter().fold(0.0, |most, v| v.abs().max(most)));
        let scaled: Vec<f64> = values.iter().map(|value| value * scale.factor).collect();
        let (low, high) = extremes(&scaled);
        let across = axis::value_axis(low, high, wanted.min(30), &scale.suffix, number_format);
        let edges: Vec<f64> = across.ticks.iter().map(|tick| tick.at).collect();
        let bins = counted(&edges, &scaled);
        let most = bins.iter().map(|bin| bin.count).max().unwrap_or(0);
        let axis = axis::value_axis(0.0, most as f64, 4, "", number_format);
        let fullest = bins.iter().find(|bin| bin.count == most).map(|bin| {
            format!(
                " Most, {most}, between {} and {} {}.",
                number_format.readable(bin.from),
                number_format.readable(bin.to),
                across.unit
            )
        });
        let description = format!(
            "Histogram: {}. {} values.{}",
            self.block.title,
            values.len(),
            fullest.unwrap_or_default()
        );
        let plot = Plot::Histogram { across, bins };
        Ok(done(axis, Vec::new(), plot, description))
    }
}

/// How many values lie between each pair of edges. The last bin takes its upper edge in.
fn counted(edges: &[f64], values: &[f64]) -> Vec<Bin> {
    let mut bins: Vec<Bin> = edges
        .windows(2)
        .map(|pair| Bin {
            from: pair[0],
            to: pair[1],
            count: 0,
        })
        .collect();
    for value in values {
        stop::check();
        let place = edges
            .partition_point(|edge| edge <= value)
            .saturating_sub(1)
            .min(bins.len() - 1);
        bins[place].count += 1;
    }
    bins
}
