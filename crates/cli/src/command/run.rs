use std::{io::IsTerminal, process::ExitCode, time::Duration};

use chrono::{DateTime, Utc};
use clap::Args;
use console::style;
use indicatif::{ProgressBar, ProgressStyle};
use maple_lark_api::{
    DeliveryState, RunDefinition, RunLog, RunOrder, RunState, RunView, StepView, Words,
    readable_size,
};

use crate::{
    client::Client,
    failure::Failure,
    instants::instant as instant_of,
    output::{self, Output, content, instant, state, table},
};

/// Run a report now and follow it
///
/// The schedule is not disturbed. The window follows from --at, so any past window can be
/// made again. Ends with code 1 if the run did not end well.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark run ferry-operations-daily\n  maple-lark run ferry-operations-daily --at 2026-10-26T07:30:00Z --no-delivery"
)]
pub struct Run {
    /// The name of the report
    report: String,
    /// The instant that the window follows from (RFC 3339); now if left out
    #[arg(long, value_name = "INSTANT", value_parser = instant_of)]
    at: Option<DateTime<Utc>>,
    /// Make the documents, but send them to nobody
    #[arg(long)]
    no_delivery: bool,
    /// Do not wait for the end
    #[arg(long)]
    detach: bool,
}

impl Run {
    pub async fn run(self, client: &Client, output: Output) -> Result<ExitCode, Failure> {
        let order = RunOrder {
            scheduled_for: self.at,
            deliver: !self.no_delivery,
            to: Vec::new(),
            audience: None,
            note: None,
        };
        follow(client, output, &self.report, &order, self.detach).await
    }
}

/// As shells count it: 128 and the number of the signal.
const INTERRUPTED: u8 = 130;

/// Asks for a run and follows it until nothing more happens by itself.
pub async fn follow(
    client: &Client,
    output: Output,
    report: &str,
    order: &RunOrder,
    detach: bool,
) -> Result<ExitCode, Failure> {
    let begun: RunView = client
        .post(&format!("/reports/{report}/runs"), order)
        .await?;
    if detach {
        output::print(output, &begun, |begun| println!("{}", begun.run.id));
        return Ok(ExitCode::SUCCESS);
    }
    let id = begun.run.id;
    let mut follower = Follower::new(&begun);
    let mut last = begun;
    let goes_on =
        |view: &RunView| !view.run.settled && view.run.state != RunState::AwaitingApproval;
    while goes_on(&last) {
        let path = format!("/runs/{id}/events");
        let following = client.events(&path, |view: RunView| {
            follower.show(&view);
            last = view;
            goes_on(&last)
        });
        tokio::select! {
            followed = following => followed?,
            _ = tokio::signal::ctrl_c() => {
                follower.end();
                eprintln!("The run continues. See it with \"maple-lark show {id}\"; cancel it with \"maple-lark cancel {id}\".");
                return Ok(ExitCode::from(INTERRUPTED));
            }
        }
    }
    follower.end();
    output::print(output, &last, show);
    Ok(
        if matches!(
            last.run.state,
            RunState::Delivered
                | RunState::Completed
                | RunState::Quiet
                | RunState::AwaitingApproval
        ) {
            ExitCode::SUCCESS
        } else {
            ExitCode::FAILURE
        },
    )
}

/// Shows progress on standard error: a bar on a terminal, lines elsewhere.
struct Follower {
    bar: Option<ProgressBar>,
    told: Vec<StepView>,
}

impl Follower {
    fn new(view: &RunView) -> Self {
        let bar = std::io::stderr().is_terminal().then(|| {
            let bar = ProgressBar::new(100);
            // The template is fixed and valid.
            if let Ok(style) =
                ProgressStyle::with_template("{spinner:.cyan} {bar:32.cyan/dim} {msg}")
            {
                bar.set_style(style);
            }
            bar.enable_steady_tick(Duration::from_millis(100));
            bar
        });
        let follower = Self {
            bar,
            told: Vec::new(),
        };
        follower.tell(&format!("Run {}", view.run.id));
        follower.tell(&format!(
            "{} {}",
            style(&view.run.title).for_stderr().bold(),
            style(&view.run.window.label).for_stderr().dim()
        ));
        follower
    }

    fn tell(&self, line: &str) {
        match &self.bar {
            Some(bar) => bar.println(line),
            None => eprintln!("{line}"),
        }
    }

    fn show(&mut self, view: &RunView) {
        for step in &view.steps {
            let known = self
                .told
                .iter()
                .position(|told| told.kind == step.kind && told.subject == step.subject);
            if step.ended_at.is_some()
                && known.is_none_or(|known| self.told[known].state != step.state)
            {
                let took = step
                    .ended_at
                    .map(|end| (end - step.started_at).num_milliseconds())
                    .unwrap_or(0);
                self.tell(&format!(
                    "  {}  {} {}  {}",
                    state(&step.state),
                    step.kind,
                    step.subject,
                    style(format!(
                        "{}, {took} ms",
                        step.detail.as_deref().unwrap_or("–")
                    ))
                    .for_stderr()
                    .dim()
                ));
                self.told
                    .retain(|told| told.kind != step.kind || told.subject != step.subject);
                self.told.push(step.clone());
            }
        }
        let settled = view
            .deliveries
            .iter()
            .filter(|delivery| delivery.state != DeliveryState::Waiting)
            .count();
        if let Some(bar) = &self.bar {
            // Collecting is most of a run's time; the outbox is the last stretch.
            let position = match view.run.state {
                RunState::Due | RunState::Waiting => 2,
                RunState::Collecting => 10 + view.steps.len().min(40) as u64,
                RunState::Rendering => 60,
                RunState::Delivering => {
                    75 + 25 * settled as u64 / view.deliveries.len().max(1) as u64
                }
                _ => 100,
            };
            bar.set_position(position);
            let more = if view.run.state == RunState::Delivering {
                format!(" {settled} of {}", view.deliveries.len())
            } else {
                String::new()
            };
            bar.set_message(format!("{}{more}", view.run.state));
        }
    }

