//! As whom the service signs in.

use std::sync::Arc;

use russh::{
    client::{AuthResult, Handle, KeyboardInteractiveAuthResponse},
    keys::{PrivateKeyWithHashAlg, decode_secret_key},
};

use crate::{Pinned, Server, SftpError};

/// So often a server may ask before it lets somebody in.
const MOST_QUESTIONS: usize = 4;

/// With what somebody proves who they are.
#[derive(Clone)]
pub enum SignIn {
    /// A password (RFC 4252), also where the server asks for it (RFC 4256).
    Password(String),
    /// A private key in OpenSSH's form, PKCS #8 or PKCS #1, and what it is locked with.
    Key {
        key: String,
        passphrase: Option<String>,
    },
}

/// # Errors
/// If the server does not let the user in.
pub async fn sign_in(handle: &mut Handle<Pinned>, server: &Server) -> Result<(), SftpError> {
    let gone = |error: russh::Error| SftpError::Unreachable {
        address: server.address.clone(),
        words: error.to_string(),
    };
    let answer = match &server.sign_in {
        SignIn::Password(password) => {
            let answer = handle.authenticate_password(&server.user, password).await;
            match answer.map_err(gone)? {
                AuthResult::Failure {
                    remaining_methods, ..
                } if remaining_methods.contains(&russh::MethodKind::KeyboardInteractive) => {
                    return if answered(handle, server, password).await.map_err(gone)? {
                        Ok(())
                    } else {
                        Err(refused(
                            server,
                            "the user or the password is wrong".to_owned(),
                        ))
                    };
                }
                answer => answer,
            }
        }
        SignIn::Key { key, passphrase } => {
            let key = decode_secret_key(key, passphrase.as_deref())
                .map_err(|error| SftpError::Key(error.to_string()))?;
            let hash = handle.best_supported_rsa_hash().await.map_err(gone)?;
            let key = PrivateKeyWithHashAlg::new(Arc::new(key), hash.flatten());
            let answer = handle.authenticate_publickey(&server.user, key).await;
            answer.map_err(gone)?
        }
    };
    match answer {
        AuthResult::Success => Ok(()),
        AuthResult::Failure {
            partial_success: true,
            ..
        } => Err(refused(
            server,
            "it wants a second proof, which a service cannot give".to_owned(),
        )),
        AuthResult::Failure {
            remaining_methods, ..
        } => {
            let methods: Vec<String> = remaining_methods.iter().map(String::from).collect();
            let what = match server.sign_in {
                SignIn::Password(_) => "the user or the password is wrong",
                SignIn::Key { .. } => "the user or the key is not known there",
            };
            Err(refused(
                server,
                format!("{what} (it takes {})", methods.join(", ")),
            ))
        }
    }
}

fn refused(server: &Server, words: String) -> SftpError {
    SftpError::SignIn {
        address: server.address.clone(),
        user: server.user.clone(),
        words,
    }
}

/// Answers a server that asks for the password; whether it lets the user in.
async fn answered(
    handle: &mut Handle<Pinned>,
    server: &Server,
    password: &str,
) -> Result<bool, russh::Error> {
    let mut said = handle
        .authenticate_keyboard_interactive_start(&server.user, None)
        .await?;
    for _ in 0..MOST_QUESTIONS {
        match said {
            KeyboardInteractiveAuthResponse::Success => return Ok(true),
            KeyboardInteractiveAuthResponse::Failure { .. } => return Ok(false),
            KeyboardInteractiveAuthResponse::InfoRequest { prompts, .. } => {
                // What everybody may read while it is typed is no password.
                let answers = prompts.iter().map(|prompt| {
                    if prompt.echo {
                        server.user.clone()
                    } else {
                        password.to_owned()
                    }
                });
                said = handle
                    .authenticate_keyboard_interactive_respond(answers.collect())
                    .await?;
            }
        }
    }
    Ok(false)
}
