//! Who may do what. Every permission is checked here, in the guards of `guard`.

pub mod addresses;
pub mod directory;
mod guard;
pub mod passkeys;
mod passwords;
pub mod provider;
pub mod second_factor;
mod trail;

use argon2::{
    Argon2,
    password_hash::{PasswordHasher, PasswordVerifier, phc::PasswordHash},
};
use chrono::{DateTime, SubsecRound, TimeDelta, Utc};
use maple_lark_api::{Role, SignsInBy, TokenScope};
use maple_lark_definition::Kind;
use maple_lark_store::{
    Store, StoreError,
    people::{ApiToken, Session, User},
    teams::Sight,
};
use sha2::{Digest, Sha256};
use tokio::sync::Semaphore;
use uuid::Uuid;

use crate::{Config, api::problem::Refusal, secrets::Vault};

pub use passwords::{
    BadPassword, accept, change_password, hashed, invite, knows_password, opens_view,
};

pub use trail::Trail;

pub use guard::{Administrator, Asker, Author, Runner, SESSION_COOKIE, SignedIn, Viewer, sight_of};

/// How long a sign-in in the console lasts.
const SESSION_HOURS: i64 = 12;
/// Attempts on one name from one address, from one address on any name, and on one name from any
/// address, before they must wait. The last keeps nobody out who has signed in there before.
const PAIR_LIMIT: i32 = 5;
const ADDRESS_LIMIT: i32 = 30;
const NAME_LIMIT: i32 = 50;
pub const WAIT: TimeDelta = TimeDelta::minutes(5);
/// Longer names and passwords are nobody's.
const LONGEST: usize = 256;
/// So many passwords are checked at a time; each takes 19 MiB.
static CHECKING: Semaphore = Semaphore::const_new(2);

/// A user's name has so many characters at most.
pub const LONGEST_NAME: usize = 60;

/// Whether a user's name may have a character.
#[must_use]
pub fn is_of_a_name(sign: char) -> bool {
    sign.is_alphanumeric() || ".-_@".contains(sign)
}

#[derive(Debug, thiserror::Error)]
pub enum SignInError {
    #[error("the name or the password is wrong")]
    Wrong,
    #[error("too many attempts to sign in; wait five minutes and try again")]
    Blocked,
    #[error("the password is another")]
    WrongPassword,
    /// Name and password are right; that is not all.
    #[error("give a code of your second factor, too")]
    CodeNeeded,
    #[error(
        "the organisation's directory knows you, but none of your groups may sign in here; ask your administrator"
    )]
    NotLetIn,
    #[error(
        "the organisation's directory does not answer, so nobody of it can sign in now; try again in a moment"
    )]
    Directory,
    #[error("the code is not right, or was used before; try the next one, or a recovery code")]
    WrongCode,
    #[error(
        "you sign in by the organisation's identity provider, which has your password and your second factor; change them there"
    )]
    Elsewhere,
    #[error("{0}")]
    Factor(String),
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// 256 random bits, to be shown once.
pub(crate) fn random_token() -> String {
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

/// A definition that somebody wants to make, change or remove.
pub struct Subject<'a> {
    pub kind: Kind,
    pub name: &'a str,
    /// The teams that it has belonged to; none of them if to all, nothing if there was none.
    pub before: Option<Vec<String>>,
    /// The teams that it is to belong to; nothing if it is to be removed.
    pub after: Option<Vec<String>>,
}

/// The kinds of definitions that somebody of a role may change. What reaches other machines with
/// the secrets of this one is the administrator's, unless the configuration says otherwise.
pub fn kinds_to_change(role: Role, config: &Config) -> impl Iterator<Item = Kind> {
    Kind::ALL.into_iter().filter(move |kind| match role {
        Role::Viewer => false,
        Role::Author => {
            !matches!(kind, Kind::Source | Kind::Channel)
                || config.authors_may_change.contains(kind)
        }
        Role::Administrator => true,
    })
}

