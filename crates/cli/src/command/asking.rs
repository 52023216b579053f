//! What a new definition needs and was not given, asked for at a terminal. The service says what is
//! missing; this knows no kinds of sources or channels.

use std::io::IsTerminal;

use console::{Term, style};
use maple_lark_api::{Draft, DraftOrder, FileProblem, Kind, Words};
use serde_json::Value;

use super::keys::tables;
use crate::{client::Client, failure::Failure};

/// Keys with their values, each key as the path to it.
pub type Given = Vec<(Vec<String>, Value)>;

/// A question for the value of a key.
#[derive(Debug, PartialEq, Eq)]
struct Question {
    /// The key as somebody would give it: without the name of the definition's own table.
    key: String,
    words: String,
    /// The definition is valid without it.
    may_be_empty: bool,
}

/// What a key is called when it is asked for; the key itself if nothing better is known.
fn words_of(kind: Kind, key: &str) -> &str {
    match (kind, key) {
        (_, "title") => "Title for people",
        (Kind::Person, "address") => "Mail address",
        (_, "address") => "Host and port, as HOST:PORT",
        (_, "host") => "Host",
        (_, "url") => "Address, with http:// or https://",
        (_, "user") => "User",
        (_, "password") => {
            "Where its password is: secret:NAME, env:NAME or file:/path; nothing if it has none"
        }
        (_, "host-key") => {
            "Fingerprint of its key, SHA256:…, as told by: ssh-keyscan HOST | ssh-keygen -lf -"
        }
        (_, "private-key") => "Where the private key is: secret:NAME or file:/path",
        (_, "secret-key") => "Where the secret key is: secret:NAME or file:/path",
        (_, "from") => "Sender, such as Reports <reports@example.org>",
        (_, "folder") => "Folder",
        (_, "file") => "File",
        (_, "database") => "Database",
        (_, "program") => "Name of the program in the service's configuration",
        (_, "every") => "How often it is asked, such as PT5M",
        (_, "base") => "The entry at or below which is searched, such as dc=example,dc=org",
        (_, "members") => "Members: people, groups, addresses, with commas",
        (_, "time-zone") => "Time zone, such as Europe/Copenhagen",
        (_, "dashboards") => "Dashboards, with commas",
        (_, "window.previous") => "Window, the previous: day, week or month",
        (_, "subject") => "Subject",
        (_, "text") => "Message",
        _ => key,
    }
}

fn question(kind: Kind, key: &str, one_of: &[String]) -> Question {
    let words = words_of(kind, key);
    let mut words = if words == key {
        // `access-key` is asked for as "Access key".
        let plain = key.replace(['-', '.'], " ");
        let mut letters = plain.chars();
        let first = letters.next().into_iter().flat_map(char::to_uppercase);
        first.chain(letters).collect()
    } else {
        words.to_owned()
    };
    if !one_of.is_empty() {
        words = format!("{words}: {}", one_of.join(", "));
    }
    Question {
        key: key.to_owned(),
        words,
        may_be_empty: false,
    }
}

/// The key as somebody would give it.
fn plain_key(kind: Kind, key: &str) -> String {
    match key {
        // A window may be said in other ways, too; this is the usual one.
        "window" => "window.previous".to_owned(),
        _ => {
            let own = key.strip_prefix(kind.word()).unwrap_or_default();
            own.strip_prefix('.').unwrap_or(key).to_owned()
        }
    }
}

fn is_given(given: &Given, key: &str) -> bool {
    given.iter().any(|(path, _)| path.join(".") == key)
}

/// What to ask next, by what the service says is missing. Somebody who was asked for a user (`asked`)
/// is asked for the password, too.
fn next(kind: Kind, given: &Given, asked: &[String], problems: &[FileProblem]) -> Option<Question> {
    if !is_given(given, "title") {
        return Some(question(kind, "title", &[]));
    }
    let mut missing = problems.iter().filter_map(|one| one.missing.as_ref());
    if let Some(missing) = missing.next() {
        return Some(question(
            kind,
            &plain_key(kind, &missing.key),
            &missing.one_of,
        ));
    }
    let was_asked = |key: &str| asked.iter().any(|one| one == key);
    let signs_in = ["password", "private-key"];
    let open = was_asked("user")
        && !was_asked("password")
        && !signs_in.iter().any(|key| is_given(given, key));
    (open && kind == Kind::Source).then(|| Question {
        may_be_empty: true,
        ..question(kind, "password", &[])
    })
}

/// What is wrong with the answer for a key.
fn wrong<'p>(kind: Kind, key: &str, problems: &'p [FileProblem]) -> Option<&'p str> {
    // One of a list is wrong at its place: `members[2]`.
    let is_at = |at: &str| at.split('[').next() == Some(key);
    let is_it = |one: &&FileProblem| one.missing.is_none() && is_at(&plain_key(kind, &one.key));
    problems.iter().find(is_it).map(|one| one.message.as_str())
}

/// An answer as a value: what is a list is typed with commas.
fn value(key: &str, answer: &str) -> Value {
    if ["members", "dashboards"].contains(&key) {
        let items = answer.split(',').map(str::trim);
        return items.filter(|item| !item.is_empty()).collect();
    }
    answer.trim().into()
}

