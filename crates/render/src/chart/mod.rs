//! Draws a chart as SVG. The judgement (ticks, scales, gaps) has been made in core; this
//! only puts ink where it belongs.

mod availability;
mod bars;
pub(crate) mod canvas;
mod forecast;
mod frame;
mod lines;
mod multiples;
mod plots;
mod polar;
pub(crate) mod values;

use maple_lark_definition::{LineStyle, Width};
use maple_lark_document::chart::{Chart, Plot};

use canvas::Canvas;

/// How much room a chart has: twelfths of a page. One unit is a CSS pixel.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Size(Width);

impl Size {
    /// The whole width of a page.
    #[cfg(test)]
    pub const FULL: Self = Self(Width::FULL);
    /// Half a page, or a phone.
    pub const HALF: Self = Self(Width::HALF);
    /// A mail, whose pictures a phone makes smaller: there their letters are read, too.
    pub const MAIL: Self = Self(Width::TWO_THIRDS);

    /// What a block of this width has. Labels have one size, so a chart is never drawn
    /// narrower than they need.
    pub fn of(width: Width) -> Self {
        Self(width.max(Width::LEAST_OF_CHARTS))
    }

    pub fn width(self) -> f64 {
        self.0.of(720.0, 16.0)
    }

    /// Whether names fit beside the lines.
    fn is_wide(self) -> bool {
        self.0 > Width::HALF
    }

    /// How many labels of instants fit.
    fn most_times(self) -> usize {
        usize::from(self.0.twelfths()) * 9 / 12
    }
}

pub fn height(chart: &Chart, size: Size) -> f64 {
    match &chart.plot {
        Plot::Lines {
            series,
            style,
            spans,
            ..
        } => {
            let above = if !size.is_wide() || *style == LineStyle::Stacked {
                16.0 * lines::legend_rows(series, size.width()).saturating_sub(1) as f64
            } else {
                0.0
            };
            let span_names = if spans.is_empty() { 0.0 } else { 14.0 };
            span_names + above + if size.is_wide() { 196.0 } else { 188.0 }
        }
        Plot::Bars {
            categories,
            series,
            form,
        } => bars::height(categories, series, *form, size.width()),
        Plot::Steps { steps } => bars::steps_height(steps),
        Plot::Heat { rows, .. } => plots::heat_height(rows),
        Plot::Multiples { charts, .. } => multiples::height(charts.len(), size),
        Plot::Polar { series, .. } => polar::height(series, size),
        Plot::Timeline { rows, .. } => plots::timeline_height(rows),
        Plot::Availability { rows, .. } => availability::height(rows),
        Plot::Forecast(_) => forecast::height(size),
        Plot::Points { series, .. } => plots::points_height(series, size.width()),
        Plot::Histogram { .. } => 188.0,
        Plot::Boxes { boxes } => plots::boxes_height(boxes),
        Plot::Share { parts, round } => bars::share_height(parts, *round),
    }
}

/// The chart as a picture that can be written as SVG or set on a page.
pub fn drawn(chart: &Chart, size: Size) -> Canvas {
    drawn_on(Canvas::new(size.width(), height(chart, size)), chart, size)
}

#[expect(clippy::too_many_lines, reason = "one arm a kind of chart")]
fn drawn_on(mut canvas: Canvas, chart: &Chart, size: Size) -> Canvas {
    let to = &mut canvas;
    match &chart.plot {
        Plot::Lines {
            axis,
            series,
            style,
            spans,
        } => lines::draw(
            to,
            chart,
            &lines::Lines {
                axis,
                series,
                style: *style,
                spans,
            },
            size,
        ),
        Plot::Bars {
            categories,
            series,
            form,
        } => bars::draw(to, chart, categories, series, *form),
        Plot::Steps { steps } => bars::breakdown(to, chart, steps),
        Plot::Heat {
            columns,
            rows,
            cells,
            low,
            high,
        } => plots::heat(
            to,
            &plots::Heat {
                columns,
                rows,
                cells,
                low,
                high,
            },
        ),
        Plot::Multiples { times, charts } => multiples::draw(to, chart, times, charts, size),
        Plot::Polar { sectors, series } => polar::draw(to, chart, sectors, series, size),
        Plot::Timeline { axis, rows } => plots::timeline(to, axis, rows, size),
        Plot::Availability { rows, times } => {
            availability::draw(to, &chart.axis, rows, times, size);
        }
        Plot::Forecast(plot) => forecast::draw(to, chart, plot, size),
        Plot::Points {
            across,
            across_title,
            up_title,
            series,
        } => plots::points(
            to,
            chart,
            &plots::Points {
                across,
                across_title,
                up_title,
                series,
            },
        ),
        Plot::Histogram { across, bins } => plots::histogram(to, chart, across, bins),
        Plot::Boxes { boxes } => plots::boxes(to, chart, boxes),
        Plot::Share { parts, round } => bars::share(to, parts, *round),
    }
    canvas
}

/// The chart as a self-contained SVG with a title for screen readers.
pub fn svg(chart: &Chart, size: Size) -> String {
    drawn(chart, size).svg(&chart.description)
}

/// The chart for a page in one size, or in two (see [`Canvas::svgs`]); with `answers`, with what its
/// reader can ask for.
pub fn on_page(chart: &Chart, size: Size, name: &str, answers: bool) -> (String, Option<String>) {
    let drawn = |size: Size| {
        let canvas = Canvas::new(size.width(), height(chart, size)).answering(answers);
        drawn_on(canvas, chart, size)
    };
    // A phone gets a figure drawn for its width instead of a shrunken one.
    if size == Size::HALF {
        return (drawn(size).svg(&chart.description), None);
    }
    let (wide, narrow) = drawn(size).svgs(&drawn(Size::HALF), &chart.description, name);
    (wide, Some(narrow))
}
