//! Bars: lying, so that names of any length can be read, one row, group or stack a category;
//! or standing, where categories are few and short.

use maple_lark_data::status::Status;
use maple_lark_definition::BarForm;
use maple_lark_document::chart::{BarSeries, BreakdownStep, Chart, Limit, SharePart};

use super::{
    canvas::{Anchor, Canvas, LIMIT_DASHES, fit_name, text_width},
    frame::{self, Frame},
};
use crate::palette;

const BAR: f64 = 13.0;

fn row_height(series: &[BarSeries], form: BarForm) -> f64 {
    if form.stacked {
        BAR + 8.0
    } else {
        series.len().max(1) as f64 * BAR + 7.0
    }
}

fn legend_height(series: &[BarSeries], width: f64) -> f64 {
    frame::legend_rows(series.iter().map(|bars| bars.name.as_str()), width) as f64
        * frame::LEGEND_ROW
}

pub fn height(categories: &[String], series: &[BarSeries], form: BarForm, width: f64) -> f64 {
    let legend = legend_height(series, width);
    if form.upright {
        188.0
            + legend
            + if in_two_lines(categories, width) {
                frame::NAME_ROW
            } else {
                0.0
            }
    } else {
        categories.len() as f64 * row_height(series, form) + legend + 42.0
    }
}

fn named(canvas: &mut Canvas, series: &[BarSeries]) {
    if series.len() > 1 {
        let entries: Vec<_> = series
            .iter()
            .map(|bars| (bars.name.as_str(), palette::series(bars.colour)))
            .collect();
        frame::legend(canvas, &entries);
    }
}

/// What lies along: from the names at the left to the labels at the right.
struct Lying {
    left: f64,
    right: f64,
    top: f64,
    bottom: f64,
    low: f64,
    high: f64,
}

impl Lying {
    fn new<'n>(
        canvas: &Canvas,
        chart: &Chart,
        names: impl Iterator<Item = &'n str>,
        labels: f64,
        top: f64,
    ) -> Self {
        let left = names
            .map(text_width)
            .fold(0.0, f64::max)
            .min(canvas.width * 0.38)
            + 8.0;
        Self {
            left,
            right: canvas.width - labels - 22.0,
            top,
            bottom: canvas.height - 36.0,
            low: chart.axis.min,
            high: chart.axis.max,
        }
    }

    fn x(&self, value: f64) -> f64 {
        self.left
            + (value.clamp(self.low, self.high) - self.low) / (self.high - self.low)
                * (self.right - self.left)
    }

    fn grid(&self, canvas: &mut Canvas, chart: &Chart) {
        // A narrow figure has no room for every tick.
        let every = if self.right - self.left < 300.0 { 2 } else { 1 };
        for (index, tick) in chart.axis.ticks.iter().enumerate() {
            let at = self.x(tick.at);
            canvas.line([(at, self.top), (at, self.bottom)], palette::RULE, 0.7);
            if index % every == 0 {
                canvas.text(
                    &tick.label,
                    (at, self.bottom + 10.0),
                    Anchor::Middle,
                    palette::MUTED,
                );
            }
        }
        if !chart.axis.unit.is_empty() {
            let end = (self.right + 10.0 + text_width("0,000") / 2.0)
                .min(canvas.width - text_width(&chart.axis.unit));
            canvas.text(
                &chart.axis.unit,
                (end, self.bottom + 10.0),
                Anchor::Start,
                palette::MUTED,
            );
        }
        let mut limits: Vec<&Limit> = chart.limits.iter().collect();
        limits.sort_by(|a, b| a.at.total_cmp(&b.at));
        let wanted: Vec<(f64, f64)> = limits
            .iter()
            .map(|limit| (self.x(limit.at), text_width(&limit.label)))
            .collect();
        for (limit, middle) in limits.iter().zip(apart(&wanted, canvas.width)) {
            let (at, colour) = (self.x(limit.at), palette::status(limit.status));
            canvas.dashes(
                &[(at, self.top), (at, self.bottom + 17.0)],
                LIMIT_DASHES,
                colour,
                1.1,
            );
            canvas.text(
                &limit.label,
                (middle, self.bottom + 25.0),
                Anchor::Middle,
                colour,
            );
        }
    }

    fn name(&self, canvas: &mut Canvas, name: &str, y: f64) {
        canvas.text(
            &fit_name(name, self.left - 8.0),
            (self.left - 6.0, y),
            Anchor::End,
            palette::INK,
        );
    }
}

