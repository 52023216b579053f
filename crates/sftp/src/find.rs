//! Finds files by a pattern, in no more folders than have to be read.

use std::collections::BTreeSet;

use glob::{MatchOptions, Pattern};

use crate::{Connection, SftpError};

/// How many files a pattern may find.
const MOST_FILES: usize = 10_000;
/// How many folders are looked into for that.
const MOST_FOLDERS: usize = 10_000;
/// How deep a pattern with `**` leads: links may lead in a circle.
const DEEPEST: usize = 32;

const NAMES: MatchOptions = MatchOptions {
    require_literal_leading_dot: true,
    require_literal_separator: true,
    case_sensitive: true,
};

/// One part of a pattern.
#[derive(Debug)]
enum Part {
    /// A name.
    Name(String),
    Names(Pattern),
    /// `**`: any folders, or none.
    Folders,
}

/// The parts of a pattern; one that ends with `**` finds all files below.
fn parts(pattern: &str) -> Result<Vec<Part>, SftpError> {
    let refused = |words: String| SftpError::Refused {
        path: pattern.to_owned(),
        words,
    };
    let part = |text: &str| match text {
        ".." => Err(refused("a pattern must not lead out of the folder".to_owned())),
        "**" => Ok(Part::Folders),
        text if text.contains(['*', '?', '[']) => Pattern::new(text)
            .map(Part::Names)
            .map_err(|error| refused(format!("is not a pattern: {error}"))),
        text => Ok(Part::Name(text.to_owned())),
    };
    let written = pattern.split('/').filter(|text| !["", "."].contains(text));
    let mut parts: Vec<Part> = written.map(part).collect::<Result<_, _>>()?;
    if matches!(parts.last(), Some(Part::Folders)) {
        parts.extend(Pattern::new("*").map(Part::Names));
    }
    Ok(parts)
}

fn joined(folder: &str, name: &str) -> String {
    if folder.is_empty() {
        name.to_owned()
    } else {
        format!("{}/{name}", folder.trim_end_matches('/'))
    }
}

pub async fn find(
    connection: &Connection,
    folder: &str,
    pattern: &str,
) -> Result<Vec<String>, SftpError> {
    let parts = parts(pattern)?;
    let (mut found, mut looked_into) = (BTreeSet::new(), 0);
    // Folders from there, and which part of the pattern is next.
    let mut open = vec![(String::new(), 0)];
    while let Some((at, place)) = open.pop() {
        let Some(part) = parts.get(place) else {
            continue;
        };
        let is_last = place + 1 == parts.len();
        if let Part::Name(name) = part {
            let path = joined(&at, name);
            if !is_last {
                open.push((path, place + 1));
            } else if connection.is_file(&joined(folder, &path)).await? {
                found.insert(path);
            }
            continue;
        }
        looked_into += 1;
        let inside = if at.is_empty() {
            folder.to_owned()
        } else {
            joined(folder, &at)
        };
        let Some(entries) = connection.entries(&inside).await? else {
            if at.is_empty() {
                return Err(SftpError::Refused {
                    path: folder.to_owned(),
                    words: "there is no such folder".to_owned(),
                });
            }
            continue;
        };
        if matches!(part, Part::Folders) {
            open.push((at.clone(), place + 1));
        }
        for entry in entries {
            let path = joined(&at, &entry.name);
            match part {
                Part::Names(names) if names.matches_with(&entry.name, NAMES) => {
                    if is_last && entry.is_file {
                        found.insert(path);
                    } else if !is_last && entry.is_folder {
                        open.push((path, place + 1));
                    }
                }
                Part::Folders
                    if entry.is_folder
                        && !entry.name.starts_with('.')
                        && path.matches('/').count() < DEEPEST =>
                {
                    open.push((path, place));
                }
                _ => {}
            }
        }
        if found.len() > MOST_FILES || looked_into > MOST_FOLDERS {
            return Err(SftpError::Refused {
                path: pattern.to_owned(),
                words: format!(
                    "finds more than {MOST_FILES} files, or looks into more than {MOST_FOLDERS} folders; narrow it"
                ),
            });
        }
    }
    Ok(found.into_iter().collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pattern_is_read_part_by_part() {
        let shape = |pattern: &str| {
            let parts = parts(pattern).unwrap();
            let signs = parts.iter().map(|part| match part {
                Part::Name(_) => 'n',
                Part::Names(_) => 'p',
                Part::Folders => 'f',
            });
            signs.collect::<String>()
        };
        assert_eq!(shape("2026/load.csv"), "nn");
        assert_eq!(shape("./2026//h*.csv"), "np");
        assert_eq!(shape("**/a.csv"), "fn");
        assert_eq!(shape("in/**"), "nfp");
        let out = parts("in/../../etc/*").unwrap_err();
        assert!(out.to_string().contains("lead out"), "{out}");
        let none = parts("a[.csv").unwrap_err();
        assert!(none.to_string().contains("not a pattern"), "{none}");
    }

    #[test]
    fn paths_are_joined_with_one_slash() {
        assert_eq!(joined("", "a"), "a");
        assert_eq!(joined("/srv/", "a"), "/srv/a");
        assert_eq!(joined("/", "a"), "/a");
    }
}
