//! Invitations, and passwords that people choose.

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_api::SignsInBy;
use maple_lark_store::{Store, StoreError, people::User};
use zxcvbn::{Score, zxcvbn};

use super::{
    CHECKING, LONGEST, PAIR_LIMIT, SignInError, WAIT, checked, directory, hash_password,
    random_token, token_hash,
};
use crate::Config;

/// An invitation is good for so long.
const INVITED_FOR: TimeDelta = TimeDelta::days(7);
/// A password has so many characters at least.
const SHORTEST: usize = 10;

/// Why a password is not taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum BadPassword {
    #[error("it is too short: use {SHORTEST} characters or more, such as four words")]
    Short,
    #[error("it is too long: use {LONGEST} characters or fewer")]
    Long,
    #[error(
        "it is one of those that are tried first; use several words that do not belong together"
    )]
    Common,
}

/// Whether a password is one that people may choose. Length counts, and that it is not among those
/// which are guessed first (NIST SP 800-63B, 3.1.1.2); what signs it is made of does not.
///
/// # Errors
/// What is wrong with it.
pub fn check_password(password: &str, name: &str, email: Option<&str>) -> Result<(), BadPassword> {
    if password.chars().count() < SHORTEST {
        return Err(BadPassword::Short);
    }
    if password.len() > LONGEST {
        return Err(BadPassword::Long);
    }
    let own = [name, email.unwrap_or_default(), "maple", "lark"];
    if zxcvbn(password, &own).score() < Score::Two {
        return Err(BadPassword::Common);
    }
    Ok(())
}

/// The digest of a password, worked out beside what goes on.
pub async fn hashed(password: String) -> String {
    let _turn = CHECKING.acquire().await;
    tokio::task::spawn_blocking(move || hash_password(&password))
        .await
        // Nothing may be kept in the place of a digest: it would lock its user out.
        .expect("a digest is made, or the request ends here")
}

/// Makes an invitation for a user, which is also how somebody gets a new password. Answers with
/// the secret part of its link, shown once, and when it ends.
pub async fn invite(store: &Store, user: &User) -> Result<(String, DateTime<Utc>), StoreError> {
    let (token, now) = (random_token(), Utc::now());
    let until = now + INVITED_FOR;
    store
        .add_invitation(user.id, &token_hash(&token), now, until)
        .await?;
    Ok((token, until))
}

/// Accepts an invitation with a password; nothing if it is not good (any more).
pub async fn accept(
    store: &Store,
    token: &str,
    password: String,
) -> Result<Option<Result<User, BadPassword>>, StoreError> {
    let (digest, now) = (token_hash(token), Utc::now());
    let Some((user, _)) = store.invited(&digest, now).await? else {
        return Ok(None);
    };
    if let Err(bad) = check_password(&password, &user.name, user.email.as_deref()) {
        return Ok(Some(Err(bad)));
    }
    let hash = hashed(password).await;
    Ok(store.accept_invitation(&digest, &hash, now).await?.map(Ok))
}

/// Whether a password opens a published view; whoever has its address tries no more often than at the
/// door.
///
/// # Errors
/// If it is another, or too many were tried.
pub async fn opens_view(
    store: &Store,
    (view, hash): (uuid::Uuid, &str),
    given: &str,
    address: &str,
) -> Result<(), SignInError> {
    let subject = format!("view:{view} {address}");
    let tried = store
        .count_failure(&subject, Utc::now(), WAIT, PAIR_LIMIT)
        .await?;
    if tried > PAIR_LIMIT {
        return Err(SignInError::Blocked);
    }
    if given.len() > LONGEST || !checked(given.to_owned(), Some(hash.to_owned())).await {
        return Err(SignInError::WrongPassword);
    }
    Ok(store.forget_failures(&subject).await?)
}

/// Whether somebody who is signed in knows their password. Whoever sits at a browser that was left
/// signed in guesses no more often than at the door.
///
/// # Errors
/// If the one that they have is another, or that was tried too often.
pub async fn knows_password(
    store: &Store,
    config: &Config,
    user: &User,
    given: String,
) -> Result<(), SignInError> {
    if user.signs_in_by() == SignsInBy::Provider {
        return Err(SignInError::Elsewhere);
    }
    let subject = format!("password:{}", user.name);
    if store
        .count_failure(&subject, Utc::now(), WAIT, PAIR_LIMIT)
        .await?
        > PAIR_LIMIT
    {
        return Err(SignInError::Blocked);
    }
    if given.len() > LONGEST {
        return Err(SignInError::Wrong);
    }
    match config
        .directory
        .as_ref()
        .filter(|_| user.directory_entry.is_some())
    {
        Some(organisation) => {
            let who = (user.name.as_str(), given.as_str());
            directory::sign_in(store, organisation, who, Utc::now()).await?;
        }
        None if checked(given, Some(user.password_hash.clone())).await => {}
        None => return Err(SignInError::Wrong),
    }
    Ok(store.forget_failures(&subject).await?)
}

/// Gives a user the password that they want. Their sessions end but the one with the digest
/// `stays`.
///
/// # Errors
/// If the one that they have is another, or that was tried too often.
pub async fn change_password(
    store: &Store,
    config: &Config,
    user: &User,
    (current, new): (String, String),
    stays: Option<&str>,
) -> Result<Result<(), BadPassword>, SignInError> {
    knows_password(store, config, user, current).await?;
    if let Err(bad) = check_password(&new, &user.name, user.email.as_deref()) {
        return Ok(Err(bad));
    }
    let hash = hashed(new).await;
    store.change_password(user.id, &hash, stays).await?;
    Ok(Ok(()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn length_counts_and_what_is_tried_first_is_refused() {
        let of = |password: &str| {
            check_password(password, "runa.holm", Some("runa@orrin-sound.example"))
        };
        assert_eq!(of("kT7#x"), Err(BadPassword::Short));
        assert_eq!(of(&"é".repeat(200)), Err(BadPassword::Long));
        for common in [
            "password123",
            "1234567890",
            "qwertyuiop",
            "runa.holm1",
            "aaaaaaaaaaaa",
        ] {
            assert_eq!(of(common), Err(BadPassword::Common), "{common}");
        }
        // No signs are asked for.
        for good in [
            "ferry tide lantern crow",
            "havnes pier at dawn",
            "gurkmejavagn",
        ] {
            assert_eq!(of(good), Ok(()), "{good}");
        }
    }
}
