//! The charts of blocks: what each kind makes of its query's rows.

use std::collections::BTreeMap;

use chrono::{DateTime, Datelike, Timelike, Utc};
use maple_lark_data::{
    Table, Unit, Value,
    figures::Order,
    number_format::NumberFormat,
    series,
    series::{Aggregation, Total},
    status::{Direction, Status, StatusCounts, Thresholds},
};
use maple_lark_definition::{BarForm, Block as Definition, BlockKind, HeatBy, LineStyle, Query};
use maple_lark_time::Window;

use crate::{
    chart::{
        BarSeries, Bin, BoxRow, BreakdownStep, Chart, HeatCell, Limit, Plot, PointSeries, Series,
        SharePart, Span, StatusStretch, TimelineRow, ValueAxis,
    },
    compose::{
        Context, answers, axis,
        column::{column, numeric_column, readable, thresholds, title, unit},
    },
    document::Body,
};

/// The most lines that a figure can tell apart.
const MOST_SERIES: usize = 16;

/// More lines than can be told apart are drawn, up to so many: the worst with their names, the
/// others in grey behind them.
const MOST_LINES: usize = 100;

const NAMED_LINES: usize = 8;

/// The most bars, rows of a timeline or boxes in one figure.
const MOST_BARS: usize = 60;

/// The most points of a scatter plot.
const MOST_POINTS: usize = 3000;

/// Draws a block that is a chart.
pub(crate) fn chart(
    block: &Definition,
    query: &Query,
    table: &Table,
    context: &mut Context<'_>,
) -> Result<Body, String> {
    let mut drawing = Drawing {
        block,
        query,
        table,
        context,
    };
    match &block.kind {
        BlockKind::Line {
            time,
            values,
            series,
            style,
            spans,
        } => drawing.lines(
            time,
            values,
            series.as_deref(),
            *style,
            spans.as_ref().map(|spans| spans.value.as_str()),
        ),
        BlockKind::Bar {
            label,
            values,
            form,
            series,
        } => drawing.bars(label, values, *form, series.as_deref()),
        BlockKind::Ranking {
            label,
            value,
            limit,
            order,
        } => drawing.ranking(label, value, *limit, *order),
        BlockKind::Breakdown { label, value } => drawing.breakdown(label, value),
        BlockKind::Heat {
            by,
            value,
            aggregation,
        } => drawing.heat(by, value, *aggregation),
        BlockKind::Timeline { time, row, state } => drawing.timeline(time, row, state),
        BlockKind::Scatter { across, up, series } => drawing.scatter(across, up, series.as_deref()),
        BlockKind::Histogram { value, bins } => drawing.histogram(value, *bins),
        BlockKind::Boxes { value, row } => drawing.boxes(value, row.as_deref()),
        BlockKind::Share {
            label,
            value,
            round,
        } => drawing.share(label, value, *round),
        _ => Err("this block is no chart".to_owned()),
    }
}

struct Drawing<'d, 'c> {
    block: &'d Definition,
    query: &'d Query,
    table: &'d Table,
    context: &'d mut Context<'c>,
}

/// The points of one series; a missing value is a gap.
type Points = Vec<(DateTime<Utc>, Option<f64>)>;

/// Things by name, in the order in which names first come.
type Groups<T> = Vec<(String, Vec<T>)>;

fn missing() -> Body {
    Body::Empty {
        sentence: "Every value in this window is missing.".to_owned(),
        rows: false,
    }
}

fn instant(value: &Value, window: &Window) -> Option<DateTime<Utc>> {
    match value {
        Value::Instant(at) => Some(*at),
        Value::Date(date) => Some(window.zone.start_of(*date)),
        _ => None,
    }
}

fn visible(limits: Vec<Limit>, axis: &ValueAxis) -> Vec<Limit> {
    limits
        .into_iter()
        .filter(|limit| limit.at >= axis.min && limit.at <= axis.max)
        .collect()
}

fn grouped<T>(groups: &mut Groups<T>, name: String, one: T) {
    match groups.iter_mut().find(|(known, _)| *known == name) {
        Some((_, all)) => all.push(one),
        None => groups.push((name, vec![one])),
    }
}

