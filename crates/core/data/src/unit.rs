//! Units of measured values, and how a value reads for a person.

use std::{fmt, str::FromStr};

use maple_lark_time::nearest::suggestion;
use serde::{Deserialize, Serialize};

use crate::{
    number_format::{NumberFormat, decimals, places, share_places},
    status::Thresholds,
};

/// What a number counts. The stored value is always in the unit named here; only
/// [`Unit::format`] rescales, and only for people.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Unit {
    /// A bare number: a count or something without a dimension.
    #[default]
    None,
    /// Hundredths: 99.5 reads `99.5 %`.
    Percent,
    /// A share of one: 0.995 reads `99.5 %`.
    Ratio,
    /// Bytes, read in powers of 1024 (KiB, MiB …, IEC 80000-13).
    Bytes,
    /// Bytes, read in powers of 1000 (kB, MB …, SI).
    BytesSi,
    /// Bits a second, read in powers of 1000.
    BitsPerSecond,
    /// Thousandths of a second.
    Milliseconds,
    /// Seconds.
    Seconds,
    /// Days of 24 hours.
    Days,
    /// Degrees Celsius.
    Celsius,
    /// Degrees Fahrenheit.
    Fahrenheit,
    /// An amount of money with its ISO 4217 code.
    Currency(String),
    /// Any other unit, shown behind the number as written.
    Other(String),
}

#[derive(Debug, thiserror::Error, PartialEq, Eq)]
/// The word names no unit. The message names the nearest one.
#[error(
    "\"{given}\" is not a unit.{suggestion} Known: percent, ratio, bytes, bytes-si, bit/s, ms, s, days, celsius, fahrenheit, currency:DKK, or other:WORD for any other."
)]
pub struct UnknownUnit {
    given: String,
    suggestion: String,
}

const NAMES: [(&str, Unit); 11] = [
    ("none", Unit::None),
    ("percent", Unit::Percent),
    ("ratio", Unit::Ratio),
    ("bytes", Unit::Bytes),
    ("bytes-si", Unit::BytesSi),
    ("bit/s", Unit::BitsPerSecond),
    ("ms", Unit::Milliseconds),
    ("s", Unit::Seconds),
    ("days", Unit::Days),
    ("celsius", Unit::Celsius),
    ("fahrenheit", Unit::Fahrenheit),
];

/// A factor and a suffix that suit a magnitude; every value of a figure shares one.
#[derive(Debug, Clone, PartialEq)]
pub struct Scale {
    /// Shown = stored × factor.
    pub factor: f64,
    /// The unit as it stands behind the number or on an axis; may be empty.
    pub suffix: String,
}

impl Unit {
    /// The scale in which `largest` (an absolute value) reads best.
    #[must_use]
    pub fn scale(&self, largest: f64) -> Scale {
        let stepped = |base: f64, steps: &[&str]| {
            let mut factor = 1.0;
            let mut index = 0;
            while largest * factor >= base && index + 1 < steps.len() {
                factor /= base;
                index += 1;
            }
            Scale {
                factor,
                suffix: steps[index].to_owned(),
            }
        };
        let plain = |factor: f64, suffix: &str| Scale {
            factor,
            suffix: suffix.to_owned(),
        };
        match self {
            Unit::None => plain(1.0, ""),
            Unit::Percent => plain(1.0, "%"),
            Unit::Ratio => plain(100.0, "%"),
            Unit::Bytes => stepped(1024.0, &["B", "KiB", "MiB", "GiB", "TiB", "PiB"]),
            Unit::BytesSi => stepped(1000.0, &["B", "kB", "MB", "GB", "TB", "PB"]),
            Unit::BitsPerSecond => {
                stepped(1000.0, &["bit/s", "kbit/s", "Mbit/s", "Gbit/s", "Tbit/s"])
            }
            Unit::Milliseconds if largest >= 600_000.0 => plain(1.0 / 60_000.0, "min"),
            Unit::Milliseconds if largest >= 10_000.0 => plain(1e-3, "s"),
            Unit::Milliseconds => plain(1.0, "ms"),
            Unit::Seconds if largest >= 172_800.0 => plain(1.0 / 86_400.0, "d"),
            Unit::Seconds if largest >= 7_200.0 => plain(1.0 / 3_600.0, "h"),
            Unit::Seconds if largest >= 600.0 => plain(1.0 / 60.0, "min"),
            Unit::Seconds if largest < 0.1 && largest > 0.0 => plain(1e3, "ms"),
            Unit::Seconds => plain(1.0, "s"),
            Unit::Days => plain(1.0, "d"),
            Unit::Celsius => plain(1.0, "°C"),
            Unit::Fahrenheit => plain(1.0, "°F"),
            Unit::Currency(code) => plain(1.0, code),
            Unit::Other(word) => plain(1.0, word),
        }
    }

