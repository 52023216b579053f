//! How long something was up and down, alone or as a group.

use super::{
    Needs,
    clock::{Condition, Conditions},
    spans::{Stretch, common, joined, length, without},
};
use crate::stop;

/// How a condition counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CountsAs {
    /// As time in which it was up.
    Up,
    /// As time in which it was down.
    Down,
    /// Not at all.
    Nothing,
}

/// How long something was up and down in the time that counts.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Measured {
    /// When it was up; joined.
    pub up: Vec<Stretch>,
    /// When it was down; joined.
    pub down: Vec<Stretch>,
    /// Milliseconds up. Of a mean over parts, those of all parts together.
    pub up_time: i64,
    /// Milliseconds down. Of a mean over parts, those of all parts together.
    pub down_time: i64,
    /// Milliseconds in which its condition was not known.
    pub not_known: i64,
    /// Milliseconds that were left out on purpose.
    pub left_out: i64,
    /// When its condition was not known; joined. Of a mean over parts nothing.
    not_known_at: Vec<Stretch>,
    /// When it was left out; joined. Of a mean over parts nothing.
    left_out_at: Vec<Stretch>,
    /// The times that it went down, the first of them first.
    pub outages: Vec<Outage>,
}

/// From going down to coming up again.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Outage {
    /// When it went down, or the window began.
    pub from: i64,
    /// When it came up, or the window ended.
    pub to: i64,
    /// Milliseconds of it that count.
    pub counted: i64,
}

impl Measured {
    /// Of one thing. `counted` is the time that the window counts, `left_out` what is taken out
    /// of it; both joined.
    #[must_use]
    pub fn of(
        conditions: &Conditions,
        counted: &[Stretch],
        left_out: &[Stretch],
        warning: CountsAs,
        unknown: CountsAs,
    ) -> Self {
        let as_said = |wanted: CountsAs, certain: Condition| {
            let mut all = conditions.of(certain).to_vec();
            if warning == wanted {
                all.extend(conditions.of(Condition::Warning));
            }
            if unknown == wanted {
                all.extend(conditions.of(Condition::Unknown));
            }
            joined(all)
        };
        let down_at_all = as_said(CountsAs::Down, Condition::Down);
        let counts = without(counted, left_out);
        let (up, down) = (
            common(&as_said(CountsAs::Up, Condition::Up), &counts),
            common(&down_at_all, &counts),
        );
        let outages = down_at_all
            .iter()
            .map(|(from, to)| Outage {
                from: *from,
                to: *to,
                counted: length(&common(&[(*from, *to)], &down)),
            })
            .filter(|outage| outage.counted > 0)
            .collect();
        let not_known_at = common(conditions.of(Condition::Unknown), &counts);
        let left_out_at = common(counted, left_out);
        Self {
            up_time: length(&up),
            down_time: length(&down),
            not_known: length(&not_known_at),
            left_out: length(&left_out_at),
            up,
            down,
            not_known_at,
            left_out_at,
            outages,
        }
    }

    /// Of a group. What a part does not count for, it is not asked for: a group of which one part
    /// is left out for a time rests on the others then. It is left out itself only while all of its
    /// parts are; where none of them counts otherwise, its condition is not known.
    #[must_use]
    pub fn of_group(parts: &[&Self], needs: Needs) -> Self {
        let sum = |of: fn(&Self) -> i64| parts.iter().map(|part| of(part)).sum::<i64>();
        if needs == Needs::Mean {
            let mut outages: Vec<Outage> =
                parts.iter().flat_map(|part| part.outages.clone()).collect();
            outages.sort_unstable_by_key(|outage| (outage.from, outage.to));
            return Self {
                up: Vec::new(),
                down: Vec::new(),
                up_time: sum(|part| part.up_time),
                down_time: sum(|part| part.down_time),
                not_known: sum(|part| part.not_known),
                left_out: sum(|part| part.left_out),
                not_known_at: Vec::new(),
                left_out_at: Vec::new(),
                outages,
            };
        }
        let (up, down) = swept(parts, needs);
        let outages = down
            .iter()
            .map(|(from, to)| Outage {
                from: *from,
                to: *to,
                counted: to - from,
            })
            .collect();
        let left_out_at = in_all(parts, |part| &part.left_out_at);
        let not_known_at = joined(
            [
                in_all(parts, |part| &part.not_known_at),
                without(
                    &without(
                        &time_of(parts),
                        &joined([up.clone(), down.clone()].concat()),
                    ),
                    &left_out_at,
                ),
            ]
            .concat(),
        );
        Self {
            up_time: length(&up),
            down_time: length(&down),
            not_known: length(&not_known_at),
            left_out: length(&left_out_at),
            up,
            down,
            not_known_at,
            left_out_at,
            outages,
        }
    }
}

/// What lies in a list of stretches of every part.
fn in_all(parts: &[&Measured], of: fn(&Measured) -> &[Stretch]) -> Vec<Stretch> {
    let Some((first, rest)) = parts.split_first() else {
        return Vec::new();
    };
    rest.iter()
        .fold(of(first).to_vec(), |both, part| common(&both, of(part)))
}

/// All the time of which anything is said of any part.
fn time_of(parts: &[&Measured]) -> Vec<Stretch> {
    let all = parts.iter().flat_map(|part| {
        let lists = [&part.up, &part.down, &part.not_known_at, &part.left_out_at];
        lists.into_iter().flatten().copied()
    });
    joined(all.collect())
}

/// When a group is up and when it is down, going through the instants at which a part changes.
fn swept(parts: &[&Measured], needs: Needs) -> (Vec<Stretch>, Vec<Stretch>) {
    let mut changes: Vec<(i64, i64, i64)> = Vec::new();
    for part in parts {
        for (from, to) in &part.up {
            changes.extend([(*from, 1, 0), (*to, -1, 0)]);
        }
        for (from, to) in &part.down {
            changes.extend([(*from, 0, 1), (*to, 0, -1)]);
        }
    }
    changes.sort_unstable_by_key(|change| change.0);
    let (mut up, mut down) = (Vec::new(), Vec::new());
    let (mut ups, mut downs, mut since) = (0, 0, 0);
    for (at, to_up, to_down) in changes {
        stop::check();
        if at > since && ups + downs > 0 {
            let enough = match needs {
                Needs::All | Needs::Mean => downs == 0,
                Needs::Any => ups > 0,
                // Of parts that do not count nobody can ask more than are left.
                Needs::AtLeast(wanted) => ups >= i64::from(wanted).min(ups + downs),
            };
            if enough { &mut up } else { &mut down }.push((since, at));
        }
        (ups, downs, since) = (ups + to_up, downs + to_down, at);
    }
    (joined(up), joined(down))
}
