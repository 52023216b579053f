//! Exponential smoothing with trend and one season (Holt 1957, Winters 1960), in the form of
//! errors: Hyndman, Koehler, Ord and Snyder, "Forecasting with Exponential Smoothing", 2008.

use cobyla::{RhoBeg, StopTols, minimize};

use super::{Fitted, Reach};
use crate::stop;

/// How a season comes to the level.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Season {
    /// It is added.
    Added(usize),
    /// The level is multiplied by it.
    Multiplied(usize),
}

impl Season {
    fn length(self) -> usize {
        match self {
            Self::Added(length) | Self::Multiplied(length) => length,
        }
    }
}

/// What is smoothed, and how.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Form {
    pub season: Option<Season>,
    /// Whether the trend fades.
    pub damped: bool,
}

/// How quickly each part follows: level, trend, season; and how much of a trend stays each step.
#[derive(Debug, Clone, Copy)]
struct Weights {
    level: f64,
    trend: f64,
    season: f64,
    stays: f64,
}

/// How often the error is worked out at most while the weights are looked for.
const MOST_TRIES: usize = 250;
/// So many seasons say how one began that has moved since.
const FIRST: usize = 10;
/// How much of a trend stays each step, where it fades: at least, and at most.
const STAYS: (f64, f64) = (0.8, 0.98);

impl Weights {
    /// From numbers between 0 and 1, so that what comes is always stable.
    fn of(unit: &[f64], form: Form) -> Self {
        let within = |place: usize| unit.get(place).map_or(0.0, |x| x.clamp(0.0, 1.0));
        let level = 1e-4 + 0.9998 * within(0);
        let seasonal = if form.season.is_some() {
            within(2)
        } else {
            0.0
        };
        let fades = usize::from(form.season.is_some()) + 2;
        Self {
            level,
            trend: level * within(1),
            season: seasonal * (1.0 - level),
            stays: if form.damped {
                STAYS.0 + (STAYS.1 - STAYS.0) * within(fades)
            } else {
                1.0
            },
        }
    }
}

#[derive(Clone)]
struct State {
    level: f64,
    trend: f64,
    seasons: Vec<f64>,
}

fn mean(values: impl Iterator<Item = f64>) -> f64 {
    let (mut sum, mut count) = (0.0, 0usize);
    for value in values.filter(|value| value.is_finite()) {
        sum += value;
        count += 1;
    }
    sum / count as f64
}

/// The line through values at 0, 1, 2 and so on, by least squares: where it begins and how much
/// it grows each step. Gaps count for nothing; nothing with fewer than two values.
fn line(values: &[f64]) -> Option<(f64, f64)> {
    let known = || {
        let all = values.iter().enumerate();
        all.filter(|(_, value)| value.is_finite())
            .map(|(at, value)| (at as f64, *value))
    };
    known().nth(1)?;
    let (middle, level) = (
        mean(known().map(|one| one.0)),
        mean(known().map(|one| one.1)),
    );
    let (mut both, mut square) = (0.0, 0.0);
    for (at, value) in known() {
        both += (at - middle) * (value - level);
        square += (at - middle) * (at - middle);
    }
    let each = both / square;
    Some((level - each * middle, each))
}

impl State {
    /// Where it begins: the line through the means of the first so many seasons, and what each
    /// place of a season has beside that line in them. Without a season each value is one.
    ///
    /// Nothing where fewer than two of them have a value.
    fn first(values: &[f64], season: Option<Season>, count: usize) -> Option<Self> {
        let length = season.map_or(1, Season::length).max(1);
        let seasons: Vec<&[f64]> = values.chunks_exact(length).take(count).collect();
        let means: Vec<f64> = seasons
            .iter()
            .map(|one| mean(one.iter().copied()))
            .collect();
        let (at_first, each) = line(&means)?;
        let trend = each / length as f64;
        // From the middle of the first season to the step before it.
        let level = at_first - trend * (length as f64 + 1.0) / 2.0;
        let beside = |season: Season, place: usize| {
            let from = (place as f64 - (length as f64 - 1.0) / 2.0) * trend;
            let found = seasons.iter().zip(&means).map(|(one, mean)| match season {
                Season::Added(_) => one[place] - (mean + from),
                Season::Multiplied(_) => one[place] / (mean + from),
            });
            let (usual, found) = match season {
                Season::Added(_) => (0.0, mean(found)),
                Season::Multiplied(_) => (1.0, mean(found)),
            };
            if found.is_finite() { found } else { usual }
        };
        let seasons = season.map_or_else(Vec::new, |season| {
            (0..length).map(|place| beside(season, place)).collect()
        });
        Some(Self {
            level,
            trend,
            seasons,
        })
    }

