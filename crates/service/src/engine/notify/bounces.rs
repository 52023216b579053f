//! Reads bounces from a Maildir: each message once, and kept where it was.

use std::{
    path::{Path, PathBuf},
    sync::Arc,
    time::Duration,
};

use maple_lark_api::{DeliveryState, NoticeKind};
use maple_lark_delivery::{Bounce, read_bounce};
use tokio::sync::watch;

use super::{owner_of, tell};
use crate::{
    config::Bounces,
    engine::shared::{Shared, WorkError},
};

const EVERY: Duration = Duration::from_secs(5);
/// A notification is short; what is longer is no notification.
const LARGEST: u64 = 1 << 20;

pub async fn watch_the_maildir(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    let Some(bounces) = shared.config.bounces.clone() else {
        return;
    };
    while !*stopped.borrow() {
        if let Err(error) = read_new(&shared, &bounces).await {
            let words = match error {
                WorkError::Store(error) => error.to_string(),
                WorkError::Run(words) => words,
            };
            tracing::error!(words, maildir = %bounces.maildir.display(), "bounces cannot be read");
        }
        tokio::select! {
            () = tokio::time::sleep(EVERY) => {}
            _ = stopped.changed() => {}
        }
    }
}

async fn read_new(shared: &Shared, bounces: &Bounces) -> Result<(), WorkError> {
    let new = bounces.maildir.join("new");
    let unreadable = |error: std::io::Error| WorkError::Run(format!("{}: {error}", new.display()));
    for path in files(&new).map_err(unreadable)? {
        // Whoever can move it to "cur" has it; another process finds it gone.
        let name = path
            .file_name()
            .unwrap_or_default()
            .to_string_lossy()
            .into_owned();
        let seen = bounces.maildir.join("cur").join(format!("{name}:2,S"));
        let found = match tokio::fs::metadata(&path).await {
            Ok(about) if about.len() <= LARGEST => tokio::fs::read(&path)
                .await
                .map(|bytes| read_bounce(&bytes))
                .unwrap_or_default(),
            _ => Vec::new(),
        };
        for bounce in &found {
            note(shared, bounces, bounce).await?;
        }
        // Only now: a process that died before comes to the same end again.
        if let Err(error) = tokio::fs::rename(&path, &seen).await
            && error.kind() != std::io::ErrorKind::NotFound
        {
            return Err(unreadable(error));
        }
    }
    Ok(())
}

fn files(folder: &Path) -> std::io::Result<Vec<PathBuf>> {
    let mut found: Vec<PathBuf> = std::fs::read_dir(folder)?
        .flatten()
        .map(|entry| entry.path())
        .filter(|path| path.is_file())
        .collect();
    found.sort();
    found.truncate(500);
    Ok(found)
}

/// Marks the delivery, and counts what is wrong with the address itself. A bounce counts only
/// if it is of a message of ours: anybody can write to the address that bounces come to.
async fn note(shared: &Shared, bounces: &Bounces, bounce: &Bounce) -> Result<(), WorkError> {
    let Some(message_id) = &bounce.message_id else {
        return Ok(());
    };
    let sent = shared.store.deliveries_with(message_id).await?;
    let of = |recipient: &str| {
        recipient
            .to_lowercase()
            .contains(&bounce.recipient.to_lowercase())
    };
    let Some(delivery) = sent.iter().find(|delivery| of(&delivery.recipient)) else {
        tracing::warn!(recipient = %bounce.recipient, "a bounce is of no delivery on record");
        return Ok(());
    };
    if delivery.state == DeliveryState::Bounced {
        return Ok(());
    }
    let words = format!("returned: {} {}", bounce.status, bounce.words);
    let now = shared.now();
    if bounce.is_hard()
        && shared
            .store
            .count_bounce(&bounce.recipient, &words, bounces.limit, now)
            .await?
    {
        tracing::warn!(recipient = %bounce.recipient, words, "suppressed");
        let run = shared.store.run(delivery.run_id).await?;
        let owner = run
            .as_ref()
            .and_then(|run| owner_of(&run.definitions, &run.report));
        let text = format!(
            "{} is suppressed: {words}. It gets nothing until somebody puts it back.",
            bounce.recipient
        );
        tell(
            shared,
            NoticeKind::Suppressed,
            &bounce.recipient,
            None,
            owner,
            &text,
        )
        .await?;
    }
    shared.store.mark_bounced(delivery.id, &words).await?;
    Ok(())
}
