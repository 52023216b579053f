//! The whole archive, day by day: what is altered, missing or added.

use std::{collections::BTreeMap, process::ExitCode};

use chrono::NaiveDate;
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

/// A digest that somebody noted outside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Noted {
    day: NaiveDate,
    sha256: String,
}

/// Not a day with its digest.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
#[error("\"{0}\" is not a day with its digest, such as 2026-11-27=3fa4…")]
pub struct BadNote(String);

/// As it is typed.
pub fn noted(text: &str) -> Result<Noted, BadNote> {
    let wrong = || BadNote(text.to_owned());
    let (day, sha256) = text.split_once('=').ok_or_else(wrong)?;
    let sha256 = sha256.trim().to_lowercase();
    let is_digest = sha256.len() == 64 && sha256.bytes().all(|sign| sign.is_ascii_hexdigit());
    let day = day.trim().parse().map_err(|_| wrong())?;
    is_digest.then_some(Noted { day, sha256 }).ok_or_else(wrong)
}

/// How a digest that was noted compares.
#[derive(Serialize)]
struct Compared {
    day: NaiveDate,
    noted: String,
    /// What the archive has now; nothing if that day is not sealed.
    now: Option<String>,
    same: bool,
}

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
    /// Digests that were noted outside.
    compared: Vec<Compared>,
    /// The audit trail itself, of which each day has only the end.
    audit: Option<AuditProof>,
}

/// Goes through every day of the archive.
pub async fn walk(client: &Client, output: Output, noted: &[Noted]) -> Result<ExitCode, Failure> {
    let mut walk = Walk::default();
    let mut known: BTreeMap<NaiveDate, String> = BTreeMap::new();
    let mut page = 1;
    let bar = ProgressBar::new(0);
    loop {
        let path = format!("/archive/days?page={page}&size={DAYS}");
        let days: ArchiveDayPage = client.get(&path).await?;
        for day in &days.items {
            let proof: ArchiveDayProof = client.get(&format!("/archive/days/{}", day.day)).await?;
            walk.head
                .get_or_insert_with(|| (day.day.to_string(), day.sha256.clone()));
            known.insert(day.day, day.sha256.clone());
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
    let compared = noted.iter().map(|one| Compared {
        day: one.day,
        same: known.get(&one.day) == Some(&one.sha256),
        noted: one.sha256.clone(),
        now: known.get(&one.day).cloned(),
    });
    walk.compared = compared.collect();
    let same = walk.compared.iter().all(|one| one.same);
    walk.intact = walk.broken.is_empty() && audit.intact && same;
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
    for one in &walk.compared {
        match (&one.now, one.same) {
            (_, true) => println!("● {} has the digest that was noted.", one.day),
            (Some(now), false) => println!(
                "◆ {} has another digest than was noted: {now}. Something was altered, removed or put in since, or it was not noted right.",
                one.day
            ),
            (None, _) => println!("◆ {} is no day that is sealed.", one.day),
        }
    }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_digest_is_noted_with_its_day() {
        let digest = "3fa4".repeat(16);
        let read = noted(&format!("2026-11-27={}", digest.to_uppercase())).unwrap();
        assert_eq!(
            (read.day.to_string(), read.sha256),
            ("2026-11-27".to_owned(), digest.clone())
        );
        for wrong in [
            "2026-11-27",
            "2026-11-27=3fa4",
            &format!("yesterday={digest}"),
            &format!("2026-11-27={}", "zz".repeat(32)),
        ] {
            assert!(
                noted(wrong)
                    .unwrap_err()
                    .to_string()
                    .contains("is not a day with its digest"),
                "{wrong}"
            );
        }
    }
}
