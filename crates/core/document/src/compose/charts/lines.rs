//! Lines, areas and stacked areas over time.

use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, Utc};
use maple_lark_data::{
    Table, Unit,
    number_format::NumberFormat,
    status::{Direction, Status, StatusCounts, Thresholds},
    stop,
};
use maple_lark_definition::LineStyle;

use super::{
    Drawing, Groups, MOST_SERIES, MOST_TOLD, extremes, in_words, instant, judged, missing,
};
use crate::{
    chart::{Plot, Series, Span},
    compose::{
        CannotShow, answers, axis,
        column::{column, thresholds, title, wanted_decimals},
    },
    document::Body,
};

/// More lines than can be told apart are drawn, up to so many: the worst with their names, the
/// others in grey behind them.
const MOST_LINES: usize = 100;

const NAMED_LINES: usize = 8;

const MOST_SPANS: usize = 20;

/// The points of one series; a missing value is a gap.
pub(super) type Points = Vec<(DateTime<Utc>, Option<f64>)>;

impl Drawing<'_, '_> {
    pub(super) fn lines(
        &mut self,
        time: &str,
        values: &[String],
        by: Option<&str>,
        style: LineStyle,
        spans: Option<&str>,
    ) -> Result<Body, CannotShow> {
        let mut groups = self.series_of_points(time, values, by)?;
        let stacked = style == LineStyle::Stacked;
        let most = if stacked { MOST_SERIES } else { MOST_LINES };
        if groups.len() > most {
            return Err(CannotShow::too_many(groups.len(), "series", most));
        }
        if values_of(&groups).is_empty() {
            return Ok(missing());
        }
        let (unit, thresholds, number_format) = (
            self.unit(&values[0]),
            thresholds(self.query, &values[0]),
            self.number_format(),
        );
        let when = self.window().label_in(number_format.date_form());
        let what = format!("{}, {when}", self.block.title);
        let mut description = describe(&what, &groups, &unit, number_format);
        let counts = if stacked {
            StatusCounts::default()
        } else {
            self.tell_lines(&groups, &values[0], &thresholds);
            judge(&groups, &thresholds)
        };
        let named = if groups.len() > MOST_SERIES {
            worst_first(&mut groups, &thresholds);
            NAMED_LINES
        } else {
            groups.len()
        };
        if stacked {
            stack(&mut groups);
        }
        let from_zero = matches!(style, LineStyle::Area | LineStyle::Stacked);
        let (axis, factor) = axis::axis_for(
            &values_of(&groups),
            &thresholds,
            &unit,
            from_zero,
            number_format,
        );
        let limits = axis::limits(&thresholds, factor, &axis.unit, number_format);
        let spans = spans
            .map(|name| self.spans(name))
            .transpose()?
            .unwrap_or_default();
        for span in &spans {
            description += &format!(" Marked: {}.", span.title);
        }
        let plot = Plot::Lines {
            axis: axis::time_axis(self.window(), 9),
            series: self.drawn(groups, factor, named),
            style,
            spans,
        };
        Ok(judged(axis, limits, plot, description, counts))
    }

    /// Names the lines that are past a limit at their end.
    pub(super) fn tell_lines(
        &mut self,
        groups: &[(String, Points)],
        value: &str,
        limits: &Thresholds,
    ) {
        let what = title(self.query, value);
        let unit = (&self.unit(value), wanted_decimals(self.query, value));
        let format = self.number_format();
        for (name, points) in groups.iter().filter(|_| limits.is_set()) {
            if let Some(last) = points.iter().rev().find_map(|(_, value)| *value) {
                let past = &mut self.context.past;
                past.add_value((name, &what), last, unit, limits, format);
            }
        }
    }

    /// One series for each value of a column, or for each column of values, oldest point first.
    pub(super) fn series_of_points(
        &self,
        time: &str,
        values: &[String],
        by: Option<&str>,
    ) -> Result<Vec<(String, Points)>, CannotShow> {
        let time = self.times(time)?;
        let mut groups = Groups::new();
        match by {
            Some(by) => {
                let (value, by) = (self.number(&values[0])?, self.column(by)?);
                for row in &self.table.rows {
                    if let Some(at) = self.instant(&row[time]) {
                        groups.add(self.text(&row[by]), (at, row[value].as_number()));
                    }
                }
            }
            None => {
                for name in values {
                    let value = self.number(name)?;
                    let points = self.table.rows.iter().filter_map(|row| {
                        Some((self.instant(&row[time])?, row[value].as_number()))
                    });
                    groups
                        .all
                        .push((title(self.query, name), points.collect::<Points>()));
                }
            }
        }
        let mut groups = groups.in_order();
        groups
            .iter_mut()
            .for_each(|(_, points)| points.sort_by_key(|(at, _)| *at));
        Ok(groups)
    }

    fn drawn(&mut self, groups: Vec<(String, Points)>, factor: f64, named: usize) -> Vec<Series> {
        let colours = &mut self.context.colours;
        let scaled = |points: Points| -> Points {
            let scale = |(at, value): (_, Option<f64>)| (at, value.map(|value| value * factor));
            points.into_iter().map(scale).collect()
        };
        groups
            .into_iter()
            .enumerate()
            .map(|(place, (name, points))| {
                let stretches = axis::stretches(&scaled(points));
                // Those behind take no colour from the palette.
                let behind = place >= named;
                Series {
                    colour: if behind { 0 } else { colours.of(&name) },
                    name,
                    behind,
                    stretches: stretches.into_iter().map(axis::thin).collect(),
                }
            })
            .collect()
    }

