use clap::{Args, Subcommand};
use maple_lark_api::{
    GoingList, KeepOrder, KeepPolicy, KeepStage, KeepWhy, Keeping as View, KeptPage, RemovalPage,
    readable_size,
};
use maple_lark_time::span::{BadSpan, Span};

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, confirmed, instant, table},
};

/// How long what was made is kept, what goes, what went, and what is kept for good
///
/// Documents go first, then the snapshots that they could be made of again, then the records of runs; each
/// has its own term, counted from the end of the run. A report can say otherwise of itself, under
/// [keep]. Where nothing is said, everything is kept for good.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark keeping\n  maple-lark keeping set --documents P2Y --snapshots P3Y --records P7Y --at-least P90D\n  maple-lark keeping set --most-megabytes 50000\n  maple-lark keeping set --documents for-good\n  maple-lark keeping due --days 30\n  maple-lark keeping add 01a21fb9-8341-7649-b7f3-5749fb00368c --because \"audit of 2026\"\n  maple-lark keeping gone --report estate-daily"
)]
pub struct Keeping {
    #[command(subcommand)]
    action: Option<Action>,
}

#[derive(Subcommand)]
enum Action {
    /// How long things are kept, and what there is (the default)
    Show,
    /// Set how long things are kept; what is left out stays as it is
    Set(Box<Terms>),
    /// What goes next, before it goes
    Due {
        /// Within so many days
        #[arg(long, default_value_t = 7)]
        days: u32,
    },
    /// What went, and when
    Gone {
        /// Only of this report
        #[arg(long)]
        report: Option<String>,
        /// The newest so many
        #[arg(long, default_value_t = 50)]
        last: u64,
    },
    /// The runs that are kept for good
    Kept,
    /// Keep a run for good: nothing of it goes
    Add {
        run: String,
        /// Why, for whoever asks later
        #[arg(long)]
        because: String,
    },
    /// Keep a run no longer than others
    Drop { run: String },
}

/// A term or limit of the policy: a value, or "for-good" for none.
#[derive(Clone)]
enum Term<T> {
    ForGood,
    Is(T),
}

impl<T: Clone> Term<T> {
    fn into(self, place: &mut Option<T>) {
        *place = match self {
            Self::ForGood => None,
            Self::Is(value) => Some(value),
        };
    }
}

const FOR_GOOD: &str = "for-good";

fn span(text: &str) -> Result<Term<String>, BadSpan> {
    if text == FOR_GOOD {
        return Ok(Term::ForGood);
    }
    Ok(Term::Is(text.parse::<Span>()?.to_string()))
}

/// No limit.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
#[error("\"{0}\" is neither a whole number nor \"{FOR_GOOD}\"")]
struct BadNumber(String);

fn number<T: std::str::FromStr>(text: &str) -> Result<Term<T>, BadNumber> {
    if text == FOR_GOOD {
        return Ok(Term::ForGood);
    }
    let read = text.parse().map(Term::Is);
    read.map_err(|_| BadNumber(text.to_owned()))
}

#[derive(Args)]
struct Terms {
    /// How long documents are kept after their run, such as P2Y or "90 days"; or for-good
    #[arg(long, value_parser = span)]
    documents: Option<Term<String>>,
    /// How long snapshots are kept; not shorter than documents
    #[arg(long, value_parser = span)]
    snapshots: Option<Term<String>>,
    /// How long the records of runs are kept; not shorter than snapshots
    #[arg(long, value_parser = span)]
    records: Option<Term<String>>,
    /// Keep the documents of at most so many runs of each report
    #[arg(long, value_parser = number::<u32>)]
    most_runs: Option<Term<u32>>,
    /// Keep at most so many megabytes of documents and snapshots, all together
    #[arg(long, value_parser = number::<u64>)]
    most_megabytes: Option<Term<u64>>,
    /// Nothing goes sooner than this, whatever a report or the rest says
    #[arg(long, value_parser = span)]
    at_least: Option<Term<String>>,
    /// Only show what would go at once
    #[arg(long)]
    check: bool,
    /// Do not ask first
    #[arg(long)]
    yes: bool,
}

impl Terms {
    fn put_into(self, policy: &mut KeepPolicy) {
        let spans = [
            (self.documents, &mut policy.documents),
            (self.snapshots, &mut policy.snapshots),
            (self.records, &mut policy.records),
            (self.at_least, &mut policy.at_least),
        ];
        for (term, place) in spans {
            if let Some(term) = term {
                term.into(place);
            }
        }
        if let Some(term) = self.most_runs {
            term.into(&mut policy.most_runs);
        }
        if let Some(term) = self.most_megabytes {
            term.into(&mut policy.most_megabytes);
        }
    }
}

impl Keeping {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        match self.action.unwrap_or(Action::Show) {
            Action::Show => {
                let all: View = client.get("/keeping").await?;
                output::print(output, &all, show);
            }
            Action::Set(terms) => set(client, output, *terms).await?,
            Action::Due { days } => {
                let query = [("days", days.to_string())];
                let all: GoingList = client.get_with("/keeping/going", &query).await?;
                output::print(output, &all, |all| {
                    going(all, "Nothing goes within that time.");
                });
            }
            Action::Gone { report, last } => gone(client, output, report, last).await?,
            Action::Kept => {
                let query = [("size", "200".to_owned())];
                let all: KeptPage = client.get_with("/keeping/kept", &query).await?;
                output::print(output, &all, |all| {
                    let rows = all.items.iter().map(|one| {
                        vec![
                            one.run.to_string(),
                            one.report.clone(),
                            instant(Some(one.at)),
                            one.by.clone(),
                            one.because.clone(),
                        ]
                    });
                    table(
                        &["RUN", "REPORT", "SINCE", "BY", "BECAUSE"],
                        rows.collect(),
                        "No run is kept for good.",
                    );
                });
            }
            Action::Add { run, because } => {
                let order = KeepOrder { because };
                client.put(&format!("/runs/{run}/keep"), &order).await?;
                println!("Kept for good; nothing of the run goes.");
            }
            Action::Drop { run } => {
                client.delete(&format!("/runs/{run}/keep")).await?;
                println!("Kept no longer than others.");
            }
        }
        Ok(())
    }
}

