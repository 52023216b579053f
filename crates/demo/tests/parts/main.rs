//! The demo's own parts, on which the tests of everything else lean: what they promise is so.

mod directory_server;
mod live_page;
mod mail_server;
mod object_storage;
mod openid_provider;
mod real_mail_server;
mod receivers;
mod scenario;
mod snmp;
mod web_services;
