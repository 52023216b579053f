use clap::Args;
use maple_lark_api::Work;
use maple_lark_service::{Config, memory, serve};
use maple_lark_time::span::Span;

use crate::{failure::Failure, words::words};

/// Run the service: API, engine and console
///
/// Logs to standard error; MAPLE_LARK_LOG sets how much (for instance "info" or
/// "maple_lark_service=debug"). Stops on Ctrl-C or SIGTERM after finishing what is in hand.
#[derive(Args)]
#[command(
    after_help = "Example of a configuration:\n  listen = \"127.0.0.1:8480\"\n  database = \"file:/etc/maple-lark/database-url\"\n  definitions-may-use = [\"env:OPS_*\"]     # what sources may refer to\n  sources-may-read = [\"/srv/inventory\"]    # folders of sources of kind files\n  [mail]\n  host = \"mail.example\"\n  port = 587\n  tls = \"starttls\"\n  user = \"reports\"\n  password = \"file:/etc/maple-lark/mail-password\"\n  from = \"Reports <reports@example.org>\""
)]
pub struct Serve {
    /// The configuration file
    #[arg(long, value_name = "FILE", env = "MAPLE_LARK_CONFIG")]
    config: String,
    /// How long a database that does not answer yet, or whose tables are in use, is waited for, such as PT1M
    #[arg(long, value_name = "DURATION", default_value = "PT1M")]
    wait: Span,
    /// The parts of the work that this process takes, with commas; all if nothing is said
    ///
    /// Processes on one database share it: each part must be taken by at least one of them. Without "api" only
    /// /health, /ready and /metrics are answered.
    #[arg(long, value_name = "PARTS", env = "MAPLE_LARK_WORK", value_delimiter = ',', value_parser = words::<Work>())]
    work: Vec<Work>,
}

impl Serve {
    pub async fn run(self) -> Result<(), Failure> {
        memory::give_back_at_once();
        let mut config =
            Config::read(&self.config).map_err(maple_lark_service::ServeError::from)?;
        let wait = self.wait.elapsed().and_then(|wait| wait.to_std().ok());
        config.wait_for_database = wait.ok_or_else(|| {
            Failure::Local("--wait is made of hours, minutes and seconds, such as PT1M".to_owned())
        })?;
        if !self.work.is_empty() {
            config.work = self.work.into_iter().collect();
        }
        serve(config).await?;
        // What is left is computing for runs that have been released: nobody waits for it.
        std::process::exit(0)
    }
}
