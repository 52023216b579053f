//! Small multiples: a small chart for each thing, all on the same axes.

use maple_lark_data::{status::StatusCounts, stop};

use super::{Drawing, MOST_TOLD, in_words, judged, lines, missing};
use crate::{
    chart::{Multiple, Plot},
    compose::{
        CannotShow, axis,
        column::{thresholds, title},
    },
    document::Body,
};

impl Drawing<'_, '_> {
    /// The charts that come nearest to trouble, of all things that the rows have; how many more
    /// there are is said under the block.
    pub(super) fn multiples(
        &mut self,
        time: &str,
        value: &str,
        by: &str,
        limit: usize,
    ) -> Result<Body, CannotShow> {
        let values = [value.to_owned()];
        let mut groups = self.series_of_points(time, &values, Some(by))?;
        groups.retain(|(_, points)| points.iter().any(|(_, value)| value.is_some()));
        if groups.is_empty() {
            return Ok(missing());
        }
        let (unit, limits, format) = (
            self.unit(value),
            thresholds(self.query, value),
            self.number_format(),
        );
        self.tell_lines(&groups, value, &limits);
        let counts: StatusCounts = lines::judge(&groups, &limits);
        lines::worst_first(&mut groups, &limits);
        let last = |points: &lines::Points| points.iter().rev().find_map(|(_, value)| *value);
        // What is past a limit at its end comes before what was for a time.
        groups.sort_by_key(|(_, points)| std::cmp::Reverse(limits.status(last(points))));
        let all = groups.len();
        groups.truncate(limit);
        if all > limit {
            let note = format!("The worst {limit} of {all}.");
            self.context.notes.push(note);
        }
        let (axis, factor) =
            axis::axis_for(&lines::values_of(&groups), &limits, &unit, false, format);
        let drawn = axis::limits(&limits, factor, &axis.unit, format);
        let when = self.window().label_in(format.date_form());
        let all_of = format!(
            "Small multiples: {}, {when}, {} of {all} on the same axes",
            self.block.title,
            groups.len(),
        );
        let mut told = Vec::new();
        let what = title(self.query, value);
        let mut charts = Vec::new();
        let lasts: Vec<Option<f64>> = groups.iter().map(|(_, points)| last(points)).collect();
        let labels = self.labels(value, &lasts);
        let labelled = groups.into_iter().zip(lasts.into_iter().zip(labels));
        for ((name, points), (last, label)) in labelled {
            stop::check();
            told.push(format!("{name}: {what} {label} at the end"));
            let scaled = points
                .into_iter()
                .map(|(at, value)| (at, value.map(|value| value * factor)))
                .collect::<lines::Points>();
            let stretches = axis::stretches(&scaled);
            charts.push(Multiple {
                status: limits.status(last),
                name,
                label,
                stretches: stretches.into_iter().map(axis::thin).collect(),
            });
        }
        let description = in_words(&all_of, told, MOST_TOLD - 1);
        let times = axis::time_axis(self.window(), 3);
        let plot = Plot::Multiples { times, charts };
        Ok(judged(axis, drawn, plot, description, counts))
    }
}
