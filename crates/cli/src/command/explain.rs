use std::{io::BufRead, pin::pin};

use chrono::{DateTime, Utc};
use clap::Args;
use futures::{StreamExt, stream};
use maple_lark_api::{Answers, Explained, ExplainedInstant, Question, QuestionAnswer, Questions};

use crate::{
    client::Client,
    failure::Failure,
    instants::instant as instant_of,
    output::{self, Output, table},
};

/// Say a schedule and a window back in words, without saving anything
///
/// Prints the sentence, the next instants, and each one's window. SCHEDULE and WINDOW are
/// what stands under [schedule] and [window] in a report, on one line. With --lines, cases
/// are read from standard input, one JSON object a line, and answered one a line; a case has
/// the keys time-zone, schedule, window, after, count and calendars (iCalendar text by name).
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark explain --time-zone Atlantic/Faroe --schedule 'every = \"month\", on = \"first monday\", at = \"07:30\"'\n  maple-lark explain --time-zone Atlantic/Faroe --schedule 'crontab = \"30 7 * * 1-5\"' --window 'previous = \"day\"'\n  maple-lark explain --time-zone Atlantic/Faroe --window 'previous = \"day\"' --after 2026-10-26T07:30:00Z\n  maple-lark explain --time-zone Atlantic/Faroe --calendar holidays.ics --schedule 'every = \"day\", at = \"07:30\", calendar = \"holidays\"'\n  echo '{\"time-zone\": \"UTC\", \"schedule\": {\"every\": \"PT15M\"}, \"count\": 3}' | maple-lark explain --lines"
)]
pub struct Explain {
    /// The report's time zone
    #[arg(long, value_name = "ZONE", required_unless_present = "lines")]
    time_zone: Option<String>,
    /// The schedule
    #[arg(long, value_name = "SCHEDULE")]
    schedule: Option<String>,
    /// The window
    #[arg(long, value_name = "WINDOW")]
    window: Option<String>,
    /// List instants after this one (RFC 3339); now if left out
    #[arg(long, value_name = "INSTANT", value_parser = instant_of)]
    after: Option<DateTime<Utc>>,
    /// How many instants
    #[arg(long, default_value_t = 5)]
    count: usize,
    /// An iCalendar file that the schedule names, in place of the stored one; may be given
    /// several times
    #[arg(long, value_name = "FILE")]
    calendar: Vec<std::path::PathBuf>,
    /// Read cases from standard input and answer one a line
    #[arg(long, conflicts_with_all = ["time_zone", "schedule", "window", "after"])]
    lines: bool,
}

impl Explain {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        if self.lines {
            return answer_lines(client).await;
        }
        let question = Question {
            time_zone: self.time_zone.unwrap_or_default(),
            schedule: self
                .schedule
                .as_deref()
                .map(|text| one_line("--schedule", text))
                .transpose()?,
            window: self
                .window
                .as_deref()
                .map(|text| one_line("--window", text))
                .transpose()?,
            after: self.after,
            count: Some(self.count),
            reader_time_zone: iana_zone(),
            calendars: self
                .calendar
                .iter()
                .map(|path| read_calendar(path))
                .collect::<Result<_, _>>()?,
        };
        let explained: Explained = client.post("/schedules/explain", &question).await?;
        output::print(output, &explained, show);
        Ok(())
    }
}

/// A calendar's name and its text.
fn read_calendar(path: &std::path::Path) -> Result<(String, String), Failure> {
    let name = path
        .file_stem()
        .unwrap_or_default()
        .to_string_lossy()
        .into_owned();
    std::fs::read_to_string(path)
        .map(|text| (name, text))
        .map_err(|error| Failure::Local(format!("{} cannot be read: {error}", path.display())))
}

/// The keys of a TOML table on one line.
pub fn one_line(option: &str, text: &str) -> Result<serde_json::Value, Failure> {
    let parsed: toml_edit::DocumentMut =
        format!("it = {{ {text} }}")
            .parse()
            .map_err(|error: toml_edit::TomlError| {
                Failure::Local(format!("{option} is not valid: {}", error.message()))
            })?;
    let value: serde_json::Value = toml_edit::de::from_document(parsed)
        .map_err(|error| Failure::Local(format!("{option} is not valid: {}", error.message())))?;
    Ok(value["it"].clone())
}

