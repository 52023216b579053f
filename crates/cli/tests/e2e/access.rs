use reqwest::{Client, StatusCode, header};
use serde_json::{Value, json};
use tokio::{io::AsyncWriteExt, net::TcpStream};

use crate::place::{PASSWORD, PATIENCE, Place};

#[tokio::test(flavor = "multi_thread")]
async fn everything_is_behind_a_sign_in_and_other_sites_cannot_use_it() {
    let place = Place::new().await;
    let service = place.serve();
    let base = format!("http://{}", place.address);
    let http = Client::new();
    let described: Value = http
        .get(format!("{base}/api/v1/openapi.json"))
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    assert_eq!(described["openapi"], "3.1.0");
    for (path, methods) in described["paths"].as_object().unwrap() {
        // What whoever watches the service asks is not below the others.
        if methods.get("servers").is_some() {
            continue;
        }
        for method in methods
            .as_object()
            .unwrap()
            .keys()
            .filter(|method| ["get", "post", "put", "delete"].contains(&method.as_str()))
        {
            // Signing in is the one thing that nobody has to be signed in for.
            // What an invitation leads to asks for the secret of its link.
            // Nor who there is by asking for a link.
            let open = [
                "/session",
                "/sign-in/passkey",
                "/sign-in/passkey/challenge",
                "/tokens",
                "/invitations",
                "/invitations/accept",
                "/password-links",
            ];
            // And how one can sign in is asked before.
            let ways = method == "get" && path == "/sign-in";
            if ways || method == "post" && open.contains(&path.as_str()) {
                continue;
            }
            let path = path
                .replace("{id}", "01a20778-04ba-70ff-853b-f952290418d2")
                .replace("{name}", "x")
                .replace("{kind}", "report")
                .replace("{index}", "0")
                .replace("{format}", "pdf")
                .replace("{sha256}", "0");
            let request = http
                .request(
                    method.to_uppercase().parse().unwrap(),
                    format!("{base}/api/v1{path}"),
                )
                .json(&json!({}));
            let answer = request.send().await.unwrap();
            assert_eq!(answer.status(), StatusCode::UNAUTHORIZED, "{method} {path}");
            assert_eq!(
                answer.headers()[header::CONTENT_TYPE],
                "application/problem+json",
                "{method} {path}"
            );
        }
    }

    let signed = http
        .post(format!("{base}/api/v1/session"))
        .json(&json!({ "name": "admin", "password": PASSWORD }))
        .send()
        .await
        .unwrap();
    let cookie = signed.headers()[header::SET_COOKIE]
        .to_str()
        .unwrap()
        .to_owned();
    assert!(
        cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"),
        "{cookie}"
    );
    let pair = cookie.split(';').next().unwrap().to_owned();
    let change = |site: Option<(&'static str, String)>| {
        let request = http
            .delete(format!("{base}/api/v1/session"))
            .header(header::COOKIE, &pair);
        match site {
            Some((name, value)) => request.header(name, value),
            None => request,
        }
    };
    for site in [
        None,
        Some(("Origin", "http://evil.example".to_owned())),
        Some(("Sec-Fetch-Site", "cross-site".to_owned())),
    ] {
        assert_eq!(
            change(site.clone()).send().await.unwrap().status(),
            StatusCode::FORBIDDEN,
            "{site:?}"
        );
    }
    assert_eq!(
        change(Some(("Origin", base.clone())))
            .send()
            .await
            .unwrap()
            .status(),
        StatusCode::OK
    );
    let after = http
        .get(format!("{base}/api/v1/session"))
        .header(header::COOKIE, &pair)
        .send()
        .await
        .unwrap();
    assert_eq!(
        after.status(),
        StatusCode::UNAUTHORIZED,
        "a session that was ended is over"
    );

    let made: Value = http
        .post(format!("{base}/api/v1/tokens"))
        .json(&json!({ "name": "admin", "password": PASSWORD, "label": "test" }))
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    let token = made["token"].as_str().unwrap();
    assert_eq!(
        http.get(format!("{base}/api/v1/reports"))
            .bearer_auth(token)
            .send()
            .await
            .unwrap()
            .status(),
        StatusCode::OK
    );
    let mut records = place.records().await;
    let stored: Vec<String> =
        sqlx::query_scalar("select token_hash from api_tokens union all select token_hash from sessions union all select password_hash from users")
            .fetch_all(&mut records)
            .await
            .unwrap();
    assert!(
        !stored.is_empty()
            && stored
                .iter()
                .all(|hash| !hash.contains(&token[3..]) && !hash.contains(PASSWORD))
    );
    assert!(stored.iter().any(|hash| hash.starts_with("$argon2id$")));
    let log = service.log();
    assert!(
        !log.contains(token)
            && !log.contains(PASSWORD)
            && !log.contains(pair.split('=').nth(1).unwrap())
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn sign_in_attempts_are_limited() {
    let place = Place::new().await;
    let _service = place.serve();
    let http = Client::new();
    let attempt = async |password: &str| {
        let request = http
            .post(format!("http://{}/api/v1/session", place.address))
            .json(&json!({ "name": "admin", "password": password }));
        request.send().await.unwrap().status()
    };
    for _ in 0..5 {
        assert_eq!(attempt("wrong").await, StatusCode::UNAUTHORIZED);
    }
    assert_eq!(
        attempt(PASSWORD).await,
        StatusCode::TOO_MANY_REQUESTS,
        "even the right password has to wait now"
    );
}

#[test]
fn the_described_api_is_the_one_that_is_kept() {
    let kept = std::fs::read_to_string(concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../../docs/openapi.json"
    ))
    .unwrap();
    assert!(
        kept.trim() == maple_lark_service::openapi().trim(),
        "docs/openapi.json is not up to date; run \"make api\""
    );
}

/// Requests that are begun and never ended keep a connection each, and nobody else out.
#[tokio::test(flavor = "multi_thread")]
async fn connections_that_say_nothing_keep_nobody_out() {
    let place = Place::new().await;
    let service = place.serve();
    let mut silent = Vec::new();
    for _ in 0..400 {
        let mut stream = TcpStream::connect(&place.address).await.unwrap();
        stream
            .write_all(b"GET /ready HTTP/1.1\r\nHo")
            .await
            .unwrap();
        silent.push(stream);
    }
    let answer = Client::new()
        .get(format!("http://{}/ready", place.address))
        .timeout(PATIENCE)
        .send()
        .await
        .unwrap();
    assert_eq!(answer.status(), StatusCode::OK, "{}", service.log());
}
