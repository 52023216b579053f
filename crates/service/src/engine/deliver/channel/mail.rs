//! Mail servers: settings looked up, connections kept open for the next message.

use std::{
    collections::HashMap,
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};

use maple_lark_definition::{Channel, ChannelKind, Dkim, MailServerSettings, MailSignIn};
use maple_lark_delivery::{self as delivery, DeliveryError, DkimKey, MailServer, MailSession};
use maple_lark_sources::{NoClient, Reader};

use maple_lark_store::deliveries::Delivery;

use super::{ChannelDriver, ChannelError};
use crate::engine::{
    deliver::{Deliverer, failure::Failure, message},
    shared::{Shared, WorkError},
};

/// A connection that nobody has used for so long is not trusted any more.
const IDLE: Duration = Duration::from_secs(5);
/// Some servers want a new connection after so many messages.
const MOST_MESSAGES: usize = 100;

/// A mail server that is a channel; without one, the service's own.
pub struct Mail<'a> {
    pub channel: Option<&'a Channel>,
}

#[rocket::async_trait]
impl ChannelDriver for Mail<'_> {
    async fn send(&self, deliverer: &Deliverer, delivery: &Delivery) -> Result<String, Failure> {
        let mut broken = None;
        let message =
            async |server: &MailServer| match message::message(deliverer, server, delivery).await {
                Ok(message) => Ok(message),
                Err(WorkError::Run(words)) => Err(DeliveryError::Message { words }),
                Err(WorkError::Store(error)) => {
                    let words = error.to_string();
                    broken = Some(error);
                    Err(DeliveryError::Message { words })
                }
            };
        let sent = deliverer
            .sessions
            .send(&deliverer.shared, &delivery.via, self.channel, message)
            .await;
        match broken {
            Some(error) => Err(Failure::Store(error)),
            None => sent.map_err(Failure::Delivery),
        }
    }

    async fn test(&self, _shared: &Shared) -> Result<String, ChannelError> {
        Err(ChannelError::NeedsRecipient)
    }
}

/// Open connections to mail servers, by channel; the service's own server has no name.
#[derive(Default)]
pub struct Sessions(Mutex<HashMap<String, Vec<OpenSession>>>);

struct OpenSession {
    session: MailSession,
    server: Arc<MailServer>,
    /// What the connection was made by; another definition makes it useless.
    of: Option<Channel>,
    messages: usize,
    since: Instant,
}

impl Sessions {
    /// Hands a message over on a connection that is open already, or on a new one.
    pub async fn send(
        &self,
        shared: &Shared,
        via: &str,
        channel: Option<&Channel>,
        message: impl AsyncFnOnce(&MailServer) -> Result<delivery::Message, DeliveryError>,
    ) -> Result<String, DeliveryError> {
        let open = self.take(via, channel);
        let server = match &open {
            Some(open) => open.server.clone(),
            None => Arc::new(mail_server_of(shared, channel).await.map_err(|error| {
                DeliveryError::Refused {
                    server: "the mail server".to_owned(),
                    words: error.to_string(),
                }
            })?),
        };
        let message = message(&server).await?;
        let bytes = message.bytes(server.dkim.as_deref())?;
        if let Some(max_size) = server
            .max_size
            .filter(|max_size| *max_size < bytes.len() as u64)
        {
            return Err(DeliveryError::Refused {
                server: server.name(),
                words: format!("it takes {max_size} bytes, and this has {}", bytes.len()),
            });
        }
        let mut session = match open {
            Some(mut open) => {
                let sent = open.session.send(&server, &message.recipient, &bytes).await;
                // A server may end a connection that is idle; nothing was handed over then.
                if !matches!(sent, Err(DeliveryError::Unreachable { .. })) {
                    self.give_back(via, open, &sent).await;
                    return sent;
                }
                MailSession::open(&server).await?
            }
            None => MailSession::open(&server).await?,
        };
        let sent = session.send(&server, &message.recipient, &bytes).await;
        self.give_back(
            via,
            OpenSession {
                session,
                server,
                of: channel.cloned(),
                messages: 0,
                since: Instant::now(),
            },
            &sent,
        )
        .await;
        sent
    }

