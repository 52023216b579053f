//! Numbers in time, and what is worked out of them: sums that do not drift, percentiles,
//! resampling, rates.
//!
//! A value that is not there is `NaN` here: it is never counted as zero.

use std::{fmt, str::FromStr};

/// Values at instants (milliseconds since 1970-01-01T00:00:00Z), in any order.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Series {
    /// The instants.
    pub times: Vec<i64>,
    /// The value at each; NaN where it is missing.
    pub values: Vec<f64>,
}

/// How several values become one.
///
/// Nothing but missing values gives a missing value, except for `Count`, which gives zero.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Aggregation {
    /// The arithmetic mean of the values that are there.
    Mean,
    /// The mean weighted by time: a value holds until the next one, a missing one ends it.
    /// For samples that come at irregular intervals.
    TimeMean,
    /// The lowest.
    Min,
    /// The highest.
    Max,
    /// All added.
    Sum,
    /// The latest value.
    Last,
    /// How many values are there.
    Count,
    /// Between 0 and 100, interpolated linearly between the two nearest ranks (the method
    /// of `percentile_cont` in SQL; type 7 of Hyndman and Fan).
    Percentile(f64),
}

#[derive(Debug, thiserror::Error, PartialEq, Eq)]
/// The word names no aggregation. The message names those there are.
#[error(
    "\"{0}\" is not a way to make one value of several: use mean, time-mean, min, max, sum, last, count, median, or a percentile such as p95"
)]
pub struct NotAnAggregation(String);

impl FromStr for Aggregation {
    type Err = NotAnAggregation;

    fn from_str(text: &str) -> Result<Self, NotAnAggregation> {
        Ok(match text {
            "mean" => Aggregation::Mean,
            "time-mean" => Aggregation::TimeMean,
            "min" => Aggregation::Min,
            "max" => Aggregation::Max,
            "sum" => Aggregation::Sum,
            "last" => Aggregation::Last,
            "count" => Aggregation::Count,
            "median" => Aggregation::Percentile(50.0),
            other => {
                let number = other
                    .strip_prefix('p')
                    .filter(|rest| rest.starts_with(|c: char| c.is_ascii_digit()));
                let percentile = number
                    .and_then(|rest| rest.parse::<f64>().ok())
                    .filter(|p| (0.0..=100.0).contains(p));
                Aggregation::Percentile(
                    percentile.ok_or_else(|| NotAnAggregation(text.to_owned()))?,
                )
            }
        })
    }
}

impl fmt::Display for Aggregation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Aggregation::Mean => f.write_str("mean"),
            Aggregation::TimeMean => f.write_str("time-mean"),
            Aggregation::Min => f.write_str("min"),
            Aggregation::Max => f.write_str("max"),
            Aggregation::Sum => f.write_str("sum"),
            Aggregation::Last => f.write_str("last"),
            Aggregation::Count => f.write_str("count"),
            Aggregation::Percentile(50.0) => f.write_str("median"),
            Aggregation::Percentile(p) => write!(f, "p{p}"),
        }
    }
}

/// A sum that keeps what each addition rounds off (Neumaier's compensated summation), so
/// that ten million tenths are a million.
#[derive(Debug, Clone, Copy, Default)]
pub struct Total {
    total: f64,
    lost: f64,
}

impl Total {
    /// Takes one more value in; a missing one (NaN) changes nothing.
    pub fn add(&mut self, value: f64) {
        let next = self.total + value;
        self.lost += if self.total.abs() >= value.abs() {
            (self.total - next) + value
        } else {
            (value - next) + self.total
        };
        self.total = next;
    }

    /// The total so far; NaN if no value came.
    #[must_use]
    pub fn value(&self) -> f64 {
        // What was lost of an infinite sum is not a number.
        if self.total.is_finite() {
            self.total + self.lost
        } else {
            self.total
        }
    }
}

/// The compensated sum ([`Total`]) of values.
///
/// ```
/// # use maple_lark_data::series::sum;
/// assert_eq!(sum([1e100, 1.0, -1e100]), 1.0);
/// ```
pub fn sum(values: impl IntoIterator<Item = f64>) -> f64 {
    let mut total = Total::default();
    values.into_iter().for_each(|value| total.add(value));
    total.value()
}

/// The mean of the values that are there; `NaN` if none is.
#[must_use]
pub fn mean(values: &[f64]) -> f64 {
    let present: Vec<f64> = values.iter().copied().filter(|v| !v.is_nan()).collect();
    if present.is_empty() {
        f64::NAN
    } else {
        sum(present.iter().copied()) / present.len() as f64
    }
}

