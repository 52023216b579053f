//! Who asked, where a proxy asks for them.

use std::net::{IpAddr, SocketAddr};

use maple_lark_sources::AddressRange;
use rocket::{
    Data, Request,
    fairing::{Fairing, Info, Kind},
    http::Header,
};

use crate::tls::Callers;

/// Where the address that is believed stands while a request is answered. Whatever a client says there is
/// written over.
pub const BELIEVED: &str = "maple-lark-believed-address";
/// What proxies add the address to that they were asked from.
const FORWARDED: &str = "x-forwarded-for";

/// Believes the proxies that the configuration names, and nobody else.
pub struct Proxies {
    pub trusted: Vec<AddressRange>,
    /// Who it is that TLS was ended for.
    pub callers: Callers,
}

#[rocket::async_trait]
impl Fairing for Proxies {
    fn info(&self) -> Info {
        Info {
            name: "proxies",
            kind: Kind::Request,
        }
    }

    async fn on_request(&self, request: &mut Request<'_>, _: &mut Data<'_>) {
        let Some(peer) = request.remote() else {
            return;
        };
        let told: Vec<&str> = request.headers().get(FORWARDED).collect();
        let believed = self.believed(self.callers.behind(peer).ip(), &told.join(","));
        request.replace_header(Header::new(BELIEVED, believed.to_string()));
    }
}

impl Proxies {
    /// From the nearest on, each proxy that is trusted tells of whoever asked it. What stands before the
    /// first that is not is what that one says, and may be made up.
    fn believed(&self, peer: IpAddr, told: &str) -> IpAddr {
        let mut believed = peer.to_canonical();
        for before in told.rsplit(',').map(|one| address(one.trim())) {
            let trusted = SocketAddr::new(believed, 0);
            match before {
                Some(before) if self.trusted.iter().any(|range| range.holds(trusted)) => {
                    believed = before.to_canonical();
                }
                _ => break,
            }
        }
        believed
    }
}

/// An address, with its port or without.
fn address(text: &str) -> Option<IpAddr> {
    let bare = text.trim_matches(['[', ']']).parse().ok();
    bare.or_else(|| text.parse().ok().map(|both: SocketAddr| both.ip()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_trusted_proxies_tell_is_believed() {
        let trusted = ["10.0.0.0/24", "::1"].map(|range| range.parse().unwrap());
        let proxies = Proxies {
            trusted: trusted.to_vec(),
            callers: Callers::default(),
        };
        for (peer, told, believed) in [
            // Nobody's proxy, whatever it says.
            ("192.0.2.1", "198.51.100.7", "192.0.2.1"),
            ("10.0.1.1", "198.51.100.7", "10.0.1.1"),
            // One proxy, and two behind each other.
            ("10.0.0.1", "198.51.100.7", "198.51.100.7"),
            ("10.0.0.1", "198.51.100.7, 10.0.0.2", "198.51.100.7"),
            ("::1", "2001:db8::7", "2001:db8::7"),
            ("::ffff:10.0.0.1", "[2001:db8::7]:4711", "2001:db8::7"),
            ("10.0.0.1", "198.51.100.7:4711", "198.51.100.7"),
            // What the client has put before it.
            ("10.0.0.1", "203.0.113.9, 198.51.100.7", "198.51.100.7"),
            ("10.0.0.1", "10.0.0.9, 198.51.100.7", "198.51.100.7"),
            // Nothing, or no address.
            ("10.0.0.1", "", "10.0.0.1"),
            ("10.0.0.1", "unknown", "10.0.0.1"),
            ("10.0.0.1", "198.51.100.7, unknown", "10.0.0.1"),
            ("10.0.0.1", "198.51.100.7,, 10.0.0.2", "10.0.0.2"),
        ] {
            let found = proxies.believed(peer.parse().unwrap(), told);
            assert_eq!(found.to_string(), believed, "{peer}: {told}");
        }
    }
}
