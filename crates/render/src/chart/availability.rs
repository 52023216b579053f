//! Bars that begin near the objective, with the objective drawn in, and outages below.

use maple_lark_data::status::Status;
use maple_lark_document::chart::{AvailabilityRow, TimeAxis, ValueAxis};

use super::{
    Size,
    canvas::{Anchor, Canvas, fit, fit_name, text_width},
    frame::Frame,
};
use crate::palette;

const ROW: f64 = 22.0;
const OUTAGE_ROW: f64 = 18.0;
/// Above the bars, for the words.
const HEAD: f64 = 22.0;
/// Under the bars, for their axis.
const FOOT: f64 = 24.0;
/// Above the outages.
const BETWEEN: f64 = 26.0;

fn with_outages(rows: &[AvailabilityRow]) -> Vec<&AvailabilityRow> {
    rows.iter().filter(|row| !row.outages.is_empty()).collect()
}

pub fn height(rows: &[AvailabilityRow]) -> f64 {
    let below = with_outages(rows).len() as f64;
    let below = if below > 0.0 {
        BETWEEN + below * OUTAGE_ROW + FOOT
    } else {
        0.0
    };
    HEAD + rows.len() as f64 * ROW + FOOT + below
}

/// A state in a mark, a word and a colour.
fn told(met: Option<bool>) -> (Status, &'static str) {
    match met {
        Some(true) => (Status::Ok, "met"),
        Some(false) => (Status::Critical, "missed"),
        None => (Status::Unknown, ""),
    }
}

#[expect(
    clippy::too_many_lines,
    reason = "draws from the back to the front; each part needs the places of the one before"
)]
pub fn draw(
    canvas: &mut Canvas,
    axis: &ValueAxis,
    rows: &[AvailabilityRow],
    times: &TimeAxis,
    size: Size,
) {
    let widest = |texts: &mut dyn Iterator<Item = f64>| texts.fold(0.0, f64::max);
    let most = canvas.width * 0.3;
    let left = widest(&mut rows.iter().map(|row| text_width(&row.name))).min(most) + 8.0;
    let words: Vec<String> = rows
        .iter()
        .map(|row| {
            let (status, word) = told(row.met);
            if word.is_empty() {
                row.label.clone()
            } else {
                format!("{} {word}, {}", palette::mark(status), row.label)
            }
        })
        .collect();
    let right = widest(&mut words.iter().map(|words| text_width(words))) + 14.0;
    let right = canvas.width - right.min(canvas.width * 0.45);
    let top = HEAD;
    let bottom = top + rows.len() as f64 * ROW;
    let across = |value: f64| {
        let share = (value.clamp(axis.min, axis.max) - axis.min) / (axis.max - axis.min);
        left + share * (right - left)
    };
    canvas.rectangle((left, 3.0), (left + 2.0, 14.0), palette::INK);
    canvas.text(
        &format!("objective; the scale begins at {} %", first(axis)),
        (left + 7.0, 8.0),
        Anchor::Start,
        palette::MUTED,
    );
    let mut free = f64::NEG_INFINITY;
    for tick in &axis.ticks {
        let (x, half) = (across(tick.at), text_width(&tick.label) / 2.0);
        canvas.line([(x, top), (x, bottom)], palette::RULE, 0.7);
        if x - half >= free {
            let at = (x, bottom + 10.0);
            canvas.text(&tick.label, at, Anchor::Middle, palette::MUTED);
            free = x + half + 6.0;
        }
    }
    for (place, row) in rows.iter().enumerate() {
        let y = top + place as f64 * ROW;
        let (status, _) = told(row.met);
        let ink = if row.is_whole {
            palette::INK
        } else {
            palette::MUTED
        };
        canvas.text(
            &fit_name(&row.name, left - 8.0),
            (left - 6.0, y + ROW / 2.0),
            Anchor::End,
            ink,
        );
        if row.is_whole {
            canvas.line([(0.0, y), (canvas.width, y)], palette::RULE, 0.7);
        }
        let inset = if row.is_whole { 4.0 } else { 6.0 };
        if let Some(at) = row.at {
            let colour = match row.met {
                Some(false) => palette::status(Status::Critical),
                _ => palette::series(0),
            };
            let end = across(at).max(left + 1.0);
            canvas.rectangle((left, y + inset), (end, y + ROW - inset), colour);
        }
        if let Some(objective) = row.objective {
            let x = across(objective);
            canvas.rectangle((x - 1.0, y + 2.0), (x + 1.0, y + ROW - 2.0), palette::INK);
        }
        canvas.text(
            &fit(&words[place], canvas.width - right - 8.0),
            (right + 10.0, y + ROW / 2.0),
            Anchor::Start,
            palette::status(status),
        );
    }
    let below = with_outages(rows);
    if below.is_empty() {
        return;
    }
    let bare = ValueAxis {
        ticks: Vec::new(),
        ..axis.clone()
    };
    let mut frame = Frame::new(canvas, &bare, bottom + FOOT + BETWEEN, 8.0);
    frame.left = left;
    canvas.text(
        "Outages",
        (left, frame.top - 12.0),
        Anchor::Start,
        palette::MUTED,
    );
    frame.shading(canvas, times);
    for (place, row) in below.iter().enumerate() {
        let y = frame.top + place as f64 * OUTAGE_ROW;
        let middle = y + OUTAGE_ROW / 2.0;
        canvas.text(
            &fit_name(&row.name, left - 8.0),
            (left - 6.0, middle),
            Anchor::End,
            palette::MUTED,
        );
        canvas.line([(left, middle), (frame.right, middle)], palette::RULE, 0.7);
        for (from, to) in &row.outages {
            let (from, to) = (frame.time(times, *from), frame.time(times, *to));
            canvas.rectangle(
                (from, y + 3.0),
                (to.max(from + 1.5), y + OUTAGE_ROW - 3.0),
                palette::status(Status::Critical),
            );
        }
    }
    frame.times(canvas, times, size);
}

fn first(axis: &ValueAxis) -> &str {
    axis.ticks.first().map_or("0", |tick| tick.label.as_str())
}
