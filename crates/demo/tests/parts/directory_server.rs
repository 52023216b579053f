//! The directory is one as organisations have them: nobody reads it without a name, nobody reads
//! passwords, and who is removed is in no group any more.

use ldap3::{LdapConnAsync, LdapConnSettings, Scope, SearchEntry};
use maple_lark_demo::{
    DirectoryServer,
    directory_server::{ORGANISATION, READER, READER_PASSWORD},
};

/// The entries that somebody finds, with one attribute of each; nothing if they are not let in.
async fn found(
    server: &DirectoryServer,
    (who, password): (&str, &str),
    (filter, attribute): (&str, &str),
) -> Option<Vec<Vec<String>>> {
    let settings = LdapConnSettings::new();
    let address = format!("ldap://127.0.0.1:{}", server.port);
    let (work, mut connection) = LdapConnAsync::with_settings(settings, &address)
        .await
        .unwrap();
    tokio::spawn(work.drive());
    let bound = connection.simple_bind(who, password).await.unwrap();
    bound.success().ok()?;
    let answer = connection.search(ORGANISATION, Scope::Subtree, filter, vec![attribute]);
    let (entries, _) = answer.await.unwrap().success().ok()?;
    let values = entries.into_iter().map(|entry| {
        let mut attributes = SearchEntry::construct(entry).attrs;
        attributes.remove(attribute).unwrap_or_default()
    });
    Some(values.collect())
}

#[tokio::test]
async fn it_is_read_by_its_reader_alone_and_passwords_by_nobody() {
    let server = DirectoryServer::start().await.unwrap();
    server.add_person("runa.holm", "lighthouse").await.unwrap();
    let reader = (READER, READER_PASSWORD);
    let mail = found(&server, reader, ("(uid=runa.holm)", "mail")).await;
    assert_eq!(
        mail,
        Some(vec![vec!["runa.holm@orrin-sound.example".to_owned()]])
    );
    let password = found(&server, reader, ("(uid=runa.holm)", "userPassword")).await;
    assert_eq!(password, Some(vec![Vec::new()]));
    let own = server.person("runa.holm");
    let as_herself = found(&server, (&own, "lighthouse"), ("(uid=*)", "mail")).await;
    assert!(as_herself.is_none_or(|entries| entries.is_empty()));
    let guessed = found(&server, (&own, "guessed"), ("(uid=*)", "mail")).await;
    assert_eq!(guessed, None);
    let without_a_name = found(&server, ("", ""), ("(uid=*)", "mail")).await;
    assert!(without_a_name.is_none_or(|entries| entries.is_empty()));
    // Names are not what tells people apart.
    server.add_namesake("runa.holm").await.unwrap();
    let both = found(&server, reader, ("(uid=runa.holm)", "cn")).await;
    assert_eq!(both.map(|entries| entries.len()), Some(2));
    assert!(server.certificate().is_file());
}

#[tokio::test]
async fn people_come_into_groups_and_go_out_of_them() {
    let mut server = DirectoryServer::start().await.unwrap();
    for name in ["runa.holm", "ada.berg"] {
        server.add_person(name, "lighthouse").await.unwrap();
    }
    server.add_group("crew", "runa.holm").await.unwrap();
    server.put_into("crew", "ada.berg").await.unwrap();
    let reader = (READER, READER_PASSWORD);
    let members = async |server: &DirectoryServer| {
        let found = found(server, reader, ("(cn=crew)", "member")).await;
        let mut members = found.unwrap().remove(0);
        members.sort();
        members
    };
    let (ada, runa) = (server.person("ada.berg"), server.person("runa.holm"));
    assert_eq!(members(&server).await, [ada.clone(), runa.clone()]);
    let of_ada = found(&server, reader, ("(uid=ada.berg)", "memberOf")).await;
    assert_eq!(of_ada, Some(vec![vec![server.group("crew")]]));
    server.take_out_of("crew", "runa.holm").await.unwrap();
    assert_eq!(members(&server).await, [ada]);
    let last = server.take_out_of("crew", "ada.berg").await;
    assert!(last.is_err(), "a group has a member");
    server.put_into("crew", "runa.holm").await.unwrap();
    server.remove_person("ada.berg").await.unwrap();
    assert_eq!(members(&server).await, [runa]);
    server.stop();
    assert!(std::net::TcpStream::connect(("127.0.0.1", server.port)).is_err());
}
