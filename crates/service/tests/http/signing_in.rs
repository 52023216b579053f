//! Guessing is slow, and keeps nobody out who belongs there.

use reqwest::{Client, Method, StatusCode};
use serde_json::json;

use super::{PASSWORD, Place};

#[tokio::test(flavor = "multi_thread")]
async fn many_guesses_at_once_are_no_more_than_one_after_the_other() {
    let place = Place::new().await;
    let client = Client::new();
    let mut guesses = tokio::task::JoinSet::new();
    for n in 0..40 {
        let (client, url) = (client.clone(), place.url("/tokens"));
        guesses.spawn(async move {
            let guess = json!({ "name": "admin", "password": format!("guess {n}"), "label": "x" });
            let answer = client.post(url).json(&guess).send().await.unwrap();
            let wait = answer.headers().get("retry-after").cloned();
            (answer.status(), wait)
        });
    }
    let answers = guesses.join_all().await;
    let looked_at = answers
        .iter()
        .filter(|(status, _)| *status == StatusCode::UNAUTHORIZED);
    assert_eq!(looked_at.count(), 5);
    for (status, wait) in &answers {
        let blocked = *status == StatusCode::TOO_MANY_REQUESTS;
        assert!(blocked || *status == StatusCode::UNAUTHORIZED, "{status}");
        assert_eq!(blocked, wait.as_ref().is_some_and(|wait| wait == "300"));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn who_guesses_from_many_places_keeps_nobody_out_of_a_known_one() {
    let place = Place::new().await;
    let (at_home, elsewhere) = (Place::client(1), Place::client(99));
    assert_eq!(place.token(&at_home).await.status(), StatusCode::CREATED);
    // Ten places, five guesses each.
    for last in 10..20 {
        let client = Place::client(last);
        for _ in 0..5 {
            let answer = place.try_password(&client, "wrong").await;
            assert_eq!(answer.status(), StatusCode::UNAUTHORIZED);
        }
    }
    // From a place that nobody knows, even the right password has to wait …
    let blocked = place.token(&elsewhere).await;
    assert_eq!(blocked.status(), StatusCode::TOO_MANY_REQUESTS);
    // … and from a known one it does not.
    assert_eq!(place.token(&at_home).await.status(), StatusCode::CREATED);
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_says_that_they_ask_for_another_is_not_believed() {
    let place = Place::new().await;
    let client = Client::new();
    let mut statuses = Vec::new();
    for n in 0..7 {
        let guess = json!({ "name": "admin", "password": "wrong", "label": "x" });
        let address = format!("192.0.2.{n}");
        let request = client
            .post(place.url("/tokens"))
            .header("X-Real-IP", &address)
            .header("X-Forwarded-For", &address);
        statuses.push(request.json(&guess).send().await.unwrap().status().as_u16());
    }
    assert_eq!(statuses, [401, 401, 401, 401, 401, 429, 429]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_proxy_that_is_trusted_is_believed_and_what_stands_before_it_is_not() {
    let place = Place::with("trusted-proxies = [\"127.0.0.1\"]", &[]).await;
    let client = Client::new();
    let guess = async |told: String| {
        let guess = json!({ "name": "nobody", "password": "wrong", "label": "x" });
        let request = client.post(place.url("/tokens"));
        let request = request.header("X-Forwarded-For", told).json(&guess);
        request.send().await.unwrap().status().as_u16()
    };
    for n in 0..7 {
        assert_eq!(guess(format!("192.0.2.{n}")).await, 401);
    }
    let mut statuses = Vec::new();
    for n in 0..6 {
        statuses.push(guess(format!("192.0.2.{n}, 198.51.100.7")).await);
    }
    assert_eq!(statuses, [401, 401, 401, 401, 401, 429]);
    // The trail has whom it asked for.
    let admin = place.admin().await;
    let trail = admin
        .done(
            Method::GET,
            "/audit?action=make_token&outcome=failed",
            json!({}),
        )
        .await;
    let addresses = trail.to_string();
    assert!(addresses.contains("198.51.100.7"), "{trail}");
    assert!(!addresses.contains("127.0.0.1"), "{trail}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_or_a_password_that_is_too_long_is_nobodys() {
    let place = Place::new().await;
    let client = Client::new();
    let long = "x".repeat(100_000);
    for (name, password) in [(long.as_str(), PASSWORD), ("admin", long.as_str())] {
        let credentials = json!({ "name": name, "password": password });
        let request = client.post(place.url("/session")).json(&credentials);
        let answer = request.send().await.unwrap();
        assert_eq!(answer.status(), StatusCode::UNAUTHORIZED);
    }
    assert_eq!(place.token(&client).await.status(), StatusCode::CREATED);
}
