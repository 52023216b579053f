//! Draws a chart as SVG. The judgement (ticks, scales, gaps) has been made in core; this
//! only puts ink where it belongs.

mod bars;
mod canvas;
mod lines;
pub mod typeset;

use maple_lark_core::chart::{Chart, Plot};

use crate::RenderError;
use canvas::Canvas;

/// How much room a chart has. One unit is a CSS pixel.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Size {
    /// The whole width of a page.
    Full,
    /// Half a page, or a phone.
    Half,
}

impl Size {
    fn width(self) -> f64 {
        match self {
            Size::Full => 720.0,
            Size::Half => 352.0,
        }
    }
}

fn height(chart: &Chart, size: Size) -> f64 {
    match &chart.plot {
        Plot::Lines { .. } if size == Size::Full => 240.0,
        Plot::Lines { series, .. } => 220.0 + 16.0 * lines::legend_rows(series, size.width()).saturating_sub(1) as f64,
        Plot::Bars { categories, series } => bars::height(categories, series),
    }
}

/// The chart as a picture that can be written as SVG or set on a page.
fn drawn(chart: &Chart, size: Size) -> Canvas {
    let mut canvas = Canvas::new(size.width(), height(chart, size));
    match &chart.plot {
        Plot::Lines { axis, series } => lines::draw(&mut canvas, chart, axis, series, size),
        Plot::Bars { categories, series } => bars::draw(&mut canvas, chart, categories, series),
    }
    canvas
}

/// The chart as a self-contained SVG with a title for screen readers.
pub fn svg(chart: &Chart, size: Size) -> Result<String, RenderError> {
    drawn(chart, size).svg(&chart.description)
}
