//! All of Maple Lark's computation: windows, schedules, tables, units, definitions,
//! snapshots and the composition of documents.
//!
//! Nothing here reads a clock, a file, a network or a database, and nothing knows how a
//! document is drawn or delivered. Every function's answer follows from its arguments.

pub mod calendar;
pub mod chart;
pub mod compose;
pub mod definition;
pub mod document;
pub mod figures;
pub mod markdown;
pub mod message;
pub mod nearest;
pub mod open_metrics;
pub mod packed;
pub mod placeholder;
pub mod query_text;
pub mod quiet;
pub mod schedule;
pub mod series;
pub mod snapshot;
pub mod span;
pub mod status;
pub mod table;
pub mod unit;
pub mod window;
pub mod writing;
pub mod zone;

pub use packed::PackedTable;
pub use snapshot::Snapshot;
pub use table::{Column, ColumnKind, Table, Value};
pub use unit::Unit;
pub use window::{Window, WindowRule};
pub use zone::Zone;
