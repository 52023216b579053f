//! The only way from the browser to the network: a SOCKS 5 server (RFC 1928) on loopback, which
//! connects to addresses that were looked at and to no others. Names are resolved here, so that
//! one cannot lead elsewhere between the look and the connection.

use std::{
    net::SocketAddr,
    sync::{Arc, Mutex, PoisonError},
};

use fast_socks5::{
    ReplyError, Socks5Command, server::Socks5ServerProtocol, util::target_addr::TargetAddr,
};
use futures::future::BoxFuture;
use tokio::{
    net::{TcpListener, TcpStream},
    task::{AbortHandle, JoinSet},
};

/// The addresses that a host and port have, all of which may be reached; or why not.
pub type Gate =
    Arc<dyn Fn(String, u16) -> BoxFuture<'static, Result<Vec<SocketAddr>, String>> + Send + Sync>;

/// So many connections of one capture at a time.
const MOST_CONNECTIONS: usize = 256;

/// A gate that is open as long as this lives.
pub(crate) struct OpenGate {
    pub(crate) address: SocketAddr,
    refused: Arc<Mutex<Vec<(String, String)>>>,
    task: AbortHandle,
}

impl OpenGate {
    pub(crate) async fn open(gate: Gate) -> std::io::Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let address = listener.local_addr()?;
        let refused: Arc<Mutex<Vec<(String, String)>>> = Arc::default();
        let task = tokio::spawn(serve(listener, gate, refused.clone())).abort_handle();
        Ok(Self {
            address,
            refused,
            task,
        })
    }

    /// Why an address was refused, if it was.
    pub(crate) fn refusal(&self, host_and_port: &str) -> Option<String> {
        self.all_refused()
            .into_iter()
            .find(|(address, _)| address == host_and_port)
            .map(|(_, reason)| reason)
    }

    /// What was refused, each address once.
    pub(crate) fn all_refused(&self) -> Vec<(String, String)> {
        let refused = self.refused.lock().unwrap_or_else(PoisonError::into_inner);
        refused.clone()
    }
}

impl Drop for OpenGate {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn serve(listener: TcpListener, gate: Gate, refused: Arc<Mutex<Vec<(String, String)>>>) {
    // Connections end with the gate.
    let mut connections = JoinSet::new();
    while let Ok((stream, _)) = listener.accept().await {
        while connections.try_join_next().is_some() {}
        if connections.len() < MOST_CONNECTIONS {
            connections.spawn(carry(stream, gate.clone(), refused.clone()));
        }
    }
}

async fn carry(stream: TcpStream, gate: Gate, refused: Arc<Mutex<Vec<(String, String)>>>) {
    let Ok(protocol) = Socks5ServerProtocol::accept_no_auth(stream).await else {
        return;
    };
    let Ok((protocol, command, target)) = protocol.read_command().await else {
        return;
    };
    let (host, port) = match &target {
        TargetAddr::Ip(address) => (address.ip().to_string(), address.port()),
        TargetAddr::Domain(name, port) => (name.clone(), *port),
    };
    let reply = match command {
        Socks5Command::TCPConnect => match gate(host.clone(), port).await {
            Ok(addresses) => match connected(&addresses).await {
                Ok(connection) => Ok(connection),
                Err(error) => Err(reply_to(&error)),
            },
            Err(reason) => {
                let mut refused = refused.lock().unwrap_or_else(PoisonError::into_inner);
                let address = format!("{host}:{port}");
                if refused.len() < 100 && !refused.iter().any(|(known, _)| *known == address) {
                    refused.push((address, reason));
                }
                Err(ReplyError::ConnectionNotAllowed)
            }
        },
        _ => Err(ReplyError::CommandNotSupported),
    };
    match reply {
        Ok(mut connection) => {
            let own = SocketAddr::from(([0, 0, 0, 0], 0));
            if let Ok(mut stream) = protocol.reply_success(own).await {
                // Either side may hang up; nobody else needs to hear of it.
                let _ = tokio::io::copy_bidirectional(&mut stream, &mut connection).await;
            }
        }
        Err(error) => {
            let _ = protocol.reply_error(&error).await;
        }
    }
}

async fn connected(addresses: &[SocketAddr]) -> std::io::Result<TcpStream> {
    let connection = TcpStream::connect(addresses).await?;
    connection.set_nodelay(true)?;
    Ok(connection)
}

fn reply_to(error: &std::io::Error) -> ReplyError {
    match error.kind() {
        std::io::ErrorKind::ConnectionRefused => ReplyError::ConnectionRefused,
        std::io::ErrorKind::TimedOut => ReplyError::ConnectionTimeout,
        _ => ReplyError::HostUnreachable,
    }
}
