//! Definitions made and changed key by key, without writing a file.

use std::{ffi::OsStr, path::Path};

use clap::Args;
use console::style;
use maple_lark_api::{
    DefinitionFile, DefinitionKeys, DefinitionPatch, Kind, NewDefinition, Plan, Words,
};
use serde_json::{Map, Value};

use super::{apply::show, asking};
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

/// Not KEY=VALUE.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
#[error("\"{0}\" is not KEY=VALUE, such as address=db1:5432")]
pub struct NoAssignment(String);

fn assignment(text: &str) -> Result<(Vec<String>, Value), NoAssignment> {
    let refused = || NoAssignment(text.chars().take(200).collect());
    let (key, value) = text.split_once('=').ok_or_else(refused)?;
    let path: Vec<String> = key.trim().split('.').map(str::to_owned).collect();
    if path.iter().any(String::is_empty) {
        return Err(refused());
    }
    let value = match value.trim() {
        "" => Value::Null,
        // A time or a version is no number.
        plain => match serde_json::from_str(plain) {
            Ok(found @ (Value::Number(_) | Value::Bool(_) | Value::Array(_))) => found,
            _ => Value::from(value),
        },
    };
    Ok((path, value))
}

/// The tables that stand beside the one that a definition is named after.
const TABLES: [&str; 18] = [
    "window",
    "schedule",
    "message",
    "deliver",
    "approval",
    "files",
    "keep",
    "send",
    "readiness",
    "parameters",
    "query",
    "parameter",
    "section",
    "audience",
    "audiences-from",
    "change",
    "input",
    "dashboard",
];

/// Keys as the tables of a file. A key without a table is the definition's own.
fn tables(kind: Kind, keys: Vec<(Vec<String>, Value)>) -> Map<String, Value> {
    let mut all = Map::new();
    for (mut path, value) in keys {
        let first = path[0].as_str();
        let has_table = path.len() > 1 && (first == kind.word() || TABLES.contains(&first));
        if !has_table {
            path.insert(0, kind.word().to_owned());
        }
        put(&mut all, &path, value);
    }
    all
}

fn put(table: &mut Map<String, Value>, path: &[String], value: Value) {
    match path {
        [] => {}
        [key] => drop(table.insert(key.clone(), value)),
        [key, rest @ ..] => {
            let inner = table
                .entry(key.clone())
                .or_insert_with(|| Value::Object(Map::new()));
            if !inner.is_object() {
                *inner = Value::Object(Map::new());
            }
            if let Some(inner) = inner.as_object_mut() {
                put(inner, rest, value);
            }
        }
    }
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
        asking::complete(self.kind, &mut given)?;
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

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn keys_are_tables_of_a_file() {
        let keys = [
            "address=db1:5432",
            "row-limit=10",
            "at=07:30",
            "schedule.at=07:30",
            "sign-in.token=secret:a",
            "members=[\"a\", \"b\"]",
            "numbers=",
            "title={\"a\": 1}",
        ];
        let keys = keys.iter().map(|key| assignment(key).unwrap()).collect();
        assert_eq!(
            Value::Object(tables(Kind::Source, keys)),
            json!({
                "source": {
                    "address": "db1:5432", "row-limit": 10, "at": "07:30", "numbers": null,
                    "sign-in": { "token": "secret:a" }, "members": ["a", "b"], "title": "{\"a\": 1}",
                },
                "schedule": { "at": "07:30" },
            })
        );
        for bad in ["address", "=x", "a..b=1", ""] {
            let told = assignment(bad).unwrap_err().to_string();
            assert!(told.contains("KEY=VALUE"), "{told}");
        }
    }

    #[test]
    fn a_later_key_takes_the_place_of_an_earlier_one() {
        let mut table = Map::new();
        put(&mut table, &["a".to_owned()], json!(1));
        put(&mut table, &["a".to_owned(), "b".to_owned()], json!(2));
        assert_eq!(Value::Object(table), json!({ "a": { "b": 2 } }));
    }
}
