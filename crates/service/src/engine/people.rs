//! Looks again and again whether the organisation's directory still lets its people in.

use std::sync::Arc;

use chrono::{DateTime, Utc};
use maple_lark_api::AuditOutcome;
use maple_lark_directory::DirectoryError;
use maple_lark_store::{StoreError, audit::NewEntry, people::User};
use tokio::sync::watch;

use super::shared::Shared;
use crate::{
    access::directory::{Standing, stand},
    config::Organisation,
};

#[derive(Debug, thiserror::Error)]
enum LookError {
    #[error(transparent)]
    Directory(#[from] DirectoryError),
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Looks at each user of the directory in turn until the engine stops. Who has left, or is in no
/// group that may sign in any more, is out; a directory that gives no answer puts nobody out.
pub async fn watch_the_directory(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    let Some(organisation) = shared.config.directory.clone() else {
        return;
    };
    while !*stopped.borrow() {
        if let Err(error) = look(&shared, &organisation).await {
            tracing::error!(%error, "it could not be looked whom the directory still lets in; everybody stays until it can");
        }
        tokio::select! {
            () = tokio::time::sleep(organisation.check_every) => {}
            _ = stopped.changed() => {}
        }
    }
}

async fn look(shared: &Shared, organisation: &Organisation) -> Result<(), LookError> {
    for user in shared.store.directory_users().await? {
        let now = shared.now();
        let standing = match organisation.directory.find(&user.name).await {
            Ok(Some(person)) => stand(&shared.store, organisation, &person, now).await?,
            Ok(None) => Standing::NotLetIn,
            // What is wrong with one entry keeps nobody else from being looked at.
            Err(error @ DirectoryError::Several(_)) => {
                tracing::error!(user = user.name, %error, "this user stays until the directory says who it is");
                continue;
            }
            Err(error) => return Err(error.into()),
        };
        if matches!(standing, Standing::NotLetIn) && user.disabled_at.is_none() {
            put_out(shared, &user, now).await?;
        }
    }
    Ok(())
}

async fn put_out(shared: &Shared, user: &User, now: DateTime<Utc>) -> Result<(), StoreError> {
    if !shared.store.leave_directory(user.id, now).await? {
        return Ok(());
    }
    tracing::info!(
        user = user.name,
        "the directory does not let this user in any more"
    );
    shared
        .store
        .audit(&NewEntry {
            at: now,
            actor: Some(user.name.clone()),
            address: None,
            action: "left_directory".to_owned(),
            subject: user.name.clone(),
            detail: user.directory_entry.clone(),
            outcome: AuditOutcome::Done,
        })
        .await
}
