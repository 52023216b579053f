//! Turns what JSON, CSV and the like hold into typed cells.

use chrono::{DateTime, NaiveDate, NaiveDateTime, NaiveTime, TimeZone, Utc};
use maple_lark_data::{Column, ColumnKind, Table, Value};
use maple_lark_definition::{Field, TimeForm};

/// Why a cell cannot be read as what its field says.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadCell {
    #[error("\"{text}\" is not {wanted}")]
    Text { text: String, wanted: &'static str },
    #[error("{0} is not a whole number")]
    NotWhole(serde_json::Number),
    /// What the database's driver says.
    #[error("{0}")]
    Driver(String),
    #[error("it holds a list or an object, not {0}")]
    Nested(&'static str),
    #[error("it has {} MB; the limit for one value is {} MB. Select a part of it", .0.div_ceil(1_000_000), MOST_BYTES / 1_000_000)]
    Long(usize),
}

/// One value of a database may have so many bytes: nobody reads more, and an answer holds it
/// several times on its way.
const MOST_BYTES: usize = 16_000_000;

impl From<sqlx::Error> for BadCell {
    fn from(error: sqlx::Error) -> Self {
        Self::Driver(error.to_string())
    }
}

/// That a value is no longer than anybody reads.
pub fn within_bytes(bytes: usize) -> Result<(), BadCell> {
    if bytes > MOST_BYTES {
        return Err(BadCell::Long(bytes));
    }
    Ok(())
}

/// The cell of a text; empty is missing.
pub fn from_text(text: &str, kind: ColumnKind, time: &TimeForm) -> Result<Value, BadCell> {
    let trimmed = text.trim();
    if kind == ColumnKind::Text {
        return Ok(if text.is_empty() {
            Value::Missing
        } else {
            Value::Text(text.to_owned())
        });
    }
    if trimmed.is_empty() {
        return Ok(Value::Missing);
    }
    let wrong = || BadCell::Text {
        text: trimmed.chars().take(60).collect(),
        wanted: wanted(kind),
    };
    match kind {
        ColumnKind::Text => Ok(Value::Text(text.to_owned())),
        ColumnKind::Integer => trimmed.parse().map(Value::Integer).map_err(|_| wrong()),
        ColumnKind::Decimal => trimmed.parse().map(Value::Decimal).map_err(|_| wrong()),
        ColumnKind::Number => match trimmed.parse::<f64>() {
            Ok(number) if number.is_nan() => Ok(Value::Missing),
            Ok(number) => Ok(Value::Number(number)),
            Err(_) => Err(wrong()),
        },
        ColumnKind::Boolean => match trimmed.to_ascii_lowercase().as_str() {
            "true" | "yes" | "1" => Ok(Value::Boolean(true)),
            "false" | "no" | "0" => Ok(Value::Boolean(false)),
            _ => Err(wrong()),
        },
        ColumnKind::Date => match time {
            TimeForm::Pattern(pattern) => NaiveDate::parse_from_str(trimmed, pattern)
                .map(Value::Date)
                .map_err(|_| wrong()),
            _ => trimmed
                .get(..10)
                .unwrap_or(trimmed)
                .parse()
                .map(Value::Date)
                .map_err(|_| wrong()),
        },
        ColumnKind::Instant => instant(trimmed, time).map(Value::Instant).ok_or_else(wrong),
    }
}

fn instant(text: &str, time: &TimeForm) -> Option<DateTime<Utc>> {
    match time {
        TimeForm::Iso => {
            let naive = || {
                [
                    "%Y-%m-%dT%H:%M:%S%.f",
                    "%Y-%m-%d %H:%M:%S%.f",
                    "%Y-%m-%dT%H:%M",
                    "%Y-%m-%d %H:%M",
                ]
                .iter()
                .find_map(|form| NaiveDateTime::parse_from_str(text, form).ok())
            };
            let date = || {
                text.parse::<NaiveDate>()
                    .ok()
                    .map(|date| date.and_time(NaiveTime::MIN))
            };
            let offset = DateTime::parse_from_rfc3339(text)
                .or_else(|_| DateTime::parse_from_str(text, "%Y-%m-%d %H:%M:%S%.f%#z"));
            offset
                .map(|at| at.to_utc())
                .ok()
                .or_else(|| naive().or_else(date).map(|at| at.and_utc()))
        }
        TimeForm::UnixSeconds => at_milliseconds(text.parse::<f64>().ok()? * 1000.0),
        TimeForm::UnixMilliseconds => at_milliseconds(text.parse().ok()?),
        TimeForm::Pattern(pattern) => {
            let naive = || {
                NaiveDateTime::parse_from_str(text, pattern).or_else(|_| {
                    NaiveDate::parse_from_str(text, pattern)
                        .map(|date| date.and_time(NaiveTime::MIN))
                })
            };
            DateTime::parse_from_str(text, pattern)
                .map(|at| at.to_utc())
                .ok()
                .or_else(|| naive().ok().map(|at| at.and_utc()))
        }
    }
}

fn at_milliseconds(milliseconds: f64) -> Option<DateTime<Utc>> {
    // Beyond a quadrillion seconds nothing is a date any more.
    (milliseconds.is_finite() && milliseconds.abs() < 1e15)
        .then(|| {
            Utc.timestamp_millis_opt(milliseconds.round() as i64)
                .single()
        })
        .flatten()
}

fn wanted(kind: ColumnKind) -> &'static str {
    match kind {
        ColumnKind::Integer => "a whole number",
        ColumnKind::Number => "a number",
        ColumnKind::Decimal => "a decimal number",
        ColumnKind::Boolean => "true or false",
        ColumnKind::Instant => "a time in the form that the field names",
        ColumnKind::Date => "a date",
        ColumnKind::Text => "a text",
    }
}

