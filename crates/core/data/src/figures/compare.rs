//! Numbers beside what they were: another time's, by key, with the difference and its direction.

use std::collections::HashMap;

use crate::{
    figures::{
        changes::{Earlier, Since, by_key},
        columns::{columns, keys, new_column, number_columns},
        context::Context,
        error::FigureError,
        rows::Figures,
    },
    status::{Direction, Thresholds},
    stop,
    table::{ColumnKind, Table, Value},
};

/// What numbers are set beside, and how.
#[derive(Debug, Clone, PartialEq)]
pub struct Compare {
    /// What with.
    pub since: Since,
    /// The columns by which rows belong together; none where there is one row.
    pub key: Vec<String>,
    /// The columns of numbers; every one that is not in the key, if empty.
    pub columns: Vec<String>,
}

const NAME: &str = "compare";

/// What is added to the name of a column for each of those that come beside it.
const ADDED: [(&str, ColumnKind); 4] = [
    ("_before", ColumnKind::Number),
    ("_change", ColumnKind::Number),
    ("_change_percent", ColumnKind::Number),
    ("_direction", ColumnKind::Text),
];

/// Which way a number went: `better` or `worse` where its column has limits, so that there is a
/// worse side, else `higher` or `lower`; `same` where it did not move.
#[must_use]
pub fn direction(now: f64, before: f64, limits: &Thresholds) -> &'static str {
    let higher = now > before;
    let judged = limits.is_set() || limits.worse == Direction::Lower;
    match (judged, higher == (limits.worse == Direction::Higher)) {
        _ if now == before => "same",
        (false, _) if higher => "higher",
        (false, _) => "lower",
        (true, true) => "worse",
        (true, false) => "better",
    }
}

impl Compare {
    /// The column that one which this makes stands beside.
    #[must_use]
    pub fn of<'c>(&self, column: &'c str) -> Option<&'c str> {
        let of = ["_before", "_change"]
            .iter()
            .find_map(|ending| column.strip_suffix(ending))?;
        self.is_compared(of).then_some(of)
    }

    /// Whether this makes a column of percentages of this name.
    #[must_use]
    pub fn percentages(&self, column: &str) -> bool {
        let of = column.strip_suffix("_change_percent");
        of.is_some_and(|of| self.is_compared(of))
    }

    fn is_compared(&self, column: &str) -> bool {
        if self.columns.is_empty() {
            !self.key.iter().any(|key| key == column)
        } else {
            self.columns.iter().any(|own| own == column)
        }
    }
}

/// What a number was and how far it went: the four cells beside it.
fn beside(now: Option<f64>, before: Option<f64>, limits: &Thresholds) -> [Value; 4] {
    let was = before.map_or(Value::Missing, Value::Number);
    let (Some(now), Some(before)) = (now, before) else {
        return [was, Value::Missing, Value::Missing, Value::Missing];
    };
    // A share of nothing is none, and one of what is below zero misleads.
    let percent = (before > 0.0).then(|| (now - before) / before * 100.0);
    [
        was,
        Value::Number(now - before),
        percent.map_or(Value::Missing, Value::Number),
        Value::Text(direction(now, before, limits).to_owned()),
    ]
}

