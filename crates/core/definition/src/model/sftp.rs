//! How a server of files (SFTP) is reached, never a secret.

use crate::model::setting::Setting;

/// A server that is spoken to by SSH (RFC 4251), and as whom.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SftpServer {
    /// `host:port`.
    pub address: Setting,
    /// The fingerprints of its keys (`SHA256:…`), of which it must show one.
    pub host_keys: Vec<String>,
    /// The user's name.
    pub user: Setting,
    /// How the user signs in.
    pub sign_in: SftpSignIn,
}

impl SftpServer {
    /// Where a folder of it is, as written.
    #[must_use]
    pub fn place(&self, folder: &str) -> String {
        format!("{folder} at {}", self.address.written())
    }
}

/// How a user signs in to a server of files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SftpSignIn {
    /// A password. Only ever a reference.
    Password(Setting),
    /// A private key and, where it is locked, its passphrase. Only ever references.
    Key {
        /// The key: OpenSSH's form, PKCS #8 or PKCS #1.
        key: Setting,
        /// What it is locked with.
        passphrase: Option<Setting>,
    },
}

impl SftpSignIn {
    /// The settings whose values could stand in what a server says. A key is no words.
    #[must_use]
    pub fn secrets(&self) -> Vec<&Setting> {
        match self {
            Self::Password(password) => vec![password],
            Self::Key { passphrase, .. } => passphrase.iter().collect(),
        }
    }
}

/// Whether a text is a fingerprint as SSH tells it: the SHA-256 of a key in Base64 without padding.
#[must_use]
pub fn is_fingerprint(text: &str) -> bool {
    text.strip_prefix("SHA256:").is_some_and(|hash| {
        hash.len() == 43
            && hash
                .chars()
                .all(|c| c.is_ascii_alphanumeric() || matches!(c, '+' | '/'))
    })
}