async fn problems(client: &Client, kind: Kind, given: &Given) -> Result<Vec<FileProblem>, Failure> {
    let order = DraftOrder {
        text: String::new(),
        keys: Some(tables(kind, given.clone())),
    };
    let draft: Draft = client.post("/definitions/draft", &order).await?;
    Ok(draft.problems)
}

/// Asks for what is missing, if somebody sits at a terminal; elsewhere the service says what is.
///
/// # Errors
/// If the service does not answer, or the terminal is closed instead of an answer.
pub async fn complete(client: &Client, kind: Kind, given: &mut Given) -> Result<(), Failure> {
    let term = Term::stderr();
    if !std::io::stdin().is_terminal() || !term.is_term() {
        return Ok(());
    }
    let broken = |error: std::io::Error| Failure::Local(error.to_string());
    let mut asked = Vec::new();
    let mut found = problems(client, kind, given).await?;
    while let Some(Question {
        key,
        words,
        may_be_empty,
    }) = next(kind, given, &asked, &found)
    {
        term.write_str(&format!("{}: ", style(words).bold()))
            .map_err(broken)?;
        let mut answer = String::new();
        if std::io::stdin().read_line(&mut answer).map_err(broken)? == 0 {
            let words = format!("nothing was made: \"{key}\" is missing");
            return Err(Failure::Local(words));
        }
        if may_be_empty || !answer.trim().is_empty() {
            asked.push(key.clone());
        }
        if answer.trim().is_empty() {
            continue;
        }
        let path = key.split('.').map(str::to_owned).collect();
        given.push((path, value(&key, &answer)));
        found = problems(client, kind, given).await?;
        if let Some(words) = wrong(kind, &key, &found) {
            term.write_line(&style(words).red().to_string())
                .map_err(broken)?;
            given.pop();
            asked.retain(|one| *one != key);
            found = problems(client, kind, given).await?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use maple_lark_api::MissingKey;
    use serde_json::json;

    use super::*;

    fn given(keys: &[&str]) -> Given {
        let path = |key: &&str| key.split('.').map(str::to_owned).collect();
        keys.iter().map(|key| (path(key), json!("x"))).collect()
    }

    fn missing(key: &str, one_of: &[&str]) -> FileProblem {
        FileProblem {
            file: "new".to_owned(),
            line: 1,
            column: 1,
            key: String::new(),
            message: "is missing".to_owned(),
            missing: Some(MissingKey {
                key: key.to_owned(),
                one_of: one_of.iter().map(|word| (*word).to_owned()).collect(),
            }),
        }
    }

    #[test]
    fn what_the_service_misses_is_asked_after_the_title() {
        let problems = [missing("source.address", &[]), missing("source.user", &[])];
        let asked = next(Kind::Source, &Vec::new(), &[], &problems).unwrap();
        assert_eq!(asked.key, "title");
        let asked = next(Kind::Source, &given(&["title"]), &[], &problems).unwrap();
        assert_eq!((asked.key.as_str(), asked.may_be_empty), ("address", false));
        assert_eq!(next(Kind::Theme, &given(&["title"]), &[], &[]), None);
    }

    #[test]
    fn a_choice_is_asked_with_its_words_and_an_unknown_key_by_its_name() {
        let kinds = [missing("source.kind", &["sqlite", "ldap"])];
        let asked = next(Kind::Source, &given(&["title"]), &[], &kinds).unwrap();
        assert_eq!(asked.words, "Kind: sqlite, ldap");
        let asked = question(Kind::Channel, "access-key", &[]);
        assert_eq!(asked.words, "Access key");
        let window = [missing("window", &[])];
        let asked = next(Kind::Report, &given(&["title"]), &[], &window).unwrap();
        assert_eq!(asked.key, "window.previous");
    }

    #[test]
    fn whoever_names_a_user_is_asked_once_for_the_password() {
        let known = given(&["title", "user"]);
        let user = ["user".to_owned()];
        let asked = next(Kind::Source, &known, &user, &[]).unwrap();
        assert!(asked.key == "password" && asked.may_be_empty);
        let both = ["user".to_owned(), "password".to_owned()];
        assert_eq!(next(Kind::Source, &known, &both, &[]), None);
        // A user that was given with the command came without a password on purpose.
        assert_eq!(next(Kind::Source, &known, &[], &[]), None);
        let by_key = given(&["title", "user", "private-key"]);
        assert_eq!(next(Kind::Source, &by_key, &user, &[]), None);
    }

    #[test]
    fn an_answer_that_will_not_do_is_told() {
        let refused = FileProblem {
            key: "source.kind".to_owned(),
            message: "\"pigeon\" is not one of …".to_owned(),
            ..missing("", &[])
        };
        let refused = FileProblem {
            missing: None,
            ..refused
        };
        let problems = [missing("source.address", &[]), refused];
        assert!(wrong(Kind::Source, "kind", &problems).is_some());
        assert_eq!(wrong(Kind::Source, "address", &problems), None);
        let second = FileProblem {
            key: "group.members[2]".to_owned(),
            missing: None,
            ..missing("", &[])
        };
        assert!(wrong(Kind::Group, "members", &[second]).is_some());
    }

    #[test]
    fn a_list_is_typed_with_commas() {
        assert_eq!(value("members", "ada, dagur ,"), json!(["ada", "dagur"]));
        assert_eq!(value("title", " Ada, the first\n"), json!("Ada, the first"));
    }
}