/// A percentile between 0 and 100 of the values that are there (see [`How::Percentile`]).
/// Changes their order. `NaN` if none is there; of one value, that value.
pub fn percentile(values: &mut [f64], percentile: f64) -> f64 {
    let mut count = 0;
    for index in 0..values.len() {
        if !values[index].is_nan() {
            values.swap(count, index);
            count += 1;
        }
    }
    let present = &mut values[..count];
    if present.is_empty() {
        return f64::NAN;
    }
    let rank = percentile / 100.0 * (count - 1) as f64;
    let (below, share) = (rank.floor() as usize, rank.fract());
    let (_, low, above) = present.select_nth_unstable_by(below.min(count - 1), f64::total_cmp);
    let low = *low;
    // Between equal values nothing is worked out: infinity less infinity is not a number.
    match above.iter().copied().min_by(f64::total_cmp) {
        Some(high) if share > 0.0 && high != low => low + share * (high - low),
        _ => low,
    }
}

/// The standard deviation of a sample (divided by one less than the count); `NaN` for
/// fewer than two values.
#[must_use]
pub fn deviation(values: &[f64]) -> f64 {
    let present: Vec<f64> = values.iter().copied().filter(|v| !v.is_nan()).collect();
    if present.len() < 2 {
        return f64::NAN;
    }
    let middle = mean(&present);
    (sum(present.iter().map(|v| (v - middle) * (v - middle))) / (present.len() - 1) as f64).sqrt()
}

/// Several values as one, in the order in which they were measured. [`How::TimeMean`]
/// needs times and is taken as the plain mean here.
pub fn one(values: &mut [f64], aggregation: Aggregation) -> f64 {
    let present = || values.iter().copied().filter(|v| !v.is_nan());
    match aggregation {
        Aggregation::Mean | Aggregation::TimeMean => mean(values),
        Aggregation::Min => present().min_by(f64::total_cmp).unwrap_or(f64::NAN),
        Aggregation::Max => present().max_by(f64::total_cmp).unwrap_or(f64::NAN),
        Aggregation::Sum if present().next().is_none() => f64::NAN,
        Aggregation::Sum => sum(present()),
        Aggregation::Last => present().next_back().unwrap_or(f64::NAN),
        Aggregation::Count => present().count() as f64,
        Aggregation::Percentile(p) => percentile(values, p),
    }
}

impl Series {
    /// Puts the values in the order of their times; equal times keep their order.
    fn sort(&mut self) {
        if self.times.is_sorted() {
            return;
        }
        let mut order: Vec<usize> = (0..self.times.len()).collect();
        order.sort_by_key(|index| self.times[*index]);
        self.times = order.iter().map(|index| self.times[*index]).collect();
        self.values = order.iter().map(|index| self.values[*index]).collect();
    }

    /// One value for each bucket between neighbouring `edges` (milliseconds, ascending):
    /// bucket `i` is `[edges[i], edges[i + 1])`. What lies outside the edges is left out;
    /// a bucket without a value is missing (or zero when counted). Several ways at once
    /// read the series once; the answer has one list for each way.
    pub fn resample(&mut self, edges: &[i64], aggregations: &[Aggregation]) -> Vec<Vec<f64>> {
        self.sort();
        let buckets = edges.len().saturating_sub(1);
        let mut answers = vec![Vec::with_capacity(buckets); aggregations.len()];
        let mut begin = self
            .times
            .partition_point(|at| edges.first().is_some_and(|edge| at < edge));
        // What held before the first bucket began.
        let mut held = begin
            .checked_sub(1)
            .map_or(f64::NAN, |index| self.values[index]);
        let mut scratch = Vec::new();
        for pair in edges.windows(2) {
            let (from, to) = (pair[0], pair[1]);
            let end = begin + self.times[begin..].partition_point(|at| *at < to);
            let values = &self.values[begin..end];
            for (answer, aggregation) in answers.iter_mut().zip(aggregations) {
                answer.push(match aggregation {
                    Aggregation::TimeMean => {
                        time_mean(&self.times[begin..end], values, held, from, to)
                    }
                    _ => {
                        scratch.clear();
                        scratch.extend_from_slice(values);
                        one(&mut scratch, *aggregation)
                    }
                });
            }
            if let Some(last) = values.last() {
                held = *last;
            }
            begin = end;
        }
        answers
    }

    /// A counter's growth a second since the value before it. A counter that fell began
    /// anew at zero, so its whole value is growth. The first value, and any beside a
    /// missing one, has no rate.
    pub fn rate(&mut self) -> Vec<f64> {
        self.sort();
        let growth = |index: usize| {
            let before = index.checked_sub(1)?;
            let seconds = (self.times[index] - self.times[before]) as f64 / 1000.0;
            let (earlier, later) = (self.values[before], self.values[index]);
            let grown = if later < earlier {
                later
            } else {
                later - earlier
            };
            (seconds > 0.0).then_some(grown / seconds)
        };
        (0..self.times.len())
            .map(|index| growth(index).unwrap_or(f64::NAN))
            .collect()
    }
}

