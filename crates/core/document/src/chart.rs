//! What a chart shows, worked out so far that drawing it needs no judgement: scaled values,
//! round ticks, calendar ticks in the report's zone, gaps as gaps, thinned points.

use chrono::{DateTime, Utc};
use maple_lark_data::status::{Status, StatusCounts};
use maple_lark_definition::{BarForm, LineStyle};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Chart {
    pub axis: ValueAxis,
    pub limits: Vec<Limit>,
    pub plot: Plot,
    /// What the chart shows, in words, for those who do not see it.
    pub description: String,
    /// Bars, or lines by their last values.
    pub judged: StatusCounts,
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

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;
    use maple_lark_data::{Unit, number_format::NumberFormat, status::Thresholds};
    use maple_lark_time::Window;

    use super::*;
    use crate::compose::axis::{MOST_POINTS, axis_for, stretches, thin, time_axis, value_axis};

    fn at(minute: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(minute * 60, 0).unwrap()
    }

    fn labels(axis: &ValueAxis) -> Vec<&str> {
        axis.ticks.iter().map(|tick| tick.label.as_str()).collect()
    }

    #[test]
    fn value_ticks_are_round_and_enclose_the_data() {
        assert_eq!(
            labels(&value_axis(0.0, 97.0, 5, "", NumberFormat::default())),
            ["0", "20", "40", "60", "80", "100"]
        );
        assert_eq!(
            labels(&value_axis(-3.0, 4.0, 5, "", NumberFormat::default())),
            ["−4", "−2", "0", "2", "4"]
        );
        assert_eq!(
            labels(&value_axis(0.0, 0.012, 5, "", NumberFormat::default())),
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
            let axis = value_axis(low, high, 5, "", NumberFormat::default());
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
            NumberFormat::default(),
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
