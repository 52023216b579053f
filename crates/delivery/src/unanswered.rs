//! Messages of SNMP's version 3 to which no answer is expected (RFC 3412, 6.4), as a trap is one.
//!
//! Whoever writes messages writes them as requests. A receiver asks back about a request of an engine that it
//! has not heard of before, and takes a trap of one.

use std::ops::Range;

use asn1_rs::{Any, FromBer};
use hmac::{Hmac, KeyInit, Mac};
use maple_lark_definition::SnmpHash;
use md5::Md5;
use sha1::Sha1;
use sha2::{Digest, Sha256, Sha512};

/// That an answer is expected.
pub const REPORTABLE: u8 = 4;
/// So many octets of the password, over and over, a key is made of (RFC 3414, A.2).
const STRETCHED: usize = 1 << 20;

/// With what a user proves who it is.
#[derive(Clone)]
pub struct SnmpProof {
    pub hash: SnmpHash,
    pub password: String,
}

impl SnmpProof {
    /// The code that says that a message is the user's at an engine.
    fn code(&self, engine: &[u8], message: &[u8]) -> Option<Vec<u8>> {
        let password = self.password.as_bytes();
        match self.hash {
            SnmpHash::Md5 => code::<Hmac<Md5>>(&key::<Md5>(password, engine), message),
            SnmpHash::Sha1 => code::<Hmac<Sha1>>(&key::<Sha1>(password, engine), message),
            SnmpHash::Sha256 => code::<Hmac<Sha256>>(&key::<Sha256>(password, engine), message),
            SnmpHash::Sha512 => code::<Hmac<Sha512>>(&key::<Sha512>(password, engine), message),
        }
    }
}

/// The key of a user at an engine.
fn key<D: Digest>(password: &[u8], engine: &[u8]) -> Vec<u8> {
    let stretched: Vec<u8> = password.iter().copied().cycle().take(STRETCHED).collect();
    let key = D::digest(&stretched);
    let local = [&key[..], engine, &key[..]].concat();
    D::digest(&local).to_vec()
}

fn code<M: Mac + KeyInit>(key: &[u8], message: &[u8]) -> Option<Vec<u8>> {
    let mut mac = <M as KeyInit>::new_from_slice(key).ok()?;
    mac.update(message);
    Some(mac.finalize().into_bytes().to_vec())
}

/// What the elements in a part of a message hold, one after the other.
fn inside(message: &[u8], part: Range<usize>) -> Option<Vec<Range<usize>>> {
    let (mut all, mut place) = (Vec::new(), part.start);
    while place < part.end {
        let (rest, element) = Any::from_ber(message.get(place..part.end)?).ok()?;
        let end = part.end - rest.len();
        all.push(end - element.data.len()..end);
        place = end;
    }
    Some(all)
}

/// The same message without an answer to it, signed anew. Nothing if it is no message of version 3.
pub fn unanswered(
    mut message: Vec<u8>,
    engine: &[u8],
    proof: Option<&SnmpProof>,
) -> Option<Vec<u8>> {
    let whole = inside(&message, 0..message.len())?.pop()?;
    let parts = inside(&message, whole)?;
    let flags = inside(&message, parts.get(1)?.clone())?.get(2)?.start;
    *message.get_mut(flags)? &= !REPORTABLE;
    if let Some(proof) = proof {
        let security = inside(&message, parts.get(2)?.clone())?.pop()?;
        let place = inside(&message, security)?.get(4)?.clone();
        message.get_mut(place.clone())?.fill(0);
        let code = proof.code(engine, &message)?;
        let code = code.get(..place.len())?;
        message.get_mut(place)?.copy_from_slice(code);
    }
    Some(message)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The examples of RFC 3414, A.3.
    #[test]
    fn keys_are_those_of_the_standard() {
        let engine = [0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 2];
        let hexed = |key: Vec<u8>| {
            key.iter()
                .map(|octet| format!("{octet:02x}"))
                .collect::<String>()
        };
        assert_eq!(
            hexed(key::<Md5>(b"maplesyrup", &engine)),
            "526f5eed9fcce26f8964c2930787d82b"
        );
        assert_eq!(
            hexed(key::<Sha1>(b"maplesyrup", &engine)),
            "6695febc9288e36282235fc7151f128497b38f3f"
        );
    }

    #[test]
    fn what_is_no_message_is_left_alone() {
        for bytes in [
            vec![],
            vec![0x30],
            vec![0x30, 0x80],
            vec![0x30, 3, 2, 1, 1],
            vec![4, 1, 1],
        ] {
            assert_eq!(unanswered(bytes.clone(), &[], None), None, "{bytes:?}");
        }
    }
}
