//! What a definition was, and making it so again.

use std::io::IsTerminal;

use clap::Args;
use console::style;
use maple_lark_api::{Applied, DefinitionVersion, DefinitionVersions, Kind, Words};

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, confirmed, difference, instant, table},
    words::words,
};

/// Show the versions of a definition, or what one of them changed
///
/// Every save is kept: from the console, from the command line, or by another program.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark history report ferry-operations-daily\n  maple-lark history report ferry-operations-daily 3       what version 3 changed\n  maple-lark restore report ferry-operations-daily 2"
)]
pub struct History {
    /// What it is: report, dashboard, source, …
    #[arg(value_parser = words::<Kind>())]
    kind: Kind,
    /// Its name
    name: String,
    /// Only this version, with what it changed
    version: Option<i32>,
    /// The page of a long history
    #[arg(long, default_value_t = 1)]
    page: u64,
}

impl History {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let path = format!("/definitions/{}/{}/versions", self.kind.word(), self.name);
        if let Some(wanted) = self.version {
            let one: DefinitionVersion = client.get(&format!("{path}/{wanted}")).await?;
            output::print(output, &one, show);
            return Ok(());
        }
        let page = [("page", self.page.to_string())];
        let found: DefinitionVersions = client.get_with(&path, &page).await?;
        output::print(output, &found, |found| {
            let rows = found.items.iter().map(|one| {
                let (added, removed) = counts(&one.diff);
                vec![
                    one.version.to_string(),
                    instant(Some(one.saved_at)),
                    one.saved_by.clone(),
                    one.saved_from.to_string(),
                    if one.removed {
                        "removed".to_owned()
                    } else {
                        format!("+{added} −{removed}")
                    },
                    one.message.clone().unwrap_or_default(),
                ]
            });
            table(
                &["VERSION", "SAVED", "BY", "FROM", "LINES", "MESSAGE"],
                rows.collect(),
                "There are no more versions.",
            );
        });
        Ok(())
    }
}

/// How many lines came and how many went.
fn counts(diff: &str) -> (usize, usize) {
    let lines = |sign: char| diff.lines().filter(|line| line.starts_with(sign)).count();
    (lines('+'), lines('-'))
}

fn show(one: &DefinitionVersion) {
    println!(
        "Version {} of {}, saved {} by {} ({})",
        one.version,
        style(&one.file).bold(),
        instant(Some(one.saved_at)),
        one.saved_by,
        one.saved_from
    );
    if let Some(message) = &one.message {
        println!("{message}");
    }
    difference(&one.diff);
}

/// Restore a definition to an earlier version
///
/// This saves a new version; the versions in between stay. It also brings back a removed
/// definition.
#[derive(Args)]
#[command(after_help = "Example:\n  maple-lark restore report ferry-operations-daily 2")]
pub struct Restore {
    /// What it is: report, dashboard, source, …
    #[arg(value_parser = words::<Kind>())]
    kind: Kind,
    /// Its name
    name: String,
    /// The version to restore
    version: i32,
    /// Do not ask
    #[arg(long, short)]
    yes: bool,
}

impl Restore {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let (kind, name, version) = (self.kind.word(), &self.name, self.version);
        if !self.yes {
            if !std::io::stdin().is_terminal() {
                return Err(Failure::Local(
                    "nothing was changed: there is no terminal to ask on; add --yes".to_owned(),
                ));
            }
            if !confirmed(&format!(
                "Restore the {kind} \"{name}\" to version {version}?"
            )) {
                return Err(Failure::Declined("nothing was changed"));
            }
        }
        let path = format!("/definitions/{kind}/{name}/versions/{version}/restore");
        let applied: Applied = client.post(&path, &serde_json::json!({})).await?;
        output::print(output, &applied, |applied| {
            if applied.changes.is_empty() {
                println!("The {kind} {name} is already as in version {version}.");
            } else {
                println!("The {kind} {name} is restored to version {version}.");
            }
        });
        Ok(())
    }
}