    /// The stretches of time that another query names, as far as they are in the window.
    fn spans(&self, name: &str) -> Result<Vec<Span>, CannotShow> {
        let dashboard = self.context.dashboard;
        let query = answers::query(dashboard, name)?;
        let table = Table::from(answers::answer(self.context.snapshot, dashboard, query)?.table);
        if table.rows.is_empty() {
            return Ok(Vec::new());
        }
        let find = |name: &str| column(&table.columns, query, name);
        let (from, to, title, window) = (find("from")?, find("to")?, find("title")?, self.window());
        let spans = table.rows.iter().take(MOST_SPANS).filter_map(|row| {
            let from = instant(&row[from], window)?.max(window.from);
            // What has not ended reaches to the end of the window.
            let to = instant(&row[to], window)
                .unwrap_or(window.to)
                .min(window.to);
            (from < to).then(|| Span {
                from,
                to,
                title: self.text(&row[title]),
            })
        });
        Ok(spans.collect())
    }
}

pub(super) fn values_of(groups: &[(String, Points)]) -> Vec<f64> {
    let points = groups.iter().flat_map(|(_, points)| points);
    points.filter_map(|(_, value)| *value).collect()
}

/// How each series stands at its end, and which were past a limit before.
pub(super) fn judge(groups: &[(String, Points)], thresholds: &Thresholds) -> StatusCounts {
    let mut judged = StatusCounts::default();
    if !thresholds.is_set() {
        return judged;
    }
    for (_, points) in groups {
        stop::check();
        let statuses = || {
            points
                .iter()
                .filter_map(|(_, value)| *value)
                .map(|value| thresholds.status(Some(value)))
        };
        let Some(last) = statuses().next_back() else {
            continue;
        };
        judged.add(last);
        judged.recovered +=
            usize::from(last == Status::Ok && statuses().any(|status| status > Status::Ok));
    }
    judged
}

/// Puts the series that come nearest to trouble first, by their most extreme values.
pub(super) fn worst_first(groups: &mut [(String, Points)], thresholds: &Thresholds) {
    let extreme = |points: &Points| {
        let values = points.iter().filter_map(|(_, value)| *value);
        match thresholds.worse {
            Direction::Higher => values.fold(f64::NEG_INFINITY, f64::max),
            Direction::Lower => -values.fold(f64::INFINITY, f64::min),
        }
    };
    groups.sort_by(|(_, a), (_, b)| extreme(b).total_cmp(&extreme(a)));
}

/// Puts each series on the sum of those before it, at the times that any of them has. A
/// missing value adds nothing where another series has one.
fn stack(groups: &mut [(String, Points)]) {
    let mut below: BTreeMap<DateTime<Utc>, f64> = BTreeMap::new();
    let points = groups.iter().flat_map(|(_, points)| points);
    let times: BTreeSet<DateTime<Utc>> = points
        .filter(|(_, value)| value.is_some())
        .map(|(at, _)| *at)
        .collect();
    for (_, points) in groups {
        stop::check();
        let own: BTreeMap<DateTime<Utc>, f64> = points
            .iter()
            .filter_map(|(at, value)| Some((*at, (*value)?)))
            .collect();
        *points = times
            .iter()
            .map(|at| {
                let level = below.entry(*at).or_insert(0.0);
                *level += own.get(at).copied().unwrap_or(0.0).max(0.0);
                (*at, Some(*level))
            })
            .collect();
    }
}

fn describe(
    title: &str,
    groups: &[(String, Points)],
    unit: &Unit,
    number_format: NumberFormat,
) -> String {
    let what = format!("Line chart: {title}");
    let say = |value: f64| unit.format(value, number_format);
    let values = |points: &Points| points.iter().filter_map(|(_, value)| *value).collect();
    let told: Vec<(&String, Vec<f64>)> = groups
        .iter()
        .map(|(name, points)| (name, values(points)))
        .collect();
    if told.len() <= MOST_TOLD {
        let one = |(name, values): &(&String, Vec<f64>)| match values.last() {
            None => format!("{name}: no values"),
            Some(last) => {
                let (low, high) = extremes(values);
                let [low, high, last] = [low, high, *last].map(say);
                format!("{name}: lowest {low}, highest {high}, last {last}")
            }
        };
        return in_words(&what, told.iter().map(one).collect(), MOST_TOLD);
    }
    stop::check();
    let most = |by: fn(&[f64]) -> f64| {
        let known = told.iter().filter(|(_, values)| !values.is_empty());
        let all = known.map(|(name, values)| (by(values), name));
        all.max_by(|(a, _), (b, _)| a.total_cmp(b))
    };
    let lowest = most(|values| -extremes(values).0);
    let (highest, last) = (
        most(|values| extremes(values).1),
        most(|values| values[values.len() - 1]),
    );
    let (Some((low, of_low)), Some((high, of_high)), Some((last, of_last))) =
        (lowest, highest, last)
    else {
        return in_words(&what, Vec::new(), 0);
    };
    let [low, high, last] = [-low, high, last].map(say);
    let range = format!(
        "{} lines, from {low} ({of_low}) to {high} ({of_high})",
        told.len()
    );
    let end = format!("highest at the end: {of_last}, {last}");
    in_words(&what, vec![range, end], 2)
}
