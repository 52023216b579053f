//! An order means what it says: nothing in it is passed over.

use maple_lark_fixtures as fixtures;
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

/// A list of reports is filtered and sorted by the service, and says what it does not understand.
#[tokio::test(flavor = "multi_thread")]
async fn reports_are_listed_a_page_at_a_time_as_they_are_asked_for() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("administrator").await);
    place.with_report(&client, &token).await;
    let files: Vec<Value> = [
        ("host-10", "tags = [\"hosts\"]"),
        ("host-2", "tags = [\"hosts\", \"daily\"]"),
    ]
    .into_iter()
    .map(|(name, more)| {
        let report = fixtures::report(name, "d")
            .lines(more)
            .daily_at("07:30", "runs = 3");
        json!({ "file": format!("{name}.toml"), "text": &*report })
    })
    .collect();
    let applied = client
        .post(place.url("/definitions/apply"))
        .bearer_auth(&token)
        .json(&json!({ "files": files }))
        .send()
        .await
        .unwrap();
    assert!(applied.status().is_success());
    let ask = async |query: &str| {
        let asked = client.get(place.url(&format!("/reports{query}")));
        let answer = asked.bearer_auth(&token).send().await.unwrap();
        (answer.status(), answer.json::<Value>().await.unwrap())
    };
    let names = async |query: &str| -> Vec<String> {
        let (status, page) = ask(query).await;
        assert_eq!(status, StatusCode::OK, "{query}: {page}");
        let items = page["items"].as_array().unwrap().iter();
        items
            .map(|one| one["name"].as_str().unwrap().to_owned())
            .collect()
    };
    assert_eq!(names("").await, ["host-2", "host-10", "r"]);
    assert_eq!(names("?size=2&page=2").await, ["r"]);
    assert_eq!(names("?page=9").await, Vec::<String>::new());
    assert_eq!(names("?words=HOST%202").await, ["host-2"]);
    assert_eq!(
        names("?tag=hosts&state=scheduled").await,
        ["host-2", "host-10"]
    );
    assert_eq!(names("?state=request").await, ["r"]);
    assert_eq!(names("?state=paused").await, Vec::<String>::new());
    let paused = client
        .post(place.url("/reports/host-10/pause"))
        .bearer_auth(&token);
    assert!(paused.send().await.unwrap().status().is_success());
    assert_eq!(names("?state=paused").await, ["host-10"]);
    // What is paused has no next run, so it comes after what has.
    assert_eq!(names("?order=next").await[0], "host-2");
    assert_eq!(names("?state=never").await.len(), 3);
    let run = client
        .post(place.url("/reports/r/runs"))
        .bearer_auth(&token)
        .json(&json!({ "deliver": false }));
    assert_eq!(run.send().await.unwrap().status(), StatusCode::ACCEPTED);
    assert_eq!(names("?order=last").await[0], "r");
    assert_eq!(names("?state=never").await, ["host-2", "host-10"]);
    let (_, page) = ask("?words=r%20d&size=1").await;
    assert_eq!(
        (&page["all"], &page["tags"]),
        (&json!(3), &json!(["daily", "hosts"]))
    );
    let (_, page) = ask("?order=last&size=1").await;
    assert_eq!(
        (
            &page["items"][0]["run_count"],
            &page["items"][0]["run_limit"]
        ),
        (&json!(1), &Value::Null)
    );
    let (_, page) = ask("?words=host-2").await;
    assert_eq!(page["items"][0]["run_limit"], 3);
    for (query, status, words) in [
        ("?state=asleep", StatusCode::UNPROCESSABLE_ENTITY, "asleep"),
        ("?order=colour", StatusCode::UNPROCESSABLE_ENTITY, "colour"),
        ("?page=first", StatusCode::BAD_REQUEST, "first"),
    ] {
        let (found, problem) = ask(query).await;
        assert_eq!(found, status, "{query}: {problem}");
        assert!(
            problem["detail"].as_str().unwrap().contains(words),
            "{problem}"
        );
    }
    let all = client
        .get(place.url("/report-names"))
        .bearer_auth(&token)
        .send()
        .await;
    let all: Value = all.unwrap().json().await.unwrap();
    assert_eq!(
        all[0],
        json!({ "name": "host-2", "title": "host-2", "time_zone": "UTC" })
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_an_address_does_not_know_is_refused_by_its_name() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("administrator").await);
    for (path, words) in [
        (
            "/runs?sizze=5",
            "this call takes no \"sizze\"; it takes page, report, size, state. Did you mean \"size\"?",
        ),
        ("/runs?page=1&size=5&x", "this call takes no \"x\""),
        (
            "/overview?days=3",
            "this call takes no \"days\", nor anything else",
        ),
        ("/audit?actionn=sign_in", "Did you mean \"action\"?"),
    ] {
        let answer = client.get(place.url(path)).bearer_auth(&token).send();
        let (status, said) = problem(answer.await.unwrap()).await;
        assert_eq!(status, StatusCode::BAD_REQUEST, "{path}");
        assert!(said.contains(words), "{path}: {said}");
    }
    // What is known is understood, and who is not signed in learns nothing.
    let known = client.get(place.url("/runs?page=1&size=5"));
    let known = known.bearer_auth(&token).send().await.unwrap();
    assert_eq!(known.status(), StatusCode::OK);
    let outside = client.get(place.url("/runs?sizze=5")).send().await.unwrap();
    assert_eq!(outside.status(), StatusCode::UNAUTHORIZED);
}
