//! Small multiples: rows of small charts that share both axes.

use maple_lark_data::status::Status;
use maple_lark_document::chart::{Chart, Multiple, TimeAxis};

use super::{
    Size,
    canvas::{Anchor, Canvas, LIMIT_DASHES, fit_name, text_width},
    frame::Frame,
};
use crate::palette;

/// The name and the last value above each chart.
const HEAD: f64 = 15.0;
/// The times under each column of charts.
const FOOT: f64 = 20.0;
const GUTTER: f64 = 14.0;

/// How many stand side by side, and how high each is: sixty stand on a page.
fn grid(count: usize, size: Size) -> (usize, f64) {
    let across = if size.is_wide() { 5 } else { 2 };
    let high = if count > 30 { 52.0 } else { 66.0 };
    (across.min(count.max(1)), high)
}

pub fn height(count: usize, size: Size) -> f64 {
    let (across, high) = grid(count, size);
    count.div_ceil(across) as f64 * (HEAD + high + 8.0) + FOOT
}

pub fn draw(canvas: &mut Canvas, chart: &Chart, times: &TimeAxis, charts: &[Multiple], size: Size) {
    let (across, high) = grid(charts.len(), size);
    // Both ends of the shared axis stand once a row, at its left.
    let ends: Vec<&str> = [chart.axis.ticks.first(), chart.axis.ticks.last()]
        .into_iter()
        .flatten()
        .map(|tick| tick.label.as_str())
        .collect();
    let left = ends.iter().map(|end| text_width(end)).fold(0.0, f64::max) + 6.0;
    let wide = (canvas.width - left - GUTTER * (across - 1) as f64) / across as f64;
    for (index, one) in charts.iter().enumerate() {
        let (column, row) = (index % across, index / across);
        let x = left + column as f64 * (wide + GUTTER);
        let y = row as f64 * (HEAD + high + 8.0) + HEAD;
        let cell = Cell(Frame::within((x, x + wide), (y, y + high), &chart.axis));
        if column == 0 {
            for (end, at) in ends.iter().zip([cell.0.bottom - 4.0, cell.0.top + 4.0]) {
                canvas.text(end, (left - 5.0, at), Anchor::End, palette::MUTED);
            }
        }
        canvas.framed([x, x + wide, y, y + high]);
        cell.draw(canvas, chart, times, one);
        // The last chart of each column has the times under it.
        if index + across >= charts.len() {
            cell.times(canvas, times);
        }
    }
}

/// One small chart's room.
struct Cell(Frame);

impl Cell {
    fn draw(&self, canvas: &mut Canvas, chart: &Chart, times: &TimeAxis, one: &Multiple) {
        let Self(frame) = self;
        let is_past = one.status > Status::Unknown;
        let ink = if is_past {
            palette::status(one.status)
        } else {
            palette::INK
        };
        let label = if is_past {
            format!("{} {}", palette::mark(one.status), one.label)
        } else {
            one.label.clone()
        };
        let room = frame.right - frame.left - text_width(&label) - 6.0;
        canvas.text(
            &fit_name(&one.name, room),
            (frame.left, frame.top - 7.0),
            Anchor::Start,
            palette::INK,
        );
        canvas.text(&label, (frame.right, frame.top - 7.0), Anchor::End, ink);
        canvas.rectangle(
            (frame.left, frame.top),
            (frame.right, frame.bottom),
            palette::SHADE,
        );
        for limit in &chart.limits {
            let y = frame.y(limit.at);
            canvas.dashes(
                &[(frame.left, y), (frame.right, y)],
                LIMIT_DASHES,
                palette::status(limit.status),
                0.8,
            );
        }
        for stretch in &one.stretches {
            let points: Vec<(f64, f64)> = stretch
                .iter()
                .map(|(at, value)| (frame.time(times, *at), frame.y(*value)))
                .collect();
            match points[..] {
                [point] => canvas.dot(point, 1.6, palette::series(0)),
                _ => canvas.line(points, palette::series(0), 1.2),
            }
        }
    }

    /// The first and the last instant that have names.
    fn times(&self, canvas: &mut Canvas, axis: &TimeAxis) {
        let Self(frame) = self;
        canvas.line(
            [(frame.left, frame.bottom), (frame.right, frame.bottom)],
            palette::MUTED,
            0.8,
        );
        let mut free = f64::NEG_INFINITY;
        for tick in &axis.ticks {
            let half = text_width(&tick.label) / 2.0;
            let (from, to) = (
                frame.left + half,
                (frame.right - half).max(frame.left + half),
            );
            let middle = frame.time(axis, tick.at).clamp(from, to);
            if middle - half >= free {
                canvas.text(
                    &tick.label,
                    (middle, frame.bottom + 11.0),
                    Anchor::Middle,
                    palette::MUTED,
                );
                free = middle + half + 6.0;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sixty_fit_on_a_page() {
        // A page of A4 has room for 728 points; a unit is 0.72 of one.
        assert!(height(60, Size::FULL) * 0.72 < 728.0);
        assert!(height(1, Size::FULL) < 120.0);
    }
}
