//! Ends connections on which nobody asks for anything.
//!
//! The web framework waits for the head of a request without end, so that callers who begin one
//! and never finish it would hold a connection each for as long as they like.

use std::{
    collections::{HashMap, HashSet},
    io,
    net::{Shutdown, SocketAddr},
    sync::{Arc, Mutex, PoisonError, Weak},
    time::{Duration, Instant},
};

use rocket::{
    Data, Orbit, Request, Response, Rocket,
    fairing::{Fairing, Info, Kind},
    http::ContentType,
};
use rustix::process::{PidfdFlags, PidfdGetfdFlags, getpid, pidfd_getfd, pidfd_open};
use socket2::Socket;

/// Once a caller has asked for something, the connection may be silent for so long: the answer
/// may be large and the line slow.
const BETWEEN_REQUESTS: Duration = Duration::from_hours(1);
/// Connections are looked at so many times within what they are given for a head.
const LOOKS: u32 = 4;

/// When callers last sent a whole head.
#[derive(Default)]
struct Heads(Mutex<HashMap<SocketAddr, Head>>);

#[derive(Clone, Copy)]
struct Head {
    at: Instant,
    /// An event stream is open for as long as its reader wants.
    follows: bool,
}

/// Sees each head, and ends the connections that send none.
pub(super) struct Connections {
    heads: Arc<Heads>,
    within: Duration,
}

impl Connections {
    /// A connection has so long for the first head.
    pub(super) fn new(within: Duration) -> Self {
        Self {
            heads: Arc::default(),
            within,
        }
    }
}

#[rocket::async_trait]
impl Fairing for Connections {
    fn info(&self) -> Info {
        Info {
            name: "connections",
            kind: Kind::Liftoff | Kind::Request | Kind::Response,
        }
    }

    async fn on_liftoff(&self, rocket: &Rocket<Orbit>) {
        let (port, within, heads) = (
            rocket.config().port,
            self.within,
            Arc::downgrade(&self.heads),
        );
        let watch = move || watch(port, within, &heads);
        let started = std::thread::Builder::new()
            .name("connections".to_owned())
            .spawn(watch);
        if let Err(error) = started {
            tracing::warn!(%error, "connections that send no request are not ended");
        }
    }

    async fn on_request(&self, request: &mut Request<'_>, _: &mut Data<'_>) {
        if let Some(caller) = request.remote() {
            let head = Head {
                at: Instant::now(),
                follows: false,
            };
            self.heads.lock().insert(caller, head);
        }
    }

    /// Only who is answered with a stream may stay for it: asking for one is not enough.
    async fn on_response<'r>(&self, request: &'r Request<'_>, response: &mut Response<'r>) {
        if response.content_type() == Some(ContentType::EventStream)
            && let Some(caller) = request.remote()
            && let Some(head) = self.heads.lock().get_mut(&caller)
        {
            head.follows = true;
        }
    }
}

