//! What is new, gone and altered in rows, compared with rows of another time or place.

use std::collections::HashMap;

use maple_lark_time::{Zone, english};

use crate::{
    figures::{
        columns::{columns, key, keys, new_column},
        error::FigureError,
        rows::Figures,
    },
    stop,
    table::{Column, ColumnKind, Table, Value},
};

/// What rows are compared with, and how.
#[derive(Debug, Clone, PartialEq)]
pub struct Changes {
    /// What with.
    pub since: Since,
    /// The columns by which rows belong together.
    pub key: Vec<String>,
    /// The columns that may change unsaid.
    pub ignore: Vec<String>,
    /// By so much may numbers differ unsaid, in their own unit.
    pub tolerance: f64,
    /// By so many percent of the larger of two numbers may they differ unsaid.
    pub tolerance_percent: f64,
    /// Whether rows that are as they were stay.
    pub all: bool,
    /// One row with how many there are, instead of the rows.
    pub counts: bool,
}

/// What rows are compared with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Since {
    /// The same query in the run before, for the same values.
    PreviousRun,
    /// The same query, asked for the window that the report's is compared with.
    PreviousWindow,
    /// The same query in the run of this identifier, for the same values.
    Run(String),
    /// The rows of another query of the dashboard.
    Query(String),
}

impl Since {
    /// Gives the query another name, if it is one.
    pub(super) fn rename(&mut self, renamed: impl Fn(&str) -> String) {
        if let Self::Query(name) = self {
            *name = renamed(name);
        }
    }
}

/// The rows to compare with.
#[derive(Debug, Clone)]
pub enum Earlier {
    /// There are none, for this reason; a sentence.
    Nothing(String),
    /// These, of which the words say when or where they are from: `the run of 3 May 2026 06:00`.
    Rows(Table, String),
}

const NAME: &str = "changes";

impl Changes {
    /// Whether two cells are alike, as far as the author wants to know.
    fn alike(&self, a: &Value, b: &Value) -> bool {
        if key(a) == key(b) {
            return true;
        }
        match (a.as_number(), b.as_number()) {
            (Some(a), Some(b)) => {
                let apart = (a - b).abs();
                apart <= self.tolerance
                    || apart <= self.tolerance_percent / 100.0 * a.abs().max(b.abs())
            }
            _ => false,
        }
    }
}

/// The rows of a table by their keys.
pub(super) fn by_key<'t>(
    operation: &'static str,
    table: &'t Table,
    by: &[usize],
    whose: &str,
) -> Result<HashMap<Vec<String>, &'t Vec<Value>>, FigureError> {
    let mut rows = HashMap::new();
    for row in &table.rows {
        if rows.insert(keys(row, by), row).is_some() {
            let named: Vec<String> = by
                .iter()
                .map(|index| {
                    let name = &table.columns[*index].name;
                    format!("{name} {}", row[*index].exact(Zone::UTC))
                })
                .collect();
            return Err(FigureError::Other {
                operation,
                reason: format!(
                    "two rows of {whose} have {}; name more columns in \"key\", so that they tell rows apart",
                    english::list(&named)
                ),
            });
        }
    }
    Ok(rows)
}

/// Two tables whose columns are matched.
struct Pair {
    now: Table,
    before: Table,
    by: Vec<usize>,
    by_before: Vec<usize>,
    /// The places of what is compared, now and before.
    compared: Vec<(usize, usize)>,
}

impl Pair {
    fn of(asked: &Changes, now: Table, before: Table) -> Result<Self, FigureError> {
        // A side without rows may not know its columns.
        let empty = |from: &Table, like: &Table| Table {
            columns: like.columns.clone(),
            rows: Vec::new(),
            truncated: from.truncated,
        };
        let now = if now.rows.is_empty() {
            empty(&now, &before)
        } else {
            now
        };
        let before = if before.rows.is_empty() {
            empty(&before, &now)
        } else {
            before
        };
        let by = columns(NAME, &now, &asked.key)?;
        let by_before = columns(NAME, &before, &asked.key)?;
        let compared = now
            .columns
            .iter()
            .enumerate()
            .filter(|(place, column)| !by.contains(place) && !asked.ignore.contains(&column.name))
            .filter_map(|(place, column)| Some((place, before.column(&column.name)?)))
            .collect();
        Ok(Self {
            now,
            before,
            by,
            by_before,
            compared,
        })
    }

    /// What a row was and is, where it is another; empty where it is not.
    fn difference(&self, asked: &Changes, row: &[Value], was: &[Value], zone: Zone) -> String {
        let said = |value: &Value| match value {
            Value::Missing => "nothing".to_owned(),
            value => value.exact(zone),
        };
        let differences: Vec<String> = self
            .compared
            .iter()
            .filter(|(place, before)| !asked.alike(&row[*place], &was[*before]))
            .map(|(place, before)| {
                let name = &self.now.columns[*place].name;
                format!(
                    "{name}: was {}, is {}",
                    said(&was[*before]),
                    said(&row[*place])
                )
            })
            .collect();
        differences.join("; ")
    }

