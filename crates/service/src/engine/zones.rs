//! Keeps to the system's rules of time zones, which are updated while the service stands.

use std::{sync::Arc, time::Duration};

use maple_lark_time::zone::rules_in_use;
use maple_lark_zones::Watch;
use tokio::sync::watch;

use super::{schedule::reschedule, shared::Shared};

/// How often the zone files are looked at.
const EVERY: Duration = Duration::from_secs(20);

/// Looks at the zone files once in a while; where they have changed, works out anew when each
/// report is due. The first look was at the start of the service.
pub async fn watch_zone_rules(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    let mut files = Watch::of(maple_lark_zones::folder());
    let mut told = String::new();
    while !*stopped.borrow() {
        let looked = tokio::task::spawn_blocking(move || {
            let changed = files.look();
            (files, changed)
        });
        let Ok((back, changed)) = looked.await else {
            tracing::error!("the zone files are not looked at any more; restart the service");
            return;
        };
        files = back;
        match changed {
            Ok(true) => {
                let rules = rules_in_use();
                tracing::info!(version = %rules.version, "time zones go by the system's rules");
                if let Err(error) = reschedule(&shared).await {
                    tracing::error!(%error, "when reports are due could not be worked out anew; it is at the next start");
                }
                shared.wake.notify_waiters();
            }
            Ok(false) => {}
            Err(error) if told != error.to_string() => {
                told = error.to_string();
                let rules = rules_in_use();
                tracing::warn!(%error, version = %rules.version, "the system's rules of time zones cannot be used; those in use stay");
            }
            Err(_) => {}
        }
        tokio::select! {
            () = tokio::time::sleep(EVERY) => {}
            _ = stopped.changed() => {}
        }
    }
}

/// Uses the system's rules before anything is worked out by others, and says so where they, or
/// the ones that the program brings along, have grown old.
pub fn use_zone_rules(now: chrono::DateTime<chrono::Utc>) {
    if let Err(error) = maple_lark_zones::use_folder(&maple_lark_zones::folder()) {
        tracing::warn!(%error, "the system's rules of time zones cannot be used; the ones of this program are");
    }
    let rules = rules_in_use();
    if rules.is_old(now) {
        tracing::warn!(version = %rules.version, "the rules of time zones are older than a year, and clocks may have been changed by law since; update the package tzdata of this machine");
    }
}
