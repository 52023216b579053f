//! The second factor of signing in.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Whether a second factor is asked for.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SecondFactor {
    /// Since when; nothing if it is not.
    pub since: Option<DateTime<Utc>>,
    /// Recovery codes that were not used yet.
    pub recovery_codes: i64,
}

/// Who they are that want to change how they sign in.
#[derive(Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PasswordAgain {
    pub password: String,
}

/// A key for a device that shows codes. It is shown only now.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct NewSecondFactor {
    /// In base 32, for typing.
    pub key: String,
    /// The same as an address (`otpauth`), for programs.
    pub uri: String,
    /// The same as a picture (SVG), for a camera.
    pub svg: String,
}

/// A code that the device shows, or a recovery code.
#[derive(Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Code {
    pub code: String,
}

/// Codes that are good once each, for whoever has lost their device. They are shown only now.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct RecoveryCodes {
    pub codes: Vec<String>,
}