/// The rows as they are, with what their numbers were beside them.
///
/// # Errors
/// If a column is missing, or the key does not tell rows apart.
pub fn compare(
    asked: &Compare,
    table: Table,
    earlier: Earlier,
    around: &Context<'_>,
) -> Result<Figures, FigureError> {
    let by = columns(NAME, &table, &asked.key)?;
    let compared = number_columns(NAME, &table, &asked.columns, &by)?;
    let mut out = Table {
        truncated: table.truncated,
        ..Table::default()
    };
    for (place, column) in table.columns.iter().enumerate() {
        out.columns.push(column.clone());
        if compared.contains(&place) {
            for (ending, kind) in ADDED {
                let name = format!("{}{ending}", column.name);
                out.columns.push(new_column(NAME, &table, &name, kind)?);
            }
        }
    }
    let (before, words, none) = match earlier {
        Earlier::Rows(before, words) => (before, words, None),
        Earlier::Nothing(reason) => (Table::default(), String::new(), Some(reason)),
    };
    by_key(NAME, &table, &by, "this run")?;
    // Without rows it may not know its columns.
    let old: HashMap<Vec<String>, &Vec<Value>> = if before.rows.is_empty() {
        HashMap::new()
    } else {
        let by_before = columns(NAME, &before, &asked.key)?;
        by_key(NAME, &before, &by_before, &words)?
    };
    let mut left = old.len();
    for row in &table.rows {
        stop::check();
        let was = old.get(&keys(row, &by));
        left -= usize::from(was.is_some());
        let mut cells = Vec::with_capacity(out.columns.len());
        for (place, value) in row.iter().enumerate() {
            cells.push(value.clone());
            if compared.contains(&place) {
                let name = &table.columns[place].name;
                let before = was.and_then(|was| was[before.column(name)?].as_number());
                let limits = (around.thresholds)(name);
                cells.extend(beside(value.as_number(), before, &limits));
            }
        }
        out.rows.push(cells);
    }
    let mut note = none.unwrap_or_else(|| format!("Compared with {words}."));
    if left > 0 {
        let rows = if left == 1 { "row" } else { "rows" };
        note += &format!(
            " {left} {rows} of then {} not there any more.",
            if left == 1 { "is" } else { "are" }
        );
    }
    Ok(Figures {
        table: out,
        notes: vec![note],
        ..Figures::default()
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::figures::{
        FigureError, Operation,
        testing::{names, table, text},
    };
    use maple_lark_time::{Window, Zone};

    fn disks(rows: &[(&str, Option<f64>)]) -> Table {
        let rows = rows
            .iter()
            .map(|(host, used)| vec![text(host), used.map_or(Value::Missing, Value::Number)]);
        table(
            &[("host", ColumnKind::Text), ("used", ColumnKind::Number)],
            rows.collect(),
        )
    }

    fn rows(figures: &Figures) -> Vec<String> {
        let row = |row: &Vec<Value>| {
            let cells: Vec<String> = row.iter().map(|value| value.exact(Zone::UTC)).collect();
            cells.join("|")
        };
        figures.table.rows.iter().map(row).collect()
    }

    fn compared(now: Table, earlier: Earlier, limits: Thresholds) -> Result<Figures, FigureError> {
        let asked = Compare {
            since: Since::PreviousWindow,
            key: names(&["host"]),
            columns: Vec::new(),
        };
        let window = Window {
            from: "2026-10-01T00:00:00Z".parse().unwrap(),
            to: "2026-11-01T00:00:00Z".parse().unwrap(),
            zone: Zone::UTC,
            within: None,
        };
        let around = Context {
            window: &window,
            step: "PT1H".parse().unwrap(),
            thresholds: &|_| limits,
            other: &|_| unreachable!("no other query"),
            earlier: &|_| Ok(earlier.clone()),
        };
        Operation::Compare(Box::new(asked)).apply(now.into(), &around)
    }

    #[test]
    fn numbers_stand_beside_what_they_were_with_the_direction_of_their_limits() {
        let now = disks(&[
            ("a", Some(90.0)),
            ("b", Some(40.0)),
            ("c", Some(5.0)),
            ("d", None),
        ]);
        let before = disks(&[
            ("b", Some(50.0)),
            ("a", Some(60.0)),
            ("d", Some(1.0)),
            ("gone", Some(2.0)),
        ]);
        let limits = Thresholds {
            warning: Some(80.0),
            ..Thresholds::default()
        };
        let figures = compared(
            now.clone(),
            Earlier::Rows(before, "September".into()),
            limits,
        )
        .unwrap();
        let heads: Vec<&str> = figures
            .table
            .columns
            .iter()
            .map(|one| one.name.as_str())
            .collect();
        assert_eq!(
            heads,
            [
                "host",
                "used",
                "used_before",
                "used_change",
                "used_change_percent",
                "used_direction"
            ]
        );
        assert_eq!(
            rows(&figures),
            [
                "a|90|60|30|50|worse",
                "b|40|50|-10|-20|better",
                "c|5||||",
                "d||1|||",
            ]
        );
        assert_eq!(
            figures.notes,
            ["Compared with September. 1 row of then is not there any more."]
        );
        let first = compared(now, Earlier::Nothing("It is the first.".into()), limits).unwrap();
        assert_eq!(rows(&first)[0], "a|90||||");
        assert_eq!(first.notes, ["It is the first."]);
    }

    #[test]
    fn without_limits_nothing_is_better_or_worse() {
        let none = Thresholds::default();
        assert_eq!(direction(2.0, 1.0, &none), "higher");
        assert_eq!(direction(1.0, 2.0, &none), "lower");
        assert_eq!(direction(1.0, 1.0, &none), "same");
        let low = Thresholds {
            worse: Direction::Lower,
            ..none
        };
        assert_eq!(
            (direction(1.0, 2.0, &low), direction(2.0, 1.0, &low)),
            ("worse", "better")
        );
    }

    #[test]
    fn keys_that_do_not_tell_rows_apart_are_refused() {
        let twice = disks(&[("a", Some(1.0)), ("a", Some(2.0))]);
        let error = compared(
            twice,
            Earlier::Nothing(String::new()),
            Thresholds::default(),
        );
        let words = error.unwrap_err().to_string();
        assert!(
            words.starts_with("compare: two rows of this run have host a"),
            "{words}"
        );
    }
}
