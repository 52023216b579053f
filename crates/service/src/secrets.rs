//! Secrets that the service keeps: sealed with XChaCha20-Poly1305 under a key from a file, so
//! that the database alone gives none of them away.

use std::sync::Arc;

use chacha20poly1305::{
    KeyInit, XChaCha20Poly1305, XNonce,
    aead::{Aead, Payload},
};
use maple_lark_sources::Secrets;
use maple_lark_store::Store;

const NONCE: usize = 24;

#[derive(Clone)]
pub struct Vault(Option<Arc<XChaCha20Poly1305>>);

#[derive(Debug, thiserror::Error)]
pub enum VaultError {
    #[error(
        "no secrets can be kept, because the configuration names no secret-key; make a file with \"openssl rand -hex 32\" and name it there as \"file:/path\""
    )]
    NoKey,
    #[error("the secret \"{0}\" is not kept here; an administrator can set it with \"maple-lark secret set {0}\"")]
    Unknown(String),
    #[error("the secret \"{0}\" was sealed with another key; set it again")]
    OtherKey(String),
    #[error("the system gives no random numbers")]
    NoRandomness,
}

impl Vault {
    pub fn new(key: Option<&[u8; 32]>) -> Self {
        Self(key.map(|key| Arc::new(XChaCha20Poly1305::new(key.into()))))
    }

    /// The name is part of what is sealed: a secret cannot be passed off as another.
    pub fn seal(&self, name: &str, secret: &str) -> Result<Vec<u8>, VaultError> {
        let cipher = self.0.as_ref().ok_or(VaultError::NoKey)?;
        let mut nonce = [0; NONCE];
        getrandom::fill(&mut nonce).map_err(|_| VaultError::NoRandomness)?;
        let sealed = cipher.encrypt(&XNonce::from(nonce), Payload { msg: secret.as_bytes(), aad: name.as_bytes() });
        let mut out = nonce.to_vec();
        out.extend(sealed.map_err(|_| VaultError::NoKey)?);
        Ok(out)
    }

    pub fn open(&self, name: &str, sealed: &[u8]) -> Result<String, VaultError> {
        let cipher = self.0.as_ref().ok_or(VaultError::NoKey)?;
        let other = || VaultError::OtherKey(name.to_owned());
        let (nonce, body) = sealed.split_at_checked(NONCE).ok_or_else(other)?;
        let nonce: [u8; NONCE] = nonce.try_into().map_err(|_| other())?;
        let opened = cipher.decrypt(&XNonce::from(nonce), Payload { msg: body, aad: name.as_bytes() }).map_err(|_| other())?;
        String::from_utf8(opened).map_err(|_| other())
    }

    /// Looks secrets up for sources.
    pub fn of(&self, store: Store) -> Secrets {
        let vault = self.clone();
        Arc::new(move |name| {
            let (vault, store) = (vault.clone(), store.clone());
            Box::pin(async move {
                let sealed = store.sealed_secret(&name).await.map_err(|error| error.to_string())?;
                let sealed = sealed.ok_or_else(|| VaultError::Unknown(name.clone()).to_string())?;
                vault.open(&name, &sealed).map_err(|error| error.to_string())
            })
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_opens_under_its_key_and_name_only() {
        let vault = Vault::new(Some(&[7; 32]));
        let sealed = vault.seal("reader", "hunter2").unwrap();
        assert_eq!(vault.open("reader", &sealed).unwrap(), "hunter2");
        assert_ne!(sealed, vault.seal("reader", "hunter2").unwrap());
        assert!(!sealed.windows(7).any(|part| part == b"hunter2"));
        assert!(matches!(vault.open("other", &sealed), Err(VaultError::OtherKey(_))));
        assert!(matches!(Vault::new(Some(&[8; 32])).open("reader", &sealed), Err(VaultError::OtherKey(_))));
        assert!(matches!(Vault::new(None).seal("reader", "x"), Err(VaultError::NoKey)));
        assert!(matches!(vault.open("reader", b"short"), Err(VaultError::OtherKey(_))));
    }
}
