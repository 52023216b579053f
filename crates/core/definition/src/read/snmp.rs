//! Reads as whom the service speaks SNMP.

use crate::{
    model::{
        setting::Setting,
        snmp::{SnmpCipher, SnmpHash, SnmpSignIn},
    },
    read::{
        node::Node,
        setting::{secret, setting},
    },
};

pub(crate) fn read_sign_in(node: &Node<'_>) -> Option<SnmpSignIn> {
    let version = node.required_choice("version", &["3", "2c"]);
    if version == Some("2c") {
        for key in ["user", "authentication", "privacy"] {
            if node.has(key) {
                node.known_key(key);
                node.report(key, "goes with version = \"3\" only");
            }
        }
        node.required("community");
        return secret(node, "community").map(SnmpSignIn::Community);
    }
    if node.has("community") {
        node.known_key("community");
        node.report("community", "goes with version = \"2c\" only");
    }
    let name = setting(node, "user");
    let authentication = protected(
        node,
        ("authentication", "authentication-password"),
        SnmpHash::ALL,
        SnmpHash::name,
    );
    let privacy = protected(
        node,
        ("privacy", "privacy-password"),
        SnmpCipher::ALL,
        SnmpCipher::name,
    );
    if privacy.is_some() && authentication.is_none() {
        node.report("privacy", "needs authentication, too (RFC 3414)");
    }
    Some(SnmpSignIn::User {
        name: name?,
        authentication,
        privacy,
    })
}

/// A way to protect with its password; nothing if neither is given.
fn protected<T: Copy, const N: usize>(
    node: &Node<'_>,
    (way, password): (&'static str, &'static str),
    all: [T; N],
    name: fn(T) -> &'static str,
) -> Option<(T, Setting)> {
    if !node.has(way) && !node.has(password) {
        return None;
    }
    let chosen = node.required_choice(way, &all.map(name));
    node.required(password);
    let password = secret(node, password);
    let chosen = all.into_iter().find(|one| Some(name(*one)) == chosen)?;
    Some((chosen, password?))
}
