//! Parts of a whole.

use maple_lark_data::{Unit, series};

use super::{Drawing, MOST_TOLD, done, in_words, missing};
use crate::{
    chart::{Plot, SharePart},
    compose::{CannotShow, axis},
    document::Body,
};

/// More parts than this are summed up as others.
const MOST_PARTS: usize = 8;

impl Drawing<'_, '_> {
    pub(super) fn share(
        &mut self,
        label: &str,
        value: &str,
        round: bool,
    ) -> Result<Body, CannotShow> {
        let (label, number, unit, number_format) = (
            self.column(label)?,
            self.number(value)?,
            self.unit(value),
            self.number_format(),
        );
        let mut parts = self.labelled(label, number);
        if let Some((name, _)) = parts.iter().find(|(_, value)| *value < 0.0) {
            return Err(CannotShow::PartBelowZero(name.clone()));
        }
        parts.sort_by(|a, b| b.1.total_cmp(&a.1));
        let whole = series::sum(parts.iter().map(|(_, value)| *value));
        if whole <= 0.0 {
            return Ok(missing());
        }
        if parts.len() > MOST_PARTS {
            let rest = parts.split_off(MOST_PARTS - 1);
            parts.push((
                format!("{} others", rest.len()),
                series::sum(rest.into_iter().map(|(_, value)| value)),
            ));
        }
        let percent = |value: f64| Unit::Percent.format(value / whole * 100.0, number_format);
        let values: Vec<Option<f64>> = parts.iter().map(|(_, value)| Some(*value)).collect();
        let amounts = self.labels(value, &values);
        let parts: Vec<SharePart> = parts
            .into_iter()
            .zip(amounts)
            .map(|((name, value), amount)| SharePart {
                colour: self.context.colours.of(&name),
                label: format!("{amount} ({})", percent(value)),
                share: value / whole,
                name,
            })
            .collect();
        let words: Vec<String> = parts
            .iter()
            .map(|part| format!("{} {}", part.name, part.label))
            .collect();
        let what = format!(
            "Shares of {}: {}",
            unit.format(whole, number_format),
            self.block.title
        );
        let description = in_words(&what, words, 2 * MOST_TOLD);
        let axis = axis::value_axis(0.0, 100.0, 4, "%", number_format);
        let plot = Plot::Share { parts, round };
        Ok(done(axis, Vec::new(), plot, description))
    }
}