    /// The unit as a table heading shows it, where values are not rescaled.
    #[must_use]
    pub fn symbol(&self) -> &str {
        match self {
            Unit::None => "",
            Unit::Percent => "%",
            Unit::Ratio => "ratio",
            Unit::Bytes | Unit::BytesSi => "B",
            Unit::BitsPerSecond => "bit/s",
            Unit::Milliseconds => "ms",
            Unit::Seconds => "s",
            Unit::Days => "d",
            Unit::Celsius => "°C",
            Unit::Fahrenheit => "°F",
            Unit::Currency(text) | Unit::Other(text) => text,
        }
    }

    /// The value for a person: `10.5 TiB`, `99.95 %`, `1,234`, `312 ms`. What is not finite
    /// reads `–`.
    #[must_use]
    pub fn format(&self, value: f64, number_format: NumberFormat) -> String {
        self.format_with(value, number_format, None)
    }

    /// The same with so many decimals, if their author says how many.
    #[must_use]
    pub fn format_with(
        &self,
        value: f64,
        number_format: NumberFormat,
        decimals: Option<usize>,
    ) -> String {
        if !value.is_finite() {
            return "–".to_owned();
        }
        let scale = self.scale(value.abs());
        let scaled = value * scale.factor;
        let number = match (decimals, self) {
            (Some(decimals), _) => number_format.number(scaled, decimals),
            (None, Unit::Currency(_)) => number_format.number(scaled, 2),
            (None, Unit::Percent | Unit::Ratio) => number_format.share(scaled),
            (None, _) => number_format.readable(scaled),
        };
        // U+00A0 keeps the number and its unit on one line.
        if scale.suffix.is_empty() {
            number
        } else {
            format!("{number}\u{a0}{}", scale.suffix)
        }
    }
}

impl Unit {
    /// A value that is judged, for a person: as [`Unit::format_with`] writes it, but with up to four decimals more where
    /// it would read as if it were on another side of a limit than it is. 99.504 % with a limit at 99.50 % or below does
    /// not read `99.50 %`.
    #[must_use]
    pub fn format_judged(
        &self,
        value: f64,
        limits: &Thresholds,
        number_format: NumberFormat,
        decimals: Option<usize>,
    ) -> String {
        let factor = self.scale(value.abs()).factor;
        let places = decimals.unwrap_or_else(|| match self {
            Unit::Currency(_) => 2,
            Unit::Percent | Unit::Ratio => share_places(value * factor),
            _ => places(value * factor),
        });
        let telling = limits.telling_places(value, factor, places, places + 4);
        let wanted = if telling > places {
            Some(telling)
        } else {
            decimals
        };
        self.format_with(value, number_format, wanted)
    }

