//! A real directory.

use maple_lark_demo::{
    DirectoryServer,
    directory_server::{ORGANISATION, READER, READER_PASSWORD},
};

use super::{Answer, *};

struct Place {
    directory: DirectoryServer,
    password: tempfile::NamedTempFile,
}

impl Place {
    async fn new() -> Self {
        let directory = DirectoryServer::start().await.unwrap();
        for name in ["runa", "tord", "sunniva"] {
            directory.add_person(name, "a-password").await.unwrap();
        }
        directory.add_group("bridge", "runa").await.unwrap();
        directory.put_into("bridge", "tord").await.unwrap();
        let password = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(password.path(), READER_PASSWORD).unwrap();
        Self {
            directory,
            password,
        }
    }

    fn source(&self, tls: &str, more: &str) -> Source {
        let port = if tls == "tls" {
            self.directory.tls_port
        } else {
            self.directory.port
        };
        let trusted = match tls {
            "off" => String::new(),
            _ => format!("ca-file = \"{}\"\n", self.directory.certificate().display()),
        };
        source(&format!(
            "kind = \"ldap\"\naddress = \"127.0.0.1:{port}\"\ntls = \"{tls}\"\n{trusted}user = \"{READER}\"\npassword = \"file:{}\"\nbase = \"{ORGANISATION}\"\n{more}",
            self.password.path().display()
        ))
    }
}

fn texts(answer: &Answer, name: &str) -> Vec<String> {
    let mut all: Vec<String> = column(&answer.table, name)
        .into_iter()
        .map(|value| match value {
            Value::Text(text) => text,
            other => format!("{other:?}"),
        })
        .collect();
    all.sort();
    all
}

const PEOPLE: &str = "search = \"(objectClass=inetOrgPerson)\"";

#[tokio::test]
async fn entries_become_rows_however_the_way_is_protected() {
    let place = Place::new().await;
    for tls in ["off", "start-tls", "tls"] {
        let source = place.source(tls, "");
        let answer = ask(&source, PEOPLE).await.unwrap();
        assert_eq!(
            texts(&answer, "mail"),
            ["runa", "sunniva", "tord"].map(|name| format!("{name}@orrin-sound.example")),
            "{tls}"
        );
        assert_eq!(
            texts(&answer, "dn")[0],
            format!("uid=runa,ou=people,{ORGANISATION}")
        );
        assert_eq!(
            answer.sent,
            format!("(objectClass=inetOrgPerson), subtree of {ORGANISATION}")
        );
        let found = Reader::unguarded().test(&source).await.unwrap();
        assert_eq!(found.found, format!("{ORGANISATION} is there"));
    }
}

#[tokio::test]
async fn attributes_are_columns_of_the_kind_that_is_said() {
    let place = Place::new().await;
    let source = place.source("off", "");
    let asked = format!(
        "search = \"(objectClass=groupOfNames)\"\nbase = \"ou=groups,{ORGANISATION}\"\nscope = \"one-level\"\n\
         field = [{{ name = \"group\", column = \"CN\" }}, {{ name = \"members\", column = \"member\" }}, {{ name = \"since\", column = \"createTimestamp\", kind = \"instant\" }}, {{ name = \"nothing\" }}]"
    );
    let answer = ask(&source, &asked).await.unwrap();
    let row = &answer.table.rows[0];
    assert_eq!(row[0], Value::Text("bridge".into()));
    assert_eq!(
        row[1],
        Value::Text(format!(
            "uid=runa,ou=people,{ORGANISATION}, uid=tord,ou=people,{ORGANISATION}"
        ))
    );
    assert!(matches!(row[2], Value::Instant(_)), "{row:?}");
    assert_eq!(row[3], Value::Missing);

    // A value in a filter is a value, whatever signs it has.
    let named = "search = \"(&(objectClass=inetOrgPerson)(uid={{ who }}))\"";
    let who =
        |text: &str| Values::from([("who".to_owned(), ParameterValue::Text(text.to_owned()))]);
    let reader = Reader::unguarded();
    let one = ask_with(&reader, &source, named, &who("tord"))
        .await
        .unwrap();
    assert_eq!(texts(&one, "uid"), ["tord"]);
    let none = ask_with(&reader, &source, named, &who("*)(uid=*"))
        .await
        .unwrap();
    assert_eq!(none.table.rows.len(), 0);
}

#[tokio::test]
async fn more_than_a_page_is_read_and_more_than_the_limit_is_cut() {
    let place = Place::new().await;
    for number in 0..600 {
        let name = format!("crew{number:03}");
        place
            .directory
            .add_person(&name, "a-password")
            .await
            .unwrap();
    }
    // The server gives 500 at a time at most, unless it is asked page by page.
    let answer = ask(&place.source("off", ""), PEOPLE).await.unwrap();
    assert_eq!(
        (answer.table.rows.len(), answer.table.truncated),
        (603, false)
    );
    let answer = ask(&place.source("off", "row-limit = 550"), PEOPLE)
        .await
        .unwrap();
    assert_eq!(
        (answer.table.rows.len(), answer.table.truncated),
        (550, true)
    );
    let said = ask(&place.source("off", "max-size = \"2 kB\""), PEOPLE)
        .await
        .unwrap_err();
    assert!(said.contains("is larger than"), "{said}");
}

#[tokio::test]
async fn what_goes_wrong_with_a_directory_is_said() {
    let place = Place::new().await;
    let source = place.source("off", "");
    for (asked, words) in [
        (
            "search = \"(objectClass=\"\n",
            "must be a search filter (RFC 4515)",
        ),
        (
            "search = \"((uid=x)\"\n",
            "is not a search filter (RFC 4515)",
        ),
        (
            "search = \"(uid=*)\"\nbase = \"ou=nobody,dc=orrin-sound,dc=example\"",
            "there is no entry ou=nobody",
        ),
        (
            "search = \"(uid=*)\"\nfield = [{ name = \"uid\", kind = \"number\" }]",
            "row 1, column \"uid\" cannot be read",
        ),
    ] {
        let said = ask(&source, asked).await.unwrap_err();
        assert!(said.contains(words), "{asked}: {said}");
    }
    std::fs::write(place.password.path(), "not-the-password").unwrap();
    let said = ask(&source, PEOPLE).await.unwrap_err();
    assert!(said.contains("refused the sign-in"), "{said}");
    assert!(!said.contains("not-the-password"), "{said}");
    std::fs::write(place.password.path(), READER_PASSWORD).unwrap();
    // A certificate that nobody vouches for.
    let untrusted = self::source(&format!(
        "kind = \"ldap\"\naddress = \"127.0.0.1:{}\"\nbase = \"{ORGANISATION}\"",
        place.directory.tls_port
    ));
    let said = ask(&untrusted, PEOPLE).await.unwrap_err();
    assert!(said.contains("cannot be reached"), "{said}");

    let entries = Reader::unguarded()
        .catalogue(&source, "inetOrgPerson")
        .await;
    // Who may not read the schema sees none; whoever may sees the class with its attributes.
    let entries = entries.unwrap();
    assert!(
        entries.is_empty() || entries[0].items.iter().any(|item| item.name == "mail"),
        "{entries:?}"
    );
}
