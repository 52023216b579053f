//! What is past its limits, by name: the few things that a reader must do something about.

use std::{cmp::Ordering, collections::HashSet};

use chrono::{DateTime, Utc};
use maple_lark_data::{
    Unit,
    number_format::NumberFormat,
    status::{Status, Thresholds},
};

use crate::document::{Place, SummaryLine};

/// So many are kept to be named; the others are counted.
const MOST_KEPT: usize = 50;
/// So many of one kind are named while things of another kind that are as bad wait.
const MOST_OF_A_KIND: usize = 3;

/// One value that is past a limit, or something else that is wrong with a thing.
#[derive(Debug, Clone)]
struct One {
    name: String,
    says: String,
    /// The value that it says, if it says one.
    value: Option<Value>,
    status: Status,
    /// How far it is past the limit, as a share of the larger of both.
    far: f64,
    place: Place,
}

impl One {
    /// Whether both are past the same limit of the same column, or said by the same block.
    fn is_alike(&self, other: &Self) -> bool {
        let of_a_kind = match (&self.value, &other.value) {
            (Some(one), Some(other)) => one.is_beside(other),
            (None, None) => self.place == other.place,
            _ => false,
        };
        of_a_kind && self.status == other.status
    }
}

/// A value with what it is read by.
#[derive(Debug, Clone)]
struct Value {
    value: f64,
    /// What it is of, if that is not the thing itself.
    what: String,
    /// The limit that it is past.
    passed: String,
    unit: Unit,
    decimals: Option<usize>,
    limits: Thresholds,
    format: NumberFormat,
}

impl Value {
    fn says(&self, written: &str) -> String {
        let Self { what, passed, .. } = self;
        let space = if what.is_empty() { "" } else { " " };
        format!("{what}{space}{written}, {passed}")
    }

    /// Whether it stands beside the other in the same column or chart.
    fn is_beside(&self, other: &Self) -> bool {
        let by = |one: &Self| (one.decimals, one.limits, one.format);
        self.what == other.what && self.unit == other.unit && by(self) == by(other)
    }
}

/// A thing on the front.
pub(crate) struct Told {
    pub status: Status,
    pub line: SummaryLine,
    /// The worst of it alone, as a subject has room for.
    pub short: String,
}

/// The things that are past a limit, of all blocks.
#[derive(Debug, Default)]
pub(crate) struct Past {
    kept: Vec<One>,
    told: HashSet<(String, String)>,
    /// Things of which nothing is kept any more.
    others: HashSet<String>,
    /// The block that is being composed.
    here: Place,
}

impl Past {
    /// What follows is of the block in this place.
    pub(crate) fn is_at(&mut self, place: Place) {
        self.here = place;
    }

    /// What is wrong with a thing, in words, and how far it is past its limit. The same words are
    /// kept once, however many blocks show them.
    pub(crate) fn add(&mut self, name: &str, says: String, status: Status, far: f64) {
        self.keep(name, says, None, (status, far));
    }

    fn keep(
        &mut self,
        name: &str,
        says: String,
        value: Option<Value>,
        (status, far): (Status, f64),
    ) {
        if status <= Status::Unknown {
            return;
        }
        let told = (name.to_owned(), says.clone());
        if self.told.len() < MOST_KEPT * MOST_KEPT && !self.told.insert(told) {
            return;
        }
        self.kept.push(One {
            name: name.to_owned(),
            says,
            value,
            status,
            far,
            place: self.here,
        });
        if self.kept.len() > 2 * MOST_KEPT {
            self.sort();
            let gone = self.kept.drain(MOST_KEPT..).map(|one| one.name);
            self.others.extend(gone);
        }
    }

    /// A limit that a thing is likely to reach; the sooner after `end`, the worse.
    pub(crate) fn add_reached(
        &mut self,
        name: &str,
        says: String,
        at: DateTime<Utc>,
        end: DateTime<Utc>,
    ) {
        let ahead = (at - end).num_minutes().max(1);
        self.add(name, says, Status::Warning, 1.0 / ahead as f64);
    }

    /// A value of a named thing: `havnes-kiosk-3: Sales failed 41 %, critical from 8 %`. One that
    /// is within its limits is passed over. It has the decimals that its column has by its author.
    pub(crate) fn add_value(
        &mut self,
        (name, what): (&str, &str),
        value: f64,
        (unit, decimals): (&Unit, Option<usize>),
        limits: &Thresholds,
        format: NumberFormat,
    ) {
        let Some((status, limit)) = limits.passed(value) else {
            return;
        };
        let judged = Value {
            value,
            what: if what == name { "" } else { what }.to_owned(),
            passed: passed_in_words(limits, (status, limit), (unit, decimals), format),
            unit: unit.clone(),
            decimals,
            limits: *limits,
            format,
        };
        let says = judged.says(&unit.format_judged(value, limits, format, decimals));
        let size = value.abs().max(limit.abs()).max(f64::MIN_POSITIVE);
        let far = (value - limit).abs() / size;
        self.keep(name, says, Some(judged), (status, far));
    }