/// How each series stands at its end, and which were past a limit before.
fn judge(groups: &[(String, Points)], thresholds: &Thresholds) -> StatusCounts {
    let mut judged = StatusCounts::default();
    if !thresholds.is_set() {
        return judged;
    }
    for (_, points) in groups {
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

/// Puts the series that come nearest to trouble first, by their most extreme values, and
/// answers how many of them are worth a name.
fn worst_first(groups: &mut [(String, Points)], thresholds: &Thresholds) -> usize {
    let extreme = |points: &Points| {
        let values = points.iter().filter_map(|(_, value)| *value);
        match thresholds.worse {
            Direction::Higher => values.fold(f64::NEG_INFINITY, f64::max),
            Direction::Lower => -values.fold(f64::INFINITY, f64::min),
        }
    };
    groups.sort_by(|(_, a), (_, b)| extreme(b).total_cmp(&extreme(a)));
    NAMED_LINES
}

impl Drawing<'_, '_> {
    fn number_format(&self) -> NumberFormat {
        self.context.number_format
    }

    fn window(&self) -> &Window {
        &self.context.snapshot.window
    }

    fn column(&self, name: &str) -> Result<usize, String> {
        column(&self.table.columns, self.query, name)
    }

    fn number(&self, name: &str) -> Result<usize, String> {
        numeric_column(self.table, self.query, name)
    }

    fn unit(&self, name: &str) -> Unit {
        unit(self.query, name)
    }

    fn text(&self, value: &Value) -> String {
        readable(value, self.window().zone, true, self.number_format())
    }

    fn times(&self, time: &str) -> Result<usize, String> {
        let index = self.column(time)?;
        if self
            .table
            .rows
            .iter()
            .all(|row| instant(&row[index], self.window()).is_none())
        {
            return Err(format!(
                "the column \"{time}\" of the query \"{}\" holds no times",
                self.query.name
            ));
        }
        Ok(index)
    }

    fn done(
        &self,
        axis: ValueAxis,
        limits: Vec<Limit>,
        plot: Plot,
        description: String,
    ) -> Result<Body, String> {
        self.done_judged(axis, limits, plot, description, StatusCounts::default())
    }

    fn done_judged(
        &self,
        axis: ValueAxis,
        limits: Vec<Limit>,
        plot: Plot,
        description: String,
        judged: StatusCounts,
    ) -> Result<Body, String> {
        let limits = visible(limits, &axis);
        Ok(Body::Chart {
            chart: Chart {
                axis,
                limits,
                plot,
                description,
                judged,
            },
        })
    }

    fn lines(
        &mut self,
        time: &str,
        values: &[String],
        by: Option<&str>,
        style: LineStyle,
        spans: Option<&str>,
    ) -> Result<Body, String> {
        let time = self.times(time)?;
        let mut groups: Vec<(String, Points)> = Vec::new();
        match by {
            Some(by) => {
                let (value, by) = (self.number(&values[0])?, self.column(by)?);
                for row in &self.table.rows {
                    let Some(at) = instant(&row[time], self.window()) else {
                        continue;
                    };
                    grouped(
                        &mut groups,
                        self.text(&row[by]),
                        (at, row[value].as_number()),
                    );
                }
            }
            None => {
                for name in values {
                    let value = self.number(name)?;
                    let points = self
                        .table
                        .rows
                        .iter()
                        .filter_map(|row| {
                            Some((instant(&row[time], self.window())?, row[value].as_number()))
                        })
                        .collect();
                    groups.push((title(self.query, name), points));
                }
            }
        }
        if groups.len() > MOST_LINES || groups.len() > MOST_SERIES && style == LineStyle::Stacked {
            let most = if style == LineStyle::Stacked {
                MOST_SERIES
            } else {
                MOST_LINES
            };
            return Err(format!(
                "{} series are too many for one figure; narrow the query to {most} or fewer",
                groups.len()
            ));
        }
        groups
            .iter_mut()
            .for_each(|(_, points)| points.sort_by_key(|(at, _)| *at));
        let (unit, thresholds, number_format) = (
            self.unit(&values[0]),
            thresholds(self.query, &values[0]),
            self.number_format(),
        );
        if groups
            .iter()
            .all(|(_, points)| points.iter().all(|(_, value)| value.is_none()))
        {
            return Ok(missing());
        }
        let description = describe_lines(
            &self.block.title,
            &groups,
            &unit,
            &self.window().label(),
            number_format,
        );
        let judged = if style == LineStyle::Stacked {
            StatusCounts::default()
        } else {
            judge(&groups, &thresholds)
        };
        let named = if groups.len() > MOST_SERIES {
            worst_first(&mut groups, &thresholds)
        } else {
            groups.len()
        };
        if style == LineStyle::Stacked {
            stack(&mut groups);
        }
        let all: Vec<f64> = groups
            .iter()
            .flat_map(|(_, points)| points.iter().filter_map(|(_, value)| *value))
            .collect();
        let from_zero = matches!(style, LineStyle::Area | LineStyle::Stacked);
        let (axis, factor) = axis::axis_for(&all, &thresholds, &unit, from_zero, number_format);
        let limits = axis::limits(&thresholds, factor, &axis.unit, number_format);
        let spans = spans
            .map(|name| self.spans(name))
            .transpose()?
            .unwrap_or_default();
        let colours = &mut self.context.colours;
        let series = groups
            .into_iter()
            .enumerate()
            .map(|(place, (name, points))| {
                let scaled: Vec<_> = points
                    .into_iter()
                    .map(|(at, value)| (at, value.map(|value| value * factor)))
                    .collect();
                let stretches = axis::stretches(&scaled)
                    .into_iter()
                    .map(axis::thin)
                    .collect();
                // Those behind take no colour from the palette.
                let behind = place >= named;
                Series {
                    colour: if behind { 0 } else { colours.of(&name) },
                    name,
                    behind,
                    stretches,
                }
            })
            .collect();
        let description = spans.iter().fold(description, |text, span| {
            format!("{text} Marked: {}.", span.title)
        });
        let plot = Plot::Lines {
            axis: axis::time_axis(self.window(), 9),
            series,
            style,
            spans,
        };
        self.done_judged(axis, limits, plot, description, judged)
    }

    /// The stretches of time that another query names, as far as they are in the window.
    fn spans(&self, name: &str) -> Result<Vec<Span>, String> {
        let dashboard = self.context.dashboard;
        let query = dashboard
            .queries
            .iter()
            .find(|query| query.name == name)
            .ok_or_else(|| format!("there is no query \"{name}\""))?;
        let table = Table::from(answers::answer(self.context.snapshot, dashboard, query)?.table);
        if table.rows.is_empty() {
            return Ok(Vec::new());
        }
        let find = |name: &str| column(&table.columns, query, name);
        let (from, to, title, window) = (find("from")?, find("to")?, find("title")?, self.window());
        let spans = table.rows.iter().take(20).filter_map(|row| {
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

    fn bars(
        &mut self,
        label: &str,
        values: &[String],
        form: BarForm,
        by: Option<&str>,
    ) -> Result<Body, String> {
        let label = self.column(label)?;
        let numbers: Vec<usize> = values
            .iter()
            .map(|name| self.number(name))
            .collect::<Result<_, _>>()?;
        let mut categories: Vec<String> = Vec::new();
        let mut groups: Groups<(usize, Option<f64>)> = Vec::new();
        let by = by.map(|by| self.column(by)).transpose()?;
        for row in &self.table.rows {
            let category = self.text(&row[label]);
            // Without a series column every row is a bar of its own, even of the same name.
            let place =
                match by.and_then(|_| categories.iter().position(|known| *known == category)) {
                    Some(place) => place,
                    None => {
                        categories.push(category);
                        categories.len() - 1
                    }
                };
            match by {
                Some(by) => grouped(
                    &mut groups,
                    self.text(&row[by]),
                    (place, row[numbers[0]].as_number()),
                ),
                None => values.iter().zip(&numbers).for_each(|(name, number)| {
                    grouped(
                        &mut groups,
                        title(self.query, name),
                        (place, row[*number].as_number()),
                    )
                }),
            }
        }
        if categories.len() > MOST_BARS {
            return Err(format!(
                "{} bars are too many for one figure; narrow the query to {MOST_BARS} or fewer",
                categories.len()
            ));
        }
        if groups.len() > MOST_SERIES {
            return Err(format!(
                "{} series are too many to tell apart in one figure; narrow the query to {MOST_SERIES} or fewer",
                groups.len()
            ));
        }
        let (unit, thresholds, number_format) = (
            self.unit(&values[0]),
            thresholds(self.query, &values[0]),
            self.number_format(),
        );
        let table: Vec<Vec<Option<f64>>> = groups
            .iter()
            .map(|(_, cells)| {
                let mut row = vec![None; categories.len()];
                cells.iter().for_each(|(place, value)| row[*place] = *value);
                row
            })
            .collect();
        let all: Vec<f64> = table.iter().flatten().flatten().copied().collect();
        if all.is_empty() {
            return Ok(missing());
        }
        if form.stacked && all.iter().any(|value| *value < 0.0) {
            return Err("bars cannot be stacked where a value is below zero".to_owned());
        }
        let reach: Vec<f64> = if form.stacked {
            (0..categories.len())
                .map(|place| series::sum(table.iter().filter_map(|row| row[place])))
                .collect()
        } else {
            all
        };
        let (axis, factor) = axis::axis_for(&reach, &thresholds, &unit, true, number_format);
        let series: Vec<BarSeries> = groups
            .into_iter()
            .zip(table)
            .map(|((name, _), values)| BarSeries {
                colour: self.context.colours.of(&name),
                name,
                labels: values
                    .iter()
                    .map(|value| {
                        value.map_or_else(
                            || "–".to_owned(),
                            |value| unit.format(value, number_format),
                        )
                    })
                    .collect(),
                statuses: values
                    .iter()
                    .map(|value| {
                        if thresholds.is_set() && !form.stacked {
                            thresholds.status(*value)
                        } else {
                            Status::Ok
                        }
                    })
                    .collect(),
                values: values
                    .iter()
                    .map(|value| value.map(|value| value * factor))
                    .collect(),
            })
            .collect();
        let mut description = format!("Bar chart: {}.", self.block.title);
        for bars in &series {
            let pairs: Vec<String> = categories
                .iter()
                .zip(&bars.labels)
                .map(|(category, value)| format!("{category} {value}"))
                .collect();
            description += &format!(" {}: {}.", bars.name, pairs.join(", "));
        }
        let limits = axis::limits(&thresholds, factor, &axis.unit, number_format);
        let mut judged = StatusCounts::default();
        if thresholds.is_set() && !form.stacked {
            series
                .iter()
                .flat_map(|bars| bars.statuses.iter().zip(&bars.values))
                .filter(|(_, value)| value.is_some())
                .for_each(|(status, _)| judged.add(*status));
        }
        self.done_judged(
            axis,
            limits,
            Plot::Bars {
                categories,
                series,
                form,
            },
            description,
            judged,
        )
    }

    fn ranking(
        &mut self,
        label: &str,
        value: &str,
        limit: usize,
        order: Order,
    ) -> Result<Body, String> {
        let number = self.number(value)?;
        let mut ranked: Vec<&Vec<Value>> = self
            .table
            .rows
            .iter()
            .filter(|row| row[number].as_number().is_some())
            .collect();
        ranked.sort_by(|a, b| {
            let (a, b) = (
                a[number].as_number().unwrap_or_default(),
                b[number].as_number().unwrap_or_default(),
            );
            if order == Order::Highest {
                b.total_cmp(&a)
            } else {
                a.total_cmp(&b)
            }
        });
        let table = Table {
            columns: self.table.columns.clone(),
            rows: ranked.into_iter().take(limit).cloned().collect(),
            truncated: false,
        };
        let mut drawing = Drawing {
            block: self.block,
            query: self.query,
            table: &table,
            context: self.context,
        };
        drawing.bars(label, &[value.to_owned()], BarForm::default(), None)
    }

    fn breakdown(&mut self, label: &str, value: &str) -> Result<Body, String> {
        let (label, number, unit, number_format) = (
            self.column(label)?,
            self.number(value)?,
            self.unit(value),
            self.number_format(),
        );
        let rows: Vec<(String, f64)> = self
            .table
            .rows
            .iter()
            .filter_map(|row| Some((self.text(&row[label]), row[number].as_number()?)))
            .collect();
        if rows.len() < 2 {
            return Ok(missing());
        }
        if rows.len() > MOST_BARS {
            return Err(format!(
                "{} steps are too many for one figure; narrow the query to {MOST_BARS} or fewer",
                rows.len()
            ));
        }
        let last = rows.len() - 1;
        let mut level = Total::default();
        let mut steps = Vec::new();
        for (place, (title, amount)) in rows.into_iter().enumerate() {
            let total = place == 0 || place == last;
            let (from, to) = if total {
                if place == 0 {
                    level.add(amount);
                }
                (0.0, amount)
            } else {
                let from = level.value();
                level.add(amount);
                (from, level.value())
            };
            let sign = if !total && amount > 0.0 { "+" } else { "" };
            steps.push(BreakdownStep {
                title,
                from,
                to,
                label: format!("{sign}{}", unit.format(amount, number_format)),
                total,
            });
        }
        let reach: Vec<f64> = steps.iter().flat_map(|step| [step.from, step.to]).collect();
        let (axis, factor) =
            axis::axis_for(&reach, &Default::default(), &unit, true, number_format);
        let parts: Vec<String> = steps
            .iter()
            .map(|step| format!("{} {}", step.title, step.label))
            .collect();
        let description = format!(
            "From before to after: {}. {}.",
            self.block.title,
            parts.join(", ")
        );
        steps
            .iter_mut()
            .for_each(|step| (step.from, step.to) = (step.from * factor, step.to * factor));
        self.done(axis, Vec::new(), Plot::Steps { steps }, description)
    }

    fn heat(&mut self, by: &HeatBy, value: &str, aggregation: Aggregation) -> Result<Body, String> {
        let (number, unit, number_format) =
            (self.number(value)?, self.unit(value), self.number_format());
        let mut places: BTreeMap<(usize, usize), Vec<f64>> = BTreeMap::new();
        let (mut rows, mut columns): (Vec<String>, Vec<String>) = (Vec::new(), Vec::new());
        match by {
            HeatBy::HourAndWeekday { time } => {
                let time = self.times(time)?;
                rows = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"]
                    .map(str::to_owned)
                    .to_vec();
                columns = (0..24).map(|hour| format!("{hour:02}")).collect();
                for row in &self.table.rows {
                    let (Some(at), Some(value)) =
                        (instant(&row[time], self.window()), row[number].as_number())
                    else {
                        continue;
                    };
                    let local = self.window().zone.local(at);
                    places
                        .entry((
                            local.weekday().num_days_from_monday() as usize,
                            local.hour() as usize,
                        ))
                        .or_default()
                        .push(value);
                }
            }
            HeatBy::Columns { row, column } => {
                let (by_row, by_column) = (self.column(row)?, self.column(column)?);
                for row in &self.table.rows {
                    let place = |names: &mut Vec<String>, name: String| {
                        names
                            .iter()
                            .position(|known| *known == name)
                            .unwrap_or_else(|| {
                                names.push(name);
                                names.len() - 1
                            })
                    };
                    let at = (
                        place(&mut rows, self.text(&row[by_row])),
                        place(&mut columns, self.text(&row[by_column])),
                    );
                    let cell = places.entry(at).or_default();
                    cell.extend(row[number].as_number());
                }
            }
        }
        if rows.len() > MOST_BARS || columns.len() > MOST_BARS {
            return Err(format!(
                "{} rows and {} columns are too many for one figure; narrow the query to {MOST_BARS} of each",
                rows.len(),
                columns.len()
            ));
        }
        let cells: BTreeMap<(usize, usize), f64> = places
            .into_iter()
            .filter(|(_, values)| !values.is_empty())
            .map(|(at, mut values)| (at, series::one(&mut values, aggregation)))
            .collect();
        let (low, high) = cells
            .values()
            .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), v| {
                (low.min(*v), high.max(*v))
            });
        if cells.is_empty() {
            return Ok(missing());
        }
        let share = |value: f64| {
            if high > low {
                (value - low) / (high - low)
            } else {
                0.5
            }
        };
        let most = cells
            .iter()
            .max_by(|a, b| a.1.total_cmp(b.1))
            .map(|((row, column), value)| {
                format!(
                    " Highest: {} {}, {}.",
                    rows[*row],
                    columns[*column],
                    unit.format(*value, number_format)
                )
            });
        let (axis, factor) = axis::axis_for(
            &[low, high],
            &Default::default(),
            &unit,
            false,
            number_format,
        );
        let decimals = if (high - low) * factor >= 20.0 { 0 } else { 1 };
        let grid = (0..rows.len())
            .map(|row| {
                (0..columns.len())
                    .map(|column| {
                        cells.get(&(row, column)).map(|value| HeatCell {
                            share: share(*value),
                            label: number_format.number(value * factor, decimals),
                        })
                    })
                    .collect()
            })
            .collect();
        let (low, high) = (
            unit.format(low, number_format),
            unit.format(high, number_format),
        );
        let description = format!(
            "Heat map: {}, from {low} to {high}.{}",
            self.block.title,
            most.unwrap_or_default()
        );
        self.done(
            axis,
            Vec::new(),
            Plot::Heat {
                columns,
                rows,
                cells: grid,
                low,
                high,
            },
            description,
        )
    }

    fn timeline(&mut self, time: &str, row: &str, state: &str) -> Result<Body, String> {
        let (time, by, state_index) = (self.times(time)?, self.column(row)?, self.column(state)?);
        let thresholds = thresholds(self.query, state);
        let status = |value: &Value| match value {
            Value::Missing => Some(Status::Unknown),
            Value::Boolean(well) => Some(if *well { Status::Ok } else { Status::Critical }),
            Value::Text(word) => Status::from_word(word),
            value => Some(thresholds.status(value.as_number())),
        };
        let mut groups: Groups<(DateTime<Utc>, Status)> = Vec::new();
        for row in &self.table.rows {
            let Some(at) = instant(&row[time], self.window()) else {
                continue;
            };
            let status = status(&row[state_index]).ok_or_else(|| {
                format!(
                    "\"{}\" in the column \"{state}\" is no state; write ok, warning, critical or unknown, true or false, or a number with thresholds",
                    self.text(&row[state_index])
                )
            })?;
            grouped(&mut groups, self.text(&row[by]), (at, status));
        }
        if groups.len() > MOST_BARS {
            return Err(format!(
                "{} rows are too many for one figure; narrow the query to {MOST_BARS} or fewer",
                groups.len()
            ));
        }
        let window = self.window();
        let mut description = format!("States over time: {}.", self.block.title);
        let mut rows = Vec::new();
        for (name, mut states) in groups {
            states.sort_by_key(|(at, _)| *at);
            let mut stretches: Vec<StatusStretch> = Vec::new();
            for (place, (at, status)) in states.iter().enumerate() {
                // A state holds until the next one.
                let to = states
                    .get(place + 1)
                    .map_or(window.to, |(next, _)| *next)
                    .min(window.to);
                let from = (*at).max(window.from);
                match stretches.last_mut() {
                    Some(last) if last.status == *status && last.to == from => last.to = to,
                    _ if from < to => stretches.push(StatusStretch {
                        from,
                        to,
                        status: *status,
                    }),
                    _ => {}
                }
            }
            let bad = stretches
                .iter()
                .filter(|stretch| stretch.status == Status::Critical)
                .map(|stretch| stretch.to - stretch.from)
                .sum::<chrono::TimeDelta>();
            if bad > chrono::TimeDelta::zero() {
                description += &format!(
                    " {name}: critical for {}.",
                    Unit::Seconds.format(bad.num_seconds() as f64, self.number_format())
                );
            }
            rows.push(TimelineRow { name, stretches });
        }
        let axis = axis::value_axis(0.0, 1.0, 2, "", self.number_format());
        let plot = Plot::Timeline {
            axis: axis::time_axis(window, 9),
            rows,
        };
        self.done(axis, Vec::new(), plot, description)
    }

    fn scatter(&mut self, across: &str, up: &str, by: Option<&str>) -> Result<Body, String> {
        let (x, y, by) = (
            self.number(across)?,
            self.number(up)?,
            by.map(|by| self.column(by)).transpose()?,
        );
        let (number_format, across_unit, up_unit) =
            (self.number_format(), self.unit(across), self.unit(up));
        let mut groups: Groups<(f64, f64)> = Vec::new();
        for row in &self.table.rows {
            let (Some(x), Some(y)) = (row[x].as_number(), row[y].as_number()) else {
                continue;
            };
            grouped(
                &mut groups,
                by.map_or_else(|| title(self.query, up), |by| self.text(&row[by])),
                (x, y),
            );
        }
        let points: Vec<(f64, f64)> = groups
            .iter()
            .flat_map(|(_, points)| points.iter().copied())
            .collect();
        if points.is_empty() {
            return Ok(missing());
        }
        if points.len() > MOST_POINTS || groups.len() > MOST_SERIES {
            return Err(format!(
                "{} points in {} groups are too many for one figure; narrow the query to {MOST_POINTS} in {MOST_SERIES}",
                points.len(),
                groups.len()
            ));
        }
        let side = |values: Vec<f64>, name: &str, unit: &Unit| {
            axis::axis_for(
                &values,
                &thresholds(self.query, name),
                unit,
                false,
                number_format,
            )
        };
        let (x_axis, x_factor) = side(
            points.iter().map(|point| point.0).collect(),
            across,
            &across_unit,
        );
        let (y_axis, y_factor) = side(points.iter().map(|point| point.1).collect(), up, &up_unit);
        let limits = axis::limits(
            &thresholds(self.query, up),
            y_factor,
            &y_axis.unit,
            number_format,
        );
        let (across_title, up_title) = (title(self.query, across), title(self.query, up));
        let count = points.len();
        let series = groups
            .into_iter()
            .map(|(name, points)| PointSeries {
                colour: self.context.colours.of(&name),
                name,
                points: points
                    .into_iter()
                    .map(|(x, y)| (x * x_factor, y * y_factor))
                    .collect(),
            })
            .collect();
        let description = format!(
            "Scatter plot: {}. {count} points, {up_title} against {across_title}.",
            self.block.title
        );
        self.done(
            y_axis,
            limits,
            Plot::Points {
                across: x_axis,
                across_title,
                up_title,
                series,
            },
            description,
        )
    }

    fn numbers(&self, index: usize) -> Vec<f64> {
        self.table
            .rows
            .iter()
            .filter_map(|row| row[index].as_number())
            .filter(|n| n.is_finite())
            .collect()
    }

    fn histogram(&mut self, value: &str, bins: Option<usize>) -> Result<Body, String> {
        let (number, unit, number_format) =
            (self.number(value)?, self.unit(value), self.number_format());
        let values = self.numbers(number);
        if values.is_empty() {
            return Ok(missing());
        }
        // As many as the square root of the values, and round edges.
        let wanted = bins
            .unwrap_or((values.len() as f64).sqrt().ceil() as usize)
            .clamp(2, 60);
        let scale = unit.scale(values.iter().fold(0.0, |most, v| v.abs().max(most)));
        let scaled: Vec<f64> = values.iter().map(|value| value * scale.factor).collect();
        let (low, high) = scaled
            .iter()
            .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), v| {
                (low.min(*v), high.max(*v))
            });
        let across = axis::value_axis(low, high, wanted.min(30), &scale.suffix, number_format);
        let edges: Vec<f64> = across.ticks.iter().map(|tick| tick.at).collect();
        let mut counted: Vec<Bin> = edges
            .windows(2)
            .map(|pair| Bin {
                from: pair[0],
                to: pair[1],
                count: 0,
            })
            .collect();
        for value in &scaled {
            // The last bin takes its upper edge in.
            let place = edges
                .partition_point(|edge| edge <= value)
                .saturating_sub(1)
                .min(counted.len() - 1);
            counted[place].count += 1;
        }
        let most = counted.iter().map(|bin| bin.count).max().unwrap_or(0);
        let axis = axis::value_axis(0.0, most as f64, 4, "", number_format);
        let fullest = counted.iter().find(|bin| bin.count == most).map(|bin| {
            format!(
                " Most, {most}, between {} and {} {}.",
                number_format.readable(bin.from),
                number_format.readable(bin.to),
                across.unit
            )
        });
        let description = format!(
            "Histogram: {}. {} values.{}",
            self.block.title,
            values.len(),
            fullest.unwrap_or_default()
        );
        self.done(
            axis,
            Vec::new(),
            Plot::Histogram {
                across,
                bins: counted,
            },
            description,
        )
    }

    fn boxes(&mut self, value: &str, row: Option<&str>) -> Result<Body, String> {
        let (number, unit, number_format, by) = (
            self.number(value)?,
            self.unit(value),
            self.number_format(),
            row.map(|row| self.column(row)).transpose()?,
        );
        let mut groups: Groups<f64> = Vec::new();
        for row in &self.table.rows {
            let name = by.map_or_else(|| title(self.query, value), |by| self.text(&row[by]));
            if let Some(value) = row[number].as_number().filter(|n| n.is_finite()) {
                grouped(&mut groups, name, value);
            }
        }
        if groups.is_empty() {
            return Ok(missing());
        }
        if groups.len() > MOST_BARS {
            return Err(format!(
                "{} boxes are too many for one figure; narrow the query to {MOST_BARS} or fewer",
                groups.len()
            ));
        }
        let all: Vec<f64> = groups
            .iter()
            .flat_map(|(_, values)| values.iter().copied())
            .collect();
        let limits = thresholds(self.query, value);
        let (axis, factor) = axis::axis_for(&all, &limits, &unit, false, number_format);
        let mut description = format!("Box plot: {}.", self.block.title);
        let boxes = groups
            .into_iter()
            .map(|(name, mut values)| {
                values.iter_mut().for_each(|value| *value *= factor);
                let mut at = |percentile| series::percentile(&mut values, percentile);
                let (lower_quartile, median, upper_quartile) = (at(25.0), at(50.0), at(75.0));
                let reach = 1.5 * (upper_quartile - lower_quartile);
                let (inside, outside): (Vec<f64>, Vec<f64>) = values.iter().partition(|value| {
                    **value >= lower_quartile - reach && **value <= upper_quartile + reach
                });
                let (low, high) = inside
                    .iter()
                    .fold((lower_quartile, upper_quartile), |(low, high), v| {
                        (low.min(*v), high.max(*v))
                    });
                let label = unit.format(median / factor, number_format);
                description += &format!(" {name}: median {label}.");
                BoxRow {
                    name,
                    low,
                    lower_quartile,
                    median,
                    upper_quartile,
                    high,
                    outside,
                    label,
                }
            })
            .collect();
        let limits = axis::limits(&limits, factor, &axis.unit, number_format);
        self.done(axis, limits, Plot::Boxes { boxes }, description)
    }

    fn share(&mut self, label: &str, value: &str, round: bool) -> Result<Body, String> {
        const MOST_PARTS: usize = 8;
        let (label, number, unit, number_format) = (
            self.column(label)?,
            self.number(value)?,
            self.unit(value),
            self.number_format(),
        );
        let mut parts: Vec<(String, f64)> = self
            .table
            .rows
            .iter()
            .filter_map(|row| Some((self.text(&row[label]), row[number].as_number()?)))
            .collect();
        if let Some((name, _)) = parts.iter().find(|(_, value)| *value < 0.0) {
            return Err(format!(
                "\"{name}\" is below zero and so no part of a whole"
            ));
        }
        parts.sort_by(|a, b| b.1.total_cmp(&a.1));
        let whole = series::sum(parts.iter().map(|(_, value)| *value));
        if whole <= 0.0 {
            return Ok(missing());
        }
        if parts.len() > MOST_PARTS {
            let rest = parts.split_off(MOST_PARTS - 1);
            parts.push((
                format!("{} others", rest.len()),
                series::sum(rest.into_iter().map(|(_, value)| value)),
            ));
        }
        let parts: Vec<SharePart> = parts
            .into_iter()
            .map(|(name, value)| SharePart {
                colour: self.context.colours.of(&name),
                label: format!(
                    "{} ({})",
                    unit.format(value, number_format),
                    Unit::Percent.format((value / whole * 1000.0).round() / 10.0, number_format)
                ),
                share: value / whole,
                name,
            })
            .collect();
        let words: Vec<String> = parts
            .iter()
            .map(|part| format!("{} {}", part.name, part.label))
            .collect();
        let description = format!(
            "Shares of {}: {}. {}.",
            unit.format(whole, number_format),
            self.block.title,
            words.join(", ")
        );
        let axis = axis::value_axis(0.0, 100.0, 4, "%", number_format);
        self.done(axis, Vec::new(), Plot::Share { parts, round }, description)
    }
}

/// Puts each series on the sum of those before it, at the times that any of them has. A
/// missing value adds nothing where another series has one.
fn stack(groups: &mut [(String, Points)]) {
    let mut below: BTreeMap<DateTime<Utc>, f64> = BTreeMap::new();
    let times: std::collections::BTreeSet<DateTime<Utc>> = groups
        .iter()
        .flat_map(|(_, points)| {
            points
                .iter()
                .filter(|(_, value)| value.is_some())
                .map(|(at, _)| *at)
        })
        .collect();
    for (_, points) in groups {
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

fn describe_lines(
    title: &str,
    groups: &[(String, Points)],
    unit: &Unit,
    window: &str,
    number_format: NumberFormat,
) -> String {
    let mut text = format!("Line chart: {title}, {window}.");
    for (name, points) in groups {
        let values: Vec<f64> = points.iter().filter_map(|(_, value)| *value).collect();
        let Some(last) = values.last() else {
            text += &format!(" {name}: no values.");
            continue;
        };
        let (low, high) = values
            .iter()
            .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), v| {
                (low.min(*v), high.max(*v))
            });
        text += &format!(
            " {name}: lowest {}, highest {}, last {}.",
            unit.format(low, number_format),
            unit.format(high, number_format),
            unit.format(*last, number_format)
        );
    }
    text
}
