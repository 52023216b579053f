//! Values over time: calendar grid, day shading, threshold lines, gaps, names beside lines.

use maple_lark_definition::LineStyle;
use maple_lark_document::chart::{Chart, Series, Span, TimeAxis};

use super::{
    Size,
    canvas::{Anchor, Canvas, fit, fit_name, text_width},
    frame::{self, Frame},
};
use crate::palette;

const LINE_HEIGHT: f64 = 14.0;

/// How many rows the legend takes above a narrow figure.
pub fn legend_rows(series: &[Series], width: f64) -> usize {
    let (named, others) = told_apart(series);
    let others = others.as_deref();
    frame::legend_rows(
        named
            .iter()
            .map(|series| series.name.as_str())
            .chain(others),
        width,
    )
}

/// The lines that have names, and what the others are called together.
fn told_apart(series: &[Series]) -> (Vec<&Series>, Option<String>) {
    let named: Vec<&Series> = series.iter().filter(|one| !one.behind).collect();
    let others = series.len() - named.len();
    (named, (others > 0).then(|| format!("{others} others")))
}

/// What is drawn over time.
pub struct Lines<'a> {
    pub axis: &'a TimeAxis,
    pub series: &'a [Series],
    pub style: LineStyle,
    pub spans: &'a [Span],
}

#[expect(
    clippy::too_many_lines,
    reason = "draws from the back to the front; each part needs the places of the one before"
)]
pub fn draw(canvas: &mut Canvas, chart: &Chart, lines: &Lines<'_>, size: Size) {
    let Lines {
        axis,
        series,
        style,
        spans,
    } = *lines;
    let several = series.len() > 1;
    // Names stand where lines end; a stack has them in its legend, in its order.
    let beside = several && size.is_wide() && style != LineStyle::Stacked;
    let (named, others) = told_apart(series);
    let rows = if several && !beside {
        legend_rows(series, canvas.width)
    } else {
        0
    };
    let names = if beside {
        named
            .iter()
            .map(|series| text_width(&series.name))
            .fold(0.0, f64::max)
            .min(150.0)
            + 16.0
    } else {
        6.0
    };
    let span_room = if spans.is_empty() { 0.0 } else { 14.0 };
    let frame = Frame::new(
        canvas,
        &chart.axis,
        rows as f64 * frame::LEGEND_ROW + 20.0 + span_room,
        names,
    );
    canvas.framed([frame.left, frame.right, frame.top, frame.bottom]);
    frame.limit_bands(canvas, chart);
    frame.shading(canvas, axis);
    for span in spans {
        let (from, to) = (frame.time(axis, span.from), frame.time(axis, span.to));
        canvas.rectangle(
            (from, frame.top - 2.0),
            (to.max(from + 1.0), frame.bottom),
            palette::SPAN,
        );
        canvas.rectangle(
            (from, frame.top - 4.0),
            (to.max(from + 1.0), frame.top - 2.0),
            palette::SPAN_EDGE,
        );
        let half = text_width(&span.title) / 2.0;
        let middle = ((from + to) / 2.0).clamp(
            frame.left + half.min(200.0),
            (canvas.width - half).max(frame.left + half.min(200.0)),
        );
        canvas.text(
            &fit(&span.title, canvas.width - frame.left),
            (middle, frame.top - 11.0),
            Anchor::Middle,
            palette::SPAN_EDGE,
        );
    }
    frame.values(canvas, &chart.axis);
    frame.times(canvas, axis, size);
    frame.limit_lines(canvas, chart);
    // The upper areas of a stack are drawn first, so that each shows only its own part.
    let order: Vec<&Series> = if style == LineStyle::Stacked {
        series.iter().rev().collect()
    } else {
        series.iter().collect()
    };
    let (behind, before): (Vec<&Series>, Vec<&Series>) =
        order.into_iter().partition(|one| one.behind);
    for one in behind.into_iter().chain(before) {
        let place = named.iter().position(|named| std::ptr::eq(*named, one));
        let dashed = place.is_some_and(palette::is_dashed);
        canvas.series(number_of(one, series), |canvas| {
            curve(canvas, &frame, axis, one, style, dashed);
        });
    }
    frame.limit_names(canvas, &chart.limits);
    if beside {
        names_beside(canvas, &frame, (&named, series), names);
        if let Some(others) = others {
            canvas.text(
                &format!("{others} in grey"),
                (frame.right, frame.top - 12.0),
                Anchor::End,
                palette::MUTED,
            );
        }
    } else if several {
        let mut entries: Vec<_> = named
            .iter()
            .map(|one| (one.name.as_str(), palette::series(one.colour)))
            .collect();
        entries.extend(others.as_deref().map(|name| (name, palette::BEHIND)));
        frame::legend(canvas, &entries);
    }
}

