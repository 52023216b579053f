//! The archive by the network interface: found, downloaded together, looked at.

use std::io::Read;

use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};

use super::{PATIENCE, Place, problem};

#[tokio::test(flavor = "multi_thread")]
async fn what_was_made_is_found_by_its_words_and_comes_together_with_a_list() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("administrator").await);
    place.with_report(&client, &token).await;
    let get = async |path: &str| {
        let request = client.get(place.url(path)).bearer_auth(&token);
        request.send().await.unwrap()
    };
    for _ in 0..2 {
        let order = client
            .post(place.url("/reports/r/runs"))
            .bearer_auth(&token);
        let order = order
            .json(&json!({ "deliver": false }))
            .send()
            .await
            .unwrap();
        assert_eq!(order.status(), StatusCode::ACCEPTED);
    }
    let began = std::time::Instant::now();
    let found = loop {
        // The table's title, and the title of its only column.
        let found: Value = get("/archive?words=Rows%20one&sort=oldest")
            .await
            .json()
            .await
            .unwrap();
        if found["total"] == 2 {
            break found;
        }
        assert!(began.elapsed() < PATIENCE, "{found:#}");
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    };
    let first = &found["items"][0];
    assert_eq!(
        (
            &first["report"],
            &first["title"],
            &first["status"],
            &first["sent"]
        ),
        (&json!("r"), &json!("R"), &json!("ok"), &json!(0))
    );
    let hits: Vec<&Value> = first["found"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["hit"] == true)
        .collect();
    assert!(
        hits.iter()
            .any(|one| { one["text"].as_str().unwrap().eq_ignore_ascii_case("one") }),
        "{first:#}"
    );
    for (query, count) in [
        ("words=nowhere", 0),
        ("report=r&format=csv", 2),
        ("format=pdf", 0),
        ("status=ok", 2),
        ("status=critical", 0),
        ("tag=none", 0),
        ("recipient=a@orrin-sound.example", 0),
        ("from=2020-01-01T00:00:00Z&to=2020-02-01T00:00:00Z", 0),
    ] {
        let found: Value = get(&format!("/archive?{query}"))
            .await
            .json()
            .await
            .unwrap();
        assert_eq!(found["total"], count, "{query}: {found:#}");
    }
    for (query, words) in [
        ("format=doc", "is not a format"),
        ("status=bad", "ok, unknown, warning, critical"),
        ("sort=up", "newest, oldest, largest and report"),
        ("about=noon", "not an instant"),
        ("at_least=big", "at_least"),
    ] {
        let (status, said) = problem(get(&format!("/archive?{query}")).await).await;
        assert!(
            status.is_client_error() && said.contains(words),
            "{query}: {status} {said}"
        );
    }

    let zip = get("/archive.zip?report=r").await;
    assert_eq!(zip.headers()["content-type"], "application/zip");
    let bytes = zip.bytes().await.unwrap().to_vec();
    let mut zip = zip::ZipArchive::new(std::io::Cursor::new(bytes)).unwrap();
    assert_eq!(zip.len(), 3);
    let mut manifest = String::new();
    zip.by_name("manifest.json")
        .unwrap()
        .read_to_string(&mut manifest)
        .unwrap();
    let manifest: Value = serde_json::from_str(&manifest).unwrap();
    for one in manifest["documents"].as_array().unwrap() {
        let name = format!(
            "{}/{}",
            one["run"].as_str().unwrap(),
            one["document"]["file_name"].as_str().unwrap()
        );
        let mut body = Vec::new();
        zip.by_name(&name).unwrap().read_to_end(&mut body).unwrap();
        let digest = maple_lark_data::digest::sha256(&body);
        assert_eq!(
            one["document"]["sha256"], digest,
            "it is the file of the list"
        );
    }
    let (status, _) = problem(get("/archive.zip?words=nowhere").await).await;
    assert_eq!(status, StatusCode::NOT_FOUND);

    let snapshot = first["document"]["snapshot_id"].as_str().unwrap();
    let front = get(&format!("/snapshots/{snapshot}/front")).await;
    assert_eq!(front.headers()["content-type"], "image/png");
    let png = front.bytes().await.unwrap();
    assert_eq!(&png[1..4], b"PNG");
    // A page of A4, a pixel to a point.
    let side = |at: usize| u32::from_be_bytes(png[at..at + 4].try_into().unwrap());
    assert_eq!((side(16), side(20)), (595, 842));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_days_of_the_archive_are_proved_one_by_one() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("administrator").await);
    let get = async |path: &str| {
        let request = client.get(place.url(path)).bearer_auth(&token);
        request.send().await.unwrap()
    };
    let days = async || -> Value { get("/archive/days").await.json().await.unwrap() };
    assert_eq!(days().await["total"], 0);
    assert_eq!(get("/archive/days/2026-11-27").await.status(), 404);
    let (status, words) = problem(get("/archive/days/yesterday").await).await;
    assert_eq!(status, 422);
    assert!(words.contains("is not a day such as"), "{words}");

    // A document of a day that is over.
    place.with_report(&client, &token).await;
    let order = client
        .post(place.url("/reports/r/runs"))
        .bearer_auth(&token);
    let order = order.json(&json!({ "deliver": false }));
    assert_eq!(order.send().await.unwrap().status(), StatusCode::ACCEPTED);
    let began = std::time::Instant::now();
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    let older = "update documents set created_at = created_at - interval '2 days'";
    while sqlx::Executor::execute(&mut records, older)
        .await
        .unwrap()
        .rows_affected()
        == 0
    {
        assert!(began.elapsed() < PATIENCE);
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    let secret = place.cluster.role("maple_lark").await.unwrap();
    let url = place.cluster.url_for("maple_lark", &secret, "maple_lark");
    let store = maple_lark_store::Store::open(&url, 1).await.unwrap();
    let now = chrono::Utc::now();
    while store.seal_day(now, now).await.unwrap() {}
    let all = days().await;
    let first = all["items"].as_array().unwrap().last().unwrap();
    assert_eq!(
        (&first["documents"], &first["intact"]),
        (&json!(1), &json!(true))
    );
    let path = format!("/archive/days/{}", first["day"].as_str().unwrap());
    let proof: Value = get(&path).await.json().await.unwrap();
    assert_eq!(proof["intact"], true, "{proof}");
    sqlx::Executor::execute(&mut records, "update documents set body = 'other'")
        .await
        .unwrap();
    let proof: Value = get(&path).await.json().await.unwrap();
    assert_eq!(proof["intact"], false);
    assert_eq!(proof["altered"].as_array().unwrap().len(), 1, "{proof}");
    // What is made from now on says how the archive was.
    let order = client
        .post(place.url("/reports/r/runs"))
        .bearer_auth(&token);
    let order = order.json(&json!({ "deliver": false }));
    let run: Value = order.send().await.unwrap().json().await.unwrap();
    let began = std::time::Instant::now();
    let made: Value = loop {
        let now: Value = get(&format!("/runs/{}", run["id"].as_str().unwrap()))
            .await
            .json()
            .await
            .unwrap();
        if now["settled"] == true {
            break now;
        }
        assert!(began.elapsed() < PATIENCE, "{now}");
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    };
    let snapshot = made["snapshots"][0]["id"].as_str().unwrap();
    let text = get(&format!("/snapshots/{snapshot}/documents/txt")).await;
    let text = text.text().await.unwrap();
    let head = all["items"][0]["sha256"].as_str().unwrap();
    assert!(text.contains(head), "{text}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_says_what_new_terms_of_a_report_let_go() {
    let place = Place::new().await;
    let admin = place.admin().await;
    place.with_report(&admin.client, &admin.token).await;
    for _ in 0..3 {
        admin.ran("r", false).await;
    }
    let path = "/definitions/report/r";
    let definition = admin.done(Method::GET, path, json!({})).await;
    let planned = async |more: &str| {
        let text = format!("{}{more}", definition["text"].as_str().unwrap());
        let files = json!({ "files": [{ "file": definition["file"], "text": text }] });
        let plan = admin.done(Method::POST, "/definitions/plan", files).await;
        plan["changes"][0].clone()
    };
    let change = planned("\n[keep]\nmost-runs = 1\n").await;
    let said = change["lets_go"].as_str().unwrap();
    assert!(said.starts_with("the documents of 2 runs ("), "{said}");
    let keys = json!({ "keys": { "keep": { "most-runs": 1 } } });
    let by_key = admin.done(Method::POST, "/definitions/report/r/plan", keys);
    assert_eq!(by_key.await["changes"][0]["lets_go"], said);
    let change = planned("\n[keep]\nmost-runs = 3\n").await;
    assert_eq!(
        (&change["action"], &change["lets_go"]),
        (&json!("alter"), &Value::Null)
    );
    // What is the same as before lets nothing go.
    assert_eq!(planned("").await, Value::Null);
}