    fn end(&self) {
        if let Some(bar) = &self.bar {
            bar.finish_and_clear();
        }
    }
}

/// Show a run with its steps, documents and deliveries
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark show 01994f1e-…\n  maple-lark show 01994f1e-… --log       what the service's log says of it"
)]
pub struct Show {
    /// The run's id
    run: uuid::Uuid,
    /// What the service's log says of it, instead of its steps and documents
    #[arg(long)]
    log: bool,
    /// The page of a long log
    #[arg(long, default_value_t = 1, requires = "log")]
    page: u64,
}

impl Show {
    async fn show_log(&self, client: &Client, output: Output) -> Result<(), Failure> {
        let path = format!("/runs/{}/log", self.run);
        let page = [("page", self.page.to_string())];
        let found: RunLog = client.get_with(&path, &page).await?;
        output::print(output, &found, |found| {
            let rows = found.items.iter().map(|line| {
                vec![
                    line.at.format("%Y-%m-%d %H:%M:%S%.3f").to_string(),
                    line.level.clone(),
                    line.text.clone(),
                ]
            });
            table(
                &["AT (UTC)", "LEVEL", "LINE"],
                rows.collect(),
                "The log says nothing of this run.",
            );
            let shown = found.page * found.size;
            if shown < found.total {
                println!(
                    "\n{} more lines: --page {}",
                    found.total - shown,
                    found.page + 1
                );
            }
        });
        Ok(())
    }

    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        if self.log {
            return self.show_log(client, output).await;
        }
        let view: RunView = client.get(&format!("/runs/{}", self.run)).await?;
        // Definitions are not for viewers, who see the rest.
        let made = format!("/runs/{}/definitions", self.run);
        let made: Vec<RunDefinition> = client.get(&made).await.unwrap_or_default();
        output::print(output, &view, |view| {
            let rows = view
                .steps
                .iter()
                .map(|step| {
                    let took = step.ended_at.map_or_else(
                        || "–".to_owned(),
                        |end| format!("{} ms", (end - step.started_at).num_milliseconds()),
                    );
                    vec![
                        state(&step.state),
                        step.kind.to_string(),
                        step.subject.clone(),
                        took,
                        step.detail.clone().unwrap_or_default(),
                    ]
                })
                .collect();
            println!("{}", style(&view.run.title).bold());
            table(
                &["STEP", "KIND", "WHAT", "TOOK", "DETAIL"],
                rows,
                "Nothing has been done yet.",
            );
            println!();
            show(view);
            if !made.is_empty() {
                let made: Vec<String> = made
                    .iter()
                    .map(|one| format!("{} {} {}", one.kind.word(), one.name, one.version))
                    .collect();
                println!("\nMade with the versions: {}", made.join(", "));
            }
        });
        Ok(())
    }
}

#[expect(
    clippy::too_many_lines,
    reason = "prints one part of a run after the other"
)]
pub fn show(view: &RunView) {
    let run = &view.run;
    println!(
        "{}{}  {}  {}",
        state(&run.state),
        content(run.status.as_deref()),
        run.window.label,
        style(&run.window.in_words).dim()
    );
    if let Some(problem) = &run.problem {
        // Why there was nothing to send is no error.
        let words = if run.good {
            style(problem).dim()
        } else {
            style(problem).red()
        };
        println!("  {words}");
    }
    if run.state == RunState::AwaitingApproval {
        println!(
            "  Check its documents, then approve and send it: {}",
            style(format!("maple-lark release {}", run.id)).bold()
        );
        println!("  It waits until {}.", instant(run.approval_deadline));
    }
    if let Some(by) = &run.released_by {
        println!("  Released by {by}.");
    }
    if !view.documents.is_empty() {
        let rows = view
            .documents
            .iter()
            .map(|document| {
                let name = if document.variant.is_empty() {
                    document.file_name.clone()
                } else {
                    format!("{} (as read with {})", document.file_name, document.variant)
                };
                vec![name, readable_size(document.size.unsigned_abs())]
            })
            .collect();
        println!();
        table(&["DOCUMENT", "SIZE"], rows, "");
    }
    if !view.deliveries.is_empty() {
        let rows = view
            .deliveries
            .iter()
            .map(|delivery| {
                vec![
                    state(&delivery.state),
                    if delivery.copy > 0 {
                        format!("{} (copy)", delivery.recipient)
                    } else {
                        delivery.recipient.clone()
                    },
                    if delivery.via.is_empty() {
                        delivery.channel.to_string()
                    } else {
                        format!("{} {}", delivery.channel, delivery.via)
                    },
                    delivery.audience.clone(),
                    delivery.attempts.len().to_string(),
                    delivery.problem.clone().unwrap_or_default(),
                ]
            })
            .collect();
        println!();
        table(
            &[
                "DELIVERY",
                "RECIPIENT",
                "BY",
                "AUDIENCE",
                "ATTEMPTS",
                "PROBLEM",
            ],
            rows,
            "",
        );
    }
    println!(
        "\n{}",
        style(format!(
            "run {}, ended {}",
            run.id,
            instant(run.finished_at)
        ))
        .dim()
    );
}
