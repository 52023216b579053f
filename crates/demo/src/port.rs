//! Free ports for servers that must be told theirs before they start.

use std::{
    net::{TcpListener, UdpSocket},
    sync::atomic::{AtomicU16, Ordering},
};

use anyhow::{Result, anyhow};

/// Below those that the system gives to whoever asks for any.
const FIRST: u16 = 20_000;
const COUNT: u16 = 12_000;
/// So many lie between where two processes begin to look.
const APART: u16 = 100;

/// A free port of this machine. This process gives no port twice (until it has given 12,000), and the system gives
/// none of these to whoever asks for any.
///
/// # Errors
/// If all of them are taken.
pub fn free_port() -> Result<u16> {
    static GIVEN: AtomicU16 = AtomicU16::new(0);
    let process = (std::process::id() % u32::from(COUNT / APART)) as u16;
    let free = (0..COUNT).find_map(|_| {
        let place = GIVEN.fetch_add(1, Ordering::Relaxed) % COUNT;
        let port = FIRST + (process * APART + place) % COUNT;
        let address = ("127.0.0.1", port);
        let is_free = TcpListener::bind(address).is_ok() && UdpSocket::bind(address).is_ok();
        is_free.then_some(port)
    });
    free.ok_or_else(|| anyhow!("no port of this machine is free"))
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn no_port_is_given_twice_or_while_somebody_has_it() {
        let first = free_port().unwrap();
        // Whoever comes next in the row is passed over.
        let held = TcpListener::bind(("127.0.0.1", first + 1));
        let ports: BTreeSet<u16> = (0..50).map(|_| free_port().unwrap()).collect();
        assert_eq!(ports.len(), 50);
        assert!(!ports.contains(&first));
        assert!(held.is_err() || !ports.contains(&(first + 1)));
    }
}
