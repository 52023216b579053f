//! What a new definition needs and was not given, asked for at a terminal.

use std::io::IsTerminal;

use console::{Term, style};
use maple_lark_api::Kind;
use serde_json::Value;

use crate::failure::Failure;

/// Keys with their values, each key as the path to it.
pub type Given = Vec<(Vec<String>, Value)>;

/// A key that a definition needs.
struct Needed {
    key: &'static str,
    question: &'static str,
    /// Only where this key has this value.
    when: Option<(&'static str, &'static [&'static str])>,
    is_list: bool,
}

const fn needed(key: &'static str, question: &'static str) -> Needed {
    Needed {
        key,
        question,
        when: None,
        is_list: false,
    }
}

const fn list(key: &'static str, question: &'static str) -> Needed {
    Needed {
        is_list: true,
        ..needed(key, question)
    }
}

const fn of_kind(
    kinds: &'static [&'static str],
    key: &'static str,
    question: &'static str,
) -> Needed {
    Needed {
        when: Some(("kind", kinds)),
        ..needed(key, question)
    }
}

const TITLE: Needed = needed("title", "Title for people");
const ADDRESS_OF_FILES: &str = "Host and port, such as share.example.org:22";
const HOST_KEY: &str =
    "Fingerprint of its key, SHA256:…, as told by: ssh-keyscan HOST | ssh-keygen -lf -";
const PRIVATE_KEY: &str = "Where the private key is: secret:NAME or file:/path";

const PERSON: &[Needed] = &[TITLE, needed("address", "Mail address")];
const GROUP: &[Needed] = &[
    TITLE,
    list("members", "Members: people, groups, addresses, with commas"),
];
const SOURCE: &[Needed] = &[
    TITLE,
    needed(
        "kind",
        "Kind: postgresql, mysql, sqlite, open-metrics, http-json, files, sftp, program, ldap, snmp, web-page or local-checks",
    ),
    of_kind(
        &["postgresql", "mysql"],
        "address",
        "Host and port, such as db1:5432",
    ),
    of_kind(&["postgresql", "mysql"], "database", "Database"),
    of_kind(
        &["postgresql", "mysql"],
        "user",
        "User, an account that may only read",
    ),
    of_kind(
        &["postgresql", "mysql"],
        "password",
        "Where its password is: secret:NAME, env:NAME or file:/path",
    ),
    of_kind(
        &["open-metrics", "http-json", "web-page"],
        "url",
        "Address, with http:// or https://",
    ),
    of_kind(&["files"], "folder", "Folder"),
    of_kind(&["sftp"], "address", ADDRESS_OF_FILES),
    of_kind(&["sftp"], "host-key", HOST_KEY),
    of_kind(&["sftp"], "user", "User"),
    of_kind(&["sftp"], "private-key", PRIVATE_KEY),
    of_kind(&["sftp"], "folder", "Folder there"),
    of_kind(&["sqlite"], "file", "The database's file"),
    of_kind(
        &["program"],
        "program",
        "Name of the program under [source-programs] in the service's configuration",
    ),
];
const CHANNEL: &[Needed] = &[
    TITLE,
    needed(
        "kind",
        "Kind: mail-server, folder, upload, object-storage, webhook, syslog, program, sftp or snmp",
    ),
    of_kind(&["mail-server"], "host", "Host"),
    of_kind(
        &["mail-server"],
        "from",
        "Sender, such as Reports <reports@example.org>",
    ),
    of_kind(&["folder"], "folder", "Folder"),
    of_kind(
        &["program"],
        "program",
        "Name of the program in the service's configuration",
    ),
    of_kind(
        &["upload", "object-storage", "webhook"],
        "url",
        "Address, with http:// or https://",
    ),
    of_kind(&["object-storage"], "bucket", "Bucket"),
    of_kind(&["object-storage"], "access-key", "Access key"),
    of_kind(
        &["object-storage"],
        "secret-key",
        "Secret key, such as secret:objects",
    ),
    of_kind(
        &["syslog"],
        "address",
        "Host and port, such as log.example.org:514",
    ),
    of_kind(&["sftp"], "address", ADDRESS_OF_FILES),
    of_kind(&["sftp"], "host-key", HOST_KEY),
    of_kind(&["sftp"], "user", "User"),
    of_kind(&["sftp"], "private-key", PRIVATE_KEY),
    of_kind(&["sftp"], "folder", "Folder there"),
    of_kind(
        &["snmp"],
        "address",
        "Host and port, such as nms.example.org:162",
    ),
    of_kind(&["snmp"], "version", "Version: 3 or 2c"),
];
const REPORT: &[Needed] = &[
    TITLE,
    needed("time-zone", "Time zone, such as Europe/Copenhagen"),
    list("dashboards", "Dashboards, with commas"),
    needed(
        "window.previous",
        "Window, the previous: day, week or month",
    ),
];
const MESSAGE: &[Needed] = &[
    TITLE,
    needed("subject", "Subject"),
    needed("text", "Message"),
];
const ONLY_TITLE: &[Needed] = &[TITLE];

fn needs_of(kind: Kind) -> &'static [Needed] {
    match kind {
        Kind::Person => PERSON,
        Kind::Group => GROUP,
        Kind::Source => SOURCE,
        Kind::Channel => CHANNEL,
        Kind::Report => REPORT,
        Kind::MessageTemplate => MESSAGE,
        _ => ONLY_TITLE,
    }
}

