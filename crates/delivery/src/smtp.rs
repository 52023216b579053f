//! SMTP through lettre.

use std::time::Duration;

use lettre::{
    AsyncSmtpTransport, AsyncTransport, Tokio1Executor,
    transport::smtp::{
        authentication::Credentials,
        client::{Tls, TlsParameters},
    },
};
use maple_lark_core::definition::Mailbox;

use crate::{DeliveryError, Letter};

/// Where mail is handed over, and how.
#[derive(Clone)]
pub struct MailServer {
    pub host: String,
    pub port: u16,
    pub tls: MailTls,
    pub user: Option<String>,
    pub password: Option<String>,
    pub from: Mailbox,
    pub timeout: Duration,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MailTls {
    Off,
    /// STARTTLS, and nothing is sent without it.
    StartTls,
    /// TLS from the first byte.
    Tls,
}

/// Without the password.
impl std::fmt::Debug for MailServer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("MailServer")
            .field("host", &self.host)
            .field("port", &self.port)
            .field("tls", &self.tls)
            .field("user", &self.user)
            .finish_non_exhaustive()
    }
}

impl MailServer {
    fn name(&self) -> String {
        format!("{}:{}", self.host, self.port)
    }
}

/// Hands one letter over and answers with the server's words.
///
/// # Errors
/// What the server said, or what kept us from asking it; see
/// [`DeliveryError::is_temporary`].
pub async fn send(server: &MailServer, letter: &Letter) -> Result<String, DeliveryError> {
    let message = letter.message()?;
    let answer = transport(server)?.send(message).await.map_err(|error| {
        let server = server.name();
        let words = match std::error::Error::source(&error) {
            Some(source) => format!("{error}: {source}"),
            None => error.to_string(),
        };
        if error.is_permanent() {
            DeliveryError::Refused { server, words }
        } else if error.is_transient() {
            DeliveryError::Postponed { server, words }
        } else {
            DeliveryError::Unreachable { server, words }
        }
    })?;
    Ok(format!("{} {}", answer.code(), answer.message().collect::<Vec<_>>().join(" ")))
}

fn transport(server: &MailServer) -> Result<AsyncSmtpTransport<Tokio1Executor>, DeliveryError> {
    let parameters = || TlsParameters::new(server.host.clone()).map_err(|error| DeliveryError::Unreachable { server: server.name(), words: error.to_string() });
    let tls = match server.tls {
        MailTls::Off => Tls::None,
        MailTls::StartTls => Tls::Required(parameters()?),
        MailTls::Tls => Tls::Wrapper(parameters()?),
    };
    let mut builder = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(&server.host).port(server.port).tls(tls).timeout(Some(server.timeout));
    if let (Some(user), Some(password)) = (&server.user, &server.password) {
        builder = builder.credentials(Credentials::new(user.clone(), password.clone()));
    }
    Ok(builder.build())
}