    /// One step on: what is expected of it, and the state after `value` has come; after a gap, as
    /// if it had come as expected.
    fn step(&mut self, place: usize, value: f64, form: Form, weights: Weights) -> f64 {
        let base = self.level + weights.stays * self.trend;
        let at = form.season.map(|season| place % season.length());
        let beside = at.map(|at| self.seasons[at]);
        let (expected, scale) = match (form.season, beside) {
            (Some(Season::Added(_)), Some(beside)) => (base + beside, 1.0),
            (Some(Season::Multiplied(_)), Some(beside)) => (base * beside, beside),
            _ => (base, 1.0),
        };
        let error = if value.is_finite() {
            value - expected
        } else {
            0.0
        };
        let scaled = if scale.abs() > 1e-12 {
            error / scale
        } else {
            0.0
        };
        self.level = base + weights.level * scaled;
        self.trend = weights.stays * self.trend + weights.trend * scaled;
        if let (Some(at), Some(season)) = (at, form.season) {
            self.seasons[at] += match season {
                Season::Added(_) => weights.season * error,
                Season::Multiplied(_) if base.abs() > 1e-12 => weights.season * error / base,
                Season::Multiplied(_) => 0.0,
            };
        }
        expected
    }
}

/// The mean square of the errors one step ahead.
fn error(values: &[f64], first: &State, form: Form, weights: Weights) -> f64 {
    let mut state = first.clone();
    let (mut squares, mut count) = (0.0, 0usize);
    for (place, value) in values.iter().enumerate() {
        let expected = state.step(place, *value, form, weights);
        if value.is_finite() {
            squares += (value - expected).powi(2);
            count += 1;
        }
    }
    let error = squares / count.max(1) as f64;
    if error.is_finite() {
        error
    } else {
        f64::MAX.sqrt()
    }
}

/// The weights whose errors one step ahead are least from this state on, as numbers between 0 and
/// 1, and the mean square of those errors.
fn best(values: &[f64], first: &State, form: Form) -> (f64, Vec<f64>) {
    let count = 2 + usize::from(form.season.is_some()) + usize::from(form.damped);
    // One of size 1 at the start, so that what is large and what is small is sought alike.
    let start = [0.3, 0.1, 0.1, 0.7];
    let mut begin: Vec<f64> = start[..count].to_vec();
    if form.damped {
        begin[count - 1] = 0.7;
    }
    let size = error(values, first, form, Weights::of(&begin, form)).max(f64::MIN_POSITIVE);
    let sought = |unit: &[f64], (): &mut ()| {
        stop::check();
        error(values, first, form, Weights::of(unit, form)) / size
    };
    let bounds = vec![(0.0, 1.0); count];
    let none: Vec<&dyn cobyla::Func<()>> = Vec::new();
    let tolerance = StopTols {
        ftol_rel: 1e-6,
        xtol_rel: 1e-4,
        ..StopTols::default()
    };
    let found = minimize(
        sought,
        &begin,
        &bounds,
        &none,
        (),
        MOST_TRIES,
        RhoBeg::All(0.2),
        Some(tolerance),
    );
    // Where it ended without a result is still an answer.
    let (Ok((_, unit, least)) | Err((_, unit, least))) = found;
    (least * size, unit)
}

