//! Fills the gaps of templates: from a template, a source and values to a dashboard and the
//! samplers that it reads, and from a few choices to a report.

use std::{borrow::Cow, collections::BTreeMap};

use maple_lark_time::nearest::suggestion;
use toml_edit::{Array, ArrayOfTables, DocumentMut, InlineTable, Item, Table, TableLike, Value};

use crate::{
    edit::set,
    model::dashboard_template::{DashboardTemplate, Input, InputKind},
};

/// The placeholder for the source, which every template has.
pub const SOURCE: &str = "source";
/// The placeholder for the name of the dashboard, which every template has.
pub const DASHBOARD: &str = "dashboard";
/// Placeholders go no deeper than this; nothing that is read is as deep.
const MOST_DEPTH: usize = 64;

/// What a dashboard is made with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Filling<'a> {
    /// The name of the dashboard.
    pub name: &'a str,
    /// Its title; the template's own, if nothing is said.
    pub title: Option<&'a str>,
    /// The name of the source.
    pub source: &'a str,
    /// The values of inputs.
    pub values: &'a BTreeMap<String, String>,
}

/// A sampler or a dashboard, ready to be kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Made {
    /// Its name.
    pub name: String,
    /// Its text.
    pub text: String,
}

/// What a filled template is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Filled {
    /// The dashboard.
    pub dashboard: Made,
    /// The samplers whose histories it shows.
    pub samplers: Vec<Made>,
}

/// Why a template cannot be filled like this. The message names the input and says what would fit.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum CannotFill {
    /// A value is missing.
    #[error("{title} (\"{name}\") needs a value, such as \"{example}\"")]
    Missing {
        /// The input.
        name: String,
        /// Its label.
        title: String,
        /// A value that would fit.
        example: String,
    },
    /// A value does not fit.
    #[error("{title} (\"{name}\"): {why}")]
    DoesNotFit {
        /// The input.
        name: String,
        /// Its label.
        title: String,
        /// What is wrong with the value.
        why: String,
    },
    /// A value is for no input.
    #[error("the template \"{template}\" has no input \"{name}\".{suggestion}")]
    Unknown {
        /// The template.
        template: String,
        /// The name that was given.
        name: String,
        /// The nearest name.
        suggestion: String,
    },
    /// A text has a placeholder that is no input.
    #[error("\"${{{0}}}\" is no input of this template")]
    NoInput(String),
    /// SQL is given values by parameters, never by being put together.
    #[error(
        "SQL has no placeholders of a template: give a [[parameter]] the default \"${{{0}}}\" and use :name in the query"
    )]
    InSql(String),
    /// The text of the template is not TOML.
    #[error("the template cannot be read: {0}")]
    Unreadable(String),
}

impl DashboardTemplate {
    /// The value of every input: the given one, else its default.
    fn values<'v>(
        &'v self,
        given: &'v BTreeMap<String, String>,
    ) -> Result<BTreeMap<&'v str, Cow<'v, str>>, CannotFill> {
        let names = || self.inputs.iter().map(|input| input.name.as_str());
        if let Some(name) = given
            .keys()
            .find(|name| !names().any(|known| known == **name))
        {
            return Err(CannotFill::Unknown {
                template: self.name.clone(),
                name: name.clone(),
                suggestion: suggestion(name, names()),
            });
        }
        let value = |input: &'v Input| {
            let given = given.get(&input.name).map(|value| value.trim());
            let value = given
                .filter(|value| !value.is_empty())
                .or(input.default.as_deref());
            let value = value.ok_or_else(|| CannotFill::Missing {
                name: input.name.clone(),
                title: input.title.clone(),
                example: input.example.clone(),
            })?;
            if let Some(why) = input.refusal(value) {
                return Err(CannotFill::DoesNotFit {
                    name: input.name.clone(),
                    title: input.title.clone(),
                    why,
                });
            }
            Ok((input.name.as_str(), Cow::Borrowed(value)))
        };
        self.inputs.iter().map(value).collect()
    }

    /// The dashboard that this template makes, with the samplers whose histories it shows. The
    /// dashboard remembers of what it was made (`[dashboard.template]`).
    ///
    /// # Errors
    /// If a value is missing, does not fit, or is for no input.
    pub fn fill(&self, filling: &Filling<'_>) -> Result<Filled, CannotFill> {
        let mut values = self.values(filling.values)?;
        values.insert(SOURCE, filling.source.into());
        values.insert(DASHBOARD, filling.name.into());
        let mut document: DocumentMut =
            self.text.parse().map_err(|error: toml_edit::TomlError| {
                CannotFill::Unreadable(error.message().into())
            })?;
        document.remove("template");
        document.remove("input");
        let gaps = Gaps {
            values: &values,
            inputs: &self.inputs,
        };
        gaps.table(document.as_table_mut(), 0)?;
        let samplers = match document.remove("sampler") {
            Some(Item::ArrayOfTables(samplers)) => samplers.iter().map(sampler).collect(),
            _ => Vec::new(),
        };
        let dashboard = document
            .get_mut("dashboard")
            .and_then(Item::as_table_mut)
            .ok_or_else(|| CannotFill::Unreadable("it has no [dashboard]".to_owned()))?;
        set(dashboard, "name", filling.name.into());
        if let Some(title) = filling.title {
            set(dashboard, "title", title.into());
        }
        dashboard.insert(
            "template",
            Item::Value(self.origin(filling, &values).into()),
        );
        dashboard.decor_mut().set_prefix("");
        let text = document.to_string();
        Ok(Filled {
            dashboard: Made {
                name: filling.name.to_owned(),
                text: format!("{}\n", text.trim()),
            },
            samplers,
        })
    }

    fn origin(&self, filling: &Filling<'_>, values: &BTreeMap<&str, Cow<'_, str>>) -> InlineTable {
        let mut inputs = InlineTable::new();
        for input in &self.inputs {
            let value = values[input.name.as_str()].as_ref();
            let value = match input.kind {
                InputKind::List => list(value).collect::<Vec<_>>().join(", "),
                _ => value.to_owned(),
            };
            inputs.insert(&input.name, value.into());
        }
        let mut origin = InlineTable::new();
        origin.insert("name", self.name.as_str().into());
        origin.insert("version", i64::from(self.version).into());
        origin.insert("source", filling.source.into());
        if !inputs.is_empty() {
            origin.insert("values", inputs.into());
        }
        origin
    }

    /// The values of a template that is only looked at: defaults and examples.
    pub(crate) fn examples(&self) -> BTreeMap<String, String> {
        let examples = self.inputs.iter();
        examples
            .map(|input| (input.name.clone(), input.example.clone()))
            .collect()
    }
}

