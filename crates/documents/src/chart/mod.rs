//! Draws a chart as SVG. The judgement (ticks, scales, gaps) has been made in core; this
//! only puts ink where it belongs.

mod bars;
mod canvas;
mod lines;

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

/// The chart as a self-contained SVG with a title for screen readers.
pub fn svg(chart: &Chart, size: Size) -> Result<String, RenderError> {
    let height = match &chart.plot {
        Plot::Lines { .. } if size == Size::Full => 240.0,
        Plot::Lines { series, .. } => 220.0 + 16.0 * lines::legend_rows(series, size.width()).saturating_sub(1) as f64,
        Plot::Bars { categories, series } => bars::height(categories, series),
    };
    let mut canvas = Canvas::new(size.width(), height);
    match &chart.plot {
        Plot::Lines { axis, series } => lines::draw(&mut canvas, chart, axis, series, size)?,
        Plot::Bars { categories, series } => bars::draw(&mut canvas, chart, categories, series)?,
    }
    Ok(canvas.finish(&chart.description))
}

/// Draws several charts side by side on the processor's cores; answers in their order.
pub fn svgs(jobs: &[(&Chart, Size)]) -> Result<Vec<String>, RenderError> {
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let share = jobs.len().div_ceil(cores).max(1);
    let draw = |jobs: &[(&Chart, Size)]| jobs.iter().map(|(chart, size)| svg(chart, *size)).collect::<Result<Vec<_>, _>>();
    let parts: Result<Vec<Vec<String>>, RenderError> = std::thread::scope(|scope| {
        let workers: Vec<_> = jobs.chunks(share).map(|jobs| scope.spawn(move || draw(jobs))).collect();
        workers.into_iter().map(|worker| worker.join().unwrap_or_else(|_| Err(RenderError::Chart("drawing ended unexpectedly".to_owned())))).collect()
    });
    Ok(parts?.concat())
}
