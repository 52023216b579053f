//! Bars: lying, so that names of any length can be read, one row or one group a category.

use maple_lark_core::{
    chart::{BarSeries, Chart},
    status::Status,
};

use super::canvas::{Anchor, Canvas, fit, text_width};
use crate::palette;

const BAR: f64 = 13.0;

fn row_height(series: &[BarSeries]) -> f64 {
    series.len().max(1) as f64 * BAR + 7.0
}

pub fn height(categories: &[String], series: &[BarSeries]) -> f64 {
    let legend = if series.len() > 1 { 18.0 } else { 0.0 };
    categories.len() as f64 * row_height(series) + legend + 40.0
}

pub fn draw(canvas: &mut Canvas, chart: &Chart, categories: &[String], series: &[BarSeries]) {
    let width = canvas.width;
    let label_width = categories.iter().map(|name| text_width(name)).fold(0.0, f64::max).min(width * 0.38) + 8.0;
    let value_width = series.iter().flat_map(|bars| &bars.labels).map(|label| text_width(label)).fold(0.0, f64::max) + 22.0;
    let top = if series.len() > 1 { 22.0 } else { 4.0 };
    let (left, right, bottom) = (label_width, width - value_width, canvas.height - 36.0);
    let (low, high) = (chart.axis.min, chart.axis.max);
    let x = |value: f64| left + (value - low) / (high - low) * (right - left);
    let base = x(0.0f64.clamp(low, high));
    let row = row_height(series);
    // A narrow figure has no room for every tick.
    let every = if right - left < 300.0 { 2 } else { 1 };
    if series.len() > 1 {
        let mut at = left;
        for bars in series {
            canvas.rectangle((at, 3.0), (at + 10.0, 13.0), palette::series(bars.colour));
            canvas.text(&bars.name, (at + 15.0, 8.0), Anchor::Start, palette::INK);
            at += text_width(&bars.name) + 32.0;
        }
    }
    for (index, tick) in chart.axis.ticks.iter().enumerate() {
        let at = x(tick.at);
        canvas.line([(at, top), (at, bottom)], palette::RULE, 0.7);
        if index % every == 0 {
            canvas.text(&tick.label, (at, bottom + 10.0), Anchor::Middle, palette::MUTED);
        }
    }
    if !chart.axis.unit.is_empty() {
        canvas.text(&chart.axis.unit, (right + 10.0 + text_width("0,000") / 2.0, bottom + 10.0), Anchor::Start, palette::MUTED);
    }
    for limit in &chart.limits {
        let (at, colour) = (x(limit.at), palette::status(limit.status));
        canvas.dashed((at, top), (at, bottom + 17.0), colour, 1.1);
        let half = text_width(&limit.label) / 2.0;
        canvas.text(&limit.label, (at.clamp(half, width - half), bottom + 25.0), Anchor::Middle, colour);
    }
    for (index, category) in categories.iter().enumerate() {
        let y = top + 3.0 + index as f64 * row;
        let middle = y + series.len() as f64 * BAR / 2.0;
        canvas.text(&fit(category, label_width - 8.0), (left - 6.0, middle), Anchor::End, palette::INK);
        for (number, bars) in series.iter().enumerate() {
            let (status, label) = (bars.statuses[index], &bars.labels[index]);
            let bar_top = y + number as f64 * BAR;
            let end = bars.values[index].map_or(base, |value| x(value.clamp(low, high)));
            let marked = status >= Status::Warning;
            let colour = if marked { palette::status(status) } else { palette::series(bars.colour) };
            // A bar without length is no shape at all to those who read the SVG.
            if (end - base).abs() > 0.05 {
                canvas.rectangle((base.min(end), bar_top), (end.max(base), bar_top + BAR - 2.0), colour);
            }
            let text = if marked { format!("{} {label}", palette::mark(status)) } else { label.clone() };
            let place = (end.max(base) + 5.0, bar_top + BAR / 2.0 - 1.0);
            canvas.text(&text, place, Anchor::Start, if marked { colour } else { palette::INK });
        }
    }
    canvas.line([(base, top), (base, bottom)], palette::MUTED, 0.9);
}
