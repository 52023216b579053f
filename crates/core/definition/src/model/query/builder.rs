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

/// The database whose SQL is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dialect {
    /// PostgreSQL.
    Postgresql,
    /// MySQL and MariaDB.
    Mysql,
    /// SQLite.
    Sqlite,
}

/// What was picked cannot be asked of a database of this kind.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "percentiles and medians can be picked only from PostgreSQL; pick the mean, the highest or the lowest, or select the rows and add a step that works them out"
)]
pub struct NoPercentiles;

impl Dialect {
    /// A name as SQL's quoted identifier, in which nothing but a name can be.
    fn identifier(self, name: &str) -> String {
        let mark = match self {
            Self::Mysql => "`",
            Self::Postgresql | Self::Sqlite => "\"",
        };
        format!("{mark}{}{mark}", name.replace(mark, &mark.repeat(2)))
    }

    /// A column's values as texts.
    fn as_text(self, column: &str) -> String {
        match self {
            Self::Postgresql => format!("{column}::text"),
            Self::Mysql => format!("cast({column} as char)"),
            Self::Sqlite => format!("cast({column} as text)"),
        }
    }

    /// A column's values as instants. SQLite has no type of its own for them: texts in ISO 8601,
    /// seconds since 1970 and Julian days are all understood.
    fn as_instant(self, column: &str) -> String {
        match self {
            Self::Postgresql | Self::Mysql => column.to_owned(),
            Self::Sqlite => format!("datetime({column}, 'auto')"),
        }
    }

    /// The start of the step in which a column's instant lies. The column has its table's name
    /// before it, since steps have columns of their own.
    fn step_of(self, column: &str) -> String {
        match self {
            Self::Postgresql => format!("(:steps)[width_bucket({column}, :steps)]"),
            Self::Mysql => format!(
                "(select max(step.at) from json_table(:steps, '$[*]' columns (at datetime path '$')) as step where step.at <= {column})"
            ),
            Self::Sqlite => format!(
                "(select max(step.value) from json_each(:steps) as step where step.value <= {})",
                self.as_instant(column)
            ),
        }
    }

    fn measured(self, with: Aggregation, column: &str) -> Result<String, NoPercentiles> {
        Ok(match with {
            Aggregation::Mean | Aggregation::TimeMean if self == Self::Postgresql => {
                format!("avg({column})::float8")
            }
            Aggregation::Mean | Aggregation::TimeMean => format!("avg({column})"),
            Aggregation::Min => format!("min({column})"),
            Aggregation::Max => format!("max({column})"),
            Aggregation::Sum => format!("sum({column})"),
            Aggregation::Count | Aggregation::Last => format!("count({column})"),
            Aggregation::Percentile(percentile) if self == Self::Postgresql => format!(
                "percentile_cont({}) within group (order by {column})",
                percentile / 100.0
            ),
            Aggregation::Percentile(_) => return Err(NoPercentiles),
        })
    }

    /// That a column's value is one of some, or none of them.
    fn among(
        self,
        column: &str,
        values: &[String],
        not: bool,
        constant: &mut dyn FnMut(ParameterValue) -> String,
    ) -> String {
        let column = self.as_text(column);
        if self == Self::Postgresql {
            let test = if not { "<> all" } else { "= any" };
            let values = constant(ParameterValue::List(values.to_vec()));
            return format!("{column} {test}({values})");
        }
        let values: Vec<String> = values
            .iter()
            .map(|value| constant(ParameterValue::Text(value.clone())))
            .collect();
        let test = if not { "not in" } else { "in" };
        format!("{column} {test} ({})", values.join(", "))
    }

    fn containing(self, column: &str, text: &str) -> String {
        let column = format!("lower({})", self.as_text(column));
        match self {
            Self::Postgresql => format!("position(lower({text}) in {column}) > 0"),
            Self::Mysql => format!("locate(lower({text}), {column}) > 0"),
            Self::Sqlite => format!("instr({column}, lower({text})) > 0"),
        }
    }
}

impl Pick {
    /// The SQL as an author would write it: with the picked values in it as literals, in which
    /// quotation marks are doubled, so that it can be gone on with by hand.
    ///
    /// # Errors
    /// If the database has not what was picked.
    pub fn by_hand(&self, dialect: Dialect) -> Result<String, NoPercentiles> {
        let literal = |text: &String| format!("'{}'", text.replace('\'', "''"));
        self.text(dialect, &mut |value| match value {
            ParameterValue::Text(text) => literal(&text),
            ParameterValue::Number(number) => number.to_string(),
            ParameterValue::List(items) => format!(
                "array[{}]",
                items.iter().map(literal).collect::<Vec<_>>().join(", ")
            ),
        })
    }

