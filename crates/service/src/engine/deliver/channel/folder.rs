//! Files in a folder of this machine.

use std::path::{Path, PathBuf};

use maple_lark_definition::{Channel, FolderSettings, Setting};
use maple_lark_delivery::{DeliveryError, is_within, remove_files, write_files};
use maple_lark_store::deliveries::Delivery;
use uuid::Uuid;

use super::{ChannelDriver, ChannelError, refused};
use crate::engine::{
    deliver::{Deliverer, failure::Failure},
    shared::Shared,
};

/// A channel of this kind with its settings.
pub struct Folder<'a> {
    pub channel: &'a Channel,
    pub settings: &'a FolderSettings,
}

#[rocket::async_trait]
impl ChannelDriver for Folder<'_> {
    async fn send(&self, deliverer: &Deliverer, delivery: &Delivery) -> Result<String, Failure> {
        let (shared, channel, settings) = (&*deliverer.shared, self.channel, self.settings);
        let run = shared.store.run(delivery.run_id).await?;
        let report = run.map(|run| run.report).unwrap_or_default();
        let folder = folder(shared, &settings.folder)
            .await
            .map_err(|error| refused(channel, error))?
            .join(&report);
        let documents = shared
            .store
            .documents_of_snapshot(delivery.snapshot_id, "")
            .await?;
        let names: Vec<String> = documents
            .iter()
            .map(|document| document.file_name.clone())
            .collect();
        let shown = folder.display().to_string();
        let into = folder.clone();
        let written = tokio::task::spawn_blocking(move || {
            write_files(
                &into,
                documents
                    .iter()
                    .map(|one| (one.file_name.as_str(), &one.body[..])),
            )
        });
        let written = written
            .await
            .unwrap_or_else(|error| Err(std::io::Error::other(error)));
        // A full disk is made room on; a folder that may not be written is given rights.
        written.map_err(|error| DeliveryError::Postponed {
            server: shown.clone(),
            words: error.to_string(),
        })?;
        let gone = match settings.keep {
            // A copy of an old run must not push a newer one out.
            Some(keep) if delivery.copy == 0 => {
                forget_old(shared, &report, delivery, &folder, keep, &names).await?
            }
            _ => 0,
        };
        let removed = if gone > 0 {
            format!(", {gone} old files removed")
        } else {
            String::new()
        };
        Ok(format!("{} files in {shown}{removed}", names.len()))
    }

    async fn test(&self, shared: &Shared) -> Result<String, ChannelError> {
        let (_channel, settings) = (self.channel, self.settings);
        let folder = folder(shared, &settings.folder).await?;
        let name = format!("maple-lark-test-{}.txt", Uuid::now_v7());
        let tried = write_files(&folder, [(name.as_str(), &b"test\n"[..])])
            .and_then(|()| remove_files(&folder, [name.as_str()]));
        tried
            .map(|()| format!("files can be written to {}", folder.display()))
            .map_err(|error| ChannelError::Folder {
                folder: folder.display().to_string(),
                error,
            })
    }
}

/// The folder of a channel, if files may be written there.
///
/// # Errors
/// What to do, where they may not.
async fn folder(shared: &Shared, written: &str) -> Result<PathBuf, ChannelError> {
    let folder = match written.strip_prefix("env:") {
        Some(name) => {
            let setting = Setting::Environment(name.to_owned());
            shared.reader.setting(&setting).await?
        }
        None => written.to_owned(),
    };
    if is_within(Path::new(&folder), &shared.config.deliver_into) {
        return Ok(PathBuf::from(folder));
    }
    Err(ChannelError::FolderNotAllowed(folder))
}

/// Removes files of runs before the last `keep` from a folder, but none that a newer run has
/// under the same name.
async fn forget_old(
    shared: &Shared,
    report: &str,
    delivery: &Delivery,
    folder: &Path,
    keep: u32,
    newest: &[String],
) -> Result<usize, Failure> {
    // Newest is the run whose window ends last, not the one that was made last: a window that is
    // made up for later must not push out what came after it.
    let delivered = shared
        .store
        .accepted_on(report, &delivery.audience, &delivery.via, delivery.run_id)
        .await?;
    let mut kept: Vec<String> = newest.to_vec();
    let (mut runs, mut gone) = (Vec::new(), Vec::new());
    for one in &delivered {
        if !runs.contains(&one.run_id) {
            runs.push(one.run_id);
        }
        if one.run_id == delivery.run_id {
            continue;
        }
        let names = shared.store.document_heads(one.run_id).await?;
        let names = names
            .into_iter()
            .filter(|head| head.snapshot_id == one.snapshot_id && head.variant.is_empty())
            .map(|head| head.file_name);
        if runs.len() <= keep as usize {
            kept.extend(names);
        } else {
            gone.extend(names);
            // Those before it were removed when it was still kept.
            if runs.len() > keep as usize + 1 {
                break;
            }
        }
    }
    gone.retain(|name| !kept.contains(name) && folder.join(name).exists());
    let removed = remove_files(folder, gone.iter().map(String::as_str));
    removed.map_err(|error| DeliveryError::Postponed {
        server: folder.display().to_string(),
        words: error.to_string(),
    })?;
    Ok(gone.len())
}
