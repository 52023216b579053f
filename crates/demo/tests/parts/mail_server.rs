//! The mail server speaks SMTP, and misbehaves when it is told to.

use std::time::Duration;

use maple_lark_demo::{
    MailServer,
    mail_server::{Behaviour, HangUp, LARGEST},
};
use tempfile::TempDir;
use tokio::{
    io::{AsyncBufReadExt, AsyncWriteExt, BufReader},
    net::TcpStream,
};

/// Says each line and answers with what came back for it.
async fn converse(server: &MailServer, lines: &[&str]) -> Vec<String> {
    let mut stream = BufReader::new(TcpStream::connect(server.address).await.unwrap());
    let mut answers = vec![answer(&mut stream).await];
    for line in lines {
        stream
            .get_mut()
            .write_all(format!("{line}\r\n").as_bytes())
            .await
            .unwrap();
        answers.push(answer(&mut stream).await);
    }
    answers
}

async fn answer(stream: &mut BufReader<TcpStream>) -> String {
    let mut all = String::new();
    loop {
        let mut line = String::new();
        tokio::time::timeout(Duration::from_secs(30), stream.read_line(&mut line))
            .await
            .expect("the server answers")
            .unwrap();
        all += &line;
        // A hyphen behind the code means that more lines follow.
        if line.as_bytes().get(3) != Some(&b'-') {
            return all;
        }
    }
}

fn codes(answers: &[String]) -> Vec<&str> {
    answers.iter().map(|answer| &answer[..3]).collect()
}

#[tokio::test]
async fn the_mail_server_takes_mail_for_several_and_keeps_it() {
    let folder = TempDir::new().unwrap();
    let server = MailServer::start(
        "127.0.0.1:0",
        folder.path().join("mail"),
        Behaviour::default(),
    )
    .await
    .unwrap();
    let said = converse(
        &server,
        &[
            "EHLO client.example",
            "MAIL FROM:<a@x.example> SIZE=1000 BODY=8BITMIME",
            "RCPT TO:<b@x.example>",
            "RCPT TO:<c@x.example>",
            "DATA",
            "Subject: Ferjur\r\n\r\ngóðan dag\r\n..dot\r\n.",
            "QUIT",
        ],
    )
    .await;
    assert_eq!(
        codes(&said),
        ["220", "250", "250", "250", "250", "354", "250", "221"],
        "{said:?}"
    );
    assert!(
        said[1].contains("8BITMIME") && said[1].contains(&format!("SIZE {LARGEST}")),
        "{}",
        said[1]
    );
    let kept = String::from_utf8(server.messages().remove(0)).unwrap();
    assert!(
        kept.contains("X-Envelope-To: b@x.example, c@x.example")
            && kept.contains("góðan dag")
            && kept.contains("\r\n.dot\r\n"),
        "{kept}"
    );
}

#[tokio::test]
async fn the_mail_server_refuses_what_it_is_told_to() {
    let folder = TempDir::new().unwrap();
    let server = MailServer::start(
        "127.0.0.1:0",
        folder.path().join("mail"),
        Behaviour::default(),
    )
    .await
    .unwrap();
    server.behave(|behaviour| {
        behaviour
            .refuse
            .insert("b@x.example".into(), (550, "unknown".into()));
        behaviour
            .refuse
            .insert("c@x.example".into(), (451, "later".into()));
    });
    let said = converse(
        &server,
        &[
            "HELO client.example",
            "MAIL FROM:<a@x.example>",
            "RCPT TO:<b@x.example>",
            "RCPT TO:<c@x.example>",
            "RCPT TO:<d@x.example>",
        ],
    )
    .await;
    assert_eq!(
        codes(&said),
        ["220", "250", "250", "550", "451", "250"],
        "{said:?}"
    );
    let large = converse(
        &server,
        &[
            "EHLO client.example",
            &format!("MAIL FROM:<a@x.example> SIZE={}", LARGEST + 1),
        ],
    )
    .await;
    assert_eq!(codes(&large), ["220", "250", "552"]);
    assert!(server.messages().is_empty());
}

