//! An order means what it says: nothing in it is passed over.

use reqwest::{Client, StatusCode, header};
use serde_json::{Value, json};

use super::{Place, problem};

#[tokio::test(flavor = "multi_thread")]
async fn what_an_order_does_not_know_is_refused_by_its_name() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("administrator").await);
    for (method, path, body) in [
        ("POST", "/reports/daily/runs", json!({ "delivery": false })),
        (
            "POST",
            "/reports/daily/backfill",
            json!({ "from": "2026-11-01T00:00:00Z", "to": "2026-11-02T00:00:00Z", "chek": true }),
        ),
        (
            "POST",
            "/reports/daily/copy",
            json!({ "name": "other", "titel": "Other" }),
        ),
        (
            "POST",
            "/definitions/plan",
            json!({ "files": [], "remove-others": true }),
        ),
        (
            "POST",
            "/schedules/explain",
            json!({ "time_zone": "UTC", "cuont": 3 }),
        ),
        (
            "POST",
            "/queries/try",
            json!({ "rows": 3, "sqll": "select 1" }),
        ),
        ("POST", "/themes/preview", json!({ "text": "", "txet": "" })),
        (
            "PUT",
            "/secrets/word",
            json!({ "value": "x", "vlaue": "y" }),
        ),
        ("POST", "/preview", json!({ "dashbord": "x" })),
        (
            "POST",
            "/mail-server/test",
            json!({ "too": "a@orrin-sound.example" }),
        ),
    ] {
        let wrong = [
            "delivery",
            "chek",
            "titel",
            "remove-others",
            "cuont",
            "sqll",
            "txet",
            "vlaue",
            "dashbord",
            "too",
        ]
        .into_iter()
        .find(|key| body.get(key).is_some())
        .unwrap();
        let request = client.request(method.parse().unwrap(), place.url(path));
        let answer = request
            .bearer_auth(&token)
            .json(&body)
            .send()
            .await
            .unwrap();
        let (status, detail) = problem(answer).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{path}: {detail}");
        assert!(
            detail.contains(&format!("unknown field `{wrong}`")),
            "{path}: {detail}"
        );
    }
    let runs: Value = client
        .get(place.url("/runs"))
        .bearer_auth(&token)
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    assert_eq!(runs["total"], 0, "nothing was made of any of them");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_body_that_does_not_say_that_it_is_json_is_not_taken_for_it() {
    let place = Place::new().await;
    let client = Client::new();
    // What a page of another site can send without being asked.
    let request = client
        .post(place.url("/session"))
        .header(header::CONTENT_TYPE, "text/plain")
        .body("{\"name\": \"admin\", \"password\": \"correct horse battery\"}");
    let (status, detail) = problem(request.send().await.unwrap()).await;
    assert_eq!(status, StatusCode::UNSUPPORTED_MEDIA_TYPE);
    assert!(detail.contains("application/json"), "{detail}");
    for (body, said) in [
        ("", "EOF"),
        ("{", "EOF"),
        ("[]", "invalid"),
        ("{\"name\": 7, \"password\": \"\"}", "expected a string"),
        ("{\"name\": \"admin\"}", "missing field `password`"),
    ] {
        let request = client
            .post(place.url("/session"))
            .header(header::CONTENT_TYPE, "application/json")
            .body(body);
        let (status, detail) = problem(request.send().await.unwrap()).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{body}");
        assert!(detail.contains(said), "{body}: {detail}");
        assert!(!detail.contains("correct horse"), "{detail}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_value_in_the_address_is_understood_or_refused() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("viewer").await);
    let get = async |path: &str| {
        let request = client.get(place.url(path)).bearer_auth(&token);
        request.send().await.unwrap()
    };
    for (query, wrong) in [
        ("page=abc", "page is a whole number, not \"abc\""),
        ("page=-1", "page is a whole number, not \"-1\""),
        ("size=ten", "size is a whole number, not \"ten\""),
        ("page=99999999999999999999", "page is a whole number"),
    ] {
        let (status, detail) = problem(get(&format!("/runs?{query}")).await).await;
        assert_eq!(status, StatusCode::BAD_REQUEST, "{query}");
        assert!(detail.contains(wrong), "{query}: {detail}");
    }
    // A page far behind the last one is empty.
    for page in ["1", "9223372036854775807", "18446744073709551615"] {
        let answer = get(&format!("/runs?page={page}")).await;
        assert_eq!(answer.status(), StatusCode::OK, "{page}");
        let runs: Value = answer.json().await.unwrap();
        assert_eq!(runs["items"], json!([]));
    }
    let (status, detail) = problem(get("/runs?state=lost").await).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(detail.contains("\"lost\" is no state of a run"), "{detail}");
}

#[tokio::test(flavor = "multi_thread")]
async fn many_questions_are_answered_each_by_itself_and_not_too_many() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("viewer").await);
    let ask = async |questions: Vec<Value>| {
        let request = client
            .post(place.url("/schedules/explain/all"))
            .bearer_auth(&token)
            .json(&json!({ "questions": questions }));
        request.send().await.unwrap()
    };
    let daily = json!({ "time_zone": "Europe/Berlin", "schedule": { "every": "day", "at": "07:30" }, "after": "2026-10-24T12:00:00Z", "count": 2 });
    let nowhere = json!({ "time_zone": "Nowhere" });
    let answers: Value = ask(vec![daily.clone(), nowhere, daily.clone()])
        .await
        .json()
        .await
        .unwrap();
    let answers = answers["answers"].as_array().unwrap();
    assert_eq!(answers.len(), 3);
    assert_eq!(answers[0], answers[2]);
    let instants: Vec<&str> = answers[0]["explained"]["instants"]
        .as_array()
        .unwrap()
        .iter()
        .map(|instant| instant["local"].as_str().unwrap())
        .collect();
    // The clock is put back in between.
    assert_eq!(
        instants,
        ["2026-10-25T07:30:00+01:00", "2026-10-26T07:30:00+01:00"]
    );
    assert!(answers[1]["error"].as_str().unwrap().contains("Nowhere"));
    assert_eq!(answers[1]["explained"], Value::Null);
    let none: Value = ask(Vec::new()).await.json().await.unwrap();
    assert_eq!(none["answers"], json!([]));
    let (status, detail) = problem(ask(vec![daily; 101]).await).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(detail.contains("at most 100"), "{detail}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_says_that_it_is_ready_what_it_is_and_what_there_is_not() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("viewer").await);
    for (path, key, value) in [
        ("/health", "status", "alive"),
        ("/ready", "status", "ready"),
    ] {
        let answer = client.get(format!("{}{path}", place.base)).send().await;
        let answer: Value = answer.unwrap().json().await.unwrap();
        assert_eq!(answer[key], value, "{path}");
        assert_eq!(answer["warning"], Value::Null, "the clock is right");
    }
    let about = client.get(place.url("/about")).bearer_auth(&token);
    let about: Value = about.send().await.unwrap().json().await.unwrap();
    assert_eq!(about["clock"], Value::Null);
    assert!(about["zone_rules"]["version"].as_str().unwrap() >= "2026");
    let nothing = client.get(place.url("/nothing")).bearer_auth(&token);
    let (status, detail) = problem(nothing.send().await.unwrap()).await;
    assert_eq!(status, StatusCode::NOT_FOUND);
    assert!(detail.contains("/api/v1/openapi.json"), "{detail}");
    // A viewer reads the theme of a sample no more than any other definition.
    let preview = client
        .post(place.url("/themes/preview"))
        .bearer_auth(&token)
        .json(&json!({ "text": "[theme]\nname = \"x\"\n" }));
    let (status, detail) = problem(preview.send().await.unwrap()).await;
    assert_eq!(status, StatusCode::FORBIDDEN);
    assert!(detail.contains("needs the role author"), "{detail}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_order_that_comes_twenty_times_is_carried_out_once() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("administrator").await);
    place.with_report(&client, &token).await;
    let order = async |key: &'static str, body: Value| {
        let answer = client
            .post(place.url("/reports/r/runs"))
            .bearer_auth(&token)
            .header("Idempotency-Key", key)
            .json(&body)
            .send()
            .await
            .unwrap();
        (answer.status(), answer.json::<Value>().await.unwrap())
    };
    let all =
        futures::future::join_all((0..20).map(|_| order("a-1", json!({ "deliver": false })))).await;
    for (status, run) in &all {
        assert_eq!(
            (*status, &run["id"]),
            (StatusCode::ACCEPTED, &all[0].1["id"])
        );
    }
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    let runs: i64 = sqlx::query_scalar("select count(*) from runs")
        .fetch_one(&mut records)
        .await
        .unwrap();
    assert_eq!(runs, 1);
    // A key is for one order.
    let (status, _) = order("a-1", json!({ "deliver": true })).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    // One that failed can be given again.
    let wrong = json!({ "deliver": true, "note": "nobody" });
    assert_eq!(
        order("a-2", wrong.clone()).await.0,
        StatusCode::UNPROCESSABLE_ENTITY
    );
    assert_eq!(
        order("a-2", wrong).await.0,
        StatusCode::UNPROCESSABLE_ENTITY
    );
    assert_eq!(
        order("a-2", json!({ "deliver": false })).await.0,
        StatusCode::ACCEPTED
    );
    let (status, _) = order("", json!({})).await;
    assert_eq!(status, StatusCode::BAD_REQUEST);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_address_says_which_methods_it_has() {
    let place = Place::new().await;
    let client = Client::new();
    for (method, path, allow) in [
        ("GET", "/definitions/apply", "POST"),
        ("DELETE", "/runs", "GET"),
        ("POST", "/secrets/x", "DELETE, PUT"),
        ("PATCH", "/reports/daily/schedule", "GET, PUT"),
    ] {
        let request = client.request(method.parse().unwrap(), place.url(path));
        let answer = request.send().await.unwrap();
        assert_eq!(answer.headers()["allow"], allow, "{method} {path}");
        let (status, detail) = problem(answer).await;
        assert_eq!(status, StatusCode::METHOD_NOT_ALLOWED);
        assert!(detail.ends_with(&format!("it has {allow}")), "{detail}");
    }
    let (status, _) = problem(client.get(place.url("/nowhere")).send().await.unwrap()).await;
    assert_eq!(status, StatusCode::NOT_FOUND);
}
