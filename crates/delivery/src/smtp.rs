//! SMTP (RFC 5321) through lettre's connection, one recipient a transaction, so that it is
//! always known who has a message and who has not.

use std::{sync::Arc, time::Duration};

use lettre::{
    Address,
    transport::smtp::{
        Error,
        authentication::{Credentials, Mechanism},
        client::{AsyncSmtpConnection, Certificate, TlsParameters},
        commands::{Data, Mail, Rcpt, Rset},
        extension::ClientId,
        response::Response,
    },
};
use maple_lark_definition::{MailTls, Mailbox};
use serde::Serialize;

use crate::{DeliveryError, DkimKey, Message, message};

/// Where mail is handed over, and how; every secret is looked up already.
#[derive(Clone)]
pub struct MailServer {
    pub host: String,
    pub port: u16,
    pub tls: MailTls,
    /// Certificates (PEM) to trust beside the machine's own.
    pub ca: Option<Vec<u8>>,
    pub sign_in: Option<MailSignIn>,
    pub from: Mailbox,
    pub reply_to: Option<Mailbox>,
    /// The envelope's sender; `from` if nothing is said.
    pub bounces: Option<Mailbox>,
    pub dkim: Option<Arc<DkimKey>>,
    /// The max_size message it takes, in bytes, where that is known.
    pub max_size: Option<u64>,
    pub timeout: Duration,
}

#[derive(Clone)]
pub enum MailSignIn {
    Password { user: String, password: String },
    Token { user: String, token: String },
}

/// Without secrets.
impl std::fmt::Debug for MailServer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("MailServer")
            .field("host", &self.host)
            .field("port", &self.port)
            .field("tls", &self.tls)
            .finish_non_exhaustive()
    }
}

/// A connection that is signed in and takes messages one after another.
pub struct MailSession {
    connection: AsyncSmtpConnection,
    server: String,
    timeout: Duration,
    broken: bool,
}

/// A test of a mail server, step by step up to the first that failed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Probe {
    pub works: bool,
    pub steps: Vec<ProbeStep>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ProbeStep {
    /// `resolve`, `connect`, `encrypt`, `sign in`, `sender`, `recipient` or `message`.
    pub name: &'static str,
    pub works: bool,
    /// The server's own words, or what was found.
    pub words: String,
    /// What to do about it, where it failed.
    pub remedy: Option<&'static str>,
}

/// Waiting for the confirmation of a message takes longer than for that of a command.
const MESSAGE_PATIENCE: u32 = 4;

impl MailServer {
    /// What it is called in words to people.
    pub fn name(&self) -> String {
        format!("the mail server {}:{}", self.host, self.port)
    }

    fn sender(&self) -> Result<Address, DeliveryError> {
        Ok(message::mailbox(self.bounces.as_ref().unwrap_or(&self.from))?.email)
    }

    fn parameters(&self) -> Result<TlsParameters, DeliveryError> {
        let unusable = |words: String| DeliveryError::Unreachable {
            server: self.name(),
            words,
        };
        let mut builder = TlsParameters::builder(self.host.clone());
        if let Some(pem) = &self.ca {
            let certificates = rustls_certificates(pem)
                .ok_or_else(|| unusable("the ca-file holds no certificates in PEM".to_owned()))?;
            for certificate in certificates {
                builder = builder.add_root_certificate(
                    Certificate::from_pem(&certificate)
                        .map_err(|error| unusable(error.to_string()))?,
                );
            }
        }
        builder.build().map_err(|error| unusable(error.to_string()))
    }
}

/// The certificates of a PEM file, each by itself.
fn rustls_certificates(pem: &[u8]) -> Option<Vec<Vec<u8>>> {
    const END: &str = "-----END CERTIFICATE-----";
    let text = std::str::from_utf8(pem).ok()?;
    let found: Vec<Vec<u8>> = text
        .split_inclusive(END)
        .filter(|part| part.contains(END))
        .map(|part| part.trim().as_bytes().to_vec())
        .collect();
    (!found.is_empty()).then_some(found)
}

/// How far a connection has come.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Stage {
    Connect,
    Encrypt,
    SignIn,
}