#[tokio::test]
async fn the_mail_server_asks_for_a_sign_in() {
    let folder = TempDir::new().unwrap();
    let behaviour = Behaviour {
        sign_in: Some(("lark".into(), "secret".into())),
        ..Behaviour::default()
    };
    let server = MailServer::start("127.0.0.1:0", folder.path().join("mail"), behaviour)
        .await
        .unwrap();
    // "\0lark\0wrong" and "\0lark\0secret" in base64.
    let wrong = converse(
        &server,
        &["EHLO client.example", "AUTH PLAIN AGxhcmsAd3Jvbmc="],
    )
    .await;
    assert_eq!(codes(&wrong)[2], "535");
    assert!(wrong[1].contains("AUTH PLAIN"));
    let right = converse(
        &server,
        &[
            "EHLO client.example",
            "AUTH PLAIN AGxhcmsAc2VjcmV0",
            "MAIL FROM:<a@x.example>",
        ],
    )
    .await;
    assert_eq!(codes(&right), ["220", "250", "235", "250"]);
}

/// Says each line, and answers with the code of each answer, until the server hangs up.
async fn until_hung_up(server: &MailServer, lines: &[&str]) -> Vec<String> {
    let mut stream = BufReader::new(TcpStream::connect(server.address).await.unwrap());
    let mut answers = vec![answer(&mut stream).await];
    for line in lines {
        // A server that is gone takes nothing more, or says nothing more.
        let line = format!("{line}\r\n");
        if stream.get_mut().write_all(line.as_bytes()).await.is_err() {
            break;
        }
        let mut words = String::new();
        match stream.read_line(&mut words).await {
            Ok(0) | Err(_) => break,
            Ok(_) => answers.push(words),
        }
    }
    answers
        .iter()
        .map(|answer| answer[..3].to_owned())
        .collect()
}

#[tokio::test]
async fn the_mail_server_hangs_up_once_for_each_time_that_it_is_told_to() {
    let folder = TempDir::new().unwrap();
    let behaviour = Behaviour {
        hang_up: vec![HangUp::BeforeData, HangUp::AfterData],
        ..Behaviour::default()
    };
    let server = MailServer::start("127.0.0.1:0", folder.path().join("mail"), behaviour)
        .await
        .unwrap();
    let message = [
        "HELO client.example",
        "MAIL FROM:<a@x.example>",
        "RCPT TO:<b@x.example>",
        "DATA",
        "Subject: one\r\n\r\nwords\r\n.",
    ];
    let before = until_hung_up(&server, &message).await;
    assert_eq!(before, ["220", "250", "250", "250"]);
    assert!(server.messages().is_empty(), "it was never taken");
    // The sender cannot know, but it was kept: that is what makes this one hard.
    let after = until_hung_up(&server, &message).await;
    assert_eq!(after, ["220", "250", "250", "250", "354"]);
    assert_eq!(server.messages().len(), 1);
    let at_last = until_hung_up(&server, &message).await;
    assert_eq!(at_last, ["220", "250", "250", "250", "354", "250"]);
    assert_eq!(server.messages().len(), 2);
}

#[tokio::test]
async fn a_mail_server_that_is_down_hangs_up_and_comes_back() {
    let folder = TempDir::new().unwrap();
    let behaviour = Behaviour {
        down: true,
        ..Behaviour::default()
    };
    let server = MailServer::start("127.0.0.1:0", folder.path().join("mail"), behaviour)
        .await
        .unwrap();
    let mut stream = BufReader::new(TcpStream::connect(server.address).await.unwrap());
    let mut words = String::new();
    assert_eq!(stream.read_line(&mut words).await.unwrap(), 0, "{words}");
    server.behave(|behaviour| behaviour.down = false);
    assert_eq!(codes(&converse(&server, &["NOOP"]).await), ["220", "250"]);
}
