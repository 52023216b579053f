//! What stands around the rows that something is done to.

use maple_lark_time::{Window, window::Step};

use crate::{
    figures::{
        changes::{Earlier, Since},
        error::NoRows,
        rows::Figures,
    },
    status::Thresholds,
};

/// What an operation may ask for beside the rows.
pub struct Context<'a> {
    /// The window that the rows were asked for.
    pub window: &'a Window,
    /// The step of a resampling that names none.
    pub step: Step,
    /// The thresholds of a column.
    pub thresholds: &'a dyn Fn(&str) -> Thresholds,
    /// The answer of another query of the dashboard.
    pub other: &'a dyn Fn(&str) -> Result<Figures, NoRows>,
    /// The rows that these are compared with, with the same done to them so far.
    pub earlier: &'a dyn Fn(&Since) -> Result<Earlier, NoRows>,
}
