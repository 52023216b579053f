//! The demo's own parts: the mail server speaks SMTP, and the data is always the same.

use std::time::Duration;

use maple_lark_demo::{
    MailServer, TestCluster,
    mail_server::{Behaviour, LARGEST},
    scenario,
};
use sqlx::PgConnection;
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

async fn loaded(cluster: &TestCluster, name: &str, times: &[&str]) -> PgConnection {
    cluster.database(name, "orrin_owner").await.unwrap();
    let mut connection = cluster.connect(name).await.unwrap();
    for time in times {
        scenario::load(&mut connection, "orrin_reader", time.parse().unwrap(), 3)
            .await
            .unwrap();
    }
    connection
}

async fn digest(connection: &mut PgConnection) -> Vec<String> {
    let mut digests = Vec::new();
    for table in [
        "host_samples",
        "health_checks",
        "vessel_links",
        "kiosk_sales",
        "batch_runs",
        "certificates",
    ] {
        let sql = format!(
            "select count(*) || ' ' || md5(string_agg(t::text, ',' order by t::text)) from {table} t"
        );
        digests.push(
            sqlx::query_scalar(sqlx::AssertSqlSafe(sql))
                .fetch_one(&mut *connection)
                .await
                .unwrap(),
        );
    }
    digests
}

#[tokio::test]
async fn demo_data_is_the_same_each_time_and_can_be_continued() {
    let cluster = TestCluster::new().await.unwrap();
    cluster.role("orrin_reader").await.unwrap();
    let mut whole = loaded(&cluster, "one", &["2026-11-23T09:07:00Z"]).await;
    let mut in_parts = loaded(
        &cluster,
        "two",
        &[
            "2026-11-23T01:00:00Z",
            "2026-11-23T01:00:01Z",
            "2026-11-23T08:59:59Z",
            "2026-11-23T09:07:00Z",
        ],
    )
    .await;
    assert_eq!(digest(&mut whole).await, digest(&mut in_parts).await);
    // What the scenario promises is there to be found.
    let outage: i64 = sqlx::query_scalar("select count(*) from health_checks where service = 'payments' and not ok and at::date = '2026-11-22'")
        .fetch_one(&mut whole)
        .await
        .unwrap();
    let kiosks: f64 =
        sqlx::query_scalar("select (100.0 * sum(failed) / sum(sold + failed))::float8 from kiosk_sales where kiosk like 'havnes%' and hour >= '2026-11-22'")
            .fetch_one(&mut whole)
            .await
            .unwrap();
    let disk: f32 =
        sqlx::query_scalar("select max(disk_percent) from host_samples where host = 'archive-01'")
            .fetch_one(&mut whole)
            .await
            .unwrap();
    assert!(
        outage >= 4 && kiosks > 10.0 && disk > 90.0,
        "{outage} {kiosks} {disk}"
    );
}
