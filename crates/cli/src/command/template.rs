//! Ready-made dashboards and reports: which there are, and one of them made for a source.

use std::collections::BTreeMap;

use clap::{Args, ValueEnum};
use console::style;
use maple_lark_api::{
    Applied, DefinitionFile, Files, FilledTemplate, Format, NewTemplate, TemplateInput,
    TemplateOrder, TemplateReport, TemplateUpdate, TemplateView, Words,
};
use serde_json::json;

use crate::{
    client::Client,
    command::{ask::name_and_value, explain::iana_zone},
    failure::Failure,
    output::{self, Output, difference, table},
    words::words,
};

/// List ready-made dashboards, or show one with what it asks for
///
/// They come with the program, for what needs no preparation: the statistics of any PostgreSQL
/// server, any metrics, checks, files, and this service itself. "maple-lark use" makes one.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark templates                              all of them by purpose\n  maple-lark templates --kind postgresql lock       about locks of PostgreSQL\n  maple-lark templates postgresql-sessions          what it shows and asks for\n  maple-lark templates --updates                    dashboards whose template has a newer version\n  maple-lark templates --from database-server --as server-health --question 'Is the server well?' --purpose unit"
)]
pub struct Templates {
    /// Its name, or words to look for
    words: Vec<String>,
    /// Only those for this kind of source, such as postgresql
    #[arg(long)]
    kind: Option<String>,
    /// Only those for this purpose, such as capacity
    #[arg(long)]
    purpose: Option<String>,
    /// List the dashboards whose template has a newer version, with the difference
    #[arg(long, conflicts_with_all = ["words", "kind", "purpose"])]
    updates: bool,
    /// Make this dashboard what its template makes now
    #[arg(long, value_name = "DASHBOARD", conflicts_with_all = ["words", "kind", "purpose", "updates"])]
    update: Option<String>,
    /// Make a template of this dashboard, for everybody here
    #[arg(long, value_name = "DASHBOARD", requires_all = ["name", "question", "purpose"], conflicts_with_all = ["words", "kind", "updates", "update"])]
    from: Option<String>,
    /// The name of the new template
    #[arg(long = "as", value_name = "NAME", requires = "from")]
    name: Option<String>,
    /// The title of the new template; its name if not given
    #[arg(long, requires = "from")]
    title: Option<String>,
    /// The question that it answers
    #[arg(long, requires = "from")]
    question: Option<String>,
    /// What becomes an input: its name, and the value that stands in the dashboard
    #[arg(long = "input", value_name = "NAME=VALUE", requires = "from", value_parser = name_and_value)]
    inputs: Vec<(String, String)>,
}

