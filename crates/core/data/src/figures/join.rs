//! The rows of two queries side by side.

use std::collections::HashMap;

use crate::{
    figures::{
        columns::{columns, keys, new_column},
        error::FigureError,
    },
    stop,
    table::{Table, Value},
};

/// Each row with the other's columns where the key columns are equal: once for each row of
/// the other that fits, and once with missing values where none does, unless only matching
/// rows are wanted. A missing key fits nothing.
pub fn join(
    table: Table,
    other: Table,
    on: &[String],
    only_matching: bool,
) -> Result<Table, FigureError> {
    let (mine, theirs) = (columns("join", &table, on)?, columns("join", &other, on)?);
    let added: Vec<usize> = (0..other.columns.len())
        .filter(|index| !theirs.contains(index))
        .collect();
    for index in &added {
        new_column(
            "join",
            &table,
            &other.columns[*index].name,
            other.columns[*index].kind,
        )?;
    }
    let mut by_key: HashMap<Vec<String>, Vec<usize>> = HashMap::new();
    for (index, row) in other.rows.iter().enumerate() {
        by_key.entry(keys(row, &theirs)).or_default().push(index);
    }
    let mut out = Table {
        columns: table.columns.clone(),
        rows: Vec::new(),
        truncated: table.truncated || other.truncated,
    };
    out.columns
        .extend(added.iter().map(|index| other.columns[*index].clone()));
    for row in table.rows {
        let known = mine.iter().all(|index| row[*index] != Value::Missing);
        let fitting = by_key.get(&keys(&row, &mine)).filter(|_| known);
        for fits in fitting.into_iter().flatten() {
            stop::check();
            out.rows.push(
                row.iter()
                    .cloned()
                    .chain(added.iter().map(|index| other.rows[*fits][*index].clone()))
                    .collect(),
            );
        }
        if fitting.is_none() && !only_matching {
            out.rows.push(
                row.into_iter()
                    .chain(added.iter().map(|_| Value::Missing))
                    .collect(),
            );
        }
    }
    Ok(out)
}
