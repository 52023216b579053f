use std::{
    path::{Path, PathBuf},
    process::ExitCode,
};

use clap::Args;
use maple_lark_api::{DocumentView, Format, Match, RunView, Words, readable_size};

use sha2::{Digest, Sha256};

use crate::{
    client::Client,
    command::archive_walk::{self, Noted, noted},
    failure::Failure,
    output::{self, Output, instant},
    words::words,
};

/// Download the documents of a run
#[derive(Args)]
#[command(after_help = "Example:\n  maple-lark download 0193… --format pdf --into reports/")]
pub struct Download {
    /// The run's id
    run: uuid::Uuid,
    /// Only documents of this format
    #[arg(long, value_parser = words::<Format>())]
    format: Option<Format>,
    /// The folder to write to; it is made if it is not there
    #[arg(long, value_name = "FOLDER", default_value = ".")]
    into: PathBuf,
}

impl Download {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let view: RunView = client.get(&format!("/runs/{}", self.run)).await?;
        let wanted: Vec<DocumentView> = view
            .documents
            .into_iter()
            .filter(|document| self.format.is_none_or(|format| format == document.format))
            .collect();
        if wanted.is_empty() {
            return Err(Failure::Local("this run has no such documents".to_owned()));
        }
        // Files of two audiences have names of their own unless nothing but defaults differs.
        let clash = wanted.iter().enumerate().any(|(index, one)| {
            wanted[..index].iter().any(|earlier| {
                (&earlier.file_name, &earlier.variant) == (&one.file_name, &one.variant)
            })
        });
        let mut paths = Vec::new();
        for document in &wanted {
            let bytes = client.bytes(&format!("/documents/{}", document.id)).await?;
            let mut folder = if clash {
                self.into.join(document.snapshot_id.to_string())
            } else {
                self.into.clone()
            };
            // What somebody reads in their own way has the same names, so it has a folder.
            if !document.variant.is_empty() {
                folder.push(document.variant.replace(
                    |c: char| !c.is_ascii_alphanumeric() && !"-.,".contains(c),
                    "_",
                ));
            }
            let path = save(&folder, &document.file_name, &bytes)?;
            paths.push((path.display().to_string(), document.size));
        }
        output::print(output, &paths, |paths| {
            for (path, bytes) in paths {
                println!("{path}  {}", readable_size(bytes.unsigned_abs()));
            }
        });
        Ok(())
    }
}

/// Writes a file whole or not at all.
pub fn save(folder: &Path, name: &str, bytes: &[u8]) -> Result<PathBuf, Failure> {
    // The service makes names without folders; one that has them is not believed.
    let name = Path::new(name)
        .file_name()
        .ok_or_else(|| Failure::Local(format!("\"{name}\" is no file name")))?;
    let (path, hidden) = (
        folder.join(name),
        folder.join(format!(".{}", uuid::Uuid::now_v7())),
    );
    let written = std::fs::create_dir_all(folder)
        .and_then(|()| std::fs::write(&hidden, bytes))
        .and_then(|()| std::fs::rename(&hidden, &path));
    written.map_err(|error| {
        Failure::Local(format!("{} cannot be written: {error}", path.display()))
    })?;
    Ok(path)
}

/// Render the documents of a stored run again, in any format
#[derive(Args)]
#[command(
    after_help = "The data is that of the run's snapshot; no source is asked again.\n\nExample:\n  maple-lark render 0193… --format xlsx --into reports/\n  maple-lark render 0193… --format png --block \"Latency of health checks\""
)]
pub struct Render {
    /// The run's id
    run: uuid::Uuid,
    /// The format to render
    #[arg(long, value_parser = words::<Format>())]
    format: Format,
    /// With png: one chart by its title, instead of the first page
    #[arg(long, value_name = "TITLE")]
    block: Option<String>,
    /// The folder to write to; it is made if it is not there
    #[arg(long, value_name = "FOLDER", default_value = ".")]
    into: PathBuf,
}

