//! What documents are delivered to keeps what it gets, and refuses what a real one would refuse.

use std::{path::Path, time::Duration};

use maple_lark_demo::{WebReceiver, receivers::start_syslog};
use reqwest::{Client, Method};
use tempfile::TempDir;

async fn receiver(folder: &TempDir) -> WebReceiver {
    WebReceiver::start("127.0.0.1:0", folder.path().to_owned())
        .await
        .unwrap()
}

async fn ask(receiver: &WebReceiver, method: &str, path: &str, body: &'static str) -> u16 {
    let url = format!("http://{}{path}", receiver.address);
    let method = Method::from_bytes(method.as_bytes()).unwrap();
    let answer = Client::new().request(method, url).body(body).send().await;
    answer.unwrap().status().as_u16()
}

#[tokio::test]
async fn a_file_is_taken_where_its_folder_was_made_before() {
    let folder = TempDir::new().unwrap();
    let share = receiver(&folder).await;
    assert_eq!(
        ask(&share, "PUT", "/share/2026/10/a.csv", "a,b\n").await,
        409
    );
    assert_eq!(ask(&share, "MKCOL", "/share/2026/10/", "").await, 409);
    assert_eq!(ask(&share, "MKCOL", "/share/2026/", "").await, 201);
    assert_eq!(ask(&share, "MKCOL", "/share/2026/10/", "").await, 201);
    assert_eq!(ask(&share, "MKCOL", "/share/2026/10/", "").await, 405);
    assert_eq!(
        ask(&share, "PUT", "/share/2026/10/a.csv", "a,b\n").await,
        201
    );
    let kept = folder.path().join("uploads/share/2026/10/a.csv");
    assert_eq!(std::fs::read_to_string(kept).unwrap(), "a,b\n");
    assert_eq!(ask(&share, "DELETE", "/share/2026/10/a.csv", "").await, 405);
    let said: Vec<String> = share
        .received()
        .iter()
        .map(|request| request.method.clone())
        .collect();
    assert_eq!(
        said,
        ["PUT", "MKCOL", "MKCOL", "MKCOL", "MKCOL", "PUT", "DELETE"]
    );
}

#[tokio::test]
async fn messages_are_kept_a_line_each_with_what_stood_in_their_head() {
    let folder = TempDir::new().unwrap();
    let hook = receiver(&folder).await;
    for body in ["{\"n\":1}", "{\"n\":2}"] {
        let answer = Client::new()
            .post(format!("http://{}/hook", hook.address))
            .header("X-Signature", "abc")
            .body(body)
            .send();
        assert_eq!(answer.await.unwrap().status(), 204);
    }
    let kept = std::fs::read_to_string(folder.path().join("messages.jsonl")).unwrap();
    assert_eq!(kept, "{\"n\":1}\n{\"n\":2}\n");
    let received = hook.received();
    assert_eq!(received[1].header("x-signature"), Some("abc"));
    assert_eq!(received[1].header("x-other"), None);
    assert_eq!(received[1].body, b"{\"n\":2}");
}

#[tokio::test]
async fn answers_that_were_ordered_come_first_and_keep_nothing() {
    let folder = TempDir::new().unwrap();
    let hook = receiver(&folder).await;
    hook.refuse(&[503, 429]);
    assert_eq!(ask(&hook, "POST", "/hook", "one").await, 503);
    assert_eq!(ask(&hook, "POST", "/hook", "two").await, 429);
    assert_eq!(ask(&hook, "POST", "/hook", "three").await, 204);
    let kept = std::fs::read_to_string(folder.path().join("messages.jsonl")).unwrap();
    assert_eq!(kept, "three\n");
    assert_eq!(hook.received().len(), 3, "what was refused was heard, too");
}

async fn lines_of(file: &Path, count: usize) -> Vec<String> {
    for _ in 0..500 {
        let text = std::fs::read_to_string(file).unwrap_or_default();
        if text.lines().count() >= count {
            return text.lines().map(str::to_owned).collect();
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    panic!("{} has no {count} lines", file.display());
}

#[tokio::test]
async fn syslog_keeps_each_datagram_as_a_line() {
    let folder = TempDir::new().unwrap();
    let address = start_syslog("127.0.0.1:0", folder.path().join("log"))
        .await
        .unwrap();
    let socket = tokio::net::UdpSocket::bind("127.0.0.1:0").await.unwrap();
    for words in ["<134>1 one", "<131>1 two"] {
        socket.send_to(words.as_bytes(), address).await.unwrap();
    }
    let lines = lines_of(&folder.path().join("log/syslog.log"), 2).await;
    assert_eq!(lines, ["<134>1 one", "<131>1 two"]);
}
