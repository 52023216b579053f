//! From frozen data to a composed document: snapshots, composition and conditions of sending.
//!
//! Nothing here reads a clock, a file, a network or a database, and nothing knows how a
//! document is drawn or delivered.

#![warn(missing_docs)]

pub mod capture;
pub mod chart;
pub mod compose;
pub mod document;
pub mod markdown;
pub mod send_condition;
pub mod snapshot;

pub use snapshot::Snapshot;
