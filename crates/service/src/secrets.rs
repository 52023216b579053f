//! Secrets that the service keeps: sealed with XChaCha20-Poly1305 under a key from a file, so
//! that the database alone gives none of them away.

use std::sync::Arc;

use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD};
use chacha20poly1305::{
    KeyInit, XChaCha20Poly1305, XNonce,
    aead::{Aead, Payload},
};
use hmac::{Hmac, Mac};
use maple_lark_sources::Secrets;
use maple_lark_store::Store;
use sha2::Sha256;
use subtle::ConstantTimeEq;

const NONCE: usize = 24;

#[derive(Clone)]
pub struct Vault(Option<Arc<Keys>>);

struct Keys {
    cipher: XChaCha20Poly1305,
    /// Signs links; made of the key, so that one does not give away the other.
    links: [u8; 32],
}

/// HMAC-SHA-256 (RFC 2104), which takes keys of any length.
fn authentication(key: &[u8], text: &[u8]) -> [u8; 32] {
    let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(key) else {
        return [0; 32];
    };
    mac.update(text);
    mac.finalize().into_bytes().into()
}

#[derive(Debug, thiserror::Error)]
pub enum VaultError {
    #[error(
        "no secrets can be kept, because the configuration names no secret-key; make a file with \"openssl rand -hex 32\" and name it there as \"file:/path\""
    )]
    NoKey,
    #[error(
        "the secret \"{0}\" is not kept here; an administrator can set it with \"maple-lark secret set {0}\""
    )]
    Unknown(String),
    #[error("the secret \"{0}\" was sealed with another key; set it again")]
    OtherKey(String),
    #[error("the system gives no random numbers")]
    NoRandomness,
}

impl Vault {
    pub fn new(key: Option<&[u8; 32]>) -> Self {
        Self(key.map(|key| {
            Arc::new(Keys {
                cipher: XChaCha20Poly1305::new(key.into()),
                links: authentication(key, b"maple-lark links"),
            })
        }))
    }

    /// Whether anything can be sealed at all.
    pub fn has_key(&self) -> bool {
        self.0.is_some()
    }

    /// Adds to a text what only this key can add, in a form that fits in an address. Nothing
    /// if there is no key.
    pub fn sign(&self, purpose: &str, text: &str) -> Option<String> {
        let keys = self.0.as_ref()?;
        let code = authentication(&keys.links, format!("{purpose}\0{text}").as_bytes());
        Some(format!(
            "{}.{}",
            URL_SAFE_NO_PAD.encode(text),
            URL_SAFE_NO_PAD.encode(code)
        ))
    }

    /// The text that [`Vault::sign`] has signed for this purpose, if it did.
    pub fn signed(&self, purpose: &str, token: &str) -> Option<String> {
        let keys = self.0.as_ref()?;
        let (text, code) = token.split_once('.')?;
        let text = String::from_utf8(URL_SAFE_NO_PAD.decode(text).ok()?).ok()?;
        let wanted = authentication(&keys.links, format!("{purpose}\0{text}").as_bytes());
        let given = URL_SAFE_NO_PAD.decode(code).ok()?;
        bool::from(wanted.as_slice().ct_eq(&given)).then_some(text)
    }

    /// The name is part of what is sealed: a secret cannot be passed off as another.
    pub fn seal(&self, name: &str, secret: &str) -> Result<Vec<u8>, VaultError> {
        let cipher = &self.0.as_ref().ok_or(VaultError::NoKey)?.cipher;
        let mut nonce = [0; NONCE];
        getrandom::fill(&mut nonce).map_err(|_| VaultError::NoRandomness)?;
        let sealed = cipher.encrypt(
            &XNonce::from(nonce),
            Payload {
                msg: secret.as_bytes(),
                aad: name.as_bytes(),
            },
        );
        let mut out = nonce.to_vec();
        out.extend(sealed.map_err(|_| VaultError::NoKey)?);
        Ok(out)
    }

    pub fn open(&self, name: &str, sealed: &[u8]) -> Result<String, VaultError> {
        let cipher = &self.0.as_ref().ok_or(VaultError::NoKey)?.cipher;
        let other = || VaultError::OtherKey(name.to_owned());
        let (nonce, body) = sealed.split_at_checked(NONCE).ok_or_else(other)?;
        let nonce: [u8; NONCE] = nonce.try_into().map_err(|_| other())?;
        let opened = cipher
            .decrypt(
                &XNonce::from(nonce),
                Payload {
                    msg: body,
                    aad: name.as_bytes(),
                },
            )
            .map_err(|_| other())?;
        String::from_utf8(opened).map_err(|_| other())
    }

    /// Looks secrets up for sources.
    pub fn of(&self, store: Store) -> Secrets {
        let vault = self.clone();
        Arc::new(move |name| {
            let (vault, store) = (vault.clone(), store.clone());
            Box::pin(async move {
                let sealed = store.sealed_secret(&name).await?;
                let sealed = sealed.ok_or_else(|| VaultError::Unknown(name.clone()))?;
                Ok(vault.open(&name, &sealed)?)
            })
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_signed_text_is_known_again_for_its_purpose_only() {
        let vault = Vault::new(Some(&[7; 32]));
        let token = vault.sign("link", "a|Ü").unwrap();
        assert!(
            token
                .chars()
                .all(|c| c.is_ascii_alphanumeric() || "-_.".contains(c)),
            "{token}"
        );
        assert_eq!(vault.signed("link", &token).as_deref(), Some("a|Ü"));
        assert_eq!(vault.signed("unsubscribe", &token), None);
        assert_eq!(Vault::new(Some(&[8; 32])).signed("link", &token), None);
        let (text, code) = token.split_once('.').unwrap();
        for forged in [
            format!("{text}x.{code}"),
            format!("{text}."),
            format!("{text}.{}", &code[1..]),
            "..".to_owned(),
            String::new(),
        ] {
            assert_eq!(vault.signed("link", &forged), None, "{forged}");
        }
        assert_eq!(Vault::new(None).sign("link", "a"), None);
    }

    #[test]
    fn a_secret_opens_under_its_key_and_name_only() {
        let vault = Vault::new(Some(&[7; 32]));
        let sealed = vault.seal("reader", "hunter2").unwrap();
        assert_eq!(vault.open("reader", &sealed).unwrap(), "hunter2");
        assert_ne!(sealed, vault.seal("reader", "hunter2").unwrap());
        assert!(!sealed.windows(7).any(|part| part == b"hunter2"));
        assert!(matches!(
            vault.open("other", &sealed),
            Err(VaultError::OtherKey(_))
        ));
        assert!(matches!(
            Vault::new(Some(&[8; 32])).open("reader", &sealed),
            Err(VaultError::OtherKey(_))
        ));
        assert!(matches!(
            Vault::new(None).seal("reader", "x"),
            Err(VaultError::NoKey)
        ));
        assert!(matches!(
            vault.open("reader", b"short"),
            Err(VaultError::OtherKey(_))
        ));
    }
}
