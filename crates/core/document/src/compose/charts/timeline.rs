//! States over time, a row each.

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_data::{
    Unit, Value,
    status::{Status, Thresholds},
    stop,
};
use maple_lark_time::Window;

use super::{Drawing, Groups, MOST_BARS, MOST_TOLD, done, in_words};
use crate::{
    chart::{Plot, StatusStretch, TimelineRow},
    compose::{CannotShow, axis, column::thresholds},
    document::Body,
};

impl Drawing<'_, '_> {
    pub(super) fn timeline(
        &mut self,
        time: &str,
        row: &str,
        state: &str,
    ) -> Result<Body, CannotShow> {
        let (time, by, state_index) = (self.times(time)?, self.column(row)?, self.column(state)?);
        let thresholds = thresholds(self.query, state);
        let mut groups = Groups::new();
        for row in &self.table.rows {
            stop::check();
            let Some(at) = self.instant(&row[time]) else {
                continue;
            };
            let written = &row[state_index];
            let status = status_of(written, &thresholds).ok_or_else(|| CannotShow::NoState {
                column: state.to_owned(),
                word: self.text(written),
            })?;
            groups.add(self.text(&row[by]), (at, status));
        }
        let groups = groups.in_order();
        if groups.len() > MOST_BARS {
            return Err(CannotShow::too_many(groups.len(), "rows", MOST_BARS));
        }
        let mut told = Vec::new();
        let mut rows = Vec::new();
        for (name, states) in groups {
            let stretches = stretches(states, self.window());
            let bad: TimeDelta = stretches
                .iter()
                .filter(|stretch| stretch.status == Status::Critical)
                .map(|stretch| stretch.to - stretch.from)
                .sum();
            if bad > TimeDelta::zero() {
                let time = Unit::Seconds.format(bad.num_seconds() as f64, self.number_format());
                told.push((bad, format!("{name}: critical for {time}")));
            }
            rows.push(TimelineRow { name, stretches });
        }
        told.sort_by_key(|(bad, _)| std::cmp::Reverse(*bad));
        let told = told.into_iter().map(|(_, said)| said).collect();
        let what = format!("States over time: {}", self.block.title);
        let description = in_words(&what, told, MOST_TOLD);
        let axis = axis::value_axis(0.0, 1.0, 2, "", self.number_format());
        let plot = Plot::Timeline {
            axis: axis::time_axis(self.window(), 9),
            rows,
        };
        Ok(done(axis, Vec::new(), plot, description))
    }
}

/// The state that a value stands for, or nothing for a word that names none.
fn status_of(value: &Value, thresholds: &Thresholds) -> Option<Status> {
    match value {
        Value::Missing => Some(Status::Unknown),
        Value::Boolean(true) => Some(Status::Ok),
        Value::Boolean(false) => Some(Status::Critical),
        Value::Text(word) => Status::from_word(word),
        value => Some(thresholds.status(value.as_number())),
    }
}

/// A state holds until the next one, and the last to the end of the window.
fn stretches(mut states: Vec<(DateTime<Utc>, Status)>, window: &Window) -> Vec<StatusStretch> {
    states.sort_by_key(|(at, _)| *at);
    let mut stretches: Vec<StatusStretch> = Vec::new();
    for (place, (at, status)) in states.iter().enumerate() {
        let next = states.get(place + 1);
        let to = next.map_or(window.to, |(next, _)| *next).min(window.to);
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
    stretches
}
