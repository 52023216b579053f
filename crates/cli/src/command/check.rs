use clap::Args;
use maple_lark_service::check::{Stands, check};

use crate::{
    command::condition::{count, of, print},
    failure::Failure,
    output::{self, Output},
};

/// Check that everything is ready for the service to start
///
/// Reads the configuration and checks what it names: the database with its account and tables, secret
/// files, the port, the mail server, folders, programs, fonts, the browser and the time-zone data. Nothing
/// is created, sent or changed, and the service may be running. The exit code is 1 if there is a
/// problem that stops the service or part of its work.
#[derive(Args)]
#[command(after_help = "Example:\n  maple-lark check --config /etc/maple-lark/maple-lark.toml")]
pub struct Check {
    /// The configuration file
    #[arg(long, value_name = "FILE", env = "MAPLE_LARK_CONFIG")]
    config: String,
}

impl Check {
    /// Answers whether the service can do its work like this.
    pub async fn run(self, output: Output) -> Result<bool, Failure> {
        let found = check(&self.config).await;
        let problems = of(&found, Stands::Problem);
        let warnings = of(&found, Stands::Warning);
        output::print(output, &found, |found| {
            print(found);
            println!();
            println!("{}", sentence(problems, warnings));
        });
        Ok(problems == 0)
    }
}

fn sentence(problems: usize, warnings: usize) -> String {
    match (problems, warnings) {
        (0, 0) => "The service can start.".to_owned(),
        (0, _) => format!(
            "The service can start, with {}.",
            count(warnings, "warning")
        ),
        (_, 0) => format!("Fix {} first.", count(problems, "problem")),
        _ => format!(
            "Fix {} first (and {}).",
            count(problems, "problem"),
            count(warnings, "warning")
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::sentence;

    #[test]
    fn the_end_says_what_to_do() {
        assert_eq!(sentence(0, 0), "The service can start.");
        assert_eq!(sentence(0, 2), "The service can start, with 2 warnings.");
        assert_eq!(sentence(1, 0), "Fix 1 problem first.");
        assert_eq!(sentence(2, 1), "Fix 2 problems first (and 1 warning).");
    }
}
