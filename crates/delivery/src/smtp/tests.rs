//! A server that says whatever it is told to say, and what we make of it.

#![allow(
    clippy::too_many_lines,
    reason = "a test tells one story from its beginning to its end"
)]

use std::sync::Mutex;

use tokio::{
    io::{AsyncBufReadExt, AsyncWriteExt, BufReader},
    net::TcpListener,
};

use super::*;

/// What the server does when a line begins with a word: it says something, says nothing, or
/// hangs up.
#[derive(Clone, Copy)]
enum Does {
    Say(&'static str),
    Nothing,
    HangUp,
}

use Does::{HangUp, Nothing, Say};

struct Scripted {
    server: MailServer,
    heard: Arc<Mutex<Vec<String>>>,
}

const WELL: [(&str, Does); 7] = [
    ("greeting", Say("220 mail.orrin-sound.example ready")),
    (
        "EHLO",
        Say("250-mail.orrin-sound.example\r\n250-8BITMIME\r\n250 SMTPUTF8"),
    ),
    ("MAIL", Say("250 2.1.0 sender fine")),
    ("RCPT", Say("250 2.1.5 recipient fine")),
    ("DATA", Say("354 go on")),
    (".", Say("250 2.0.0 queued as 4711")),
    ("RSET", Say("250 2.0.0 forgotten")),
];

/// A server that does as in [`WELL`] but for what `other` says.
async fn scripted(other: &[(&'static str, Does)]) -> Scripted {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let script: Vec<(&'static str, Does)> = other.iter().copied().chain(WELL).collect();
    let heard: Arc<Mutex<Vec<String>>> = Arc::default();
    let ears = heard.clone();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let (script, ears) = (script.clone(), ears.clone());
            tokio::spawn(async move {
                let (read, mut write) = stream.into_split();
                let mut lines = BufReader::new(read).lines();
                let answer = |word: &str| {
                    script
                        .iter()
                        .find(|(known, _)| *known == word)
                        .map_or(Say("250 fine"), |(_, does)| *does)
                };
                let mut next = answer("greeting");
                let mut in_message = false;
                loop {
                    match next {
                        Say(words) => write.write_all(format!("{words}\r\n").as_bytes()).await?,
                        Nothing => {}
                        HangUp => return Ok(()),
                    }
                    loop {
                        let Some(line) = lines.next_line().await? else {
                            return Ok(());
                        };
                        if in_message && line != "." {
                            continue;
                        }
                        ears.lock().unwrap().push(line.clone());
                        let word = if line == "." {
                            "."
                        } else {
                            line.get(..4).unwrap_or("")
                        };
                        next = answer(word);
                        in_message =
                            word == "DATA" && matches!(next, Say(words) if words.starts_with('3'));
                        break;
                    }
                }
                #[allow(unreachable_code)]
                Ok::<(), std::io::Error>(())
            });
        }
    });
    let server = MailServer {
        host: "127.0.0.1".into(),
        port,
        tls: MailTls::Off,
        ca: None,
        sign_in: None,
        from: "Reports <reports@orrin-sound.example>".parse().unwrap(),
        reply_to: None,
        bounces: None,
        dkim: None,
        max_size: None,
        timeout: Duration::from_secs(3),
    };
    Scripted { server, heard }
}

fn to(address: &str) -> Mailbox {
    address.parse().unwrap()
}

async fn sent(scripted: &Scripted) -> Result<String, DeliveryError> {
    let mut session = MailSession::open(&scripted.server).await?;
    session
        .send(
            &scripted.server,
            &to("ada@orrin-sound.example"),
            b"Subject: x\r\n\r\nHello\r\n",
        )
        .await
}

