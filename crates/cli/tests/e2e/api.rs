//! The network interface as programs meet it that make mistakes or mean harm: every call of the
//! description, with inputs that nobody should send.

use reqwest::{Client, Method, Response, StatusCode, header};
use serde_json::{Value, json};

use crate::place::{ran, ready, small_report};

/// Every call of the description: its method and its path with places to fill.
async fn calls(http: &Client, base: &str) -> Vec<(Method, String)> {
    let described: Value = http
        .get(format!("{base}/openapi.json"))
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    let paths = described["paths"].as_object().unwrap().clone();
    let methods = |(path, methods): (String, Value)| {
        let names: Vec<String> = methods
            .as_object()
            .unwrap()
            .keys()
            .filter(|name| name.parse::<Method>().is_ok() && *name != "parameters")
            .cloned()
            .collect();
        names.into_iter().map(move |method| {
            (
                method.to_uppercase().parse::<Method>().unwrap(),
                path.clone(),
            )
        })
    };
    paths.into_iter().flat_map(methods).collect()
}

/// A path with the same value, written as a path may have it, in all of its places.
fn filled(path: &str, value: &str) -> String {
    let mut rest = path;
    let mut out = String::new();
    while let Some((before, after)) = rest.split_once('{') {
        out += before;
        out += value;
        rest = after.split_once('}').unwrap().1;
    }
    out + rest
}

/// Notes an answer that says the service itself is broken. Any other error has to say what was
/// wrong, and nothing of how this is built.
async fn is_in_order(answer: Response, what: &str, broken: &mut Vec<String>) {
    let status = answer.status();
    if status.is_server_error() {
        broken.push(format!(
            "{what}: {status}: {}",
            answer.text().await.unwrap()
        ));
    } else if status.is_client_error() {
        assert_eq!(
            answer.headers()[header::CONTENT_TYPE],
            "application/problem+json",
            "{what}: {status}"
        );
        let problem: Value = answer.json().await.unwrap();
        assert_eq!(problem["status"], status.as_u16(), "{what}: {problem}");
        assert!(
            problem["title"]
                .as_str()
                .is_some_and(|title| !title.is_empty()),
            "{what}: {problem}"
        );
        let said = problem.to_string().to_lowercase();
        for inner in [
            "sqlx",
            "sea_orm",
            "panicked",
            "src/",
            "select ",
            "insert into",
        ] {
            assert!(!said.contains(inner), "{what}: {problem}");
        }
    }
}

const HOSTILE_NAMES: [&str; 7] = [
    "nothing-of-this-name",
    "'%3B%20drop%20table%20runs%3B--",
    "%00",
    "a%00b",
    "..%2F..%2Fetc%2Fpasswd",
    "%F0%9F%9A%A2%E2%80%AE",
    "01a20778-04ba-70ff-853b-f952290418d2",
];

const HOSTILE_BODIES: [&str; 8] = [
    "",
    "not json",
    "[]",
    "{}",
    "{\"name\":null,\"to\":7,\"text\":[],\"files\":\"x\"}",
    "{\"name\":\"\\u0000\",\"password\":\"\\u0000\",\"label\":\"\\u0000\",\"value\":\"\\u0000\",\"to\":[\"\\u0000\"],\"note\":\"\\u0000\",\"address\":\"\\u0000\"}",
    "{\"from\":\"9999999-01-01T00:00:00Z\",\"to\":\"0000-00-00\",\"zone\":\"Nowhere/None\",\"scheduled_for\":\"-1\"}",
    "{\"files\":[{\"file\":\"../../x.toml\",\"text\":\"[report\\u0000]\"}],\"remove_others\":true}",
];

#[tokio::test(flavor = "multi_thread")]
async fn no_call_breaks_whatever_it_is_given() {
    let (place, service) = ready().await;
    place.apply_small(&small_report());
    let run = ran(&place, "small");
    let http = Client::new();
    let base = format!("http://{}/api/v1", place.address);
    let token = place.token();
    let calls = calls(&http, &base).await;
    let mut broken = Vec::new();
    assert!(calls.len() > 50, "{calls:?}");
    // What would take the token away, or wait for ever, is looked at elsewhere.
    let apart = |method: &Method, path: &str| path.ends_with("/events") && method == Method::GET;
    for (method, path) in calls.iter().filter(|(method, path)| !apart(method, path)) {
        for name in HOSTILE_NAMES {
            let path = filled(path, name);
            let bodies: &[&str] = if *method == Method::GET || *method == Method::DELETE {
                &[""]
            } else {
                &HOSTILE_BODIES
            };
            for body in bodies {
                // The one apply that would succeed would remove everything, which is no mistake.
                if path == "/definitions/apply" && body.contains("remove_others") {
                    continue;
                }
                let mut request = http
                    .request(method.clone(), format!("{base}{path}"))
                    .bearer_auth(&token);
                if !body.is_empty() {
                    request = request
                        .header(header::CONTENT_TYPE, "application/json")
                        .body(*body);
                }
                is_in_order(
                    request.send().await.unwrap(),
                    &format!("{method} {path} {body}"),
                    &mut broken,
                )
                .await;
            }
            if !filled(&path, "").contains(name) {
                break;
            }
        }
    }
    for query in [
        "page=0",
        "page=-1",
        "page=99999999999999999999",
        "size=0",
        "size=1000000",
        "state=%00",
        "report=%00",
        "report=%27",
        "page=x",
    ] {
        is_in_order(
            http.get(format!("{base}/runs?{query}"))
                .bearer_auth(&token)
                .send()
                .await
                .unwrap(),
            query,
            &mut broken,
        )
        .await;
    }
    for query in [
        "from=x&to=y",
        "from=2026-01-01T00:00:00Z&to=2025-01-01T00:00:00Z",
        "from=0001-01-01T00:00:00Z&to=9999-01-01T00:00:00Z",
        "zone=Nowhere",
    ] {
        is_in_order(
            http.get(format!("{base}/agenda?{query}"))
                .bearer_auth(&token)
                .send()
                .await
                .unwrap(),
            query,
            &mut broken,
        )
        .await;
    }
    assert_eq!(broken, Vec::<String>::new());
    // Nothing was lost by it, and the service is well.
    let after: Value = http
        .get(format!("{base}/runs/{}", run["id"].as_str().unwrap()))
        .bearer_auth(&token)
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    assert_eq!(
        after["run"]["state"].as_str().or(after["state"].as_str()),
        Some("delivered"),
        "{after:#}"
    );
    assert_eq!(ran(&place, "small")["state"], "delivered");
    let log = service.log();
    assert!(!log.contains("panicked"), "{log}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_body_that_is_too_large_is_refused_before_it_is_read() {
    let (place, _service) = ready().await;
    let http = Client::new();
    let large = json!({ "files": [{ "file": "x.toml", "text": "#".repeat(64 * 1024 * 1024) }], "remove_others": false });
    let request = http
        .post(format!("http://{}/api/v1/definitions/plan", place.address))
        .bearer_auth(place.token())
        .json(&large);
    // A server may also hang up on somebody who goes on sending.
    if let Ok(answer) = request.send().await {
        assert_eq!(answer.status(), StatusCode::PAYLOAD_TOO_LARGE);
        assert_eq!(
            answer.headers()[header::CONTENT_TYPE],
            "application/problem+json"
        );
    }
    assert!(
        http.get(format!("http://{}/ready", place.address))
            .send()
            .await
            .unwrap()
            .status()
            .is_success()
    );
}