    /// The worst and farthest first, but only a few of one kind before those of others that are as bad: the ports of
    /// one outage do not hide a disk that is full.
    fn sort(&mut self) {
        self.kept.sort_by(worse_first);
        let mut kinds: Vec<(One, HashSet<String>)> = Vec::new();
        let mut waits = |one: &One| {
            let known = kinds.iter_mut().find(|(kind, _)| kind.is_alike(one));
            match known {
                Some((_, named)) if named.contains(&one.name) => false,
                Some((_, named)) if named.len() >= MOST_OF_A_KIND => true,
                Some((_, named)) => !named.insert(one.name.clone()),
                None => {
                    let named = HashSet::from([one.name.clone()]);
                    kinds.push((one.clone(), named));
                    false
                }
            }
        };
        let ones = std::mem::take(&mut self.kept).into_iter();
        let mut ordered: Vec<(bool, One)> = ones.map(|one| (waits(&one), one)).collect();
        ordered.sort_by_key(|(waits, one)| (std::cmp::Reverse(one.status), *waits));
        self.kept = ordered.into_iter().map(|(_, one)| one).collect();
    }

    /// The worst so many things in words, and how many more there are. What
    /// is wrong with one thing is one line, which ends with the next worst if there is more than
    /// one.
    pub(crate) fn worst(mut self, most: usize) -> (Vec<Told>, usize) {
        self.sort();
        let mut things: Vec<(One, Option<One>)> = Vec::new();
        for one in self.kept {
            self.others.remove(&one.name);
            match things.iter_mut().find(|(known, _)| known.name == one.name) {
                Some((_, more)) => {
                    more.get_or_insert(one);
                }
                None => things.push((one, None)),
            }
        }
        let all = things.len() + self.others.len();
        // One more line would take the place of the one that says how many more there are.
        let most = if all == most + 1 { all } else { most };
        things.truncate(most);
        things.sort_by(|(a, _), (b, _)| worse_first(a, b));
        write_alike(&mut things);
        let lines = things.into_iter().map(|(one, more)| {
            let short = format!("{}: {}", one.name, one.says);
            let more = more.map(|more| format!("; {}", more.says));
            let more = more.unwrap_or_default();
            let line = SummaryLine {
                text: format!("{short}{more}"),
                place: Some(one.place),
            };
            Told {
                status: one.status,
                line,
                short,
            }
        });
        (lines.collect(), all.saturating_sub(most))
    }
}

/// By status, and then by how far it is past its limit.
fn worse_first(one: &One, other: &One) -> Ordering {
    let by_status = other.status.cmp(&one.status);
    by_status.then(other.far.total_cmp(&one.far))
}

/// Values of one column or chart have the same decimals where they are named together.
fn write_alike(things: &mut [(One, Option<One>)]) {
    let ones = things
        .iter_mut()
        .flat_map(|(one, more)| std::iter::once(one).chain(more));
    let mut groups: Vec<Vec<(&mut String, Place, Value)>> = Vec::new();
    for One {
        says, value, place, ..
    } in ones
    {
        let Some(value) = value.take() else { continue };
        let beside = groups.iter_mut().find(|group| {
            let (_, other, first) = &group[0];
            other == place && first.is_beside(&value)
        });
        let one = (says, *place, value);
        match beside {
            Some(group) => group.push(one),
            None => groups.push(vec![one]),
        }
    }
    // One that is named alone reads as it does by itself.
    for group in groups.into_iter().filter(|group| group.len() > 1) {
        let Value {
            unit,
            decimals,
            limits,
            format,
            ..
        } = &group[0].2;
        let values: Vec<Option<f64>> = group.iter().map(|(_, _, one)| Some(one.value)).collect();
        let written = unit.format_alike(&values, limits, *format, *decimals);
        for ((says, _, value), written) in group.into_iter().zip(written) {
            *says = value.says(&written);
        }
    }
}

