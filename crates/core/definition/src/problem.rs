//! What is wrong in a definition file, and where.

use std::fmt;

use serde::{Deserialize, Serialize};

/// One thing wrong in a definition file. Lines and columns count from 1.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Problem {
    pub file: String,
    pub line: usize,
    pub column: usize,
    /// The dotted path of the key, such as `section[2].block[1].query`; empty where the
    /// file as a whole is meant.
    pub key: String,
    pub message: String,
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
    pub value: T,
    #[serde(skip)]
    pub place: Place,
}

#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Place {
    pub file: String,
    pub line: usize,
    pub column: usize,
    pub key: String,
}

impl Place {
    pub fn problem(&self, message: impl ToString) -> Problem {
        Problem {
            file: self.file.clone(),
            line: self.line,
            column: self.column,
            key: self.key.clone(),
            message: message.to_string(),
        }
    }
}
