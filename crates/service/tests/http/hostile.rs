//! What is made to harm is refused, and the service is there for the next who asks.

use maple_lark_fixtures as fixtures;
use std::{
    fmt::Write,
    time::{Duration, Instant},
};

use base64::{Engine, engine::general_purpose::STANDARD};
use reqwest::{Client, StatusCode};
use serde_json::{Value, json};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
};

use super::{PATIENCE, Place, problem};

fn report(more: &str) -> String {
    fixtures::report("h", "d").lines(more).to_string()
}

fn dashboard(more: &str) -> String {
    fixtures::dashboard("h").table(more).to_string()
}

fn query(asks: &str) -> String {
    fixtures::dashboard("h")
        .query("q", "plain", asks)
        .to_string()
}

fn picture(media_type: &str, bytes: impl AsRef<[u8]>) -> String {
    let data = STANDARD.encode(bytes);
    format!("[theme]\nname = \"h\"\ntitle = \"H\"\nlogo = \"data:{media_type};base64,{data}\"\n")
}

fn nested(open: &str, inside: &str, close: &str, times: usize) -> String {
    format!("{}{inside}{}", open.repeat(times), close.repeat(times))
}

/// Files that would each have taken the process, a processor or the memory for itself, with what
/// they are refused for.
fn definitions() -> Vec<(&'static str, &'static str, String)> {
    let path = |path: &str| {
        query(&format!(
            "path = \"/x\"\nrows = \"{path}\"\nfield = [{{ name = \"a\", path = \"$\" }}]"
        ))
    };
    let mut unknown = dashboard("");
    for n in 0..10_000 {
        writeln!(unknown, "key-{n} = 1").unwrap();
    }
    let mut png = b"\x89PNG\r\n\x1a\n\0\0\0\x0dIHDR".to_vec();
    png.extend(20_000_u32.to_be_bytes());
    png.extend(20_000_u32.to_be_bytes());
    png.extend([8, 6, 0, 0, 0, 0, 0, 0, 0]);
    let levels: String = (1..9)
        .map(|n| {
            format!(
                "<g id='l{n}'>{}</g>",
                format!("<use href='#l{}'/>", n - 1).repeat(10)
            )
        })
        .collect();
    let laughs = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\"><defs><rect id='l0'/>{levels}</defs><use href='#l8'/></svg>"
    );
    let message = |text: &str| format!("{}[message]\ntext = \"\"\"\n{text}\n\"\"\"\n", report(""));
    let rule = |rule: &str| {
        format!(
            "{}[schedule]\nrule = \"{rule}\"\nstarts = \"2026-12-01\"\nat = \"07:30\"\n",
            report("")
        )
    };
    vec![
        (
            "path of parentheses",
            "is not a JSONPath",
            path(&format!("$[?{}]", nested("(", "1", ")", 1000))),
        ),
        (
            "path of filters",
            "is not a JSONPath",
            path(&nested("$[?@", "", "]", 60)),
        ),
        (
            "comments in SQL",
            "comments are nested",
            query(&format!(
                "sql = \"{} select 1\"",
                nested("/*", "", "*/", 20_000)
            )),
        ),
        ("unknown keys", "unknown key", unknown),
        (
            "sections",
            "the limit is 1000",
            dashboard(&"[[section]]\ntitle = \"S\"\n".repeat(10_000)),
        ),
        (
            "times",
            "the limit is 5000",
            format!(
                "{}[schedule]\nevery = \"day\"\nat = [{}]\n",
                report(""),
                "\"06:00\", ".repeat(20_000)
            ),
        ),
        ("lists", "recurse", format!("a = {}", "[".repeat(100_000))),
        ("pixels", "pixels", picture("image/png", png)),
        (
            "uses",
            "draws more than 20000",
            picture("image/svg+xml", laughs),
        ),
        (
            "groups",
            "nests them more than 64",
            picture(
                "image/svg+xml",
                format!(
                    "<svg xmlns=\"http://www.w3.org/2000/svg\">{}</svg>",
                    nested("<g>", "", "</g>", 15_000)
                ),
            ),
        ),
        (
            "minus signs",
            "longer than 300",
            message(&format!("{{{{ {}1 }}}}", "-".repeat(5_000))),
        ),
        (
            "nots",
            "longer than 300",
            message(&format!("{{{{ {}1 }}}}", "not ".repeat(5_000))),
        ),
        (
            "filters",
            "longer than 300",
            message(&format!("{{{{ 1{} }}}}", "|upper".repeat(5_000))),
        ),
        (
            "elifs",
            "longer than 50000",
            message(&format!(
                "{{% if 0 %}}{}{{% endif %}}",
                "{% elif 0 %}".repeat(5_000)
            )),
        ),
        (
            "ranges",
            "range is unknown",
            message(&format!(
                "{}x{}",
                "{% for i in range(9999) %}".repeat(5),
                "{% endfor %}".repeat(5)
            )),
        ),
        (
            "doubling",
            "is no statement here",
            message(&format!(
                "{{% set a = 'xxxxxxxxxxxxxxxx' %}}{}{{{{ a }}}}",
                "{% set a = a ~ a %}".repeat(40)
            )),
        ),
        (
            "minus signs behind a condition",
            "longer than 300",
            message(&format!(
                "{{% if summary %}}{{{{ {}1 }}}}{{% endif %}}",
                "-".repeat(5_000)
            )),
        ),
        (
            "a rule that never fits",
            "never fires",
            rule("FREQ=SECONDLY;BYDAY=MO;BYSETPOS=2"),
        ),
        (
            "a rule that is long",
            "long",
            rule(&format!("FREQ=YEARLY;BYDAY={}MO", "MO,".repeat(5_000))),
        ),
    ]
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_made_to_harm_is_refused_and_the_next_is_answered() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("administrator").await);
    place.with_report(&client, &token).await;
    let plan = async |files: Vec<Value>| {
        let request = client
            .post(place.url("/definitions/plan"))
            .bearer_auth(&token)
            .json(&json!({ "files": files }));
        request.send().await.unwrap()
    };
    let mut otherwise = Vec::new();
    for (what, words, text) in definitions() {
        let answer = plan(vec![json!({ "file": "h.toml", "text": text })]).await;
        let status = answer.status();
        let detail = answer.text().await.unwrap();
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{what}: {detail}");
        // It is refused for what it is, and not for a key that was written wrong.
        if !detail.contains(words) {
            otherwise.push(format!("{what}: {detail}"));
        }
        let alive = client
            .get(format!("{}/health", place.base))
            .send()
            .await
            .unwrap();
        assert_eq!(alive.status(), StatusCode::OK, "{what}");
    }
    assert!(otherwise.is_empty(), "{otherwise:#?}");
    let events = nested("BEGIN:VEVENT\r\n", "", "END:VEVENT\r\n", 2_500);
    let calendar =
        format!("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\n{events}END:VCALENDAR\r\n");
    let (status, _) = problem(plan(vec![json!({ "file": "h.ics", "text": calendar })]).await).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    let many = (0..10_001).map(|n| json!({ "file": format!("f{n}.toml"), "text": "" }));
    let (status, detail) = problem(plan(many.collect()).await).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{detail}");

    // All of it at once, and somebody else meanwhile, and a report that is due.
    let report = async {
        let answer = client
            .post(place.url("/reports/r/runs"))
            .bearer_auth(&token)
            .json(&json!({}))
            .send();
        let run: Value = answer.await.unwrap().json().await.unwrap();
        let address = place.url(&format!("/runs/{}", run["id"].as_str().unwrap()));
        let began = Instant::now();
        loop {
            let seen = client.get(&address).bearer_auth(&token).send().await;
            let seen: Value = seen.unwrap().json().await.unwrap();
            if seen["settled"] == true {
                break seen["state"].as_str().unwrap().to_owned();
            }
            assert!(began.elapsed() < PATIENCE, "{seen}");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    };
    let together = definitions()
        .into_iter()
        .map(|(_, _, text)| plan(vec![json!({ "file": "h.toml", "text": text })]));
    let (all, alive, state) = tokio::join!(
        futures::future::join_all(together),
        client.get(format!("{}/ready", place.base)).send(),
        report
    );
    assert_eq!(state, "completed");
    assert!(
        all.iter()
            .all(|answer| answer.status() == StatusCode::UNPROCESSABLE_ENTITY)
    );
    assert_eq!(alive.unwrap().status(), StatusCode::OK);

    let deep = nested("[", "", "]", 200_000);
    let bodies = [
        deep.clone(),
        format!("{{\"files\": {deep}}}"),
        "{\"files\": [".to_owned(),
        "\u{0}".to_owned(),
    ];
    for body in bodies {
        let answer = client
            .post(place.url("/definitions/plan"))
            .bearer_auth(&token)
            .header("Content-Type", "application/json")
            .body(body)
            .send()
            .await
            .unwrap();
        assert!(answer.status().is_client_error());
    }
}

