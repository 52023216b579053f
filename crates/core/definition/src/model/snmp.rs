//! As whom the service speaks SNMP.

use crate::model::setting::Setting;

/// As whom an SNMP agent is asked, or a receiver of notifications told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SnmpSignIn {
    /// Version 2c (RFC 1901): a word that goes over the network as it is. Only ever a reference.
    Community(Setting),
    /// Version 3 (RFC 3414): a user.
    User {
        /// Its name.
        name: Setting,
        /// How it proves who it is, if it does; with a password that is only ever a reference.
        authentication: Option<(SnmpHash, Setting)>,
        /// How what is said is encrypted, if it is; the same of its password.
        privacy: Option<(SnmpCipher, Setting)>,
    },
}

impl SnmpSignIn {
    /// The settings whose values nobody is to read.
    #[must_use]
    pub fn secrets(&self) -> Vec<&Setting> {
        match self {
            Self::Community(community) => vec![community],
            Self::User {
                authentication,
                privacy,
                ..
            } => {
                let authentication = authentication.iter().map(|(_, password)| password);
                let privacy = privacy.iter().map(|(_, password)| password);
                authentication.chain(privacy).collect()
            }
        }
    }
}

/// With what a user proves who it is (RFC 3414, RFC 7860).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SnmpHash {
    /// HMAC-MD5-96.
    Md5,
    /// HMAC-SHA-96.
    Sha1,
    /// HMAC-192-SHA-256.
    Sha256,
    /// HMAC-384-SHA-512.
    Sha512,
}

impl SnmpHash {
    /// All, the usual one first.
    pub const ALL: [Self; 4] = [Self::Sha256, Self::Sha512, Self::Sha1, Self::Md5];

    /// The word for it in definitions.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Md5 => "md5",
            Self::Sha1 => "sha1",
            Self::Sha256 => "sha256",
            Self::Sha512 => "sha512",
        }
    }
}

/// How what is said is encrypted (RFC 3826, RFC 3414).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SnmpCipher {
    /// CFB128-AES-128.
    Aes128,
    /// AES with a key of 256 bits, as devices have it.
    Aes256,
    /// CBC-DES, for devices that have nothing else.
    Des,
}

impl SnmpCipher {
    /// All, the usual one first.
    pub const ALL: [Self; 3] = [Self::Aes128, Self::Aes256, Self::Des];

    /// The word for it in definitions.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Aes128 => "aes128",
            Self::Aes256 => "aes256",
            Self::Des => "des",
        }
    }
}
