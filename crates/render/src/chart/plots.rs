//! Charts of many small marks: heat maps, timelines of states, scatter plots, histograms
//! and boxes.

use maple_lark_data::status::Status;
use maple_lark_document::chart::{
    Bin, BoxRow, Chart, HeatCell, PointSeries, TimeAxis, TimelineRow, ValueAxis,
};

use super::{
    Size,
    canvas::{Anchor, Canvas, LIMIT_DASHES, fit, fit_name, text_width},
    frame::{self, Frame},
};
use crate::palette;

/// Many rows are lower, so that they stand on a page together with something else.
fn heat_row(rows: usize) -> f64 {
    if rows > 24 { 14.0 } else { 19.0 }
}
const TIMELINE_ROW: f64 = 19.0;
const BOX_ROW: f64 = 24.0;
/// Of more points or cells than this none says what it is: they are a cloud, and would make a page of
/// many megabytes.
const MOST_ASKED: usize = 400;

fn names_width<'n>(names: impl Iterator<Item = &'n str>, canvas: &Canvas) -> f64 {
    names
        .map(text_width)
        .fold(0.0, f64::max)
        .min(canvas.width * 0.3)
        + 8.0
}

pub fn heat_height(rows: &[String]) -> f64 {
    rows.len() as f64 * heat_row(rows.len()) + 46.0
}

pub struct Heat<'a> {
    pub columns: &'a [String],
    pub rows: &'a [String],
    pub cells: &'a [Vec<Option<HeatCell>>],
    pub low: &'a str,
    pub high: &'a str,
}

#[expect(
    clippy::too_many_lines,
    reason = "draws from the back to the front; each part needs the places of the one before"
)]
pub fn heat(canvas: &mut Canvas, heat: &Heat<'_>) {
    let left = names_width(heat.rows.iter().map(String::as_str), canvas);
    let high = heat_row(heat.rows.len());
    let wide = (canvas.width - left) / heat.columns.len() as f64;
    // Values stand in their cells where there is room for all of them.
    let labelled = heat
        .cells
        .iter()
        .flatten()
        .flatten()
        .all(|cell| text_width(&cell.label) < wide - 2.0);
    let every = (heat
        .columns
        .iter()
        .map(|name| text_width(name))
        .fold(0.0, f64::max)
        .min(80.0)
        / wide)
        .ceil()
        .max(1.0) as usize;
    for (index, name) in heat.columns.iter().enumerate().step_by(every) {
        canvas.text(
            &fit_name(name, 80.0_f64.max(wide)),
            (left + (index as f64 + 0.5) * wide, 8.0),
            Anchor::Middle,
            palette::MUTED,
        );
    }
    for (row, name) in heat.rows.iter().enumerate() {
        let y = 17.0 + row as f64 * high;
        canvas.text(
            &fit_name(name, left - 8.0),
            (left - 6.0, y + high / 2.0),
            Anchor::End,
            palette::INK,
        );
        for (column, cell) in heat.cells[row].iter().enumerate() {
            let x = left + column as f64 * wide;
            match cell {
                Some(cell) => {
                    let (colour, ink) = palette::heat(cell.share);
                    canvas.rectangle((x + 0.5, y + 0.5), (x + wide - 0.5, y + high - 0.5), colour);
                    if heat.rows.len() * heat.columns.len() <= MOST_ASKED {
                        let column = &heat.columns[column];
                        canvas.says(|| format!("{name}, {column}: {}", cell.label));
                    }
                    if labelled {
                        canvas.text(
                            &cell.label,
                            (x + wide / 2.0, y + high / 2.0),
                            Anchor::Middle,
                            ink,
                        );
                    }
                }
                // What was not measured is neither little nor much.
                None => canvas.line(
                    [
                        (x + wide / 2.0 - 2.0, y + high / 2.0),
                        (x + wide / 2.0 + 2.0, y + high / 2.0),
                    ],
                    palette::MUTED,
                    0.8,
                ),
            }
        }
    }
    scale(canvas, heat, left);
}

/// From the palest to the darkest, with what they stand for: under the cells if there is room.
fn scale(canvas: &mut Canvas, heat: &Heat<'_>, left: f64) {
    const STEPS: u32 = 9;
    const AIR: f64 = 6.0;
    let longest = canvas.width * 0.36;
    let (low, high) = (fit(heat.low, longest), fit(heat.high, longest));
    let words = text_width(&low) + text_width(&high) + 2.0 * AIR;
    let begin = left.min((canvas.width - words - 14.0 * f64::from(STEPS)).max(0.0));
    let step = ((canvas.width - begin - words) / f64::from(STEPS)).min(14.0);
    let y = canvas.height - 12.0;
    canvas.text(&low, (begin, y), Anchor::Start, palette::MUTED);
    let mut x = begin + text_width(&low) + AIR;
    for number in 0..STEPS {
        canvas.rectangle(
            (x, y - 5.0),
            (x + step, y + 5.0),
            palette::heat(f64::from(number) / f64::from(STEPS - 1)).0,
        );
        x += step;
    }
    canvas.text(&high, (x + AIR, y), Anchor::Start, palette::MUTED);
}