impl Heads {
    fn lock(&self) -> std::sync::MutexGuard<'_, HashMap<SocketAddr, Head>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Looks at the connections for as long as the service is there.
fn watch(port: u16, within: Duration, heads: &Weak<Heads>) {
    let mut known = HashMap::new();
    let mut told = false;
    loop {
        std::thread::sleep(within / LOOKS);
        let Some(heads) = heads.upgrade() else {
            return;
        };
        // Most likely there is no room for one more file now, which is when this is needed most.
        match look(port, within, &heads, &mut known) {
            Ok(0) => told = false,
            Ok(ended) => tracing::info!(ended, "connections without a request are ended"),
            Err(error) if !told => {
                tracing::warn!(%error, "connections cannot be looked at; it is tried again");
                told = true;
            }
            Err(_) => {}
        }
    }
}

/// Ends what is over, and answers with how many that were. `known` has when each connection was
/// first seen, by the kernel's number of its socket, which is not used twice as an address is.
///
/// # Errors
/// If this process may not look at its own files, or has no room for one more.
fn look(
    port: u16,
    within: Duration,
    heads: &Heads,
    known: &mut HashMap<String, Instant>,
) -> io::Result<usize> {
    let now = Instant::now();
    let asked = heads.lock().clone();
    let (mut open, mut callers, mut ended) = (HashSet::new(), HashSet::new(), 0);
    each(port, |inode, caller, socket| {
        let since = *known.entry(inode.clone()).or_insert(now);
        let head = asked.get(&caller).copied();
        if is_over(now, since, head, within) && socket.shutdown(Shutdown::Both).is_ok() {
            ended += 1;
        }
        open.insert(inode);
        callers.insert(caller);
    })?;
    known.retain(|inode, _| open.contains(inode));
    heads
        .lock()
        .retain(|caller, head| head.at >= now || callers.contains(caller));
    Ok(ended)
}

/// Whether a connection that was first seen `since` has been silent for too long.
fn is_over(now: Instant, since: Instant, head: Option<Head>, within: Duration) -> bool {
    // What was sent long before the connection was seen was sent on another of that address.
    match head.filter(|head| head.at + within >= since) {
        None => now - since >= within,
        Some(head) => !head.follows && now.saturating_duration_since(head.at) >= BETWEEN_REQUESTS,
    }
}

/// Shows each connection that somebody else opened to a port of this process: the kernel's number
/// of its socket, who opened it, and the socket. One more file is open at a time.
fn each(port: u16, mut show: impl FnMut(String, SocketAddr, Socket)) -> io::Result<()> {
    let own = pidfd_open(getpid(), PidfdFlags::empty())?;
    for entry in std::fs::read_dir("/proc/self/fd")? {
        let entry = entry?;
        // One that is closed meanwhile is none.
        let Ok(target) = std::fs::read_link(entry.path()) else {
            continue;
        };
        let (Some(inode), Some(number)) = (
            target
                .to_str()
                .and_then(|name| name.strip_prefix("socket:")),
            entry
                .file_name()
                .to_str()
                .and_then(|name| name.parse().ok()),
        ) else {
            continue;
        };
        let socket = match pidfd_getfd(&own, number, PidfdGetfdFlags::empty()) {
            Ok(file) => Socket::from(file),
            Err(rustix::io::Errno::BADF) => continue,
            Err(error) => return Err(error.into()),
        };
        let address = |found: io::Result<socket2::SockAddr>| found.ok()?.as_socket();
        let (Some(here), Some(caller)) =
            (address(socket.local_addr()), address(socket.peer_addr()))
        else {
            continue;
        };
        if here.port() == port {
            show(inode.to_owned(), caller, socket);
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    const WITHIN: Duration = Duration::from_secs(30);

    #[test]
    fn a_connection_is_over_when_it_sent_no_head_for_long_enough() {
        let begin = Instant::now();
        let at = |seconds| begin + Duration::from_secs(seconds);
        let head = |seconds, follows| {
            Some(Head {
                at: at(seconds),
                follows,
            })
        };
        assert!(!is_over(at(29), at(0), None, WITHIN));
        assert!(is_over(at(30), at(0), None, WITHIN));
        assert!(!is_over(at(1000), at(0), head(1, false), WITHIN));
        assert!(is_over(at(3601), at(0), head(1, false), WITHIN));
        assert!(!is_over(at(100_000), at(0), head(1, true), WITHIN));
        // A head between two looks belongs to the connection, an old one to another before it.
        assert!(!is_over(at(45), at(10), head(5, false), WITHIN));
        assert!(is_over(at(130), at(100), head(1, true), WITHIN));
    }

    #[rocket::async_test]
    async fn who_asks_for_a_stream_and_gets_none_does_not_follow_anything() {
        let connections = Connections::new(WITHIN);
        let heads = connections.heads.clone();
        let rocket = rocket::build()
            .attach(connections)
            .mount("/", rocket::routes![stream_of_events]);
        let client = rocket::local::asynchronous::Client::untracked(rocket)
            .await
            .unwrap();
        let caller = |port| SocketAddr::from(([127, 0, 0, 1], port));
        for (port, path) in [(1, "/x/events"), (2, "/stream")] {
            client.get(path).remote(caller(port)).dispatch().await;
        }
        let follows = |port| heads.lock()[&caller(port)].follows;
        assert_eq!([follows(1), follows(2)], [false, true]);
    }

    #[rocket::get("/stream")]
    fn stream_of_events() -> (ContentType, &'static str) {
        (ContentType::EventStream, "")
    }

    #[test]
    fn only_connections_that_others_opened_to_the_port_are_found() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let caller = std::net::TcpStream::connect(("127.0.0.1", port)).unwrap();
        let (served, _) = listener.accept().unwrap();
        let mut callers = Vec::new();
        each(port, |_, caller, _| callers.push(caller)).unwrap();
        assert_eq!(callers, [caller.local_addr().unwrap()]);
        drop(served);
    }
}
