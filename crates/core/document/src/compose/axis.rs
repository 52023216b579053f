//! Axes, ticks, limits and stretches of charts.

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_data::{
    Unit,
    number_format::NumberFormat,
    status::{Direction, Status, Thresholds},
    stop,
};
use maple_lark_time::Window;

use crate::chart::{Limit, TimeAxis, TimeTick, ValueAxis, ValueTick};

/// The most points that one series keeps; a figure is never wider in pixels than twice this.
pub(crate) const MOST_POINTS: usize = 800;

/// Round ticks over `[low, high]`: multiples of 1, 2, 2.5 or 5 times a power of ten, at most
/// `most` of them, and an axis that begins and ends on one. An empty or reversed range is
/// widened to one that can be drawn.
#[must_use]
pub fn value_axis(
    low: f64,
    high: f64,
    most: usize,
    unit: &str,
    number_format: NumberFormat,
) -> ValueAxis {
    let (mut low, mut high) = if low.is_finite() && high.is_finite() && low <= high {
        (low, high)
    } else {
        (0.0, 1.0)
    };
    if high - low < f64::EPSILON * high.abs().max(1.0) {
        // A flat line is drawn in the middle, or on the base when it is zero.
        let room = if high == 0.0 { 1.0 } else { high.abs() * 0.5 };
        if low != 0.0 {
            low -= room;
        }
        high += room;
    }
    let rough = (high - low) / most.max(2) as f64;
    let power = 10f64.powf(rough.log10().floor());
    let step = [1.0, 2.0, 2.5, 5.0, 10.0]
        .into_iter()
        .map(|m| m * power)
        .find(|step| *step >= rough * 0.999)
        .unwrap_or(10.0 * power);
    let (first, last) = ((low / step + 1e-9).floor(), (high / step - 1e-9).ceil());
    let decimals = (0..=8).find(|d| {
        let scaled = step * 10f64.powi(*d);
        (scaled - scaled.round()).abs() < 1e-6 * scaled
    });
    let ticks = (0..=(last - first).max(1.0) as i64)
        .map(|i| {
            let at = (first + i as f64) * step;
            let label = number_format.number(at, decimals.unwrap_or(8) as usize);
            ValueTick { at, label }
        })
        .collect();
    ValueAxis {
        unit: unit.to_owned(),
        min: first * step,
        max: last * step,
        ticks,
    }
}

/// Calendar ticks for a window: at most about `most`, on round minutes, hours, days, weeks
/// or months of the report's zone.
#[expect(
    clippy::too_many_lines,
    reason = "the ladder of tick lengths with the words for each"
)]
#[must_use]
pub fn time_axis(window: &Window, most: usize) -> TimeAxis {
    let (zone, length) = (window.zone, window.elapsed());
    let fits = |step: TimeDelta| step * most as i32 >= length;
    let minutes = [1, 2, 5, 10, 15, 30, 60, 120, 180, 240, 360, 720]
        .into_iter()
        .find(|m| fits(TimeDelta::minutes(*m)));
    let mut ticks = Vec::new();
    let first = zone.local(window.from).date();
    let mut push = |at: DateTime<Utc>, label: String| {
        if at >= window.from
            && at <= window.to
            && ticks.last().is_none_or(|last: &TimeTick| last.at < at)
        {
            ticks.push(TimeTick { at, label });
        }
    };
    if let Some(step) = minutes {
        for date in first
            .iter_days()
            .take_while(|date| zone.start_of(*date) <= window.to)
        {
            for minute in (0..1440).step_by(step as usize) {
                let Some(local) = date.and_hms_opt(minute as u32 / 60, minute as u32 % 60, 0)
                else {
                    continue;
                };
                let at = zone.instant(local);
                // In a gap the wall clock never shows this time, so it is no tick.
                if zone.local(at) == local {
                    let long = length > TimeDelta::hours(26);
                    push(
                        at,
                        if minute == 0 && long {
                            local.format("%a %-d %b").to_string()
                        } else {
                            local.format("%H:%M").to_string()
                        },
                    );
                }
            }
        }
    } else {
        let step = [1, 2, 7, 14]
            .into_iter()
            .find(|d| fits(TimeDelta::days(*d)));
        for (index, date) in first
            .iter_days()
            .take_while(|date| zone.start_of(*date) <= window.to)
            .enumerate()
        {
            use chrono::Datelike;
            let due = match step {
                Some(days @ (1 | 2)) => index % days as usize == 0,
                Some(days) => {
                    date.weekday() == chrono::Weekday::Mon && (index / 7) % (days as usize / 7) == 0
                }
                None => {
                    date.day() == 1
                        && (fits(TimeDelta::days(31))
                            || (date.month0() % 3 == 0 && fits(TimeDelta::days(92)))
                            || date.month() == 1)
                }
            };
            let form = if step.is_none() {
                "%b %Y"
            } else if matches!(step, Some(1)) && length <= TimeDelta::days(9) {
                "%a %-d %b"
            } else {
                "%-d %b"
            };
            if due {
                push(zone.start_of(date), date.format(form).to_string());
            }
        }
    }
    let days = length.num_days();
    let shaded = if (2..=16).contains(&days) {
        let starts = first
            .iter_days()
            .map(|date| zone.start_of(date))
            .take_while(|at| *at < window.to)
            .collect::<Vec<_>>();
        starts
            .iter()
            .enumerate()
            .filter(|(i, _)| i % 2 == 1)
            .map(|(i, at)| {
                (
                    *at,
                    starts
                        .get(i + 1)
                        .copied()
                        .unwrap_or(window.to)
                        .min(window.to),
                )
            })
            .collect()
    } else {
        Vec::new()
    };
    TimeAxis {
        from: window.from,
        to: window.to,
        ticks,
        shaded,
    }
}