fn time_mean(times: &[i64], values: &[f64], held: f64, from: i64, to: i64) -> f64 {
    let points =
        std::iter::once((from, held)).chain(times.iter().copied().zip(values.iter().copied()));
    let ends = times.iter().copied().chain(std::iter::once(to));
    let parts: Vec<(f64, f64)> = points
        .zip(ends)
        .filter(|((_, value), _)| !value.is_nan())
        .map(|((at, value), end)| (value, (end - at) as f64))
        .collect();
    let weight = sum(parts.iter().map(|(_, weight)| *weight));
    if weight > 0.0 {
        sum(parts.iter().map(|(value, weight)| value * weight)) / weight
    } else {
        f64::NAN
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Worked out with Python's statistics and numpy (percentile, method "linear").
    #[test]
    fn values_agree_with_another_implementation() {
        let values = [15.0, 20.0, 35.0, 40.0, 50.0, f64::NAN, 3.5];
        let of = |aggregation: &str| one(&mut values.clone(), aggregation.parse().unwrap());
        for (aggregation, expected) in [
            ("mean", 27.25),
            ("median", 27.5),
            ("p95", 47.5),
            ("p10", 9.25),
            ("min", 3.5),
            ("max", 50.0),
            ("sum", 163.5),
            ("last", 3.5),
            ("count", 6.0),
        ] {
            assert!(
                (of(aggregation) - expected).abs() < 1e-12,
                "{aggregation}: {}",
                of(aggregation)
            );
        }
        assert!(
            (deviation(&values) - 17.360_155_529_257_22).abs() < 1e-9,
            "{}",
            deviation(&values)
        );
    }

    #[test]
    fn nothing_and_a_single_value_are_defined() {
        for aggregation in ["mean", "median", "min", "sum", "last", "p99.9"] {
            assert!(
                one(&mut [f64::NAN], aggregation.parse().unwrap()).is_nan(),
                "{aggregation}"
            );
            assert_eq!(
                one(&mut [7.0], aggregation.parse().unwrap()),
                7.0,
                "{aggregation}"
            );
        }
        assert_eq!(one(&mut [], Aggregation::Count), 0.0);
        assert!(deviation(&[7.0]).is_nan());
        assert_eq!(
            one(
                &mut [f64::INFINITY, f64::INFINITY],
                Aggregation::Percentile(50.0)
            ),
            f64::INFINITY
        );
        for text in ["p", "p101", "p-1", "average", "px"] {
            assert!(text.parse::<Aggregation>().is_err(), "{text}");
        }
    }

    #[test]
    fn a_gap_stays_a_gap_and_irregular_samples_weigh_by_time() {
        let mut series = Series {
            times: vec![0, 1_000, 9_000, 35_000],
            values: vec![1.0, 2.0, 10.0, 4.0],
        };
        let answers = series.resample(
            &[0, 10_000, 20_000, 30_000, 40_000],
            &[Aggregation::Mean, Aggregation::TimeMean, Aggregation::Count],
        );
        assert_eq!(answers[0][0], 13.0 / 3.0);
        assert!(answers[0][1].is_nan() && answers[0][2].is_nan());
        // 1 for one second, 2 for eight, 10 for one; then 10 holds until 4 does.
        assert_eq!(answers[1], [2.7, 10.0, 10.0, 7.0]);
        assert_eq!(answers[2], [3.0, 0.0, 0.0, 1.0]);
    }

    #[test]
    fn a_counter_that_begins_anew_has_no_negative_rate() {
        let mut series = Series {
            times: vec![20_000, 0, 10_000, 30_000, 40_000],
            values: vec![5.0, 100.0, 130.0, f64::NAN, 9.0],
        };
        let rates = series.rate();
        assert!(rates[0].is_nan() && rates[3].is_nan() && rates[4].is_nan());
        assert_eq!(rates[1..3], [3.0, 0.5]);
    }

    proptest! {
        #[test]
        fn resampling_a_finer_sum_gives_the_coarser(points in prop::collection::vec((0i64..100_000, -1e6f64..1e6), 0..200)) {
            let series = || Series { times: points.iter().map(|p| p.0).collect(), values: points.iter().map(|p| p.1).collect() };
            let fine: Vec<i64> = (0..=100).map(|i| i * 1000).collect();
            let coarse: Vec<i64> = (0..=10).map(|i| i * 10_000).collect();
            let finer = series().resample(&fine, &[Aggregation::Sum, Aggregation::Max]);
            for (index, aggregation) in [Aggregation::Sum, Aggregation::Max].into_iter().enumerate() {
                let mut again = Series { times: fine[..100].to_vec(), values: finer[index].clone() };
                let (twice, once) = (again.resample(&coarse, &[aggregation]), series().resample(&coarse, &[aggregation]));
                for (a, b) in twice[0].iter().zip(&once[0]) {
                    prop_assert!((a.is_nan() && b.is_nan()) || (a - b).abs() <= 1e-6, "{a} {b}");
                }
            }
        }

        #[test]
        fn a_percentile_lies_between_its_neighbours(mut values in prop::collection::vec(-1e9f64..1e9, 1..100), p in 0.0f64..100.0) {
            let found = percentile(&mut values, p);
            values.sort_by(f64::total_cmp);
            let rank = p / 100.0 * (values.len() - 1) as f64;
            prop_assert!(found >= values[rank.floor() as usize] - 1e-6 && found <= values[rank.ceil() as usize] + 1e-6);
        }
    }
}
