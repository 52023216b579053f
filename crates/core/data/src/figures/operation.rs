//! The operations, and doing one after another.

use maple_lark_time::window::Step;

use crate::{
    figures::{
        availability::{self, Availability},
        changes::{self, Changes, Earlier, Since},
        compare::{self, Compare},
        compute::{self, Computation},
        context::Context,
        error::FigureError,
        forecast::{self, Forecast},
        group, join,
        order::{self, Order, Predicate},
        over_time::{self, Running},
        rows::Figures,
        stand_out::{self, StandOut},
        statistics,
    },
    series::Aggregation,
    stop,
    table::{Column, Table},
};

/// One thing done to a table.
#[derive(Debug, Clone, PartialEq)]
pub enum Operation {
    /// One row for each step of time and each group in `by`.
    Resample {
        /// The column of instants.
        time: String,
        /// The length of a bucket; one that suits the window, if none is given.
        every: Option<Step>,
        /// The columns of values.
        values: Vec<String>,
        /// How the values of a bucket become one.
        with: Aggregation,
        /// The columns that tell series apart.
        by: Vec<String>,
    },
    /// A counter's growth in each stretch of `per_seconds`; a reset to zero is understood.
    Rate {
        /// The column of instants.
        time: String,
        /// The columns of counters.
        values: Vec<String>,
        /// The columns that tell series apart.
        by: Vec<String>,
        /// The seconds that a rate is given for: 1 for "per second".
        per_seconds: f64,
    },
    /// Each value less the one before it.
    Difference {
        /// The columns of values.
        values: Vec<String>,
        /// The columns that tell series apart.
        by: Vec<String>,
    },
    /// Each value with all before it.
    Cumulative {
        /// The columns of values.
        values: Vec<String>,
        /// The columns that tell series apart.
        by: Vec<String>,
    },
    /// The mean of each value and the ones before it, `over` in all.
    MovingMean {
        /// The columns of values.
        values: Vec<String>,
        /// The columns that tell series apart.
        by: Vec<String>,
        /// How many rows one mean covers, its own included.
        over: usize,
    },
    /// One row for each group; with `total`, also the whole and each part that has parts.
    Group {
        /// The columns whose values make a group.
        by: Vec<String>,
        /// The columns of values.
        values: Vec<String>,
        /// How the values of a group become one.
        with: Aggregation,
        /// The name of a row with all groups together, if there is to be one.
        total: Option<String>,
        /// Whether each value gets a column with its share of the whole.
        shares: bool,
    },
    /// The first rows by a value; the rest as one row called `others`, in which only the
    /// columns of `sum` have values.
    Top {
        /// How many rows stay.
        rows: usize,
        /// The column that they are chosen by.
        of: String,
        /// Which end of it stays.
        order: Order,
        /// The name of a row for all that do not stay, if there is to be one.
        others: Option<String>,
        /// The columns that this row adds up; its others are missing.
        sum: Vec<String>,
    },
    /// Rows in another order. Missing values come last; equal rows keep their order.
    Sort {
        /// The columns to sort by, the most important first.
        by: Vec<(String, Order)>,
    },
    /// The first rows only.
    Limit {
        /// How many.
        rows: usize,
    },
    /// A column with each row's place by a value; equal values share a place.
    Rank {
        /// The column that is ranked.
        of: String,
        /// Which end has rank 1.
        order: Order,
        /// The column that takes the rank.
        column: String,
    },
    /// Only the rows that meet a condition.
    Filter {
        /// The column that is looked at.
        column: String,
        /// What its value must be for the row to stay.
        when: Predicate,
    },
    /// A column worked out of others.
    Compute {
        /// The column that takes the result.
        column: String,
        /// The columns that it is worked out of, in this order.
        of: Vec<String>,
        /// How they become one value.
        computation: Computation,
        /// What the result is multiplied by.
        factor: f64,
    },
    /// Only these columns, in this order.
    Select {
        /// The columns that stay, in this order.
        columns: Vec<String>,
    },
    /// One row for each group and value column with its statistics.
    Statistics {
        /// The columns of values.
        values: Vec<String>,
        /// The columns whose values make a group.
        by: Vec<String>,
        /// The percentiles, from 0 to 100.
        percentiles: Vec<f64>,
    },
    /// The first row is what there was before and every other one a reduction: adds what is
    /// left after each, each one's share of the beginning, and a last row called `after`.
    Breakdown {
        /// The column with the names of the steps.
        label: String,
        /// The column with their amounts.
        value: String,
        /// The column that takes the sum so far.
        after: String,
    },
    /// Adds the columns of another query's rows where the key columns are equal.
    Join {
        /// The query whose rows are joined.
        with: String,
        /// The columns that must be equal in both.
        on: Vec<String>,
        /// Whether rows without a partner go.
        only_matching: bool,
    },
    /// How long each thing was up, against what was promised.
    Availability(Box<Availability>),
    /// What comes next.
    Forecast(Box<Forecast>),
    /// What is new, gone and altered.
    Changes(Box<Changes>),
    /// See [`Compare`].
    Compare(Box<Compare>),
    /// What is far from what is usual.
    StandOut(Box<StandOut>),
    /// A percentile of an OpenMetrics histogram: rows of `le` and a cumulative count become
    /// one row a group.
    HistogramPercentile {
        /// The column with the upper bounds of the buckets.
        bound: String,
        /// The column with the counts.
        value: String,
        /// The columns that tell histograms apart.
        by: Vec<String>,
        /// The percentile, from 0 to 100.
        percentile: f64,
    },
}

