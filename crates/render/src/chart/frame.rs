//! The frame that charts draw in: axes, grid lines, ticks, legends.

use chrono::{DateTime, Utc};
use maple_lark_document::chart::{Chart, Limit, TimeAxis, ValueAxis};

use super::{
    Size,
    canvas::{Anchor, Canvas, LABEL, LIMIT_DASHES, fit_name, text_width},
};
use crate::palette;

const SAMPLE: f64 = 16.0;
pub const LEGEND_ROW: f64 = 16.0;
pub const NAME_ROW: f64 = 13.0;

/// Where values are up the page, and what is across it.
pub struct Frame {
    pub left: f64,
    pub right: f64,
    pub top: f64,
    pub bottom: f64,
    low: f64,
    high: f64,
}

impl Frame {
    /// A frame under `top` with room for the labels of the axis of values at its left and
    /// for the labels of what is across under it.
    pub fn new(canvas: &Canvas, axis: &ValueAxis, top: f64, right: f64) -> Self {
        let left = axis
            .ticks
            .iter()
            .map(|tick| text_width(&tick.label))
            .fold(0.0, f64::max)
            + 8.0;
        Self {
            left,
            right: canvas.width - right,
            top,
            bottom: canvas.height - 22.0,
            low: axis.min,
            high: axis.max,
        }
    }

    /// A frame in a room of its own, from left to right and from top to bottom.
    pub fn within((left, right): (f64, f64), (top, bottom): (f64, f64), axis: &ValueAxis) -> Self {
        Self {
            left,
            right,
            top,
            bottom,
            low: axis.min,
            high: axis.max,
        }
    }

    pub fn y(&self, value: f64) -> f64 {
        self.bottom
            - (value.clamp(self.low, self.high) - self.low) / (self.high - self.low)
                * (self.bottom - self.top)
    }

    /// Where a share of the way across is.
    pub fn across(&self, share: f64) -> f64 {
        self.left + share * (self.right - self.left)
    }

    pub fn time(&self, axis: &TimeAxis, at: DateTime<Utc>) -> f64 {
        self.places(axis)(at)
    }

    /// The same for many instants: what is the same for all of them is worked out once.
    pub fn places(&self, axis: &TimeAxis) -> impl Fn(DateTime<Utc>) -> f64 {
        let from = axis.from.timestamp_millis();
        let length = (axis.to.timestamp_millis() - from).max(1) as f64;
        move |at| self.across((at.timestamp_millis() - from) as f64 / length)
    }

    /// Grid lines with their values, and the unit above them.
    pub fn values(&self, canvas: &mut Canvas, axis: &ValueAxis) {
        if !axis.unit.is_empty() {
            canvas.text(
                &axis.unit,
                (0.0, self.top - 12.0),
                Anchor::Start,
                palette::MUTED,
            );
        }
        for tick in &axis.ticks {
            let y = self.y(tick.at);
            canvas.line([(self.left, y), (self.right, y)], palette::RULE, 0.7);
            canvas.text(
                &tick.label,
                (self.left - 5.0, y),
                Anchor::End,
                palette::MUTED,
            );
        }
    }

    pub fn shading(&self, canvas: &mut Canvas, axis: &TimeAxis) {
        for (from, to) in &axis.shaded {
            canvas.rectangle(
                (self.time(axis, *from), self.top),
                (self.time(axis, *to), self.bottom),
                palette::SHADE,
            );
        }
    }

    pub fn times(&self, canvas: &mut Canvas, axis: &TimeAxis, size: Size) {
        let marks: Vec<(f64, &str)> = axis
            .ticks
            .iter()
            .map(|tick| (self.time(axis, tick.at), tick.label.as_str()))
            .collect();
        self.marks(canvas, &marks, size.most_times());
    }

    /// Ticks under the frame. A narrow figure keeps every second, third … label; the ticks
    /// themselves stay.
    pub fn marks(&self, canvas: &mut Canvas, marks: &[(f64, &str)], most: usize) {
        canvas.line(
            [(self.left, self.bottom), (self.right, self.bottom)],
            palette::MUTED,
            0.9,
        );
        let every = marks.len().div_ceil(most).max(1);
        let mut free = 0.0;
        for (index, (x, label)) in marks.iter().enumerate() {
            canvas.line(
                [(*x, self.bottom), (*x, self.bottom + 4.0)],
                palette::MUTED,
                0.9,
            );
            let half = text_width(label) / 2.0;
            let middle = x.clamp(half, (canvas.width - half).max(half));
            // What would touch the label before it is left out.
            if index % every == 0 && middle - half >= free {
                canvas.text(
                    label,
                    (middle, self.bottom + 13.0),
                    Anchor::Middle,
                    palette::MUTED,
                );
                free = middle + half + 5.0;
            }
        }
    }

