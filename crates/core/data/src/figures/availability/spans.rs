//! Stretches of time in whole milliseconds: what two have in common, and what is left of one.

use crate::stop;

/// Half-open, `[from, to)`, in milliseconds since 1970-01-01T00:00:00Z; never empty.
pub type Stretch = (i64, i64);

/// Sorted, those that overlap or touch joined, empty ones gone.
pub fn joined(mut stretches: Vec<Stretch>) -> Vec<Stretch> {
    stretches.retain(|(from, to)| from < to);
    stretches.sort_unstable();
    let mut out: Vec<Stretch> = Vec::with_capacity(stretches.len());
    for (from, to) in stretches {
        match out.last_mut() {
            Some(last) if from <= last.1 => last.1 = last.1.max(to),
            _ => out.push((from, to)),
        }
    }
    out
}

/// What lies in both. Both are joined, and so is what comes.
pub fn common(a: &[Stretch], b: &[Stretch]) -> Vec<Stretch> {
    let (mut out, mut i, mut j) = (Vec::new(), 0, 0);
    while let (Some(x), Some(y)) = (a.get(i), b.get(j)) {
        stop::check();
        let (from, to) = (x.0.max(y.0), x.1.min(y.1));
        if from < to {
            out.push((from, to));
        }
        if x.1 < y.1 {
            i += 1;
        } else {
            j += 1;
        }
    }
    out
}

/// What lies in the first and not in the second. Both are joined, and so is what comes.
pub fn without(a: &[Stretch], b: &[Stretch]) -> Vec<Stretch> {
    let (mut out, mut j) = (Vec::new(), 0);
    for (from, to) in a {
        stop::check();
        let mut at = *from;
        while b.get(j).is_some_and(|cut| cut.1 <= at) {
            j += 1;
        }
        let mut next = j;
        while let Some(cut) = b.get(next).filter(|cut| cut.0 < *to) {
            if at < cut.0 {
                out.push((at, cut.0));
            }
            at = at.max(cut.1);
            next += 1;
        }
        if at < *to {
            out.push((at, *to));
        }
    }
    out
}

/// How long they are together, in milliseconds.
pub fn length(stretches: &[Stretch]) -> i64 {
    stretches.iter().map(|(from, to)| to - from).sum()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_touches_is_one_and_cuts_leave_both_sides() {
        assert_eq!(
            joined(vec![(5, 9), (1, 2), (2, 3), (4, 4)]),
            [(1, 3), (5, 9)]
        );
        assert_eq!(
            without(&[(0, 10), (20, 30)], &[(2, 3), (5, 25)]),
            [(0, 2), (3, 5), (25, 30)]
        );
        assert_eq!(
            common(&[(0, 10), (20, 30)], &[(8, 22)]),
            [(8, 10), (20, 22)]
        );
    }

    fn some() -> impl Strategy<Value = Vec<Stretch>> {
        prop::collection::vec((0..60i64, 0..9i64), 0..8)
            .prop_map(|all| joined(all.into_iter().map(|(at, long)| (at, at + long)).collect()))
    }

    fn holds(stretches: &[Stretch], at: i64) -> bool {
        stretches
            .iter()
            .any(|(from, to)| (*from..*to).contains(&at))
    }

    proptest! {
        #[test]
        fn each_instant_lies_where_a_plain_reading_says(a in some(), b in some()) {
            let (both, rest) = (common(&a, &b), without(&a, &b));
            for at in 0..70 {
                prop_assert_eq!(holds(&both, at), holds(&a, at) && holds(&b, at));
                prop_assert_eq!(holds(&rest, at), holds(&a, at) && !holds(&b, at));
            }
            prop_assert_eq!(length(&both) + length(&rest), length(&a));
            prop_assert_eq!(joined(rest.clone()), rest);
        }
    }
}
