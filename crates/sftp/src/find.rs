//! Finds files by a pattern, in no more folders than have to be read.

use std::collections::BTreeSet;

use glob::{MatchOptions, Pattern};

use crate::{Connection, Entry, SftpError};

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
        ".." => Err(refused(
            "a pattern must not lead out of the folder".to_owned(),
        )),
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

/// A search that is under way.
struct Search<'a> {
    connection: &'a Connection,
    folder: &'a str,
    parts: Vec<Part>,
    found: BTreeSet<String>,
    looked_into: usize,
    /// Folders from there, and which part of the pattern is next.
    open: Vec<(String, usize)>,
}

pub async fn find(
    connection: &Connection,
    folder: &str,
    pattern: &str,
) -> Result<Vec<String>, SftpError> {
    let mut search = Search {
        connection,
        folder,
        parts: parts(pattern)?,
        found: BTreeSet::new(),
        looked_into: 0,
        open: vec![(String::new(), 0)],
    };
    while let Some((at, place)) = search.open.pop() {
        search.look(&at, place).await?;
        if search.found.len() > MOST_FILES || search.looked_into > MOST_FOLDERS {
            return Err(SftpError::Refused {
                path: pattern.to_owned(),
                words: format!(
                    "finds more than {MOST_FILES} files, or looks into more than {MOST_FOLDERS} folders; narrow it"
                ),
            });
        }
    }
    Ok(search.found.into_iter().collect())
}

impl Search<'_> {
    fn is_last(&self, place: usize) -> bool {
        place + 1 == self.parts.len()
    }

    /// Looks for a part of the pattern in a folder.
    async fn look(&mut self, at: &str, place: usize) -> Result<(), SftpError> {
        match self.parts.get(place) {
            None => return Ok(()),
            Some(Part::Name(name)) => {
                let path = joined(at, name);
                if !self.is_last(place) {
                    self.open.push((path, place + 1));
                } else if self.connection.is_file(&joined(self.folder, &path)).await? {
                    self.found.insert(path);
                }
                return Ok(());
            }
            Some(Part::Folders) => self.open.push((at.to_owned(), place + 1)),
            Some(Part::Names(_)) => {}
        }
        self.looked_into += 1;
        let inside = match at {
            "" => self.folder.to_owned(),
            at => joined(self.folder, at),
        };
        match self.connection.entries(&inside).await? {
            Some(entries) => {
                for entry in entries {
                    self.meet(at, place, &entry);
                }
                Ok(())
            }
            None if at.is_empty() => Err(SftpError::Refused {
                path: self.folder.to_owned(),
                words: "there is no such folder".to_owned(),
            }),
            None => Ok(()),
        }
    }

    /// What is in a folder may be a file that is looked for, or a folder to look into.
    fn meet(&mut self, at: &str, place: usize, entry: &Entry) {
        let path = joined(at, &entry.name);
        match &self.parts[place] {
            Part::Names(names) if names.matches_with(&entry.name, NAMES) => {
                if !self.is_last(place) {
                    if entry.is_folder {
                        self.open.push((path, place + 1));
                    }
                } else if entry.is_file {
                    self.found.insert(path);
                }
            }
            Part::Folders
                if entry.is_folder
                    && !entry.name.starts_with('.')
                    && path.matches('/').count() < DEEPEST =>
            {
                self.open.push((path, place));
            }
            _ => {}
        }
    }
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