    fn take(&self, via: &str, channel: Option<&Channel>) -> Option<OpenSession> {
        let mut all = self
            .0
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner());
        let list = all.get_mut(via)?;
        list.retain(|open| open.since.elapsed() < IDLE && open.of.as_ref() == channel);
        list.pop()
    }

    async fn give_back(
        &self,
        via: &str,
        mut open: OpenSession,
        sent: &Result<String, DeliveryError>,
    ) {
        if sent.is_err() && open.session.is_usable() {
            open.session.reset().await;
        }
        open.messages += 1;
        open.since = Instant::now();
        if !open.session.is_usable() {
            return;
        }
        if open.messages >= MOST_MESSAGES {
            open.session.close().await;
            return;
        }
        self.0
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner())
            .entry(via.to_owned())
            .or_default()
            .push(open);
    }

    /// Says goodbye to connections that nobody needs any more.
    pub async fn tidy(&self) {
        let idle: Vec<OpenSession> = {
            let mut all = self
                .0
                .lock()
                .unwrap_or_else(|poisoned| poisoned.into_inner());
            all.values_mut()
                .flat_map(|list| list.extract_if(.., |open| open.since.elapsed() >= IDLE))
                .collect()
        };
        for open in idle {
            open.session.close().await;
        }
    }
}

/// The mail server of a channel, or the service's own.
///
/// # Errors
/// What is missing or cannot be looked up, in words.
pub async fn mail_server_of(
    shared: &Shared,
    channel: Option<&Channel>,
) -> Result<MailServer, ChannelError> {
    let Some(channel) = channel else {
        let own = shared.config.mail.as_ref();
        return own
            .map(|mail| mail.server.clone())
            .ok_or(ChannelError::NoMail);
    };
    match &channel.kind {
        ChannelKind::MailServer(settings) => mail_server(&shared.reader, channel, settings).await,
        other => Err(ChannelError::NoMailServer {
            name: channel.name.clone(),
            kind: other.name(),
        }),
    }
}

async fn mail_server(
    reader: &Reader,
    channel: &Channel,
    settings: &MailServerSettings,
) -> Result<MailServer, ChannelError> {
    let host = reader.setting(&settings.host).await?;
    let to = Some(host.as_str());
    if let Err(NoClient::OutOfBounds(reason)) = reader.addresses(&host, settings.port).await {
        return Err(ChannelError::OutOfBounds {
            address: format!("{host}:{}", settings.port),
            reason,
        });
    }
    let sign_in = match &settings.sign_in {
        None => None,
        Some(MailSignIn::Password { user, password }) => Some(delivery::MailSignIn::Password {
            user: reader.setting_for(user, to).await?,
            password: reader.setting_for(password, to).await?,
        }),
        Some(MailSignIn::Token { user, token }) => Some(delivery::MailSignIn::Token {
            user: reader.setting_for(user, to).await?,
            token: reader.setting_for(token, to).await?,
        }),
    };
    let ca = match &settings.ca_file {
        Some(path) => Some(
            tokio::fs::read(path)
                .await
                .map_err(|error| ChannelError::File {
                    setting: "ca-file",
                    path: path.clone(),
                    error,
                })?,
        ),
        None => None,
    };
    let dkim = match &settings.dkim {
        Some(dkim) => Some(Arc::new(dkim_key(reader, dkim).await?)),
        None => None,
    };
    Ok(MailServer {
        host,
        port: settings.port,
        tls: settings.tls,
        ca,
        sign_in,
        from: settings.from.clone(),
        reply_to: settings.reply_to.clone(),
        bounces: settings.bounces.clone(),
        dkim,
        max_size: settings.max_size,
        timeout: Duration::from_secs(channel.timeout_seconds),
    })
}

async fn dkim_key(reader: &Reader, dkim: &Dkim) -> Result<DkimKey, ChannelError> {
    let pem = reader.text_for(&dkim.key, None).await?;
    Ok(DkimKey::new(&dkim.domain, &dkim.selector, &pem)?)
}
