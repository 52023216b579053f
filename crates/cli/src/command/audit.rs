use std::process::ExitCode;

use chrono::{DateTime, SecondsFormat, Utc};
use clap::Args;
use maple_lark_api::{AuditEntry, AuditOutcome, AuditPage, AuditProof};

use crate::{
    client::Client,
    failure::Failure,
    instants,
    output::{self, Output, instant, table},
};

/// Who did what: sign-ins, definitions, runs, documents, users, secrets
///
/// Every entry carries the digest of the one before it; "--verify" goes through all of them and names
/// what was altered, is missing or was put in. Note its head now and then: whoever has it finds out if the
/// whole trail is written anew.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark audit\n  maple-lark audit --user runa.holm --from 2026-11-01\n  maple-lark audit --action get_document --text estate-daily\n  maple-lark audit --from 2026-11-01 --csv audit.csv\n  maple-lark audit --verify"
)]
pub struct Audit {
    /// Only what this user did
    #[arg(long)]
    user: Option<String>,
    /// Only this operation, such as run_report or sign_in
    #[arg(long)]
    action: Option<String>,
    /// Only what has these words in what it was done to, or in the detail
    #[arg(long)]
    text: Option<String>,
    /// Only what came to this: done, refused or failed
    #[arg(long)]
    outcome: Option<AuditOutcome>,
    /// From this day or instant on
    #[arg(long, value_parser = instants::instant)]
    from: Option<DateTime<Utc>>,
    /// Before this day or instant
    #[arg(long, value_parser = instants::instant)]
    to: Option<DateTime<Utc>>,
    /// The newest so many
    #[arg(long, default_value_t = 50)]
    last: u64,
    /// Write all that fits into a CSV file instead, the earliest first; "-" is standard output
    #[arg(long, value_name = "FILE")]
    csv: Option<String>,
    /// Go through the whole trail and say whether it is what was kept
    #[arg(long, conflicts_with_all = ["user", "action", "text", "outcome", "from", "to", "csv"])]
    verify: bool,
}

impl Audit {
    pub async fn run(self, client: &Client, output: Output) -> Result<ExitCode, Failure> {
        if self.verify {
            return verify(client, output).await;
        }
        let mut query = self.query();
        if let Some(file) = &self.csv {
            let given: Vec<(&str, &str)> = query
                .iter()
                .map(|(key, value)| (*key, value.as_str()))
                .collect();
            let (_, bytes) = client.file("/audit.csv", &given).await?;
            if file == "-" {
                print!("{}", String::from_utf8_lossy(&bytes));
                return Ok(ExitCode::SUCCESS);
            }
            std::fs::write(file, &bytes)
                .map_err(|error| Failure::Local(format!("{file} cannot be written: {error}")))?;
            println!("Written to {file}.");
            return Ok(ExitCode::SUCCESS);
        }
        let (mut all, mut page) = (Vec::new(), 1);
        let size = self.last.clamp(1, 200);
        query.push(("size", size.to_string()));
        while (all.len() as u64) < self.last {
            let mut query = query.clone();
            query.push(("page", page.to_string()));
            let found: AuditPage = client.get_with("/audit", &query).await?;
            let more = page * size < found.total;
            all.extend(found.items);
            if !more {
                break;
            }
            page += 1;
        }
        all.truncate(usize::try_from(self.last).unwrap_or(usize::MAX));
        output::print(output, &all, |all| print(all));
        Ok(ExitCode::SUCCESS)
    }

    fn query(&self) -> Vec<(&'static str, String)> {
        let at = |instant: &DateTime<Utc>| instant.to_rfc3339_opts(SecondsFormat::Micros, true);
        let given = [
            ("user", self.user.clone()),
            ("action", self.action.clone()),
            ("text", self.text.clone()),
            ("outcome", self.outcome.map(|one| one.to_string())),
            ("from", self.from.as_ref().map(at)),
            ("to", self.to.as_ref().map(at)),
        ];
        let given = given.into_iter();
        given
            .filter_map(|(key, value)| Some((key, value?)))
            .collect()
    }
}

async fn verify(client: &Client, output: Output) -> Result<ExitCode, Failure> {
    let proof: AuditProof = client.get("/audit/proof").await?;
    output::print(output, &proof, |proof| {
        if proof.intact {
            println!(
                "● The {} entries are what was kept.\nThe last has the digest {}.",
                proof.entries, proof.head
            );
        } else {
            let broken: Vec<String> = proof.broken.iter().map(i64::to_string).collect();
            println!(
                "◆ Altered, put in, or with one missing before them: {}.",
                broken.join(", ")
            );
        }
    });
    Ok(if proof.intact {
        ExitCode::SUCCESS
    } else {
        ExitCode::from(1)
    })
}

fn print(all: &[AuditEntry]) {
    let rows = all.iter().map(|entry| {
        let what = match entry.outcome {
            AuditOutcome::Done => entry.words.clone(),
            outcome => format!("◆ {}: {outcome}", entry.words),
        };
        let about = [
            entry.subject.as_str(),
            entry.detail.as_deref().unwrap_or_default(),
        ];
        let about: Vec<&str> = about.into_iter().filter(|one| !one.is_empty()).collect();
        vec![
            instant(Some(entry.at)),
            entry.user.clone().unwrap_or_else(|| "–".to_owned()),
            what,
            about.join(": "),
            entry.address.clone().unwrap_or_default(),
        ]
    });
    table(
        &["AT", "USER", "WHAT", "ABOUT", "FROM"],
        rows.collect(),
        "Nothing that fits is on record.",
    );
}