    /// Values that stand beside each other, as people compare them: in one scale all have the
    /// same decimals, `18.5 h, 13.0 h, 2.5 h`, or those that their author wants. Where they need
    /// several scales, or one would read as nothing, each reads for itself. What is missing reads
    /// `–`. All are judged by these limits, as [`Unit::format_judged`] has it.
    #[must_use]
    pub fn format_alike(
        &self,
        values: &[Option<f64>],
        limits: &Thresholds,
        number_format: NumberFormat,
        wanted: Option<usize>,
    ) -> Vec<String> {
        let missing = || "–".to_owned();
        let known: Vec<f64> = values
            .iter()
            .flatten()
            .copied()
            .filter(|value| value.is_finite())
            .collect();
        let largest = known
            .iter()
            .fold(0.0, |most: f64, value| most.max(value.abs()));
        let scale = self.scale(largest);
        let scaled: Vec<f64> = known.iter().map(|value| value * scale.factor).collect();
        let shares = matches!(self, Unit::Percent | Unit::Ratio);
        let places = match self {
            Unit::Currency(_) => 2,
            _ => decimals(&scaled, shares),
        };
        let places = known.iter().fold(places, |most, value| {
            most.max(limits.telling_places(*value, scale.factor, places, places + 2))
        });
        // Half of the last place would be nothing.
        let least = 0.5 / 10f64.powi(places as i32);
        let alike = wanted.is_none()
            && known.iter().zip(&scaled).all(|(value, shown)| {
                *value == 0.0
                    || self.scale(value.abs()).suffix == scale.suffix && shown.abs() >= least
            });
        let each = |value: f64| match alike && value.is_finite() {
            true if scale.suffix.is_empty() => number_format.number(value * scale.factor, places),
            true => {
                let number = number_format.number(value * scale.factor, places);
                format!("{number}\u{a0}{}", scale.suffix)
            }
            false => self.format_judged(value, limits, number_format, wanted),
        };
        values
            .iter()
            .map(|value| value.map_or_else(missing, each))
            .collect()
    }
}

impl FromStr for Unit {
    type Err = UnknownUnit;

    fn from_str(given: &str) -> Result<Self, UnknownUnit> {
        if let Some((_, unit)) = NAMES.iter().find(|(name, _)| *name == given) {
            return Ok(unit.clone());
        }
        match given.split_once(':') {
            Some(("currency", code))
                if code.len() == 3 && code.chars().all(|c| c.is_ascii_uppercase()) =>
            {
                Ok(Unit::Currency(code.to_owned()))
            }
            Some(("other", word)) if !word.trim().is_empty() && word.chars().count() <= 20 => {
                Ok(Unit::Other(word.trim().to_owned()))
            }
            _ => Err(UnknownUnit {
                given: given.to_owned(),
                suggestion: suggestion(given, NAMES.iter().map(|(name, _)| *name)),
            }),
        }
    }
}

impl TryFrom<String> for Unit {
    type Error = UnknownUnit;

    fn try_from(given: String) -> Result<Self, UnknownUnit> {
        given.parse()
    }
}

impl fmt::Display for Unit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Unit::Currency(code) => write!(f, "currency:{code}"),
            Unit::Other(word) => write!(f, "other:{word}"),
            known => f.write_str(
                NAMES
                    .iter()
                    .find(|(_, unit)| unit == known)
                    .map_or("none", |(name, _)| name),
            ),
        }
    }
}

