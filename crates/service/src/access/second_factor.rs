//! The second factor: codes that change with the time (RFC 6238), and recovery codes.

use chrono::{DateTime, Utc};
use maple_lark_store::{Store, people::User};
use qrcode::{QrCode, render::svg};
use totp_rs::{Builder, Totp};

use super::{PAIR_LIMIT, SignInError, WAIT, token_hash};
use crate::secrets::{Vault, VaultError};

/// Bytes of a key: 160 bits, as RFC 4226 recommends.
const KEY: usize = 20;
/// So many recovery codes are made.
const RECOVERY_CODES: usize = 10;
/// Signs of a recovery code; 32 of them, so that each is worth five bits. None looks like another.
const SIGNS: &[u8; 32] = b"abcdefghijkmnpqrstuvwxyz23456789";
const LONG: usize = 12;

/// Why there is no second factor.
#[derive(Debug, thiserror::Error)]
pub enum FactorError {
    #[error(transparent)]
    Vault(#[from] VaultError),
    #[error("a second factor is asked for already; turn it off first")]
    On,
    #[error("no second factor was begun; begin again")]
    NotBegun,
    #[error(
        "the code is not the one that is shown now; check the clock of your device, and try the next one"
    )]
    Wrong,
    #[error("the key cannot be used: {0}")]
    Key(String),
    #[error(transparent)]
    Store(#[from] maple_lark_store::StoreError),
}

/// A key that is to be put into a device.
pub struct Proposed {
    /// In base 32, for typing.
    pub key: String,
    /// The same as an address, for programs.
    pub uri: String,
    /// The same as a picture, for a camera.
    pub svg: String,
}

/// What the sealed key of a user is called.
fn sealed_as(user: &User) -> String {
    format!("second factor of {}", user.id)
}

fn totp(key: Vec<u8>, user: &User) -> Result<Totp, FactorError> {
    let name = user.name.replace(':', " ");
    let built = Builder::new()
        .with_secret(key)
        .with_account_name(name)
        .with_issuer(Some("Maple Lark"));
    built
        .build()
        .map_err(|error| FactorError::Key(error.to_string()))
}

fn of_user(vault: &Vault, user: &User) -> Result<Option<Totp>, FactorError> {
    let Some(sealed) = &user.second_factor else {
        return Ok(None);
    };
    let key = vault.open(&sealed_as(user), sealed)?;
    let key = hex::decode(key).map_err(|error| FactorError::Key(error.to_string()))?;
    totp(key, user).map(Some)
}

/// Makes a key for a user, which is asked for once they have shown that their device has it.
pub async fn propose(store: &Store, vault: &Vault, user: &User) -> Result<Proposed, FactorError> {
    let mut key = [0; KEY];
    getrandom::fill(&mut key).map_err(|_| VaultError::NoRandomness)?;
    let totp = totp(key.to_vec(), user)?;
    let unusable = |error: &dyn std::fmt::Display| FactorError::Key(error.to_string());
    let uri = totp.to_url().map_err(|error| unusable(&error))?;
    let code = QrCode::new(&uri).map_err(|error| unusable(&error))?;
    let svg = code
        .render::<svg::Color<'_>>()
        .min_dimensions(200, 200)
        .build();
    let sealed = vault.seal(&sealed_as(user), &hex::encode(key))?;
    if !store.propose_second_factor(user.id, sealed).await? {
        return Err(FactorError::On);
    }
    Ok(Proposed {
        key: totp_rs::Secret::from(key).to_base32(),
        uri,
        svg,
    })
}

/// Asks for the second factor from now on. Answers with the recovery codes, shown once.
pub async fn confirm(
    store: &Store,
    vault: &Vault,
    user: &User,
    code: &str,
    now: DateTime<Utc>,
) -> Result<Vec<String>, FactorError> {
    let totp = of_user(vault, user)?.ok_or(FactorError::NotBegun)?;
    let step = totp
        .check(&plain(code), seconds(now))
        .ok_or(FactorError::Wrong)?;
    let codes = recovery_codes()?;
    let digests: Vec<String> = codes.iter().map(|code| digest(code)).collect();
    let confirmed = store
        .confirm_second_factor(user.id, step.cast_signed(), &digests, now)
        .await?;
    if confirmed {
        Ok(codes)
    } else {
        Err(FactorError::On)
    }
}

