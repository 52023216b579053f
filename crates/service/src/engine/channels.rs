//! Channel definitions as something that can be delivered to: settings looked up, connections
//! open for the next message.

use std::{
    collections::HashMap,
    path::{Path, PathBuf},
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};

use maple_lark_definition::{
    Channel, ChannelKind, Dkim, MailServerSettings, MailSignIn, Setting, SignIn, Web, split_address,
};
use maple_lark_delivery::{
    self as delivery, DeliveryError, DkimKey, HttpTarget, MailServer, MailSession, SignedIn,
    is_within,
};
use maple_lark_sources::{NoClient, Reader};

use super::Shared;

/// A connection that nobody has used for so long is not trusted any more.
const IDLE: Duration = Duration::from_secs(5);
/// Some servers want a new connection after so many messages.
const MOST_MESSAGES: usize = 100;

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
            None => Arc::new(own_or_named(shared, channel).await.map_err(|words| {
                DeliveryError::Refused {
                    server: "the mail server".to_owned(),
                    words,
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
pub async fn own_or_named(
    shared: &Shared,
    channel: Option<&Channel>,
) -> Result<MailServer, String> {
    match channel {
        Some(channel) => match &channel.kind {
            ChannelKind::MailServer(settings) => mail_server(&shared.reader, channel, settings).await,
            other => Err(format!("the channel \"{}\" is of kind \"{}\" and no mail server", channel.name, other.name())),
        },
        None => shared.config.mail.as_ref().map(|mail| mail.server.clone()).ok_or_else(|| {
            "no mail server is configured; add [mail] to the configuration of the service, or a channel of kind \"mail-server\" and name it under [deliver]"
                .to_owned()
        }),
    }
}

async fn mail_server(
    reader: &Reader,
    channel: &Channel,
    settings: &MailServerSettings,
) -> Result<MailServer, String> {
    let sign_in = match &settings.sign_in {
        None => None,
        Some(MailSignIn::Password { user, password }) => Some(delivery::MailSignIn::Password {
            user: reader.setting(user).await?,
            password: reader.setting(password).await?,
        }),
        Some(MailSignIn::Token { user, token }) => Some(delivery::MailSignIn::Token {
            user: reader.setting(user).await?,
            token: reader.setting(token).await?,
        }),
    };
    let ca = match &settings.ca_file {
        Some(path) => Some(
            tokio::fs::read(path)
                .await
                .map_err(|error| format!("ca-file {path} cannot be read: {error}"))?,
        ),
        None => None,
    };
    let dkim = match &settings.dkim {
        Some(dkim) => Some(Arc::new(dkim_key(reader, dkim).await?)),
        None => None,
    };
    Ok(MailServer {
        host: reader.setting(&settings.host).await?,
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

async fn dkim_key(reader: &Reader, dkim: &Dkim) -> Result<DkimKey, String> {
    // A key has several lines, of which a setting is the first.
    let pem = match &dkim.key {
        Setting::File(path) => tokio::fs::read_to_string(path)
            .await
            .map_err(|error| format!("dkim.key: {path} cannot be read: {error}"))?,
        other => reader.setting(other).await?,
    };
    DkimKey::new(&dkim.domain, &dkim.selector, &pem).map_err(|words| format!("dkim.key: {words}"))
}

/// Where a web channel leads, signed in.
pub async fn http_target(
    reader: &Reader,
    channel: &Channel,
    web: &Web,
) -> Result<HttpTarget, DeliveryError> {
    let name = format!("the channel \"{}\"", channel.name);
    let refused = |words: String| DeliveryError::Refused {
        server: name.clone(),
        words,
    };
    let setting = async |setting: &Setting| reader.setting(setting).await.map_err(refused);
    let url = HttpTarget::address(&setting(&web.url).await?)
        .ok_or_else(|| refused("its url is not one".to_owned()))?;
    let ca = match &web.ca_file {
        Some(path) => Some(
            tokio::fs::read(path)
                .await
                .map_err(|error| refused(format!("ca-file {path} cannot be read: {error}")))?,
        ),
        None => None,
    };
    let sign_in = match &web.sign_in {
        None => None,
        Some(SignIn::Basic { user, password }) => Some(SignedIn::Basic {
            user: setting(user).await?,
            password: setting(password).await?,
        }),
        Some(SignIn::Bearer { token }) => Some(SignedIn::Bearer {
            token: setting(token).await?,
        }),
        Some(SignIn::Header { name, value }) => Some(SignedIn::Header {
            name: name.clone(),
            value: setting(value).await?,
        }),
    };
    let mut headers = Vec::new();
    for (name, value) in &web.headers {
        headers.push((name.clone(), setting(value).await?));
    }
    let client = reader.web_client(&url, ca.as_deref()).await.map_err(|error| match error {
        NoClient::OutOfBounds(reason) => refused(format!("it may not be reached: {reason}; an administrator can allow it under sources-may-reach")),
        NoClient::Unknown(words) => DeliveryError::Unreachable { server: name.clone(), words },
        NoClient::Certificates(words) => refused(format!("its ca-file holds no usable certificates: {words}")),
    })?;
    Ok(HttpTarget {
        client,
        url,
        headers,
        sign_in,
        timeout: Duration::from_secs(channel.timeout_seconds),
        name,
    })
}

/// Where a channel's lines go, if that may be reached.
///
/// # Errors
/// In words, what to do where it may not.
pub async fn syslog_address(reader: &Reader, written: &Setting) -> Result<String, String> {
    let address = reader.setting(written).await?;
    let (host, port) =
        split_address(&address).ok_or_else(|| format!("{address} is not host:port"))?;
    match reader.addresses(host, port).await {
        Err(NoClient::OutOfBounds(reason)) => Err(format!(
            "{address} may not be reached: {reason}; an administrator can allow it under sources-may-reach"
        )),
        // A name that is not known now may be later; the attempt says so.
        _ => Ok(address),
    }
}

/// The folder of a channel, if files may be written there.
///
/// # Errors
/// What to do, where they may not.
pub fn folder(allowed: &[PathBuf], written: &str) -> Result<PathBuf, String> {
    let folder = match written.strip_prefix("env:") {
        Some(variable) => std::env::var(variable)
            .map_err(|_| format!("{written} is not set in the environment of the service"))?,
        None => written.to_owned(),
    };
    if is_within(Path::new(&folder), allowed) {
        return Ok(PathBuf::from(folder));
    }
    Err(format!(
        "{folder} is not a folder that documents may go into; an administrator can allow it in the configuration: deliver-into = [\"{folder}\"]"
    ))
}
