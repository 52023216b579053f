//! The only way from the browser to the network: a SOCKS 5 server (RFC 1928) on loopback, which
//! connects to addresses that were looked at and to no others. Names are resolved here, so that
//! one cannot lead elsewhere between the look and the connection.

use std::{
    net::SocketAddr,
    sync::{Arc, Mutex, OnceLock, PoisonError},
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
pub type Gate = Arc<dyn Fn(String, u16) -> BoxFuture<'static, Passage> + Send + Sync>;
/// What a gate lets through, or why it stays shut.
pub type Passage = Result<Vec<SocketAddr>, Box<dyn std::error::Error + Send + Sync>>;

/// So many connections of one capture at a time.
const MOST_CONNECTIONS: usize = 256;

/// A gate that is there as long as this lives, and shut until it is told what may be reached.
pub(crate) struct OpenGate {
    pub(crate) address: SocketAddr,
    known: Arc<OnceLock<Gate>>,
    refused: Arc<Mutex<Vec<(String, String)>>>,
    task: AbortHandle,
}

impl OpenGate {
    pub(crate) async fn open() -> std::io::Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let address = listener.local_addr()?;
        let known: Arc<OnceLock<Gate>> = Arc::default();
        let refused: Arc<Mutex<Vec<(String, String)>>> = Arc::default();
        let task = tokio::spawn(serve(listener, known.clone(), refused.clone())).abort_handle();
        Ok(Self {
            address,
            known,
            refused,
            task,
        })
    }

    /// Tells what may be reached. It is told once.
    pub(crate) fn let_through(&self, gate: Gate) {
        let _ = self.known.set(gate);
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

async fn serve(
    listener: TcpListener,
    known: Arc<OnceLock<Gate>>,
    refused: Arc<Mutex<Vec<(String, String)>>>,
) {
    // Connections end with the gate.
    let mut connections = JoinSet::new();
    while let Ok((stream, _)) = listener.accept().await {
        while connections.try_join_next().is_some() {}
        if let Some(gate) = known.get()
            && connections.len() < MOST_CONNECTIONS
        {
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
                    refused.push((address, reason.to_string()));
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

#[cfg(test)]
mod tests {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    use super::*;

    /// What a gate answers to a greeting.
    async fn greeted(gate: &OpenGate) -> Vec<u8> {
        let mut stream = TcpStream::connect(gate.address).await.unwrap();
        let _ = stream.write_all(&[5, 1, 0]).await;
        let mut answer = [0; 2];
        match stream.read_exact(&mut answer).await {
            Ok(_) => answer.to_vec(),
            Err(_) => Vec::new(),
        }
    }

    #[tokio::test]
    async fn a_gate_is_shut_until_it_is_told_what_may_be_reached() {
        let gate = OpenGate::open().await.unwrap();
        assert!(greeted(&gate).await.is_empty());
        gate.let_through(Arc::new(|_, _| Box::pin(async { Ok(Vec::new()) })));
        assert_eq!(greeted(&gate).await, [5, 0]);
    }
}
