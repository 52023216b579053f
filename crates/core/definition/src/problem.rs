//! What is wrong in a definition file, and where.

use std::fmt;

use serde::{Deserialize, Serialize};

/// One thing wrong in a definition file. Lines and columns count from 1.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Problem {
    /// The file.
    pub file: String,
    /// The line.
    pub line: usize,
    /// The column, in characters.
    pub column: usize,
    /// The dotted path of the key, such as `section[2].block[1].query`; empty where the
    /// file as a whole is meant.
    pub key: String,
    /// What is wrong, and how to mend it.
    pub message: String,
    /// The key that is not there and must be, if that is what is wrong.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub missing: Option<Box<MissingKey>>,
}

/// A key that must be there and is not.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MissingKey {
    /// Its dotted path, such as `source.address`.
    pub key: String,
    /// The words that it may be; empty where it may be others.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub one_of: Vec<String>,
}

impl Problem {
    /// Something wrong with a file as a whole.
    #[must_use]
    pub fn of_a_file(file: &str, message: &str) -> Self {
        Self {
            file: file.to_owned(),
            line: 1,
            column: 1,
            key: String::new(),
            message: message.to_owned(),
            missing: None,
        }
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}:{}: ", self.file, self.line, self.column)?;
        if !self.key.is_empty() {
            write!(f, "{}: ", self.key)?;
        }
        f.write_str(&self.message)
    }
}

/// A value with the place it was read from, for problems found later.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Placed<T> {
    /// The value.
    pub value: T,
    /// Where it was read.
    #[serde(skip)]
    pub place: Place,
}

/// A place in a definition file. Lines and columns count from 1.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Place {
    /// The file.
    pub file: String,
    /// The line.
    pub line: usize,
    /// The column, in characters.
    pub column: usize,
    /// The key that stands there.
    pub key: String,
}

impl Place {
    /// Something wrong at this place.
    pub fn problem(&self, message: impl ToString) -> Problem {
        Problem {
            file: self.file.clone(),
            line: self.line,
            column: self.column,
            key: self.key.clone(),
            message: message.to_string(),
            missing: None,
        }
    }
}
