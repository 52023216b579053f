//! Structured logs on standard error. Lines about a run carry its id.

use tracing_subscriber::{EnvFilter, fmt};

use crate::Config;

pub fn start(config: &Config) {
    let filter = EnvFilter::try_from_env("MAPLE_LARK_LOG")
        .unwrap_or_else(|_| EnvFilter::new("warn,maple_lark_service=info"));
    let builder = fmt()
        .with_env_filter(filter)
        .with_writer(std::io::stderr)
        .with_target(false);
    // A second start in one process (tests) keeps the first subscriber.
    let _ = if config.log_json {
        builder.json().flatten_event(true).try_init()
    } else {
        builder.with_ansi(false).try_init()
    };
}
