//! What an order's files must be before they are read: as many, named, and based on what is stored.

use std::collections::{HashMap, HashSet};

use maple_lark_api::Files;
use maple_lark_data::digest::sha256;
use maple_lark_definition::{Kind, Problem as FileProblem};
use maple_lark_store::definitions::StoredDefinition;

use crate::api::{difference::changed_meanwhile, problem::Problem};

/// Files of one order.
const MOST_FILES: usize = 10_000;
/// Characters of a file's path.
const LONGEST_PATH: usize = 200;
/// Characters of what is said of a change.
const LONGEST_MESSAGE: usize = 1_000;

/// A file's path leads from its folder to a file in it, on every system that it is exported to.
pub fn check_names(files: &Files, stored: &[StoredDefinition]) -> Result<(), Vec<FileProblem>> {
    if files.files.len() > MOST_FILES {
        let words = format!(
            "{} files; at most {MOST_FILES} may be in one order",
            files.files.len()
        );
        return Err(vec![FileProblem::of_a_file("", &words)]);
    }
    let message = files.message.as_deref().unwrap_or_default();
    if message.chars().count() > LONGEST_MESSAGE {
        let words = format!("the message of a change has at most {LONGEST_MESSAGE} characters");
        return Err(vec![FileProblem::of_a_file("", &words)]);
    }
    let is_plain = |path: &str| {
        path.chars().count() <= LONGEST_PATH
            && path.split('/').all(|part| {
                !part.is_empty()
                    && !part.starts_with('.')
                    && !part.contains(|c: char| c.is_control() || r#"\:*?"<>|"#.contains(c))
            })
    };
    let ends = |path: &str| path.ends_with(".toml") || path.ends_with(".ics");
    // What is stored under such a name can still be moved or removed.
    let known: HashSet<&str> = stored.iter().map(|one| one.file.as_str()).collect();
    let problems: Vec<FileProblem> = files
        .files
        .iter()
        .filter(|file| !known.contains(file.file.as_str()))
        .filter(|file| !is_plain(&file.file) || !ends(&file.file))
        .map(|file| {
            let shown: String = file.file.chars().take(80).collect();
            FileProblem::of_a_file(&shown, "the path must be relative and plain, such as \"reports/daily.toml\": no part may be empty, begin with a dot or contain \\ : * ? \" < > |; it ends in .toml or .ics and has at most 200 characters")
        })
        .take(100)
        .collect();
    if problems.is_empty() {
        Ok(())
    } else {
        Err(problems)
    }
}

/// Refuses what was made from another text than the one that is stored now.
pub fn is_based_on(files: &Files, stored: &[StoredDefinition]) -> Result<(), Problem> {
    // Each name space has files of its own, so that several definitions can be in files of one path.
    let mut by_file: HashMap<&str, Vec<&StoredDefinition>> = HashMap::new();
    for one in stored {
        by_file.entry(&one.file).or_default().push(one);
    }
    for file in &files.files {
        let Some(based_on) = file.based_on.as_deref().filter(|one| !one.is_empty()) else {
            continue;
        };
        let now = by_file.get(file.file.as_str()).ok_or_else(|| {
            let words = format!(
                "{} was removed or moved to another file since you read it; nothing was saved",
                file.file
            );
            Problem::new(412, "Changed meanwhile", words)
        })?;
        if now
            .iter()
            .all(|one| sha256(one.text.as_bytes()) != based_on)
        {
            return Err(changed_meanwhile(now[0], Some(&file.text)));
        }
    }
    Ok(())
}

/// Refuses a name that something of the kind has.
pub fn is_free(stored: &[StoredDefinition], kind: Kind, name: &str) -> Result<(), Problem> {
    let taken = stored
        .iter()
        .any(|one| one.kind == kind.name() && one.name == name);
    if !taken {
        return Ok(());
    }
    Err(Problem::new(
        409,
        "Name taken",
        format!(
            "there is a {} \"{name}\" already; choose another name",
            kind.name()
        ),
    ))
}
