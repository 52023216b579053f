//! What is worked out of the rows that a source gave: operations on tables, one after
//! another, as a dashboard's author lists them.
//!
//! Every operation takes a table and gives a table. Missing values stay missing: they are
//! never counted as zero. Sums of whole numbers and decimals are exact, sums of binary
//! floating point are compensated.

mod amount;
pub mod availability;
mod changes;
mod columns;
mod compare;
mod compute;
mod context;
mod error;
mod forecast;
mod group;
mod join;
mod operation;
mod order;
mod over_time;
mod rows;
mod stand_out;
mod statistics;

pub use availability::Availability;
pub use changes::{Changes, Earlier, Since};
pub use compare::{Compare, direction};
pub use compute::Computation;
pub use context::Context;
pub use error::{FigureError, NoRows};
pub use forecast::{Forecast, ForecastRows, Method};
pub use operation::{Operation, apply_all};
pub use order::{Order, Predicate};
pub use rows::{Figures, Role};
pub use stand_out::StandOut;

#[cfg(test)]
mod testing;
#[cfg(test)]
mod tests;
