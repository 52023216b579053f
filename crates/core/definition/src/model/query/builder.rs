//! A query put together by picking: what to measure, of which rows, by what. It is kept in
//! the definition and turned into SQL here; every value in it is bound.

use maple_lark_data::series::Aggregation;

use crate::model::parameter::ParameterValue;

/// A statement put together from columns of a table that were picked.
#[derive(Debug, Clone, PartialEq)]
pub struct Pick {
    /// `table` or `schema.table`.
    pub table: String,
    /// What is worked out.
    pub measures: Vec<Measure>,
    /// The columns whose values make a row each.
    pub group: Vec<String>,
    /// The column that the window narrows.
    pub time: Option<String>,
    /// One row for each resampling step, not one for the whole window.
    pub over_time: bool,
    /// What rows must be like to count.
    pub filters: Vec<Filter>,
    /// Only so many groups, the highest by the first measure first.
    pub top: Option<i64>,
}

/// One value that is worked out for each row of the answer.
#[derive(Debug, Clone, PartialEq)]
pub struct Measure {
    /// `*` counts rows.
    pub column: String,
    /// How a group's values become one.
    pub with: Aggregation,
    /// The name of its column.
    pub name: String,
}

/// What a column's value must be like.
#[derive(Debug, Clone, PartialEq)]
pub struct Filter {
    /// The column.
    pub column: String,
    /// What is asked of it.
    pub wanted: FilterTest,
}

/// What a filter asks of a value.
#[derive(Debug, Clone, PartialEq)]
pub enum FilterTest {
    /// It is one of these.
    Is(Vec<String>),
    /// It is none of these, and there is one.
    IsNot(Vec<String>),
    /// It has this text in it, in capitals or not.
    Contains(String),
    /// It is this number or more.
    AtLeast(f64),
    /// It is this number or less.
    AtMost(f64),
    /// It is a number from the first to the second, both included.
    Between(f64, f64),
    /// Equal to a parameter of the dashboard; "all" lets every row through.
    Parameter(String),
}

/// A name as SQL's quoted identifier, in which nothing but a name can be.
fn identifier(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

impl Pick {
    /// The SQL as an author would write it: with the picked values in it as literals, in which
    /// quotation marks are doubled, so that it can be gone on with by hand.
    #[must_use]
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

    /// The SQL for it, for PostgreSQL. `constant` writes each picked value.
    #[expect(
        clippy::too_many_lines,
        reason = "writes the clauses of a statement in the order of SQL"
    )]
    pub(super) fn text(&self, constant: &mut dyn FnMut(ParameterValue) -> String) -> String {
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
                Aggregation::Mean | Aggregation::TimeMean => format!("avg({column})::float8"),
                Aggregation::Min => format!("min({column})"),
                Aggregation::Max => format!("max({column})"),
                Aggregation::Sum => format!("sum({column})"),
                Aggregation::Count | Aggregation::Last => format!("count({column})"),
                Aggregation::Percentile(percentile) => format!(
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
                FilterTest::Is(values) => format!(
                    "{column}::text = any({})",
                    constant(ParameterValue::List(values.clone()))
                ),
                FilterTest::IsNot(values) => format!(
                    "{column}::text <> all({})",
                    constant(ParameterValue::List(values.clone()))
                ),
                FilterTest::Contains(text) => format!(
                    "position(lower({}) in lower({column}::text)) > 0",
                    constant(ParameterValue::Text(text.clone()))
                ),
                FilterTest::AtLeast(limit) => {
                    format!("{column} >= {}", constant(ParameterValue::Number(*limit)))
                }
                FilterTest::AtMost(limit) => {
                    format!("{column} <= {}", constant(ParameterValue::Number(*limit)))
                }
                FilterTest::Between(least, most) => format!(
                    "{column} between {} and {}",
                    constant(ParameterValue::Number(*least)),
                    constant(ParameterValue::Number(*most))
                ),
                FilterTest::Parameter(name) => {
                    format!("(:{name} = 'all' or {column}::text = :{name})")
                }
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
    use crate::{model::query::ask::Ask, read::query_alone};

    #[test]
    fn what_was_picked_becomes_sql_with_bound_values() {
        let query = query_alone(
            "q",
            "[query]\nsource = \"s\"\n[query.pick]\ntable = \"public.load\\\"; drop\"\ntime = \"at\"\ngroup = [\"host\"]\n\
             measure = [{ column = \"cpu\", with = \"p95\", name = \"high\" }, { column = \"*\" }]\n\
             filter = [{ column = \"role\", is = [\"db\", \"it's\"] }, { column = \"cpu\", at-least = 5 }, { column = \"port\", parameter = \"port\" }, \
                       { column = \"role\", is-not = [\"old\"] }, { column = \"host\", contains = \"KIOSK\" }, { column = \"cpu\", at-least = 1, at-most = 99 }]\ntop = 3\n",
        )
        .unwrap();
        let Some(Ask::Sql(sql)) = query.ask() else {
            panic!()
        };
        assert_eq!(
            sql.written,
            "select \"host\",\n  percentile_cont(0.95) within group (order by \"cpu\") as \"high\",\n  count(*) as \"rows\"\nfrom \"public\".\"load\"\"; drop\"\n\
             where \"at\" >= :from and \"at\" < :to\n  and \"role\"::text = any(:picked_1)\n  and \"cpu\" >= :picked_2\n  and (:port = 'all' or \"port\"::text = :port)\n  \
             and \"role\"::text <> all(:picked_3)\n  and position(lower(:picked_4) in lower(\"host\"::text)) > 0\n  and \"cpu\" between :picked_5 and :picked_6\n\
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
