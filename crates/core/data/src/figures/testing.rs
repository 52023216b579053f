//! What tests of operations share.

use maple_lark_time::{Window, Zone};

use crate::{
    figures::{Context, Earlier, Figures, NoRows},
    status::Thresholds,
    table::{Column, ColumnKind, Table, Value},
};

pub fn table(columns: &[(&str, ColumnKind)], rows: Vec<Vec<Value>>) -> Table {
    Table {
        columns: columns
            .iter()
            .map(|(name, kind)| Column {
                name: (*name).into(),
                kind: *kind,
            })
            .collect(),
        rows,
        truncated: false,
    }
}

pub fn text(text: &str) -> Value {
    Value::Text(text.into())
}

pub fn at(text: &str) -> Value {
    Value::Instant(text.parse().unwrap())
}

pub fn names(list: &[&str]) -> Vec<String> {
    list.iter().map(|name| (*name).to_owned()).collect()
}

/// The cells of one column, as programs read them.
pub fn cells(figures: &Figures, column: &str) -> Vec<String> {
    let place = figures.table.column(column).unwrap();
    let rows = figures.table.rows.iter();
    rows.map(|row| row[place].exact(Zone::UTC)).collect()
}

/// Works among other queries' rows, with the warning limit 80 on every column called `used` and
/// nothing to compare with.
pub fn around<T>(
    window: &Window,
    others: &[(&str, Table)],
    work: impl FnOnce(&Context<'_>) -> T,
) -> T {
    let other = |name: &str| {
        let found = others.iter().find(|(known, _)| *known == name);
        found
            .map(|(_, table)| table.clone().into())
            .ok_or_else(|| NoRows(format!("there is no query \"{name}\"")))
    };
    work(&Context {
        window,
        step: "PT1H".parse().unwrap(),
        thresholds: &|column| Thresholds {
            warning: (column == "used").then_some(80.0),
            ..Thresholds::default()
        },
        other: &other,
        earlier: &|_| Ok(Earlier::Nothing("This is the first run.".to_owned())),
    })
}
