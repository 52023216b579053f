use chrono::{DateTime, SecondsFormat, Utc};
use clap::{Args, Subcommand};
use maple_lark_api::{ArchiveEntry, ArchivePage, readable_size};

use crate::{
    client::Client,
    failure::Failure,
    instants::instant as instant_of,
    output::{self, Output, instant, table},
};

/// The archive: every document that was made
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark archive search db-2\n  maple-lark archive search '\"disk full\" -test' --report estate-daily\n  maple-lark archive search --recipient office@orrin-sound.example --from 2026-03-01 --to 2026-04-01\n  maple-lark archive search --tag audit --from 2026-01-01 --zip audit-2026.zip"
)]
pub struct Archive {
    #[command(subcommand)]
    action: Action,
}

#[derive(Subcommand)]
enum Action {
    /// Find documents by what they say, what they are of and who got them
    Search(Search),
}

#[derive(Args)]
struct Search {
    /// Words that they say; in quotes next to each other, with a minus not
    words: Vec<String>,
    /// Only of this report
    #[arg(long)]
    report: Option<String>,
    /// Only of reports with this tag
    #[arg(long)]
    tag: Option<String>,
    /// Only what was sent to this address, or to one that has this in it
    #[arg(long)]
    recipient: Option<String>,
    /// Only in this format: pdf, html, csv, xlsx, ods, json, xml, txt or png
    #[arg(long)]
    format: Option<String>,
    /// Only judged like this: ok, unknown, warning or critical
    #[arg(long)]
    status: Option<String>,
    /// Made from this day or instant on
    #[arg(long, value_name = "INSTANT", value_parser = instant_of)]
    from: Option<DateTime<Utc>>,
    /// Made before this day or instant
    #[arg(long, value_name = "INSTANT", value_parser = instant_of)]
    to: Option<DateTime<Utc>>,
    /// Whose window has this day or instant in it
    #[arg(long, value_name = "INSTANT", value_parser = instant_of)]
    about: Option<DateTime<Utc>>,
    /// newest, oldest, largest or report
    #[arg(long, default_value = "newest")]
    sort: String,
    /// At most so many
    #[arg(long, default_value_t = 25)]
    last: u64,
    /// Write all of them into one zip instead, with a list of what is in it
    #[arg(long, value_name = "FILE")]
    zip: Option<String>,
}

impl Archive {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let Action::Search(search) = self.action;
        search.run(client, output).await
    }
}

impl Search {
    fn query(&self) -> Vec<(&'static str, String)> {
        let at = |instant: &DateTime<Utc>| instant.to_rfc3339_opts(SecondsFormat::Micros, true);
        let words = self.words.join(" ");
        let given = [
            ("words", (!words.is_empty()).then_some(words)),
            ("report", self.report.clone()),
            ("tag", self.tag.clone()),
            ("recipient", self.recipient.clone()),
            ("format", self.format.clone()),
            ("status", self.status.clone()),
            ("from", self.from.as_ref().map(at)),
            ("to", self.to.as_ref().map(at)),
            ("about", self.about.as_ref().map(at)),
            ("sort", Some(self.sort.clone())),
        ];
        let given = given.into_iter();
        given
            .filter_map(|(key, value)| Some((key, value?)))
            .collect()
    }

    async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let query = self.query();
        if let Some(file) = &self.zip {
            let given: Vec<(&str, &str)> = query.iter().map(|(k, v)| (*k, v.as_str())).collect();
            let (_, bytes) = client.file("/archive.zip", &given).await?;
            std::fs::write(file, &bytes)
                .map_err(|error| Failure::Local(format!("{file} cannot be written: {error}")))?;
            println!("Written to {file} ({}).", readable_size(bytes.len() as u64));
            return Ok(());
        }
        let (mut all, mut page, mut total) = (Vec::new(), 1, String::new());
        let size = self.last.clamp(1, 200);
        while (all.len() as u64) < self.last {
            let mut query = query.clone();
            query.extend([("size", size.to_string()), ("page", page.to_string())]);
            let found: ArchivePage = client.get_with("/archive", &query).await?;
            let more = page * size < found.total;
            total = if found.more {
                format!("more than {}", found.total)
            } else {
                found.total.to_string()
            };
            all.extend(found.items);
            if !more {
                break;
            }
            page += 1;
        }
        all.truncate(usize::try_from(self.last).unwrap_or(usize::MAX));
        output::print(output, &all, |all| {
            print(all);
            if !all.is_empty() && all.len().to_string() != total {
                println!("\n{} of {total}; --last shows more of them.", all.len());
            }
        });
        Ok(())
    }
}

fn print(all: &[ArchiveEntry]) {
    let mut said = None;
    let rows = all.iter().map(|one| {
        let status = match one.status.as_deref() {
            Some("ok") => "● ok",
            Some("warning") => "▲ warning",
            Some("critical") => "◆ critical",
            Some("unknown") => "? unknown",
            _ => "–",
        };
        let sent = match one.sent {
            0 => "not sent".to_owned(),
            1 => "1 mail".to_owned(),
            count => format!("{count} mails"),
        };
        let found = one.found.iter().map(|piece| {
            if piece.hit {
                console::style(&piece.text).bold().to_string()
            } else {
                piece.text.clone()
            }
        });
        let found: String = found.collect();
        let mut file = one.document.file_name.clone();
        // The files of one view say the same.
        if !found.is_empty()
            && said.replace(one.document.snapshot_id) != Some(one.document.snapshot_id)
        {
            file = format!("{file}\n{found}");
        }
        vec![
            instant(Some(one.made_at)),
            file,
            one.window.clone(),
            status.to_owned(),
            sent,
            match one.document.removed_at {
                Some(at) => format!("went {}", instant(Some(at))),
                None => readable_size(one.document.size.unsigned_abs()),
            },
            one.run.to_string(),
        ]
    });
    table(
        &[
            "MADE", "DOCUMENT", "WINDOW", "STATUS", "SENT", "SIZE", "RUN",
        ],
        rows.collect(),
        "Nothing that fits was made. What has just been made is found a few seconds later.",
    );
}