impl Templates {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        if self.updates || self.update.is_some() {
            return self.updates(client, output).await;
        }
        if self.from.is_some() {
            return self.share(client, output).await;
        }
        let all: Vec<TemplateView> = client.get("/templates").await?;
        let wanted = self.words.join(" ").to_lowercase();
        if let Some(one) = all.iter().find(|template| template.name == wanted) {
            output::print(output, one, show);
            return Ok(());
        }
        let fits = |template: &&TemplateView| {
            let said = format!(
                "{} {} {} {} {}",
                template.name,
                template.title,
                template.question,
                template.purpose_title,
                template.source_kind
            );
            let said = said.to_lowercase();
            wanted.split_whitespace().all(|word| said.contains(word))
                && self
                    .kind
                    .as_ref()
                    .is_none_or(|kind| *kind == template.source_kind)
                && self
                    .purpose
                    .as_ref()
                    .is_none_or(|purpose| *purpose == template.purpose)
        };
        let found: Vec<&TemplateView> = all.iter().filter(fits).collect();
        output::print(output, &found, |found| {
            let rows = found.iter().map(|template| {
                vec![
                    template.name.clone(),
                    template.purpose_title.clone(),
                    template.source_kind.clone(),
                    template.question.clone(),
                    if template.used_by.is_empty() {
                        String::new()
                    } else {
                        template.used_by.join(", ")
                    },
                ]
            });
            table(
                &["TEMPLATE", "PURPOSE", "SOURCE", "QUESTION", "USED BY"],
                rows.collect(),
                "No template is like this; \"maple-lark templates\" lists all of them.",
            );
        });
        Ok(())
    }

    async fn share(self, client: &Client, output: Output) -> Result<(), Failure> {
        let name = self.name.unwrap_or_default();
        let order = NewTemplate {
            title: self.title.unwrap_or_else(|| name.clone()),
            question: self.question.unwrap_or_default(),
            purpose: self.purpose.unwrap_or_default(),
            inputs: self.inputs.into_iter().collect(),
            name,
        };
        let path = format!("/dashboards/{}/template", self.from.unwrap_or_default());
        let made: DefinitionFile = client.post(&path, &order).await?;
        output::print(output, &made, |made| {
            println!(
                "The template {} is there:\n\n{}",
                style(&order.name).bold(),
                made.text
            );
        });
        Ok(())
    }

    async fn updates(self, client: &Client, output: Output) -> Result<(), Failure> {
        let found: Vec<TemplateUpdate> = client.get("/template-updates").await?;
        let Some(wanted) = self.update else {
            output::print(output, &found, |found| {
                for one in found {
                    println!(
                        "{}: the template {} is at version {}, this dashboard is of version {}",
                        style(&one.dashboard).bold(),
                        one.template,
                        one.latest,
                        one.version
                    );
                    difference(&one.diff);
                }
                if found.is_empty() {
                    println!("Every dashboard that was made of a template is up to date.");
                }
            });
            return Ok(());
        };
        let update = found.into_iter().find(|one| one.dashboard == wanted);
        let update = update.ok_or_else(|| {
            Failure::Local(format!(
                "the dashboard \"{wanted}\" is up to date, or was not made of a template; \"maple-lark templates --updates\" lists those that are not"
            ))
        })?;
        let files = Files {
            files: vec![update.file.clone()],
            message: Some(format!(
                "brought up to version {} of the template {}",
                update.latest, update.template
            )),
            remove_others: false,
        };
        let applied: Applied = client.post("/definitions/apply", &files).await?;
        output::print(output, &applied, |_| {
            println!(
                "The dashboard {} is of version {} now; \"maple-lark history dashboard {}\" has what it was.",
                style(&wanted).bold(),
                update.latest,
                wanted
            );
        });
        Ok(())
    }
}

fn show(template: &TemplateView) {
    println!(
        "{}  {}",
        style(&template.title).bold(),
        style(&template.name).dim()
    );
    println!("{}", template.question);
    println!();
    println!("Purpose   {}", template.purpose_title);
    println!("Source    of kind {}", template.source_kind);
    for (name, text) in [("Needs", &template.needs), ("", &template.instructions)] {
        if let Some(text) = text {
            println!("{name:<9} {}", text.trim());
        }
    }
    println!("Shows     {}", shown(template));
    if !template.inputs.is_empty() {
        println!("\nInputs");
        for input in &template.inputs {
            println!("  {:<10} {}", input.name, about(input));
        }
    }
    let values: String = template
        .inputs
        .iter()
        .filter(|input| input.default.is_none())
        .map(|input| format!(" --value '{}={}'", input.name, input.example))
        .collect();
    println!(
        "\nMake one: maple-lark use {} --source SOURCE{values} --every day --at 07:30 --to you@example.org",
        template.name
    );
}

fn shown(template: &TemplateView) -> String {
    let blocks = template.blocks.iter();
    blocks
        .map(|block| format!("{} ({})", block.title, block.show))
        .collect::<Vec<_>>()
        .join(", ")
}

fn about(input: &TemplateInput) -> String {
    let mut said = format!("{} ({})", input.title, input.kind);
    if !input.choices.is_empty() {
        said += &format!(": {}", input.choices.join(", "));
    }
    match &input.default {
        Some(default) => said += &format!("; {default} if not given"),
        None => said += &format!("; for example {}", input.example),
    }
    if let Some(note) = &input.note {
        said += &format!(". {note}");
    }
    said
}

/// How often a report runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Every {
    Hour,
    Day,
    Weekday,
    Week,
    Month,
}

