//! A real SSH server, and for passwords one that stands in for it in front of the real SFTP server.

mod stand_in;

use std::{fs, os::unix::fs::symlink, path::Path, time::Duration};

use maple_lark_demo::{SshServer, ssh_server};
use maple_lark_sftp::{Connection, Server, SftpError, SignIn};
use stand_in::StandIn;

fn target(server: &SshServer, sign_in: SignIn) -> Server {
    Server {
        address: server.address(),
        addresses: vec![server.address().parse().unwrap()],
        host_keys: vec![server.host_key.clone()],
        user: server.user.clone(),
        sign_in,
        timeout: Duration::from_secs(30),
    }
}

fn key(path: &Path, passphrase: Option<&str>) -> SignIn {
    SignIn::Key {
        key: fs::read_to_string(path).unwrap(),
        passphrase: passphrase.map(str::to_owned),
    }
}

async fn refused(server: &Server) -> SftpError {
    match Connection::open(server).await {
        Ok(_) => panic!("it let somebody in"),
        Err(error) => error,
    }
}

#[tokio::test]
async fn only_who_is_known_is_let_in_and_only_a_server_that_is_known_is_spoken_to() {
    let server = SshServer::start().unwrap();
    let right = target(&server, key(&server.key(), None));
    Connection::open(&right).await.unwrap().close().await;
    let locked = key(&server.locked_key(), Some(ssh_server::PASSPHRASE));
    Connection::open(&target(&server, locked)).await.unwrap();

    let other = Server {
        host_keys: vec![ssh_server::fingerprint(&server.strange_key()).unwrap()],
        ..right.clone()
    };
    let error = refused(&other).await;
    assert!(!error.is_passing(), "{error}");
    let words = error.to_string();
    assert!(words.contains(&server.host_key), "{words}");
    assert!(words.contains("none that host-key names"), "{words}");

    let error = refused(&target(&server, key(&server.strange_key(), None))).await;
    assert!(matches!(error, SftpError::SignIn { .. }), "{error}");
    assert!(
        error
            .to_string()
            .contains("the key is not known there (it takes publickey)"),
        "{error}"
    );
    for (sign_in, said) in [
        (key(&server.locked_key(), None), "private key"),
        (key(&server.locked_key(), Some("wrong")), "private key"),
        (SignIn::Password("x".to_owned()), "it takes publickey"),
    ] {
        let error = refused(&target(&server, sign_in)).await;
        assert!(error.to_string().contains(said), "{error}");
    }
    let address = server.address();
    drop(server);
    let error = refused(&right).await;
    assert!(error.is_passing(), "{error}");
    assert!(error.to_string().starts_with(&address), "{error}");
}

