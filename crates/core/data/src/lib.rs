//! Tables, series, units, states and what is worked out of rows.
//!
//! Knows no definitions, no documents, no clock, no file and no network.

#![warn(missing_docs)]

pub mod digest;
pub mod figures;
pub mod natural;
pub mod number_format;
pub mod packed;
pub mod series;
pub mod status;
pub mod stop;
pub mod table;
pub mod unit;

pub use packed::PackedTable;
pub use table::{CellRef, Column, ColumnKind, Table, Value};
pub use unit::Unit;
