//! Steps from a first total to a last one.

use maple_lark_data::series::Total;

use super::{Drawing, MOST_BARS, done, missing};
use crate::{
    chart::{BreakdownStep, Plot},
    compose::{CannotShow, axis},
    document::Body,
};

impl Drawing<'_, '_> {
    pub(super) fn breakdown(&mut self, label: &str, value: &str) -> Result<Body, CannotShow> {
        let (label, number, unit, number_format) = (
            self.column(label)?,
            self.number(value)?,
            self.unit(value),
            self.number_format(),
        );
        let rows = self.labelled(label, number);
        if rows.len() < 2 {
            return Ok(missing());
        }
        if rows.len() > MOST_BARS {
            return Err(CannotShow::too_many(rows.len(), "steps", MOST_BARS));
        }
        let amounts: Vec<Option<f64>> = rows.iter().map(|(_, amount)| Some(*amount)).collect();
        let labels = self.labels(value, &amounts);
        let mut steps = steps(rows, labels);
        let reach: Vec<f64> = steps.iter().flat_map(|step| [step.from, step.to]).collect();
        let (axis, factor) =
            axis::axis_for(&reach, &Default::default(), &unit, true, number_format);
        let parts: Vec<String> = steps
            .iter()
            .map(|step| format!("{} {}", step.title, step.label))
            .collect();
        let description = format!(
            "From before to after: {}. {}.",
            self.block.title,
            parts.join(", ")
        );
        steps
            .iter_mut()
            .for_each(|step| (step.from, step.to) = (step.from * factor, step.to * factor));
        Ok(done(axis, Vec::new(), Plot::Steps { steps }, description))
    }
}

/// The first and the last row are totals; each between them begins where the one before ended.
fn steps(rows: Vec<(String, f64)>, labels: Vec<String>) -> Vec<BreakdownStep> {
    let last = rows.len() - 1;
    let mut level = Total::default();
    let mut steps = Vec::new();
    for (place, ((title, amount), label)) in rows.into_iter().zip(labels).enumerate() {
        let total = place == 0 || place == last;
        let (from, to) = if total {
            if place == 0 {
                level.add(amount);
            }
            (0.0, amount)
        } else {
            let from = level.value();
            level.add(amount);
            (from, level.value())
        };
        let sign = if !total && amount > 0.0 { "+" } else { "" };
        steps.push(BreakdownStep {
            title,
            from,
            to,
            label: format!("{sign}{label}"),
            total,
        });
    }
    steps
}
