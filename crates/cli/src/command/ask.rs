//! Asking without making anything: `query`, `preview`, `catalogue`, `parameters`, `samplers`.

use std::{collections::BTreeMap, path::PathBuf};

use chrono::{DateTime, Utc};
use clap::Args;
use maple_lark_api::{
    CatalogueEntry, CatalogueItem, ChoicesOrder, Format, ParameterChoices, ParameterValue,
    PreviewOrder, QueryAnswer, QueryOrder, SamplerView, Words, readable_size,
};

use super::{download::save, explain::one_line};
use crate::{
    client::Client,
    failure::Failure,
    instants::instant as instant_of,
    output::{self, Output, instant, outcome, pending, table},
    words::words,
};

/// Ask one query and see what comes back, before anything is built on it
///
/// Nothing is kept. The query is SQL for a source, a TOML file with a [query] table as a
/// dashboard has it, or a query of a dashboard that is applied.
#[derive(Args)]
#[command(after_long_help = "\
Examples:
  maple-lark query operations \"select * from ports where code = :port\" --value port=havnes
  maple-lark query --file query.toml --from 2026-10-24T23:00:00Z --to 2026-10-26T00:00:00Z
  maple-lark query --query ferry-operations/fullest_disks --value port=havnes --rows 5")]
pub struct Query {
    /// The name of a source, with SQL behind it
    #[arg(requires = "sql", required_unless_present_any = ["file", "query"])]
    source: Option<String>,
    /// SQL with named parameters such as :from, :to and your own
    sql: Option<String>,
    /// A TOML file with a [query] table
    #[arg(long, value_name = "FILE", conflicts_with_all = ["source", "query"])]
    file: Option<PathBuf>,
    /// A query of a dashboard that is applied
    #[arg(long, value_name = "DASHBOARD/QUERY", conflicts_with = "source")]
    query: Option<String>,
    /// The beginning of the window (RFC 3339); 24 hours before its end if left out
    #[arg(long, value_name = "INSTANT", value_parser = instant_of)]
    from: Option<DateTime<Utc>>,
    /// The end of the window, which is no part of it; now if left out
    #[arg(long, value_name = "INSTANT", value_parser = instant_of)]
    to: Option<DateTime<Utc>>,
    /// The time zone that times are shown in
    #[arg(long, value_name = "ZONE")]
    time_zone: Option<String>,
    /// The value of a parameter; for a list, separate with commas
    #[arg(long = "value", value_name = "NAME=VALUE", value_parser = name_and_value)]
    values: Vec<(String, String)>,
    /// How many rows to show, at most 1000
    #[arg(long, default_value_t = 20)]
    rows: usize,
}

/// A value of a parameter without its name.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
#[error("\"{0}\" is not NAME=VALUE, such as port=havnes")]
pub struct NoPair(String);

pub fn name_and_value(text: &str) -> Result<(String, String), NoPair> {
    let (name, value) = text
        .split_once('=')
        .ok_or_else(|| NoPair(text.chars().take(200).collect()))?;
    Ok((name.trim().to_owned(), value.to_owned()))
}

/// A number where it reads like one, a list where it has commas, else a text. Digits behind a
/// leading zero are a name, such as a code.
pub fn typed(values: &[(String, String)]) -> BTreeMap<String, ParameterValue> {
    let code = |text: &str| text.len() > 1 && text.starts_with('0') && !text.starts_with("0.");
    let typed = |text: &str| match text.parse::<f64>() {
        Ok(number) if number.is_finite() && !code(text) => ParameterValue::Number(number),
        _ if text.contains(',') => {
            ParameterValue::List(text.split(',').map(|item| item.trim().to_owned()).collect())
        }
        _ => ParameterValue::Text(text.to_owned()),
    };
    values
        .iter()
        .map(|(name, value)| (name.clone(), typed(value)))
        .collect()
}

