//! What operations take and give: a table whose rows may stand for others.

use crate::table::Table;

/// A table with what its rows are, where some are not plain.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Figures {
    /// The rows, summary rows among them.
    pub table: Table,
    /// One for each row, or none at all where every row is plain.
    pub roles: Vec<Role>,
    /// What a reader should know of how they came about, a sentence or more each.
    pub notes: Vec<String>,
}

/// What a row is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// As its source gave it.
    Plain,
    /// The whole, or what is left after a breakdown.
    Total,
    /// A part of the whole that has parts of its own.
    Subtotal,
    /// All rows that are not listed, as one.
    Others,
}

impl From<Table> for Figures {
    fn from(table: Table) -> Self {
        Self {
            table,
            ..Self::default()
        }
    }
}

impl Figures {
    /// What the row of this number is; plain, if nothing else was said of it.
    #[must_use]
    pub fn role(&self, row: usize) -> Role {
        self.roles.get(row).copied().unwrap_or(Role::Plain)
    }
}