/// Points in order of time, cut where a value is missing or where more than two and a half
/// usual steps lie between two of them: what was not measured is not drawn.
#[must_use]
pub fn stretches(points: &[(DateTime<Utc>, Option<f64>)]) -> Vec<Vec<(DateTime<Utc>, f64)>> {
    let mut steps: Vec<i64> = points
        .windows(2)
        .map(|pair| (pair[1].0 - pair[0].0).num_milliseconds())
        .filter(|step| *step > 0)
        .collect();
    steps.sort_unstable();
    let usual = steps.get(steps.len() / 2).copied().unwrap_or(i64::MAX / 4);
    let mut out: Vec<Vec<(DateTime<Utc>, f64)>> = Vec::new();
    let mut open = false;
    for (at, value) in points {
        stop::check();
        let Some(value) = value.filter(|value| value.is_finite()) else {
            open = false;
            continue;
        };
        let near = out
            .last()
            .and_then(|stretch| stretch.last())
            .is_some_and(|(last, _)| (*at - *last).num_milliseconds() as f64 <= usual as f64 * 2.5);
        match out.last_mut() {
            Some(stretch) if open && near => stretch.push((*at, value)),
            _ => out.push(vec![(*at, value)]),
        }
        open = true;
    }
    out
}

/// At most about twice [`MOST_POINTS`] points: of each bucket its first, lowest, highest and
/// last in order of time, so that no spike is lost.
#[must_use]
pub fn thin(points: Vec<(DateTime<Utc>, f64)>) -> Vec<(DateTime<Utc>, f64)> {
    if points.len() <= MOST_POINTS {
        return points;
    }
    let size = points.len().div_ceil(MOST_POINTS / 2);
    let mut out = Vec::with_capacity(MOST_POINTS * 2);
    for bucket in points.chunks(size) {
        stop::check();
        let by_value = |a: &&(DateTime<Utc>, f64), b: &&(DateTime<Utc>, f64)| a.1.total_cmp(&b.1);
        let mut kept: Vec<_> = [
            bucket.first(),
            bucket.iter().min_by(by_value),
            bucket.iter().max_by(by_value),
            bucket.last(),
        ]
        .into_iter()
        .flatten()
        .copied()
        .collect();
        kept.sort_by_key(|(at, _)| *at);
        kept.dedup_by_key(|(at, _)| *at);
        out.extend(kept);
    }
    out
}

/// Threshold lines in the axis's scale, labelled with their meaning and value.
#[must_use]
pub fn limits(
    thresholds: &Thresholds,
    factor: f64,
    suffix: &str,
    number_format: NumberFormat,
) -> Vec<Limit> {
    [
        (thresholds.warning, Status::Warning),
        (thresholds.critical, Status::Critical),
    ]
    .into_iter()
    .filter_map(|(limit, status)| {
        let at = limit? * factor;
        let unit = if suffix.is_empty() {
            String::new()
        } else {
            format!("\u{a0}{suffix}")
        };
        let said = if suffix == "%" {
            number_format.share(at)
        } else {
            number_format.readable(at)
        };
        Some(Limit {
            at,
            status,
            label: format!("{} {said}{unit}", status.word()),
            downwards: thresholds.worse == Direction::Lower,
        })
    })
    .collect()
}

/// The axis for values with thresholds: zero is on it unless all values lie far from it, a
/// threshold is on it when it is near enough to matter, and a share ends at 100 %.
#[must_use]
pub fn axis_for(
    values: &[f64],
    thresholds: &Thresholds,
    unit: &Unit,
    from_zero: bool,
    number_format: NumberFormat,
) -> (ValueAxis, f64) {
    let largest = values.iter().fold(0f64, |most, v| most.max(v.abs()));
    let scale = unit.scale(largest);
    let (mut low, mut high) = values
        .iter()
        .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), v| {
            (low.min(*v), high.max(*v))
        });
    for limit in [thresholds.warning, thresholds.critical]
        .into_iter()
        .flatten()
    {
        let reach = (high - low).max(high.abs() * 0.5);
        if limit > high && limit - high <= reach {
            high = limit;
        }
        if limit < low && low - limit <= reach {
            low = limit;
        }
    }
    if from_zero || (low > 0.0 && low < 0.6 * high) {
        low = low.min(0.0);
        high = high.max(0.0);
    }
    let mut axis = value_axis(
        low * scale.factor,
        high * scale.factor,
        5,
        &scale.suffix,
        number_format,
    );
    let whole = match unit {
        Unit::Percent | Unit::Ratio => Some(100.0),
        _ => None,
    };
    // A share cannot pass 100 %, so neither does its axis.
    if let Some(whole) = whole
        && high * scale.factor <= whole
        && axis.max > whole
    {
        axis.ticks.retain(|tick| tick.at <= whole);
        axis.max = whole;
    }
    (axis, scale.factor)
}