/// Whether somebody may change a definition: its kind is theirs to change, and who is in a team
/// changes what belongs to it; what belongs to all is changed by administrators, and by authors who are in none.
///
/// # Errors
/// If they may not.
pub fn may_change(
    user: &User,
    sight: &Sight,
    config: &Config,
    subject: &Subject<'_>,
) -> Result<(), Refusal> {
    if *user.role >= Role::Administrator {
        return Ok(());
    }
    if !kinds_to_change(*user.role, config).any(|kind| kind == subject.kind) {
        return Err(Refusal::Definition {
            kind: subject.kind,
            name: subject.name.to_owned(),
        });
    }
    let Some(own) = sight.teams() else {
        return Ok(());
    };
    let (kind, name) = (subject.kind.name(), subject.name);
    for teams in [&subject.before, &subject.after].into_iter().flatten() {
        if let Some(other) = teams.iter().find(|team| !own.contains(team)) {
            let words = format!(
                "you are not in a team \"{other}\", so the {kind} \"{name}\" cannot belong to it"
            );
            return Err(Refusal::Team(words));
        }
        if teams.is_empty() && !own.is_empty() {
            let words = match &own[..] {
                [team] => format!("give it to your team: team = \"{team}\""),
                teams => format!("give it to one of your teams: {}", teams.join(", ")),
            };
            return Err(Refusal::Team(format!(
                "the {kind} \"{name}\" belongs to all, and you make and change what belongs to your teams; {words}, or ask an administrator"
            )));
        }
    }
    Ok(())
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
        password_hash: hash,
        ..User::new("admin".to_owned(), Role::Administrator, Utc::now())
    };
    if store.add_user(user).await? && given.is_none() {
        println!(
            "First start: sign in as \"admin\" with the password {password}\nIt is shown only now."
        );
    }
    Ok(())
}

/// Whether a password fits a digest. Without one it takes as much time, so that an unknown name
/// is not told from a wrong password.
async fn checked(password: String, hash: Option<String>) -> bool {
    let _turn = CHECKING.acquire().await;
    tokio::task::spawn_blocking(move || match hash {
        Some(hash) => password_fits(&password, &hash),
        None => {
            hash_password(&password);
            false
        }
    })
    .await
    .unwrap_or(false)
}

/// What somebody signs in with.
pub struct Attempt<'a> {
    pub name: &'a str,
    pub password: &'a str,
    pub code: Option<&'a str>,
    /// Where they do it from.
    pub address: &'a str,
}

/// Refuses whoever is asked for a second factor and gives no code of it.
///
/// # Errors
/// If a code is needed, or the one that is given is not right.
pub async fn needs_code(
    store: &Store,
    vault: &Vault,
    user: &User,
    code: Option<&str>,
) -> Result<(), SignInError> {
    let code = code.map(str::trim).filter(|code| !code.is_empty());
    match (user.second_factor_at, code) {
        (None, _) => Ok(()),
        (Some(_), None) => Err(SignInError::CodeNeeded),
        (Some(_), Some(code)) => second_factor::check(store, vault, user, code, Utc::now()).await,
    }
}