/// Whether a code is one of a user's second factor, or a recovery code; none is good twice.
///
/// # Errors
/// If it is none, too many were tried, or the key cannot be opened.
pub async fn check(
    store: &Store,
    vault: &Vault,
    user: &User,
    code: &str,
    now: DateTime<Utc>,
) -> Result<(), SignInError> {
    let subject = format!("code:{}", user.name);
    if store.count_failure(&subject, now, WAIT, PAIR_LIMIT).await? > PAIR_LIMIT {
        return Err(SignInError::Blocked);
    }
    let given = plain(code);
    let fits = if given.len() == 6 && given.bytes().all(|sign| sign.is_ascii_digit()) {
        let totp = of_user(vault, user).map_err(|error| SignInError::Factor(error.to_string()))?;
        let step = totp.and_then(|totp| totp.check(&given, seconds(now)));
        match step {
            Some(step) => {
                store
                    .take_second_factor_step(user.id, step.cast_signed())
                    .await?
            }
            None => false,
        }
    } else {
        store.take_recovery_code(user.id, &digest(code)).await?
    };
    if !fits {
        return Err(SignInError::WrongCode);
    }
    store.forget_failures(&subject).await?;
    Ok(())
}

fn seconds(now: DateTime<Utc>) -> u64 {
    now.timestamp().max(0).unsigned_abs()
}

/// A code without what people put between its parts.
fn plain(code: &str) -> String {
    let signs = code.chars().filter(|sign| sign.is_alphanumeric());
    signs.flat_map(char::to_lowercase).take(LONG + 1).collect()
}

fn digest(code: &str) -> String {
    token_hash(&plain(code))
}

fn recovery_codes() -> Result<Vec<String>, VaultError> {
    let mut codes = Vec::new();
    for _ in 0..RECOVERY_CODES {
        let mut bytes = [0u8; LONG];
        getrandom::fill(&mut bytes).map_err(|_| VaultError::NoRandomness)?;
        let signs = bytes.map(|byte| char::from(SIGNS[usize::from(byte % 32)]));
        let parts = signs.chunks(4).map(|part| part.iter().collect::<String>());
        codes.push(parts.collect::<Vec<_>>().join("-"));
    }
    Ok(codes)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn user(name: &str) -> User {
        User {
            id: uuid::Uuid::nil(),
            ..User::new(name.to_owned(), maple_lark_api::Role::Viewer, Utc::now())
        }
    }

    /// The values of RFC 6238, appendix B, for SHA-1, of which six digits are shown.
    #[test]
    fn codes_are_those_of_the_standard() {
        let totp = totp(b"12345678901234567890".to_vec(), &user("ann")).unwrap();
        for (at, code) in [
            (59, "287082"),
            (1_111_111_109, "081804"),
            (1_234_567_890, "005924"),
            (20_000_000_000, "353130"),
        ] {
            assert_eq!(totp.check(code, at), Some(at / 30));
            // One step to either side, for clocks that differ; no more.
            assert_eq!(totp.check(code, at + 30), Some(at / 30));
            assert_eq!(totp.check(code, at + 60), None);
        }
    }

    #[test]
    fn a_key_is_opened_only_for_the_user_that_it_was_sealed_for() {
        let vault = Vault::new(Some(&[7; 32]));
        let mut ann = user("ann:of:the:port");
        let sealed = vault
            .seal(&sealed_as(&ann), &hex::encode([1; KEY]))
            .unwrap();
        ann.second_factor = Some(sealed);
        assert!(of_user(&vault, &ann).unwrap().is_some());
        let other = User {
            id: uuid::Uuid::max(),
            ..ann.clone()
        };
        assert!(of_user(&vault, &other).is_err());
        assert!(of_user(&Vault::new(None), &ann).is_err());
        assert!(of_user(&vault, &user("bob")).unwrap().is_none());
    }

    #[test]
    fn recovery_codes_are_all_different_and_read_with_or_without_hyphens() {
        let codes = recovery_codes().unwrap();
        let all: std::collections::BTreeSet<&String> = codes.iter().collect();
        assert_eq!((codes.len(), all.len()), (10, 10));
        assert_eq!(codes[0].len(), LONG + 2);
        let shouted = codes[0].replace('-', " ").to_uppercase();
        assert_eq!(digest(&codes[0]), digest(&shouted));
        assert_ne!(digest(&codes[0]), digest(&codes[1]));
        assert!(
            SIGNS
                .iter()
                .collect::<std::collections::BTreeSet<_>>()
                .len()
                == 32
        );
    }
}
