//! Reads settings from their tables.

use crate::{
    model::{setting::Setting, source::split_address},
    read::node::Node,
};

pub(crate) fn setting(node: &Node<'_>, key: &'static str) -> Option<Setting> {
    node.required(key);
    node.parsed::<Setting>(key)
}

/// A setting that must not stand in the definition itself.
pub(crate) fn secret(node: &Node<'_>, key: &'static str) -> Option<Setting> {
    let secret = node.parsed::<Setting>(key);
    if let Some(Setting::Plain(_)) = secret {
        node.report(key, format!("a {key} must not stand in a definition; refer to it as \"env:NAME\", \"file:/path\" or \"secret:name\""));
    }
    secret
}

pub(crate) fn ca_file(node: &Node<'_>) -> Option<String> {
    let path = node.text("ca-file")?.value;
    if !path.starts_with('/') {
        node.report(
            "ca-file",
            "must be an absolute path, such as \"/etc/ssl/own-ca.pem\"",
        );
    }
    Some(path)
}

/// `host:port`.
pub(crate) fn address(node: &Node<'_>, usual_port: u16) -> Option<Setting> {
    let address = setting(node, "address");
    if let Some(Setting::Plain(text)) = &address
        && split_address(text).is_none()
    {
        node.report(
            "address",
            format!("\"{text}\" is not host:port, such as \"127.0.0.1:{usual_port}\""),
        );
    }
    address
}
