//! Who may do what. Every permission is checked here, in the guards of `guard`.

use maple_lark_api::Role;
mod guard;

use argon2::{
    Argon2,
    password_hash::{PasswordHasher, PasswordVerifier, phc::PasswordHash},
};
use chrono::{TimeDelta, Utc};
use maple_lark_store::{
    Store, StoreError,
    people::{ApiToken, Session, User},
};
use sha2::{Digest, Sha256};
use uuid::Uuid;

use crate::Config;

pub use guard::{Administrator, Author, SESSION_COOKIE, Viewer};

/// How long a sign-in in the console lasts.
const SESSION_HOURS: i64 = 12;
/// Failed sign-ins of one name, or from one address, before both must wait.
const NAME_LIMIT: i32 = 5;
const ADDRESS_LIMIT: i32 = 30;
const WAIT: TimeDelta = TimeDelta::minutes(5);

#[derive(Debug, thiserror::Error)]
pub enum SignInError {
    #[error("the name or the password is wrong")]
    Wrong,
    #[error("too many failed sign-ins; wait five minutes and try again")]
    Blocked,
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// 256 random bits, to be shown once.
fn random_token() -> String {
    let mut bytes = [0u8; 32];
    // Without random bytes no secret can be made, so there is nothing to go on with.
    getrandom::fill(&mut bytes).expect("the operating system gives random bytes");
    hex::encode(bytes)
}

/// Tokens are long and random, so a plain digest keeps them safe at rest.
pub fn token_hash(token: &str) -> String {
    hex::encode(Sha256::digest(token.as_bytes()))
}

fn hash_password(password: &str) -> String {
    // Fails only for parameters that are not those of the default.
    Argon2::default()
        .hash_password(password.as_bytes())
        .map(|hash| hash.to_string())
        .unwrap_or_default()
}

fn password_fits(password: &str, hash: &str) -> bool {
    PasswordHash::new(hash).is_ok_and(|parsed| {
        Argon2::default()
            .verify_password(password.as_bytes(), &parsed)
            .is_ok()
    })
}

/// Makes the administrator at the very first start and prints the password once.
pub async fn first_administrator(store: &Store, config: &Config) -> Result<(), StoreError> {
    if store.user_count().await? > 0 {
        return Ok(());
    }
    let given = config.first_administrator_password.clone();
    let password = given
        .clone()
        .unwrap_or_else(|| random_token()[..20].to_owned());
    let hash = hash_password(&password);
    let user = User {
        id: Uuid::now_v7(),
        name: "admin".to_owned(),
        password_hash: hash,
        role: Role::Administrator.into(),
        created_at: Utc::now(),
    };
    if store.add_user(user).await? && given.is_none() {
        println!(
            "First start: sign in as \"admin\" with the password {password}\nIt is shown only now."
        );
    }
    Ok(())
}

/// Checks name and password, at most a few times in a row for a name and for an address.
pub async fn sign_in(
    store: &Store,
    name: &str,
    password: &str,
    address: &str,
) -> Result<User, SignInError> {
    let now = Utc::now();
    let subjects = [
        (format!("name:{name}"), NAME_LIMIT),
        (format!("address:{address}"), ADDRESS_LIMIT),
    ];
    for (subject, limit) in &subjects {
        if store.failures(subject, now - WAIT).await? >= *limit {
            return Err(SignInError::Blocked);
        }
    }
    let user = store.user_by_name(name).await?;
    let hash = user.as_ref().map(|user| user.password_hash.clone());
    let password = password.to_owned();
    // An unknown name costs as much time as a wrong password.
    let fits = tokio::task::spawn_blocking(move || match hash {
        Some(hash) => password_fits(&password, &hash),
        None => {
            hash_password(&password);
            false
        }
    })
    .await
    .unwrap_or(false);
    match user {
        Some(user) if fits => {
            store.forget_failures(&subjects[0].0).await?;
            Ok(user)
        }
        _ => {
            for (subject, _) in &subjects {
                store.count_failure(subject, now, WAIT).await?;
            }
            tracing::warn!(name, address, "a sign-in failed");
            Err(SignInError::Wrong)
        }
    }
}

/// Begins a session and answers with its token.
pub async fn begin_session(store: &Store, user: &User) -> Result<String, StoreError> {
    let token = random_token();
    let now = Utc::now();
    store
        .add_session(Session {
            token_hash: token_hash(&token),
            user_id: user.id,
            created_at: now,
            expires_at: now + TimeDelta::hours(SESSION_HOURS),
        })
        .await?;
    Ok(token)
}

/// Makes an API token and answers with it; only its hash is kept.
pub async fn issue_token(
    store: &Store,
    user: &User,
    name: &str,
) -> Result<(Uuid, String), StoreError> {
    let token = format!("ml_{}", random_token());
    let id = Uuid::now_v7();
    store
        .add_token(ApiToken {
            id,
            user_id: user.id,
            name: name.to_owned(),
            token_hash: token_hash(&token),
            created_at: Utc::now(),
            last_used_at: None,
        })
        .await?;
    Ok((id, token))
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn a_password_fits_its_own_hash_and_nothing_else_does() {
        let hash = hash_password("correct horse");
        assert!(
            hash.starts_with("$argon2id$") && !hash.contains("correct"),
            "{hash}"
        );
        assert!(password_fits("correct horse", &hash));
        for wrong in ["correct hors", "Correct horse", "correct horse ", ""] {
            assert!(!password_fits(wrong, &hash), "{wrong:?}");
        }
        // The same password twice is not to be seen as such.
        assert_ne!(hash, hash_password("correct horse"));
        for broken in ["", "plain", "$argon2id$", &hash[..hash.len() - 4]] {
            assert!(!password_fits("correct horse", broken), "{broken:?}");
        }
    }

    #[test]
    fn tokens_are_long_and_never_the_same_and_their_hashes_give_nothing_away() {
        let tokens: BTreeSet<String> = (0..200).map(|_| random_token()).collect();
        assert_eq!(tokens.len(), 200);
        for token in &tokens {
            assert!(
                token.len() == 64 && token.chars().all(|c| c.is_ascii_hexdigit()),
                "{token}"
            );
            assert!(token_hash(token).len() == 64 && token_hash(token) != *token);
        }
        // SHA-256 of "abc", as FIPS 180-4 has it.
        assert_eq!(
            token_hash("abc"),
            "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"
        );
    }
}
