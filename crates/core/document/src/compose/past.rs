//! What is past its limits, by name: the few things that a reader must do something about.

use std::collections::HashSet;

use chrono::{DateTime, Utc};
use maple_lark_data::{
    Unit,
    number_format::NumberFormat,
    status::{Status, Thresholds},
};

use crate::document::{Place, SummaryLine};

/// So many are kept to be named; the others are counted.
const MOST_KEPT: usize = 50;

/// One thing that is past a limit.
#[derive(Debug, Clone)]
struct One {
    line: SummaryLine,
    status: Status,
    /// How far it is past the limit, as a share of the larger of both.
    far: f64,
}

/// The things that are past a limit, of all blocks.
#[derive(Debug, Default)]
pub(crate) struct Past {
    kept: Vec<One>,
    told: HashSet<String>,
    others: usize,
    /// The block that is being composed.
    here: Place,
}

impl Past {
    /// What follows is of the block in this place.
    pub(crate) fn is_at(&mut self, place: Place) {
        self.here = place;
    }

    /// A thing in words, with how far it is past its limit. The same words are kept once, however
    /// many blocks show them.
    pub(crate) fn add(&mut self, line: String, status: Status, far: f64) {
        if status <= Status::Unknown {
            return;
        }
        if self.told.len() < MOST_KEPT * MOST_KEPT && !self.told.insert(line.clone()) {
            return;
        }
        let line = SummaryLine {
            text: line,
            place: Some(self.here),
        };
        self.kept.push(One { line, status, far });
        if self.kept.len() > 2 * MOST_KEPT {
            self.sort();
            self.others += self.kept.len() - MOST_KEPT;
            self.kept.truncate(MOST_KEPT);
        }
    }

    /// A limit that is likely to be reached; the sooner after `end`, the worse.
    pub(crate) fn add_reached(&mut self, line: String, at: DateTime<Utc>, end: DateTime<Utc>) {
        let ahead = (at - end).num_minutes().max(1);
        self.add(line, Status::Warning, 1.0 / ahead as f64);
    }

    /// A value of a named thing: `havnes-kiosk-3: Sales failed 41 %, critical limit 8 %`. One that
    /// is within its limits is passed over.
    pub(crate) fn add_value(
        &mut self,
        (name, what): (&str, &str),
        value: f64,
        unit: &Unit,
        limits: &Thresholds,
        format: NumberFormat,
    ) {
        let status = limits.status(Some(value));
        let limit = match status {
            Status::Critical => limits.critical,
            Status::Warning => limits.warning,
            Status::Ok | Status::Unknown => None,
        };
        let Some(limit) = limit else { return };
        let said = unit.format(value, format);
        let what = if what == name || what.is_empty() {
            said
        } else {
            format!("{what} {said}")
        };
        let word = status.word().to_lowercase();
        let line = format!(
            "{name}: {what}, {word} limit {}",
            unit.format(limit, format)
        );
        let size = value.abs().max(limit.abs()).max(f64::MIN_POSITIVE);
        self.add(line, status, (value - limit).abs() / size);
    }

    /// The worst and farthest first.
    fn sort(&mut self) {
        self.kept
            .sort_by(|a, b| b.status.cmp(&a.status).then(b.far.total_cmp(&a.far)));
    }

    /// The worst so many in words, each with its status, and how many more there are.
    pub(crate) fn worst(mut self, most: usize) -> (Vec<(Status, SummaryLine)>, usize) {
        self.sort();
        // One more line would take the place of the one that says how many more there are.
        let most = if self.kept.len() + self.others == most + 1 {
            most + 1
        } else {
            most
        };
        let more = (self.kept.len() + self.others).saturating_sub(most);
        let named = self.kept.into_iter().take(most);
        (named.map(|one| (one.status, one.line)).collect(), more)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sooner_a_limit_is_reached_the_earlier_it_is_named() {
        let at = |day: i64| DateTime::from_timestamp(1_790_000_000 + day * 86_400, 0).unwrap();
        let mut past = Past::default();
        for (line, day) in [("in a month", 30), ("now", 0), ("tomorrow", 1)] {
            past.add_reached(line.to_owned(), at(day), at(0));
        }
        let (named, _) = past.worst(5);
        let lines: Vec<&str> = named.iter().map(|(_, line)| line.text.as_str()).collect();
        assert_eq!(lines, ["now", "tomorrow", "in a month"]);
    }
}
