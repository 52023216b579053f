//! The demo scenario of Orrin Sound Ferries, with what it needs to run on one machine and
//! offline: a private PostgreSQL, a mail server that keeps what it is sent, and stand-ins for
//! outside services that answer by HTTP.
//!
//! The tests start the same parts.

pub mod chromium;
pub mod cluster;
pub mod directory_server;
pub mod live_page;
pub mod mail_server;
pub mod notification_receiver;
pub mod object_storage;
pub mod openid_provider;
mod pages;
mod port;
mod real_mail_server;
pub mod receivers;
pub mod scenario;
pub mod snmp_agent;
pub mod ssh_server;
mod stand_in;
mod test_cluster;
pub mod web_services;

pub use cluster::Cluster;
pub use directory_server::DirectoryServer;
pub use mail_server::MailServer;
pub use notification_receiver::NotificationReceiver;
pub use object_storage::ObjectStorage;
pub use openid_provider::OpenIdProvider;
pub use port::free_port;
pub use real_mail_server::RealMailServer;
pub use receivers::{Received, WebReceiver};
pub use snmp_agent::SnmpAgent;
pub use ssh_server::SshServer;
pub use test_cluster::TestCluster;
pub use web_services::WebServices;