impl Render {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let view: RunView = client.get(&format!("/runs/{}", self.run)).await?;
        if view.snapshots.is_empty() {
            return Err(Failure::Local(
                "this run has no snapshot to write from; it has not collected its data".to_owned(),
            ));
        }
        let mut paths: Vec<(String, i64)> = Vec::new();
        for snapshot in &view.snapshots {
            let block = self.block.as_deref().map(|title| ("block", title));
            let (name, bytes) = client
                .file(
                    &format!(
                        "/snapshots/{}/documents/{}",
                        snapshot.id,
                        self.format.word()
                    ),
                    block.as_slice(),
                )
                .await?;
            let clash = paths.iter().any(|(path, _)| {
                Path::new(path)
                    .file_name()
                    .is_some_and(|taken| *taken == *name)
            });
            let folder = if clash {
                self.into.join(snapshot.id.to_string())
            } else {
                self.into.clone()
            };
            paths.push((
                save(&folder, &name, &bytes)?.display().to_string(),
                bytes.len() as i64,
            ));
        }
        output::print(output, &paths, |paths| {
            for (path, bytes) in paths {
                println!("{path}  {}", readable_size(bytes.unsigned_abs()));
            }
        });
        Ok(())
    }
}

/// Check files against the archive: whether they are what was made here, byte for byte
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark verify ferry-operations-daily_2026-11-22.pdf\n  maple-lark verify --archive\n\nEnds with code 1 if a file is not known, or anything was altered, is missing or was added."
)]
pub struct Verify {
    /// The files, as they were received
    #[arg(required_unless_present = "archive")]
    files: Vec<PathBuf>,
    /// Instead, go through all that was made here, day by day, and name what is altered, missing or
    /// added
    #[arg(long, conflicts_with = "files")]
    archive: bool,
    /// With --archive: the digest that somebody noted of a day, such as from the mail about it, to be
    /// compared
    #[arg(long, requires = "archive", value_name = "DAY=SHA256", value_parser = noted)]
    digest: Vec<Noted>,
}

impl Verify {
    #[expect(
        clippy::too_many_lines,
        reason = "fetches, compares, writes and reports, in that order"
    )]
    pub async fn run(self, client: &Client, output: Output) -> Result<ExitCode, Failure> {
        if self.archive {
            return archive_walk::walk(client, output, &self.digest).await;
        }
        let mut outcomes: Vec<(String, Option<Match>)> = Vec::new();
        for file in &self.files {
            let bytes = std::fs::read(file).map_err(|error| {
                Failure::Local(format!("{} cannot be read: {error}", file.display()))
            })?;
            let found = match client
                .get::<Match>(&format!(
                    "/documents?sha256={}",
                    hex::encode(Sha256::digest(&bytes))
                ))
                .await
            {
                Ok(found) => Some(found),
                Err(Failure::Refused(problem)) if problem.status == 404 => None,
                Err(failure) => return Err(failure),
            };
            outcomes.push((file.display().to_string(), found));
        }
        output::print(output, &outcomes, |outcomes| {
            for (file, found) in outcomes {
                match found {
                    Some(found) => {
                        println!("● {file}: unaltered");
                        println!(
                            "  {}, {}, made {} by run {}",
                            found.report,
                            found.window,
                            found.made_at.format("%-d %b %Y %H:%M UTC"),
                            found.run
                        );
                        if let Some(at) = found.document.removed_at {
                            println!("  its bytes here went {}", instant(Some(at)));
                        }
                        if let Some(at) = found.snapshot_removed_at {
                            println!("  its snapshot went {}", instant(Some(at)));
                            continue;
                        }
                        println!(
                            "  its snapshot {}",
                            if found.snapshot_unaltered {
                                "is unaltered"
                            } else {
                                "◆ WAS ALTERED in the archive"
                            }
                        );
                        println!(
                            "  rendered again from the snapshot: {}",
                            if found.reproducible {
                                "the same bytes"
                            } else {
                                "other bytes (another version of the program?)"
                            }
                        );
                    }
                    None => {
                        println!("◆ {file}: not known: it was not made here, or was altered since")
                    }
                }
            }
        });
        let well = outcomes.iter().all(|(_, found)| {
            let is_well =
                |found: &Match| found.snapshot_unaltered || found.snapshot_removed_at.is_some();
            found.as_ref().is_some_and(is_well)
        });
        Ok(if well {
            ExitCode::SUCCESS
        } else {
            ExitCode::from(1)
        })
    }
}
