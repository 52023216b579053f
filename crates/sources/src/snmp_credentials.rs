//! As whom agents are asked and receivers of notifications told by SNMP.

use maple_lark_definition::{SnmpCipher, SnmpHash, SnmpSignIn};
use snmp2::v3::{Auth, AuthProtocol, Cipher, KeyExtension, Security};

use crate::{Reader, error::KeyError};

/// What a definition says of it, looked up.
pub enum SnmpCredentials {
    Community(String),
    /// And with what the user proves who it is, if it does.
    User {
        security: Box<Security>,
        proof: Option<(SnmpHash, String)>,
    },
}

impl Reader {
    /// What goes to `host` to say who asks.
    ///
    /// # Errors
    /// If what it refers to cannot be had, or may not go there.
    pub async fn snmp_credentials(
        &self,
        sign_in: &SnmpSignIn,
        host: &str,
    ) -> Result<SnmpCredentials, KeyError> {
        let looked_up = async |key: &'static str, setting| {
            let found = self.setting_for(setting, Some(host)).await;
            found.map_err(|error| KeyError { key, error })
        };
        let (name, authentication, privacy) = match sign_in {
            SnmpSignIn::Community(community) => {
                let community = looked_up("community", community).await?;
                return Ok(SnmpCredentials::Community(community));
            }
            SnmpSignIn::User {
                name,
                authentication,
                privacy,
            } => (name, authentication, privacy),
        };
        let name = looked_up("user", name).await?;
        let proof = match authentication {
            None => None,
            Some((hash, password)) => {
                Some((*hash, looked_up("authentication-password", password).await?))
            }
        };
        let mut security = match &proof {
            None => Security::new(name.as_bytes(), &[]).with_auth(Auth::NoAuthNoPriv),
            Some((hash, password)) => Security::new(name.as_bytes(), password.as_bytes())
                .with_auth_protocol(protocol(*hash)),
        };
        if let Some((cipher, password)) = privacy {
            let password = looked_up("privacy-password", password).await?;
            security = security
                .with_auth(Auth::AuthPriv {
                    cipher: encryption(*cipher),
                    privacy_password: password.into_bytes(),
                })
                // Where the hash is too short for the key, most devices do this.
                .with_key_extension_method(KeyExtension::Reeder);
        }
        Ok(SnmpCredentials::User {
            security: Box::new(security),
            proof,
        })
    }
}

fn protocol(hash: SnmpHash) -> AuthProtocol {
    match hash {
        SnmpHash::Md5 => AuthProtocol::Md5,
        SnmpHash::Sha1 => AuthProtocol::Sha1,
        SnmpHash::Sha256 => AuthProtocol::Sha256,
        SnmpHash::Sha512 => AuthProtocol::Sha512,
    }
}

fn encryption(cipher: SnmpCipher) -> Cipher {
    match cipher {
        SnmpCipher::Aes128 => Cipher::Aes128,
        SnmpCipher::Aes256 => Cipher::Aes256,
        SnmpCipher::Des => Cipher::Des,
    }
}
