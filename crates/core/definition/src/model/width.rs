//! How much of a page's width a block takes.

use std::{ops::Range, str::FromStr};

use maple_lark_time::{english::quoted_list, nearest::suggestion};
use serde::{Deserialize, Serialize};

/// A number of the twelve columns of a page.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Width(pub(crate) u8);

const WORDS: [(&str, u8); 6] = [
    ("full", 12),
    ("three-quarters", 9),
    ("two-thirds", 8),
    ("half", 6),
    ("third", 4),
    ("quarter", 3),
];

/// Why a text is no width.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("\"{given}\" is not one of {}, nor a number of twelfths.{}", quoted_list(&WORDS.map(|(word, _)| word)), suggestion(given, WORDS.map(|(word, _)| word)))]
pub struct BadWidth {
    given: String,
}

impl FromStr for Width {
    type Err = BadWidth;

    fn from_str(text: &str) -> Result<Self, BadWidth> {
        let found = WORDS.iter().find(|(word, _)| *word == text);
        found
            .map(|(_, twelfths)| Self(*twelfths))
            .ok_or_else(|| BadWidth {
                given: text.to_owned(),
            })
    }
}

impl Width {
    /// A whole line.
    pub const FULL: Self = Self(12);
    /// Half a line.
    pub const HALF: Self = Self(6);
    /// Two thirds of a line.
    pub const TWO_THIRDS: Self = Self(8);
    /// The narrowest in which the labels of a chart can be read.
    pub const LEAST_OF_CHARTS: Self = Self(4);
    /// The narrowest there is.
    pub(crate) const LEAST: i64 = 2;

    /// From 2 to 12.
    #[must_use]
    pub fn twelfths(self) -> u8 {
        self.0
    }

    /// What is left of `whole` for a block when `gutter` lies between two blocks side by side.
    #[must_use]
    pub fn of(self, whole: f64, gutter: f64) -> f64 {
        (whole + gutter) * f64::from(self.0) / 12.0 - gutter
    }
}

/// How blocks of these widths stand in rows: side by side as long as there is room.
///
/// ```
/// use maple_lark_definition::{Width, rows};
/// let third: Width = "third".parse().unwrap();
/// assert_eq!(rows(&[third, third, third, Width::HALF, Width::FULL]), [0..3, 3..4, 4..5]);
/// ```
#[must_use]
pub fn rows(widths: &[Width]) -> Vec<Range<usize>> {
    let mut rows: Vec<Range<usize>> = Vec::new();
    let mut taken = 12;
    for (index, width) in widths.iter().enumerate() {
        match rows.last_mut() {
            Some(row) if taken + width.0 <= 12 => {
                row.end = index + 1;
                taken += width.0;
            }
            _ => {
                rows.push(index..index + 1);
                taken = width.0;
            }
        }
    }
    rows
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_mistyped_width_is_told_the_nearest_word() {
        assert_eq!(
            "haf".parse::<Width>().unwrap_err().to_string(),
            "\"haf\" is not one of \"full\", \"three-quarters\", \"two-thirds\", \"half\", \"third\", \"quarter\", nor a number of twelfths. Did you mean \"half\"?"
        );
    }

    #[test]
    fn blocks_side_by_side_and_what_is_between_them_take_the_whole_width() {
        let third: Width = "third".parse().unwrap();
        assert!((3.0 * third.of(500.0, 14.0) + 2.0 * 14.0 - 500.0).abs() < 1e-9);
        assert_eq!(Width::FULL.of(500.0, 14.0), 500.0);
    }

    proptest! {
        #[test]
        fn every_block_has_one_place_and_no_row_is_too_wide(widths in proptest::collection::vec(2u8..=12, 0..40)) {
            let widths: Vec<Width> = widths.into_iter().map(Width).collect();
            let rows = rows(&widths);
            prop_assert_eq!(rows.iter().cloned().flatten().collect::<Vec<_>>(), (0..widths.len()).collect::<Vec<_>>());
            let taken = |row: &Range<usize>| widths[row.clone()].iter().map(|width| width.0).sum::<u8>();
            prop_assert!(rows.iter().all(|row| taken(row) <= 12));
            // Nothing is moved to the next row without need.
            prop_assert!(rows.windows(2).all(|pair| taken(&pair[0]) + widths[pair[1].start].0 > 12));
        }
    }
}
