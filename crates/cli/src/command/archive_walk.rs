//! The whole archive, day by day: what is altered, missing or added.

use std::process::ExitCode;

use indicatif::ProgressBar;
use maple_lark_api::{ArchiveDayPage, ArchiveDayProof, AuditProof};
use serde::Serialize;

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output},
};

/// Days that are asked for at a time.
const DAYS: u64 = 100;

/// What a walk through the archive has found.
#[derive(Default, Serialize)]
struct Walk {
    intact: bool,
    days: u64,
    documents: i64,
    let_go: i64,
    /// The latest day that is sealed, and its digest.
    head: Option<(String, String)>,
    broken: Vec<ArchiveDayProof>,
    /// The audit trail itself, of which each day has only the end.
    audit: Option<AuditProof>,
}

/// Goes through every day of the archive.
pub async fn walk(client: &Client, output: Output) -> Result<ExitCode, Failure> {
    let mut walk = Walk::default();
    let mut page = 1;
    let bar = ProgressBar::new(0);
    loop {
        let path = format!("/archive/days?page={page}&size={DAYS}");
        let days: ArchiveDayPage = client.get(&path).await?;
        for day in &days.items {
            let proof: ArchiveDayProof = client.get(&format!("/archive/days/{}", day.day)).await?;
            walk.head
                .get_or_insert_with(|| (day.day.to_string(), day.sha256.clone()));
            walk.days += 1;
            walk.documents += day.documents;
            walk.let_go += proof.let_go;
            if !proof.intact {
                walk.broken.push(proof);
            }
            bar.set_length(days.total);
            bar.set_position(walk.days);
        }
        if page * DAYS >= days.total {
            break;
        }
        page += 1;
    }
    bar.finish_and_clear();
    let audit: AuditProof = client.get("/audit/proof").await?;
    walk.intact = walk.broken.is_empty() && audit.intact;
    walk.audit = Some(audit);
    output::print(output, &walk, told);
    Ok(if walk.intact {
        ExitCode::SUCCESS
    } else {
        ExitCode::from(1)
    })
}

fn told(walk: &Walk) {
    if let Some(audit) = walk.audit.as_ref().filter(|audit| !audit.intact) {
        let broken: Vec<String> = audit.broken.iter().map(i64::to_string).collect();
        println!(
            "◆ Audit trail: altered, put in, or with one missing before them: {}.",
            broken.join(", ")
        );
    }
    let Some((day, sha256)) = &walk.head else {
        println!("No day is sealed yet. The first is sealed an hour after it is over.");
        return;
    };
    if walk.intact {
        println!(
            "● Documents and audit trail are unaltered. Days: {}, documents: {}.",
            walk.days, walk.documents
        );
    }
    for proof in &walk.broken {
        println!("◆ {}", proof.day.day);
        if !proof.day.intact {
            println!(
                "  The day's list, the day before it or the audit trail is not what was sealed."
            );
        }
        for (words, faults) in [
            ("altered", &proof.altered),
            ("missing", &proof.missing),
            ("added", &proof.added),
        ] {
            for fault in faults {
                println!("  {words}: {} of run {}", fault.file_name, fault.run);
            }
        }
    }
    if walk.let_go > 0 {
        println!("  Removed when their term was over: {}.", walk.let_go);
    }
    println!(
        "The last day, {day}, has the digest {sha256}. Note it somewhere else: it shows whether everything was written anew."
    );
}
