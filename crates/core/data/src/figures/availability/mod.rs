//! Availability against an objective: how long each thing was up of the time that counts.
//!
//! All time is counted in whole milliseconds, and every share is one division of two such sums:
//! percentages are never averaged. Days on which the clock changes count their 23 or 25 hours.

mod clock;
mod measured;
mod spans;
mod table;

pub use clock::{Clock, Condition, Conditions};
pub use measured::{CountsAs, Measured, Outage};
pub use spans::Stretch;
pub(super) use table::availability;

use maple_lark_time::window::CalendarUnit;
use rust_decimal::{Decimal, RoundingStrategy};

#[cfg(test)]
mod tests;

/// What availability is worked out of, against what, and what of it is wanted.
#[derive(Debug, Clone, PartialEq)]
pub struct Availability {
    /// Where the conditions stand.
    pub states: States,
    /// What holds where nothing is said.
    pub otherwise: Condition,
    /// The columns that tell things apart.
    pub by: Vec<String>,
    /// The column whose values make groups of things.
    pub group: Option<String>,
    /// What a group needs to be up.
    pub needs: Needs,
    /// The name of a row for everything together, if there is to be one.
    pub total: Option<String>,
    /// The query that lists all things, also those of which nothing was heard.
    pub things: Option<String>,
    /// What was promised.
    pub objective: Objective,
    /// What was promised of groups and of everything; that of their parts, if they agree, where
    /// nothing is said.
    pub group_objective: Option<Decimal>,
    /// How a warning counts.
    pub warning: CountsAs,
    /// How what is not known counts.
    pub unknown: CountsAs,
    /// The queries with stretches of time to leave out: `from`, `to`, and where they have them
    /// the columns of `by` and `group`, and `reason`.
    pub leave_out: Vec<String>,
    /// The period that the objective is for, of which the window is the beginning.
    pub period: Option<CalendarUnit>,
    /// What comes.
    pub give: Give,
}

impl Availability {
    /// Whether there are rows for groups or for everything.
    pub(super) fn sums_up(&self) -> bool {
        self.give != Give::Outages && (self.group.is_some() || self.total.is_some())
    }
}

/// In what shape the conditions come.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum States {
    /// Each holds until the next one.
    Samples {
        /// The column of instants.
        time: String,
        /// The column of conditions.
        state: String,
        /// After so many milliseconds without another one nothing is known.
        longest_gap: Option<i64>,
    },
    /// Only changes: before the first one the opposite held.
    Events {
        /// The column of instants.
        time: String,
        /// The column of conditions.
        state: String,
    },
    /// Stretches of time.
    Intervals {
        /// The column of beginnings.
        from: String,
        /// The column of ends; one that is missing has not come.
        to: String,
        /// The column of conditions; without it each is time in which the thing was down.
        state: Option<String>,
    },
}

/// What a group needs of its parts to be up.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Needs {
    /// All of them.
    #[default]
    All,
    /// One of them.
    Any,
    /// So many of them.
    AtLeast(u32),
    /// Nothing: its time is that of its parts, added up.
    Mean,
}

/// What was promised, in percent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Objective {
    /// The same of all.
    Same(Decimal),
    /// What this column says.
    Column(String),
}

/// What of it is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Give {
    /// A row for each thing, and for groups and everything.
    Things,
    /// A row for each outage.
    Outages,
    /// A row for each thing and period, the last so many that end with the window.
    History {
        /// The length of a period.
        every: CalendarUnit,
        /// How many.
        periods: usize,
    },
}

/// A share of time in percent, with two decimals, or as many more as it takes to stand on its own
/// side of the objective: what was missed never reads as met, nor the other way round.
fn readable(percent: Decimal, objective: Option<Decimal>) -> Decimal {
    let near = RoundingStrategy::MidpointAwayFromZero;
    let full = Decimal::ONE_HUNDRED;
    (2..=20)
        .map(|digits| {
            let mut shown = percent.round_dp_with_strategy(digits, near);
            shown.rescale(shown.scale().max(2));
            shown
        })
        .find(|shown| {
            let told = objective.is_none_or(|at| (*shown >= at) == (percent >= at));
            told && (*shown == full) == (percent == full)
        })
        .unwrap_or(percent)
}

impl Measured {
    /// The share of its time that it was up, in percent; nothing where no time counts.
    fn percent(&self) -> Option<Decimal> {
        let all = Decimal::from(self.up_time) + Decimal::from(self.down_time);
        (!all.is_zero()).then(|| Decimal::from(self.up_time) * Decimal::ONE_HUNDRED / all)
    }

    /// Whether the objective, in percent, was kept; nothing where no time counts.
    fn keeps(&self, objective: Decimal) -> Option<bool> {
        let all = Decimal::from(self.up_time) + Decimal::from(self.down_time);
        (!all.is_zero())
            .then(|| Decimal::from(self.up_time) * Decimal::ONE_HUNDRED >= objective * all)
    }
}
