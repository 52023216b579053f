//! How numbers and dates are written for the readers of a report. Programs get neither: CSV
//! and everything exact stays as it is.

use std::fmt;

use chrono::{NaiveDate, NaiveDateTime};
use maple_lark_time::DateForm;
use serde::{Deserialize, Serialize};

/// The signs of numbers and the form of dates.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct NumberFormat {
    /// Between whole and fraction.
    pub point: char,
    /// Between groups of three digits.
    pub group: Option<char>,
    /// `2026-11-22` (ISO 8601) instead of `22 Nov 2026`.
    pub iso_dates: bool,
}

/// The decimals that all values of one column are written with: as many as the largest
/// deserves, none for whole numbers, and two where shares in percent crowd below 100.
#[must_use]
pub fn decimals(values: &[f64], shares: bool) -> usize {
    if values.iter().all(|value| value.fract() == 0.0) {
        return 0;
    }
    let largest = values
        .iter()
        .fold(0f64, |most, value| most.max(value.abs()));
    match largest {
        l if l >= 1000.0 => 0,
        l if shares && l > 99.0 && l <= 100.0 => 2,
        l if l >= 10.0 => 1,
        l if l >= 0.1 => 2,
        _ => 4,
    }
}

/// The decimals that a number's size deserves.
pub(crate) fn places(value: f64) -> usize {
    match value.abs() {
        s if s == s.trunc() => 0,
        s if s >= 1000.0 => 0,
        s if s >= 99.95 => 0,
        s if s >= 10.0 => 1,
        s if s >= 0.1 => 2,
        s if s >= 0.001 => 4,
        _ => 6,
    }
}

/// The decimals that a share in percent deserves.
pub(crate) fn share_places(percent: f64) -> usize {
    let size = percent.abs();
    if size > 99.0 && size < 100.0 {
        2
    } else {
        places(percent)
    }
}

/// As the example of its form: `1.234,5 2026-11-22`.
impl fmt::Display for NumberFormat {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "{} {}",
            self.number(1234.5, 1),
            Self::DATES[usize::from(self.iso_dates)]
        )
    }
}

impl Default for NumberFormat {
    fn default() -> Self {
        Self {
            point: '.',
            group: Some(','),
            iso_dates: false,
        }
    }
}

impl NumberFormat {
    /// A number as each form writes it; the name of the form is its example.
    pub const NUMBERS: [&str; 4] = ["1,234.5", "1.234,5", "1 234,5", "1234.5"];
    /// The two ways of writing a day, as examples of themselves.
    pub const DATES: [&str; 2] = ["22 Nov 2026", "2026-11-22"];

    /// The form that the two examples show; other texts mean the usual one.
    #[must_use]
    pub fn like(numbers: &str, dates: &str) -> Self {
        let (point, group) = match numbers {
            "1.234,5" => (',', Some('.')),
            // U+202F, narrow and never broken at the end of a line.
            "1 234,5" => (',', Some('\u{202f}')),
            "1234.5" => ('.', None),
            _ => ('.', Some(',')),
        };
        Self {
            point,
            group,
            iso_dates: dates == "2026-11-22",
        }
    }

    /// A number with a fixed count of decimals.
    #[must_use]
    pub fn number(&self, value: f64, decimals: usize) -> String {
        let text = format!("{:.decimals$}", value.abs());
        let (whole, fraction) = text.split_once('.').unwrap_or((&text, ""));
        let mut out = String::new();
        if value < 0.0 && text.chars().any(|c| c.is_ascii_digit() && c != '0') {
            out.push('−');
        }
        for (i, digit) in whole.chars().enumerate() {
            if i > 0 && (whole.len() - i) % 3 == 0 {
                out.extend(self.group);
            }
            out.push(digit);
        }
        if !fraction.is_empty() {
            out.push(self.point);
            out.push_str(fraction);
        }
        out
    }

    /// A share in percent as a number is read, but for those above 99 and below 100, which keep
    /// two decimals: 99.95 and 100 are different promises.
    #[must_use]
    pub fn share(&self, percent: f64) -> String {
        self.short(percent, share_places(percent))
    }

    /// A number with as many decimals as its size deserves: three significant digits below a
    /// thousand and whole above.
    #[must_use]
    pub fn readable(&self, value: f64) -> String {
        self.short(value, places(value))
    }

    /// Without zeros at the end of a long fraction.
    fn short(&self, value: f64, decimals: usize) -> String {
        let text = self.number(value, decimals);
        if decimals > 2 {
            text.trim_end_matches('0')
                .trim_end_matches(self.point)
                .to_owned()
        } else {
            text
        }
    }

    /// How days are written in words.
    #[must_use]
    pub fn date_form(&self) -> DateForm {
        if self.iso_dates {
            DateForm::Iso
        } else {
            DateForm::Words
        }
    }

    /// The day as this format writes it: `22 Nov 2026` or `2026-11-22`.
    #[must_use]
    pub fn date(&self, date: NaiveDate) -> String {
        date.format(if self.iso_dates {
            "%Y-%m-%d"
        } else {
            "%-d %b %Y"
        })
        .to_string()
    }

    /// A time to the minute; without its year where all of a table are of this one.
    #[must_use]
    pub fn time(&self, at: NaiveDateTime, year: bool) -> String {
        let form = match (self.iso_dates, year) {
            (true, _) => "%Y-%m-%d %H:%M",
            (false, true) => "%-d %b %Y %H:%M",
            (false, false) => "%-d %b %H:%M",
        };
        at.format(form).to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_and_dates_are_written_as_their_examples() {
        for example in NumberFormat::NUMBERS {
            assert_eq!(
                NumberFormat::like(example, "")
                    .number(1234.5, 1)
                    .replace('\u{202f}', " "),
                example
            );
        }
        let date = "2026-11-22".parse().unwrap();
        for example in NumberFormat::DATES {
            assert_eq!(NumberFormat::like("", example).date(date), example);
        }
        assert_eq!(NumberFormat::like("1.234,5", "").readable(-0.2504), "−0,25");
        assert_eq!(NumberFormat::like("1.234,5", "").readable(0.0125), "0,0125");
        // Only shares are promises: 99.95 ms are a tenth of a second.
        let plain = NumberFormat::default();
        let both = |value| [plain.share(value), plain.readable(value)];
        assert_eq!(both(99.95), ["99.95", "100"]);
        assert_eq!(both(99.5), ["99.50", "99.5"]);
        assert_eq!(both(100.0), ["100", "100"]);
        assert_eq!(
            [decimals(&[99.95], true), decimals(&[99.95], false)],
            [2, 1]
        );
        assert_eq!(
            NumberFormat::default(),
            NumberFormat::like("1,234.5", "22 Nov 2026")
        );
    }
}