    /// The SQL for it. `constant` writes each picked value.
    pub(super) fn text(
        &self,
        dialect: Dialect,
        constant: &mut dyn FnMut(ParameterValue) -> String,
    ) -> Result<String, NoPercentiles> {
        let identifier = |name: &str| dialect.identifier(name);
        let table: Vec<String> = self.table.split('.').map(identifier).collect();
        let table = table.join(".");
        let mut columns: Vec<String> = self.group.iter().map(|name| identifier(name)).collect();
        let time = self.time.as_deref().map(identifier);
        if self.over_time
            && let Some(time) = &time
        {
            let time = match dialect {
                Dialect::Postgresql => time.clone(),
                Dialect::Mysql | Dialect::Sqlite => format!("{table}.{time}"),
            };
            columns.insert(0, format!("{} as at", dialect.step_of(&time)));
        }
        let grouped = columns.len();
        for measure in &self.measures {
            // Rows have no mean: of "*" there is only a count.
            let made = match measure.column.as_str() {
                "*" => "count(*)".to_owned(),
                column => dialect.measured(measure.with, &identifier(column))?,
            };
            columns.push(format!("{made} as {}", identifier(&measure.name)));
        }
        let conditions = self.conditions(dialect, constant);
        let mut text = format!("select {}\nfrom {}", columns.join(",\n  "), table);
        if !conditions.is_empty() {
            text += &format!("\nwhere {}", conditions.join("\n  and "));
        }
        if grouped > 0 {
            let places: Vec<String> = (1..=grouped).map(|place| place.to_string()).collect();
            let places = places.join(", ");
            text += &format!("\ngroup by {places}");
            text += &match (self.over_time, self.measures.first()) {
                (false, Some(first)) => {
                    let first = identifier(&first.name);
                    match dialect {
                        Dialect::Postgresql => {
                            format!("\norder by {first} desc nulls last, {places}")
                        }
                        // What is missing is the lowest there.
                        Dialect::Mysql | Dialect::Sqlite => {
                            format!("\norder by {first} desc, {places}")
                        }
                    }
                }
                _ => format!("\norder by {places}"),
            };
        }
        if let Some(top) = self.top {
            text += &format!("\nlimit {top}");
        }
        Ok(text)
    }

    fn conditions(
        &self,
        dialect: Dialect,
        constant: &mut dyn FnMut(ParameterValue) -> String,
    ) -> Vec<String> {
        let mut conditions = Vec::new();
        if let Some(time) = &self.time {
            let time = dialect.as_instant(&dialect.identifier(time));
            conditions.push(format!("{time} >= :from and {time} < :to"));
        }
        for filter in &self.filters {
            let column = dialect.identifier(&filter.column);
            let mut number = |number: f64| constant(ParameterValue::Number(number));
            conditions.push(match &filter.wanted {
                FilterTest::AtLeast(limit) => format!("{column} >= {}", number(*limit)),
                FilterTest::AtMost(limit) => format!("{column} <= {}", number(*limit)),
                FilterTest::Between(least, most) => {
                    format!("{column} between {} and {}", number(*least), number(*most))
                }
                FilterTest::Is(values) => dialect.among(&column, values, false, constant),
                FilterTest::IsNot(values) => dialect.among(&column, values, true, constant),
                FilterTest::Contains(text) => {
                    dialect.containing(&column, &constant(ParameterValue::Text(text.clone())))
                }
                FilterTest::Parameter(name) => {
                    format!(
                        "(:{name} = 'all' or {} = :{name})",
                        dialect.as_text(&column)
                    )
                }
            });
        }
        conditions
    }
}

#[cfg(test)]
mod tests {
    use super::*;
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
                .by_hand(Dialect::Postgresql)
                .unwrap()
                .contains("\"role\"::text = any(array['db', 'it''s'])\n  and \"cpu\" >= 5")
        );
    }

    #[test]
    fn each_database_is_asked_in_its_own_sql() {
        let pick = |with: &str| {
            let query = query_alone(
                "q",
                &format!(
                    "[query]\nsource = \"s\"\n[query.pick]\ntable = \"lo`ad\"\ntime = \"at\"\nover-time = true\n\
                     measure = [{{ column = \"cpu\", with = \"{with}\", name = \"cpu\" }}]\n\
                     filter = [{{ column = \"role\", is = [\"db\", \"web\"] }}, {{ column = \"host\", contains = \"KIOSK\" }}]\n"
                ),
            );
            match query.unwrap().ask() {
                Some(Ask::Sql(sql)) => sql.clone(),
                _ => panic!(),
            }
        };
        let said = |dialect| {
            let sql = pick("mean");
            let asked = sql.statement(dialect).unwrap();
            (asked.text.numbered.clone(), asked.constants.clone())
        };
        let (mysql, constants) = said(Dialect::Mysql);
        assert_eq!(
            mysql,
            "select (select max(step.at) from json_table($1, '$[*]' columns (at datetime path '$')) as step where step.at <= `lo``ad`.`at`) as at,\n  avg(`cpu`) as `cpu`\n\
             from `lo``ad`\nwhere `at` >= $2 and `at` < $3\n  and cast(`role` as char) in ($4, $5)\n  and locate(lower($6), lower(cast(`host` as char))) > 0\n\
             group by 1\norder by 1"
        );
        assert_eq!(
            constants["picked_2"],
            ParameterValue::Text("web".to_owned())
        );
        let (sqlite, _) = said(Dialect::Sqlite);
        assert!(sqlite.contains("select (select max(step.value) from json_each($1) as step where step.value <= datetime(\"lo`ad\".\"at\", 'auto')) as at"));
        assert!(sqlite.contains("where datetime(\"at\", 'auto') >= $2"));
        let refused = pick("p95").statement(Dialect::Sqlite).unwrap_err();
        assert!(
            refused.to_string().contains("only from PostgreSQL"),
            "{refused}"
        );
        assert!(pick("p95").statement(Dialect::Postgresql).is_ok());
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
