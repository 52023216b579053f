//! One file for each command, or for a few that belong together.

pub mod agenda;
pub mod apply;
pub mod archive;
mod archive_walk;
pub mod ask;
mod asking;
pub mod audit;
pub mod backfill;
pub mod capture;
#[cfg(feature = "serve")]
pub mod check;
pub mod condition;
pub mod define;
pub mod deliver;
pub mod download;
pub mod explain;
pub mod export;
mod hand_over;
pub mod history;
#[cfg(feature = "serve")]
pub mod init;
pub mod keeping;
pub mod keys;
pub mod list;
pub mod publish;
pub mod run;
pub mod second_factor;
pub mod secret;
#[cfg(feature = "serve")]
pub mod serve;
pub mod sessions;
pub mod sign_in;
pub mod source;
pub mod teams;
pub mod template;
pub mod tokens;
pub mod users;
