//! Delivery: sending to somebody, resending, approving, channels and recipients.

use std::process::ExitCode;

use clap::{Args, Subcommand};
use console::style;
use maple_lark_api::{
    AddressBook, ChannelTest, ChannelView, NoticeView, ResendOrder, RunOrder, RunView, TestOrder,
};
use uuid::Uuid;

use super::run::{follow, show};
use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, instant, outcome, state, table},
};

/// Run a report now and send it to somebody alone
///
/// The report's audiences get nothing; whoever is named gets what one audience would see.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark send ferry-operations-daily --to me --audience Operations\n  maple-lark send failed-jobs --to a@orrin-sound.example --to b@orrin-sound.example --note \"As you asked\""
)]
pub struct Send {
    /// The name of the report
    report: String,
    /// A mail address, a person or group by name, or "me"; may be given several times
    #[arg(long, value_name = "WHO", required = true)]
    to: Vec<String>,
    /// Whose view to send, if the report has several audiences
    #[arg(long, value_name = "NAME")]
    audience: Option<String>,
    /// Stands at the top of the mail
    #[arg(long)]
    note: Option<String>,
    /// The instant that the window follows from (RFC 3339); now if left out
    #[arg(long, value_name = "INSTANT")]
    at: Option<chrono::DateTime<chrono::Utc>>,
    /// Do not wait for the end
    #[arg(long)]
    detach: bool,
}

impl Send {
    pub async fn run(self, client: &Client, output: Output) -> Result<ExitCode, Failure> {
        let order = RunOrder {
            scheduled_for: self.at,
            deliver: true,
            to: self.to,
            audience: self.audience,
            note: self.note,
        };
        follow(client, output, &self.report, &order, self.detach).await
    }
}

/// Send a run's documents again, unchanged
///
/// Each mail says that it is a copy and who asked for it. Without --delivery and --to,
/// everybody who got the run gets it again.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark resend 01a2… --to auditor@orrin-sound.example --audience Operations --note \"For the audit\"\n  maple-lark resend 01a2… --recipient havnes@orrin-sound.example"
)]
pub struct Resend {
    /// The run's id
    run: Uuid,
    /// Somebody who got the run; may be given several times
    #[arg(long, value_name = "ADDRESS")]
    recipient: Vec<String>,
    /// Who else gets it this time: an address, a person or group by name, or "me"; may be given several times
    #[arg(long, value_name = "WHO")]
    to: Vec<String>,
    /// Whose view those others get, if the run had several audiences
    #[arg(long, value_name = "NAME")]
    audience: Option<String>,
    /// Stands at the top of the mail
    #[arg(long)]
    note: Option<String>,
}

impl Resend {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let run: RunView = client.get(&format!("/runs/{}", self.run)).await?;
        let mut deliveries = Vec::new();
        for wanted in &self.recipient {
            let mut found = run
                .deliveries
                .iter()
                .filter(|delivery| {
                    delivery.copy == 0 && delivery.recipient.contains(wanted.as_str())
                })
                .peekable();
            if found.peek().is_none() {
                return Err(Failure::Local(format!(
                    "{wanted} got nothing of this run; name others with --to"
                )));
            }
            deliveries.extend(found.map(|delivery| delivery.id));
        }
        let order = ResendOrder {
            deliveries,
            to: self.to,
            audience: self.audience,
            note: self.note,
        };
        let view: RunView = client
            .post(&format!("/runs/{}/resends", self.run), &order)
            .await?;
        output::print(output, &view, |view| {
            let last = view
                .deliveries
                .iter()
                .map(|delivery| delivery.copy)
                .max()
                .unwrap_or_default();
            for delivery in view
                .deliveries
                .iter()
                .filter(|delivery| delivery.copy == last)
            {
                println!(
                    "{}  {} ({})",
                    state(&delivery.state),
                    delivery.recipient,
                    delivery.audience
                );
            }
        });
        Ok(())
    }
}

/// Approve and send a run that awaits approval, or send one that is held
#[derive(Args)]
pub struct Release {
    /// The run's id
    run: Uuid,
}

impl Release {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let view: RunView = client
            .post(
                &format!("/runs/{}/release", self.run),
                &serde_json::json!({}),
            )
            .await?;
        output::print(output, &view, show);
        Ok(())
    }
}

/// Channels that documents are delivered by: mail servers, folders, uploads, web hooks, syslog
#[derive(Args)]
pub struct Channels {
    #[command(subcommand)]
    action: Option<ChannelAction>,
}

#[derive(Subcommand)]
enum ChannelAction {
    /// Test a channel; a mail server is tested with a real mail
    ///
    /// Without a name the service's own mail server is tested.
    Test {
        /// The channel's name
        channel: Option<String>,
        /// To whom the test mail goes
        #[arg(long, value_name = "ADDRESS")]
        to: Option<String>,
    },
}

