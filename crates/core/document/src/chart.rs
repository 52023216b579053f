//! What a chart shows, worked out so far that drawing it needs no judgement: scaled values,
//! round ticks, calendar ticks in the report's zone, gaps as gaps, thinned points.

use chrono::{DateTime, Utc};
use maple_lark_data::status::{Status, StatusCounts};
use maple_lark_definition::{BarForm, LineStyle};
use serde::{Deserialize, Serialize};

/// A chart, worked out: every mark has its place in the axis's scale and its words.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Chart {
    /// The axis of values.
    pub axis: ValueAxis,
    /// The threshold lines across it.
    pub limits: Vec<Limit>,
    /// The marks.
    pub plot: Plot,
    /// What the chart shows, in words, for those who do not see it.
    pub description: String,
    /// Bars, or lines by their last values.
    pub judged: StatusCounts,
}

/// What is drawn, a form for each kind of chart.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum Plot {
    /// Values over time.
    Lines {
        /// The axis of time.
        axis: TimeAxis,
        /// The lines.
        series: Vec<Series>,
        /// Whether lines are drawn plain, filled or stacked.
        style: LineStyle,
        /// Stretches of time that are marked, such as maintenance.
        spans: Vec<Span>,
    },
    /// One bar, or one group or stack of bars, a category.
    Bars {
        /// What the bars stand for, a group each.
        categories: Vec<String>,
        /// The bars' values, one for each category.
        series: Vec<BarSeries>,
        /// Whether bars stand, lie, or are stacked.
        form: BarForm,
    },
    /// From what there was, step by step, to what is left.
    Steps {
        /// The steps, in order.
        steps: Vec<BreakdownStep>,
    },
    /// One cell for each row and column, the darker the more.
    Heat {
        /// The names across.
        columns: Vec<String>,
        /// The names down.
        rows: Vec<String>,
        /// A row of cells for each name down; `None` where there is no value.
        cells: Vec<Vec<Option<HeatCell>>>,
        /// The words for the lightest colour.
        low: String,
        /// The words for the strongest colour.
        high: String,
    },
    /// A small chart for each thing, on the same axes.
    Multiples {
        /// The axis of time.
        times: TimeAxis,
        /// The charts, the worst first.
        charts: Vec<Multiple>,
    },
    /// Values around a circle, clockwise from the top; the axis goes from its centre outwards.
    Polar {
        /// The names of the sectors; nothing for one whose name is left out.
        sectors: Vec<String>,
        /// The values: one filled, several as outlines.
        series: Vec<PolarSeries>,
    },
    /// What state each thing was in, over time.
    Timeline {
        /// The axis of time.
        axis: TimeAxis,
        /// A row for each thing that has states.
        rows: Vec<TimelineRow>,
    },
    /// How long each thing was up, against its objective, and when it was not.
    Availability {
        /// The things, the worst first.
        rows: Vec<AvailabilityRow>,
        /// The axis of time for the outages.
        times: TimeAxis,
    },
    /// What was, what a method makes of it, and what comes.
    Forecast(Box<ForecastPlot>),
    /// One point for each pair of values.
    Points {
        /// The axis of values across; `axis` of the chart goes up.
        across: ValueAxis,
        /// What is counted across.
        across_title: String,
        /// What is counted upwards.
        up_title: String,
        /// The groups of points.
        series: Vec<PointSeries>,
    },
    /// How many values lie between each two edges.
    Histogram {
        /// The axis of values across; `axis` of the chart counts.
        across: ValueAxis,
        /// The bins, from low to high, without a gap.
        bins: Vec<Bin>,
    },
    /// The middle half of values, the middle one, the usual reach, and what lies outside.
    Boxes {
        /// The boxes, one for each group.
        boxes: Vec<BoxRow>,
    },
    /// The parts of a whole as one bar, or as a pie where the author insists.
    Share {
        /// The parts, the largest first.
        parts: Vec<SharePart>,
        /// A ring, instead of one bar.
        round: bool,
    },
}

/// One thing with its availability.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AvailabilityRow {
    /// The thing.
    pub name: String,
    /// Whether it stands for several.
    pub is_whole: bool,
    /// The share of time that it was up, on the axis; nothing where no time counts.
    pub at: Option<f64>,
    /// What was promised, on the axis.
    pub objective: Option<f64>,
    /// Whether that was kept.
    pub met: Option<bool>,
    /// The share and what was promised, in words.
    pub label: String,
    /// When it was down.
    pub outages: Vec<(DateTime<Utc>, DateTime<Utc>)>,
}

/// What was, what a method makes of it, and what comes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ForecastPlot {
    /// The axis of time, past and to come.
    pub axis: TimeAxis,
    /// What was; gaps between.
    pub observed: Vec<Vec<(DateTime<Utc>, f64)>>,
    /// What the method makes of it.
    pub fitted: Vec<(DateTime<Utc>, f64)>,
    /// What comes.
    pub forecast: Vec<(DateTime<Utc>, f64)>,
    /// Where 80 % of what may come lies: low and high.
    pub narrow: Vec<(DateTime<Utc>, f64, f64)>,
    /// Where 95 % of what may come lies: low and high.
    pub wide: Vec<(DateTime<Utc>, f64, f64)>,
    /// When limits are reached, with the words for it.
    pub crossings: Vec<Crossing>,
}

