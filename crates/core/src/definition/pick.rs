//! A query put together by picking: what to measure, of which rows, by what. It is kept in
//! the definition and turned into SQL here; every value in it is bound.

use std::collections::BTreeMap;

use super::{ParameterValue, Sql, reader::Node};
use crate::{query_text::QueryText, series::How};

#[derive(Debug, Clone, PartialEq)]
pub struct Pick {
    /// `table` or `schema.table`.
    pub table: String,
    pub measures: Vec<Measure>,
    pub group: Vec<String>,
    /// The column that the window narrows.
    pub time: Option<String>,
    /// One row for each resampling step, not one for the whole window.
    pub over_time: bool,
    pub filters: Vec<Filter>,
    /// Only so many groups, the highest by the first measure first.
    pub top: Option<i64>,
}

#[derive(Debug, Clone, PartialEq)]
pub struct Measure {
    /// `*` counts rows.
    pub column: String,
    pub with: How,
    pub name: String,
}

#[derive(Debug, Clone, PartialEq)]
pub struct Filter {
    pub column: String,
    pub wanted: Wanted,
}

#[derive(Debug, Clone, PartialEq)]
pub enum Wanted {
    Is(Vec<String>),
    AtLeast(f64),
    AtMost(f64),
    /// Equal to a parameter of the dashboard; "all" lets every row through.
    Parameter(String),
}

pub(super) fn read(query: &Node<'_>) -> Option<Sql> {
    let node = query.table("pick")?;
    let table = node.required("table").value;
    let measures: Vec<Measure> = node
        .tables("measure")
        .into_iter()
        .map(read_measure)
        .collect();
    if measures.is_empty() {
        node.report_self("a pick needs measures, such as measure = [{ column = \"cpu_percent\", with = \"mean\" }]");
    }
    let group = node
        .texts("group")
        .into_iter()
        .map(|text| text.value)
        .collect();
    let time = node.text("time").map(|text| text.value);
    let over_time = node.truth("over-time").unwrap_or(false);
    if over_time && time.is_none() {
        node.report(
            "over-time",
            "needs time = \"…\", the column that holds the time",
        );
    }
    let filters = node
        .tables("filter")
        .into_iter()
        .filter_map(read_filter)
        .collect();
    let top = node.whole("top", 1..=10_000);
    if over_time && top.is_some() {
        node.report(
            "top",
            "cannot go with over-time; narrow the groups with a filter",
        );
    }
    node.close();
    let pick = Pick {
        table,
        measures,
        group,
        time,
        over_time,
        filters,
        top,
    };
    match pick.sql() {
        Ok(sql) => Some(sql),
        Err(error) => {
            query.report("pick", error);
            None
        }
    }
}

fn read_measure(node: Node<'_>) -> Measure {
    let column = node.required("column").value;
    let with = node.parsed::<How>("with").unwrap_or(How::Mean);
    if with == How::TimeMean || with == How::Last {
        node.report("with", "a pick can take mean, min, max, sum, count, median or a percentile; for others resample under [[query.then]]");
    }
    let name = node.text("name").map_or_else(
        || {
            if column == "*" {
                "rows".to_owned()
            } else {
                column.clone()
            }
        },
        |text| text.value,
    );
    node.close();
    Measure { column, with, name }
}

fn read_filter(node: Node<'_>) -> Option<Filter> {
    let column = node.required("column").value;
    let is: Vec<String> = node
        .texts("is")
        .into_iter()
        .map(|text| text.value)
        .collect();
    let mut given = [
        (!is.is_empty()).then_some(Wanted::Is(is)),
        node.number("at-least").map(Wanted::AtLeast),
        node.number("at-most").map(Wanted::AtMost),
        node.text("parameter")
            .map(|text| Wanted::Parameter(text.value)),
    ]
    .into_iter()
    .flatten();
    let wanted = given.next();
    if wanted.is_none() || given.next().is_some() {
        node.report_self(
            "a filter needs one of is = [\"…\"], at-least = 5, at-most = 5 or parameter = \"port\"",
        );
    }
    drop(given);
    node.close();
    Some(Filter {
        column,
        wanted: wanted?,
    })
}