fn value_of<'g>(given: &'g Given, key: &str) -> Option<&'g Value> {
    let is_it = |(path, _): &&(Vec<String>, Value)| path.join(".") == key;
    given.iter().find(is_it).map(|(_, value)| value)
}

/// The first key that is needed and not given.
fn next(kind: Kind, given: &Given) -> Option<&'static Needed> {
    let applies = |one: &&Needed| {
        one.when.is_none_or(|(key, values)| {
            let found = value_of(given, key).and_then(Value::as_str);
            found.is_some_and(|found| values.contains(&found))
        })
    };
    // A window may be said in other ways, too, and a password stands for a key.
    let is_given = |one: &&Needed| {
        value_of(given, one.key).is_some()
            || one.key == "private-key" && value_of(given, "password").is_some()
            || one.key.starts_with("window.") && given.iter().any(|(path, _)| path[0] == "window")
    };
    needs_of(kind)
        .iter()
        .filter(applies)
        .find(|one| !is_given(one))
}

fn value(one: &Needed, answer: &str) -> Value {
    if one.is_list {
        let items = answer.split(',').map(str::trim);
        return items.filter(|item| !item.is_empty()).collect();
    }
    answer.trim().into()
}

/// Asks for what is missing, if somebody sits at a terminal; elsewhere the service says what is.
///
/// # Errors
/// If the terminal is closed instead of an answer.
pub fn complete(kind: Kind, given: &mut Given) -> Result<(), Failure> {
    let term = Term::stderr();
    if !std::io::stdin().is_terminal() || !term.is_term() {
        return Ok(());
    }
    while let Some(one) = next(kind, given) {
        let broken = |error: std::io::Error| Failure::Local(error.to_string());
        term.write_str(&format!("{}: ", style(one.question).bold()))
            .map_err(broken)?;
        let mut answer = String::new();
        if std::io::stdin().read_line(&mut answer).map_err(broken)? == 0 {
            let words = format!("nothing was made: \"{}\" is missing", one.key);
            return Err(Failure::Local(words));
        }
        if !answer.trim().is_empty() {
            let path = one.key.split('.').map(str::to_owned).collect();
            given.push((path, value(one, &answer)));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn given(keys: &[(&str, &str)]) -> Given {
        let one = |(key, value): &(&str, &str)| {
            let path = key.split('.').map(str::to_owned).collect();
            (path, Value::from(*value))
        };
        keys.iter().map(one).collect()
    }

    fn asked(kind: Kind, keys: &[(&str, &str)]) -> Vec<&'static str> {
        let mut given = given(keys);
        let mut asked = Vec::new();
        while let Some(one) = next(kind, &given) {
            asked.push(one.key);
            let answer = if one.key == "kind" { "postgresql" } else { "x" };
            given.push((
                one.key.split('.').map(str::to_owned).collect(),
                value(one, answer),
            ));
        }
        asked
    }

    #[test]
    fn what_a_kind_needs_is_asked_once_and_what_is_given_is_not() {
        assert_eq!(asked(Kind::Person, &[("title", "Ada")]), ["address"]);
        assert_eq!(
            asked(Kind::Source, &[]),
            ["title", "kind", "address", "database", "user", "password"]
        );
        assert_eq!(
            asked(Kind::Source, &[("kind", "local-checks")]),
            ["title"],
            "checks need no more"
        );
        assert_eq!(
            asked(Kind::Report, &[("window.last", "P7D"), ("title", "R")]),
            ["time-zone", "dashboards"]
        );
        assert_eq!(asked(Kind::Theme, &[]), ["title"]);
    }

    #[test]
    fn a_list_is_typed_with_commas() {
        let members = &GROUP[1];
        assert_eq!(value(members, "ada, dagur ,"), json!(["ada", "dagur"]));
        assert_eq!(value(&TITLE, " Ada\n"), json!("Ada"));
    }
}
