//! The directory is asked as it is in an organisation: a real server, real people.

use std::{fs, time::Duration};

use maple_lark_demo::{
    DirectoryServer,
    directory_server::{ORGANISATION, READER, READER_PASSWORD},
};
use maple_lark_directory::{Directory, DirectoryError, Groups, Protection, Settings};

async fn server() -> DirectoryServer {
    let server = DirectoryServer::start().await.unwrap();
    server.add_person("runa", "gulls-at-dawn").await.unwrap();
    server.add_person("bui", "three-red-buoys").await.unwrap();
    server.add_group("night-desk", "runa").await.unwrap();
    server.add_group("harbour", "bui").await.unwrap();
    server.put_into("harbour", "runa").await.unwrap();
    server
}

fn settings(server: &DirectoryServer) -> Settings {
    Settings {
        host: format!("127.0.0.1:{}", server.port),
        protection: Protection::None,
        ca: None,
        reader: Some((READER.to_owned(), READER_PASSWORD.to_owned())),
        base: format!("ou=people,{ORGANISATION}"),
        person: "(&(objectClass=person)(uid={}))".parse().unwrap(),
        name: "uid".to_owned(),
        mail: "mail".to_owned(),
        groups: Groups::Search {
            base: format!("ou=groups,{ORGANISATION}"),
            filter: "(member={})".parse().unwrap(),
        },
        timeout: Duration::from_secs(10),
    }
}

fn directory(settings: Settings) -> Directory {
    Directory::new(settings).unwrap()
}

#[tokio::test]
async fn somebody_is_known_by_name_and_password_with_their_groups() {
    let server = server().await;
    let directory = directory(settings(&server));
    let runa = directory.sign_in("runa", "gulls-at-dawn").await.unwrap();
    let runa = runa.expect("she is there");
    assert_eq!(runa.name, "runa");
    assert_eq!(runa.mail.as_deref(), Some("runa@orrin-sound.example"));
    assert_eq!(runa.entry, server.person("runa"));
    let mut groups = runa.groups.clone();
    groups.sort();
    assert_eq!(
        groups,
        [server.group("harbour"), server.group("night-desk")]
    );
    // One spelling is one person, whatever was typed.
    let again = directory.sign_in("RUNA", "gulls-at-dawn").await.unwrap();
    assert_eq!(again, Some(runa));
    for (name, password) in [
        ("runa", "three-red-buoys"),
        ("runa", ""),
        ("", "gulls-at-dawn"),
        ("nobody", "gulls-at-dawn"),
    ] {
        let found = directory.sign_in(name, password).await.unwrap();
        assert_eq!(found, None, "{name} {password}");
    }
}

#[tokio::test]
async fn a_name_is_a_name_and_no_filter() {
    let server = server().await;
    let directory = directory(settings(&server));
    for name in ["*", "r*", "runa)(uid=*", "*)(|(uid=*", "runa\0", "ru\\6ea"] {
        let found = directory.sign_in(name, "gulls-at-dawn").await.unwrap();
        assert_eq!(found, None, "{name:?}");
    }
    // A filter that finds people by their addresses, too, lets them in by their names alone.
    let by_mail = Settings {
        person: "(|(uid={})(mail={}))".parse().unwrap(),
        ..settings(&server)
    };
    let by_mail = self::directory(by_mail);
    let found = by_mail.find("runa@orrin-sound.example").await.unwrap();
    assert_eq!(found, None);
    assert!(by_mail.find("runa").await.unwrap().is_some());
}

#[tokio::test]
async fn groups_are_listed_at_the_person_where_the_directory_does_so() {
    let server = server().await;
    let directory = directory(Settings {
        groups: Groups::Attribute("memberOf".to_owned()),
        ..settings(&server)
    });
    let mut groups = directory.find("runa").await.unwrap().unwrap().groups;
    groups.sort();
    assert_eq!(
        groups,
        [server.group("harbour"), server.group("night-desk")]
    );
    server.take_out_of("harbour", "runa").await.unwrap();
    let groups = directory.find("runa").await.unwrap().unwrap().groups;
    assert_eq!(groups, [server.group("night-desk")]);
}

#[tokio::test]
async fn the_way_is_encrypted_and_the_certificate_looked_at() {
    let server = server().await;
    let ca = Some(fs::read(server.certificate()).unwrap());
    let by_tls = |ca: Option<Vec<u8>>| Settings {
        host: format!("127.0.0.1:{}", server.tls_port),
        protection: Protection::Tls,
        ca,
        ..settings(&server)
    };
    let by_start_tls = |ca: Option<Vec<u8>>| Settings {
        protection: Protection::StartTls,
        ca,
        ..settings(&server)
    };
    for settings in [by_tls(ca.clone()), by_start_tls(ca)] {
        let found = directory(settings).sign_in("runa", "gulls-at-dawn").await;
        assert!(found.unwrap().is_some());
    }
    // The system's certificates do not vouch for this one.
    for settings in [by_tls(None), by_start_tls(None)] {
        let error = directory(settings)
            .sign_in("runa", "gulls-at-dawn")
            .await
            .unwrap_err();
        assert!(
            matches!(error, DirectoryError::Unreachable { .. }),
            "{error}"
        );
    }
    let broken = Directory::new(by_tls(Some(b"no certificate".to_vec())));
    assert!(matches!(broken.err(), Some(DirectoryError::Certificates)));
}

#[tokio::test]
async fn what_is_wrong_with_the_directory_is_said_and_is_no_wrong_password() {
    let mut server = server().await;
    let with = |change: &dyn Fn(&mut Settings)| {
        let mut settings = settings(&server);
        change(&mut settings);
        directory(settings)
    };
    let words = with(&|_| {}).test().await.unwrap();
    assert!(words.contains("ou=people"), "{words}");
    let wrong = with(&|settings| {
        settings.reader = Some((READER.to_owned(), "another".to_owned()));
    });
    let error = wrong.sign_in("runa", "gulls-at-dawn").await.unwrap_err();
    assert!(matches!(error, DirectoryError::Reader(_)), "{error}");
    assert!(!error.to_string().contains("another"), "{error}");
    // Who asks unnamed sees nothing here.
    let unnamed = with(&|settings| settings.reader = None);
    assert!(unnamed.test().await.is_err());
    let elsewhere = with(&|settings| settings.base = format!("ou=birds,{ORGANISATION}"));
    let error = elsewhere.find("runa").await.unwrap_err();
    assert!(matches!(error, DirectoryError::NoBase(_)), "{error}");
    let several = with(&|settings| {
        settings.person = "(|(uid={})(objectClass=person))".parse().unwrap();
    });
    let error = several.find("runa").await.unwrap_err();
    assert!(matches!(error, DirectoryError::Several(_)), "{error}");
    let working = with(&|_| {});
    server.stop();
    let error = working.find("runa").await.unwrap_err();
    assert!(
        matches!(error, DirectoryError::Unreachable { .. }),
        "{error}"
    );
}

#[tokio::test]
async fn a_directory_that_never_answers_is_waited_for_no_longer_than_its_time() {
    // Takes connections, and says nothing.
    let silent = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let host = silent.local_addr().unwrap().to_string();
    let server = server().await;
    let directory = directory(Settings {
        host,
        timeout: Duration::from_millis(300),
        ..settings(&server)
    });
    let error = directory
        .sign_in("runa", "gulls-at-dawn")
        .await
        .unwrap_err();
    assert!(matches!(error, DirectoryError::Late), "{error}");
}