async fn set(client: &Client, output: Output, terms: Terms) -> Result<(), Failure> {
    let now: View = client.get("/keeping").await?;
    let (mut policy, check, yes) = (now.policy, terms.check, terms.yes);
    terms.put_into(&mut policy);
    let plan: GoingList = client.post("/keeping/plan", &policy).await?;
    if check {
        output::print(output, &plan, |plan| {
            going(plan, "Nothing would go at once.")
        });
        return Ok(());
    }
    if !plan.items.is_empty() && !yes {
        going(&plan, "");
        if !confirmed("This goes at once, and cannot be got back. Set it?") {
            return Err(Failure::Declined("nothing was changed and nothing went"));
        }
    }
    client.put("/keeping", &policy).await?;
    let all: View = client.get("/keeping").await?;
    output::print(output, &all, show);
    Ok(())
}

async fn gone(
    client: &Client,
    output: Output,
    report: Option<String>,
    last: u64,
) -> Result<(), Failure> {
    let (mut all, mut page) = (Vec::new(), 1);
    let size = last.clamp(1, 200);
    while (all.len() as u64) < last {
        let mut query = vec![("size", size.to_string()), ("page", page.to_string())];
        query.extend(report.clone().map(|report| ("report", report)));
        let found: RemovalPage = client.get_with("/keeping/gone", &query).await?;
        let more = page * size < found.total;
        all.extend(found.items);
        if !more {
            break;
        }
        page += 1;
    }
    all.truncate(usize::try_from(last).unwrap_or(usize::MAX));
    output::print(output, &all, |all| {
        let rows = all.iter().map(|one| {
            vec![
                instant(Some(one.at)),
                one.report.clone(),
                instant(Some(one.ended_at)),
                one.what.to_string(),
                one.why.clone(),
                one.files.len().to_string(),
                readable_size(one.bytes.unsigned_abs()),
                one.run.to_string(),
            ]
        });
        table(
            &[
                "WENT",
                "REPORT",
                "RUN ENDED",
                "WHAT",
                "WHY",
                "FILES",
                "SIZE",
                "RUN",
            ],
            rows.collect(),
            "Nothing went yet.",
        );
    });
    Ok(())
}

fn readable(span: Option<&String>) -> String {
    match span {
        None => "for good".to_owned(),
        Some(text) => match text.parse::<Span>() {
            Ok(span) => span.readable(),
            Err(_) => text.clone(),
        },
    }
}

fn show(all: &View) {
    let policy = &all.policy;
    println!(
        "Documents are kept  {}",
        readable(policy.documents.as_ref())
    );
    println!(
        "Snapshots           {}",
        readable(policy.snapshots.as_ref())
    );
    println!("Records of runs     {}", readable(policy.records.as_ref()));
    if let Some(runs) = policy.most_runs {
        println!("Documents of        {runs} runs of each report at most");
    }
    if let Some(megabytes) = policy.most_megabytes {
        println!("All together        {megabytes} MB at most");
    }
    if policy.at_least.is_some() {
        println!("Nothing goes before {}", readable(policy.at_least.as_ref()));
    }
    match (&all.set_by, all.set_at) {
        (Some(by), Some(at)) => println!("Set by              {by}, {}", instant(Some(at))),
        _ => println!("Nobody has set anything else."),
    }
    println!(
        "\n{} of {} runs that are over have their documents ({}, and {} of snapshots); {} kept for good.",
        all.with_documents,
        all.runs,
        readable_size(all.document_bytes.unsigned_abs()),
        readable_size(all.snapshot_bytes.unsigned_abs()),
        match all.kept {
            1 => "1 is".to_owned(),
            other => format!("{other} are"),
        },
    );
    if !all.reports.is_empty() {
        println!();
        let rows = all
            .reports
            .iter()
            .map(|one| vec![one.report.clone(), one.words.clone()]);
        table(&["REPORT", "KEEPS OF ITS RUNS"], rows.collect(), "");
    }
}

fn going(all: &GoingList, nothing: &str) {
    let rows = all.items.iter().map(|one| {
        vec![
            one.what.to_string(),
            one.report.clone(),
            instant(Some(one.ended_at)),
            match one.why {
                KeepWhy::Age => "old enough",
                KeepWhy::Number => "more runs than are kept",
                KeepWhy::Size => "more room than there is",
            }
            .to_owned(),
            if one.what == KeepStage::Record {
                "–".to_owned()
            } else {
                readable_size(one.bytes.unsigned_abs())
            },
            one.run.to_string(),
        ]
    });
    table(
        &["GOES", "REPORT", "RUN ENDED", "WHY", "SIZE", "RUN"],
        rows.collect(),
        nothing,
    );
    if !all.items.is_empty() {
        let more = if all.more { " and more" } else { "" };
        println!(
            "\n{}{more}, until {}.",
            readable_size(all.bytes.unsigned_abs()),
            instant(Some(all.until))
        );
    }
}
