use clap::Args;
use maple_lark_api::{Condition as Found, Finding, Stands};

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, table},
};

/// See whether everything that the running service needs is as it should be
///
/// The service looks at its database, mail server, directory, folders and the room in them, programs, fonts,
/// browser and rules of time zones. Nothing is sent or changed. The exit code is 1 if there is a problem.
/// Before a start, "maple-lark check" looks at the same.
#[derive(Args)]
#[command(after_help = "Example:\n  maple-lark condition")]
pub struct Condition;

impl Condition {
    /// Answers whether there is no problem.
    pub async fn run(self, client: &Client, output: Output) -> Result<bool, Failure> {
        let found: Found = client.get("/condition").await?;
        let problems = of(&found.findings, Stands::Problem);
        let warnings = of(&found.findings, Stands::Warning);
        output::print(output, &found, |found| {
            print(&found.findings);
            println!("\n{}", sentence(problems, warnings));
        });
        Ok(problems == 0)
    }
}

/// How many things stand like this.
pub fn of(found: &[Finding], stands: Stands) -> usize {
    found.iter().filter(|one| one.stands == stands).count()
}

/// What was found, each with what to do about it.
pub fn print(found: &[Finding]) {
    table(&["", "WHAT", "FOUND"], found.iter().map(row).collect(), "");
}

fn row(finding: &Finding) -> Vec<String> {
    let mark = match finding.stands {
        Stands::Ok => console::style("● ok").green(),
        Stands::Warning => console::style("▲ warning").yellow(),
        Stands::Problem => console::style("◆ problem").red(),
    };
    let remedy = finding.remedy.as_ref();
    let remedy = remedy
        .map(|remedy| format!("\n→ {remedy}"))
        .unwrap_or_default();
    vec![
        mark.to_string(),
        finding.what.clone(),
        format!("{}{remedy}", finding.words),
    ]
}

/// A number of things in words.
pub fn count(number: usize, one: &str) -> String {
    match number {
        1 => format!("1 {one}"),
        more => format!("{more} {one}s"),
    }
}

fn sentence(problems: usize, warnings: usize) -> String {
    match (problems, warnings) {
        (0, 0) => "Everything is as it should be.".to_owned(),
        (0, _) => format!("The service works, with {}.", count(warnings, "warning")),
        (_, 0) => format!("Fix {}.", count(problems, "problem")),
        _ => format!(
            "Fix {} (and {}).",
            count(problems, "problem"),
            count(warnings, "warning")
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::sentence;

    #[test]
    fn the_end_says_how_it_stands() {
        assert_eq!(sentence(0, 0), "Everything is as it should be.");
        assert_eq!(sentence(0, 1), "The service works, with 1 warning.");
        assert_eq!(sentence(2, 1), "Fix 2 problems (and 1 warning).");
    }
}
