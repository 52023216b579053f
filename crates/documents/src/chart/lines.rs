//! Lines over time: calendar grid, day shading, threshold lines, gaps, names beside lines.

use chrono::{DateTime, Utc};
use maple_lark_core::chart::{Chart, Series, TimeAxis};

use super::{
    Size,
    canvas::{Anchor, Canvas, LABEL, fit, text_width},
};
use crate::palette;

const LINE_HEIGHT: f64 = 14.0;
const LEGEND_SAMPLE: f64 = 16.0;

/// The frame that data is drawn in.
struct Frame {
    left: f64,
    right: f64,
    top: f64,
    bottom: f64,
    from: DateTime<Utc>,
    to: DateTime<Utc>,
    low: f64,
    high: f64,
}

impl Frame {
    fn x(&self, at: DateTime<Utc>) -> f64 {
        let share = (at - self.from).num_milliseconds() as f64 / (self.to - self.from).num_milliseconds().max(1) as f64;
        self.left + share * (self.right - self.left)
    }

    fn y(&self, value: f64) -> f64 {
        self.bottom - (value - self.low) / (self.high - self.low) * (self.bottom - self.top)
    }
}

/// How many rows the legend takes above a narrow figure.
pub fn legend_rows(series: &[Series], width: f64) -> usize {
    if series.len() < 2 {
        return 0;
    }
    legend_places(series, width).last().map_or(0, |(_, row)| row + 1)
}

fn legend_places(series: &[Series], width: f64) -> Vec<(f64, usize)> {
    let (mut x, mut row) = (0.0, 0);
    series
        .iter()
        .map(|series| {
            let wide = LEGEND_SAMPLE + 4.0 + text_width(&series.name) + 12.0;
            if x > 0.0 && x + wide > width {
                x = 0.0;
                row += 1;
            }
            let place = (x, row);
            x += wide;
            place
        })
        .collect()
}

pub fn draw(canvas: &mut Canvas, chart: &Chart, axis: &TimeAxis, series: &[Series], size: Size) {
    let several = series.len() > 1;
    let beside = several && size == Size::Full;
    let rows = if several && !beside { legend_rows(series, canvas.width) } else { 0 };
    let tick_width = chart.axis.ticks.iter().map(|tick| text_width(&tick.label)).fold(0.0, f64::max);
    let name_width = if beside { series.iter().map(|series| text_width(&series.name)).fold(0.0, f64::max).min(150.0) + 16.0 } else { 6.0 };
    let legend = rows as f64 * 16.0;
    let frame = Frame {
        left: tick_width + 8.0,
        right: canvas.width - name_width,
        top: legend + 20.0,
        bottom: canvas.height - 22.0,
        from: axis.from,
        to: axis.to,
        low: chart.axis.min,
        high: chart.axis.max,
    };
    let (width, most) = (canvas.width, if size == Size::Full { 9 } else { 4 });
    for (from, to) in &axis.shaded {
        canvas.rectangle((frame.x(*from), frame.top), (frame.x(*to), frame.bottom), palette::SHADE);
    }
    if !chart.axis.unit.is_empty() {
        canvas.text(&chart.axis.unit, (0.0, legend + 8.0), Anchor::Start, palette::MUTED);
    }
    for tick in &chart.axis.ticks {
        let y = frame.y(tick.at);
        canvas.line([(frame.left, y), (frame.right, y)], palette::RULE, 0.7);
        canvas.text(&tick.label, (frame.left - 5.0, y), Anchor::End, palette::MUTED);
    }
    time_ticks(canvas, &frame, axis, width, most);
    for limit in &chart.limits {
        let (y, colour) = (frame.y(limit.at), palette::status(limit.status));
        canvas.dashed((frame.left, y), (frame.right, y), colour, 1.1);
    }
    for one in series {
        let colour = palette::series(one.colour);
        for stretch in &one.stretches {
            match stretch[..] {
                [(at, value)] => canvas.dot((frame.x(at), frame.y(value)), 1.8, colour),
                _ => canvas.line(stretch.iter().map(|(at, value)| (frame.x(*at), frame.y(*value))), colour, 1.5),
            }
        }
    }
    // A threshold's name stands above its line, at the left, over the data.
    for limit in &chart.limits {
        let y = frame.y(limit.at);
        let above = if y - LABEL < frame.top { y + 8.0 } else { y - 8.0 };
        let wide = text_width(&limit.label) + 4.0;
        canvas.rectangle((frame.left + 3.0, above - 6.5), (frame.left + 3.0 + wide, above + 6.5), palette::PAPER);
        canvas.text(&limit.label, (frame.left + 5.0, above), Anchor::Start, palette::status(limit.status));
    }
    if beside {
        names_beside(canvas, &frame, series, name_width);
    } else if several {
        for (one, (x, row)) in series.iter().zip(legend_places(series, width)) {
            let y = 8.0 + row as f64 * 16.0;
            canvas.line([(x, y), (x + LEGEND_SAMPLE, y)], palette::series(one.colour), 2.5);
            canvas.text(&fit(&one.name, width - LEGEND_SAMPLE - 4.0), (x + LEGEND_SAMPLE + 4.0, y), Anchor::Start, palette::INK);
        }
    }
}

fn time_ticks(canvas: &mut Canvas, frame: &Frame, axis: &TimeAxis, width: f64, most: usize) {
    canvas.line([(frame.left, frame.bottom), (frame.right, frame.bottom)], palette::MUTED, 0.9);
    // A narrow figure keeps every second, third … label; the ticks themselves stay.
    let every = axis.ticks.len().div_ceil(most).max(1);
    for (index, tick) in axis.ticks.iter().enumerate() {
        let x = frame.x(tick.at);
        canvas.line([(x, frame.bottom), (x, frame.bottom + 4.0)], palette::MUTED, 0.9);
        if index % every == 0 {
            let half = text_width(&tick.label) / 2.0;
            canvas.text(&tick.label, (x.clamp(half, width - half), frame.bottom + 13.0), Anchor::Middle, palette::MUTED);
        }
    }
}

/// Each line's name at the height where the line ends, moved apart where they would touch
/// and tied to the line's end.
fn names_beside(canvas: &mut Canvas, frame: &Frame, series: &[Series], room: f64) {
    let end = |one: &Series| one.stretches.last().and_then(|stretch| stretch.last()).map_or(frame.bottom, |(_, value)| frame.y(*value));
    let mut places: Vec<(usize, f64, f64)> = series.iter().enumerate().map(|(i, one)| (i, end(one), end(one))).collect();
    places.sort_by(|a, b| a.1.total_cmp(&b.1));
    for i in 1..places.len() {
        places[i].2 = places[i].2.max(places[i - 1].2 + LINE_HEIGHT);
    }
    let lowest = frame.bottom + 4.0;
    for i in (0..places.len()).rev() {
        let limit = if i + 1 < places.len() { places[i + 1].2 - LINE_HEIGHT } else { lowest };
        places[i].2 = places[i].2.min(limit);
    }
    for (index, from, to) in places {
        let colour = palette::series(series[index].colour);
        canvas.line([(frame.right + 1.0, from), (frame.right + 9.0, to)], colour, 0.9);
        canvas.text(&fit(&series[index].name, room - 12.0), (frame.right + 12.0, to), Anchor::Start, colour);
    }
}
