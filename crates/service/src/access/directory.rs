//! Signing in by the organisation's directory: who it knows and whose groups have a role here becomes
//! a user, at their first sign-in and at each later one.

use chrono::{DateTime, Utc};
use maple_lark_directory::Person;
use maple_lark_store::{
    Store, StoreError,
    directory::{DirectoryUser, Entered},
    people::User,
};

use super::SignInError;
use crate::config::Organisation;

/// What the directory makes of somebody now.
pub enum Standing {
    /// A user, as they are now.
    User(Box<User>),
    /// The directory knows them, and none of their groups has a role here; or an administrator has
    /// disabled them.
    NotLetIn,
}

/// Whoever has this name and password in the directory.
///
/// # Errors
/// If nobody has, if they may not sign in here, or the directory gives no answer.
pub async fn sign_in(
    store: &Store,
    organisation: &Organisation,
    (name, password): (&str, &str),
    now: DateTime<Utc>,
) -> Result<User, SignInError> {
    let found = organisation.directory.sign_in(name, password).await;
    let person = found.map_err(|error| {
        tracing::error!(%error, "somebody could not sign in by the directory");
        SignInError::Directory
    })?;
    let person = person.ok_or(SignInError::Wrong)?;
    match stand(store, organisation, &person, now).await? {
        Standing::User(user) => Ok(*user),
        Standing::NotLetIn => Err(SignInError::NotLetIn),
    }
}

/// Brings the user of somebody in the directory up to date.
pub async fn stand(
    store: &Store,
    organisation: &Organisation,
    person: &Person,
    now: DateTime<Utc>,
) -> Result<Standing, StoreError> {
    let Some(role) = organisation.meaning.role(person) else {
        return Ok(Standing::NotLetIn);
    };
    let user = DirectoryUser {
        name: person.name.clone(),
        entry: person.entry.clone(),
        email: person.mail.clone(),
        role,
        teams: organisation.meaning.teams(person),
    };
    let entered = store
        .enter_from_directory(&user, &organisation.meaning.led_to(), now)
        .await?;
    Ok(match entered {
        Entered::User(user) => Standing::User(user),
        Entered::Disabled | Entered::NameTaken => Standing::NotLetIn,
    })
}
