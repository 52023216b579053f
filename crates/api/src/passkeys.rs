//! Passkeys: keys of people's devices, which they sign in with (WebAuthn).

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;
use uuid::Uuid;

/// A passkey of yours.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Passkey {
    pub id: Uuid,
    pub title: String,
    pub created_at: DateTime<Utc>,
    /// When somebody last signed in with it; nothing if nobody did.
    pub last_used_at: Option<DateTime<Utc>>,
}

/// What a device is asked, to be answered within five minutes.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct PasskeyChallenge {
    pub challenge: Uuid,
    /// The options of `navigator.credentials.create` or `.get`, with bytes in base64url.
    pub options: Value,
}

/// A device's answer with a new passkey.
#[derive(Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPasskey {
    pub challenge: Uuid,
    /// What you call the device.
    pub title: String,
    /// What `navigator.credentials.create` gave, as `toJSON` writes it.
    pub answer: Value,
}

/// A device's answer to who signs in.
#[derive(Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PasskeyAnswer {
    pub challenge: Uuid,
    /// What `navigator.credentials.get` gave, as `toJSON` writes it.
    pub answer: Value,
}
