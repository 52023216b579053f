//! Observed, fitted and to come, told apart by line, words and colour.

use chrono::{DateTime, Utc};
use maple_lark_document::chart::{Chart, Crossing, ForecastPlot, TimeAxis};

use super::{
    Size,
    canvas::{Anchor, Canvas, LIMIT_DASHES, fit, text_width},
    frame::Frame,
};
use crate::palette;

/// The place of its colours in the palette.
const OBSERVED: usize = 0;
const TO_COME: usize = 1;

pub fn height(size: Size) -> f64 {
    if size.is_wide() { 270.0 } else { 260.0 }
}

/// A stretch of the legend: how its line looks, and its name.
enum Sample {
    Solid,
    Dots,
    Dashes,
    Area,
}

#[expect(
    clippy::too_many_lines,
    reason = "draws from the back to the front; each part needs the places of the one before"
)]
pub fn draw(canvas: &mut Canvas, chart: &Chart, plot: &ForecastPlot, size: Size) {
    let ForecastPlot {
        axis,
        observed,
        fitted,
        forecast,
        narrow,
        wide,
        crossings,
    } = plot;
    let mut entries = vec![(Sample::Solid, "observed")];
    if !fitted.is_empty() {
        entries.push((Sample::Dots, "fitted"));
    }
    if !forecast.is_empty() {
        entries.push((Sample::Dashes, "forecast"));
    }
    if !narrow.is_empty() {
        entries.push((Sample::Area, "80 % (outer lines 95 %)"));
    }
    // The legend, and under it the words of what is reached.
    let named = legend(canvas, &entries);
    let words = if crossings.is_empty() { 0.0 } else { 16.0 };
    let frame = Frame::new(canvas, &chart.axis, 20.0 + named + words, 10.0);
    canvas.framed([frame.left, frame.right, frame.top, frame.bottom]);
    frame.limit_bands(canvas, chart);
    frame.shading(canvas, axis);
    let place = |(at, value): &(DateTime<Utc>, f64)| (frame.time(axis, *at), frame.y(*value));
    let band = |canvas: &mut Canvas, band: &[(DateTime<Utc>, f64, f64)], colour| {
        let above = band.iter().map(|(at, _, high)| place(&(*at, *high)));
        let below = band.iter().rev().map(|(at, low, _)| place(&(*at, *low)));
        if band.len() > 1 {
            canvas.area(above.chain(below), colour);
        }
    };
    band(canvas, wide, palette::SHADE);
    band(canvas, narrow, palette::tint(TO_COME));
    frame.values(canvas, &chart.axis);
    frame.times(canvas, axis, size);
    frame.limit_lines(canvas, chart);
    for edge in [true, false] {
        let line: Vec<(f64, f64)> = wide
            .iter()
            .map(|(at, low, high)| place(&(*at, if edge { *low } else { *high })))
            .collect();
        canvas.line(line, palette::BEHIND, 0.7);
    }
    let ends = observed.last().and_then(|stretch| stretch.last());
    if let Some((at, _)) = ends {
        let x = frame.time(axis, *at);
        canvas.line([(x, frame.top), (x, frame.bottom)], palette::MUTED, 0.7);
    }
    let fit_line: Vec<(f64, f64)> = fitted.iter().map(place).collect();
    for stretch in observed {
        let points: Vec<(f64, f64)> = stretch.iter().map(place).collect();
        match points[..] {
            [one] => canvas.dot(one, 1.8, palette::series(OBSERVED)),
            _ => canvas.line(points, palette::series(OBSERVED), 1.6),
        }
    }
    canvas.dashes(&fit_line, (1.5, 2.5), palette::MUTED, 1.0);
    let come: Vec<(f64, f64)> = ends.into_iter().chain(forecast).map(place).collect();
    canvas.dashes(&come, (6.0, 3.5), palette::series(TO_COME), 1.8);
    frame.limit_names(canvas, &chart.limits);
    marks(canvas, &frame, axis, crossings);
}

/// Where limits are reached, with the words above, moved apart where they would touch.
fn marks(canvas: &mut Canvas, frame: &Frame, axis: &TimeAxis, crossings: &[Crossing]) {
    let mut free = f64::NEG_INFINITY;
    for crossing in crossings {
        let (x, y) = (frame.time(axis, crossing.at), frame.y(crossing.value));
        canvas.dashes(
            &[(x, y), (x, frame.top - 6.0)],
            LIMIT_DASHES,
            palette::SPAN_EDGE,
            0.9,
        );
        canvas.dot((x, y), 3.2, palette::SPAN_EDGE);
        let words = fit(&crossing.label, canvas.width * 0.45);
        let half = text_width(&words) / 2.0;
        let middle = x
            .max(free + half)
            .clamp(half, (canvas.width - half).max(half));
        if middle - half >= free {
            canvas.text(
                &words,
                (middle, frame.top - 13.0),
                Anchor::Middle,
                palette::SPAN_EDGE,
            );
            free = middle + half + 12.0;
        }
    }
}

/// What the lines stand for, in as many rows as they need. Answers with the height of all.
fn legend(canvas: &mut Canvas, entries: &[(Sample, &str)]) -> f64 {
    let (mut x, mut y) = (0.0, 8.0);
    for (sample, name) in entries {
        if x > 0.0 && x + 27.0 + text_width(name) > canvas.width {
            (x, y) = (0.0, y + 16.0);
        }
        let line = [(x, y), (x + 22.0, y)];
        match sample {
            Sample::Solid => canvas.line(line, palette::series(OBSERVED), 1.6),
            Sample::Dots => canvas.dashes(&line, (1.5, 2.5), palette::MUTED, 1.0),
            Sample::Dashes => canvas.dashes(&line, (6.0, 3.5), palette::series(TO_COME), 1.8),
            Sample::Area => {
                canvas.rectangle((x, y - 5.0), (x + 22.0, y + 5.0), palette::tint(TO_COME));
            }
        }
        canvas.text(name, (x + 27.0, y), Anchor::Start, palette::INK);
        x += 27.0 + text_width(name) + 16.0;
    }
    y + 8.0
}