impl MailSession {
    /// Connects, encrypts and signs in.
    ///
    /// # Errors
    /// What the server said, or what kept us from asking it.
    pub async fn open(server: &MailServer) -> Result<Self, DeliveryError> {
        Self::open_in_steps(server, &mut |_, _| {})
            .await
            .map_err(|(_, error)| error)
    }

    #[expect(
        clippy::too_many_lines,
        reason = "the stages of a connection in the order of the protocol"
    )]
    async fn open_in_steps(
        server: &MailServer,
        done: &mut (dyn FnMut(Stage, String) + Send),
    ) -> Result<Self, (Stage, DeliveryError)> {
        let name = server.name();
        let at = |stage| move |error| (stage, error);
        let hello = ClientId::default();
        let first = if server.tls == MailTls::Tls {
            Stage::Encrypt
        } else {
            Stage::Connect
        };
        let wrapped = match server.tls {
            MailTls::Tls => Some(server.parameters().map_err(at(Stage::Encrypt))?),
            _ => None,
        };
        let address = (server.host.as_str(), server.port);
        let connecting = AsyncSmtpConnection::connect_tokio1(
            address,
            Some(server.timeout),
            &hello,
            wrapped,
            None,
        );
        let connection = in_time(&name, server.timeout, connecting)
            .await
            .map_err(at(first))?;
        let mut session = Self {
            connection,
            server: name.clone(),
            timeout: server.timeout,
            broken: false,
        };
        done(first, format!("{} answers", server.host));
        if server.tls == MailTls::StartTls {
            if !session.connection.can_starttls() {
                let words = "it does not offer STARTTLS, without which nothing is sent".to_owned();
                return Err((
                    Stage::Encrypt,
                    DeliveryError::Refused {
                        server: name,
                        words,
                    },
                ));
            }
            let parameters = server.parameters().map_err(at(Stage::Encrypt))?;
            in_time(
                &name,
                server.timeout,
                session.connection.starttls(parameters, &hello),
            )
            .await
            .map_err(at(Stage::Encrypt))?;
            done(
                Stage::Encrypt,
                format!(
                    "encrypted, with a certificate that is valid for {}",
                    server.host
                ),
            );
        }
        if let Some(sign_in) = &server.sign_in {
            let (mechanisms, credentials): (&[Mechanism], _) = match sign_in {
                MailSignIn::Password { user, password } => (
                    &[Mechanism::Plain, Mechanism::Login],
                    Credentials::new(user.clone(), password.clone()),
                ),
                MailSignIn::Token { user, token } => (
                    &[Mechanism::Xoauth2],
                    Credentials::new(user.clone(), token.clone()),
                ),
            };
            let answer = in_time(
                &name,
                server.timeout,
                session.connection.auth(mechanisms, &credentials),
            )
            .await
            .map_err(at(Stage::SignIn))?;
            done(Stage::SignIn, in_words(&answer));
        }
        Ok(session)
    }

    /// Whether another message may be sent with it.
    pub fn is_usable(&self) -> bool {
        !self.broken && !self.connection.has_broken()
    }

    /// Hands one message over and answers with the server's words.
    ///
    /// # Errors
    /// What the server said; [`DeliveryError::Unconfirmed`] if the connection ended between
    /// the last byte of the message and the server's answer to it.
    pub async fn send(
        &mut self,
        server: &MailServer,
        recipient: &Mailbox,
        message: &[u8],
    ) -> Result<String, DeliveryError> {
        let to = message::mailbox(recipient)?.email;
        self.envelope(server.sender()?, to)
            .await
            .map_err(|(_, error)| error)?;
        self.message(message).await
    }

    async fn envelope(
        &mut self,
        sender: Address,
        to: Address,
    ) -> Result<(), (&'static str, DeliveryError)> {
        self.ask(|connection| connection.command(Mail::new(Some(sender), Vec::new())))
            .await
            .map_err(|error| ("sender", error))?;
        self.ask(|connection| connection.command(Rcpt::new(to, Vec::new())))
            .await
            .map_err(|error| ("recipient", error))?;
        Ok(())
    }

    async fn message(&mut self, message: &[u8]) -> Result<String, DeliveryError> {
        self.ask(|connection| connection.command(Data)).await?;
        let sent = tokio::time::timeout(
            self.timeout * MESSAGE_PATIENCE,
            self.connection.message(message),
        )
        .await;
        let error = match sent {
            Ok(Ok(response)) if response.is_positive() => return Ok(in_words(&response)),
            Ok(Ok(response)) => return Err(refusal(&self.server, &response)),
            Ok(Err(error)) if error.status().is_some() => {
                return Err(failure(&self.server, &error));
            }
            Ok(Err(error)) => spoken(&error),
            Err(_) => format!(
                "no answer within {} s",
                (self.timeout * MESSAGE_PATIENCE).as_secs()
            ),
        };
        self.broken = true;
        Err(DeliveryError::Unconfirmed {
            server: self.server.clone(),
            words: error,
        })
    }

    /// One command and its answer; after a refusal the connection is as at its beginning.
    async fn ask<'a, F>(
        &'a mut self,
        command: impl FnOnce(&'a mut AsyncSmtpConnection) -> F,
    ) -> Result<(), DeliveryError>
    where
        F: Future<Output = Result<Response, Error>> + 'a,
    {
        let Self {
            connection,
            server,
            timeout,
            broken,
        } = self;
        let answer = in_time(server, *timeout, command(connection)).await;
        match answer {
            Ok(response) if response.is_positive() => Ok(()),
            Ok(response) => Err(refusal(server, &response)),
            Err(error) => {
                *broken = matches!(error, DeliveryError::Unreachable { .. });
                Err(error)
            }
        }
    }

    /// Makes the connection ready for the next message after one was refused.
    pub async fn reset(&mut self) {
        let answer = in_time(&self.server, self.timeout, self.connection.command(Rset)).await;
        self.broken |= answer.is_err();
    }

    /// Says goodbye; that the server does not answer is no matter.
    pub async fn close(mut self) {
        let _ = tokio::time::timeout(Duration::from_secs(2), self.connection.quit()).await;
    }

    /// Tries a server step by step, and ends with a message that really goes out.
    pub async fn probe(server: &MailServer, message: &Message) -> Probe {
        let mut probing = Probing::default();
        let works = probing.all(server, message).await.is_ok();
        Probe {
            works,
            steps: probing.steps,
        }
    }
}

