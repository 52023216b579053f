//! Bars, side by side or stacked, and rankings.

use maple_lark_data::{
    Table, Unit, Value,
    figures::Order,
    series,
    status::{Status, StatusCounts, Thresholds},
    stop,
};
use maple_lark_definition::BarForm;

use super::{
    Drawing, Groups, MOST_BARS, MOST_SERIES, MOST_TOLD, Places, in_words, judged, missing,
    put_in_order,
};
use crate::{
    chart::{BarSeries, Plot},
    compose::{
        CannotShow, axis,
        column::{thresholds, title, wanted_decimals},
    },
    document::Body,
};

/// The bars of a figure: what they stand at, and for each series one value a place.
struct Bars {
    categories: Vec<String>,
    series: Vec<(String, Vec<Option<f64>>)>,
}

impl Drawing<'_, '_> {
    pub(super) fn bars(
        &mut self,
        label: &str,
        values: &[String],
        form: BarForm,
        by: Option<&str>,
    ) -> Result<Body, CannotShow> {
        let Bars { categories, series } = self.read_bars(label, values, by)?;
        let (unit, thresholds, number_format) = (
            self.unit(&values[0]),
            thresholds(self.query, &values[0]),
            self.number_format(),
        );
        let mut reach: Vec<f64> = series
            .iter()
            .flat_map(|(_, values)| values.iter().flatten().copied())
            .collect();
        if reach.is_empty() {
            return Ok(missing());
        }
        if form.stacked {
            if reach.iter().any(|value| *value < 0.0) {
                return Err(CannotShow::StackedBelowZero);
            }
            let at = |place: usize| series.iter().filter_map(move |(_, row)| row[place]);
            reach = (0..categories.len())
                .map(|place| series::sum(at(place)))
                .collect();
        }
        let (axis, factor) = axis::axis_for(&reach, &thresholds, &unit, true, number_format);
        let limits = axis::limits(&thresholds, factor, &axis.unit, number_format);
        // A part of a stack is not held against the limit of the whole.
        let limited = thresholds.is_set() && !form.stacked;
        let all: Vec<Option<f64>> = series.iter().flat_map(|(_, row)| row).copied().collect();
        let mut labels = self.labels(&values[0], &all).into_iter();
        let series: Vec<BarSeries> = series
            .into_iter()
            .map(|(name, values)| {
                let labels = labels.by_ref().take(values.len()).collect();
                self.bar_series(
                    name,
                    &values,
                    labels,
                    factor,
                    limited.then_some(&thresholds),
                )
            })
            .collect();
        let mut counts = StatusCounts::default();
        if limited {
            let decimals = wanted_decimals(self.query, &values[0]);
            let read = ((&unit, decimals), factor);
            self.tell_bars(&categories, &series, read, &thresholds);
        }
        let known = series
            .iter()
            .filter(|_| limited)
            .flat_map(|bars| bars.statuses.iter().zip(&bars.values))
            .filter(|(_, value)| value.is_some());
        known.for_each(|(status, _)| counts.add(*status));
        let description = self.bars_in_words(&categories, &series);
        let plot = Plot::Bars {
            categories,
            series,
            form,
        };
        Ok(judged(axis, limits, plot, description, counts))
    }

    fn bars_in_words(&self, categories: &[String], series: &[BarSeries]) -> String {
        let what = format!("Bar chart: {}", self.block.title);
        if categories.len() * series.len() <= 2 * MOST_TOLD {
            let one = |bars: &BarSeries| {
                let pairs = categories.iter().zip(&bars.labels);
                let pairs: Vec<String> = pairs
                    .map(|(category, value)| format!("{category} {value}"))
                    .collect();
                format!("{}: {}", bars.name, pairs.join(", "))
            };
            return in_words(&what, series.iter().map(one).collect(), 2 * MOST_TOLD);
        }
        let all = series.iter().flat_map(|bars| {
            let cells = bars.values.iter().zip(&bars.labels).zip(categories);
            cells.filter_map(move |((value, label), category)| {
                Some(((*value)?, label, category, bars))
            })
        });
        let by_value = |a: &(f64, _, _, _), b: &(f64, _, _, _)| a.0.total_cmp(&b.0);
        let place = |category: &String, bars: &BarSeries| match series.len() {
            1 => category.clone(),
            _ => format!("{category}, {}", bars.name),
        };
        let (low, high) = (all.clone().min_by(by_value), all.clone().max_by(by_value));
        let (Some((_, low, at_low, of_low)), Some((_, high, at_high, of_high))) = (low, high)
        else {
            return in_words(&what, Vec::new(), 0);
        };
        let (at_low, at_high) = (place(at_low, of_low), place(at_high, of_high));
        let range = format!(
            "{} bars, from {low} ({at_low}) to {high} ({at_high})",
            all.count()
        );
        in_words(&what, vec![range], 1)
    }