impl Query {
    #[expect(
        clippy::too_many_lines,
        reason = "the forms that an answer can be printed in, one after the other"
    )]
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let mut order = QueryOrder {
            from: self.from,
            to: self.to,
            time_zone: self.time_zone,
            values: typed(&self.values),
            rows: Some(self.rows),
            ..QueryOrder::default()
        };
        if let Some(path) = &self.file {
            let text = std::fs::read_to_string(path).map_err(|error| {
                Failure::Local(format!("{} cannot be read: {error}", path.display()))
            })?;
            order.definition = Some(text);
        } else if let Some(query) = &self.query {
            let (dashboard, query) = query.split_once('/').ok_or_else(|| {
                Failure::Local(format!(
                    "\"{query}\" is not DASHBOARD/QUERY, such as ferry-operations/totals"
                ))
            })?;
            (order.dashboard, order.query) = (Some(dashboard.to_owned()), Some(query.to_owned()));
        } else {
            let (source, sql) = (
                self.source.unwrap_or_default(),
                self.sql.unwrap_or_default(),
            );
            // A basic string in TOML takes what a string in JSON does.
            let quoted = |text: &str| serde_json::Value::String(text.to_owned()).to_string();
            order.definition = Some(format!(
                "[query]\nsource = {}\nsql = {}\n",
                quoted(&source),
                quoted(&sql)
            ));
        }
        let tried: QueryAnswer = client.post("/queries/try", &order).await?;
        output::print(output, &tried, |tried| {
            let headings: Vec<String> = tried
                .columns
                .iter()
                .map(|column| format!("{} ({})", column.name, column.kind))
                .collect();
            let rows = tried
                .rows
                .iter()
                .map(|row| {
                    row.iter()
                        .map(|cell| cell.clone().unwrap_or_else(|| "–".to_owned()))
                        .collect()
                })
                .collect();
            table(
                &headings.iter().map(String::as_str).collect::<Vec<_>>(),
                rows,
                "No rows.",
            );
            let shown = if tried.rows.len() < tried.row_count {
                format!("the first {} of ", tried.rows.len())
            } else {
                String::new()
            };
            let more = if tried.truncated {
                ", cut off at the source's row limit"
            } else {
                ""
            };
            let rows = if tried.row_count == 1 { "row" } else { "rows" };
            println!(
                "\n{shown}{} {rows}{more} in {} ms, window {}",
                tried.row_count, tried.milliseconds, tried.window
            );
            println!("{}  {}", console::style("asked").dim(), tried.sent.trim());
            if let Some(note) = &tried.note {
                println!("{}  {note}", console::style("▲ note").yellow());
            }
            if let Some(fields) = &tried.fields {
                println!(
                    "\nTypes were found out from the rows. To fix them, add to the query:\n\n{fields}"
                );
            }
        });
        Ok(())
    }
}

/// See what a dashboard or a report would show, without keeping or sending anything
///
/// The sources are asked now. What is shown may be applied already or stand in a file.
#[derive(Args)]
#[command(after_long_help = "\
Examples:
  maple-lark preview ferry-operations --time-zone Atlantic/Faroe --value port=havnes
  maple-lark preview ferry-operations --window 'last = \"PT6H\"' --format pdf --into /tmp
  maple-lark preview --report port-offices-daily --at 2026-10-26T07:30:00Z
  maple-lark preview --file dashboards/draft.toml")]
pub struct Preview {
    /// The name of a dashboard
    #[arg(required_unless_present_any = ["file", "report"])]
    dashboard: Option<String>,
    /// A report instead, with its own window and zone
    #[arg(long, value_name = "NAME", conflicts_with_all = ["dashboard", "file", "time_zone", "window", "theme"])]
    report: Option<String>,
    /// The audience of the report whose values are taken
    #[arg(long, value_name = "NAME")]
    audience: Option<String>,
    /// A TOML file with a dashboard or a report that need not be applied
    #[arg(long, value_name = "FILE", conflicts_with = "dashboard")]
    file: Option<PathBuf>,
    /// The window, as it stands under [window] in a report; the previous day if left out
    #[arg(long, value_name = "WINDOW")]
    window: Option<String>,
    /// The instant that the window follows from (RFC 3339); now if left out
    #[arg(long, value_name = "INSTANT", value_parser = instant_of)]
    at: Option<DateTime<Utc>>,
    /// The time zone; UTC if left out
    #[arg(long, value_name = "ZONE")]
    time_zone: Option<String>,
    /// The value of a parameter; for a list, separate with commas
    #[arg(long = "value", value_name = "NAME=VALUE", value_parser = name_and_value)]
    values: Vec<(String, String)>,
    /// The name of a theme
    #[arg(long, value_name = "NAME")]
    theme: Option<String>,
    /// The format to render
    #[arg(long, value_parser = words::<Format>(), default_value = "html")]
    format: Format,
    /// The folder to write to; it is made if it is not there
    #[arg(long, value_name = "FOLDER", default_value = ".")]
    into: PathBuf,
}

impl Preview {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let read = |path: &PathBuf| {
            std::fs::read_to_string(path).map_err(|error| {
                Failure::Local(format!("{} cannot be read: {error}", path.display()))
            })
        };
        let order = PreviewOrder {
            beside: Vec::new(),
            block: None,
            report: self.report,
            dashboard: self.dashboard,
            definition: self.file.as_ref().map(read).transpose()?,
            audience: self.audience,
            at: self.at,
            time_zone: self.time_zone,
            window: self
                .window
                .as_deref()
                .map(|text| one_line("--window", text))
                .transpose()?,
            theme: self.theme,
            values: typed(&self.values),
            format: Some(self.format.word().to_owned()),
        };
        let (name, bytes) = client.file_from("/preview", &order).await?;
        let saved = (
            save(&self.into, &name, &bytes)?.display().to_string(),
            bytes.len() as i64,
        );
        output::print(output, &saved, |(path, bytes)| {
            println!("{path}  {}", readable_size(bytes.unsigned_abs()))
        });
        Ok(())
    }
}

/// What can be asked of a source: its tables, metrics, files or checks
#[derive(Args)]
pub struct Catalogue {
    source: String,
    /// Only what has this in its name or description
    search: Option<String>,
}