/// A probe under way: the steps that it has come to.
#[derive(Default)]
struct Probing {
    steps: Vec<ProbeStep>,
}

/// The step has been written down as failed; nothing follows.
struct Ended;

impl Probing {
    fn works(&mut self, name: &'static str, words: String) {
        self.steps.push(ProbeStep {
            name,
            works: true,
            words,
            remedy: None,
        });
    }

    fn ended(&mut self, name: &'static str, error: impl ToString, remedy: &'static str) -> Ended {
        self.steps.push(ProbeStep {
            name,
            works: false,
            words: error.to_string(),
            remedy: Some(remedy),
        });
        Ended
    }

    async fn all(&mut self, server: &MailServer, message: &Message) -> Result<(), Ended> {
        self.reach(server).await?;
        let mut session = self.open(server).await?;
        self.envelope(server, message, &mut session).await?;
        let sent = match message.bytes(server.dkim.as_deref()) {
            Ok(bytes) => session.message(&bytes).await,
            Err(error) => Err(error),
        };
        session.close().await;
        let words = sent.map_err(|error| {
            let remedy = "the server took the addresses but not the message; its words say why";
            self.ended("message", error, remedy)
        })?;
        self.works("message", words);
        Ok(())
    }

    /// Its name has an address, and something listens there.
    async fn reach(&mut self, server: &MailServer) -> Result<(), Ended> {
        let address = (server.host.as_str(), server.port);
        let found = in_patience(server.timeout, tokio::net::lookup_host(address)).await;
        let found = found.map_err(|error| {
            let remedy = "check the host's name, and the name service of this machine";
            self.ended("resolve", error, remedy)
        })?;
        let addresses: Vec<String> = found.map(|address| address.ip().to_string()).collect();
        self.works("resolve", addresses.join(", "));
        let connected = in_patience(server.timeout, tokio::net::TcpStream::connect(address)).await;
        connected.map(drop).map_err(|error| {
            let remedy = "check the port, and that no firewall is between; 587 (STARTTLS), 465 (TLS) and 25 are usual";
            self.ended("connect", error, remedy)
        })
    }