/// The middles of labels that stand in one line, each as near to where it is wanted as the
/// others and the edges let it. `wanted` has middles, from left to right, and widths.
fn apart(wanted: &[(f64, f64)], room: f64) -> Vec<f64> {
    const AIR: f64 = 8.0;
    let mut middles: Vec<f64> = wanted.iter().map(|(middle, _)| *middle).collect();
    let least = |i: usize| (wanted[i - 1].1 + wanted[i].1) / 2.0 + AIR;
    for i in 1..middles.len() {
        let missing = least(i) - (middles[i] - middles[i - 1]);
        if missing > 0.0 {
            middles[i - 1] -= missing / 2.0;
            middles[i] += missing / 2.0;
        }
    }
    for i in (0..middles.len()).rev() {
        let edge = if i + 1 < middles.len() {
            middles[i + 1] - least(i + 1)
        } else {
            room - wanted[i].1 / 2.0
        };
        middles[i] = middles[i].min(edge);
    }
    for i in 0..middles.len() {
        let edge = if i > 0 {
            middles[i - 1] + least(i)
        } else {
            wanted[i].1 / 2.0
        };
        middles[i] = middles[i].max(edge);
    }
    middles
}

#[expect(
    clippy::too_many_lines,
    reason = "draws from the back to the front; each part needs the places of the one before"
)]
pub fn draw(
    canvas: &mut Canvas,
    chart: &Chart,
    categories: &[String],
    series: &[BarSeries],
    form: BarForm,
) {
    if form.upright {
        return standing(canvas, chart, categories, series, form);
    }
    let label = |label: &String| text_width(label);
    let widest = if form.stacked {
        0.0
    } else {
        series
            .iter()
            .flat_map(|bars| &bars.labels)
            .map(label)
            .fold(0.0, f64::max)
    };
    let top = legend_height(series, canvas.width) + 6.0;
    let along = Lying::new(
        canvas,
        chart,
        categories.iter().map(String::as_str),
        widest,
        top,
    );
    let base = along.x(0.0);
    let row = row_height(series, form);
    named(canvas, series);
    along.grid(canvas, chart);
    for (index, category) in categories.iter().enumerate() {
        let y = top + 3.0 + index as f64 * row;
        let bars_high = if form.stacked {
            BAR
        } else {
            series.len() as f64 * BAR
        };
        along.name(canvas, category, y + bars_high / 2.0);
        let mut level = 0.0;
        for (number, bars) in series.iter().enumerate() {
            let Some(value) = bars.values[index] else {
                if !form.stacked {
                    canvas.text(
                        "–",
                        (base + 5.0, y + number as f64 * BAR + BAR / 2.0 - 1.0),
                        Anchor::Start,
                        palette::MUTED,
                    );
                }
                continue;
            };
            if form.stacked {
                let (from, to) = (along.x(level), along.x(level + value));
                level += value;
                if to - from > 0.05 {
                    canvas.rectangle((from, y), (to, y + BAR), palette::series(bars.colour));
                    canvas.says(|| bar_in_words(category, series, (bars, index)));
                    canvas.line([(to, y), (to, y + BAR)], palette::PAPER, 0.8);
                }
                continue;
            }
            let (status, label) = (bars.statuses[index], &bars.labels[index]);
            let (end, bar_top) = (along.x(value), y + number as f64 * BAR);
            let marked = status >= Status::Warning;
            let colour = if marked {
                palette::status(status)
            } else {
                palette::series(bars.colour)
            };
            // A bar without length is no shape at all to those who read the SVG.
            if (end - base).abs() > 0.05 {
                canvas.rectangle(
                    (base.min(end), bar_top),
                    (end.max(base), bar_top + BAR - 2.0),
                    colour,
                );
                canvas.says(|| bar_in_words(category, series, (bars, index)));
            }
            let text = if marked {
                format!("{} {label}", palette::mark(status))
            } else {
                label.clone()
            };
            let place = (end.max(base) + 5.0, bar_top + BAR / 2.0 - 1.0);
            let ends = place.0 + text_width(&text);
            if chart
                .limits
                .iter()
                .map(|limit| along.x(limit.at))
                .any(|line| line > place.0 && line < ends)
            {
                canvas.rectangle(
                    (place.0 - 2.0, place.1 - 6.0),
                    (ends + 2.0, place.1 + 6.0),
                    palette::PAPER,
                );
            }
            canvas.text(
                &text,
                place,
                Anchor::Start,
                if marked { colour } else { palette::INK },
            );
        }
    }
    canvas.line([(base, top), (base, along.bottom)], palette::MUTED, 0.9);
}

/// The most room that the name of a standing bar takes.
const LONGEST_NAME: f64 = 90.0;

