use std::process::ExitCode;

use clap::Args;
use maple_lark_api::SourceTest;

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, outcome},
};

/// Sign in at a source and say what is there, or why it refuses
#[derive(Args)]
pub struct Test {
    /// The name of the source
    source: String,
}

impl Test {
    pub async fn run(self, client: &Client, output: Output) -> Result<ExitCode, Failure> {
        let test: SourceTest = client
            .post(
                &format!("/sources/{}/test", self.source),
                &serde_json::json!({}),
            )
            .await?;
        output::print(output, &test, |test| {
            println!(
                "{}  {} ({} ms)",
                outcome(test.works),
                test.detail,
                test.milliseconds
            );
            if let Some(warning) = &test.warning {
                println!("{}  {warning}", console::style("▲ note").yellow());
            }
        });
        Ok(if test.works {
            ExitCode::SUCCESS
        } else {
            ExitCode::FAILURE
        })
    }
}
