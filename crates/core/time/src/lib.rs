//! Time as reports need it: zones, spans, windows, schedules and calendars.
//!
//! Nothing here reads a clock, a file, a network or a database. Every function's answer follows
//! from its arguments, so a late, repeated or backfilled run has the window it would have had.

#![warn(missing_docs)]

pub mod calendar;
pub mod english;
pub mod named_days;
pub mod nearest;
pub mod schedule;
pub mod span;
#[cfg(test)]
mod testing;
pub mod window;
pub mod zone;

pub use window::{Window, WindowRule};
pub use zone::{DateForm, Zone};
