//! A mail server for the demo and the tests: a real SMTP receiver on loopback that keeps
//! every message as an `.eml` file and can be told to refuse or to be slow.

use std::{
    collections::HashMap,
    net::{IpAddr, SocketAddr},
    path::PathBuf,
    sync::{
        Arc, Mutex,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

use anyhow::{Context, Result};
use mailin::{
    Action, AuthMechanism, Handler, Response, SessionBuilder,
    response::{AUTH_OK, INTERNAL_ERROR, INVALID_CREDENTIALS, NO_STORAGE, OK},
};
use tokio::{
    io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader},
    net::{TcpListener, TcpStream},
};

/// The largest message that is taken, as announced by SIZE (RFC 1870).
pub const LARGEST: usize = 25 * 1024 * 1024;

/// How the server behaves from the next command on.
#[derive(Debug, Clone, Default)]
pub struct Behaviour {
    /// Recipients that are refused, with code and words: 4xx for now, 5xx for good.
    pub refuse: HashMap<String, (u16, String)>,
    /// How long it thinks before it confirms a message that it has kept.
    pub slow: Duration,
    /// Name and password that it asks for.
    pub sign_in: Option<(String, String)>,
    /// Whether it hangs up on everybody at once, as if it were down.
    pub down: bool,
    /// At which points of the next conversations it goes away without a word.
    pub hang_up: Vec<HangUp>,
}

/// When a server goes away.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HangUp {
    /// When it is to begin with a message.
    BeforeData,
    /// When it has kept a message, and does not say so.
    AfterData,
}

/// A running server; it ends with the runtime it was started on.
pub struct MailServer {
    pub address: SocketAddr,
    pub folder: PathBuf,
    behaviour: Arc<Mutex<Behaviour>>,
}

impl MailServer {
    /// Listens on `address` (port 0 for any free one) and keeps messages in `folder`.
    pub async fn start(address: &str, folder: PathBuf, behaviour: Behaviour) -> Result<Self> {
        std::fs::create_dir_all(&folder)
            .with_context(|| format!("cannot make the folder {}", folder.display()))?;
        let listener = TcpListener::bind(address).await.with_context(|| {
            format!("the mail server cannot listen on {address}; is another program using it?")
        })?;
        let server = Self {
            address: listener.local_addr()?,
            folder: folder.clone(),
            behaviour: Arc::new(Mutex::new(behaviour)),
        };
        let behaviour = server.behaviour.clone();
        tokio::spawn(async move {
            while let Ok((stream, peer)) = listener.accept().await {
                let keeper = Keeper::new(folder.clone(), behaviour.clone());
                tokio::spawn(async move {
                    // A client that goes away ends its own conversation only.
                    let _ = converse(stream, peer.ip(), keeper).await;
                });
            }
        });
        Ok(server)
    }

    pub fn behave(&self, change: impl FnOnce(&mut Behaviour)) {
        change(
            &mut self
                .behaviour
                .lock()
                .unwrap_or_else(|poisoned| poisoned.into_inner()),
        );
    }

    /// The messages kept so far, in the order in which they came.
    pub fn messages(&self) -> Vec<Vec<u8>> {
        let mut files: Vec<PathBuf> = std::fs::read_dir(&self.folder)
            .into_iter()
            .flatten()
            .flatten()
            .map(|entry| entry.path())
            .filter(|path| path.extension().is_some_and(|kind| kind == "eml"))
            .collect();
        files.sort();
        files
            .iter()
            .filter_map(|path| std::fs::read(path).ok())
            .collect()
    }
}

#[expect(clippy::too_many_lines, reason = "one arm a command of the protocol")]
async fn converse(stream: TcpStream, peer: IpAddr, keeper: Keeper) -> Result<()> {
    let behaviour = keeper.behaviour.clone();
    let current = || {
        behaviour
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner())
            .clone()
    };
    let mut builder = SessionBuilder::new("mail.orrin-sound.example");
    if current().sign_in.is_some() {
        builder
            .enable_auth(AuthMechanism::Plain)
            .enable_auth(AuthMechanism::Login)
            .insecure_enable_plaintext_auth();
    }
    let mut session = builder.build(peer, keeper);
    if current().down {
        return Ok(());
    }
    let (reader, mut writer) = stream.into_split();
    let mut reader = BufReader::new(reader);
    writer.write_all(&session.greeting().buffer()?).await?;
    let mut line = Vec::new();
    let mut in_data = false;
    loop {
        line.clear();
        // RFC 5321 allows 1,000 octets a line; this is generous and still bounded.
        if (&mut reader)
            .take(64 * 1024)
            .read_until(b'\n', &mut line)
            .await?
            == 0
        {
            return Ok(());
        }
        let ends_data = in_data && line == b".\r\n";
        if !in_data && let Some(size) = announced_size(&line) {
            if size > LARGEST {
                writer
                    .write_all(b"552 Message exceeds the size limit\r\n")
                    .await?;
                continue;
            }
            line = b"".iter().copied().chain(without_size(&line)).collect();
        }
        let begins_data = !in_data && line.len() >= 4 && line[..4].eq_ignore_ascii_case(b"DATA");
        if begins_data && hangs_up(&behaviour, HangUp::BeforeData) {
            return Ok(());
        }
        let response = session.process(&line);
        if ends_data && hangs_up(&behaviour, HangUp::AfterData) {
            return Ok(());
        }
        if response.code == 354 {
            in_data = true;
        } else if ends_data {
            in_data = false;
            tokio::time::sleep(current().slow).await;
        }
        if response.action != Action::NoReply {
            let mut answer = response.buffer()?;
            if line.len() > 4
                && line[..4].eq_ignore_ascii_case(b"EHLO")
                && answer.starts_with(b"250-")
            {
                // Put before the last line of the list of extensions.
                let text = String::from_utf8_lossy(&answer).into_owned();
                let first_end = text.find("\r\n").map_or(text.len(), |end| end + 2);
                answer = format!(
                    "{}250-SIZE {LARGEST}\r\n{}",
                    &text[..first_end],
                    &text[first_end..]
                )
                .into_bytes();
            }
            writer.write_all(&answer).await?;
        }
        if response.action == Action::Close {
            return Ok(());
        }
    }
}