impl Channels {
    pub async fn run(self, client: &Client, output: Output) -> Result<ExitCode, Failure> {
        let Some(ChannelAction::Test { channel, to }) = self.action else {
            let channels: Vec<ChannelView> = client.get("/channels").await?;
            output::print(output, &channels, |channels| {
                let rows = channels.iter().map(|channel| {
                    let name = if channel.name.is_empty() {
                        style("own").dim().to_string()
                    } else {
                        channel.name.clone()
                    };
                    let used = if channel.used_by.is_empty() {
                        "–".to_owned()
                    } else {
                        channel.used_by.join(", ")
                    };
                    vec![
                        name,
                        channel.kind.clone(),
                        channel.place.clone(),
                        channel.waiting.to_string(),
                        used,
                    ]
                });
                table(
                    &["CHANNEL", "KIND", "LEADS TO", "WAITING", "USED BY"],
                    rows.collect(),
                    "There is no channel, and no mail server is configured.",
                );
            });
            return Ok(ExitCode::SUCCESS);
        };
        let address = channel.map_or_else(
            || "/mail-server/test".to_owned(),
            |name| format!("/channels/{name}/test"),
        );
        let test: ChannelTest = client.post(&address, &TestOrder { to }).await?;
        output::print(output, &test, |test| {
            for step in &test.steps {
                println!("{}  {:<9}  {}", outcome(step.works), step.name, step.words);
                if let Some(remedy) = &step.remedy {
                    println!("            {}", style(remedy).yellow());
                }
            }
        });
        Ok(if test.works {
            ExitCode::SUCCESS
        } else {
            ExitCode::FAILURE
        })
    }
}

/// The address book: people, groups, suppressed addresses and unsubscribes
#[derive(Args)]
pub struct Recipients {
    #[command(subcommand)]
    action: Option<RecipientsAction>,
}

#[derive(Subcommand)]
enum RecipientsAction {
    /// Send to a suppressed address again
    Restore {
        #[arg(value_name = "ADDRESS")]
        who: String,
    },
    /// Send a report again to somebody who unsubscribed; only when they ask for it
    Resubscribe {
        report: String,
        #[arg(value_name = "ADDRESS")]
        who: String,
    },
}

impl Recipients {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        match self.action {
            None => {
                let book: AddressBook = client.get("/people").await?;
                output::print(output, &book, show_book);
            }
            Some(RecipientsAction::Restore { who: address }) => {
                client
                    .delete(&format!("/bounced-addresses/{address}"))
                    .await?;
                output::print(output, &address, |address| {
                    println!("Mail goes to {address} again.")
                });
            }
            Some(RecipientsAction::Resubscribe {
                report,
                who: address,
            }) => {
                client
                    .delete(&format!("/reports/{report}/unsubscribes/{address}"))
                    .await?;
                output::print(output, &address, |address| {
                    println!("{address} gets \"{report}\" again.")
                });
            }
        }
        Ok(())
    }
}

#[expect(
    clippy::too_many_lines,
    reason = "prints one part of the address book after the other"
)]
fn show_book(book: &AddressBook) {
    let people = book.people.iter().map(|person| {
        let active = if person.active {
            String::new()
        } else {
            "not active".to_owned()
        };
        let reads = [person.number_format.clone(), person.time_zone.clone()]
            .into_iter()
            .flatten()
            .collect::<Vec<_>>()
            .join(", ");
        vec![
            person.name.clone(),
            person.title.clone(),
            person.address.clone(),
            reads,
            active,
            person.reports.join(", "),
        ]
    });
    table(
        &["PERSON", "TITLE", "ADDRESS", "FORMAT", "", "REPORTS"],
        people.collect(),
        "Nobody is known by name; reports name their recipients by address.",
    );
    if !book.groups.is_empty() {
        println!();
        let groups = book.groups.iter().map(|group| {
            vec![
                group.name.clone(),
                group.title.clone(),
                group.recipients.len().to_string(),
                group.members.join(", "),
            ]
        });
        table(
            &["GROUP", "TITLE", "RECIPIENTS", "MEMBERS"],
            groups.collect(),
            "",
        );
    }
    if !book.bounced.is_empty() {
        println!();
        let bounced = book.bounced.iter().map(|one| {
            let since = if one.suppressed_at.is_some() {
                instant(one.suppressed_at)
            } else {
                "–".to_owned()
            };
            vec![
                one.address.clone(),
                one.hard_bounces.to_string(),
                since,
                one.words.clone(),
            ]
        });
        table(
            &["RETURNED BY", "TIMES", "SUPPRESSED", "IN ITS WORDS"],
            bounced.collect(),
            "",
        );
    }
    if !book.unsubscribes.is_empty() {
        println!();
        let left = book.unsubscribes.iter().map(|one| {
            vec![
                one.address.clone(),
                one.report.clone(),
                instant(Some(one.unsubscribed_at)),
            ]
        });
        table(&["UNSUBSCRIBED", "REPORT", "WHEN"], left.collect(), "");
    }
}

/// What owners were told lately
pub async fn notices(client: &Client, output: Output) -> Result<(), Failure> {
    let notices: Vec<NoticeView> = client.get("/notices").await?;
    output::print(output, &notices, |notices| {
        let rows = notices.iter().map(|notice| {
            let told = if notice.recipient.is_none() {
                "nobody to tell".to_owned()
            } else {
                notice
                    .told_at
                    .map_or_else(|| "in a moment".to_owned(), |at| instant(Some(at)))
            };
            vec![
                notice.kind.to_string(),
                notice.subject.clone(),
                instant(Some(notice.created_at)),
                told,
                notice.text.lines().next().unwrap_or_default().to_owned(),
            ]
        });
        table(
            &["NOTICE", "ABOUT", "SINCE", "TOLD", "WHAT"],
            rows.collect(),
            "Nothing went wrong lately.",
        );
    });
    Ok(())
}