impl Input {
    /// What is wrong with a value, if anything is.
    #[must_use]
    pub fn refusal(&self, value: &str) -> Option<String> {
        match &self.kind {
            InputKind::Number if value.parse::<f64>().is_ok_and(f64::is_finite) => None,
            InputKind::Number => Some(format!("\"{value}\" is not a number")),
            InputKind::Choice(choices) if !choices.iter().any(|choice| choice == value) => {
                Some(format!(
                    "\"{value}\" is not one of {}.{}",
                    choices.join(", "),
                    suggestion(value, choices.iter().map(String::as_str))
                ))
            }
            InputKind::List if list(value).next().is_none() => {
                Some("give at least one, each on a line of its own".to_owned())
            }
            _ if value.len() > 4_000 => Some("is longer than 4,000 characters".to_owned()),
            _ => None,
        }
    }
}

/// The entries of a list: one a line, or between commas.
fn list(value: &str) -> impl Iterator<Item = &str> {
    value
        .split(['\n', ','])
        .map(str::trim)
        .filter(|entry| !entry.is_empty())
}

/// A sampler of its own from an entry of `[[sampler]]`, whose query is beside it in a file.
fn sampler(entry: &Table) -> Made {
    let mut own = entry.clone();
    let query = own.remove("query");
    own.set_position(None);
    own.decor_mut().set_prefix("");
    let name = own.get("name").and_then(Item::as_str).unwrap_or_default();
    let name = name.to_owned();
    let mut document = DocumentMut::new();
    document.insert("sampler", Item::Table(own));
    if let Some(query) = query.and_then(|query| query.into_table().ok()) {
        let mut query = query;
        query.set_position(None);
        query.decor_mut().set_prefix("\n");
        document.insert("query", Item::Table(query));
    }
    let text = document.to_string();
    Made {
        name,
        text: format!("{}\n", text.trim()),
    }
}

/// How a value stands in a text.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Form {
    /// As it was given.
    Exact,
    /// For people: without underscores, and with a capital at the beginning.
    Words,
    /// Not at all.
    Sql,
}

struct Gaps<'a> {
    values: &'a BTreeMap<&'a str, Cow<'a, str>>,
    inputs: &'a [Input],
}