impl From<Unit> for String {
    fn from(unit: Unit) -> String {
        unit.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::number_format::NumberFormat;

    #[test]
    fn values_read_in_the_scale_that_suits_them() {
        let cases = [
            (Unit::Bytes, 11_544_872_091_648.0, "10.5 TiB"),
            (Unit::BytesSi, 1_500.0, "1.50 kB"),
            (Unit::Percent, 99.95, "99.95 %"),
            (Unit::Ratio, 0.5, "50 %"),
            (Unit::Milliseconds, 312.4, "312 ms"),
            (Unit::Milliseconds, 99.95, "100 ms"),
            (Unit::Ratio, 0.9995, "99.95 %"),
            (Unit::Seconds, 5400.0, "90 min"),
            (Unit::None, 1_234_567.0, "1,234,567"),
            (Unit::Currency("DKK".into()), 1234.5, "1,234.50 DKK"),
            (Unit::Other("cars".into()), 3.0, "3 cars"),
            (Unit::None, -0.25, "−0.25"),
            (Unit::None, f64::NAN, "–"),
            (Unit::None, 0.0, "0"),
            (Unit::Fahrenheit, 41.0, "41 °F"),
        ];
        for (unit, value, text) in cases {
            assert_eq!(
                unit.format(value, NumberFormat::default())
                    .replace('\u{a0}', " "),
                text
            );
        }
    }

    #[test]
    fn what_is_judged_does_not_read_as_if_it_were_past_a_limit_that_it_is_not_past() {
        use crate::status::Direction::{Higher, Lower};
        let cases = [
            (Unit::Percent, 99.504, (Lower, 99.5), None, "99.504 %"),
            (Unit::Percent, 99.496, (Lower, 99.5), None, "99.50 %"),
            (Unit::Percent, 89.96, (Higher, 90.0), None, "89.96 %"),
            (Unit::Percent, 90.04, (Higher, 90.0), None, "90.0 %"),
            (Unit::Ratio, 0.8996, (Higher, 0.9), None, "89.96 %"),
            (Unit::Seconds, 1799.0, (Higher, 1800.0), None, "29.98 min"),
            (Unit::Seconds, 1800.0, (Higher, 1800.0), None, "30 min"),
            (Unit::None, 89.6, (Higher, 90.0), Some(0), "89.6"),
            (Unit::None, 89.4, (Higher, 90.0), Some(0), "89"),
            // Closer than anybody reads.
            (Unit::Percent, 89.999_999_9, (Higher, 90.0), None, "90.0 %"),
            (Unit::None, f64::NAN, (Higher, 90.0), None, "–"),
        ];
        for (unit, value, (worse, limit), decimals, text) in cases {
            let limits = Thresholds {
                warning: Some(limit),
                critical: None,
                worse,
            };
            let read = unit.format_judged(value, &limits, NumberFormat::default(), decimals);
            assert_eq!(read.replace('\u{a0}', " "), text);
        }
    }

    #[test]
    fn values_beside_each_other_have_one_precision() {
        let words = |unit: Unit, values: &[f64]| {
            let values: Vec<Option<f64>> = values.iter().copied().map(Some).collect();
            unit.format_alike(
                &values,
                &Thresholds::default(),
                NumberFormat::default(),
                None,
            )
            .join(", ")
            .replace('\u{a0}', " ")
        };
        let hours = Unit::Other("h".into());
        assert_eq!(
            words(hours, &[18.5, 13.0, 2.5, 0.0]),
            "18.5 h, 13.0 h, 2.5 h, 0.0 h"
        );
        assert_eq!(words(Unit::Percent, &[92.61, 60.0]), "92.6 %, 60.0 %");
        assert_eq!(words(Unit::None, &[3.0, 4.0]), "3, 4");
        // Scales of their own, and what one precision would hide.
        assert_eq!(
            words(Unit::BytesSi, &[2_500_000.0, 900.0]),
            "2.50 MB, 900 B"
        );
        assert_eq!(
            words(Unit::Milliseconds, &[1500.25, 0.04]),
            "1,500 ms, 0.04 ms"
        );
        assert_eq!(
            Unit::Percent.format_alike(
                &[None, Some(f64::NAN), Some(5.25)],
                &Thresholds::default(),
                NumberFormat::default(),
                None
            ),
            ["–", "–", "5.25\u{a0}%"]
        );
    }

    #[test]
    fn every_unit_is_written_as_it_is_read() {
        for name in [
            "none",
            "percent",
            "bytes-si",
            "bit/s",
            "currency:DKK",
            "other:cars",
        ] {
            assert_eq!(name.parse::<Unit>().unwrap().to_string(), name);
        }
        assert!(
            "percnt"
                .parse::<Unit>()
                .unwrap_err()
                .to_string()
                .contains("Did you mean \"percent\"?")
        );
    }
}