/// Whether the server goes away now; each entry does so once.
fn hangs_up(behaviour: &Mutex<Behaviour>, here: HangUp) -> bool {
    let mut behaviour = behaviour
        .lock()
        .unwrap_or_else(|poisoned| poisoned.into_inner());
    let at = behaviour.hang_up.iter().position(|point| *point == here);
    at.map(|at| behaviour.hang_up.remove(at)).is_some()
}

fn announced_size(line: &[u8]) -> Option<usize> {
    let text = std::str::from_utf8(line).ok()?.to_ascii_uppercase();
    if !text.starts_with("MAIL FROM:") {
        return None;
    }
    text.split_whitespace()
        .find_map(|part| part.strip_prefix("SIZE="))?
        .parse()
        .ok()
}

fn without_size(line: &[u8]) -> Vec<u8> {
    let text = String::from_utf8_lossy(line);
    let kept: Vec<&str> = text
        .split_whitespace()
        .filter(|part| !part.to_ascii_uppercase().starts_with("SIZE="))
        .collect();
    format!("{}\r\n", kept.join(" ")).into_bytes()
}

/// Keeps one conversation's messages.
struct Keeper {
    folder: PathBuf,
    behaviour: Arc<Mutex<Behaviour>>,
    message: Vec<u8>,
    recipients: Vec<String>,
    sender: String,
}

static COUNT: AtomicU64 = AtomicU64::new(0);

impl Keeper {
    fn new(folder: PathBuf, behaviour: Arc<Mutex<Behaviour>>) -> Self {
        Self {
            folder,
            behaviour,
            message: Vec::new(),
            recipients: Vec::new(),
            sender: String::new(),
        }
    }

    fn current(&self) -> Behaviour {
        self.behaviour
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner())
            .clone()
    }

    fn sign_in(&self, name: &str, password: &str) -> Response {
        match self.current().sign_in {
            Some((known, secret)) if known == name && secret == password => AUTH_OK,
            _ => INVALID_CREDENTIALS,
        }
    }
}

impl Handler for Keeper {
    fn mail(&mut self, _ip: IpAddr, _domain: &str, from: &str) -> Response {
        self.sender = from.to_owned();
        self.recipients.clear();
        OK
    }

    fn rcpt(&mut self, to: &str) -> Response {
        match self.current().refuse.get(to) {
            Some((code, words)) => Response::custom(*code, words.clone()),
            None => {
                self.recipients.push(to.to_owned());
                OK
            }
        }
    }

    fn data_start(
        &mut self,
        _domain: &str,
        _from: &str,
        _is8bit: bool,
        _to: &[String],
    ) -> Response {
        self.message.clear();
        OK
    }

    fn data(&mut self, part: &[u8]) -> std::io::Result<()> {
        if self.message.len() + part.len() <= LARGEST + 1 {
            self.message.extend_from_slice(part);
        }
        Ok(())
    }

    fn data_end(&mut self) -> Response {
        if self.message.len() > LARGEST {
            return NO_STORAGE;
        }
        let now = chrono::Utc::now().format("%Y%m%dT%H%M%S%.6f");
        let name = format!("{now}-{:06}", COUNT.fetch_add(1, Ordering::Relaxed));
        let mut bytes = format!(
            "Return-Path: <{}>\r\nX-Envelope-To: {}\r\n",
            self.sender,
            self.recipients.join(", ")
        )
        .into_bytes();
        bytes.append(&mut self.message);
        let hidden = self.folder.join(format!(".{name}"));
        let kept = std::fs::write(&hidden, bytes)
            .and_then(|()| std::fs::rename(&hidden, self.folder.join(format!("{name}.eml"))));
        if kept.is_ok() { OK } else { INTERNAL_ERROR }
    }

    fn auth_plain(&mut self, _authorization: &str, name: &str, password: &str) -> Response {
        self.sign_in(name, password)
    }

    fn auth_login(&mut self, name: &str, password: &str) -> Response {
        self.sign_in(name, password)
    }
}