/// The cell of a JSON value.
pub fn from_json(json: &serde_json::Value, field: &Field) -> Result<Value, BadCell> {
    match json {
        serde_json::Value::Null => Ok(Value::Missing),
        serde_json::Value::String(text) => from_text(text, field.kind, &field.time),
        serde_json::Value::Number(number) if field.kind == ColumnKind::Instant => {
            // A number is never ISO 8601: seconds, unless milliseconds are said.
            let time = if field.time == TimeForm::Iso {
                &TimeForm::UnixSeconds
            } else {
                &field.time
            };
            from_text(&number.to_string(), field.kind, time)
        }
        serde_json::Value::Number(number) if field.kind == ColumnKind::Integer => {
            match number.as_i64().or_else(|| {
                number
                    .as_f64()
                    .filter(|n| n.fract() == 0.0 && n.abs() < 9e15)
                    .map(|n| n as i64)
            }) {
                Some(whole) => Ok(Value::Integer(whole)),
                None => Err(BadCell::NotWhole(number.clone())),
            }
        }
        serde_json::Value::Number(number) => {
            from_text(&number.to_string(), field.kind, &field.time)
        }
        serde_json::Value::Bool(truth) if field.kind == ColumnKind::Boolean => {
            Ok(Value::Boolean(*truth))
        }
        serde_json::Value::Bool(truth) => from_text(&truth.to_string(), field.kind, &field.time),
        // Lists and objects are kept as JSON where a text is wanted.
        other if field.kind == ColumnKind::Text => Ok(Value::Text(other.to_string())),
        _ => Err(BadCell::Nested(wanted(field.kind))),
    }
}

