//! Groups with totals: the whole, then its parts, then theirs.

use crate::{
    figures::{
        amount::{self, number},
        columns::{columns, key, new_column, number_columns},
        error::FigureError,
        rows::{Figures, Role},
    },
    series::Aggregation,
    stop,
    table::{Column, ColumnKind, Table, Value},
};

/// The rows are in the order in which the groups first appear. Every total is worked out of
/// the rows themselves, not of the parts' figures, so that it is right for a mean or a
/// percentile too.
#[expect(
    clippy::too_many_lines,
    reason = "one pass over the rows whose parts share what it gathers"
)]
pub fn group(
    table: Table,
    by: &[String],
    values: &[String],
    with: Aggregation,
    total: Option<&str>,
    shares: bool,
) -> Result<Figures, FigureError> {
    let by = columns("group", &table, by)?;
    // Whatever is there can be counted.
    let values = if with == Aggregation::Count && !values.is_empty() {
        columns("group", &table, values)?
    } else {
        number_columns("group", &table, values, &by)?
    };
    let mut out = Table {
        columns: by
            .iter()
            .map(|index| table.columns[*index].clone())
            .collect(),
        rows: Vec::new(),
        truncated: table.truncated,
    };
    for index in &values {
        let column = &table.columns[*index];
        out.columns.push(Column {
            name: column.name.clone(),
            kind: amount::kind_of_one(column.kind, with),
        });
    }
    for index in values.iter().filter(|_| shares) {
        let column = new_column(
            "group",
            &out,
            &format!("{}_share", table.columns[*index].name),
            ColumnKind::Number,
        )?;
        out.columns.push(column);
    }
    let all: Vec<usize> = (0..table.rows.len()).collect();
    let mut grouping = Grouping {
        table: &table,
        by: &by,
        values: &values,
        with,
        shares,
        whole: Vec::new(),
        out,
        roles: Vec::new(),
    };
    grouping.whole = grouping.figures(&all);
    if let Some(name) = total.filter(|_| !all.is_empty()) {
        let mut names = vec![Value::Missing; by.len()];
        if let Some(first) = names
            .first_mut()
            .filter(|_| grouping.out.columns[0].kind == ColumnKind::Text)
        {
            *first = Value::Text(name.to_owned());
        }
        grouping.push(names, &all, Role::Total);
    }
    if by.is_empty() && total.is_none() {
        grouping.push(Vec::new(), &all, Role::Plain);
    }
    grouping.parts(&all, 0, total.is_some());
    let roles = if total.is_some() {
        grouping.roles
    } else {
        Vec::new()
    };
    Ok(Figures {
        table: grouping.out,
        roles,
        ..Figures::default()
    })
}

struct Grouping<'a> {
    table: &'a Table,
    by: &'a [usize],
    values: &'a [usize],
    with: Aggregation,
    shares: bool,
    whole: Vec<Value>,
    out: Table,
    roles: Vec<Role>,
}

impl Grouping<'_> {
    /// The rows of each part at `depth`, and below each its own parts.
    fn parts(&mut self, rows: &[usize], depth: usize, subtotals: bool) {
        let Some(by) = self.by.get(depth) else { return };
        let mut parts: Vec<(String, Vec<usize>)> = Vec::new();
        let mut places = std::collections::HashMap::new();
        for row in rows {
            stop::check();
            let key = key(&self.table.rows[*row][*by]);
            let place = *places.entry(key.clone()).or_insert_with(|| {
                parts.push((key, Vec::new()));
                parts.len() - 1
            });
            parts[place].1.push(*row);
        }
        let deepest = depth + 1 == self.by.len();
        for (_, rows) in parts {
            if deepest || subtotals {
                let mut names: Vec<Value> = self.by[..=depth]
                    .iter()
                    .map(|index| self.table.rows[rows[0]][*index].clone())
                    .collect();
                names.resize(self.by.len(), Value::Missing);
                self.push(
                    names,
                    &rows,
                    if deepest { Role::Plain } else { Role::Subtotal },
                );
            }
            self.parts(&rows, depth + 1, subtotals);
        }
    }

    fn figures(&self, rows: &[usize]) -> Vec<Value> {
        let cells = |index: usize| rows.iter().map(move |row| &self.table.rows[*row][index]);
        let made = self.values.iter().map(|index| {
            if self.with == Aggregation::Count {
                let there = cells(*index).filter(|value| **value != Value::Missing);
                return Value::Integer(there.count() as i64);
            }
            amount::fitted(
                amount::one(cells(*index), self.with),
                amount::kind_of_one(self.table.columns[*index].kind, self.with),
            )
        });
        made.collect()
    }

    fn push(&mut self, names: Vec<Value>, rows: &[usize], role: Role) {
        let figures = self.figures(rows);
        let shares: Vec<Value> = if self.shares {
            figures
                .iter()
                .zip(&self.whole)
                .map(|(part, whole)| share(part, whole))
                .collect()
        } else {
            Vec::new()
        };
        self.out
            .rows
            .push(names.into_iter().chain(figures).chain(shares).collect());
        self.roles.push(role);
    }
}

/// A part as a percentage of the whole; missing where the whole is zero.
pub fn share(part: &Value, whole: &Value) -> Value {
    match (part.as_number(), whole.as_number()) {
        (Some(part), Some(whole)) if whole != 0.0 => number(100.0 * part / whole),
        _ => Value::Missing,
    }
}