impl Gaps<'_> {
    fn table(&self, table: &mut dyn TableLike, depth: usize) -> Result<(), CannotFill> {
        if depth > MOST_DEPTH {
            return Err(CannotFill::Unreadable("it is too deep".to_owned()));
        }
        for (key, item) in table.iter_mut() {
            let form = match key.get() {
                "sql" => Form::Sql,
                "title" | "summary" => Form::Words,
                _ => Form::Exact,
            };
            match item {
                Item::Value(value) => self.value(value, form, depth + 1)?,
                Item::Table(table) => self.table(table, depth + 1)?,
                Item::ArrayOfTables(tables) => self.tables(tables, depth + 1)?,
                Item::None => {}
            }
        }
        Ok(())
    }

    fn tables(&self, tables: &mut ArrayOfTables, depth: usize) -> Result<(), CannotFill> {
        tables
            .iter_mut()
            .try_for_each(|table| self.table(table, depth))
    }

    fn value(&self, value: &mut Value, form: Form, depth: usize) -> Result<(), CannotFill> {
        match value {
            Value::String(text) if text.value().contains("${") => {
                let filled = self.text(text.value(), form)?;
                let decor = value.decor().clone();
                *value = filled;
                *value.decor_mut() = decor;
                Ok(())
            }
            Value::Array(array) => array
                .iter_mut()
                .try_for_each(|value| self.value(value, form, depth + 1)),
            Value::InlineTable(table) => self.table(table, depth + 1),
            _ => Ok(()),
        }
    }

    /// A text that is one placeholder becomes what the input is: a number, or a list.
    fn text(&self, text: &str, form: Form) -> Result<Value, CannotFill> {
        let mut out = String::new();
        let mut rest = text;
        while let Some((before, after)) = rest.split_once("${") {
            let Some((name, behind)) = after.split_once('}') else {
                break;
            };
            let value = self
                .values
                .get(name)
                .ok_or_else(|| CannotFill::NoInput(name.to_owned()))?;
            if form == Form::Sql {
                return Err(CannotFill::InSql(name.to_owned()));
            }
            let alone = before.is_empty() && behind.is_empty() && out.is_empty();
            let input = self.inputs.iter().find(|input| input.name == name);
            match input.map(|input| &input.kind).filter(|_| alone) {
                Some(InputKind::List) => {
                    return Ok(Value::Array(list(value).collect::<Array>()));
                }
                Some(InputKind::Number) => {
                    let number: f64 = value.parse().unwrap_or_default();
                    let whole = number.fract() == 0.0 && number.abs() < 1e15;
                    return Ok(if whole {
                        (number as i64).into()
                    } else {
                        number.into()
                    });
                }
                _ => {}
            }
            out += before;
            match form {
                Form::Words => out += &value.replace('_', " "),
                _ => out += value,
            }
            rest = behind;
        }
        out += rest;
        if form == Form::Words
            && let Some(first) = out.chars().next()
        {
            out.replace_range(..first.len_utf8(), &first.to_uppercase().to_string());
        }
        Ok(out.into())
    }
}

/// What a dashboard becomes a template with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewTemplate<'a> {
    /// The name of the template.
    pub name: &'a str,
    /// Its title.
    pub title: &'a str,
    /// The question that it answers.
    pub question: &'a str,
    /// The word for what it is for.
    pub purpose: &'a str,
    /// The kind of the dashboard's source.
    pub source_kind: &'a str,
    /// What becomes a gap: the name of each input, with the value that stands there now.
    pub inputs: &'a BTreeMap<String, String>,
}

/// Why a dashboard does not become a template.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum NoTemplate {
    /// A value is nowhere in the dashboard by itself.
    #[error(
        "\"{value}\", the value for \"{input}\", stands nowhere in the dashboard by itself; in SQL, use a [[parameter]] with it as its default"
    )]
    NotThere {
        /// The input.
        input: String,
        /// The value.
        value: String,
    },
    /// The text is not TOML.
    #[error("the dashboard cannot be read: {0}")]
    Unreadable(String),
}

impl NewTemplate<'_> {
    fn head(&self) -> Table {
        let mut head = Table::new();
        for (key, value) in [
            ("name", self.name),
            ("title", self.title),
            ("question", self.question),
            ("purpose", self.purpose),
        ] {
            head.insert(key, toml_edit::value(value));
        }
        head.insert("version", toml_edit::value(1));
        head.insert("source", toml_edit::value(self.source_kind));
        head
    }

    /// The text of a template of a dashboard: each text that is exactly the value of an input
    /// becomes a gap, and so does the source. Comments stay.
    ///
    /// # Errors
    /// If a value stands nowhere in the dashboard by itself.
    pub fn of(&self, dashboard: &str) -> Result<String, NoTemplate> {
        let mut document: DocumentMut =
            dashboard.parse().map_err(|error: toml_edit::TomlError| {
                NoTemplate::Unreadable(error.message().into())
            })?;
        let mut made = DocumentMut::new();
        made.insert("template", Item::Table(self.head()));
        let mut inputs = ArrayOfTables::new();
        for (name, value) in self.inputs {
            let mut found = 0;
            mark(
                document.as_table_mut(),
                value,
                &format!("${{{name}}}"),
                &mut found,
                0,
            );
            if found == 0 {
                return Err(NoTemplate::NotThere {
                    input: name.clone(),
                    value: value.clone(),
                });
            }
            inputs.push(input_of(name, value));
        }
        if !inputs.is_empty() {
            made.insert("input", Item::ArrayOfTables(inputs));
        }
        if let Some(table) = document
            .get_mut("dashboard")
            .and_then(Item::as_table_like_mut)
        {
            set(table, "name", format!("${{{DASHBOARD}}}").into());
            table.remove("template");
        }
        let queries = document
            .get_mut("query")
            .and_then(Item::as_array_of_tables_mut);
        for query in queries.into_iter().flat_map(ArrayOfTables::iter_mut) {
            if query.contains_key("source") {
                set(query, "source", format!("${{{SOURCE}}}").into());
            }
        }
        Ok(format!(
            "{}\n\n{}\n",
            made.to_string().trim(),
            document.to_string().trim()
        ))
    }
}

