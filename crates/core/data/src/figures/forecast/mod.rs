//! What comes next: a value's past carried on, with how sure that is and how wrong it was before.

mod judge;
mod line;
mod smooth;
mod table;

pub(super) use table::forecast;

use crate::series;

#[cfg(test)]
mod tests;

/// What is forecast, and how.
#[derive(Debug, Clone, PartialEq)]
pub struct Forecast {
    /// The column of instants.
    pub time: String,
    /// The column of values.
    pub value: String,
    /// The columns that tell series apart.
    pub by: Vec<String>,
    /// How.
    pub method: Method,
    /// The length of a step in milliseconds; the usual distance of the values, if not given.
    pub every: Option<i64>,
    /// How far ahead, in milliseconds; half as long as the past, if not given.
    pub ahead: Option<i64>,
    /// The length of a season in milliseconds; a day or a week, if the values show one.
    pub season: Option<i64>,
    /// The limits to be reached; those of the column, if none are given.
    pub limits: Vec<f64>,
    /// Whether values that were never below zero may come to be.
    pub may_be_negative: bool,
    /// What comes.
    pub give: ForecastRows,
}

/// What comes of a forecast.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ForecastRows {
    /// A row for each step, past and to come.
    Steps,
    /// A row for each series and limit, the soonest first.
    Limits,
}

/// How values are carried on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Method {
    /// The one that was best on the last part of the past.
    Choose,
    /// A straight line by least squares.
    Line,
    /// A quadratic curve by least squares.
    Quadratic,
    /// A cubic curve by least squares.
    Cubic,
    /// A straight line by the median of slopes, which outliers do not move.
    RobustLine,
    /// Exponential smoothing with trend, and with a season that is added where there is one.
    Smoothing,
    /// The same with a trend that fades.
    Damped,
    /// The same with a season that the level is multiplied by.
    Multiplied,
    /// The same, with a trend that fades.
    MultipliedDamped,
}

impl Method {
    /// The words that definitions use.
    pub const NAMES: [&'static str; 9] = [
        "choose",
        "line",
        "quadratic",
        "cubic",
        "robust-line",
        "smoothing",
        "damped-smoothing",
        "multiplied-smoothing",
        "multiplied-damped-smoothing",
    ];

    const ALL: [Self; 9] = [
        Self::Choose,
        Self::Line,
        Self::Quadratic,
        Self::Cubic,
        Self::RobustLine,
        Self::Smoothing,
        Self::Damped,
        Self::Multiplied,
        Self::MultipliedDamped,
    ];

    /// The method of a word.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        let place = Self::NAMES.iter().position(|known| *known == name)?;
        Some(Self::ALL[place])
    }

    /// What it is, for readers.
    fn words(self, season: Option<&str>) -> String {
        let with = |words: &str| match season {
            Some(season) => format!("{words} with a season of {season}"),
            None => words.to_owned(),
        };
        match self {
            Self::Choose => "the best of all".to_owned(),
            Self::Line => "straight line".to_owned(),
            Self::Quadratic => "quadratic curve".to_owned(),
            Self::Cubic => "cubic curve".to_owned(),
            Self::RobustLine => "robust line".to_owned(),
            Self::Smoothing => with("smoothing"),
            Self::Damped => with("smoothing with a fading trend"),
            Self::Multiplied => with("multiplied smoothing"),
            Self::MultipliedDamped => with("multiplied smoothing with a fading trend"),
        }
    }

    /// What the values come to by it; nothing where there are too few for it, or it does not suit
    /// them.
    fn fit(self, values: &[f64], season: Option<usize>) -> Option<Fitted> {
        use smooth::{Form, Season, smooth};
        let added = season.map(Season::Added);
        let smoothed = |season, damped| smooth(values, Form { season, damped });
        match self {
            Self::Choose => None,
            Self::Line => line::curve(values, 1),
            Self::Quadratic => line::curve(values, 2),
            Self::Cubic => line::curve(values, 3),
            Self::RobustLine => line::robust(values),
            Self::Smoothing => smoothed(added, false),
            Self::Damped => smoothed(added, true),
            Self::Multiplied => smoothed(Some(Season::Multiplied(season?)), false),
            Self::MultipliedDamped => smoothed(Some(Season::Multiplied(season?)), true),
        }
    }
}

/// A value to come, and the deviation of what may come around it.
#[derive(Debug, Clone, Copy)]
struct Reach {
    value: f64,
    deviation: f64,
}

/// A method with its parameters found.
struct Fitted {
    /// What it says of the past, a value a step.
    fitted: Vec<f64>,
    /// What comes in the step after so many.
    ahead: Box<dyn Fn(usize) -> Reach>,
    /// The degrees of freedom of its deviation, where it is judged by few values.
    free: Option<usize>,
}

/// How far the middle of a normal distribution reaches that holds 80 and 95 % of it.
const EIGHTY: f64 = 1.281_551_565_544_6;
const NINETY_FIVE: f64 = 1.959_963_984_540_054;

/// The same for Student's distribution (expansion of Fisher and Cornish in 1/free; Abramowitz and
/// Stegun 26.7.5).
fn reach_of(z: f64, free: Option<usize>) -> f64 {
    let Some(free) = free else { return z };
    let n = free as f64;
    let (z3, z5, z7) = (z.powi(3), z.powi(5), z.powi(7));
    z + (z3 + z) / (4.0 * n)
        + (5.0 * z5 + 16.0 * z3 + 3.0 * z) / (96.0 * n * n)
        + (3.0 * z7 + 19.0 * z5 + 17.0 * z3 - 15.0 * z) / (384.0 * n.powi(3))
}

/// A season that the values show: the longest of `lengths`, in steps, at whose distance what is
/// left beside a straight line goes with itself more than with chance.
fn found_season(values: &[f64], lengths: &[usize]) -> Option<usize> {
    let line = line::curve(values, 1)?;
    let rest: Vec<f64> = values
        .iter()
        .zip(&line.fitted)
        .map(|(value, fit)| value - fit)
        .collect();
    let own = series::sum(rest.iter().filter(|r| r.is_finite()).map(|r| r * r));
    let with = |lag: usize| {
        let pairs = rest.iter().zip(&rest[lag..]).map(|(a, b)| a * b);
        let count = rest.len() as f64 / (rest.len() - lag) as f64;
        series::sum(pairs.filter(|product| product.is_finite())) * count / own
    };
    let likely: Vec<(usize, f64)> = lengths
        .iter()
        .filter(|length| **length >= 2 && values.len() >= 2 * **length)
        .map(|length| (*length, with(*length)))
        .filter(|(_, correlation)| *correlation > 0.3)
        .collect();
    // A week goes with itself wherever a day does; it must do so clearly better.
    likely
        .iter()
        .fold(None, |best: Option<(usize, f64)>, one| match best {
            Some(known) if one.1 < known.1 + 0.1 => Some(known),
            _ => Some(*one),
        })
        .map(|(length, _)| length)
}