#[tokio::test]
async fn files_are_found_by_patterns_and_read() {
    let server = SshServer::start().unwrap();
    let root = server.files();
    for (path, text) in [
        ("a.csv", "host,load\nh1,1\n"),
        ("b.txt", "no"),
        (".hidden.csv", "no"),
        ("2026/10/a.csv", "host,load\nh2,2\n"),
        ("2026/11/b.csv", "host,load\nh3,3\n"),
        (".git/c.csv", "no"),
    ] {
        let path = root.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
    symlink(root.join("a.csv"), root.join("link.csv")).unwrap();
    symlink(root.join("nowhere"), root.join("lost.csv")).unwrap();
    symlink(&root, root.join("2026/again")).unwrap();
    let connection = Connection::open(&target(&server, key(&server.key(), None)))
        .await
        .unwrap();
    let folder = root.to_str().unwrap();
    for (pattern, found) in [
        ("a.csv", vec!["a.csv"]),
        ("*.csv", vec!["a.csv", "link.csv"]),
        ("2026/1?/*.csv", vec!["2026/10/a.csv", "2026/11/b.csv"]),
        ("2026/**/b.csv", vec!["2026/11/b.csv"]),
        (".hid*", vec![".hidden.csv"]),
        ("none/*.csv", vec![]),
        ("none.csv", vec![]),
    ] {
        let all = connection.find(folder, pattern).await.unwrap();
        let all: Vec<&String> = all.iter().filter(|path| !path.contains("again")).collect();
        assert_eq!(all, found, "{pattern}");
    }
    let error = connection
        .find(&format!("{folder}/none"), "*")
        .await
        .unwrap_err();
    assert!(error.to_string().contains("no such folder"), "{error}");
    let path = format!("{folder}/2026/11/b.csv");
    let bytes = connection.read(&path, 100).await.unwrap();
    assert_eq!(bytes, b"host,load\nh3,3\n");
    let error = connection.read(&path, 5).await.unwrap_err();
    assert!(
        matches!(error, SftpError::TooLarge { limit: 5, .. }),
        "{error}"
    );
    let error = connection
        .read(&format!("{folder}/none"), 5)
        .await
        .unwrap_err();
    assert!(
        !error.is_passing() && error.to_string().contains("No such file"),
        "{error}"
    );
    // More than one request of it.
    let large: Vec<u8> = (0..3_000_000_u32).map(|n| (n % 251) as u8).collect();
    fs::write(root.join("large"), &large).unwrap();
    let read = connection
        .read(&format!("{folder}/large"), 4_000_000)
        .await
        .unwrap();
    assert!(read == large, "{} bytes", read.len());
}

#[tokio::test]
async fn a_file_is_there_as_a_whole_or_as_it_was() {
    let server = SshServer::start().unwrap();
    let connection = Connection::open(&target(&server, key(&server.key(), None)))
        .await
        .unwrap();
    let folder = format!("{}/reports/daily", server.files().display());
    connection.make_folder(&folder).await.unwrap();
    connection.make_folder(&folder).await.unwrap();
    let path = format!("{folder}/figures.csv");
    let large = vec![b'x'; 2_000_000];
    connection.put(&path, b"first").await.unwrap();
    connection.put(&path, &large).await.unwrap();
    assert!(fs::read(&path).unwrap() == large);
    let names = || -> Vec<String> {
        let entries = fs::read_dir(&folder).unwrap();
        entries
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .collect()
    };
    assert_eq!(names(), ["figures.csv"], "nothing is left of the way there");
    // What is a folder is not replaced, and nothing is left beside it.
    fs::create_dir_all(format!("{folder}/busy/inside")).unwrap();
    let error = connection
        .put(&format!("{folder}/busy"), b"x")
        .await
        .unwrap_err();
    assert!(error.to_string().contains("busy"), "{error}");
    let mut left = names();
    left.sort();
    assert_eq!(left, ["busy", "figures.csv"]);
    let error = connection.put("/none/at/all", b"x").await.unwrap_err();
    assert!(!error.is_passing(), "{error}");
    connection.remove(&path).await.unwrap();
    assert_eq!(names(), ["busy"]);
}

#[tokio::test]
async fn a_password_is_told_at_once_or_when_it_is_asked_for() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("a.csv"), "host\nh1\n").unwrap();
    for asks in [false, true] {
        let server = StandIn::start(asks).await;
        let right = Server {
            address: server.address.to_string(),
            addresses: vec![server.address],
            host_keys: vec![server.host_key.clone()],
            user: stand_in::USER.to_owned(),
            sign_in: SignIn::Password(stand_in::PASSWORD.to_owned()),
            timeout: Duration::from_secs(30),
        };
        let connection = Connection::open(&right).await.unwrap();
        let found = connection.find(folder.path().to_str().unwrap(), "*").await;
        assert_eq!(found.unwrap(), ["a.csv"], "asks: {asks}");
        let wrong = Server {
            sign_in: SignIn::Password("another".to_owned()),
            ..right
        };
        let error = refused(&wrong).await;
        let words = error.to_string();
        assert!(
            words.contains("the user or the password is wrong"),
            "{words}"
        );
        assert!(!words.contains("another"), "{words}");
    }
}

#[tokio::test]
async fn a_server_that_says_nothing_is_given_up() {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let silent = Server {
        address: address.to_string(),
        addresses: vec![address],
        host_keys: Vec::new(),
        user: "x".to_owned(),
        sign_in: SignIn::Password("x".to_owned()),
        timeout: Duration::from_secs(1),
    };
    let error = refused(&silent).await;
    assert!(error.is_passing(), "{error}");
    assert!(
        error.to_string().contains("no answer within 1 s"),
        "{error}"
    );
}