/// How many names stand in one line under bars that have `room` in all, with `air` between two.
fn names_in_a_line(categories: &[String], room: f64, air: f64) -> usize {
    (room
        / (categories
            .iter()
            .map(|name| text_width(name))
            .fold(0.0, f64::max)
            .min(LONGEST_NAME)
            + air))
        .max(1.0) as usize
}

/// Whether the names of standing bars stand in two lines by turns: where one has no room for all.
fn in_two_lines(categories: &[String], width: f64) -> bool {
    // What the labels of the axis leave.
    let room = width - 50.0;
    (names_in_a_line(categories, room, 10.0) + 1..=2 * names_in_a_line(categories, room, 5.0))
        .contains(&categories.len())
}

#[expect(
    clippy::too_many_lines,
    reason = "draws from the back to the front; each part needs the places of the one before"
)]
fn standing(
    canvas: &mut Canvas,
    chart: &Chart,
    categories: &[String],
    series: &[BarSeries],
    form: BarForm,
) {
    let mut frame = Frame::new(
        canvas,
        &chart.axis,
        legend_height(series, canvas.width) + 20.0,
        6.0,
    );
    let by_turns = in_two_lines(categories, canvas.width);
    if by_turns {
        frame.bottom -= frame::NAME_ROW;
    }
    frame.values(canvas, &chart.axis);
    named(canvas, series);
    let slot = (frame.right - frame.left) / categories.len() as f64;
    let (room, base) = (slot * 0.78, frame.y(0.0));
    let width = (if form.stacked {
        room
    } else {
        room / series.len().max(1) as f64
    })
    .min(46.0);
    for (index, category) in categories.iter().enumerate() {
        let middle = frame.left + (index as f64 + 0.5) * slot;
        let mut level = 0.0;
        for (number, bars) in series.iter().enumerate() {
            let Some(value) = bars.values[index] else {
                continue;
            };
            let marked = bars.statuses[index] >= Status::Warning;
            let colour = if marked {
                palette::status(bars.statuses[index])
            } else {
                palette::series(bars.colour)
            };
            let (left, from, to) = if form.stacked {
                let from = frame.y(level);
                level += value;
                (middle - width / 2.0, from, frame.y(level))
            } else {
                (
                    middle + (number as f64 - series.len() as f64 / 2.0) * width,
                    base,
                    frame.y(value),
                )
            };
            if (from - to).abs() > 0.05 {
                let gap = if form.stacked || width < 4.0 {
                    0.0
                } else {
                    1.0
                };
                canvas.rectangle(
                    (left, from.min(to)),
                    (left + width - gap, from.max(to)),
                    colour,
                );
                canvas.says(|| bar_in_words(category, series, (bars, index)));
                if form.stacked {
                    canvas.line([(left, to), (left + width, to)], palette::PAPER, 0.8);
                }
            }
            if marked && !form.stacked {
                canvas.text(
                    palette::mark(bars.statuses[index]),
                    (left + width / 2.0, from.min(to) - 7.0),
                    Anchor::Middle,
                    colour,
                );
            }
        }
    }
    frame.limit_lines(canvas, chart);
    frame.limit_names(canvas, &chart.limits);
    let names: Vec<String> = categories
        .iter()
        .map(|name| fit_name(name, LONGEST_NAME))
        .collect();
    let marks: Vec<(f64, &str)> = names
        .iter()
        .enumerate()
        .map(|(index, name)| (frame.left + (index as f64 + 0.5) * slot, name.as_str()))
        .collect();
    if by_turns {
        frame.marks_by_turns(canvas, &marks);
    } else {
        frame.marks(
            canvas,
            &marks,
            names_in_a_line(categories, frame.right - frame.left, 10.0),
        );
    }
    canvas.line(
        [(frame.left, base), (frame.right, base)],
        palette::MUTED,
        0.9,
    );
}

fn bar_in_words(category: &str, series: &[BarSeries], (of, index): (&BarSeries, usize)) -> String {
    let label = &of.labels[index];
    match series {
        [_] => format!("{category}: {label}"),
        _ => format!("{category}, {}: {label}", of.name),
    }
}

pub fn steps_height(steps: &[BreakdownStep]) -> f64 {
    steps.len() as f64 * (BAR + 9.0) + 42.0
}