/// Checks name, password and the code of a second factor, at most a few times in a row. An attempt is
/// counted before it is looked at, so that many at once are no more than one after the other.
pub async fn sign_in(
    store: &Store,
    config: &Config,
    attempt: &Attempt<'_>,
) -> Result<User, SignInError> {
    let Attempt {
        name,
        password,
        code,
        address,
    } = *attempt;
    if name.len() > LONGEST || password.len() > LONGEST {
        return Err(SignInError::Wrong);
    }
    let now = Utc::now();
    let known = store.knows_place(name, address).await?;
    let name_limit = if known { i32::MAX - 1 } else { NAME_LIMIT };
    let subjects = [
        (format!("address:{address}"), ADDRESS_LIMIT),
        (format!("pair:{address} {name}"), PAIR_LIMIT),
        (format!("name:{name}"), name_limit),
    ];
    for (subject, limit) in &subjects {
        if store.count_failure(subject, now, WAIT, *limit).await? > *limit {
            return Err(SignInError::Blocked);
        }
    }
    let user = match authenticated(store, config, (name, password), now).await {
        // The directory is what failed, and nobody has guessed.
        Err(error @ SignInError::Directory) => {
            for (subject, _) in &subjects {
                store.forgive_failure(subject).await?;
            }
            return Err(error);
        }
        other => other?,
    };
    match user {
        Some(user) => {
            if let Err(error) = needs_code(store, &config.vault, &user, code).await {
                // Whoever gives the code with the next attempt has not failed with this one.
                if matches!(error, SignInError::CodeNeeded) {
                    for (subject, _) in &subjects {
                        store.forgive_failure(subject).await?;
                    }
                }
                return Err(error);
            }
            let [address_tried, pair_tried, name_tried] = &subjects;
            store.forgive_failure(&address_tried.0).await?;
            store.forget_failures(&pair_tried.0).await?;
            store.forgive_failure(&name_tried.0).await?;
            store.know_place(name, address, now).await?;
            Ok(user)
        }
        None => {
            tracing::warn!(name, address, "a sign-in failed");
            Err(SignInError::Wrong)
        }
    }
}

/// Whoever has this name and password: here, or in the organisation's directory for names that are
/// nobody's here.
async fn authenticated(
    store: &Store,
    config: &Config,
    (name, password): (&str, &str),
    now: DateTime<Utc>,
) -> Result<Option<User>, SignInError> {
    let user = store.user_by_name(name).await?;
    let is_own = user
        .as_ref()
        .is_some_and(|user| user.signs_in_by() != SignsInBy::Directory);
    if let Some(organisation) = config.directory.as_ref().filter(|_| !is_own) {
        return match directory::sign_in(store, organisation, (name, password), now).await {
            Ok(user) => Ok(Some(user)),
            Err(SignInError::Wrong) => Ok(None),
            Err(other) => Err(other),
        };
    }
    // Who is disabled, or has not accepted an invitation yet, is as unknown as anybody.
    let user = user.filter(|user| user.disabled_at.is_none() && !user.password_hash.is_empty());
    let hash = user.as_ref().map(|user| user.password_hash.clone());
    let fits = checked(password.to_owned(), hash).await;
    Ok(user.filter(|_| fits))
}

/// Begins a session and answers with its token. `used_with` is what the browser calls itself.
pub async fn begin_session(
    store: &Store,
    user: &User,
    address: &str,
    used_with: Option<&str>,
) -> Result<String, StoreError> {
    let token = random_token();
    let now = Utc::now();
    store
        .add_session(Session {
            token_hash: token_hash(&token),
            user_id: user.id,
            created_at: now,
            expires_at: now + TimeDelta::hours(SESSION_HOURS),
            id: Uuid::now_v7(),
            address: Some(address.to_owned()),
            used_with: used_with.map(|program| program.chars().take(200).collect()),
        })
        .await?;
    Ok(token)
}

/// A token that is to be made.
pub struct Issue<'a> {
    /// What it is for.
    pub label: &'a str,
    pub scope: TokenScope,
    /// For how long it is good; until it is revoked if nothing is said.
    pub lasts: Option<TimeDelta>,
}

/// Makes an API token and answers with it and when it ends; only its hash is kept.
pub async fn issue_token(
    store: &Store,
    user: &User,
    issue: Issue<'_>,
) -> Result<(Uuid, String, Option<DateTime<Utc>>), StoreError> {
    let token = format!("ml_{}", random_token());
    let (id, now) = (Uuid::now_v7(), Utc::now());
    let label = issue.label.chars().filter(|c| !c.is_control());
    let expires_at = issue.lasts.map(|lasts| (now + lasts).trunc_subsecs(0));
    store
        .add_token(ApiToken {
            id,
            user_id: user.id,
            name: label.take(80).collect(),
            token_hash: token_hash(&token),
            created_at: now,
            last_used_at: None,
            scope: issue.scope.into(),
            expires_at,
        })
        .await?;
    Ok((id, token, expires_at))
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
