//! Looks again and again whether the organisation's directory, or its identity provider, still lets its
//! people in.

use std::{error::Error, sync::Arc, time::Duration};

use chrono::{DateTime, Utc};
use maple_lark_api::AuditOutcome;
use maple_lark_directory::DirectoryError;
use maple_lark_store::{StoreError, audit::NewEntry, people::User};
use tokio::sync::watch;

use super::shared::Shared;
use crate::{
    access::{
        directory::{Standing, stand},
        provider::{ProviderSignInError, Standing as ProviderStanding, look_again},
    },
    config::{IdentityProvider, Organisation},
};

/// How long it is waited at least before it is looked again.
const SHORTEST: Duration = Duration::from_millis(250);

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

/// Looks at each user of the identity provider in turn until the engine stops. Who is not let in any
/// more is out; a provider that gives no answer puts nobody out.
pub async fn watch_the_provider(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    let Some(organisation) = shared.config.identity_provider.clone() else {
        return;
    };
    let Some(every) = organisation.check_every else {
        return;
    };
    while !*stopped.borrow() {
        if let Err(error) = look_at_the_provider(&shared, &organisation, every).await {
            tracing::error!(%error, "it could not be looked whom the identity provider still lets in");
        }
        // Each user has a time of their own.
        tokio::select! {
            () = tokio::time::sleep((every / 4).max(SHORTEST)) => {}
            _ = stopped.changed() => {}
        }
    }
}

async fn look_at_the_provider(
    shared: &Shared,
    organisation: &IdentityProvider,
    every: Duration,
) -> Result<(), StoreError> {
    let store = &shared.store;
    loop {
        let now = shared.now();
        let Some(user) = store.take_provider_user(now - every, now).await? else {
            return Ok(());
        };
        match look_again(store, organisation, &shared.config.vault, &user, now).await {
            Ok(ProviderStanding::User(_)) => {}
            // Whom an administrator has disabled is out already.
            Ok(_) if user.disabled_at.is_some() => {}
            Ok(ProviderStanding::NotLetIn | ProviderStanding::NameTaken) => {
                put_out(shared, &user, now).await?;
            }
            Err(ProviderSignInError::Store(error)) => return Err(error),
            Err(error) => {
                let cause = error.source().map(ToString::to_string);
                tracing::error!(user = user.name, %error, cause, "this user stays until the identity provider says whether they are let in");
            }
        }
    }
}

async fn put_out(shared: &Shared, user: &User, now: DateTime<Utc>) -> Result<(), StoreError> {
    if !shared.store.leave_directory(user.id, now).await? {
        return Ok(());
    }
    tracing::info!(
        user = user.name,
        "the organisation does not let this user in any more"
    );
    shared
        .store
        .audit(&NewEntry {
            at: now,
            actor: Some(user.name.clone()),
            address: None,
            action: "left_directory".to_owned(),
            subject: user.name.clone(),
            detail: user
                .directory_entry
                .clone()
                .or(user.provider_subject.clone()),
            outcome: AuditOutcome::Done,
        })
        .await
}
