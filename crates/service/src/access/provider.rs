//! Signing in by the organisation's identity provider. What must be known when the browser is back stands
//! sealed in a cookie of that browser, so a sign-in that one browser began is of no use to another.

use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD};
use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_directory::{LetIn, NotLooked, ProviderError};
use maple_lark_store::{
    Store, StoreError,
    directory::{DirectoryUser, Entered},
    people::User,
};
use serde::{Deserialize, Serialize};
use url::Url;

use super::{LONGEST_NAME, is_of_a_name};
use crate::{
    config::IdentityProvider,
    secrets::{Vault, VaultError},
};

/// How long somebody may take at the provider.
pub const PATIENCE: TimeDelta = TimeDelta::minutes(15);
/// What is sealed for a browser that is away.
const AWAY: &str = "sign-in by the identity provider";

/// Why nobody was signed in. What the provider said is for the log alone.
#[derive(Debug, thiserror::Error)]
pub enum ProviderSignInError {
    #[error("This sign-in was begun in another browser or too long ago. Begin again.")]
    Stale,
    #[error("The identity provider did not let you in.")]
    Declined,
    #[error(
        "The identity provider knows you, but none of your groups may sign in here. Ask your administrator."
    )]
    NotLetIn,
    #[error("Somebody else here has the name \"{0}\". Ask your administrator.")]
    NameTaken(String),
    #[error(
        "The identity provider gave no answer that counts, so nobody can sign in by it now. Try again in a moment; your administrator finds the reason in the log."
    )]
    Provider(#[from] ProviderError),
    #[error("The service cannot sign anybody in at the moment.")]
    Vault(#[from] VaultError),
    #[error("The service cannot sign anybody in at the moment.")]
    Store(#[from] StoreError),
}

/// What must be known when the browser is back.
#[derive(Serialize, Deserialize)]
struct Away {
    state: String,
    nonce: String,
    verifier: String,
    /// Where they wanted to go.
    to: String,
    until: DateTime<Utc>,
}

/// What the browser comes back with.
pub struct Back<'a> {
    pub code: Option<&'a str>,
    pub state: Option<&'a str>,
    /// Who says that it sent the browser (RFC 9207).
    pub issuer: Option<&'a str>,
    pub error: Option<&'a str>,
}

/// A place of our own; what leads elsewhere leads to the first page.
#[must_use]
pub fn own_place(to: Option<&str>) -> String {
    let is_own = |to: &&str| {
        to.starts_with('/')
            && !to.starts_with("//")
            && to
                .chars()
                .all(|sign| sign.is_ascii_graphic() && sign != '\\')
    };
    to.filter(is_own).unwrap_or("/").to_owned()
}

/// Where the browser goes to sign in, and the cookie that it keeps meanwhile.
///
/// # Errors
/// If the provider gives no answer.
pub async fn begin(
    organisation: &IdentityProvider,
    vault: &Vault,
    to: Option<&str>,
    now: DateTime<Utc>,
) -> Result<(Url, String), ProviderSignInError> {
    let begun = organisation.provider.begin().await?;
    let away = Away {
        state: begun.state,
        nonce: begun.nonce,
        verifier: begun.verifier,
        to: own_place(to),
        until: now + PATIENCE,
    };
    let text = serde_json::json!(away).to_string();
    let sealed = vault.seal(AWAY, &text)?;
    Ok((begun.address, URL_SAFE_NO_PAD.encode(sealed)))
}

/// Who it is that came back, and where they wanted to go.
///
/// # Errors
/// If the sign-in is not one that this browser began, the provider did not let them in or
/// signed nothing that holds, or they may not sign in here.
pub async fn finish(
    store: &Store,
    organisation: &IdentityProvider,
    vault: &Vault,
    (cookie, back): (Option<&str>, &Back<'_>),
    now: DateTime<Utc>,
) -> Result<(User, String), ProviderSignInError> {
    let stale = || ProviderSignInError::Stale;
    let sealed = URL_SAFE_NO_PAD.decode(cookie.ok_or_else(stale)?);
    let text = vault.open(AWAY, &sealed.map_err(|_| stale())?);
    let away: Away = serde_json::from_str(&text.map_err(|_| stale())?).map_err(|_| stale())?;
    let other_issuer = back
        .issuer
        .is_some_and(|issuer| issuer != organisation.provider.issuer());
    if away.until < now || back.state != Some(away.state.as_str()) || other_issuer {
        return Err(stale());
    }
    if let Some(error) = back.error {
        let error: String = error.chars().take(100).collect();
        tracing::warn!(error, "the identity provider did not let somebody in");
        return Err(ProviderSignInError::Declined);
    }
    let code = back.code.ok_or_else(stale)?.to_owned();
    let let_in = organisation
        .provider
        .finish(code, away.nonce, away.verifier)
        .await?;
    let name = let_in.person.name.clone();
    match stand(store, (organisation, vault), let_in, now).await? {
        Standing::User(user) => Ok((*user, away.to)),
        Standing::NotLetIn => Err(ProviderSignInError::NotLetIn),
        Standing::NameTaken => Err(ProviderSignInError::NameTaken(name)),
    }
}

/// What the provider makes of somebody now.
pub enum Standing {
    User(Box<User>),
    /// None of their groups has a role here, or an administrator has disabled them.
    NotLetIn,
    NameTaken,
}

/// A name as users have them here: dots stand for what none has.
fn own_name(name: &str) -> String {
    let signs = name.chars().take(LONGEST_NAME);
    signs
        .map(|sign| if is_of_a_name(sign) { sign } else { '.' })
        .collect()
}

/// What a grant is sealed as: that of one user is of no use for another.
fn sealed_as(subject: &str) -> String {
    format!("grant of {subject}")
}

/// Brings the user of somebody whom the provider lets in up to date.
async fn stand(
    store: &Store,
    (organisation, vault): (&IdentityProvider, &Vault),
    let_in: LetIn,
    now: DateTime<Utc>,
) -> Result<Standing, ProviderSignInError> {
    let person = let_in.person;
    let Some(role) = organisation.meaning.role(&person) else {
        return Ok(Standing::NotLetIn);
    };
    // The same name at another provider is somebody else.
    let subject = format!("{} {}", organisation.provider.issuer(), person.entry);
    let grant = let_in.grant;
    let sealed = grant.map(|grant| vault.seal(&sealed_as(&subject), &grant));
    let user = DirectoryUser {
        teams: organisation.meaning.teams(&person),
        name: own_name(&person.name),
        email: person.mail,
        entry: subject,
        role,
    };
    let led_to = organisation.meaning.led_to();
    let entered = store.enter_from_provider(&user, &led_to, sealed.transpose()?, now);
    Ok(match entered.await? {
        Entered::User(user) => Standing::User(user),
        Entered::Disabled => Standing::NotLetIn,
        Entered::NameTaken => Standing::NameTaken,
    })
}

/// Looks whether the provider still lets a user in, and brings them up to date if it does.
///
/// # Errors
/// If the provider gives no answer, which says nothing of them.
pub async fn look_again(
    store: &Store,
    organisation: &IdentityProvider,
    vault: &Vault,
    user: &User,
    now: DateTime<Utc>,
) -> Result<Standing, ProviderSignInError> {
    let (Some(subject), Some(sealed)) = (&user.provider_subject, &user.provider_grant) else {
        return Ok(Standing::NotLetIn);
    };
    // Of a provider that is not the one in the configuration any more.
    let Some((_, own)) = subject
        .split_once(' ')
        .filter(|(issuer, _)| *issuer == organisation.provider.issuer())
    else {
        return Ok(Standing::NotLetIn);
    };
    let grant = vault.open(&sealed_as(subject), sealed)?;
    match organisation.provider.look_again(&grant, own).await {
        Ok(Some(let_in)) => stand(store, (organisation, vault), let_in, now).await,
        Ok(None) => Ok(Standing::NotLetIn),
        Err(NotLooked { error, grant }) => {
            // The one that was used is good no more, and without the next they would be out.
            if let Some(next) = grant {
                let sealed = vault.seal(&sealed_as(subject), &next)?;
                store.keep_grant(user.id, sealed).await?;
            }
            Err(error.into())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_one_that_users_have_here() {
        for (given, own) in [
            ("runa.holm", "runa.holm"),
            ("Runa Holm", "Runa.Holm"),
            ("runa@orrin-sound.example", "runa@orrin-sound.example"),
            ("../admin?x", "...admin.x"),
        ] {
            assert_eq!(own_name(given), own);
        }
        assert_eq!(own_name(&"å".repeat(90)).chars().count(), LONGEST_NAME);
    }

    #[test]
    fn nobody_is_led_elsewhere() {
        for own in ["/", "/runs/7?page=2#top", "/view/promises"] {
            assert_eq!(own_place(Some(own)), own);
        }
        for other in [
            "//evil.example",
            "https://evil.example",
            "/\\evil.example",
            "runs",
            "",
            "/\r\nSet-Cookie: a",
            "/ö",
            "javascript:alert(1)",
        ] {
            assert_eq!(own_place(Some(other)), "/", "{other:?}");
        }
        assert_eq!(own_place(None), "/");
    }
}
