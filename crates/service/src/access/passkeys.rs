//! Passkeys (WebAuthn, level 2): a device signs what it is asked, after it has made sure of its user.
//! So one is worth a password and a second factor, and none can be used on another site.

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_api::SignsInBy;
use maple_lark_store::{
    Store, StoreError,
    passkeys::{AddedPasskey, Challenge, StoredPasskey},
    people::User,
};
use serde_json::Value;
use url::{Host, Url};
use uuid::Uuid;
use webauthn_rs::prelude::{
    DiscoverableAuthentication, DiscoverableKey, Passkey, PasskeyRegistration, PublicKeyCredential,
    RegisterPublicKeyCredential, Webauthn, WebauthnBuilder, WebauthnError,
};

use super::{ADDRESS_LIMIT, WAIT};

/// So long a device may take to answer.
const PATIENCE: TimeDelta = TimeDelta::minutes(5);
/// So many one user has at most.
const MOST: usize = 20;
const LONGEST_TITLE: usize = 80;

/// Why a passkey is not taken.
#[derive(Debug, thiserror::Error)]
pub enum PasskeyError {
    #[error("{0}")]
    Unavailable(&'static str),
    #[error(
        "you sign in by the organisation's directory or identity provider; passkeys are set up there"
    )]
    Elsewhere,
    #[error("you have {MOST} passkeys, which is the limit; remove one first")]
    TooMany,
    #[error("a passkey has a name of 1 to {LONGEST_TITLE} characters")]
    Title,
    #[error("this took too long, or was answered before; begin again")]
    Stale,
    #[error("the device's answer is not what was asked for: {0}")]
    Answer(WebauthnError),
    #[error("this passkey has been added already")]
    Known,
    #[error("this passkey is not known here; sign in with your name and password")]
    Unknown,
    #[error("too many attempts to sign in; wait five minutes and try again")]
    Blocked,
    #[error("what was asked cannot be kept: {0}")]
    State(#[from] serde_json::Error),
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// What a browser hands to a device, and what it is called when it is answered.
pub struct Asked {
    pub challenge: Uuid,
    pub options: Value,
}

/// Whether browsers let people sign in with passkeys at an address: by a name, and over TLS unless it is
/// this machine's own.
///
/// # Errors
/// Why not.
pub fn available(public_url: &str) -> Result<Webauthn, PasskeyError> {
    let needs = PasskeyError::Unavailable(
        "passkeys need a public-url that begins with https:// and has a name in it, not an address; ask your administrator",
    );
    let Ok(url) = Url::parse(public_url) else {
        return Err(needs);
    };
    match url.host() {
        Some(Host::Domain(host)) if url.scheme() == "https" || host == "localhost" => {
            let built = WebauthnBuilder::new(host, &url)
                .and_then(|builder| builder.rp_name("Maple Lark").build());
            built.map_err(|_| needs)
        }
        _ => Err(needs),
    }
}

async fn keep(
    store: &Store,
    user_id: Option<Uuid>,
    state: Value,
    now: DateTime<Utc>,
) -> Result<Uuid, StoreError> {
    let one = Challenge {
        id: Uuid::new_v4(),
        user_id,
        state,
        expires_at: now + PATIENCE,
    };
    store.keep_challenge(&one, now).await?;
    Ok(one.id)
}

/// Asks a device of a user for a passkey.
///
/// # Errors
/// If it cannot have one here, or has too many.
pub async fn propose(
    store: &Store,
    public_url: &str,
    user: &User,
    now: DateTime<Utc>,
) -> Result<Asked, PasskeyError> {
    let site = available(public_url)?;
    if user.signs_in_by() != SignsInBy::Password {
        return Err(PasskeyError::Elsewhere);
    }
    let known = store.passkeys(user.id).await?;
    if known.len() >= MOST {
        return Err(PasskeyError::TooMany);
    }
    // A device that has one is not given another.
    let known: Result<Vec<Passkey>, _> = known
        .into_iter()
        .map(|one| serde_json::from_value(one.passkey))
        .collect();
    let known = known?.iter().map(|one| one.cred_id().clone()).collect();
    let begun = site.start_passkey_registration(user.id, &user.name, &user.name, Some(known));
    let (options, state) = begun.map_err(PasskeyError::Answer)?;
    let mut options = serde_json::to_value(options)?;
    // People sign in with it without saying who they are, so the device must keep that, too.
    if let Some(wanted) = options.pointer_mut("/publicKey/authenticatorSelection") {
        wanted["residentKey"] = "required".into();
        wanted["requireResidentKey"] = true.into();
    }
    let state = serde_json::to_value(state)?;
    let challenge = keep(store, Some(user.id), state, now).await?;
    Ok(Asked { challenge, options })
}

/// Keeps the passkey that a device answers with.
///
/// # Errors
/// If it is not an answer to what was asked, or is kept already.
pub async fn add(
    store: &Store,
    public_url: &str,
    user: &User,
    (challenge, title, answer): (Uuid, &str, RegisterPublicKeyCredential),
    now: DateTime<Utc>,
) -> Result<StoredPasskey, PasskeyError> {
    let site = available(public_url)?;
    let title = title.trim();
    if title.is_empty() || title.chars().count() > LONGEST_TITLE {
        return Err(PasskeyError::Title);
    }
    let state = store.take_challenge(challenge, Some(user.id), now).await?;
    let state: PasskeyRegistration = serde_json::from_value(state.ok_or(PasskeyError::Stale)?)?;
    let passkey = site
        .finish_passkey_registration(&answer, &state)
        .map_err(PasskeyError::Answer)?;
    let one = StoredPasskey {
        id: Uuid::now_v7(),
        user_id: user.id,
        title: title.chars().filter(|sign| !sign.is_control()).collect(),
        credential: named(passkey.cred_id().as_ref()),
        passkey: serde_json::to_value(&passkey)?,
        created_at: now,
        last_used_at: None,
    };
    match store.add_passkey(&one, MOST as i64).await? {
        AddedPasskey::Kept => Ok(one),
        AddedPasskey::Known => Err(PasskeyError::Known),
        AddedPasskey::TooMany => Err(PasskeyError::TooMany),
    }
}

/// Asks whatever device is at hand who signs in.
///
/// # Errors
/// If passkeys are not to be had here, or too many were asked for from an address.
pub async fn ask(
    store: &Store,
    public_url: &str,
    address: &str,
    now: DateTime<Utc>,
) -> Result<Asked, PasskeyError> {
    let site = available(public_url)?;
    let subject = subject(address);
    if store
        .count_failure(&subject, now, WAIT, ADDRESS_LIMIT)
        .await?
        > ADDRESS_LIMIT
    {
        return Err(PasskeyError::Blocked);
    }
    let begun = site.start_discoverable_authentication();
    let (options, state) = begun.map_err(PasskeyError::Answer)?;
    let mut options = serde_json::to_value(options)?;
    // It is asked for when somebody presses a button, not behind a field.
    if let Some(all) = options.as_object_mut() {
        all.remove("mediation");
    }
    let state = serde_json::to_value(state)?;
    let challenge = keep(store, None, state, now).await?;
    Ok(Asked { challenge, options })
}

fn subject(address: &str) -> String {
    format!("passkey:{address}")
}

fn named(credential: &[u8]) -> String {
    use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD};
    URL_SAFE_NO_PAD.encode(credential)
}