/// What it comes to: taken, refused, to be tried again, not reached, or not known.
fn came_to(outcome: &Result<String, DeliveryError>) -> &'static str {
    match outcome {
        Ok(_) => "taken",
        Err(DeliveryError::Refused { .. }) => "refused",
        Err(DeliveryError::Postponed { .. }) => "postponed",
        Err(DeliveryError::Unreachable { .. }) => "unreachable",
        Err(DeliveryError::Unconfirmed { .. }) => "unconfirmed",
        Err(DeliveryError::Message { .. }) => "no message",
    }
}

#[tokio::test]
async fn every_answer_at_every_step_comes_to_what_it_means() {
    let cases: [(&str, Does, &str, &str); 17] = [
        ("greeting", Say("421 4.3.2 too busy"), "postponed", "421"),
        (
            "greeting",
            Say("554 5.7.1 no mail from you"),
            "refused",
            "554",
        ),
        ("greeting", Nothing, "unreachable", "no answer within"),
        ("greeting", HangUp, "unreachable", ""),
        (
            "greeting",
            Say("HTTP/1.1 400 Bad Request"),
            "unreachable",
            "",
        ),
        (
            "MAIL",
            Say("450 4.7.1 greylisted"),
            "postponed",
            "450 4.7.1 greylisted",
        ),
        (
            "MAIL",
            Say("553 5.1.8 sender unknown"),
            "refused",
            "553 5.1.8 sender unknown",
        ),
        (
            "RCPT",
            Say("452 4.2.2 mailbox full"),
            "postponed",
            "452 4.2.2 mailbox full",
        ),
        (
            "RCPT",
            Say("550-5.1.1 no such\r\n550 5.1.1 account"),
            "refused",
            "550 5.1.1 no such",
        ),
        ("RCPT", Nothing, "unreachable", "no answer within"),
        ("RCPT", HangUp, "unreachable", ""),
        ("DATA", Say("451 4.3.0 not now"), "postponed", "451"),
        ("DATA", Say("554 5.7.1 not at all"), "refused", "554"),
        (".", Say("452 4.3.1 disk full"), "postponed", "452"),
        (".", Say("552 5.3.4 too large"), "refused", "552"),
        // From here on it may have been taken.
        (".", HangUp, "unconfirmed", ""),
        (".", Nothing, "unconfirmed", "no answer within"),
    ];
    // Side by side, for some of them wait until patience is over.
    let mut tries = tokio::task::JoinSet::new();
    for (step, does, meaning, words) in cases {
        tries.spawn(async move {
            let place = scripted(&[(step, does)]).await;
            (step, meaning, words, sent(&place).await, place)
        });
    }
    while let Some(tried) = tries.join_next().await {
        let (step, meaning, words, outcome, place) = tried.unwrap();
        assert_eq!(came_to(&outcome), meaning, "{step}: {outcome:?}");
        let said = outcome.unwrap_err();
        assert_eq!(said.is_temporary(), meaning != "refused", "{step}: {said}");
        assert!(
            said.to_string().contains(words)
                && said.to_string().contains(&place.server.port.to_string()),
            "{step}: {said}"
        );
    }
}

#[tokio::test]
async fn what_is_taken_is_answered_in_the_servers_words() {
    let place = scripted(&[]).await;
    assert_eq!(sent(&place).await.unwrap(), "250 2.0.0 queued as 4711");
    let heard = place.heard.lock().unwrap().clone();
    assert_eq!(
        heard[1..4],
        [
            "MAIL FROM:<reports@orrin-sound.example>",
            "RCPT TO:<ada@orrin-sound.example>",
            "DATA"
        ],
        "{heard:?}"
    );
}

#[tokio::test]
async fn bounces_go_where_they_should_and_not_to_the_sender() {
    let mut place = scripted(&[]).await;
    place.server.bounces = Some(to("bounces@orrin-sound.example"));
    sent(&place).await.unwrap();
    assert!(
        place
            .heard
            .lock()
            .unwrap()
            .iter()
            .any(|line| line == "MAIL FROM:<bounces@orrin-sound.example>")
    );
}

