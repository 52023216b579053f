//! The demo's own parts, on which the tests of everything else lean: what they promise is so.

mod live_page;
mod mail_server;
mod receivers;
mod scenario;
mod web_services;