    /// Names the bars that are past a limit.
    fn tell_bars(
        &mut self,
        categories: &[String],
        series: &[BarSeries],
        (unit, factor): ((&Unit, Option<usize>), f64),
        limits: &Thresholds,
    ) {
        let format = self.number_format();
        for bars in series {
            let known = categories.iter().zip(&bars.values);
            for (category, value) in known.filter_map(|(name, value)| Some((name, (*value)?))) {
                let of = (category.as_str(), bars.name.as_str());
                let past = &mut self.context.past;
                past.add_value(of, value / factor, unit, limits, format);
            }
        }
    }

    fn read_bars(
        &self,
        label: &str,
        values: &[String],
        by: Option<&str>,
    ) -> Result<Bars, CannotShow> {
        let label = self.column(label)?;
        let numbers: Vec<usize> = values
            .iter()
            .map(|name| self.number(name))
            .collect::<Result<_, _>>()?;
        let by = by.map(|by| self.column(by)).transpose()?;
        let mut categories = Places::default();
        let mut groups = Groups::new();
        for row in &self.table.rows {
            stop::check();
            let category = self.text(&row[label]);
            if let Some(by) = by {
                let place = categories.of(category);
                groups.add(self.text(&row[by]), (place, row[numbers[0]].as_number()));
                continue;
            }
            // Without a series column every row is a bar of its own, even of the same name.
            categories.names.push(category);
            let place = categories.names.len() - 1;
            for (name, number) in values.iter().zip(&numbers) {
                groups.add(title(self.query, name), (place, row[*number].as_number()));
            }
        }
        let (mut categories, mut groups) = (categories.names, groups.in_order());
        // What is in the order of its values stays in it.
        let ranked = groups.first().is_some_and(|(_, cells)| {
            let values = || cells.iter().map(|(_, value)| *value);
            values().is_sorted() || values().rev().is_sorted()
        });
        if !ranked {
            let places = put_in_order(&mut categories);
            for (place, _) in groups.iter_mut().flat_map(|(_, cells)| cells) {
                *place = places[*place];
            }
        }
        if categories.len() > MOST_BARS {
            return Err(CannotShow::too_many(categories.len(), "bars", MOST_BARS));
        }
        if groups.len() > MOST_SERIES {
            return Err(CannotShow::too_many(groups.len(), "series", MOST_SERIES));
        }
        let series = groups
            .into_iter()
            .map(|(name, cells)| {
                let mut row = vec![None; categories.len()];
                cells
                    .into_iter()
                    .for_each(|(place, value)| row[place] = value);
                (name, row)
            })
            .collect();
        Ok(Bars { categories, series })
    }

    fn bar_series(
        &mut self,
        name: String,
        values: &[Option<f64>],
        labels: Vec<String>,
        factor: f64,
        limits: Option<&Thresholds>,
    ) -> BarSeries {
        let status =
            |value: &Option<f64>| limits.map_or(Status::Ok, |limits| limits.status(*value));
        BarSeries {
            colour: self.context.colours.of(&name),
            name,
            labels,
            statuses: values.iter().map(status).collect(),
            values: values
                .iter()
                .map(|value| value.map(|value| value * factor))
                .collect(),
        }
    }

    pub(super) fn ranking(
        &mut self,
        label: &str,
        value: &str,
        limit: usize,
        order: Order,
    ) -> Result<Body, CannotShow> {
        let number = self.number(value)?;
        let mut ranked: Vec<(f64, &Vec<Value>)> = self
            .table
            .rows
            .iter()
            .filter_map(|row| Some((row[number].as_number()?, row)))
            .collect();
        ranked.sort_by(|(a, _), (b, _)| {
            if order == Order::Highest {
                b.total_cmp(a)
            } else {
                a.total_cmp(b)
            }
        });
        let table = Table {
            columns: self.table.columns.clone(),
            rows: ranked
                .into_iter()
                .take(limit)
                .map(|(_, row)| row.clone())
                .collect(),
            truncated: false,
        };
        let mut drawing = Drawing {
            block: self.block,
            query: self.query,
            table: &table,
            roles: &[],
            context: self.context,
        };
        drawing.bars(label, &[value.to_owned()], BarForm::default(), None)
    }
}