pub fn timeline_height(rows: &[TimelineRow]) -> f64 {
    rows.len() as f64 * TIMELINE_ROW + 46.0
}

/// A state is told by its colour and by how high it stands.
pub fn timeline(canvas: &mut Canvas, axis: &TimeAxis, rows: &[TimelineRow], size: Size) {
    let bare = ValueAxis {
        unit: String::new(),
        min: 0.0,
        max: 1.0,
        ticks: Vec::new(),
    };
    let mut frame = Frame::new(canvas, &bare, 20.0, 8.0);
    frame.left = names_width(rows.iter().map(|row| row.name.as_str()), canvas);
    frame.shading(canvas, axis);
    let words = [
        Status::Ok,
        Status::Warning,
        Status::Critical,
        Status::Unknown,
    ];
    let mut x = 0.0;
    for status in words {
        let text = format!("{} {}", palette::mark(status), status.word());
        canvas.text(&text, (x, 8.0), Anchor::Start, palette::status(status));
        x += text_width(&text) + 14.0;
    }
    for (index, row) in rows.iter().enumerate() {
        let y = frame.top + 2.0 + index as f64 * TIMELINE_ROW;
        canvas.text(
            &fit_name(&row.name, frame.left - 8.0),
            (frame.left - 6.0, y + TIMELINE_ROW / 2.0 - 1.0),
            Anchor::End,
            palette::INK,
        );
        for stretch in &row.stretches {
            let (from, to) = (frame.time(axis, stretch.from), frame.time(axis, stretch.to));
            let inset = match stretch.status {
                Status::Critical => 0.0,
                Status::Warning => 2.5,
                Status::Ok => 5.0,
                Status::Unknown => 6.5,
            };
            canvas.rectangle(
                (from, y + inset),
                (to.max(from + 0.8), y + TIMELINE_ROW - 4.0 - inset),
                palette::status(stretch.status),
            );
            canvas.says(|| format!("{}: {}", row.name, stretch.status.word()));
        }
    }
    frame.times(canvas, axis, size);
}

pub struct Points<'a> {
    pub across: &'a ValueAxis,
    pub across_title: &'a str,
    pub up_title: &'a str,
    pub series: &'a [PointSeries],
}

pub fn points_height(series: &[PointSeries], width: f64) -> f64 {
    260.0
        + frame::legend_rows(series.iter().map(|one| one.name.as_str()), width) as f64
            * frame::LEGEND_ROW
}

fn with_unit(title: &str, unit: &str) -> String {
    if unit.is_empty() {
        title.to_owned()
    } else {
        format!("{title} ({unit})")
    }
}

fn value_marks(frame: &Frame, axis: &ValueAxis) -> Vec<(f64, String)> {
    axis.ticks
        .iter()
        .map(|tick| {
            (
                frame.across((tick.at - axis.min) / (axis.max - axis.min)),
                tick.label.clone(),
            )
        })
        .collect()
}

fn marks(frame: &Frame, canvas: &mut Canvas, axis: &ValueAxis) {
    let marks = value_marks(frame, axis);
    let wide = marks
        .iter()
        .map(|(_, label)| text_width(label))
        .fold(0.0, f64::max)
        + 12.0;
    let borrowed: Vec<(f64, &str)> = marks
        .iter()
        .map(|(x, label)| (*x, label.as_str()))
        .collect();
    frame.marks(
        canvas,
        &borrowed,
        ((frame.right - frame.left) / wide).max(1.0) as usize,
    );
}

pub fn points(canvas: &mut Canvas, chart: &Chart, points: &Points<'_>) {
    let rows = frame::legend_rows(
        points.series.iter().map(|one| one.name.as_str()),
        canvas.width,
    );
    let mut frame = Frame::new(
        canvas,
        &chart.axis,
        rows as f64 * frame::LEGEND_ROW + 20.0,
        8.0,
    );
    frame.bottom -= 14.0;
    let unit_above = ValueAxis {
        unit: with_unit(points.up_title, &chart.axis.unit),
        ..chart.axis.clone()
    };
    frame.values(canvas, &unit_above);
    marks(&frame, canvas, points.across);
    let title = with_unit(points.across_title, &points.across.unit);
    canvas.text(
        &title,
        ((frame.left + frame.right) / 2.0, canvas.height - 7.0),
        Anchor::Middle,
        palette::MUTED,
    );
    frame.limit_lines(canvas, chart);
    let (low, high) = (points.across.min, points.across.max);
    let all: usize = points.series.iter().map(|one| one.points.len()).sum();
    for one in points.series {
        for (x, y) in &one.points {
            canvas.dot(
                (frame.across((x - low) / (high - low)), frame.y(*y)),
                2.2,
                palette::series(one.colour),
            );
            if all <= MOST_ASKED {
                canvas.says(|| {
                    let (across, up) = (&points.across.unit, &chart.axis.unit);
                    format!("{}: {{{x:.4}}} {across}, {{{y:.4}}} {up}", one.name)
                });
            }
        }
    }
    frame.limit_names(canvas, &chart.limits);
    if rows > 0 {
        let entries: Vec<_> = points
            .series
            .iter()
            .map(|one| (one.name.as_str(), palette::series(one.colour)))
            .collect();
        frame::legend(canvas, &entries);
    }
}

