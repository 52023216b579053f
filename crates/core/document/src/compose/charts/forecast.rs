//! A forecast: observed, fitted and to come, each told apart.

use chrono::{DateTime, Utc};
use maple_lark_data::{
    Unit,
    figures::Operation,
    status::{Direction, Status, StatusCounts, Thresholds},
    stop,
};
use maple_lark_definition::ForecastPart;
use maple_lark_time::Window;

use super::{Drawing, judged, missing};
use crate::{
    chart::{Crossing, ForecastPlot, Plot},
    compose::{CannotShow, axis, column::thresholds},
    document::Body,
};

type Points = Vec<(DateTime<Utc>, Option<f64>)>;

fn there(points: &Points) -> Vec<(DateTime<Utc>, f64)> {
    let there = points
        .iter()
        .filter_map(|(at, value)| Some((*at, (*value)?)));
    axis::thin(there.collect())
}

/// Where a line first reaches a limit, after the last value.
fn crossing(
    last: Option<&(DateTime<Utc>, f64)>,
    line: &[(DateTime<Utc>, f64)],
    limit: f64,
    worse: Direction,
) -> Option<DateTime<Utc>> {
    let past = |value: f64| match worse {
        Direction::Higher => value >= limit,
        Direction::Lower => value <= limit,
    };
    let mut before = last.filter(|(_, value)| !past(*value)).copied()?;
    for (at, value) in line {
        if past(*value) {
            let share = ((limit - before.1) / (value - before.1)).clamp(0.0, 1.0);
            let between = (*at - before.0).num_milliseconds() as f64 * share;
            return Some(before.0 + chrono::TimeDelta::milliseconds(between as i64));
        }
        before = (*at, *value);
    }
    None
}

fn scaled(points: Vec<(DateTime<Utc>, f64)>, factor: f64) -> Vec<(DateTime<Utc>, f64)> {
    let scale = |(at, value)| (at, value * factor);
    points.into_iter().map(scale).collect()
}

/// The low and the high edge of an interval.
type Band = Vec<(DateTime<Utc>, f64, f64)>;

fn band(band: Band, factor: f64) -> Band {
    let scale = |(at, low, high)| (at, low * factor, high * factor);
    band.into_iter().map(scale).collect()
}

/// A limit that is likely to be reached.
struct Reached {
    limit: f64,
    status: Status,
    at: DateTime<Utc>,
}

fn reached(
    last: Option<&(DateTime<Utc>, f64)>,
    come: &[(DateTime<Utc>, f64)],
    limits: &Thresholds,
) -> Vec<Reached> {
    let named = [
        (limits.warning, Status::Warning),
        (limits.critical, Status::Critical),
    ];
    let of = |(limit, status): (Option<f64>, Status)| {
        stop::check();
        let at = crossing(last, come, limit?, limits.worse)?;
        Some(Reached {
            limit: limit?,
            status,
            at,
        })
    };
    named.into_iter().filter_map(of).collect()
}

