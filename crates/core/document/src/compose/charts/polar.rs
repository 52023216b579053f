//! Values around a circle: by the hour of the day, or by direction.

use std::collections::BTreeMap;

use chrono::Timelike;
use maple_lark_data::{
    Value,
    series::{self, Aggregation},
    stop,
};
use maple_lark_definition::PolarBy;

use super::{Drawing, Places, done, missing};
use crate::{
    chart::{Plot, PolarSeries},
    compose::{CannotShow, axis, column::title},
    document::Body,
};

/// More outlines than these cannot be told apart on a circle.
const MOST_OUTLINES: usize = 6;
/// The eight directions that have names.
const WINDS: [&str; 8] = ["N", "NE", "E", "SE", "S", "SW", "W", "NW"];

impl Drawing<'_, '_> {
    /// The values of each sector as one. A sector without values is a gap. A circle begins at
    /// nought, so what is below it is at the centre.
    pub(super) fn polar(
        &mut self,
        by: &PolarBy,
        value: &str,
        aggregation: Aggregation,
        series: Option<&str>,
    ) -> Result<Body, CannotShow> {
        let (around, count) = match by {
            PolarBy::Hour { time } => (self.times(time)?, 24),
            PolarBy::Direction { direction, sectors } => (self.number(direction)?, *sectors),
        };
        let (number, what) = (self.number(value)?, title(self.query, value));
        let tells = series.map(|name| self.column(name)).transpose()?;
        let mut names = Places::default();
        let mut found: BTreeMap<(usize, usize), Vec<f64>> = BTreeMap::new();
        for row in &self.table.rows {
            stop::check();
            let sector = self.sector(by, &row[around], count);
            if let (Some(sector), Some(value)) = (sector, row[number].as_number()) {
                let name = tells.map_or_else(|| what.clone(), |at| self.text(&row[at]));
                let place = names.of(name);
                found.entry((place, sector)).or_default().push(value);
            }
        }
        if names.names.len() > MOST_OUTLINES {
            let count = names.names.len();
            return Err(CannotShow::too_many(count, "outlines", MOST_OUTLINES));
        }
        let cells: BTreeMap<(usize, usize), f64> = found
            .into_iter()
            .map(|(at, mut values)| (at, series::one(&mut values, aggregation)))
            .collect();
        let Some(((place, sector), most)) = cells.iter().max_by(|a, b| a.1.total_cmp(b.1)) else {
            return Ok(missing());
        };
        let (unit, format) = (self.unit(value), self.number_format());
        let sectors: Vec<String> = (0..count).map(|sector| sector_name(by, sector)).collect();
        let mut of = sector_in_words(by, *sector, count);
        if names.names.len() > 1 {
            of = format!("{}, {of}", names.names[*place]);
        }
        let description = format!(
            "Polar chart: {}, {aggregation} of {what} by {}. Highest: {of}, {}.",
            self.block.title,
            match by {
                PolarBy::Hour { .. } => "hour of the day",
                PolarBy::Direction { .. } => "direction",
            },
            unit.format(*most, format)
        );
        let values: Vec<f64> = cells.values().copied().collect();
        let no_limits = Default::default();
        let (axis, factor) = axis::axis_for(&values, &no_limits, &unit, true, format);
        let series = names
            .names
            .into_iter()
            .enumerate()
            .map(|(place, name)| PolarSeries {
                colour: self.context.colours.of(&name),
                values: (0..count)
                    .map(|sector| cells.get(&(place, sector)).map(|value| value * factor))
                    .collect(),
                name,
            })
            .collect();
        let plot = Plot::Polar { sectors, series };
        Ok(done(axis, Vec::new(), plot, description))
    }

    /// The sector that a row belongs to; none if it says nothing.
    fn sector(&self, by: &PolarBy, around: &Value, count: usize) -> Option<usize> {
        match by {
            PolarBy::Hour { .. } => {
                let at = self.instant(around)?;
                Some(self.window().zone.local(at).hour() as usize)
            }
            PolarBy::Direction { .. } => {
                let degrees = around.as_number().filter(|degrees| degrees.is_finite())?;
                Some(sector_of(degrees, count))
            }
        }
    }
}

/// The sector of a direction: the first is around north, so it begins before it.
fn sector_of(degrees: f64, count: usize) -> usize {
    let each = 360.0 / count as f64;
    ((degrees.rem_euclid(360.0) / each).round() as usize) % count
}

/// The name at a sector's edge of the circle; nothing for those between.
fn sector_name(by: &PolarBy, sector: usize) -> String {
    match by {
        PolarBy::Hour { .. } if sector.is_multiple_of(3) => format!("{sector:02}"),
        PolarBy::Hour { .. } => String::new(),
        PolarBy::Direction { sectors, .. } => {
            let eighths = sector * WINDS.len();
            if eighths.is_multiple_of(*sectors) {
                WINDS[eighths / sectors].to_owned()
            } else {
                String::new()
            }
        }
    }
}

fn sector_in_words(by: &PolarBy, sector: usize, count: usize) -> String {
    match by {
        PolarBy::Hour { .. } => format!("{sector:02}:00 to {:02}:00", sector + 1),
        PolarBy::Direction { .. } => {
            let name = sector_name(by, sector);
            let degrees = (sector as f64 * 360.0 / count as f64).round();
            if name.is_empty() {
                format!("{degrees}°")
            } else {
                format!("{name} ({degrees}°)")
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_sector_is_around_north_and_degrees_go_round() {
        let all = |degrees: &[f64]| -> Vec<usize> {
            degrees.iter().map(|one| sector_of(*one, 16)).collect()
        };
        assert_eq!(all(&[0.0, 11.0, 349.0, 360.0, -10.0, 720.0]), [0; 6]);
        assert_eq!(all(&[12.0, 90.0, 180.0, 348.0, -90.0]), [1, 4, 8, 15, 12]);
    }

    #[test]
    fn eight_directions_have_names_where_a_sector_points_there() {
        let by = |sectors| PolarBy::Direction {
            direction: "d".to_owned(),
            sectors,
        };
        let names = |sectors| -> Vec<String> {
            (0..sectors)
                .map(|one| sector_name(&by(sectors), one))
                .collect()
        };
        assert_eq!(names(8), WINDS);
        assert_eq!(names(4), ["N", "E", "S", "W"]);
        assert_eq!(names(12).join(" "), "N   E   S   W  ");
        assert_eq!(sector_in_words(&by(16), 1, 16), "23°");
        assert_eq!(sector_in_words(&by(16), 4, 16), "E (90°)");
    }
}
