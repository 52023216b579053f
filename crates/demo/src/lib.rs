//! The demo scenario of Orrin Sound Ferries, with what it needs to run on one machine and
//! offline: a private PostgreSQL and a mail server that keeps what it is sent.
//!
//! The tests start the same parts.

pub mod chromium;
pub mod cluster;
pub mod mail_server;
pub mod scenario;

pub use cluster::Cluster;
pub use mail_server::MailServer;