/// The limit that a value is past: `critical from 8 %`.
pub(crate) fn passed_in_words(
    limits: &Thresholds,
    (status, limit): (Status, f64),
    (unit, decimals): (&Unit, Option<usize>),
    format: NumberFormat,
) -> String {
    format!(
        "{} {} {}",
        status.word().to_lowercase(),
        limits.worse.from(),
        unit.format_with(limit, format, decimals)
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sooner_a_limit_is_reached_the_earlier_it_is_named() {
        let at = |day: i64| DateTime::from_timestamp(1_790_000_000 + day * 86_400, 0).unwrap();
        let mut past = Past::default();
        for (name, day) in [("a", 30), ("b", 0), ("c", 1)] {
            past.add_reached(name, format!("in {day} days"), at(day), at(0));
        }
        assert_eq!(
            lines(past, 5),
            (vec!["b: in 0 days", "c: in 1 days", "a: in 30 days"], 0)
        );
    }

    #[test]
    fn what_is_wrong_with_one_thing_is_one_line() {
        let mut past = Past::default();
        for (name, says, status, far) in [
            ("archive-01", "98 % likely on 1 Dec", Status::Warning, 0.1),
            ("archive-01", "Now 93 %", Status::Critical, 0.1),
            ("db-03", "Now 81 %", Status::Warning, 0.3),
            ("archive-01", "95 % likely on 29 Nov", Status::Warning, 0.2),
            ("archive-01", "Now 93 %", Status::Critical, 0.1),
        ] {
            past.add(name, says.to_owned(), status, far);
        }
        assert_eq!(
            lines(past, 5),
            (
                vec![
                    "archive-01: Now 93 %; 95 % likely on 29 Nov",
                    "db-03: Now 81 %"
                ],
                0
            )
        );
    }

    #[test]
    fn how_many_more_there_are_counts_things_and_not_their_values() {
        let mut past = Past::default();
        for n in 0..200 {
            for what in ["disk", "load"] {
                past.add(
                    &format!("h{n}"),
                    what.to_owned(),
                    Status::Warning,
                    f64::from(n),
                );
            }
        }
        let (named, more) = past.worst(5);
        assert_eq!((named.len(), more), (5, 195));
        assert_eq!(named[0].line.text, "h199: disk; load");
        assert_eq!(named[0].short, "h199: disk");
    }

    #[test]
    fn values_of_one_column_are_named_with_the_same_decimals() {
        let mut past = Past::default();
        let limits = Thresholds {
            warning: Some(15.0),
            critical: Some(60.0),
            ..Thresholds::default()
        };
        let mut add = |name: &str, what: &str, value: f64| {
            let unit = (&Unit::Percent, None);
            past.add_value((name, what), value, unit, &limits, NumberFormat::default());
        };
        add("gate-1", "Busy", 20.0);
        add("gate-2", "Busy", 20.94);
        add("gate-3", "Busy", 15.004);
        add("gate-3", "Jammed", 18.0);
        add("gate-4", "Busy", 3.125);
        let said = |name: &str, what: &str, value: &str| {
            format!("{name}: {what} {value}\u{a0}%, warning from 15\u{a0}%")
        };
        assert_eq!(
            lines(past, 5).0,
            [
                said("gate-2", "Busy", "20.9"),
                said("gate-1", "Busy", "20.0"),
                format!(
                    "{}; Busy 15.0\u{a0}%, warning from 15\u{a0}%",
                    said("gate-3", "Jammed", "18")
                ),
            ]
        );
    }

    #[test]
    fn many_of_one_kind_do_not_hide_others_that_are_as_bad() {
        let mut past = Past::default();
        let limits = |critical: f64| Thresholds {
            critical: Some(critical),
            ..Thresholds::default()
        };
        let mut add = |name: &str, what: &str, value: f64, critical: f64| {
            let unit = (&Unit::Percent, None);
            let limits = limits(critical);
            past.add_value((name, what), value, unit, &limits, NumberFormat::default());
        };
        add("archive-01", "Disk", 92.0, 90.0);
        // More than are kept, all farther past their limit than the disk.
        for kiosk in 0..300 {
            let name = format!("kiosk-{kiosk}");
            add(&name, "Failed", 20.0 + f64::from(kiosk) / 10.0, 8.0);
        }
        past.add("db-3", "Full tomorrow".to_owned(), Status::Warning, 0.9);
        let (lines, more) = lines(past, 5);
        let names: Vec<&str> = lines
            .iter()
            .filter_map(|line| line.split(':').next())
            .collect();
        assert_eq!(
            names,
            [
                "kiosk-299",
                "kiosk-298",
                "kiosk-297",
                "kiosk-296",
                "archive-01"
            ]
        );
        assert_eq!(more, 297);
    }

    fn lines(past: Past, most: usize) -> (Vec<&'static str>, usize) {
        let (named, more) = past.worst(most);
        let text = named.into_iter().map(|told| &*told.line.text.leak());
        (text.collect(), more)
    }
}
