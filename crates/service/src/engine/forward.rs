//! Hands the audit trail on to a syslog receiver, entry by entry and in its order.

use std::{sync::Arc, time::Duration};

use maple_lark_definition::ChannelKind;
use maple_lark_delivery::DeliveryError;
use maple_lark_store::{StoreError, teams::Sight};
use tokio::sync::watch;

use super::{deliver::Syslog, shared::Shared};

/// How often it is looked whether there are entries.
const EVERY: Duration = Duration::from_secs(2);
/// After a receiver did not answer, it is tried again after so long.
const AFTER_A_FAULT: Duration = Duration::from_secs(10);
/// So many entries are handed on at a time.
const PIECE: u64 = 100;

/// Hands entries on until the engine stops.
pub async fn forward_the_audit_trail(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    let Some(name) = shared.config.audit_channel.clone() else {
        return;
    };
    let mut told = None;
    while !*stopped.borrow() {
        let rest = match forward(&shared, &name).await {
            Ok(true) => continue,
            Ok(false) => {
                told = None;
                EVERY
            }
            Err(error) => {
                let words = error.to_string();
                // The same words again say nothing new.
                if told.as_ref() != Some(&words) {
                    tracing::warn!(channel = name, "the audit trail is not handed on: {words}");
                    told = Some(words);
                }
                AFTER_A_FAULT
            }
        };
        tokio::select! {
            () = tokio::time::sleep(rest) => {}
            _ = stopped.changed() => {}
        }
    }
}

/// Why entries were not handed on.
#[derive(Debug, thiserror::Error)]
enum NotForwarded {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(
        "there is no channel \"{0}\" of kind syslog; apply one, or take audit-channel out of the configuration"
    )]
    NoChannel(String),
    #[error(transparent)]
    Delivery(#[from] DeliveryError),
}

/// Hands some entries on; answers with whether there may be more. An entry counts as handed on once
/// it has left, so one can come twice if this process dies in between, but none is left out.
async fn forward(shared: &Shared, name: &str) -> Result<bool, NotForwarded> {
    let definitions = shared.definitions.seen(&shared.store, &Sight::All).await?;
    let channel = definitions.set.channels.get(name);
    let Some((channel, ChannelKind::Syslog(settings))) = channel.map(|one| (one, &one.kind)) else {
        return Err(NotForwarded::NoChannel(name.to_owned()));
    };
    let syslog = Syslog { channel, settings };
    let Some(mut pending) = shared.store.entries_to_forward(PIECE).await? else {
        // Another process is at it.
        return Ok(false);
    };
    let entries = pending.entries();
    let many = entries.len() as u64 == PIECE;
    let mut failed = None;
    let mut last = None;
    for entry in &entries {
        if let Err(error) = syslog.entry(shared, entry).await {
            failed = Some(error);
            break;
        }
        last = Some(entry.id);
    }
    if let Some(last) = last {
        pending.forwarded(last).await?;
    }
    failed.map_or(Ok(many), |error| Err(error.into()))
}
