//! A calendar and the file that it comes from.

use std::ops::Deref;

use maple_lark_time::calendar::Calendar;

use crate::problem::Place;

/// A calendar as a definition: named by its file, which may change under the same name.
#[derive(Debug, Clone, PartialEq)]
pub struct CalendarFile {
    /// The file's name without its ending.
    pub name: String,
    /// The days in it.
    pub calendar: Calendar,
    /// SHA-256 of the file.
    pub sha256: String,
    /// Where it was read.
    pub place: Place,
}

impl CalendarFile {
    /// What the calendar calls itself, else its name.
    #[must_use]
    pub fn title(&self) -> &str {
        self.calendar.title.as_deref().unwrap_or(&self.name)
    }
}

impl Deref for CalendarFile {
    type Target = Calendar;

    fn deref(&self) -> &Calendar {
        &self.calendar
    }
}