    /// Ticks with all of their labels, every second one a line lower.
    pub fn marks_by_turns(&self, canvas: &mut Canvas, marks: &[(f64, &str)]) {
        canvas.line(
            [(self.left, self.bottom), (self.right, self.bottom)],
            palette::MUTED,
            0.9,
        );
        for (index, (x, label)) in marks.iter().enumerate() {
            let lower = if index % 2 == 0 { 0.0 } else { NAME_ROW };
            canvas.line(
                [(*x, self.bottom), (*x, self.bottom + 4.0 + lower)],
                palette::MUTED,
                0.9,
            );
            let half = text_width(label) / 2.0;
            canvas.text(
                label,
                (
                    x.clamp(half, (canvas.width - half).max(half)),
                    self.bottom + 13.0 + lower,
                ),
                Anchor::Middle,
                palette::MUTED,
            );
        }
    }

    /// What is past a threshold is on tinted ground, as far as the next one.
    pub fn limit_bands(&self, canvas: &mut Canvas, chart: &Chart) {
        for limit in &chart.limits {
            let end = if limit.downwards { self.low } else { self.high };
            let nearer = |other: &&Limit| {
                if limit.downwards {
                    other.at < limit.at
                } else {
                    other.at > limit.at
                }
            };
            let to = chart
                .limits
                .iter()
                .find(nearer)
                .map_or(end, |other| other.at);
            canvas.rectangle(
                (self.left, self.y(to)),
                (self.right, self.y(limit.at)),
                palette::band(limit.status),
            );
        }
    }

    pub fn limit_lines(&self, canvas: &mut Canvas, chart: &Chart) {
        for limit in &chart.limits {
            let y = self.y(limit.at);
            canvas.dashes(
                &[(self.left, y), (self.right, y)],
                LIMIT_DASHES,
                palette::status(limit.status),
                1.1,
            );
        }
    }

    /// A threshold's name stands above its line, at the left, over the data. Names are in the order of their lines.
    pub fn limit_names(&self, canvas: &mut Canvas, limits: &[Limit]) {
        let mut limits: Vec<&Limit> = limits.iter().collect();
        limits.sort_by(|one, other| self.y(one.at).total_cmp(&self.y(other.at)));
        let mut free: Vec<f64> = Vec::new();
        for limit in limits {
            let y = self.y(limit.at);
            let mut above = if y - LABEL < self.top {
                y + 8.0
            } else {
                y - 8.0
            };
            // One that would cover another stands under it.
            while let Some(other) = free.iter().find(|other| (*other - above).abs() < 13.0) {
                above = other + 13.5;
            }
            free.push(above);
            let wide = text_width(&limit.label) + 4.0;
            let from = (self.left + 3.0).min(canvas.width - wide).max(0.0);
            canvas.rectangle(
                (from, above - 6.5),
                (from + wide, above + 6.5),
                palette::PAPER,
            );
            canvas.text(
                &limit.label,
                (from + 2.0, above),
                Anchor::Start,
                palette::status(limit.status),
            );
        }
    }
}

/// How many rows a legend takes; one name needs none.
pub fn legend_rows<'n>(names: impl Iterator<Item = &'n str>, width: f64) -> usize {
    let names: Vec<&str> = names.collect();
    if names.len() < 2 {
        0
    } else {
        legend_places(&names, width)
            .last()
            .map_or(0, |(_, row)| row + 1)
    }
}

fn legend_places(names: &[&str], width: f64) -> Vec<(f64, usize)> {
    let (mut x, mut row) = (0.0, 0);
    names
        .iter()
        .map(|name| {
            let wide = SAMPLE + 4.0 + text_width(name).min(width - SAMPLE - 4.0) + 12.0;
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

/// Names with their colours, above the figure.
pub fn legend(canvas: &mut Canvas, entries: &[(&str, &'static str)]) {
    let (width, names) = (
        canvas.width,
        entries.iter().map(|(name, _)| *name).collect::<Vec<_>>(),
    );
    for ((name, colour), (x, row)) in entries.iter().zip(legend_places(&names, width)) {
        let y = 8.0 + row as f64 * LEGEND_ROW;
        canvas.rectangle((x, y - 5.0), (x + 10.0, y + 5.0), colour);
        canvas.text(
            &fit_name(name, width - SAMPLE - 4.0),
            (x + SAMPLE, y),
            Anchor::Start,
            palette::INK,
        );
    }
}
