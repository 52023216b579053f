//! How wrong a method was: the last part of the past is held back, forecast, and compared.

use super::{Fitted, Forecast, Method, NINETY_FIVE, reach_of};
use crate::series;

/// The share of the past that is held back.
const HELD_BACK: usize = 5;

/// How wrong a method was on what was held back.
#[derive(Debug, Clone, Copy)]
pub struct Accuracy {
    pub method: Method,
    /// The mean of the errors without their sign.
    pub error: f64,
    /// The mean of the errors as a share of the values, in percent; nothing where all are zero.
    pub percent: Option<f64>,
    /// The error, by that of repeating the last value, or season, within the past before.
    pub scaled: Option<f64>,
    /// How many percent of the values lay within the 95 % interval.
    pub covered: f64,
    /// The error of repeating the last value, or season, over the same values.
    pub repeated: f64,
}

impl Accuracy {
    /// Whether the method was any better than repeating.
    pub fn is_better(&self) -> bool {
        self.error < self.repeated
    }
}

/// How wrong a method was; nothing where it cannot be fitted to what is left.
pub fn judge(method: Method, values: &[f64], season: Option<usize>) -> Option<Accuracy> {
    let held = (values.len() / HELD_BACK).max(1);
    let (past, future) = values.split_at(values.len() - held);
    let season = season.filter(|season| past.len() >= 2 * season);
    let fitted = method.fit(past, season)?;
    let wide = reach_of(NINETY_FIVE, fitted.free);
    let (mut errors, mut shares, mut repeated, mut within) = (vec![], vec![], vec![], 0usize);
    for (step, value) in future.iter().enumerate().filter(|(_, v)| v.is_finite()) {
        let reach = (fitted.ahead)(step);
        let error = (value - reach.value).abs();
        errors.push(error);
        if *value != 0.0 {
            shares.push(error / value.abs());
        }
        repeated.push((value - Forecast::repeated(past, season, step)).abs());
        // What rounding leaves of an exact line is not outside of it.
        let slack = 1e-9 * value.abs().max(1.0);
        within += usize::from(error <= wide * reach.deviation + slack);
    }
    let error = series::mean(&errors);
    if !error.is_finite() {
        return None;
    }
    let lag = season.unwrap_or(1);
    let steps: Vec<f64> = past
        .iter()
        .zip(past.get(lag..)?)
        .map(|(a, b)| (b - a).abs())
        .filter(|step| step.is_finite())
        .collect();
    let usual = series::mean(&steps);
    Some(Accuracy {
        method,
        error,
        percent: (!shares.is_empty()).then(|| 100.0 * series::mean(&shares)),
        scaled: (usual > 0.0).then_some(error / usual),
        covered: 100.0 * within as f64 / errors.len() as f64,
        repeated: series::mean(&repeated),
    })
}

/// The method that is asked for, or the one of all that was least wrong, fitted to all of the past,
/// with how wrong it was.
pub fn fitted(
    method: Method,
    values: &[f64],
    season: Option<usize>,
) -> Option<(Method, Fitted, Option<Accuracy>)> {
    if method != Method::Choose {
        let fitted = method.fit(values, season)?;
        return Some((method, fitted, judge(method, values, season)));
    }
    let accuracy = Method::ALL
        .iter()
        .filter(|method| **method != Method::Choose)
        .filter_map(|method| judge(*method, values, season))
        // The first, and plainest, of those that are alike.
        .reduce(|best, one| {
            if one.error < best.error * (1.0 - 1e-6) {
                one
            } else {
                best
            }
        })?;
    let fitted = accuracy.method.fit(values, season)?;
    Some((accuracy.method, fitted, Some(accuracy)))
}