    /// A row of the earlier table under the columns of now.
    fn as_now(&self, row: &[Value]) -> Vec<Value> {
        let cell = |column: &Column| {
            let place = self.before.column(&column.name);
            place.map_or(Value::Missing, |place| row[place].clone())
        };
        self.now.columns.iter().map(cell).collect()
    }
}

fn changed(word: &str, row: &[Value], difference: Value) -> Vec<Value> {
    let mut out = vec![Value::Text(word.to_owned())];
    out.extend_from_slice(row);
    out.push(difference);
    out
}

/// How the rows of a table differ from earlier ones: the new, then the gone, then the altered.
pub fn changes(
    asked: &Changes,
    table: Table,
    earlier: Earlier,
    zone: Zone,
) -> Result<Figures, FigureError> {
    let (before, words) = match earlier {
        Earlier::Rows(before, words) => (before, words),
        Earlier::Nothing(reason) => return nothing(asked, &table, reason),
    };
    let pair = Pair::of(asked, table, before)?;
    let now = by_key(NAME, &pair.now, &pair.by, "this run")?;
    let old = by_key(NAME, &pair.before, &pair.by_before, &words)?;
    let mut rows: [Vec<Vec<Value>>; 4] = Default::default();
    for row in &pair.now.rows {
        stop::check();
        let Some(was) = old.get(&keys(row, &pair.by)) else {
            rows[0].push(changed("new", row, Value::Missing));
            continue;
        };
        let difference = pair.difference(asked, row, was, zone);
        if difference.is_empty() {
            rows[3].push(changed("unchanged", row, Value::Missing));
        } else {
            rows[2].push(changed("altered", row, Value::Text(difference)));
        }
    }
    let gone = pair.before.rows.iter().filter(|row| {
        stop::check();
        !now.contains_key(&keys(row, &pair.by_before))
    });
    rows[1].extend(gone.map(|row| changed("gone", &pair.as_now(row), Value::Missing)));
    let notes = vec![note(asked, &pair, &rows, &words)];
    let table = if asked.counts {
        counted([0, 1, 2, 3].map(|kind| Value::Integer(rows[kind].len() as i64)))
    } else {
        let mut out = headed(&pair.now)?;
        out.truncated = pair.now.truncated || pair.before.truncated;
        let kept = if asked.all { 4 } else { 3 };
        out.rows = rows.into_iter().take(kept).flatten().collect();
        out
    };
    Ok(Figures {
        table,
        notes,
        ..Figures::default()
    })
}

fn headed(table: &Table) -> Result<Table, FigureError> {
    let mut columns = vec![new_column(NAME, table, "change", ColumnKind::Text)?];
    columns.extend(table.columns.iter().cloned());
    columns.push(new_column(NAME, table, "difference", ColumnKind::Text)?);
    Ok(Table {
        columns,
        rows: Vec::new(),
        truncated: false,
    })
}

fn counted(counts: [Value; 4]) -> Table {
    let names = ["new", "gone", "altered", "unchanged"];
    Table {
        columns: names
            .map(|name| Column {
                name: name.to_owned(),
                kind: ColumnKind::Integer,
            })
            .to_vec(),
        rows: vec![counts.to_vec()],
        truncated: false,
    }
}

/// What there is to say where there is nothing to compare with.
fn nothing(asked: &Changes, table: &Table, reason: String) -> Result<Figures, FigureError> {
    let table = if asked.counts {
        counted([const { Value::Missing }; 4])
    } else {
        headed(table)?
    };
    Ok(Figures {
        table,
        notes: vec![reason],
        ..Figures::default()
    })
}