#[tokio::test]
async fn one_that_is_refused_leaves_the_connection_for_the_next() {
    let place = scripted(&[("RCPT", Say("550 5.1.1 no such account"))]).await;
    let mut session = MailSession::open(&place.server).await.unwrap();
    let refused = session
        .send(&place.server, &to("gone@orrin-sound.example"), b"x")
        .await;
    assert_eq!(came_to(&refused), "refused");
    assert!(session.is_usable());
    session.reset().await;
    assert!(
        session.is_usable()
            && place
                .heard
                .lock()
                .unwrap()
                .iter()
                .any(|line| line == "RSET")
    );
    session.close().await;

    // One whose end is not known is good for nothing any more.
    let place = scripted(&[(".", Nothing)]).await;
    let mut session = MailSession::open(&place.server).await.unwrap();
    assert_eq!(
        came_to(
            &session
                .send(&place.server, &to("ada@orrin-sound.example"), b"x")
                .await
        ),
        "unconfirmed"
    );
    assert!(!session.is_usable());
}

#[tokio::test]
async fn nothing_is_sent_in_the_open_where_encryption_is_wanted() {
    let mut place = scripted(&[]).await;
    place.server.tls = MailTls::StartTls;
    place.server.sign_in = Some(MailSignIn::Password {
        user: "reports".into(),
        password: "secret-word".into(),
    });
    let Err(error) = MailSession::open(&place.server).await else {
        panic!("it was opened")
    };
    assert!(
        error.to_string().contains("does not offer STARTTLS") && !error.is_temporary(),
        "{error}"
    );
    // Offered, but then not done.
    let mut place = scripted(&[
        ("EHLO", Say("250-here\r\n250 STARTTLS")),
        ("STAR", Say("454 4.7.0 not available")),
    ])
    .await;
    place.server.tls = MailTls::StartTls;
    let Err(error) = MailSession::open(&place.server).await else {
        panic!("it was opened")
    };
    assert!(
        error.is_temporary() && error.to_string().contains("454"),
        "{error}"
    );
    // TLS from the first byte with somebody who does not speak it.
    let mut place = scripted(&[]).await;
    place.server.tls = MailTls::Tls;
    assert!(MailSession::open(&place.server).await.is_err());
    let heard = place.heard.lock().unwrap().join("\n");
    assert!(
        !heard.contains("MAIL") && !heard.contains("secret-word"),
        "{heard}"
    );
}

#[tokio::test]
async fn a_sign_in_that_fails_shows_no_secret() {
    let offers = Say("250-here\r\n250 AUTH PLAIN LOGIN XOAUTH2");
    for (sign_in, answer) in [
        (
            MailSignIn::Password {
                user: "reports".into(),
                password: "secret-word".into(),
            },
            Say("535 5.7.8 wrong"),
        ),
        (
            MailSignIn::Token {
                user: "reports".into(),
                token: "secret-token".into(),
            },
            Say("535 5.7.8 token expired"),
        ),
    ] {
        let mut place = scripted(&[("EHLO", offers), ("AUTH", answer)]).await;
        place.server.sign_in = Some(sign_in);
        let Err(error) = MailSession::open(&place.server).await else {
            panic!("it was opened")
        };
        assert!(
            !error.is_temporary() && error.to_string().contains("535"),
            "{error}"
        );
        for shown in [
            error.to_string(),
            format!("{error:?}"),
            format!("{:?}", place.server),
        ] {
            assert!(!shown.contains("secret"), "{shown}");
        }
    }
    // A server without the way to sign in that is wanted is no place for a password.
    let mut place = scripted(&[]).await;
    place.server.sign_in = Some(MailSignIn::Password {
        user: "reports".into(),
        password: "secret-word".into(),
    });
    assert!(MailSession::open(&place.server).await.is_err());
    assert!(
        place
            .heard
            .lock()
            .unwrap()
            .iter()
            .all(|line| !line.starts_with("AUTH"))
    );
}
