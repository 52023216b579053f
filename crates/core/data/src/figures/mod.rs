//! What is worked out of the rows that a source gave: operations on tables, one after
//! another, as a dashboard's author lists them.
//!
//! Every operation takes a table and gives a table. Missing values stay missing: they are
//! never counted as zero. Sums of whole numbers and decimals are exact, sums of binary
//! floating point are compensated.

pub mod amount;
pub mod compute;
pub mod group;
pub mod join;
pub mod order;
pub mod over_time;
pub mod statistics;

use maple_lark_time::{Window, nearest::suggestion, window::Step};

use crate::{
    figures::over_time::Running,
    series::Aggregation,
    status::Thresholds,
    table::{Column, ColumnKind, Table, Value},
};

/// A table with what its rows are, where some are not plain.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Figures {
    pub table: Table,
    /// One for each row, or none at all where every row is plain.
    pub roles: Vec<Role>,
}

/// What a row is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    Plain,
    /// The whole, or what is left after a breakdown.
    Total,
    /// A part of the whole that has parts of its own.
    Subtotal,
    /// All rows that are not listed, as one.
    Others,
}

impl From<Table> for Figures {
    fn from(table: Table) -> Self {
        Self {
            table,
            roles: Vec::new(),
        }
    }
}

impl Figures {
    pub fn role(&self, row: usize) -> Role {
        self.roles.get(row).copied().unwrap_or(Role::Plain)
    }
}

/// One thing done to a table.
#[derive(Debug, Clone, PartialEq)]
pub enum Operation {
    /// One row for each step of time and each group in `by`.
    Resample {
        time: String,
        every: Option<Step>,
        values: Vec<String>,
        with: Aggregation,
        by: Vec<String>,
    },
    /// A counter's growth in each stretch of `per_seconds`; a reset to zero is understood.
    Rate {
        time: String,
        values: Vec<String>,
        by: Vec<String>,
        per_seconds: f64,
    },
    /// Each value less the one before it.
    Difference {
        values: Vec<String>,
        by: Vec<String>,
    },
    /// Each value with all before it.
    Cumulative {
        values: Vec<String>,
        by: Vec<String>,
    },
    /// The mean of each value and the ones before it, `over` in all.
    MovingMean {
        values: Vec<String>,
        by: Vec<String>,
        over: usize,
    },
    /// One row for each group; with `total`, also the whole and each part that has parts.
    Group {
        by: Vec<String>,
        values: Vec<String>,
        with: Aggregation,
        total: Option<String>,
        shares: bool,
    },
    /// The first rows by a value; the rest as one row called `others`, in which only the
    /// columns of `sum` have values.
    Top {
        rows: usize,
        of: String,
        order: Order,
        others: Option<String>,
        sum: Vec<String>,
    },
    Sort {
        by: Vec<(String, Order)>,
    },
    Limit {
        rows: usize,
    },
    /// A column with each row's place by a value; equal values share a place.
    Rank {
        of: String,
        order: Order,
        column: String,
    },
    /// Only the rows that meet a condition.
    Filter {
        column: String,
        when: Predicate,
    },
    /// A column worked out of others.
    Compute {
        column: String,
        of: Vec<String>,
        computation: Computation,
        factor: f64,
    },
    /// Only these columns, in this order.
    Select {
        columns: Vec<String>,
    },
    /// One row for each group and value column with its statistics.
    Statistics {
        values: Vec<String>,
        by: Vec<String>,
        percentiles: Vec<f64>,
    },
    /// The first row is what there was before and every other one a reduction: adds what is
    /// left after each, each one's share of the beginning, and a last row called `after`.
    Breakdown {
        label: String,
        value: String,
        after: String,
    },
    /// Adds the columns of another query's rows where the key columns are equal.
    Join {
        with: String,
        on: Vec<String>,
        only_matching: bool,
    },
    /// A percentile of an OpenMetrics histogram: rows of `le` and a cumulative count become
    /// one row a group.
    HistogramPercentile {
        bound: String,
        value: String,
        by: Vec<String>,
        percentile: f64,
    },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Order {
    Highest,
    Lowest,
}

#[derive(Debug, Clone, PartialEq)]
pub enum Predicate {
    /// The value is past the column's warning or critical threshold.
    PastWarning,
    PastCritical,
    AtLeast(f64),
    AtMost(f64),
    /// The value reads as one of these.
    Is(Vec<String>),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Computation {
    /// 100 × first ÷ second; missing where the second is zero.
    Percent,
    /// First ÷ second; missing where the second is zero.
    Ratio,
    Sum,
    /// First less all others.
    Difference,
    Product,
}

/// Why an operation could not be done on the rows that came.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
pub enum FigureError {
    #[error("{operation}: there is no column \"{column}\".{suggestion} There are: {known}")]
    NoColumn {
        operation: &'static str,
        column: String,
        suggestion: String,
        known: String,
    },
    #[error("{operation}: the column \"{column}\" holds {kind}s, not {wanted}")]
    Kind {
        operation: &'static str,
        column: String,
        kind: &'static str,
        wanted: &'static str,
    },
    #[error("{operation}: there is already a column \"{column}\"; choose another name")]
    Taken {
        operation: &'static str,
        column: String,
    },
    #[error(
        "{operation}: the column \"{column}\" has no {word} threshold; set it under [[query.column]]"
    )]
    NoThreshold {
        operation: &'static str,
        column: String,
        word: &'static str,
    },
    #[error("{operation}: {error}")]
    OtherQuery {
        operation: &'static str,
        error: NoRows,
    },
    #[error("{operation}: {reason}")]
    Other {
        operation: &'static str,
        reason: String,
    },
}