/// Each step hangs where the one before it has ended.
pub fn breakdown(canvas: &mut Canvas, chart: &Chart, steps: &[BreakdownStep]) {
    let widest = steps
        .iter()
        .map(|step| text_width(&step.label))
        .fold(0.0, f64::max);
    let along = Lying::new(
        canvas,
        chart,
        steps.iter().map(|step| step.title.as_str()),
        widest,
        6.0,
    );
    along.grid(canvas, chart);
    for (index, step) in steps.iter().enumerate() {
        let y = along.top + 4.0 + index as f64 * (BAR + 9.0);
        let (from, to) = (along.x(step.from), along.x(step.to));
        along.name(canvas, &step.title, y + BAR / 2.0);
        let colour = match step {
            BreakdownStep { total: true, .. } => palette::series(0),
            BreakdownStep { from, to, .. } if to < from => palette::LESS,
            _ => palette::MORE,
        };
        if (to - from).abs() > 0.05 {
            canvas.rectangle((from.min(to), y), (from.max(to), y + BAR), colour);
            canvas.says(|| format!("{}: {}", step.title, step.label));
        }
        // The level is handed on to the next step.
        if index + 1 < steps.len() {
            canvas.line([(to, y + BAR), (to, y + BAR + 9.0)], palette::MUTED, 0.7);
        }
        canvas.text(
            &step.label,
            (from.max(to) + 5.0, y + BAR / 2.0),
            Anchor::Start,
            palette::INK,
        );
    }
    let base = along.x(0.0);
    canvas.line(
        [(base, along.top), (base, along.bottom)],
        palette::MUTED,
        0.9,
    );
}

pub fn share_height(parts: &[SharePart], round: bool) -> f64 {
    let list = parts.len() as f64 * 17.0;
    if round {
        list.max(150.0) + 8.0
    } else {
        list + 36.0
    }
}

/// The whole as one bar, with each part named below it; or as a circle with the names beside.
pub fn share(canvas: &mut Canvas, parts: &[SharePart], round: bool) {
    let (mut at, radius) = (0.0, 70.0);
    let centre = (radius + 4.0, radius + 6.0);
    for part in parts {
        let next = at + part.share;
        if round {
            let arc = |share: f64| {
                let angle = (share - 0.25) * std::f64::consts::TAU;
                (
                    centre.0 + radius * angle.cos(),
                    centre.1 + radius * angle.sin(),
                )
            };
            let fine = (part.share * 120.0).ceil().max(1.0) as usize;
            let edge = (0..=fine).map(|i| arc(at + part.share * i as f64 / fine as f64));
            canvas.area(edge.chain([centre]), palette::series(part.colour));
            canvas.says(|| format!("{}: {}", part.name, part.label));
            canvas.line([centre, arc(at)], palette::PAPER, 1.2);
        } else {
            let (from, to) = (at * canvas.width, next * canvas.width);
            canvas.rectangle((from, 2.0), (to, 26.0), palette::series(part.colour));
            canvas.says(|| format!("{}: {}", part.name, part.label));
            canvas.line([(to, 2.0), (to, 26.0)], palette::PAPER, 1.2);
        }
        at = next;
    }
    let (left, top) = if round {
        (2.0 * radius + 26.0, 8.0)
    } else {
        (0.0, 36.0)
    };
    for (index, part) in parts.iter().enumerate() {
        let y = top + index as f64 * 17.0 + 6.0;
        canvas.rectangle(
            (left, y - 5.0),
            (left + 10.0, y + 5.0),
            palette::series(part.colour),
        );
        let room = canvas.width - left - text_width(&part.label) - 30.0;
        let name = fit_name(&part.name, room);
        canvas.text(&name, (left + 16.0, y), Anchor::Start, palette::INK);
        canvas.text(
            &part.label,
            (left + 22.0 + text_width(&name), y),
            Anchor::Start,
            palette::MUTED,
        );
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn labels_that_would_touch_are_moved_apart_and_stay_in_sight() {
        assert_eq!(apart(&[(50.0, 20.0), (150.0, 20.0)], 200.0), [50.0, 150.0]);
        assert_eq!(apart(&[(100.0, 40.0), (110.0, 40.0)], 300.0), [81.0, 129.0]);
        assert_eq!(
            apart(&[(190.0, 40.0), (195.0, 40.0)], 200.0),
            [132.0, 180.0]
        );
        assert_eq!(apart(&[(2.0, 40.0)], 200.0), [20.0]);
        assert_eq!(apart(&[], 200.0), Vec::<f64>::new());
    }

    proptest! {
        #[test]
        fn labels_never_touch_where_there_is_room_for_them(a in 0.0..300.0f64, b in 0.0..300.0f64, wide in 5.0..60.0f64) {
            let wanted = [(a.min(b), wide), (a.max(b), wide)];
            let middles = apart(&wanted, 300.0);
            prop_assert!(middles[1] - middles[0] >= wide + 7.99, "{middles:?}");
            prop_assert!(middles[0] >= wide / 2.0 - 0.01 && middles[1] <= 300.0 - wide / 2.0 + 0.01, "{middles:?}");
        }
    }
}
