//! Stand-ins for what documents can be delivered to beside mail: a web server that takes files
//! by PUT and messages by POST, and a syslog receiver. Each keeps what it got in a folder.

use std::{
    collections::BTreeSet,
    net::SocketAddr,
    path::{Path, PathBuf},
    sync::{Arc, Mutex},
};

use anyhow::{Context, Result};
use tokio::{
    io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader},
    net::{TcpListener, TcpStream, UdpSocket},
};

/// No body is read past this.
const LARGEST: usize = 64 << 20;

/// One request as it came.
#[derive(Debug, Clone)]
pub struct Received {
    pub method: String,
    pub path: String,
    /// Names in small letters.
    pub headers: Vec<(String, String)>,
    pub body: Vec<u8>,
}

impl Received {
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers
            .iter()
            .find(|(known, _)| known == name)
            .map(|(_, value)| value.as_str())
    }
}

#[derive(Default)]
struct State {
    received: Vec<Received>,
    collections: BTreeSet<String>,
    /// What the next requests are answered with instead.
    refuse: Vec<u16>,
}

/// A running web server; it ends with the runtime it was started on. Files go where their
/// path says, under `uploads`; each POST is a line of `messages.jsonl`.
pub struct WebReceiver {
    pub address: SocketAddr,
    pub folder: PathBuf,
    state: Arc<Mutex<State>>,
}

impl WebReceiver {
    pub async fn start(address: &str, folder: PathBuf) -> Result<Self> {
        std::fs::create_dir_all(folder.join("uploads"))
            .with_context(|| format!("cannot make the folder {}", folder.display()))?;
        let listener = TcpListener::bind(address)
            .await
            .with_context(|| format!("the web receiver cannot listen on {address}"))?;
        let receiver = Self {
            address: listener.local_addr()?,
            folder: folder.clone(),
            state: Arc::default(),
        };
        let state = receiver.state.clone();
        tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let (state, folder) = (state.clone(), folder.clone());
                tokio::spawn(async move {
                    // A client that goes away ends its own conversation only.
                    let _ = converse(stream, &state, &folder).await;
                });
            }
        });
        Ok(receiver)
    }

    /// All requests so far.
    pub fn received(&self) -> Vec<Received> {
        self.state
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner())
            .received
            .clone()
    }

    /// Answers the next requests with these codes, the first one first.
    pub fn refuse(&self, codes: &[u16]) {
        self.state
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner())
            .refuse = codes.to_vec();
    }
}

async fn converse(stream: TcpStream, state: &Mutex<State>, folder: &Path) -> Result<()> {
    let (reader, mut writer) = stream.into_split();
    let mut reader = BufReader::new(reader);
    loop {
        let mut line = String::new();
        if reader.read_line(&mut line).await? == 0 {
            return Ok(());
        }
        let mut words = line.split_whitespace();
        let (method, path) = (
            words.next().unwrap_or_default().to_owned(),
            words.next().unwrap_or("/").to_owned(),
        );
        let mut headers = Vec::new();
        loop {
            let mut line = String::new();
            if reader.read_line(&mut line).await? <= 2 {
                break;
            }
            headers.extend(
                line.split_once(':')
                    .map(|(name, value)| (name.trim().to_lowercase(), value.trim().to_owned())),
            );
        }
        let length = headers
            .iter()
            .find(|(name, _)| name == "content-length")
            .and_then(|(_, value)| value.parse().ok())
            .unwrap_or(0usize);
        let mut body = vec![0; length.min(LARGEST)];
        reader.read_exact(&mut body).await?;
        let status = answer(
            state,
            folder,
            Received {
                method,
                path,
                headers,
                body,
            },
        );
        writer
            .write_all(format!("HTTP/1.1 {status} Answer\r\nContent-Length: 0\r\n\r\n").as_bytes())
            .await?;
    }
}

fn answer(state: &Mutex<State>, folder: &Path, request: Received) -> u16 {
    let mut state = state
        .lock()
        .unwrap_or_else(|poisoned| poisoned.into_inner());
    state.received.push(request.clone());
    if !state.refuse.is_empty() {
        return state.refuse.remove(0);
    }
    let path = request.path.trim_end_matches('/');
    let parent = path.rsplit_once('/').map_or("", |(parent, _)| parent);
    // Two levels are there from the start, as a share that somebody has set up.
    let there = |state: &State, path: &str| {
        path.matches('/').count() <= 1 || state.collections.contains(path)
    };
    match request.method.as_str() {
        "MKCOL" if there(&state, path) => 405,
        "MKCOL" if there(&state, parent) => {
            state.collections.insert(path.to_owned());
            201
        }
        "MKCOL" => 409,
        "PUT" if !there(&state, parent) => 409,
        "PUT" if path.contains("..") => 400,
        "PUT" => {
            let file = folder.join("uploads").join(path.trim_start_matches('/'));
            let kept = file
                .parent()
                .map_or(Ok(()), std::fs::create_dir_all)
                .and_then(|()| std::fs::write(&file, &request.body));
            if kept.is_ok() { 201 } else { 507 }
        }
        "POST" => {
            let line = [&request.body[..], b"\n"].concat();
            let file = std::fs::OpenOptions::new()
                .create(true)
                .append(true)
                .open(folder.join("messages.jsonl"));
            let kept = file.and_then(|mut file| std::io::Write::write_all(&mut file, &line));
            if kept.is_ok() { 204 } else { 507 }
        }
        _ => 405,
    }
}

/// Keeps each datagram as a line of `folder/syslog.log`. Answers with its address.
pub async fn start_syslog(address: &str, folder: PathBuf) -> Result<SocketAddr> {
    std::fs::create_dir_all(&folder)?;
    let socket = UdpSocket::bind(address)
        .await
        .with_context(|| format!("the syslog receiver cannot listen on {address}"))?;
    let found = socket.local_addr()?;
    tokio::spawn(async move {
        let mut buffer = vec![0; 64 << 10];
        while let Ok(length) = socket.recv(&mut buffer).await {
            let line = [&buffer[..length], b"\n"].concat();
            let file = std::fs::OpenOptions::new()
                .create(true)
                .append(true)
                .open(folder.join("syslog.log"));
            // A line that cannot be kept is lost, as it would be on its way.
            let _ = file.and_then(|mut file| std::io::Write::write_all(&mut file, &line));
        }
    });
    Ok(found)
}