impl Operation {
    /// The word that a definition uses for it.
    #[must_use]
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
            Self::Availability(_) => "availability",
            Self::Forecast(_) => "forecast",
            Self::Changes(_) => "changes",
            Self::Compare(_) => "compare",
            Self::StandOut(_) => "stand-out",
            Self::HistogramPercentile { .. } => "histogram-percentile",
        }
    }

    /// Whether it may make rows that stand for others, which nothing may be worked out of.
    #[must_use]
    pub fn sums_up(&self) -> bool {
        matches!(
            self,
            Self::Group { total: Some(_), .. }
                | Self::Top {
                    others: Some(_),
                    ..
                }
                | Self::Breakdown { .. }
        ) || matches!(self, Self::Availability(asked) if asked.sums_up())
    }

    /// The queries whose rows it needs, beside those that it is done to.
    #[must_use]
    pub fn needs(&self) -> Vec<&str> {
        match self {
            Self::Join { with, .. } => vec![with],
            Self::Availability(asked) => {
                let lists = asked.leave_out.iter().chain(&asked.things);
                lists.map(String::as_str).collect()
            }
            _ => match self.compares_with() {
                Some(Since::Query(name)) => vec![name],
                _ => Vec::new(),
            },
        }
    }

    /// What it compares its rows with, if it does.
    #[must_use]
    pub fn compares_with(&self) -> Option<&Since> {
        match self {
            Self::Changes(asked) => Some(&asked.since),
            Self::Compare(asked) => Some(&asked.since),
            _ => None,
        }
    }

    /// Gives the queries that it needs other names.
    pub fn rename(&mut self, renamed: impl Fn(&str) -> String) {
        match self {
            Self::Join { with, .. } => *with = renamed(with),
            Self::Availability(asked) => {
                let lists = asked.leave_out.iter_mut().chain(&mut asked.things);
                lists.for_each(|name| *name = renamed(name));
            }
            Self::Changes(asked) => asked.since.rename(renamed),
            Self::Compare(asked) => asked.since.rename(renamed),
            _ => {}
        }
    }

    /// Whether it makes a column of this name that says when something is likely to come.
    #[must_use]
    pub fn forecasts(&self, column: &str) -> bool {
        matches!(self, Self::Forecast(_)) && ["earliest", "likely", "latest"].contains(&column)
    }

    /// Whether it makes a column of seconds of this name.
    #[must_use]
    pub fn seconds(&self, column: &str) -> bool {
        matches!(self, Self::Availability(_))
            && [
                "down",
                "allowed",
                "allowance_left",
                "longest_outage",
                "time_to_restore",
                "time_between",
                "not_known",
                "left_out",
            ]
            .contains(&column)
    }

    /// Whether it makes a column of percentages of this name.
    #[must_use]
    pub fn percentages(&self, column: &str) -> bool {
        match self {
            Self::Compute {
                column: made,
                computation: Computation::Percent,
                ..
            } => made == column,
            Self::Group { shares: true, .. } => column.ends_with("_share"),
            Self::Breakdown { .. } => column == "share",
            Self::Availability(_) => [
                "availability",
                "objective",
                "margin",
                "allowance_used",
                "at_this_pace",
            ]
            .contains(&column),
            Self::Forecast(_) => ["error", "within_interval"].contains(&column),
            Self::Compare(asked) => asked.percentages(column),
            _ => false,
        }
    }

    /// The column whose unit a column that it makes is counted in.
    #[must_use]
    pub fn unit_from<'c>(&'c self, column: &'c str) -> Option<&'c str> {
        match self {
            Self::Statistics { values, .. }
                if values.len() == 1
                    && !["count", "missing"].contains(&column)
                    && values[0] != column =>
            {
                Some(&values[0])
            }
            Self::Breakdown { value, .. } if column == "left" => Some(value),
            Self::StandOut(asked)
                if ["value", "usual", "usual_low", "usual_high"].contains(&column)
                    && asked.value != column =>
            {
                Some(&asked.value)
            }
            Self::Forecast(asked)
                if [
                    "now",
                    "growth_a_week",
                    "limit",
                    "observed",
                    "fitted",
                    "forecast",
                    "low_80",
                    "high_80",
                    "low_95",
                    "high_95",
                ]
                .contains(&column) =>
            {
                Some(&asked.value)
            }
            Self::Compare(asked) => asked.of(column),
            _ => None,
        }
    }

    /// Whether each row stays what it was, so that it can follow one that sums up.
    #[must_use]
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
        let (roles, table) = (figures.roles, figures.table);
        let came_twice = twice(&table.columns).is_some();
        let mut made: Figures = match self {
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
                ..Figures::default()
            },
            Self::Select { columns } => Figures {
                table: order::select(table, columns)?,
                roles,
                ..Figures::default()
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
            Self::Availability(asked) => availability::availability(asked, &table, around)?,
            Self::Forecast(asked) => forecast::forecast(asked, &table, around)?,
            Self::StandOut(asked) => stand_out::stand_out(asked, &table, around)?,
            Self::Changes(asked) => {
                let earlier = earlier(name, &asked.since, around)?;
                changes::changes(asked, table, earlier, around.window.zone)?
            }
            Self::Compare(asked) => {
                let earlier = earlier(name, &asked.since, around)?;
                compare::compare(asked, table, earlier, around)?
            }
        };
        // A column that is kept may be called like one that is added.
        if let Some(column) = twice(&made.table.columns).filter(|_| !came_twice) {
            return Err(FigureError::Taken {
                operation: name,
                column: column.to_owned(),
            });
        }
        made.notes.splice(0..0, figures.notes);
        Ok(made)
    }
}

/// The first name that stands over two columns.
fn twice(columns: &[Column]) -> Option<&str> {
    let names = columns.iter().map(|column| column.name.as_str());
    names.enumerate().find_map(|(place, name)| {
        let before = &columns[..place];
        before
            .iter()
            .any(|other| other.name == name)
            .then_some(name)
    })
}

/// The rows that an operation compares with.
fn earlier(
    operation: &'static str,
    since: &Since,
    around: &Context<'_>,
) -> Result<Earlier, FigureError> {
    (around.earlier)(since).map_err(|error| FigureError::OtherQuery { operation, error })
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
            stop::check();
            operation.apply(figures, around)
        });
    figures.or_else(|error| empty.map(Figures::from).ok_or(error))
}
