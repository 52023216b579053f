use std::{
    io::IsTerminal,
    path::{Path, PathBuf},
};

use clap::Args;
use console::style;
use maple_lark_api::{
    Applied, Change, ChangeAction, CopyOrder, DefinitionFile, Files, Kind, Plan, ReportView, Words,
};

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, confirmed},
    words::words,
};

/// Show what a folder of definitions would change, then make it so
///
/// Reads every .toml file in the folder and below it, and every .ics file, which is a
/// calendar named like the file. All of them are applied or, if one is
/// not valid, none. On a terminal you are asked before anything is changed.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark apply definitions/\n  maple-lark apply definitions/ --check          only show the difference\n  maple-lark apply definitions/ --yes            in a script\n  maple-lark apply definitions/ --remove-others  make the service hold just these"
)]
pub struct Apply {
    /// The folder with the definitions
    folder: PathBuf,
    /// Only show the difference
    #[arg(long)]
    check: bool,
    /// Remove definitions that are not in the folder
    #[arg(long)]
    remove_others: bool,
    /// What is to be said of this change in the history of what it changes
    #[arg(long, short, value_name = "TEXT")]
    message: Option<String>,
    /// Do not ask
    #[arg(long, short)]
    yes: bool,
}

impl Apply {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let files = Files {
            files: read_folder(&self.folder)?,
            message: self.message,
            remove_others: self.remove_others,
        };
        let plan: Plan = client.post("/definitions/plan", &files).await?;
        if self.check || plan.changes.is_empty() {
            output::print(output, &plan, |plan| show(&plan.changes, plan.unchanged));
            return Ok(());
        }
        if output == Output::Table {
            show(&plan.changes, plan.unchanged);
        }
        if !self.yes {
            if !std::io::stdin().is_terminal() {
                return Err(Failure::Local(
                    "nothing was changed: there is no terminal to ask on; add --yes to apply this"
                        .to_owned(),
                ));
            }
            let removed = plan
                .changes
                .iter()
                .filter(|change| change.action == ChangeAction::Remove)
                .count();
            let warning = if removed > 0 {
                format!(" {removed} will be removed.")
            } else {
                String::new()
            };
            if !confirmed(&format!(
                "Apply these {} changes?{warning}",
                plan.changes.len()
            )) {
                return Err(Failure::Declined("nothing was changed"));
            }
        }
        let applied: Applied = client.post("/definitions/apply", &files).await?;
        output::print(output, &applied, |applied| {
            println!(
                "Applied: {} changed, {} as they were.",
                applied.changes.len(),
                applied.unchanged
            )
        });
        Ok(())
    }
}

/// Remove a definition
///
/// Says what goes before it asks. Runs and documents that were made stay; a source,
/// dashboard or calendar that something still uses is not removed.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark remove report ferry-operations-daily\n  maple-lark remove calendar holidays --yes     in a script"
)]
pub struct Remove {
    /// What it is
    #[arg(value_parser = words::<Kind>())]
    kind: Kind,
    /// Its name
    name: String,
    /// Do not ask
    #[arg(long, short)]
    yes: bool,
}

impl Remove {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let path = format!("/definitions/{}/{}", self.kind.word(), self.name);
        let file: DefinitionFile = client.get(&path).await?;
        if !self.yes {
            if !std::io::stdin().is_terminal() {
                return Err(Failure::Local(
                    "nothing was removed: there is no terminal to ask on; add --yes to remove it"
                        .to_owned(),
                ));
            }
            let schedule = match self.kind {
                Kind::Report => " with its schedule; its runs and documents stay",
                Kind::Sampler => " with all the answers that it has kept",
                _ => "",
            };
            if !confirmed(&format!(
                "Remove the {} \"{}\" ({}){schedule}?",
                self.kind.word(),
                self.name,
                file.file
            )) {
                return Err(Failure::Declined("nothing was removed"));
            }
        }
        let applied: Applied = client.delete_for(&path).await?;
        output::print(output, &applied, |_| {
            println!(
                "The {kind} \"{name}\" is removed. \"maple-lark history {kind} {name}\" lists what it was, and \"restore\" brings it back.",
                kind = self.kind.word(),
                name = self.name
            )
        });
        Ok(())
    }
}