/// The reader's own zone, where the system says which it is.
pub fn iana_zone() -> Option<String> {
    let named = std::env::var("TZ").ok().filter(|zone| zone.contains('/'));
    named
        .or_else(|| {
            Some(
                std::fs::read_link("/etc/localtime")
                    .ok()?
                    .to_str()?
                    .split_once("zoneinfo/")?
                    .1
                    .to_owned(),
            )
        })
        .filter(|zone| !zone.starts_with("Etc/"))
}

/// So many lots of questions are under way at a time.
const AT_A_TIME: usize = 2;

/// Answers lines in their order, as many at once as are there; a line that comes alone is
/// answered before the next one comes.
async fn answer_lines(client: &Client) -> Result<(), Failure> {
    let (sender, lines) = tokio::sync::mpsc::channel(Questions::MOST);
    std::thread::spawn(move || {
        for line in std::io::stdin().lock().lines().enumerate() {
            if sender.blocking_send(line).is_err() {
                return;
            }
        }
    });
    let lines = stream::unfold(lines, async |mut lines| {
        lines.recv().await.map(|line| (line, lines))
    });
    let lots = lines.ready_chunks(Questions::MOST);
    let mut answers = pin!(lots.map(|lot| answer_lot(client, lot)).buffered(AT_A_TIME));
    while let Some(answers) = answers.next().await {
        for answer in answers? {
            println!("{answer}");
        }
    }
    Ok(())
}

/// The answers to some lines, in their order; nothing to an empty one.
async fn answer_lot(
    client: &Client,
    lot: Vec<(usize, std::io::Result<String>)>,
) -> Result<Vec<String>, Failure> {
    let mut questions = Vec::new();
    // A line that is no question has its answer already; the others wait for theirs.
    let mut lines = Vec::new();
    for (index, line) in lot {
        let line = line
            .map_err(|error| Failure::Local(format!("standard input cannot be read: {error}")))?;
        if line.trim().is_empty() {
            continue;
        }
        match serde_json::from_str::<Question>(&line) {
            Ok(question) => {
                questions.push(question);
                lines.push(None);
            }
            Err(error) => lines.push(Some(format!("line {}: {error}", index + 1))),
        }
    }
    let mut answers = if questions.is_empty() {
        Vec::new()
    } else {
        let path = "/schedules/explain/all";
        let answers: Answers = client.post(path, &Questions { questions }).await?;
        answers.answers
    }
    .into_iter();
    let mut said = Vec::new();
    for line in lines {
        let answer = match line {
            Some(error) => QuestionAnswer {
                explained: None,
                error: Some(error),
            },
            None => answers.next().ok_or_else(|| {
                Failure::Local("the service left a question without an answer".to_owned())
            })?,
        };
        said.push(match answer.explained {
            Some(explained) => serde_json::json!(explained).to_string(),
            None => serde_json::json!({ "error": answer.error }).to_string(),
        });
    }
    Ok(said)
}

fn show(explained: &Explained) {
    if let Some(schedule) = &explained.schedule {
        println!("{}", console::style(schedule).bold());
    }
    if let Some(window) = &explained.window {
        println!("Window: {window}");
    }
    println!();
    let mut headings = vec!["AT"];
    let any = |has: fn(&ExplainedInstant) -> bool| explained.instants.iter().any(has);
    let (reader, window, compared) = (
        any(|one| one.reader.is_some()),
        any(|one| one.window.is_some()),
        any(|one| one.compared_with.is_some()),
    );
    headings.extend(reader.then_some("WHERE YOU ARE"));
    headings.extend(
        window
            .then_some(["WINDOW", "EXACTLY"])
            .into_iter()
            .flatten(),
    );
    headings.extend(compared.then_some("COMPARED WITH"));
    let rows = explained
        .instants
        .iter()
        .map(|one| {
            let mut row = vec![one.local.clone()];
            let mut add = |shown: bool, text: &Option<String>| {
                row.extend(shown.then(|| text.clone().unwrap_or_default()))
            };
            add(reader, &one.reader);
            add(window, &one.window_label);
            add(window, &one.window);
            add(compared, &one.compared_with_label);
            row
        })
        .collect();
    table(&headings, rows, "It never runs again.");
    if !explained.left_out.is_empty() {
        println!("\nLeft out by the calendar:");
        let rows = explained.left_out.iter().map(|one| {
            let instead = one
                .moved_to
                .as_ref()
                .map_or_else(|| "does not run".to_owned(), |to| format!("runs {to}"));
            vec![one.local.clone(), one.day.clone(), instead]
        });
        table(&["AT", "DAY", "INSTEAD"], rows.collect(), "");
    }
}
