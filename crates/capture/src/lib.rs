//! Captures live pages as they look, in Chromium, driven over its own debugging protocol.
//!
//! A capture has a browser context of its own, reaches the network only by way of addresses that
//! were looked at, and is held to limits of time, memory and size. This crate knows pages; it
//! does not know reports, settings or where a capture goes.

mod browser;
mod fresh;
mod gate;
mod order;
mod pack;
mod page;
mod profile;
mod running;
mod steps;
mod tab;
mod watch;

pub use browser::{Browser, PROGRAMS, Settings};
pub use gate::{Gate, Passage};
pub use order::{Act, Captured, Failed, Kept, Order, Outline, Part, Problem, StepTime, Typed};
