//! Reads how a place is reached by HTTP from their tables.

use crate::{
    model::{
        http::{SignIn, Web},
        setting::Setting,
    },
    read::{
        node::Node,
        page,
        setting::{ca_file, secret, setting},
    },
};

/// Whether a header of this name carries what signs in.
fn is_secret(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    [
        "authorization",
        "cookie",
        "token",
        "api-key",
        "apikey",
        "secret",
        "password",
    ]
    .iter()
    .any(|part| name.contains(part))
}

pub(crate) fn read_web(node: &Node<'_>) -> Option<Web> {
    read_any(node, &["basic", "bearer", "header", "cookie"])
}

/// The same of a live page, where somebody may sign in by a form.
pub(crate) fn read_page(node: &Node<'_>) -> Option<Web> {
    read_any(node, &["form", "basic", "bearer", "header", "cookie"])
}

/// The address of a server on the web, which has no secret in it.
pub(crate) fn read_url(node: &Node<'_>) -> Option<Setting> {
    let url = setting(node, "url");
    if let Some(Setting::Plain(text)) = &url
        && !["http://", "https://"].iter().any(|scheme| {
            text.strip_prefix(scheme)
                .is_some_and(|rest| !rest.is_empty())
        })
    {
        node.report(
            "url",
            format!("\"{text}\" is not a URL, such as \"https://metrics.orrin-sound.example\""),
        );
    }
    if let Some(Setting::Plain(text)) = &url
        && text
            .split_once("://")
            .is_some_and(|(_, rest)| rest.split('/').next().unwrap_or(rest).contains('@'))
    {
        node.report(
            "url",
            format!(
                "must not have a user or password in it; set them under [{}]",
                node.path("sign-in")
            ),
        );
    }
    url
}

fn read_any(node: &Node<'_>, sign_ins: &'static [&'static str]) -> Option<Web> {
    let url = read_url(node);
    let sign_in = node.table("sign-in").and_then(|table| {
        let needed = |key| {
            table.required(key);
            secret(&table, key)
        };
        let read = match table.required_choice("kind", sign_ins)? {
            "form" => page::read_sign_in(&table).map(SignIn::Form),
            "cookie" => Some(table.required("name").value)
                .zip(needed("value"))
                .map(|(name, value)| SignIn::Cookie { name, value }),
            "basic" => setting(&table, "user")
                .zip(needed("password"))
                .map(|(user, password)| SignIn::Basic { user, password }),
            "bearer" => needed("token").map(|token| SignIn::Bearer { token }),
            _ => Some(table.required("name").value)
                .zip(needed("value"))
                .map(|(name, value)| SignIn::Header { name, value }),
        };
        table.close();
        read
    });
    let mut headers = Vec::new();
    if let Some(table) = node.table("headers") {
        for name in table.keys() {
            match table
                .value_of(&name)
                .and_then(|(value, _)| value.as_str())
                .map(str::parse::<Setting>)
            {
                Some(Ok(Setting::Plain(_))) if is_secret(&name) => table.report(
                    &name,
                    "is a credential, so its value must not be in a definition; refer to it as \"env:NAME\", \"file:/path\" or \"secret:name\"",
                ),
                Some(Ok(value)) => headers.push((name, value)),
                Some(Err(error)) => table.report(&name, error.to_string()),
                None => table.report(&name, "must be a text in quotes"),
            }
        }
    }
    let ca_file = ca_file(node);
    Some(Web {
        url: url?,
        sign_in,
        headers,
        ca_file,
    })
}
