//! The whole product as its users meet it: real PostgreSQL, a real SMTP receiver, the
//! service in its own process, driven through its command line, its API and its console.

#![allow(
    clippy::too_many_lines,
    reason = "a test tells one story from its beginning to its end"
)]

mod a_year;
mod access;
mod api;
mod bad_input;
mod base_path;
mod channels;
mod chaos;
mod checking;
mod composing;
mod console;
mod delivering;
mod dialogs;
mod documents;
mod engine;
mod first_configuration;
mod first_run;
mod forms;
mod keeping;
mod killed;
mod live_pages;
mod mail_server;
mod other_machines;
mod over_time;
mod passkeys;
mod place;
mod previewing;
mod programs;
mod questions;
mod restored;
mod schedule;
mod sending;
mod shared_work;
mod slow_mail_servers;
mod storage;
mod telemetry;
mod templates;
mod tending;
mod tls;
mod upgrading;
mod users;
mod waiting;