/// Why another query has no rows to give, in that query's words.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[error("{0}")]
pub struct NoRows(pub String);

/// What an operation may ask for beside the rows.
pub struct Context<'a> {
    pub window: &'a Window,
    /// The step of a resampling that names none.
    pub step: Step,
    /// The thresholds of a column.
    pub thresholds: &'a dyn Fn(&str) -> Thresholds,
    /// The answer of another query of the dashboard.
    pub other: &'a dyn Fn(&str) -> Result<Figures, NoRows>,
}

impl Operation {
    /// The word that a definition uses for it.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Resample { .. } => "resample",
            Self::Rate { .. } => "rate",
            Self::Difference { .. } => "difference",
            Self::Cumulative { .. } => "cumulative",
            Self::MovingMean { .. } => "moving-mean",
            Self::Group { .. } => "group",
            Self::Top {
                order: Order::Highest,
                ..
            } => "top",
            Self::Top {
                order: Order::Lowest,
                ..
            } => "bottom",
            Self::Sort { .. } => "sort",
            Self::Limit { .. } => "limit",
            Self::Rank { .. } => "rank",
            Self::Filter { .. } => "filter",
            Self::Compute { .. } => "compute",
            Self::Select { .. } => "select",
            Self::Statistics { .. } => "statistics",
            Self::Breakdown { .. } => "breakdown",
            Self::Join { .. } => "join",
            Self::HistogramPercentile { .. } => "histogram-percentile",
        }
    }

    /// Whether it may make rows that stand for others, which nothing may be worked out of.
    pub fn sums_up(&self) -> bool {
        matches!(
            self,
            Self::Group { total: Some(_), .. }
                | Self::Top {
                    others: Some(_),
                    ..
                }
                | Self::Breakdown { .. }
        )
    }

    /// Whether it makes a column of percentages of this name.
    pub fn percentages(&self, column: &str) -> bool {
        match self {
            Self::Compute {
                column: made,
                computation: Computation::Percent,
                ..
            } => made == column,
            Self::Group { shares: true, .. } => column.ends_with("_share"),
            Self::Breakdown { .. } => column == "share",
            _ => false,
        }
    }

    /// The column whose unit a column that it makes is counted in.
    pub fn unit_from(&self, column: &str) -> Option<&str> {
        match self {
            Self::Statistics { values, .. }
                if values.len() == 1
                    && !["count", "missing"].contains(&column)
                    && values[0] != column =>
            {
                Some(&values[0])
            }
            Self::Breakdown { value, .. } if column == "left" => Some(value),
            _ => None,
        }
    }

    /// Whether each row stays what it was, so that it can follow one that sums up.
    pub fn keeps_rows(&self) -> bool {
        matches!(self, Self::Compute { .. } | Self::Select { .. })
    }

    /// Does it.
    ///
    /// # Errors
    /// Where the columns that it names are not there or do not hold what it needs.
    #[expect(
        clippy::too_many_lines,
        reason = "one arm an operation, in the order in which they are declared"
    )]
    pub fn apply(&self, figures: Figures, around: &Context<'_>) -> Result<Figures, FigureError> {
        let name = self.name();
        let roles = figures.roles;
        let table = figures.table;
        Ok(match self {
            Self::Resample {
                time,
                every,
                values,
                with,
                by,
            } => over_time::resample(
                table,
                time,
                every.unwrap_or(around.step),
                values,
                *with,
                by,
                around.window,
            )?
            .into(),
            Self::Rate {
                time,
                values,
                by,
                per_seconds,
            } => over_time::rate(table, time, values, by, *per_seconds)?.into(),
            Self::Difference { values, by } => {
                over_time::running(name, table, values, by, Running::Difference)?.into()
            }
            Self::Cumulative { values, by } => {
                over_time::running(name, table, values, by, Running::Cumulative)?.into()
            }
            Self::MovingMean { values, by, over } => {
                over_time::running(name, table, values, by, Running::MovingMean(*over))?.into()
            }
            Self::Group {
                by,
                values,
                with,
                total,
                shares,
            } => group::group(table, by, values, *with, total.as_deref(), *shares)?,
            Self::Top {
                rows,
                of,
                order,
                others,
                sum,
            } => order::top(name, table, *rows, of, *order, others.as_deref(), sum)?,
            Self::Sort { by } => order::sort(table, by)?.into(),
            Self::Limit { rows } => order::limit(table, *rows).into(),
            Self::Rank { of, order, column } => order::rank(table, of, *order, column)?.into(),
            Self::Filter { column, when } => {
                order::filter(table, column, when, around.thresholds)?.into()
            }
            Self::Compute {
                column,
                of,
                computation,
                factor,
            } => Figures {
                table: compute::compute(table, column, of, *computation, *factor)?,
                roles,
            },
            Self::Select { columns } => Figures {
                table: order::select(table, columns)?,
                roles,
            },
            Self::Statistics {
                values,
                by,
                percentiles,
            } => statistics::statistics(table, values, by, percentiles)?.into(),
            Self::Breakdown {
                label,
                value,
                after,
            } => compute::breakdown(table, label, value, after)?,
            Self::Join {
                with,
                on,
                only_matching,
            } => {
                let other = (around.other)(with).map_err(|error| FigureError::OtherQuery {
                    operation: name,
                    error,
                })?;
                join::join(table, other.table, on, *only_matching)?.into()
            }
            Self::HistogramPercentile {
                bound,
                value,
                by,
                percentile,
            } => statistics::histogram_percentile(table, bound, value, by, *percentile)?.into(),
        })
    }
}

