//! Lines and curves through points: least squares, and a straight line that outliers do not move.

use super::{Fitted, Forecast, Reach};
use crate::series;

/// Points that the robust line is made of; of more, these are taken evenly.
const MOST_POINTS: usize = 300;
/// The deviation of normal values as a multiple of their median absolute deviation.
const NORMAL: f64 = 1.4826;

/// A curve of this degree by least squares, over the values that are there.
///
/// Time is centred and scaled to [−1, 1], and the curve is a sum of polynomials that are
/// orthogonal on the points (Forsythe, "Generation and Use of Orthogonal Polynomials for
/// Data-Fitting", 1957), so that nothing is lost to rounding however long ago the first point is.
/// Nothing if there are no more points than coefficients.
pub fn curve(values: &[f64], degree: usize) -> Option<Fitted> {
    let last = (values.len().max(2) - 1) as f64;
    let scaled = move |place: f64| 2.0 * place / last - 1.0;
    let points: Vec<(f64, f64)> = values
        .iter()
        .enumerate()
        .filter(|(_, value)| value.is_finite())
        .map(|(place, value)| (scaled(place as f64), *value))
        .collect();
    let free = points.len().checked_sub(degree + 1).filter(|n| *n > 0)?;
    // The recurrence p(k+1) = (x − a) p(k) − b p(k−1), with each one's norm and weight.
    let mut terms: Vec<(f64, f64, f64, f64)> = Vec::new();
    let mut now = vec![1.0; points.len()];
    let mut before = vec![0.0; points.len()];
    let mut norm_before = 1.0;
    for term in 0..=degree {
        let norm = series::sum(now.iter().map(|p| p * p));
        let weight = series::sum(now.iter().zip(&points).map(|(p, (_, y))| p * y)) / norm;
        let a = series::sum(now.iter().zip(&points).map(|(p, (x, _))| x * p * p)) / norm;
        let b = if term == 0 { 0.0 } else { norm / norm_before };
        terms.push((a, b, norm, weight));
        let next = (0..points.len())
            .map(|i| (points[i].0 - a) * now[i] - b * before[i])
            .collect();
        before = std::mem::replace(&mut now, next);
        norm_before = norm;
    }
    let at = move |place: f64| {
        let x = scaled(place);
        let (mut value, mut lever, mut now, mut before) = (0.0, 0.0, 1.0, 0.0);
        for (a, b, norm, weight) in &terms {
            value += weight * now;
            lever += now * now / norm;
            (now, before) = ((x - a) * now - b * before, now);
        }
        (value, lever)
    };
    let fitted: Vec<f64> = (0..values.len()).map(|place| at(place as f64).0).collect();
    let squares = values.iter().zip(&fitted).map(|(y, fit)| (y - fit).powi(2));
    let variance = series::sum(squares.filter(|square| square.is_finite())) / free as f64;
    let from = values.len();
    Some(Fitted {
        fitted,
        ahead: Box::new(move |step| {
            let (value, lever) = at((from + step) as f64);
            Reach {
                value,
                deviation: (variance * (1.0 + lever)).sqrt(),
            }
        }),
        free: Some(free),
    })
}

fn median(mut values: Vec<f64>) -> f64 {
    series::percentile(&mut values, 50.0)
}

/// A straight line with the median of all slopes between two points (Theil 1950, Sen 1968).
/// Nothing with fewer than three points.
pub fn robust(values: &[f64]) -> Option<Fitted> {
    let there: Vec<(f64, f64)> = values
        .iter()
        .enumerate()
        .filter(|(_, value)| value.is_finite())
        .map(|(place, value)| (place as f64, *value))
        .collect();
    let every = there.len().div_ceil(MOST_POINTS).max(1);
    let points: Vec<(f64, f64)> = there.iter().copied().step_by(every).collect();
    if points.len() < 3 {
        return None;
    }
    let mut slopes = Vec::with_capacity(points.len() * (points.len() - 1) / 2);
    for (place, (x, y)) in points.iter().enumerate() {
        slopes.extend(
            points[place + 1..]
                .iter()
                .map(|(x2, y2)| (y2 - y) / (x2 - x)),
        );
    }
    let slope = median(slopes);
    let offset = median(there.iter().map(|(x, y)| y - slope * x).collect());
    let residuals = there.iter().map(|(x, y)| (y - offset - slope * x).abs());
    let deviation = NORMAL * median(residuals.collect());
    let count = there.len() as f64;
    let centre = series::sum(there.iter().map(|(x, _)| *x)) / count;
    let spread = series::sum(there.iter().map(|(x, _)| (x - centre).powi(2)));
    let from = values.len();
    Some(Fitted {
        fitted: (0..values.len())
            .map(|place| offset + slope * place as f64)
            .collect(),
        ahead: Box::new(move |step| {
            let x = (from + step) as f64;
            Reach {
                value: offset + slope * x,
                deviation: deviation * (1.0 + 1.0 / count + (x - centre).powi(2) / spread).sqrt(),
            }
        }),
        free: Some(there.len() - 2),
    })
}

impl Forecast {
    /// The last value, and with a season the one of the season before: what every method must be
    /// better than.
    pub(super) fn repeated(values: &[f64], season: Option<usize>, step: usize) -> f64 {
        let season = season.unwrap_or(1);
        let back = season - step % season;
        let from = values.len().saturating_sub(back);
        // Over a gap the one before it.
        (0..=from)
            .rev()
            .step_by(season)
            .filter_map(|place| values.get(place))
            .find(|value| value.is_finite())
            .copied()
            .unwrap_or(f64::NAN)
    }
}
