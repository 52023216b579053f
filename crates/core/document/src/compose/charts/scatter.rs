//! Points by two numbers.

use super::{Drawing, Groups, MOST_SERIES, done, missing};
use crate::{
    chart::{Plot, PointSeries},
    compose::{
        CannotShow, axis,
        column::{thresholds, title},
    },
    document::Body,
};
use maple_lark_data::stop;

/// Points by the name of their group.
type PointsByGroup = Vec<(String, Vec<(f64, f64)>)>;

/// The most points of a scatter plot.
const MOST_POINTS: usize = 3000;

impl Drawing<'_, '_> {
    pub(super) fn scatter(
        &mut self,
        across: &str,
        up: &str,
        by: Option<&str>,
    ) -> Result<Body, CannotShow> {
        let groups = self.points(across, up, by)?;
        let count = groups.iter().map(|(_, points)| points.len()).sum::<usize>();
        if count == 0 {
            return Ok(missing());
        }
        if count > MOST_POINTS || groups.len() > MOST_SERIES {
            return Err(CannotShow::TooMany {
                what: format!("{count} points in {} groups", groups.len()),
                most: format!("{MOST_POINTS} in {MOST_SERIES}"),
            });
        }
        let number_format = self.number_format();
        let side = |name: &str, value: fn(&(f64, f64)) -> f64| {
            let points = groups.iter().flat_map(|(_, points)| points);
            let values: Vec<f64> = points.map(value).collect();
            let limits = thresholds(self.query, name);
            axis::axis_for(&values, &limits, &self.unit(name), false, number_format)
        };
        let (x_axis, x_factor) = side(across, |point| point.0);
        let (y_axis, y_factor) = side(up, |point| point.1);
        let limits = axis::limits(
            &thresholds(self.query, up),
            y_factor,
            &y_axis.unit,
            number_format,
        );
        let (across_title, up_title) = (title(self.query, across), title(self.query, up));
        let description = format!(
            "Scatter plot: {}. {count} points, {up_title} against {across_title}.",
            self.block.title
        );
        let scaled = |(x, y): (f64, f64)| (x * x_factor, y * y_factor);
        let series = groups
            .into_iter()
            .map(|(name, points)| PointSeries {
                colour: self.context.colours.of(&name),
                name,
                points: points.into_iter().map(scaled).collect(),
            })
            .collect();
        let plot = Plot::Points {
            across: x_axis,
            across_title,
            up_title,
            series,
        };
        Ok(done(y_axis, limits, plot, description))
    }

    /// The points that have both numbers, by their group.
    fn points(
        &self,
        across: &str,
        up: &str,
        by: Option<&str>,
    ) -> Result<PointsByGroup, CannotShow> {
        let (x, y) = (self.number(across)?, self.number(up)?);
        let by = by.map(|by| self.column(by)).transpose()?;
        let mut groups = Groups::new();
        for row in &self.table.rows {
            stop::check();
            if let (Some(x), Some(y)) = (row[x].as_number(), row[y].as_number()) {
                let name = by.map_or_else(|| title(self.query, up), |by| self.text(&row[by]));
                groups.add(name, (x, y));
            }
        }
        Ok(groups.in_order())
    }
}
