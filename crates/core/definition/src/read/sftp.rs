//! Reads how a server of files is reached.

use crate::{
    model::sftp::{SftpServer, SftpSignIn, is_fingerprint},
    read::{
        node::Node,
        setting::{address, secret, setting},
    },
};

pub(crate) fn read(node: &Node<'_>) -> Option<SftpServer> {
    let address = address(node, 22);
    let user = setting(node, "user");
    if !node.has("host-key") {
        node.required("host-key");
    }
    let host_keys = node.texts("host-key");
    for key in &host_keys {
        if !key.value.is_empty() && !is_fingerprint(&key.value) {
            node.report_at(
                &key.place,
                format!(
                    "\"{}\" is not the fingerprint of a key; it begins with SHA256: and is told by: ssh-keyscan HOST | ssh-keygen -lf -",
                    key.value
                ),
            );
        }
    }
    let (password, key) = (secret(node, "password"), secret(node, "private-key"));
    let passphrase = secret(node, "passphrase");
    let sign_in = match (password, key) {
        (Some(password), None) => {
            if passphrase.is_some() {
                node.report("passphrase", "goes with private-key only");
            }
            Some(SftpSignIn::Password(password))
        }
        (None, Some(key)) => Some(SftpSignIn::Key { key, passphrase }),
        (Some(_), Some(_)) => {
            node.report("password", "give either a password or a private-key");
            None
        }
        (None, None) => {
            if !node.has("password") && !node.has("private-key") {
                node.report_missing(
                    "private-key",
                    &[],
                    "needs a password or a private-key to sign in with",
                );
            }
            None
        }
    };
    Some(SftpServer {
        address: address?,
        host_keys: host_keys.into_iter().map(|key| key.value).collect(),
        user: user?,
        sign_in: sign_in?,
    })
}