/// The instant at which a limit is likely to be reached.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Crossing {
    /// The instant.
    pub at: DateTime<Utc>,
    /// The limit, in the axis's scale.
    pub value: f64,
    /// What is reached, and when, in words.
    pub label: String,
}

/// A stretch of time with a name, `[from, to)`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Span {
    /// Where it begins.
    pub from: DateTime<Utc>,
    /// Where it ends.
    pub to: DateTime<Utc>,
    /// Its name.
    pub title: String,
}

/// One step of a breakdown.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BreakdownStep {
    /// What the step is.
    pub title: String,
    /// In the axis's scale: what there was before and after this step.
    pub from: f64,
    /// The sum after it, in the axis's scale.
    pub to: f64,
    /// The amount, in words.
    pub label: String,
    /// The beginning or what is left, not a change.
    pub total: bool,
}

/// One cell of a heat map.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct HeatCell {
    /// From 0 for the least to 1 for the most.
    pub share: f64,
    /// The value, in words.
    pub label: String,
}

/// One of several small charts.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Multiple {
    /// The thing.
    pub name: String,
    /// Its last value, in words.
    pub label: String,
    /// How well that is.
    pub status: Status,
    /// Stretches without a gap, each in order of time.
    pub stretches: Vec<Vec<(DateTime<Utc>, f64)>>,
}

/// Values around a circle.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PolarSeries {
    /// Its name.
    pub name: String,
    /// Its place in the theme's palette.
    pub colour: usize,
    /// One for each sector; nothing where nothing was measured.
    pub values: Vec<Option<f64>>,
}

/// What one thing's states were over time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TimelineRow {
    /// The thing.
    pub name: String,
    /// Its states, in order of time; where none stands, nothing is known.
    pub stretches: Vec<StatusStretch>,
}

/// A state that lasted.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct StatusStretch {
    /// When it began.
    pub from: DateTime<Utc>,
    /// When it ended.
    pub to: DateTime<Utc>,
    /// What it was.
    pub status: Status,
}

/// A group of points.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PointSeries {
    /// Its name.
    pub name: String,
    /// Its place in the theme's palette.
    pub colour: usize,
    /// Across and up, each in its axis's scale.
    pub points: Vec<(f64, f64)>,
}

/// One bin of a histogram: values in `[from, to)`; the last one has its end, too.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Bin {
    /// Where it begins.
    pub from: f64,
    /// Where it ends.
    pub to: f64,
    /// How many values fall into it.
    pub count: usize,
}

/// By Tukey's rule: whiskers reach to the last value within one and a half times the middle
/// half; quartiles are interpolated as percentiles are everywhere here.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BoxRow {
    /// The group.
    pub name: String,
    /// The end of the lower whisker.
    pub low: f64,
    /// The lower end of the box.
    pub lower_quartile: f64,
    /// The line in the box.
    pub median: f64,
    /// The upper end of the box.
    pub upper_quartile: f64,
    /// The end of the upper whisker.
    pub high: f64,
    /// The values past the whiskers.
    pub outside: Vec<f64>,
    /// The box, in words.
    pub label: String,
}

/// One part of a whole.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SharePart {
    /// Its name.
    pub name: String,
    /// Its place in the theme's palette.
    pub colour: usize,
    /// Of the whole, from 0 to 1.
    pub share: f64,
    /// Its value and share, in words.
    pub label: String,
}

/// The axis of values, in the unit that suits the largest of them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ValueAxis {
    /// The unit that the ticks are given in.
    pub unit: String,
    /// The value at its beginning.
    pub min: f64,
    /// The value at its end.
    pub max: f64,
    /// The ticks, from low to high.
    pub ticks: Vec<ValueTick>,
}

/// A tick on an axis of values.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ValueTick {
    /// Its place, in the axis's scale.
    pub at: f64,
    /// Its words.
    pub label: String,
}

/// The axis of time: the window in the report's zone.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TimeAxis {
    /// The instant at its beginning.
    pub from: DateTime<Utc>,
    /// The instant at its end.
    pub to: DateTime<Utc>,
    /// The ticks, in order of time.
    pub ticks: Vec<TimeTick>,
    /// Every second civil day, as `[from, to)`, to be shaded; empty for short windows.
    pub shaded: Vec<(DateTime<Utc>, DateTime<Utc>)>,
}

/// A tick on an axis of time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TimeTick {
    /// Its instant.
    pub at: DateTime<Utc>,
    /// Its words.
    pub label: String,
}

/// One line of a chart.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Series {
    /// Its name.
    pub name: String,
    /// Which colour of the palette: the same name has the same one in the whole document.
    pub colour: usize,
    /// One of many that are drawn in grey behind the others, without a name.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub behind: bool,
    /// Stretches without a gap, each in order of time.
    pub stretches: Vec<Vec<(DateTime<Utc>, f64)>>,
}

/// One value for each category.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BarSeries {
    /// Its name.
    pub name: String,
    /// Its place in the theme's palette.
    pub colour: usize,
    /// One for each category.
    pub values: Vec<Option<f64>>,
    /// The values, in words.
    pub labels: Vec<String>,
    /// How well each value is.
    pub statuses: Vec<Status>,
}

/// A threshold line, in the axis's scale.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Limit {
    /// Its place, in the axis's scale.
    pub at: f64,
    /// What values past it are.
    pub status: Status,
    /// Its words.
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