/// The number of a line among those that its reader can switch off: without the grey ones behind.
fn number_of(one: &Series, all: &[Series]) -> usize {
    let mut others = all.iter().filter(|other| other.behind == one.behind);
    let place = others.position(|other| std::ptr::eq(other, one));
    place.unwrap_or_default() + if one.behind { all.len() } else { 0 }
}

fn curve(
    canvas: &mut Canvas,
    frame: &Frame,
    axis: &TimeAxis,
    one: &Series,
    style: LineStyle,
    dashed: bool,
) {
    let colour = if one.behind {
        palette::BEHIND
    } else {
        palette::series(one.colour)
    };
    let wide = if one.behind { 0.8 } else { 1.5 };
    let base = frame.y(0.0);
    let place = frame.places(axis);
    for stretch in &one.stretches {
        let mut points: Vec<(f64, f64)> = stretch
            .iter()
            .map(|(at, value)| (place(*at), frame.y(*value)))
            .collect();
        if let [(x, y)] = points[..] {
            canvas.dot((x, y), 1.8, colour);
            continue;
        }
        if style == LineStyle::Steps {
            points = points
                .windows(2)
                .flat_map(|pair| [pair[0], (pair[1].0, pair[0].1)])
                .chain(points.last().copied())
                .collect();
        }
        if let (LineStyle::Area | LineStyle::Stacked, false, Some(first), Some(last)) =
            (style, one.behind, points.first(), points.last())
        {
            let corners = [(last.0, base), (first.0, base)];
            let fill = if style == LineStyle::Stacked {
                colour
            } else {
                palette::tint(one.colour)
            };
            canvas.area(points.iter().copied().chain(corners), fill);
        }
        if style == LineStyle::Stacked {
            canvas.line(points, palette::PAPER, 0.8);
        } else if dashed {
            canvas.dashes(&points, (5.0, 2.5), colour, wide);
        } else {
            canvas.line(points, colour, wide);
        }
    }
}

/// Each line's name at the height where the line ends, moved apart where they would touch
/// and tied to the line's end.
fn names_beside(
    canvas: &mut Canvas,
    frame: &Frame,
    (series, all): (&[&Series], &[Series]),
    room: f64,
) {
    let end = |one: &&Series| {
        one.stretches
            .last()
            .and_then(|stretch| stretch.last())
            .map_or(frame.bottom, |(_, value)| frame.y(*value))
    };
    let mut places: Vec<(usize, f64, f64)> = series
        .iter()
        .enumerate()
        .map(|(i, one)| (i, end(one), end(one)))
        .collect();
    places.sort_by(|a, b| a.1.total_cmp(&b.1));
    for i in 1..places.len() {
        places[i].2 = places[i].2.max(places[i - 1].2 + LINE_HEIGHT);
    }
    let lowest = frame.bottom + 4.0;
    for i in (0..places.len()).rev() {
        let limit = if i + 1 < places.len() {
            places[i + 1].2 - LINE_HEIGHT
        } else {
            lowest
        };
        places[i].2 = places[i].2.min(limit);
    }
    for (index, from, to) in places {
        let one = series[index];
        canvas.series(number_of(one, all), |canvas| {
            canvas.line(
                [(frame.right + 1.0, from), (frame.right + 9.0, to)],
                palette::series(one.colour),
                0.9,
            );
            canvas.text(
                &fit_name(&one.name, room - 12.0),
                (frame.right + 12.0, to),
                Anchor::Start,
                palette::series_ink(one.colour),
            );
        });
    }
}
