//! Values around a circle, clockwise from the top.

use std::f64::consts::TAU;

use maple_lark_document::chart::{Chart, PolarSeries};

use super::{
    Size,
    canvas::{Anchor, Canvas},
    frame,
};
use crate::palette;

/// From the centre to the outermost ring.
const RADIUS: f64 = 104.0;
/// The names around the circle.
const NAMES: f64 = 18.0;

fn legend_height(series: &[PolarSeries], width: f64) -> f64 {
    let names = series.iter().map(|one| one.name.as_str());
    frame::legend_rows(names, width) as f64 * frame::LEGEND_ROW
}

pub fn height(series: &[PolarSeries], size: Size) -> f64 {
    legend_height(series, size.width()) + 2.0 * (RADIUS + NAMES) + 6.0
}

pub fn draw(
    canvas: &mut Canvas,
    chart: &Chart,
    sectors: &[String],
    series: &[PolarSeries],
    size: Size,
) {
    let legend = legend_height(series, size.width());
    let circle = Circle {
        centre: (canvas.width / 2.0, legend + RADIUS + NAMES + 2.0),
        sectors: sectors.len(),
        most: chart.axis.max,
        words: |sector: usize, one: &PolarSeries, value: f64| {
            let name = match sectors[sector].as_str() {
                "" => format!("sector {} of {}", sector + 1, sectors.len()),
                name => name.to_owned(),
            };
            let whose = match series {
                [_] => String::new(),
                _ => format!("{}, ", one.name),
            };
            format!("{whose}{name}: {{{value}}} {}", chart.axis.unit)
        },
    };
    if series.len() > 1 {
        let entries: Vec<_> = series
            .iter()
            .map(|one| (one.name.as_str(), palette::series(one.colour)))
            .collect();
        frame::legend(canvas, &entries);
    }
    for tick in chart.axis.ticks.iter().filter(|tick| tick.at > 0.0) {
        let ring = (0..=90).map(|step| circle.point(tick.at, f64::from(step) / 90.0));
        canvas.line(ring, palette::RULE, 0.7);
    }
    match series {
        [one] => circle.wedges(canvas, one),
        several => several.iter().for_each(|one| circle.outline(canvas, one)),
    }
    circle.names(canvas, sectors);
    // The values of the outer rings stand between two sectors, over the data.
    let outer = |at: f64| at > 0.4 * chart.axis.max;
    for tick in chart.axis.ticks.iter().filter(|tick| outer(tick.at)) {
        let (x, y) = circle.point(tick.at, 0.5 / circle.sectors as f64);
        let words = format!("{} {}", tick.label, chart.axis.unit);
        let (words, half) = (words.trim_end(), super::canvas::text_width(&words) / 2.0);
        canvas.rectangle((x - half, y - 6.0), (x + half, y + 6.0), palette::PAPER);
        canvas.text(words, (x, y), Anchor::Middle, palette::MUTED);
    }
}

struct Circle<W> {
    centre: (f64, f64),
    sectors: usize,
    /// The value of the outermost ring.
    most: f64,
    /// What the value of a sector says.
    words: W,
}

impl<W: Fn(usize, &PolarSeries, f64) -> String> Circle<W> {
    /// Where a value is at a share of the way round.
    fn point(&self, value: f64, round: f64) -> (f64, f64) {
        let radius = RADIUS * (value / self.most.max(f64::MIN_POSITIVE)).clamp(0.0, 1.0);
        let angle = (round - 0.25) * TAU;
        (
            self.centre.0 + radius * angle.cos(),
            self.centre.1 + radius * angle.sin(),
        )
    }

    /// The middle of a sector, as a share of the way round: the first is around the top.
    fn middle(&self, sector: usize) -> f64 {
        sector as f64 / self.sectors as f64
    }

    /// One filled sector for each value.
    fn wedges(&self, canvas: &mut Canvas, one: &PolarSeries) {
        let half = 0.46 / self.sectors as f64;
        for (sector, value) in one.values.iter().enumerate() {
            let Some(value) = value.filter(|value| *value > 0.0) else {
                continue;
            };
            let middle = self.middle(sector);
            let arc = (0..=6)
                .map(|step| self.point(value, middle - half + 2.0 * half * f64::from(step) / 6.0));
            canvas.area(arc.chain([self.centre]), palette::series(one.colour));
            canvas.says(|| (self.words)(sector, one, value));
        }
    }

    /// A line from sector to sector; a sector without a value is a gap.
    fn outline(&self, canvas: &mut Canvas, one: &PolarSeries) {
        let colour = palette::series(one.colour);
        // Once round and back to the first, so that the line closes if nothing is missing.
        let mut stretch = Vec::new();
        for step in 0..=self.sectors {
            match one.values[step % self.sectors] {
                Some(value) => stretch.push(self.point(value, self.middle(step))),
                None => self.piece(canvas, std::mem::take(&mut stretch), colour),
            }
        }
        self.piece(canvas, stretch, colour);
        for (sector, value) in one.values.iter().enumerate() {
            if let Some(value) = *value {
                canvas.dot(self.point(value, self.middle(sector)), 2.0, colour);
                canvas.says(|| (self.words)(sector, one, value));
            }
        }
    }

    fn piece(&self, canvas: &mut Canvas, points: Vec<(f64, f64)>, colour: &'static str) {
        match points[..] {
            // A point is there by itself.
            [] | [_] => {}
            _ => canvas.line(points, colour, 1.6),
        }
    }

    fn names(&self, canvas: &mut Canvas, names: &[String]) {
        for (sector, name) in names
            .iter()
            .enumerate()
            .filter(|(_, name)| !name.is_empty())
        {
            let angle = (self.middle(sector) - 0.25) * TAU;
            let (across, down) = (angle.cos(), angle.sin());
            let anchor = match across {
                across if across > 0.2 => Anchor::Start,
                across if across < -0.2 => Anchor::End,
                _ => Anchor::Middle,
            };
            let at = (
                self.centre.0 + (RADIUS + 7.0) * across,
                self.centre.1 + (RADIUS + 10.0) * down,
            );
            canvas.text(name, at, anchor, palette::INK);
        }
    }
}