impl Catalogue {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let query = [("search", self.search.unwrap_or_default())];
        let entries: Vec<CatalogueEntry> = client
            .get_with(&format!("/sources/{}/catalogue", self.source), &query)
            .await?;
        output::print(output, &entries, |entries| {
            let rows = entries
                .iter()
                .map(|entry| {
                    let said = |item: &CatalogueItem| {
                        if item.kind.is_empty() {
                            item.name.clone()
                        } else {
                            format!("{} ({})", item.name, item.kind)
                        }
                    };
                    let items: Vec<String> = entry.items.iter().map(said).collect();
                    vec![
                        entry.name.clone(),
                        entry.kind.clone(),
                        entry.unit.clone(),
                        items.join(", "),
                        entry.description.clone(),
                    ]
                })
                .collect();
            table(
                &["NAME", "KIND", "UNIT", "COLUMNS OR LABELS", "DESCRIPTION"],
                rows,
                "This source names nothing that fits.",
            );
        });
        Ok(())
    }
}

/// The parameters of a dashboard with the values to choose from
#[derive(Args)]
pub struct Parameters {
    dashboard: String,
    /// A value chosen already, for parameters that depend on it
    #[arg(long = "value", value_name = "NAME=VALUE", value_parser = name_and_value)]
    values: Vec<(String, String)>,
}

impl Parameters {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let order = ChoicesOrder {
            values: typed(&self.values),
        };
        let found: Vec<ParameterChoices> = client
            .post(&format!("/dashboards/{}/choices", self.dashboard), &order)
            .await?;
        output::print(output, &found, |found| {
            let rows = found
                .iter()
                .map(|parameter| {
                    let choices: Vec<&str> = parameter
                        .choices
                        .iter()
                        .map(|choice| choice.value.as_str())
                        .collect();
                    let choices = parameter
                        .problem
                        .clone()
                        .unwrap_or_else(|| choices.join(", "));
                    let default = parameter
                        .default
                        .clone()
                        .unwrap_or_else(|| "required".to_owned());
                    vec![
                        parameter.name.clone(),
                        parameter.title.clone(),
                        parameter.kind.clone(),
                        default,
                        parameter.depends_on.join(", "),
                        choices,
                    ]
                })
                .collect();
            table(
                &["NAME", "TITLE", "KIND", "DEFAULT", "DEPENDS ON", "CHOICES"],
                rows,
                "This dashboard has no parameters.",
            );
        });
        Ok(())
    }
}

pub async fn samplers(client: &Client, output: Output) -> Result<(), Failure> {
    let found: Vec<SamplerView> = client.get("/samplers").await?;
    output::print(output, &found, |found| {
        let rows = found
            .iter()
            .map(|sampler| {
                let last = if sampler.last_at.is_some() {
                    outcome(sampler.works)
                } else {
                    pending("not asked yet")
                };
                let detail = sampler.detail.clone().unwrap_or_default();
                let every = format!("{} s", sampler.every_seconds);
                vec![
                    sampler.name.clone(),
                    sampler.source.clone(),
                    every,
                    sampler.samples.to_string(),
                    instant(sampler.since),
                    format!("{last} {}", instant(sampler.last_at)),
                    detail,
                ]
            })
            .collect();
        table(
            &["NAME", "SOURCE", "EVERY", "KEPT", "SINCE", "LAST", "ANSWER"],
            rows,
            "There are no samplers yet; define one and apply it.",
        );
    });
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_typed_by_how_they_read() {
        let value = |text: &str| {
            typed(&[("x".to_owned(), text.to_owned())])
                .remove("x")
                .unwrap()
        };
        let text = |text: &str| ParameterValue::Text(text.to_owned());
        for (written, meant) in [
            ("12", ParameterValue::Number(12.0)),
            ("-0.5", ParameterValue::Number(-0.5)),
            ("0", ParameterValue::Number(0.0)),
            ("0.25", ParameterValue::Number(0.25)),
            (
                "a, b,c",
                ParameterValue::List(vec!["a".into(), "b".into(), "c".into()]),
            ),
            ("havnes", text("havnes")),
            ("", text("")),
            // Codes and what only looks like a number stay as they are.
            ("0042", text("0042")),
            ("00.5", text("00.5")),
            ("inf", text("inf")),
            ("NaN", text("NaN")),
            ("12 kn", text("12 kn")),
        ] {
            assert_eq!(value(written), meant, "{written}");
        }
    }

    #[test]
    fn a_value_has_a_name_and_keeps_its_equal_signs() {
        assert_eq!(
            name_and_value("port = havnes"),
            Ok(("port".to_owned(), " havnes".to_owned()))
        );
        assert_eq!(
            name_and_value("filter=a=b"),
            Ok(("filter".to_owned(), "a=b".to_owned()))
        );
        assert_eq!(
            name_and_value("empty="),
            Ok(("empty".to_owned(), String::new()))
        );
        assert_eq!(
            name_and_value("havnes").unwrap_err(),
            NoPair("havnes".to_owned())
        );
    }
}