/// Does one operation after another.
///
/// Without any row nothing can be wrong with them: what is empty stays empty, also where the
/// columns are not known that it would have (a history that has only begun).
///
/// # Errors
/// Of the first operation that cannot be done.
pub fn apply_all(
    table: Table,
    operations: &[Operation],
    around: &Context<'_>,
) -> Result<Figures, FigureError> {
    let empty = table.rows.is_empty().then(|| table.clone());
    let figures = operations
        .iter()
        .try_fold(Figures::from(table), |figures, operation| {
            operation.apply(figures, around)
        });
    figures.or_else(|error| empty.map(Figures::from).ok_or(error))
}

/// The position of a column.
fn column(operation: &'static str, table: &Table, name: &str) -> Result<usize, FigureError> {
    table.column(name).ok_or_else(|| {
        let known: Vec<&str> = table
            .columns
            .iter()
            .map(|column| column.name.as_str())
            .collect();
        FigureError::NoColumn {
            operation,
            column: name.to_owned(),
            suggestion: suggestion(name, known.iter().copied()),
            known: known.join(", "),
        }
    })
}

fn columns(
    operation: &'static str,
    table: &Table,
    names: &[String],
) -> Result<Vec<usize>, FigureError> {
    names
        .iter()
        .map(|name| column(operation, table, name))
        .collect()
}