/// Copy a report, or with --kind another definition, under another name
///
/// A report's copy has the original's definition and begins paused; "maple-lark resume" starts its
/// schedule. A name in a team's name space, such as "port.daily", gives the copy to the team.
#[derive(Args)]
#[command(
    after_help = "Example:\n  maple-lark copy ferry-operations-daily ferry-operations-night --title \"Ferry operations, night\""
)]
pub struct Copy {
    /// The name of what is copied
    original: String,
    /// The name of the copy
    name: String,
    /// What is copied
    #[arg(long, default_value = "report", value_parser = words::<Kind>())]
    kind: Kind,
    /// The title of the copy
    #[arg(long)]
    title: Option<String>,
}

impl Copy {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let order = CopyOrder {
            name: self.name,
            title: self.title,
        };
        if self.kind != Kind::Report {
            let file: DefinitionFile = client
                .post(
                    &format!("/definitions/{}/{}/copy", self.kind.word(), self.original),
                    &order,
                )
                .await?;
            output::print(output, &file, |file| {
                println!(
                    "The {} {} is there. Its file is {}.",
                    self.kind.word(),
                    order.name,
                    file.file
                )
            });
            return Ok(());
        }
        let view: ReportView = client
            .post(&format!("/reports/{}/copy", self.original), &order)
            .await?;
        output::print(output, &view, |view| {
            println!(
                "{} is there as {}, paused. Its file is {}.",
                view.title, view.name, view.file
            )
        });
        Ok(())
    }
}

pub fn show(changes: &[Change], unchanged: usize) {
    if changes.is_empty() {
        println!("Nothing to change: {unchanged} definitions are as they should be.");
        return;
    }
    for change in changes {
        println!(
            "{}  {} {}  {}",
            output::state(&change.action),
            change.kind.word(),
            style(&change.name).bold(),
            style(&change.file).dim()
        );
        if let Some(schedule) = &change.schedule {
            let next = if change.next.is_empty() {
                "it never runs again".to_owned()
            } else {
                format!("next {}", change.next.join(", "))
            };
            println!("    {schedule}; {next}");
        }
        if let Some(goes) = &change.lets_go {
            println!(
                "    {} {goes}",
                style("By its new terms, these go at once and for good:").bold()
            );
        }
        // A new definition is the file itself; only what alters is worth showing in full.
        if change.action == ChangeAction::Alter {
            output::difference(&change.diff);
        }
    }
    println!("{} to change, {unchanged} as they are.", changes.len());
}

fn read_folder(folder: &Path) -> Result<Vec<DefinitionFile>, Failure> {
    let unreadable = |path: &Path, error: std::io::Error| {
        Failure::Local(format!("{} cannot be read: {error}", path.display()))
    };
    if folder.is_file() {
        let words = format!(
            "{} is a file; give the folder that its definitions are in",
            folder.display()
        );
        return Err(Failure::Local(words));
    }
    let (mut folders, mut files) = (vec![folder.to_owned()], Vec::new());
    while let Some(current) = folders.pop() {
        for entry in std::fs::read_dir(&current).map_err(|error| unreadable(&current, error))? {
            let path = entry.map_err(|error| unreadable(&current, error))?.path();
            if path.is_dir() {
                folders.push(path);
            } else if path
                .extension()
                .is_some_and(|kind| kind == "toml" || kind == "ics")
            {
                let text =
                    std::fs::read_to_string(&path).map_err(|error| unreadable(&path, error))?;
                let file = path
                    .strip_prefix(folder)
                    .unwrap_or(&path)
                    .to_string_lossy()
                    .into_owned();
                files.push(DefinitionFile::new(file, text));
            }
        }
    }
    files.sort_by(|a, b| a.file.cmp(&b.file));
    if files.is_empty() {
        return Err(Failure::Local(format!(
            "there are no .toml or .ics files in {}",
            folder.display()
        )));
    }
    Ok(files)
}