/// A caller who begins a body and then says nothing is let go, many of them at once.
#[tokio::test(flavor = "multi_thread")]
async fn a_body_that_does_not_arrive_is_not_waited_for() {
    let place = Place::new().await;
    let token = place.signed_in("author").await;
    let address = place.base.trim_start_matches("http://");
    let halves = (0..50).map(async |_| {
        let mut stream = TcpStream::connect(address).await.unwrap();
        let head = format!(
            "POST /api/v1/definitions/plan HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {token}\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{{\"files\": [          "
        );
        stream.write_all(head.as_bytes()).await.unwrap();
        let mut answer = vec![0; 12];
        stream.read_exact(&mut answer).await.unwrap();
        String::from_utf8(answer).unwrap()
    });
    let answers = tokio::time::timeout(PATIENCE, futures::future::join_all(halves)).await;
    let answers = answers.expect("they are let go");
    assert!(
        answers.iter().all(|answer| answer == "HTTP/1.1 408"),
        "{answers:?}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_head_that_does_not_arrive_is_not_waited_for_and_others_stay_connected() {
    let place = Place::with("head-timeout = \"1 second\"", &[]).await;
    let address = place.base.trim_start_matches("http://");
    let mut answer = [0; 12];
    // One that asks now and then keeps its connection for longer than a head may take.
    let mut patient = TcpStream::connect(address).await.unwrap();
    let silent = async || {
        let mut stream = TcpStream::connect(address).await.unwrap();
        stream
            .write_all(b"GET /health HTTP/1.1\r\nHo")
            .await
            .unwrap();
        let ended = stream.read(&mut [0; 64]).await;
        assert!(matches!(ended, Ok(0) | Err(_)), "{ended:?}");
    };
    for _ in 0..2 {
        patient
            .write_all(b"GET /health HTTP/1.1\r\nHost: x\r\n\r\n")
            .await
            .unwrap();
        patient.read_exact(&mut answer).await.unwrap();
        assert_eq!(&answer, b"HTTP/1.1 200");
        let mut rest = vec![0; 4096];
        let _ = patient.read(&mut rest).await.unwrap();
        let all = futures::future::join_all((0..50).map(|_| silent()));
        let ended = tokio::time::timeout(PATIENCE, all).await;
        ended.expect("connections without a head are ended");
    }
}