/// The position of a column of numbers. One of nothing but missing values is taken as such.
fn numbers(operation: &'static str, table: &Table, name: &str) -> Result<usize, FigureError> {
    let index = column(operation, table, name)?;
    let kind = table.columns[index].kind;
    if kind.is_numeric() || table.rows.iter().all(|row| row[index] == Value::Missing) {
        Ok(index)
    } else {
        Err(FigureError::Kind {
            operation,
            column: name.to_owned(),
            kind: kind.name(),
            wanted: "numbers",
        })
    }
}

/// The positions of the named columns of numbers, or of every one that is not in `except`.
fn number_columns(
    operation: &'static str,
    table: &Table,
    names: &[String],
    except: &[usize],
) -> Result<Vec<usize>, FigureError> {
    if !names.is_empty() {
        return names
            .iter()
            .map(|name| numbers(operation, table, name))
            .collect();
    }
    let found: Vec<usize> = (0..table.columns.len())
        .filter(|index| table.columns[*index].kind.is_numeric() && !except.contains(index))
        .collect();
    if found.is_empty() && !table.rows.is_empty() {
        return Err(FigureError::Other {
            operation,
            reason: "there is no column of numbers".to_owned(),
        });
    }
    Ok(found)
}

fn new_column(
    operation: &'static str,
    table: &Table,
    name: &str,
    kind: ColumnKind,
) -> Result<Column, FigureError> {
    match table.column(name) {
        Some(_) => Err(FigureError::Taken {
            operation,
            column: name.to_owned(),
        }),
        None => Ok(Column {
            name: name.to_owned(),
            kind,
        }),
    }
}

/// A value that tells rows apart: equal values have equal keys.
fn key(value: &Value) -> String {
    match value {
        Value::Missing => String::new(),
        // 1 and 1.0 are the same key, whatever type two sources give their numbers.
        Value::Integer(_) | Value::Number(_) | Value::Decimal(_) => {
            format!("n{}", value.as_number().unwrap_or(f64::NAN))
        }
        Value::Boolean(b) => format!("b{b}"),
        Value::Text(text) => format!("t{text}"),
        Value::Instant(at) => format!("i{}", at.timestamp_micros()),
        Value::Date(date) => format!("d{date}"),
    }
}

fn keys(row: &[Value], indexes: &[usize]) -> Vec<String> {
    indexes.iter().map(|index| key(&row[*index])).collect()
}

/// The rows of each group, by position, in the order in which the groups first appear.
fn groups(table: &Table, by: &[usize]) -> Vec<Vec<usize>> {
    let mut places = std::collections::HashMap::new();
    let mut groups: Vec<Vec<usize>> = Vec::new();
    for (index, row) in table.rows.iter().enumerate() {
        let place = *places.entry(keys(row, by)).or_insert_with(|| {
            groups.push(Vec::new());
            groups.len() - 1
        });
        groups[place].push(index);
    }
    groups
}

/// A number as a value; what is not a number is missing.
fn number(value: f64) -> Value {
    if value.is_nan() {
        Value::Missing
    } else {
        Value::Number(value)
    }
}

#[cfg(test)]
mod tests;