pub fn histogram(canvas: &mut Canvas, chart: &Chart, across: &ValueAxis, bins: &[Bin]) {
    let mut frame = Frame::new(canvas, &chart.axis, 20.0, 8.0);
    frame.bottom -= if across.unit.is_empty() { 0.0 } else { 14.0 };
    let counted = ValueAxis {
        unit: "count".to_owned(),
        ..chart.axis.clone()
    };
    frame.values(canvas, &counted);
    let x = |value: f64| frame.across((value - across.min) / (across.max - across.min));
    for bin in bins.iter().filter(|bin| bin.count > 0) {
        canvas.rectangle(
            (x(bin.from) + 0.5, frame.y(bin.count as f64)),
            (x(bin.to) - 0.5, frame.bottom),
            palette::series(0),
        );
        canvas.says(|| {
            let (from, to, unit) = (bin.from, bin.to, &across.unit);
            format!("{{{from}}} to {{{to}}} {unit}: {}", bin.count)
        });
    }
    marks(&frame, canvas, across);
    if !across.unit.is_empty() {
        canvas.text(
            &across.unit,
            ((frame.left + frame.right) / 2.0, canvas.height - 7.0),
            Anchor::Middle,
            palette::MUTED,
        );
    }
}

pub fn boxes_height(boxes: &[BoxRow]) -> f64 {
    boxes.len() as f64 * BOX_ROW + 40.0
}

#[expect(
    clippy::too_many_lines,
    reason = "draws from the back to the front; each part needs the places of the one before"
)]
pub fn boxes(canvas: &mut Canvas, chart: &Chart, boxes: &[BoxRow]) {
    let labels = boxes
        .iter()
        .map(|row| text_width(&row.label))
        .fold(0.0, f64::max)
        + 12.0;
    let bare = ValueAxis {
        unit: String::new(),
        min: 0.0,
        max: 1.0,
        ticks: Vec::new(),
    };
    let mut frame = Frame::new(canvas, &bare, 4.0, labels);
    frame.left = names_width(boxes.iter().map(|row| row.name.as_str()), canvas);
    frame.bottom = canvas.height
        - 24.0
        - if chart.axis.unit.is_empty() {
            0.0
        } else {
            12.0
        };
    let (low, high) = (chart.axis.min, chart.axis.max);
    let x = |value: f64| frame.across((value - low) / (high - low));
    for tick in &chart.axis.ticks {
        canvas.line(
            [(x(tick.at), frame.top), (x(tick.at), frame.bottom)],
            palette::RULE,
            0.7,
        );
    }
    for limit in &chart.limits {
        canvas.dashes(
            &[(x(limit.at), frame.top), (x(limit.at), frame.bottom)],
            LIMIT_DASHES,
            palette::status(limit.status),
            1.1,
        );
    }
    let row_height = (frame.bottom - frame.top) / boxes.len() as f64;
    for (index, row) in boxes.iter().enumerate() {
        let middle = frame.top + (index as f64 + 0.5) * row_height;
        canvas.text(
            &fit_name(&row.name, frame.left - 8.0),
            (frame.left - 6.0, middle),
            Anchor::End,
            palette::INK,
        );
        canvas.line(
            [(x(row.low), middle), (x(row.high), middle)],
            palette::MUTED,
            1.0,
        );
        for end in [row.low, row.high] {
            canvas.line(
                [(x(end), middle - 4.0), (x(end), middle + 4.0)],
                palette::MUTED,
                1.0,
            );
        }
        canvas.rectangle(
            (x(row.lower_quartile), middle - 6.0),
            (
                x(row.upper_quartile).max(x(row.lower_quartile) + 1.0),
                middle + 6.0,
            ),
            palette::tint(0),
        );
        canvas.line(
            [(x(row.median), middle - 6.5), (x(row.median), middle + 6.5)],
            palette::series(0),
            2.2,
        );
        for value in &row.outside {
            canvas.dot((x(*value), middle), 1.6, palette::series(1));
        }
        canvas.text(
            &row.label,
            (canvas.width, middle),
            Anchor::End,
            palette::INK,
        );
    }
    marks(&frame, canvas, &chart.axis);
    if !chart.axis.unit.is_empty() {
        canvas.text(
            &format!("{} (median at the right)", chart.axis.unit),
            ((frame.left + frame.right) / 2.0, canvas.height - 6.0),
            Anchor::Middle,
            palette::MUTED,
        );
    }
}
