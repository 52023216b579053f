//! Which addresses sources may reach. A definition must not turn the service against itself
//! or against what only this machine can see.

use std::{
    net::{IpAddr, Ipv4Addr, SocketAddr, UdpSocket},
    str::FromStr,
};

/// Addresses that are refused: the service's own, and link-local ones, where machines keep
/// what is meant for themselves. What an administrator allows comes first.
#[derive(Debug, Clone, Default)]
pub struct Boundary {
    /// What the service itself listens at or keeps its records in.
    pub own: Vec<SocketAddr>,
    pub allowed: Vec<AddressRange>,
}

/// Addresses that begin with the same bits, at one port or at all: `10.0.0.0/8`,
/// `127.0.0.1:5432`, `[fe80::1]:80`, `169.254.0.0/16`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AddressRange {
    base: IpAddr,
    bits: u8,
    port: Option<u16>,
}

#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error(
    "\"{0}\" is not a range of addresses, such as \"169.254.0.0/16\", \"127.0.0.1:5432\" or \"10.1.2.3\""
)]
pub struct BadRange(String);

impl FromStr for AddressRange {
    type Err = BadRange;

    fn from_str(text: &str) -> Result<Self, BadRange> {
        let bad = || BadRange(text.to_owned());
        if let Ok(address) = text.parse::<SocketAddr>() {
            return Ok(Self {
                base: address.ip(),
                bits: width(address.ip()),
                port: Some(address.port()),
            });
        }
        let (base, bits) = match text.split_once('/') {
            Some((base, bits)) => (base, Some(bits.parse::<u8>().map_err(|_| bad())?)),
            None => (text, None),
        };
        let base: IpAddr = base.parse().map_err(|_| bad())?;
        let bits = bits.unwrap_or(width(base));
        if bits > width(base) {
            Err(bad())
        } else {
            Ok(Self {
                base,
                bits,
                port: None,
            })
        }
    }
}

fn width(address: IpAddr) -> u8 {
    if address.is_ipv4() { 32 } else { 128 }
}

/// The address as 128 bits, the first ones first; nothing is shared between the two kinds.
fn bits(address: IpAddr) -> u128 {
    match address {
        IpAddr::V4(v4) => u128::from(v4.to_bits()) << 96,
        IpAddr::V6(v6) => v6.to_bits(),
    }
}

impl AddressRange {
    /// Whether an address is in it; one at a port holds addresses at that port alone.
    #[must_use]
    pub fn holds(&self, address: SocketAddr) -> bool {
        let ip = inner(address.ip());
        let same = self.base.is_ipv4() == ip.is_ipv4()
            && (self.bits == 0
                || (bits(self.base) ^ bits(ip)) >> (128 - u32::from(self.bits)) == 0);
        same && self.port.is_none_or(|port| port == address.port())
    }
}

/// The address that is meant, where one kind is written within the other: IPv4 in IPv6 (RFC
/// 4291), and as translators have it (NAT64, RFC 6052).
fn inner(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(v6) if v6.segments()[..6] == [0x64, 0xff9b, 0, 0, 0, 0] => {
            IpAddr::V4(Ipv4Addr::from_bits(v6.to_bits() as u32))
        }
        other => other,
    }
}

/// Whether this machine has the address: only then can something listen there.
fn is_of_this_machine(address: IpAddr) -> bool {
    address.is_loopback()
        || address.is_unspecified()
        || UdpSocket::bind(SocketAddr::new(address, 0)).is_ok()
}

impl Boundary {
    /// Why an address may not be reached, if it may not.
    pub fn refusal(&self, address: SocketAddr) -> Option<&'static str> {
        if self.allowed.iter().any(|range| range.holds(address)) {
            return None;
        }
        let ip = inner(address.ip());
        let link_local = match ip {
            IpAddr::V4(v4) => v4.is_link_local(),
            IpAddr::V6(v6) => v6.is_unicast_link_local(),
        };
        let nobodys = match ip {
            IpAddr::V4(v4) => {
                v4.is_multicast()
                    || v4.is_broadcast()
                    || v4.octets()[0] >= 240
                    || (v4.octets()[0] == 0 && !v4.is_unspecified())
            }
            IpAddr::V6(v6) => v6.is_multicast() || v6.segments()[0] & 0xffc0 == 0xfec0,
        };
        let ours = |own: &SocketAddr| {
            let everywhere = own.ip().is_unspecified() && is_of_this_machine(ip);
            let loopback = own.ip().is_loopback() && (ip.is_loopback() || ip.is_unspecified());
            own.port() == address.port() && (own.ip() == ip || everywhere || loopback)
        };
        if link_local {
            Some("it is a link-local address")
        } else if nobodys {
            Some("it is a multicast, broadcast or reserved address")
        } else if self.own.iter().any(ours) {
            Some("it belongs to Maple Lark itself")
        } else {
            None
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn own_and_link_local_addresses_are_refused_unless_allowed() {
        let refused = |allowed: &[&str], address: &str| {
            let boundary = Boundary {
                own: vec!["127.0.0.1:8480".parse().unwrap()],
                allowed: allowed.iter().map(|range| range.parse().unwrap()).collect(),
            };
            boundary.refusal(address.parse().unwrap()).is_some()
        };
        for address in [
            "127.0.0.1:8480",
            "127.0.0.2:8480",
            "[::1]:8480",
            "[::ffff:127.0.0.1]:8480",
            "0.0.0.0:8480",
            "169.254.169.254:80",
            "[fe80::1]:80",
            "[64:ff9b::169.254.169.254]:80",
            "[64:ff9b::127.0.0.1]:8480",
            "224.0.0.1:80",
            "255.255.255.255:80",
            "0.1.2.3:80",
            "[ff02::1]:80",
        ] {
            assert!(refused(&[], address), "{address}");
        }
        for address in ["127.0.0.1:5432", "10.0.0.1:8480", "[2001:db8::1]:80"] {
            assert!(!refused(&[], address), "{address}");
        }
        assert!(!refused(&["127.0.0.1:8480"], "127.0.0.1:8480"));
        assert!(refused(&["127.0.0.1:8480"], "127.0.0.2:8480"));
        assert!(!refused(&["169.254.0.0/16"], "169.254.1.2:99"));
        assert!(refused(&["169.254.0.0/24"], "169.254.1.2:99"));
        assert!(!refused(&["0.0.0.0/0"], "169.254.1.2:99"));
    }

    #[test]
    fn what_is_no_range_is_refused() {
        for text in ["10.0.0.0/33", "localhost", "", "1.2.3.4/x", "10.0.0.0/8:80"] {
            assert!(text.parse::<AddressRange>().is_err(), "{text}");
        }
    }
}
