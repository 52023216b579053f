//! Whether who asked still waits for the answer.

use std::{
    net::{IpAddr, SocketAddr},
    time::Duration,
};

use procfs::net::{TcpNetEntry, TcpState, tcp, tcp6};
use rocket::{
    Request,
    request::{FromRequest, Outcome},
};

use super::problem::Problem;

/// So often it is looked whether a client is still there.
const LOOK: Duration = Duration::from_millis(500);

/// Who sent a request: the other end of its connection.
pub struct Client {
    peer: Option<SocketAddr>,
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Client {
    type Error = std::convert::Infallible;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Self::Error> {
        let address = |address: SocketAddr| SocketAddr::new(plain(address.ip()), address.port());
        Outcome::Success(Self {
            peer: request.remote().map(address),
        })
    }
}

impl Client {
    /// Does something long for as long as the client waits for it. When it has gone, the work is
    /// let go of, and its source is no longer asked.
    ///
    /// # Errors
    /// If the client has gone, which nobody reads.
    pub async fn waits_for<T>(&self, work: impl Future<Output = T>) -> Result<T, Problem> {
        tokio::select! {
            done = work => Ok(done),
            () = self.gone() => {
                tracing::info!("the client disconnected; its request is cancelled");
                Err(Problem::new(408, "Client disconnected", "the client closed the connection before the answer"))
            }
        }
    }

    async fn gone(&self) {
        let Some(peer) = self.peer else {
            return std::future::pending().await;
        };
        loop {
            tokio::time::sleep(LOOK).await;
            let looked = tokio::task::spawn_blocking(move || is_connected(peer)).await;
            // Where the system does not say, everybody waits.
            if let Ok(Some(false)) = looked {
                return;
            }
        }
    }
}

/// An IPv4 address as such, also where it was written within IPv6.
fn plain(address: IpAddr) -> IpAddr {
    address.to_canonical()
}

/// Whether a connection from there is open in both directions, as the system's table of
/// connections has it; nothing if it cannot be read.
fn is_connected(peer: SocketAddr) -> Option<bool> {
    let open = |entry: &TcpNetEntry| {
        let other = entry.remote_address;
        entry.state == TcpState::Established
            && other.port() == peer.port()
            && plain(other.ip()) == peer.ip()
    };
    let narrow = tcp();
    let wide = tcp6();
    if narrow.is_err() && wide.is_err() {
        return None;
    }
    Some(narrow.unwrap_or_default().iter().any(open) || wide.unwrap_or_default().iter().any(open))
}

#[cfg(test)]
mod tests {
    use tokio::net::{TcpListener, TcpStream};

    use super::*;

    #[tokio::test(flavor = "multi_thread")]
    async fn work_ends_when_its_client_hangs_up_and_not_before() {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let stream = TcpStream::connect(listener.local_addr().unwrap())
            .await
            .unwrap();
        let (accepted, peer) = listener.accept().await.unwrap();
        let client = Client { peer: Some(peer) };
        let done = client.waits_for(tokio::time::sleep(2 * LOOK)).await;
        assert!(done.is_ok(), "it is there");
        let (endless, hang_up) =
            tokio::join!(client.waits_for(std::future::pending::<()>()), async {
                drop(stream);
            });
        let () = hang_up;
        assert_eq!(endless.err().map(|problem| problem.status()), Some(408));
        drop(accepted);
    }
}