/// The narrowest kind that all texts of a column fit: whole number, number, time, date,
/// boolean, else text. Without any value it is text.
pub fn inferred<'a>(texts: impl Iterator<Item = &'a str> + Clone) -> ColumnKind {
    let some = texts.clone().any(|text| !text.trim().is_empty());
    let kinds = [
        ColumnKind::Integer,
        ColumnKind::Number,
        ColumnKind::Date,
        ColumnKind::Instant,
        ColumnKind::Boolean,
    ];
    // A leading zero means that digits are a name, such as a postal code.
    let zeros = texts.clone().any(|text| {
        text.len() > 1 && text.starts_with('0') && text.bytes().all(|b| b.is_ascii_digit())
    });
    let fits = |kind: &ColumnKind| {
        let plain_date =
            *kind != ColumnKind::Date || texts.clone().all(|text| text.trim().len() <= 10);
        plain_date
            && texts
                .clone()
                .all(|text| from_text(text, *kind, &TimeForm::Iso).is_ok())
    };
    if some && !zeros {
        kinds.into_iter().find(fits).unwrap_or(ColumnKind::Text)
    } else {
        ColumnKind::Text
    }
}

/// A table of columns that hold texts, each of the narrowest kind that all of its texts fit.
pub fn typed(names: impl IntoIterator<Item = String>, texts: Vec<Vec<String>>) -> Table {
    let text = |row: &Vec<String>, place: usize| row.get(place).cloned().unwrap_or_default();
    let columns: Vec<Column> = names
        .into_iter()
        .enumerate()
        .map(|(place, name)| Column {
            name,
            kind: inferred(
                texts
                    .iter()
                    .map(|row| row.get(place).map_or("", String::as_str)),
            ),
        })
        .collect();
    let rows = texts.into_iter().map(|row| {
        let cells = columns.iter().enumerate().map(|(place, column)| {
            // Every text fits its column's kind, or that kind would be another.
            from_text(&text(&row, place), column.kind, &TimeForm::Iso).unwrap_or(Value::Missing)
        });
        cells.collect()
    });
    Table {
        rows: rows.collect(),
        columns,
        truncated: false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_become_what_their_field_says() {
        let read = |text: &str, kind, time: &TimeForm| {
            from_text(text, kind, time).map(|value| value.exact("UTC".parse().unwrap()))
        };
        let pattern = TimeForm::Pattern("%d.%m.%Y %H:%M".into());
        assert_eq!(
            read("25.10.2026 01:30", ColumnKind::Instant, &pattern).unwrap(),
            "2026-10-25T01:30:00+00:00"
        );
        assert_eq!(
            read(
                "2026-10-25T01:30:00+01:00",
                ColumnKind::Instant,
                &TimeForm::Iso
            )
            .unwrap(),
            "2026-10-25T00:30:00+00:00"
        );
        assert_eq!(
            read("1792892700.5", ColumnKind::Instant, &TimeForm::UnixSeconds).unwrap(),
            "2026-10-25T01:45:00.500+00:00"
        );
        assert_eq!(
            read("1234.50", ColumnKind::Decimal, &TimeForm::Iso).unwrap(),
            "1234.50"
        );
        assert_eq!(read(" ", ColumnKind::Number, &TimeForm::Iso).unwrap(), "");
        assert_eq!(
            read("n/a", ColumnKind::Number, &TimeForm::Iso)
                .unwrap_err()
                .to_string(),
            "\"n/a\" is not a number"
        );
    }

    #[test]
    fn kinds_are_found_out_from_all_values() {
        let kind = |texts: &[&str]| inferred(texts.iter().copied());
        assert_eq!(kind(&["1", "", "-2"]), ColumnKind::Integer);
        assert_eq!(kind(&["1", "2.5"]), ColumnKind::Number);
        assert_eq!(kind(&["2026-10-25", "2026-10-26"]), ColumnKind::Date);
        assert_eq!(
            kind(&["2026-10-25", "2026-10-26T10:00:00Z"]),
            ColumnKind::Instant
        );
        assert_eq!(kind(&["true", "no"]), ColumnKind::Boolean);
        assert_eq!(kind(&["0100", "3800"]), ColumnKind::Text);
        assert_eq!(kind(&["", ""]), ColumnKind::Text);
    }
}