/// Who has signed with a device, as [`ask`] wanted it.
///
/// # Errors
/// If it is not an answer to what was asked, or nobody who may sign in has this passkey.
pub async fn sign_in(
    store: &Store,
    public_url: &str,
    address: &str,
    (challenge, answer): (Uuid, PublicKeyCredential),
    now: DateTime<Utc>,
) -> Result<User, PasskeyError> {
    let site = available(public_url)?;
    let state = store.take_challenge(challenge, None, now).await?;
    let state: DiscoverableAuthentication =
        serde_json::from_value(state.ok_or(PasskeyError::Stale)?)?;
    let identified = site.identify_discoverable_authentication(&answer);
    let (user, credential) = identified.map_err(PasskeyError::Answer)?;
    let kept = store.passkey(&named(credential)).await?;
    let kept = kept.filter(|kept| kept.user_id == user);
    let kept = kept.ok_or(PasskeyError::Unknown)?;
    let user = store.user_now(user).await?.map(|(user, _)| user);
    let user =
        user.filter(|user| user.disabled_at.is_none() && user.signs_in_by() == SignsInBy::Password);
    let user = user.ok_or(PasskeyError::Unknown)?;
    let mut passkey: Passkey = serde_json::from_value(kept.passkey)?;
    let key = DiscoverableKey::from(&passkey);
    let signed = site.finish_discoverable_authentication_v2(&answer, state, &key);
    let signed = signed.map_err(PasskeyError::Answer)?;
    let changed = passkey.update_credential(&signed).unwrap_or_default();
    let changed = changed
        .then(|| serde_json::to_value(&passkey))
        .transpose()?;
    if !store.used_passkey(kept.id, changed, now).await? {
        return Err(PasskeyError::Unknown);
    }
    store.forget_failures(&subject(address)).await?;
    store.know_place(&user.name, address, now).await?;
    Ok(user)
}