fn note(asked: &Changes, pair: &Pair, rows: &[Vec<Vec<Value>>; 4], words: &str) -> String {
    let (now, before) = (&pair.now, &pair.before);
    let mut sentences = vec![format!("Compared with {words}.")];
    if rows[..3].iter().all(Vec::is_empty) {
        sentences.push(format!("Nothing has changed in {} rows.", rows[3].len()));
    }
    let only = |a: &Table, b: &Table| -> Vec<String> {
        let names = a.columns.iter().map(|column| &column.name);
        names
            .filter(|name| b.column(name).is_none() && !asked.ignore.contains(*name))
            .map(|name| format!("\"{name}\""))
            .collect()
    };
    for (names, what) in [
        (only(now, before), "was not there then"),
        (only(before, now), "is not there any more"),
    ] {
        if !names.is_empty() {
            sentences.push(format!(
                "Not compared, because it {what}: {}.",
                english::list(&names)
            ));
        }
    }
    if now.truncated || before.truncated {
        sentences.push(
            "One side has more rows than were read, so some may seem new or gone.".to_owned(),
        );
    }
    sentences.join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::figures::testing::{names, table, text};

    fn hosts(rows: &[(&str, &str, f64)]) -> Table {
        table(
            &[
                ("host", ColumnKind::Text),
                ("system", ColumnKind::Text),
                ("memory", ColumnKind::Number),
            ],
            rows.iter()
                .map(|(host, system, memory)| {
                    vec![text(host), text(system), Value::Number(*memory)]
                })
                .collect(),
        )
    }

    fn asked() -> Changes {
        Changes {
            since: Since::PreviousRun,
            key: names(&["host"]),
            ignore: Vec::new(),
            tolerance: 0.0,
            tolerance_percent: 0.0,
            all: false,
            counts: false,
        }
    }

    fn compared(asked: &Changes, now: Table, before: Table) -> Result<Figures, FigureError> {
        let before = Earlier::Rows(before, "the run before".to_owned());
        changes(asked, now, before, Zone::UTC)
    }

    fn told(figures: &Figures) -> Vec<String> {
        let said = |row: &Vec<Value>| {
            let cells: Vec<String> = row.iter().map(|cell| cell.exact(Zone::UTC)).collect();
            cells.join("|")
        };
        figures.table.rows.iter().map(said).collect()
    }

    fn monday() -> Table {
        hosts(&[("a", "12", 16.0), ("b", "12", 16.0), ("c", "12", 8.0)])
    }

    fn tuesday() -> Table {
        hosts(&[("d", "13", 32.0), ("c", "13", 8.1), ("a", "12", 16.0)])
    }

    #[test]
    fn rows_are_new_gone_or_altered_and_say_what_they_were() {
        let figures = compared(&asked(), tuesday(), monday()).unwrap();
        assert_eq!(
            told(&figures),
            [
                "new|d|13|32|",
                "gone|b|12|16|",
                "altered|c|13|8.1|system: was 12, is 13; memory: was 8, is 8.1"
            ]
        );
        assert_eq!(figures.notes, ["Compared with the run before."]);
        let near = Changes {
            tolerance_percent: 2.0,
            ignore: names(&["system"]),
            all: true,
            ..asked()
        };
        let figures = compared(&near, tuesday(), monday()).unwrap();
        assert_eq!(
            told(&figures)[2..],
            ["unchanged|c|13|8.1|", "unchanged|a|12|16|"]
        );
        let counts = Changes {
            counts: true,
            ..asked()
        };
        assert_eq!(
            told(&compared(&counts, tuesday(), monday()).unwrap()),
            ["1|1|1|1"]
        );
    }

    #[test]
    fn there_and_back_are_the_reverse_of_each_other() {
        let there = compared(&asked(), tuesday(), monday()).unwrap();
        let back = compared(&asked(), monday(), tuesday()).unwrap();
        let hosts = |figures: &Figures, change: &str| -> Vec<String> {
            let rows = figures.table.rows.iter();
            rows.filter(|row| row[0] == text(change))
                .map(|row| row[1].exact(Zone::UTC))
                .collect()
        };
        assert_eq!(hosts(&there, "new"), hosts(&back, "gone"));
        assert_eq!(hosts(&there, "gone"), hosts(&back, "new"));
        assert_eq!(hosts(&there, "altered"), hosts(&back, "altered"));
        let same = compared(&asked(), monday(), monday()).unwrap();
        assert_eq!(told(&same), Vec::<String>::new());
        assert_eq!(
            same.notes,
            ["Compared with the run before. Nothing has changed in 3 rows."]
        );
    }

    #[test]
    fn another_column_is_said_once_and_not_in_each_row() {
        let mut now = monday();
        now.columns[1].name = "release".to_owned();
        let figures = compared(&asked(), now, monday()).unwrap();
        assert_eq!(told(&figures), Vec::<String>::new());
        assert_eq!(
            figures.notes,
            [
                "Compared with the run before. Nothing has changed in 3 rows. Not compared, because it was not there then: \"release\". Not compared, because it is not there any more: \"system\"."
            ]
        );
    }

    #[test]
    fn the_first_run_says_that_there_is_nothing_to_compare_with() {
        let first = || Earlier::Nothing("This is the first run.".to_owned());
        let figures = changes(&asked(), monday(), first(), Zone::UTC).unwrap();
        assert!(figures.table.rows.is_empty());
        assert_eq!(figures.notes, ["This is the first run."]);
        let counts = Changes {
            counts: true,
            ..asked()
        };
        let figures = changes(&counts, monday(), first(), Zone::UTC).unwrap();
        assert_eq!(told(&figures), ["|||"]);
    }

    #[test]
    fn everything_can_come_and_go() {
        let none = || table(&[], Vec::new());
        assert_eq!(
            told(&compared(&asked(), monday(), none()).unwrap()).len(),
            3
        );
        let gone = compared(&asked(), none(), monday()).unwrap();
        assert_eq!(told(&gone)[0], "gone|a|12|16|");
    }

    #[test]
    fn keys_that_do_not_tell_rows_apart_are_an_error() {
        let twice = hosts(&[("a", "12", 16.0), ("a", "13", 16.0)]);
        let error = compared(&asked(), twice, monday()).unwrap_err();
        assert_eq!(
            error.to_string(),
            "changes: two rows of this run have host a; name more columns in \"key\", so that they tell rows apart"
        );
    }
}
