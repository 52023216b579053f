//! Definitions made and changed key by key, without writing a file.

use std::{ffi::OsStr, path::Path};

use clap::Args;
use console::style;
use maple_lark_api::{
    DefinitionFile, DefinitionKeys, DefinitionPatch, Kind, NewDefinition, Plan, Words,
};
use serde_json::Value;

use super::{
    apply::show,
    asking,
    keys::{assignment, tables},
};
use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, confirmed},
    words::words,
};

/// Make a definition of its keys
///
/// A key is written as the documentation has it: "address", or with its table, "schedule.at".
/// A value that is a number, true, false or a list in JSON is one; everything else is a text.
/// At a terminal, what is missing is asked for.
/// A secret is never given here: store it with "maple-lark secret set", and refer to it.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark new person ada-berg --title 'Ada Berg' address=ada.berg@example.org\n  maple-lark new source shop --title Shop kind=postgresql address=db1:5432 database=shop user=reader password=secret:shop\n  maple-lark new group duty 'members=[\"ada-berg\", \"dagur-lind\"]'\n  maple-lark new report weekly time-zone=UTC 'dashboards=[\"estate\"]' window.previous=week schedule.every=week 'schedule.on=[\"monday\"]' schedule.at=07:30"
)]
pub struct New {
    /// What it is: source, report, person, group, channel, …
    #[arg(value_parser = words::<Kind>())]
    kind: Kind,
    /// Its name: small letters, digits and hyphens; what belongs to a team gets the team's name before it
    name: String,
    /// Its title for people
    #[arg(long)]
    title: Option<String>,
    /// A key with its value
    #[arg(value_name = "KEY=VALUE", value_parser = assignment)]
    keys: Vec<(Vec<String>, Value)>,
    /// What is to be said of it in its history
    #[arg(long)]
    message: Option<String>,
}

/// Change keys of a definition
///
/// What is not named stays as it is, with its comments. A key without a value goes. It is
/// written as for "maple-lark new". If documents would go at once by the change, it asks first.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark set report estate-daily schedule.at=08:00\n  maple-lark set report estate-daily keep.documents=P2Y --check\n  maple-lark set source shop row-limit=50000 max-concurrency=2\n  maple-lark set person ada-berg numbers=               removes the key"
)]
pub struct Set {
    /// What it is: source, report, person, group, channel, …
    #[arg(value_parser = words::<Kind>())]
    kind: Kind,
    /// Its name
    name: String,
    /// A key with its value; without a value the key is removed
    #[arg(value_name = "KEY=VALUE", required = true, value_parser = assignment)]
    keys: Vec<(Vec<String>, Value)>,
    /// What is to be said of the change in the history
    #[arg(long)]
    message: Option<String>,
    /// Show what would change, and change nothing
    #[arg(long)]
    check: bool,
    /// Do not ask first
    #[arg(long, short)]
    yes: bool,
}

impl New {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let kind = self.kind.word();
        let mut given = vec![(vec!["name".to_owned()], Value::from(self.name.clone()))];
        given.extend(
            self.title
                .map(|title| (vec!["title".to_owned()], Value::from(title))),
        );
        given.extend(self.keys);
        asking::complete(client, self.kind, &mut given).await?;
        let order = NewDefinition {
            keys: tables(self.kind, given),
            message: self.message,
        };
        let made: DefinitionFile = client.post(&format!("/definitions/{kind}"), &order).await?;
        output::print(output, &made, |made| {
            // What belongs to a team may have got that before its name; the file is named after it.
            let stem = Path::new(&made.file).file_stem();
            let name = stem.map_or(self.name.as_str().into(), OsStr::to_string_lossy);
            println!(
                "The {kind} {} is there:\n\n{}",
                style(&name).bold(),
                made.text
            );
            if self.kind == Kind::Source {
                println!("See whether it works: maple-lark test {name}");
            }
        });
        Ok(())
    }
}

impl Set {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let path = format!("/definitions/{}/{}", self.kind.word(), self.name);
        let before: DefinitionKeys = client.get(&format!("{path}/keys")).await?;
        let order = DefinitionPatch {
            keys: tables(self.kind, self.keys),
            based_on: Some(before.based_on),
            message: self.message,
        };
        if self.check || !self.yes {
            let plan: Plan = client.post(&format!("{path}/plan"), &order).await?;
            if self.check {
                output::print(output, &plan, |plan| show(&plan.changes, plan.unchanged));
                return Ok(());
            }
            if plan.changes.iter().any(|change| change.lets_go.is_some()) {
                show(&plan.changes, plan.unchanged);
                if !confirmed("This goes at once, and cannot be got back. Change it?") {
                    return Err(Failure::Declined(
                        "nothing was changed and nothing went; in a script, add --yes",
                    ));
                }
            }
        }
        let changed: DefinitionFile = client.patch(&path, &order).await?;
        output::print(output, &changed, |changed| println!("{}", changed.text));
        Ok(())
    }
}