/// Make a ready-made dashboard for a source, and a report that sends it
///
/// Without --every or --to only the dashboard is made. "maple-lark templates TEMPLATE" says
/// what a template asks for.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark use postgresql-sessions --source database-server\n  maple-lark use postgresql-sessions --source database-server --to ops@example.org --every day --at 07:30 --formats pdf,csv\n  maple-lark use checks-pages --source this-machine --value 'targets=https://example.org, https://www.example.org'\n  maple-lark use files-table --source inventory --value file=kiosks.csv --dry-run    shows what would be made"
)]
pub struct Use {
    /// The template
    template: String,
    /// The source that it reads
    #[arg(long, short)]
    source: String,
    /// A value for an input of the template
    #[arg(long = "value", short = 'V', value_name = "NAME=VALUE", value_parser = name_and_value)]
    values: Vec<(String, String)>,
    /// The name of the dashboard and the report; the template's if not given
    #[arg(long = "as", value_name = "NAME")]
    name: Option<String>,
    /// The title; the template's if not given
    #[arg(long)]
    title: Option<String>,
    /// Who gets the report: an address, a person or a group; may be repeated
    #[arg(long, value_name = "RECIPIENT")]
    to: Vec<String>,
    /// How often it is sent
    #[arg(long, value_enum)]
    every: Option<Every>,
    /// When on such a day, such as 07:30
    #[arg(long, value_name = "HH:MM", requires = "every")]
    at: Option<String>,
    /// The formats that it is written in
    #[arg(long, value_delimiter = ',', value_parser = words::<Format>())]
    formats: Vec<Format>,
    /// The time zone of its windows and instants; this machine's if not given
    #[arg(long, value_name = "ZONE")]
    time_zone: Option<String>,
    /// Print the definitions that would be made, and make nothing
    #[arg(long)]
    dry_run: bool,
}

impl Use {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let order = self.order();
        let action = if self.dry_run { "fill" } else { "use" };
        let path = format!("/templates/{}/{action}", self.template);
        let made: FilledTemplate = client.post(&path, &order).await?;
        output::print(output, &made, |made| {
            if self.dry_run {
                for file in &made.files {
                    println!(
                        "{}\n\n{}",
                        style(format!("# {}", file.file)).bold(),
                        file.text
                    );
                }
                return;
            }
            println!("The dashboard {} is there.", style(&made.dashboard).bold());
            let samplers = made
                .files
                .iter()
                .filter(|file| file.file.starts_with("samplers/"));
            match samplers.count() {
                0 => {}
                1 => println!("A sampler keeps its history from now on."),
                count => println!("{count} samplers keep its history from now on."),
            }
            match (&made.report, &made.schedule) {
                (None, _) => println!("See it: maple-lark preview {}", made.dashboard),
                (Some(report), None) => {
                    println!(
                        "The report {} runs when you say so: maple-lark run {report}",
                        style(report).bold()
                    );
                }
                (Some(report), Some(schedule)) => {
                    println!("The report {}: {schedule}.", style(report).bold());
                    println!("Send one to yourself: maple-lark send {report} --to you@example.org");
                }
            }
        });
        Ok(())
    }

    fn order(&self) -> TemplateOrder {
        let wants_report = self.every.is_some() || !self.to.is_empty() || !self.formats.is_empty();
        TemplateOrder {
            source: self.source.clone(),
            values: self.values.iter().cloned().collect::<BTreeMap<_, _>>(),
            name: self.name.clone(),
            title: self.title.clone(),
            report: wants_report.then(|| self.report()),
        }
    }

    /// The window is what has passed since the report was made before.
    fn report(&self) -> TemplateReport {
        let at = self.at.as_deref().unwrap_or("07:30");
        let (window, schedule) = match self.every {
            None => (json!({ "previous": "day" }), None),
            Some(Every::Hour) => (json!({ "last": "PT1H" }), Some(json!({ "every": "PT1H" }))),
            Some(Every::Day) => (
                json!({ "previous": "day" }),
                Some(json!({ "every": "day", "at": at })),
            ),
            Some(Every::Weekday) => (
                json!({ "previous": "day" }),
                Some(json!({ "every": "weekday", "at": at })),
            ),
            Some(Every::Week) => (
                json!({ "previous": "week" }),
                Some(json!({ "every": "week", "on": ["monday"], "at": at })),
            ),
            Some(Every::Month) => (
                json!({ "previous": "month" }),
                Some(json!({ "every": "month", "on": ["1"], "at": at })),
            ),
        };
        TemplateReport {
            title: None,
            time_zone: self.time_zone.clone().or_else(iana_zone),
            window: Some(window),
            schedule,
            formats: self
                .formats
                .iter()
                .map(|format| format.word().to_owned())
                .collect(),
            to: self.to.clone(),
        }
    }
}