impl Drawing<'_, '_> {
    #[expect(
        clippy::too_many_lines,
        reason = "each part of the figure, from its rows to its place"
    )]
    pub(super) fn forecast(
        &mut self,
        time: &str,
        without: &[ForecastPart],
    ) -> Result<Body, CannotShow> {
        let mut operations = self.query.then.iter();
        let of = operations.find_map(|operation| match operation {
            Operation::Forecast(asked) => Some(asked.value.clone()),
            _ => None,
        });
        let of = of.unwrap_or_else(|| "observed".to_owned());
        let format = self.number_format();
        let (unit, limits) = (self.unit(&of), thresholds(self.query, &of));
        let drawn = |part| !without.contains(&part);
        let limits = if drawn(ForecastPart::Limits) {
            limits
        } else {
            Thresholds::default()
        };
        let points = |name: &str| self.points_of(time, name);
        let (observed, come) = (points("observed")?, points("forecast")?);
        let fitted = points("fitted")?;
        let edges = |low: &str, high: &str| -> Result<Band, CannotShow> {
            if !drawn(ForecastPart::Interval) {
                return Ok(Vec::new());
            }
            let both = points(low)?.into_iter().zip(points(high)?);
            let known = both.filter_map(|((at, low), (_, high))| Some((at, low?, high?)));
            Ok(known.collect())
        };
        let (narrow, wide) = (edges("low_80", "high_80")?, edges("low_95", "high_95")?);
        let (past, come) = (there(&observed), there(&come));
        if past.is_empty() {
            return Ok(missing());
        }
        // Beyond all of it there is nothing.
        let whole = unit == Unit::Percent && past.iter().all(|(_, value)| *value <= 100.0);
        let cap = if whole { 100.0 } else { f64::INFINITY };
        let come: Vec<_> = come
            .into_iter()
            .map(|(at, value)| (at, value.min(cap)))
            .collect();
        let capped = |band: Band| -> Band {
            let cap = |(at, low, high): (_, f64, f64)| (at, low.min(cap), high.min(cap));
            band.into_iter().map(cap).collect()
        };
        let (narrow, wide) = (capped(narrow), capped(wide));
        let fitted = if drawn(ForecastPart::Fitted) {
            there(&fitted)
        } else {
            Vec::new()
        };
        let reach: Vec<f64> = past
            .iter()
            .chain(&come)
            .map(|(_, value)| *value)
            .chain(wide.iter().flat_map(|(_, low, high)| [*low, *high]))
            .collect();
        let (value_axis, factor) = axis::axis_for(&reach, &limits, &unit, false, format);
        let window = Window {
            from: past[0].0,
            to: come
                .last()
                .or(past.last())
                .map_or(self.window().to, |(at, _)| *at),
            within: None,
            ..self.window().clone()
        };
        let mut description = format!("Forecast: {}.", self.block.title);
        if let Some((at, value)) = past.last() {
            let at = format.time(window.zone.local(*at), true);
            description += &format!(" Last {} on {at}.", unit.format(*value, format));
        }
        let mut crossings = Vec::new();
        for reached in reached(past.last(), &come, &limits) {
            let day = format.date(window.zone.local(reached.at).date());
            let value = unit.format(reached.limit, format);
            let word = reached.status.word();
            description += &format!(" {word} at {value} likely reached on {day}.");
            let says = format!("{value} likely on {day}");
            let end = self.window().to;
            let past = &mut self.context.past;
            past.add_reached(&self.block.title, says, reached.at, end);
            if drawn(ForecastPart::Crossing) {
                crossings.push(Crossing {
                    at: reached.at,
                    value: reached.limit * factor,
                    label: format!("{value} on {day}"),
                });
            }
        }
        let mut counts = StatusCounts::default();
        if let Some((_, last)) = past.last()
            && limits.is_set()
        {
            counts.add(limits.status(Some(*last)));
        }
        let gaps: Points = observed
            .into_iter()
            .filter(|(at, _)| past.last().is_some_and(|(last, _)| at <= last))
            .map(|(at, value)| (at, value.map(|value| value * factor)))
            .collect();
        let plot = ForecastPlot {
            axis: axis::time_axis(&window, 9),
            observed: axis::stretches(&gaps).into_iter().map(axis::thin).collect(),
            fitted: scaled(fitted, factor),
            forecast: scaled(come, factor),
            narrow: band(narrow, factor),
            wide: band(wide, factor),
            crossings,
        };
        let limits = axis::limits(&limits, factor, &value_axis.unit, format);
        let plot = Plot::Forecast(Box::new(plot));
        Ok(judged(value_axis, limits, plot, description, counts))
    }

    fn points_of(&self, time: &str, name: &str) -> Result<Points, CannotShow> {
        let (time, value) = (self.times(time)?, self.number(name)?);
        let rows = self.table.rows.iter();
        let mut points: Points = rows
            .filter_map(|row| Some((self.instant(&row[time])?, row[value].as_number())))
            .collect();
        points.sort_by_key(|(at, _)| *at);
        if points.windows(2).any(|pair| pair[0].0 == pair[1].0) {
            return Err(CannotShow::SeveralForecasts);
        }
        Ok(points)
    }
}
