//! What a chart shows, worked out so far that drawing it needs no judgement: scaled values,
//! round ticks, calendar ticks in the report's zone, gaps as gaps, thinned points.

use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};

use crate::{
    status::{Judged, Status, Thresholds, Worse},
    unit::Unit,
    window::Window,
    writing::Writing,
};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Chart {
    pub axis: ValueAxis,
    pub limits: Vec<Limit>,
    pub plot: Plot,
    /// What the chart shows, in words, for those who do not see it.
    pub description: String,
    /// Bars, or lines by their last values.
    pub judged: Judged,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum Plot {
    /// Values over time.
    Lines {
        axis: TimeAxis,
        series: Vec<Series>,
        style: LineStyle,
        /// Stretches of time that are marked, such as maintenance.
        spans: Vec<Span>,
    },
    /// One bar, or one group or stack of bars, a category.
    Bars {
        categories: Vec<String>,
        series: Vec<BarSeries>,
        form: BarForm,
    },
    /// From what there was, step by step, to what is left.
    Steps { steps: Vec<BreakdownStep> },
    /// One cell for each row and column, the darker the more.
    Heat {
        columns: Vec<String>,
        rows: Vec<String>,
        cells: Vec<Vec<Option<HeatCell>>>,
        low: String,
        high: String,
    },
    /// What state each thing was in, over time.
    Timeline {
        axis: TimeAxis,
        rows: Vec<TimelineRow>,
    },
    /// One point for each pair of values.
    Points {
        across: ValueAxis,
        across_title: String,
        up_title: String,
        series: Vec<PointSeries>,
    },
    /// How many values lie between each two edges.
    Histogram { across: ValueAxis, bins: Vec<Bin> },
    /// The middle half of values, the middle one, the usual reach, and what lies outside.
    Boxes { boxes: Vec<BoxRow> },
    /// The parts of a whole as one bar, or as a pie where the author insists.
    Share { parts: Vec<SharePart>, round: bool },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LineStyle {
    #[default]
    Line,
    /// Filled down to zero.
    Area,
    /// Areas on top of one another; the values are sums.
    Stacked,
    /// A value holds until the next one.
    Steps,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct BarForm {
    /// The bars of a category on one another instead of side by side.
    pub stacked: bool,
    /// Standing instead of lying.
    pub upright: bool,
}

/// A stretch of time with a name, `[from, to)`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Span {
    pub from: DateTime<Utc>,
    pub to: DateTime<Utc>,
    pub title: String,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BreakdownStep {
    pub title: String,
    /// In the axis's scale: what there was before and after this step.
    pub from: f64,
    pub to: f64,
    pub label: String,
    /// The beginning or what is left, not a change.
    pub total: bool,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct HeatCell {
    /// From 0 for the least to 1 for the most.
    pub share: f64,
    pub label: String,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TimelineRow {
    pub name: String,
    pub stretches: Vec<StatusStretch>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct StatusStretch {
    pub from: DateTime<Utc>,
    pub to: DateTime<Utc>,
    pub status: Status,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PointSeries {
    pub name: String,
    pub colour: usize,
    pub points: Vec<(f64, f64)>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Bin {
    pub from: f64,
    pub to: f64,
    pub count: usize,
}

/// By Tukey's rule: whiskers reach to the last value within one and a half times the middle
/// half; quartiles are interpolated as percentiles are everywhere here.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BoxRow {
    pub name: String,
    pub low: f64,
    pub lower_quartile: f64,
    pub median: f64,
    pub upper_quartile: f64,
    pub high: f64,
    pub outside: Vec<f64>,
    pub label: String,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SharePart {
    pub name: String,
    pub colour: usize,
    /// Of the whole, from 0 to 1.
    pub share: f64,
    pub label: String,
}

/// The axis of values, in the unit that suits the largest of them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ValueAxis {
    pub unit: String,
    pub min: f64,
    pub max: f64,
    pub ticks: Vec<ValueTick>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ValueTick {
    pub at: f64,
    pub label: String,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TimeAxis {
    pub from: DateTime<Utc>,
    pub to: DateTime<Utc>,
    pub ticks: Vec<TimeTick>,
    /// Every second civil day, as `[from, to)`, to be shaded; empty for short windows.
    pub shaded: Vec<(DateTime<Utc>, DateTime<Utc>)>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TimeTick {
    pub at: DateTime<Utc>,
    pub label: String,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Series {
    pub name: String,
    /// Which colour of the palette: the same name has the same one in the whole document.
    pub colour: usize,
    /// One of many that are drawn in grey behind the others, without a name.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub behind: bool,
    /// Stretches without a gap, each in order of time.
    pub stretches: Vec<Vec<(DateTime<Utc>, f64)>>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BarSeries {
    pub name: String,
    pub colour: usize,
    /// One for each category.
    pub values: Vec<Option<f64>>,
    pub labels: Vec<String>,
    pub statuses: Vec<Status>,
}

/// A threshold line, in the axis's scale.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Limit {
    pub at: f64,
    pub status: Status,
    pub label: String,
    /// Whether values at it and below are the ones that are past it.
    pub downwards: bool,
}

/// The most points that one series keeps; a figure is never wider in pixels than twice this.
const MOST_POINTS: usize = 800;

/// Round ticks over `[low, high]`: multiples of 1, 2, 2.5 or 5 times a power of ten, at most
/// `most` of them, and an axis that begins and ends on one. An empty or reversed range is
/// widened to one that can be drawn.
pub fn value_axis(low: f64, high: f64, most: usize, unit: &str, writing: Writing) -> ValueAxis {
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
            let label = writing.number(at, decimals.unwrap_or(8) as usize);
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
pub fn thin(points: Vec<(DateTime<Utc>, f64)>) -> Vec<(DateTime<Utc>, f64)> {
    if points.len() <= MOST_POINTS {
        return points;
    }
    let size = points.len().div_ceil(MOST_POINTS / 2);
    let mut out = Vec::with_capacity(MOST_POINTS * 2);
    for bucket in points.chunks(size) {
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
pub fn limits(thresholds: &Thresholds, factor: f64, suffix: &str, writing: Writing) -> Vec<Limit> {
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
        Some(Limit {
            at,
            status,
            label: format!("{} {}{unit}", status.word(), writing.readable(at)),
            downwards: thresholds.worse == Worse::Lower,
        })
    })
    .collect()
}

/// The axis for values with thresholds: zero is on it unless all values lie far from it, a
/// threshold is on it when it is near enough to matter, and a share ends at 100 %.
pub fn axis_for(
    values: &[f64],
    thresholds: &Thresholds,
    unit: &Unit,
    from_zero: bool,
    writing: Writing,
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
        writing,
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

#[cfg(test)]
mod tests {
    use super::*;

    fn at(minute: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(minute * 60, 0).unwrap()
    }

    fn labels(axis: &ValueAxis) -> Vec<&str> {
        axis.ticks.iter().map(|tick| tick.label.as_str()).collect()
    }

    #[test]
    fn value_ticks_are_round_and_enclose_the_data() {
        assert_eq!(
            labels(&value_axis(0.0, 97.0, 5, "", Writing::default())),
            ["0", "20", "40", "60", "80", "100"]
        );
        assert_eq!(
            labels(&value_axis(-3.0, 4.0, 5, "", Writing::default())),
            ["−4", "−2", "0", "2", "4"]
        );
        assert_eq!(
            labels(&value_axis(0.0, 0.012, 5, "", Writing::default())),
            ["0.0000", "0.0025", "0.0050", "0.0075", "0.0100", "0.0125"]
        );
    }

    #[test]
    fn flat_and_empty_data_still_have_an_axis() {
        for (low, high) in [
            (0.0, 0.0),
            (5.0, 5.0),
            (-5.0, -5.0),
            (f64::INFINITY, f64::NEG_INFINITY),
        ] {
            let axis = value_axis(low, high, 5, "", Writing::default());
            assert!(
                axis.max > axis.min && axis.ticks.len() >= 2,
                "{low} {high}: {axis:?}"
            );
        }
    }

    #[test]
    fn a_share_never_shows_more_than_a_hundred_percent() {
        let (axis, _) = axis_for(
            &[99.1, 99.99],
            &Thresholds::default(),
            &Unit::Percent,
            false,
            Writing::default(),
        );
        assert_eq!(axis.max, 100.0);
    }

    #[test]
    fn calendar_ticks_stand_on_the_zones_hours_over_a_change_of_the_clock() {
        let zone = "Atlantic/Faroe".parse().unwrap();
        let window = Window {
            from: "2026-10-24T23:00:00Z".parse().unwrap(),
            to: "2026-10-26T00:00:00Z".parse().unwrap(),
            zone,
            within: None,
        };
        let axis = time_axis(&window, 9);
        assert_eq!(
            axis.ticks
                .iter()
                .map(|t| t.label.as_str())
                .collect::<Vec<_>>(),
            [
                "00:00", "03:00", "06:00", "09:00", "12:00", "15:00", "18:00", "21:00", "00:00"
            ]
        );
        assert_eq!(axis.ticks[1].at - axis.ticks[0].at, TimeDelta::hours(4));
    }

    #[test]
    fn missing_values_and_long_pauses_are_gaps() {
        let points = [
            (at(0), Some(1.0)),
            (at(5), Some(2.0)),
            (at(10), None),
            (at(15), Some(3.0)),
            (at(20), Some(4.0)),
            (at(60), Some(5.0)),
        ];
        let lengths: Vec<usize> = stretches(&points).iter().map(Vec::len).collect();
        assert_eq!(lengths, [2, 2, 1]);
    }

    #[test]
    fn thinning_keeps_every_extreme() {
        let points: Vec<_> = (0..100_000)
            .map(|i| (at(i), if i == 77_777 { 1e6 } else { (i % 7) as f64 }))
            .collect();
        let thinned = thin(points);
        assert!(thinned.len() <= MOST_POINTS * 2 + 4);
        assert!(thinned.contains(&(at(77_777), 1e6)));
        assert!(thinned.windows(2).all(|pair| pair[0].0 < pair[1].0));
    }
}