/// An input whose value is an example of what it can be.
fn input_of(name: &str, value: &str) -> Table {
    let mut title = name.replace('_', " ");
    if let Some(first) = title.get_mut(..1) {
        first.make_ascii_uppercase();
    }
    let mut input = Table::new();
    input.decor_mut().set_prefix("\n");
    input.insert("name", toml_edit::value(name));
    input.insert("title", toml_edit::value(title));
    input.insert("example", toml_edit::value(value));
    input
}

/// Puts a placeholder in place of every text that is exactly a value.
fn mark(table: &mut dyn TableLike, wanted: &str, gap: &str, found: &mut usize, depth: usize) {
    for (key, item) in table.iter_mut() {
        if depth > MOST_DEPTH || key.get() == "sql" {
            continue;
        }
        match item {
            Item::Value(value) => mark_value(value, wanted, gap, found, depth + 1),
            Item::Table(table) => mark(table, wanted, gap, found, depth + 1),
            Item::ArrayOfTables(tables) => tables
                .iter_mut()
                .for_each(|table| mark(table, wanted, gap, found, depth + 1)),
            Item::None => {}
        }
    }
}

fn mark_value(value: &mut Value, wanted: &str, gap: &str, found: &mut usize, depth: usize) {
    match value {
        Value::String(text) if text.value() == wanted => {
            *found += 1;
            let decor = value.decor().clone();
            *value = gap.into();
            *value.decor_mut() = decor;
        }
        Value::Array(array) => array
            .iter_mut()
            .for_each(|value| mark_value(value, wanted, gap, found, depth + 1)),
        Value::InlineTable(table) => mark(table, wanted, gap, found, depth + 1),
        _ => {}
    }
}

/// What a new report is made of, beside what its author adds later.
#[derive(Debug, Clone, PartialEq)]
pub struct NewReport<'a> {
    /// Its name.
    pub name: &'a str,
    /// Its title.
    pub title: &'a str,
    /// Who hears of failures, if somebody does.
    pub owner: Option<&'a str>,
    /// An IANA time zone.
    pub time_zone: &'a str,
    /// The dashboards that it shows.
    pub dashboards: &'a [String],
    /// The formats that it is written in.
    pub formats: &'a [String],
    /// The keys of `[window]`.
    pub window: &'a serde_json::Value,
    /// The keys of `[schedule]`; without them it runs when somebody asks.
    pub schedule: Option<&'a serde_json::Value>,
    /// Addresses, people and groups; nobody, if empty.
    pub to: &'a [String],
}

impl NewReport<'_> {
    /// The text of the report.
    ///
    /// # Errors
    /// If a table cannot be written as TOML.
    pub fn text(&self) -> Result<String, crate::edit::BadEdit> {
        let mut document = DocumentMut::new();
        let mut report = Table::new();
        report.insert("name", toml_edit::value(self.name));
        report.insert("title", toml_edit::value(self.title));
        if let Some(owner) = self.owner {
            report.insert("owner", toml_edit::value(owner));
        }
        report.insert("time-zone", toml_edit::value(self.time_zone));
        let list = |texts: &[String]| toml_edit::value(texts.iter().collect::<Array>());
        report.insert("dashboards", list(self.dashboards));
        report.insert("formats", list(self.formats));
        document.insert("report", Item::Table(report));
        if !self.to.is_empty() {
            let mut audience = Table::new();
            audience.insert("name", toml_edit::value("Recipients"));
            audience.insert("to", list(self.to));
            audience.decor_mut().set_prefix("\n");
            let mut audiences = ArrayOfTables::new();
            audiences.push(audience);
            document.insert("audience", Item::ArrayOfTables(audiences));
        }
        let text = document.to_string();
        crate::edit::rescheduled(&text, self.time_zone, self.schedule, Some(self.window))
    }
}

#[cfg(test)]
mod tests;