    /// It greets, the connection is encrypted, the sign-in is taken.
    async fn open(&mut self, server: &MailServer) -> Result<MailSession, Ended> {
        let mut reached = Vec::new();
        let mut note = |stage, words| reached.push((stage, words));
        let opened = MailSession::open_in_steps(server, &mut note).await;
        if server.tls == MailTls::Tls {
            self.works("connect", format!("port {} is open", server.port));
        }
        let name = |stage| match stage {
            Stage::Connect => "connect",
            Stage::Encrypt => "encrypt",
            Stage::SignIn => "sign in",
        };
        for (stage, words) in reached {
            self.works(name(stage), words);
        }
        opened.map_err(|(stage, error)| {
            let remedy = match stage {
                Stage::Connect => {
                    "it must greet with SMTP there; if it wants TLS from the first byte, set tls = \"tls\""
                }
                Stage::Encrypt => {
                    "check tls (\"starttls\", \"tls\" or \"off\"), the host's name in its certificate, and ca-file if it is signed by an authority of your own"
                }
                Stage::SignIn => {
                    "check the user and the password or token, and that the account may send mail"
                }
            };
            self.ended(name(stage), error, remedy)
        })
    }

    /// Sender and recipient are taken.
    async fn envelope(
        &mut self,
        server: &MailServer,
        message: &Message,
        session: &mut MailSession,
    ) -> Result<(), Ended> {
        let to = message::mailbox(&message.recipient).map(|mailbox| mailbox.email);
        let (sender, to) = match (server.sender(), to) {
            (Ok(sender), Ok(to)) => (sender, to),
            (Err(error), _) | (_, Err(error)) => {
                return Err(self.ended("sender", error, "check the addresses"));
            }
        };
        let words = format!("{sender} may send");
        match session.envelope(sender, to.clone()).await {
            Ok(()) => {
                self.works("sender", words);
                self.works("recipient", format!("{to} is taken"));
                Ok(())
            }
            Err(("sender", error)) => {
                let remedy =
                    "check from and bounces: the account must be allowed to send as that address";
                Err(self.ended("sender", error, remedy))
            }
            Err((_, error)) => {
                self.works("sender", words);
                let remedy = "check the address; if others work, the server refuses this one alone";
                Err(self.ended("recipient", error, remedy))
            }
        }
    }
}

async fn in_patience<T>(
    patience: Duration,
    work: impl Future<Output = std::io::Result<T>>,
) -> std::io::Result<T> {
    tokio::time::timeout(patience, work)
        .await
        .unwrap_or_else(|_| {
            let words = format!("no answer within {} s", patience.as_secs());
            Err(std::io::Error::new(std::io::ErrorKind::TimedOut, words))
        })
}

async fn in_time<T>(
    server: &str,
    patience: Duration,
    work: impl Future<Output = Result<T, Error>>,
) -> Result<T, DeliveryError> {
    match tokio::time::timeout(patience, work).await {
        Ok(done) => done.map_err(|error| failure(server, &error)),
        Err(_) => Err(DeliveryError::Unreachable {
            server: server.to_owned(),
            words: format!("no answer within {} s", patience.as_secs()),
        }),
    }
}

fn in_words(response: &Response) -> String {
    format!(
        "{} {}",
        response.code(),
        response.message().collect::<Vec<_>>().join(" ")
    )
}

fn refusal(server: &str, response: &Response) -> DeliveryError {
    let (server, words) = (server.to_owned(), in_words(response));
    if words.starts_with('4') {
        DeliveryError::Postponed { server, words }
    } else {
        DeliveryError::Refused { server, words }
    }
}

fn spoken(error: &Error) -> String {
    // A refusal is said once, with its code; other errors say why in their source.
    match (error.status(), std::error::Error::source(error)) {
        (Some(code), Some(words)) => format!("{code} {words}"),
        (None, Some(source)) => format!("{error}: {source}"),
        (_, None) => error.to_string(),
    }
}

fn failure(server: &str, error: &Error) -> DeliveryError {
    let (server, words) = (server.to_owned(), spoken(error));
    if error.is_permanent() {
        DeliveryError::Refused { server, words }
    } else if error.is_transient() {
        DeliveryError::Postponed { server, words }
    } else {
        DeliveryError::Unreachable { server, words }
    }
}

#[cfg(test)]
mod tests;
