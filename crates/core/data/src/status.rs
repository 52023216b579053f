//! Thresholds, and the status that a value has against them.

use serde::{Deserialize, Serialize};

/// How well a value is. Ordered from good to bad, with what is not known in between.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Status {
    /// Within its limits.
    Ok,
    /// There is no value to judge.
    Unknown,
    /// Past the warning limit.
    Warning,
    /// Past the critical limit.
    Critical,
}

impl Status {
    /// The status that a word of the kind which systems report stands for.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        match word.trim().to_ascii_lowercase().as_str() {
            "ok" | "up" | "healthy" | "well" => Some(Self::Ok),
            "warning" | "degraded" => Some(Self::Warning),
            "critical" | "down" | "failed" | "error" => Some(Self::Critical),
            "unknown" | "" => Some(Self::Unknown),
            _ => None,
        }
    }

    /// The word for people and definitions: `ok`, `unknown`, `warning`, `critical`.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Ok => "OK",
            Self::Unknown => "Unknown",
            Self::Warning => "Warning",
            Self::Critical => "Critical",
        }
    }
}

/// Which way is worse.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Direction {
    /// Values above a limit are past it.
    #[default]
    Higher,
    /// Values below a limit are past it.
    Lower,
}

impl Direction {
    /// The words before a limit: `from 90 %`, `at or below 99 %`.
    #[must_use]
    pub fn from(self) -> &'static str {
        match self {
            Self::Higher => "from",
            Self::Lower => "at or below",
        }
    }
}

/// Limits past which a value deserves attention. Reaching a limit counts as past it.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct Thresholds {
    /// The limit from which a value is a warning, in the value's own unit.
    pub warning: Option<f64>,
    /// The limit from which a value is critical, in the value's own unit.
    pub critical: Option<f64>,
    /// On which side of its limits a value is past them.
    pub worse: Direction,
}

impl Thresholds {
    /// Whether there is any limit.
    #[must_use]
    pub fn is_set(&self) -> bool {
        self.warning.is_some() || self.critical.is_some()
    }

    /// The status of a value; a missing one is unknown, whatever the limits.
    #[must_use]
    pub fn status(&self, value: Option<f64>) -> Status {
        let Some(value) = value else {
            return Status::Unknown;
        };
        let past = |limit: Option<f64>| {
            limit.is_some_and(|limit| match self.worse {
                Direction::Higher => value >= limit,
                Direction::Lower => value <= limit,
            })
        };
        if past(self.critical) {
            Status::Critical
        } else if past(self.warning) {
            Status::Warning
        } else {
            Status::Ok
        }
    }

    /// The limit that a value is past, the worse one if it is past both, and what it is then.
    #[must_use]
    pub fn passed(&self, value: f64) -> Option<(Status, f64)> {
        let status = self.status(Some(value));
        let limit = match status {
            Status::Critical => self.critical,
            Status::Warning => self.warning,
            Status::Ok | Status::Unknown => None,
        };
        Some((status, limit?))
    }

    /// The fewest decimals, from `least` to `most`, with which a value that is shown times `factor` reads as what it is
    /// by these limits; `least` if none of them do.
    #[must_use]
    pub fn telling_places(&self, value: f64, factor: f64, least: usize, most: usize) -> usize {
        let rounded = |value: f64, places: usize| {
            let text = format!("{:.places$}", value * factor);
            text.parse::<f64>().unwrap_or(value)
        };
        let near = 10f64.powi(-(least as i32));
        let near = |limit: &f64| ((value - limit) * factor).abs() <= near;
        if !value.is_finite() || !self.warning.iter().chain(&self.critical).any(near) {
            return least;
        }
        // More decimals than a limit has by itself.
        let shown = |limit: Option<f64>| limit.map(|limit| rounded(limit, most.max(9)));
        let limits = Self {
            warning: shown(self.warning),
            critical: shown(self.critical),
            worse: self.worse,
        };
        let status = self.status(Some(value));
        (least..=most)
            .find(|places| limits.status(Some(rounded(value, *places))) == status)
            .unwrap_or(least)
    }
}

/// How many of the things that limits were set for are past them. One that is past both is
/// counted as critical alone.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct StatusCounts {
    /// How many things have limits.
    pub all: usize,
    /// How many of them are past the warning limit, but not the critical one.
    pub warning: usize,
    /// How many of them are past the critical limit.
    pub critical: usize,
    /// Well at the end of the window, but past a limit before.
    pub recovered: usize,
}

impl StatusCounts {
    /// Counts one more thing.
    pub fn add(&mut self, status: Status) {
        self.all += 1;
        match status {
            Status::Warning => self.warning += 1,
            Status::Critical => self.critical += 1,
            Status::Ok | Status::Unknown => {}
        }
    }

    /// The worst status among what was counted; `Unknown` if nothing was.
    #[must_use]
    pub fn worst(&self) -> Status {
        match (self.critical, self.warning) {
            (0, 0) => Status::Ok,
            (0, _) => Status::Warning,
            _ => Status::Critical,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_at_the_limit_is_past_it_in_either_direction() {
        let load = Thresholds {
            warning: Some(80.0),
            critical: Some(90.0),
            worse: Direction::Higher,
        };
        assert_eq!(
            [79.9, 80.0, 90.0].map(|v| load.status(Some(v))),
            [Status::Ok, Status::Warning, Status::Critical]
        );
        let free = Thresholds {
            warning: Some(20.0),
            critical: Some(10.0),
            worse: Direction::Lower,
        };
        assert_eq!(
            [20.1, 20.0, 10.0].map(|v| free.status(Some(v))),
            [Status::Ok, Status::Warning, Status::Critical]
        );
        assert_eq!(free.status(None), Status::Unknown);
    }
}
