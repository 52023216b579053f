//! In what condition one thing was, from instant to instant, as it is heard of.

use super::spans::{Stretch, joined};

/// In what condition a thing is; the later the worse.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Condition {
    /// Nothing is known of it.
    Unknown,
    /// As it should be.
    Up,
    /// Up, but not as it should be.
    Warning,
    /// Not up.
    Down,
}

/// Takes the conditions of one thing in the order of time and keeps where they change, so that
/// millions of samples take no more memory than the changes among them. Instants are in
/// milliseconds since 1970-01-01T00:00:00Z.
#[derive(Debug, Clone)]
pub struct Clock {
    window: Stretch,
    longest_gap: Option<i64>,
    otherwise: Condition,
    last: Option<(i64, Condition)>,
    /// A condition holds from its instant to that of the next one.
    changes: Vec<(i64, Condition)>,
}

impl Clock {
    /// A clock for the window `[from, to)`. A condition holds until the next one, but no longer
    /// than `longest_gap`; where none holds it is `otherwise`.
    #[must_use]
    pub fn new(window: Stretch, longest_gap: Option<i64>, otherwise: Condition) -> Self {
        Self {
            window,
            longest_gap,
            otherwise,
            last: None,
            changes: vec![(window.0, otherwise)],
        }
    }

    /// The condition from this instant on. Instants never go back; of several at one instant the
    /// worst holds.
    pub fn add(&mut self, at: i64, condition: Condition) {
        let mut condition = condition;
        match self.last {
            Some((last, before)) if last == at => condition = condition.max(before),
            _ => self.lapse(at),
        }
        if at < self.window.1 {
            self.change(at.max(self.window.0), condition);
        }
        self.last = Some((at, condition));
    }

    /// What holds no longer, because nothing was heard for too long.
    fn lapse(&mut self, until: i64) {
        if let (Some((last, _)), Some(gap)) = (self.last, self.longest_gap) {
            let ends = last.saturating_add(gap);
            if ends < until && ends < self.window.1 {
                self.change(ends.max(self.window.0), self.otherwise);
            }
        }
    }

    fn change(&mut self, at: i64, condition: Condition) {
        if self.changes.last().is_some_and(|(last, _)| *last == at) {
            self.changes.pop();
        }
        if self
            .changes
            .last()
            .is_none_or(|(_, last)| *last != condition)
        {
            self.changes.push((at, condition));
        }
    }

    /// The stretches of each condition, which together are the window.
    #[must_use]
    pub fn end(mut self) -> Conditions {
        self.lapse(i64::MAX);
        let mut conditions = Conditions::default();
        let ends = self.changes.iter().skip(1).map(|(at, _)| *at);
        for ((from, condition), to) in self.changes.iter().zip(ends.chain([self.window.1])) {
            if *from < to {
                conditions.of_mut(*condition).push((*from, to));
            }
        }
        conditions
    }
}

/// When a thing was in which condition. No two overlap.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Conditions {
    up: Vec<Stretch>,
    warning: Vec<Stretch>,
    down: Vec<Stretch>,
    unknown: Vec<Stretch>,
}

impl Conditions {
    /// When it was so; sorted, nothing touching.
    #[must_use]
    pub fn of(&self, condition: Condition) -> &[Stretch] {
        match condition {
            Condition::Up => &self.up,
            Condition::Warning => &self.warning,
            Condition::Down => &self.down,
            Condition::Unknown => &self.unknown,
        }
    }

    fn of_mut(&mut self, condition: Condition) -> &mut Vec<Stretch> {
        match condition {
            Condition::Up => &mut self.up,
            Condition::Warning => &mut self.warning,
            Condition::Down => &mut self.down,
            Condition::Unknown => &mut self.unknown,
        }
    }

    /// The conditions that intervals `(from, to, condition)` say. Where they overlap the worst
    /// holds; where there is none it is `otherwise`.
    #[must_use]
    pub fn of_intervals(
        window: Stretch,
        intervals: &[(i64, i64, Condition)],
        otherwise: Condition,
    ) -> Self {
        use super::spans::{common, without};
        let whole = [window];
        let mut left = joined(vec![window]);
        let mut conditions = Self::default();
        for condition in [
            Condition::Down,
            Condition::Warning,
            Condition::Up,
            Condition::Unknown,
        ] {
            let said = intervals.iter().filter(|(_, _, said)| *said == condition);
            let said = joined(said.map(|(from, to, _)| (*from, *to)).collect());
            let said = common(&common(&said, &whole), &left);
            left = without(&left, &said);
            *conditions.of_mut(condition) = said;
        }
        let of = conditions.of_mut(otherwise);
        of.append(&mut left);
        *of = joined(std::mem::take(of));
        conditions
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use Condition::{Down, Unknown, Up, Warning};

    fn of(samples: &[(i64, Condition)], gap: Option<i64>) -> Conditions {
        let mut clock = Clock::new((100, 200), gap, Unknown);
        for (at, condition) in samples {
            clock.add(*at, *condition);
        }
        clock.end()
    }

    #[test]
    fn a_sample_holds_until_the_next_but_not_past_the_longest_gap() {
        let conditions = of(&[(90, Up), (120, Down), (130, Up), (190, Up)], Some(20));
        assert_eq!(conditions.of(Up), [(100, 110), (130, 150), (190, 200)]);
        assert_eq!(conditions.of(Down), [(120, 130)]);
        assert_eq!(conditions.of(Unknown), [(110, 120), (150, 190)]);
        let conditions = of(&[(150, Up)], None);
        assert_eq!(conditions.of(Unknown), [(100, 150)]);
        assert_eq!(conditions.of(Up), [(150, 200)]);
    }

    #[test]
    fn what_is_said_before_or_after_the_window_does_not_lengthen_it() {
        let conditions = of(&[(20, Down), (250, Up)], Some(30));
        assert_eq!(conditions.of(Unknown), [(100, 200)]);
        assert_eq!(of(&[], None).of(Unknown), [(100, 200)]);
    }

    #[test]
    fn of_two_at_one_instant_the_worse_holds() {
        let conditions = of(&[(100, Up), (150, Down), (150, Up)], None);
        assert_eq!(conditions.of(Down), [(150, 200)]);
    }

    #[test]
    fn overlapping_intervals_count_as_the_worst_of_them() {
        let said = [(90, 120, Down), (110, 150, Up), (140, 160, Warning)];
        let conditions = Conditions::of_intervals((100, 200), &said, Up);
        assert_eq!(conditions.of(Down), [(100, 120)]);
        assert_eq!(conditions.of(Warning), [(140, 160)]);
        assert_eq!(conditions.of(Up), [(120, 140), (160, 200)]);
    }
}
