use chrono::{DateTime, Utc};
use clap::Args;
use maple_lark_api::{Backfill as Answer, BackfillOrder, RunView};

use crate::{
    client::Client,
    failure::Failure,
    instants::instant as instant_of,
    output::{self, Output, instant},
};

/// Produce the runs of a past range of scheduled instants
///
/// Makes one run for each instant at which the report's schedule has it run, each with the
/// window that it had then. They are worked on one after another and mailed to nobody
/// unless you ask for it.
#[derive(Args)]
#[command(
    after_help = "Example:\n  maple-lark backfill ferry-operations-daily --from 2026-10-01T00:00:00Z --to 2026-11-01T00:00:00Z --check"
)]
pub struct Backfill {
    /// The name of the report
    report: String,
    /// The first instant that counts (RFC 3339)
    #[arg(long, value_name = "INSTANT", value_parser = instant_of)]
    from: DateTime<Utc>,
    /// The first instant that does not count any more (RFC 3339)
    #[arg(long, value_name = "INSTANT", value_parser = instant_of)]
    to: DateTime<Utc>,
    /// Send the documents to the audiences as well
    #[arg(long)]
    deliver: bool,
    /// Only say which instants they are
    #[arg(long)]
    check: bool,
}

impl Backfill {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let order = BackfillOrder {
            from: self.from,
            to: self.to,
            deliver: self.deliver,
            check: self.check,
        };
        let answer: Answer = client
            .post(&format!("/reports/{}/backfill", self.report), &order)
            .await?;
        output::print(output, &answer, |answer| {
            for (index, at) in answer.instants.iter().enumerate() {
                println!(
                    "{}  {}",
                    instant(Some(*at)),
                    answer
                        .runs
                        .get(index)
                        .map(ToString::to_string)
                        .unwrap_or_default()
                );
            }
            let count = answer.instants.len();
            let runs = if count == 1 { "run" } else { "runs" };
            match (self.check, count) {
                (true, _) => println!("{count} {runs} would be made."),
                (false, 0) => println!("No instant of the schedule lies there; nothing was made."),
                (false, _) => println!("{count} {runs} begun; \"maple-lark runs\" shows them."),
            }
        });
        Ok(())
    }
}

/// Cancel a run that is not settled
#[derive(Args)]
pub struct Cancel {
    /// The run's id
    run: uuid::Uuid,
}

impl Cancel {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let view: RunView = client
            .post(
                &format!("/runs/{}/cancel", self.run),
                &serde_json::json!({}),
            )
            .await?;
        output::print(output, &view, |view| {
            println!(
                "{} for {} is cancelled.",
                view.run.title, view.run.window.label
            )
        });
        Ok(())
    }
}