/// Smoothing in this form, with the weights whose errors one step ahead are least. Nothing with
/// fewer than two seasons, or where a multiplied season meets a value that is not above zero.
pub fn smooth(values: &[f64], form: Form) -> Option<Fitted> {
    let below = values.iter().any(|value| *value <= 0.0);
    if matches!(form.season, Some(Season::Multiplied(_))) && below {
        return None;
    }
    let length = form.season.map_or(1, Season::length);
    if length == 0 || values.len() < 2 * length {
        return None;
    }
    // What has moved begins as its first seasons were; what has not, as all of them are.
    let all = values.len() / length;
    let few = (all > FIRST).then_some(FIRST);
    let (_, unit, first) = few
        .into_iter()
        .chain([all])
        .filter_map(|count| {
            let first = State::first(values, form.season, count)?;
            let (error, unit) = best(values, &first, form);
            Some((error, unit, first))
        })
        .reduce(|one, other| if other.0 < one.0 { other } else { one })?;
    let weights = Weights::of(&unit, form);
    let mut state = first;
    let mut fitted = Vec::with_capacity(values.len());
    for (place, value) in values.iter().enumerate() {
        fitted.push(state.step(place, *value, form, weights));
    }
    Some(ahead(values, fitted, state, form, weights))
}

fn ahead(values: &[f64], fitted: Vec<f64>, state: State, form: Form, weights: Weights) -> Fitted {
    let multiplied = matches!(form.season, Some(Season::Multiplied(_)));
    let errors = values.iter().zip(&fitted).map(|(value, expected)| {
        let error = value - expected;
        if multiplied { error / expected } else { error }
    });
    let squares: Vec<f64> = errors
        .map(|error| error * error)
        .filter(|square| square.is_finite())
        .collect();
    let free = squares.len().saturating_sub(4).max(1);
    let variance = squares.iter().sum::<f64>() / free as f64;
    let from = values.len();
    let damping = move |steps: usize| {
        if form.damped {
            let stays = weights.stays;
            stays * (1.0 - stays.powi(steps as i32)) / (1.0 - stays)
        } else {
            steps as f64
        }
    };
    Fitted {
        fitted,
        ahead: Box::new(move |step| {
            let steps = step + 1;
            let base = state.level + damping(steps) * state.trend;
            let beside = form
                .season
                .map(|season| state.seasons[(from + step) % season.length()]);
            let value = match (form.season, beside) {
                (Some(Season::Added(_)), Some(beside)) => base + beside,
                (Some(Season::Multiplied(_)), Some(beside)) => base * beside,
                _ => base,
            };
            // The errors of the steps between add up, by how far each moves what follows.
            let spread = (1..steps).fold(1.0, |spread, j| {
                let season = form.season.is_some_and(|season| j % season.length() == 0);
                let moves = weights.level
                    + weights.trend * damping(j)
                    + if season { weights.season } else { 0.0 };
                spread + moves * moves
            });
            let deviation = (variance * spread).sqrt();
            Reach {
                value,
                deviation: if multiplied {
                    deviation * value.abs()
                } else {
                    deviation
                },
            }
        }),
        free: None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The worked example of Holt's method in Hyndman and Athanasopoulos, "Forecasting: Principles
    /// and Practice", second edition, section 7.2: air passengers of Australia from 1990 on, with
    /// the weights and the beginning that are printed there.
    #[test]
    fn a_step_agrees_with_the_printed_example() {
        let form = Form {
            season: None,
            damped: false,
        };
        let weights = Weights {
            level: 0.8321,
            trend: 0.8321 * 0.0001,
            season: 0.0,
            stays: 1.0,
        };
        let mut state = State {
            level: 15.57,
            trend: 2.102,
            seasons: Vec::new(),
        };
        // Observed; forecast and level as they are printed.
        let printed = [
            (17.55, 17.67, 17.57),
            (21.86, 19.68, 21.49),
            (23.89, 23.59, 23.84),
            (26.93, 25.94, 26.76),
        ];
        for (place, (observed, forecast, level)) in printed.into_iter().enumerate() {
            let expected = state.step(place, observed, form, weights);
            // What stands there is rounded, and so is what it begins with.
            assert!((expected - forecast).abs() < 0.012, "{expected} {forecast}");
            assert!(
                (state.level - level).abs() < 0.012,
                "{} {level}",
                state.level
            );
            assert!((state.trend - 2.102).abs() < 0.001, "{}", state.trend);
        }
    }
}