/// A name as SQL's quoted identifier, in which nothing but a name can be.
fn identifier(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

impl Pick {
    /// The SQL as an author would write it: with the picked values in it as literals, in which
    /// quotation marks are doubled, so that it can be gone on with by hand.
    pub fn by_hand(&self) -> String {
        let literal = |text: &String| format!("'{}'", text.replace('\'', "''"));
        self.text(&mut |value| match value {
            ParameterValue::Text(text) => literal(&text),
            ParameterValue::Number(number) => number.to_string(),
            ParameterValue::List(items) => format!(
                "array[{}]",
                items.iter().map(literal).collect::<Vec<_>>().join(", ")
            ),
        })
    }

    /// The SQL for it, for PostgreSQL, with the picked values bound.
    ///
    /// # Errors
    /// In words, if a parameter's name cannot stand in SQL.
    pub fn sql(&self) -> Result<Sql, String> {
        let mut constants = BTreeMap::new();
        let written = self.text(&mut |value| {
            let name = format!("picked_{}", constants.len() + 1);
            constants.insert(name.clone(), value);
            format!(":{name}")
        });
        let text = QueryText::parse(&written).map_err(|error| error.to_string())?;
        Ok(Sql {
            text,
            written,
            constants,
            pick: Some(self.clone()),
        })
    }

    fn text(&self, constant: &mut dyn FnMut(ParameterValue) -> String) -> String {
        let table: Vec<String> = self.table.split('.').map(identifier).collect();
        let mut columns: Vec<String> = self.group.iter().map(|name| identifier(name)).collect();
        let time = self.time.as_deref().map(identifier);
        if self.over_time
            && let Some(time) = &time
        {
            columns.insert(0, format!("(:steps)[width_bucket({time}, :steps)] as at"));
        }
        let grouped = columns.len();
        columns.extend(self.measures.iter().map(|measure| {
            let column = if measure.column == "*" {
                "*".to_owned()
            } else {
                identifier(&measure.column)
            };
            let made = match measure.with {
                How::Mean | How::TimeMean => format!("avg({column})::float8"),
                How::Min => format!("min({column})"),
                How::Max => format!("max({column})"),
                How::Sum => format!("sum({column})"),
                How::Count | How::Last => format!("count({column})"),
                How::Percentile(percentile) => format!(
                    "percentile_cont({}) within group (order by {column})",
                    percentile / 100.0
                ),
            };
            // Rows have no mean: of "*" there is only a count.
            let made = if measure.column == "*" {
                "count(*)".to_owned()
            } else {
                made
            };
            format!("{made} as {}", identifier(&measure.name))
        }));
        let mut conditions = Vec::new();
        if let Some(time) = &time {
            conditions.push(format!("{time} >= :from and {time} < :to"));
        }
        for filter in &self.filters {
            let column = identifier(&filter.column);
            conditions.push(match &filter.wanted {
                Wanted::Is(values) => format!(
                    "{column}::text = any({})",
                    constant(ParameterValue::List(values.clone()))
                ),
                Wanted::AtLeast(limit) => {
                    format!("{column} >= {}", constant(ParameterValue::Number(*limit)))
                }
                Wanted::AtMost(limit) => {
                    format!("{column} <= {}", constant(ParameterValue::Number(*limit)))
                }
                Wanted::Parameter(name) => format!("(:{name} = 'all' or {column}::text = :{name})"),
            });
        }
        let mut text = format!("select {}\nfrom {}", columns.join(",\n  "), table.join("."));
        if !conditions.is_empty() {
            text += &format!("\nwhere {}", conditions.join("\n  and "));
        }
        if grouped > 0 {
            let places: Vec<String> = (1..=grouped).map(|place| place.to_string()).collect();
            text += &format!("\ngroup by {}", places.join(", "));
            text += &match (self.over_time, self.measures.first()) {
                (false, Some(first)) => format!(
                    "\norder by {} desc nulls last, {}",
                    identifier(&first.name),
                    places.join(", ")
                ),
                _ => format!("\norder by {}", places.join(", ")),
            };
        }
        if let Some(top) = self.top {
            text += &format!("\nlimit {top}");
        }
        text
    }
}

#[cfg(test)]
mod tests {
    use crate::definition::{Ask, query_alone};

    #[test]
    fn what_was_picked_becomes_sql_with_bound_values() {
        let query = query_alone(
            "q",
            "[query]\nsource = \"s\"\n[query.pick]\ntable = \"public.load\\\"; drop\"\ntime = \"at\"\ngroup = [\"host\"]\n\
             measure = [{ column = \"cpu\", with = \"p95\", name = \"high\" }, { column = \"*\" }]\n\
             filter = [{ column = \"role\", is = [\"db\", \"it's\"] }, { column = \"cpu\", at-least = 5 }, { column = \"port\", parameter = \"port\" }]\ntop = 3\n",
        )
        .unwrap();
        let Some(Ask::Sql(sql)) = query.ask() else {
            panic!()
        };
        assert_eq!(
            sql.written,
            "select \"host\",\n  percentile_cont(0.95) within group (order by \"cpu\") as \"high\",\n  count(*) as \"rows\"\nfrom \"public\".\"load\"\"; drop\"\n\
             where \"at\" >= :from and \"at\" < :to\n  and \"role\"::text = any(:picked_1)\n  and \"cpu\" >= :picked_2\n  and (:port = 'all' or \"port\"::text = :port)\n\
             group by 1\norder by \"high\" desc nulls last, 1\nlimit 3"
        );
        assert_eq!(query.ask().unwrap().names(), ["from", "to", "port"]);
        assert!(
            sql.pick
                .as_ref()
                .unwrap()
                .by_hand()
                .contains("\"role\"::text = any(array['db', 'it''s'])\n  and \"cpu\" >= 5")
        );
    }

    #[test]
    fn what_cannot_be_picked_is_said() {
        let said = |pick: &str| {
            query_alone(
                "q",
                &format!("[query]\nsource = \"s\"\n[query.pick]\ntable = \"t\"\n{pick}"),
            )
            .unwrap_err()[0]
                .message
                .clone()
        };
        assert!(said("").contains("a pick needs measures"));
        assert!(said("measure = [{ column = \"a\" }]\nover-time = true").contains("needs time"));
        assert!(
            said("measure = [{ column = \"a\", with = \"last\" }]").contains("for others resample")
        );
        assert!(
            said("measure = [{ column = \"a\" }]\nfilter = [{ column = \"b\" }]")
                .contains("a filter needs one of")
        );
    }
}
