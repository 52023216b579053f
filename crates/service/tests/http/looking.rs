//! Whoever looks at something takes nothing from the work: nobody has to wait for tries, and what
//! nobody waits for ends.

use std::time::Instant;

use reqwest::Client;
use serde_json::{Value, json};
use sqlx::{PgConnection, Row};

use super::{PATIENCE, Place};

async fn asking(connection: &mut PgConnection) -> i64 {
    let sql = "select count(*) as n from pg_stat_activity where query like '%pg_sleep(600)%' and state = 'active' and pid <> pg_backend_pid()";
    sqlx::query(sql)
        .fetch_one(connection)
        .await
        .unwrap()
        .get("n")
}

#[tokio::test(flavor = "multi_thread")]
async fn tries_keep_no_run_waiting_and_end_at_the_source_when_their_client_has_gone() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("administrator").await);
    place.with_report(&client, &token).await;
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    let began = Instant::now();
    let tries: Vec<_> = (0..24)
        .map(|_| {
            let order = json!({ "definition": "[query]\nsource = \"plain\"\nsql = \"select pg_sleep(600)::text\"\n" });
            let sent = client
                .post(place.url("/queries/try"))
                .bearer_auth(&token)
                .json(&order)
                .send();
            tokio::spawn(sent)
        })
        .collect();
    while asking(&mut records).await == 0 {
        assert!(began.elapsed() < PATIENCE, "nobody asks");
    }

    let order = client
        .post(place.url("/reports/r/runs"))
        .bearer_auth(&token)
        .json(&json!({ "deliver": false }))
        .send()
        .await
        .unwrap();
    let run: Value = order.json().await.unwrap();
    let id = run["id"].as_str().unwrap_or_else(|| panic!("{run:#}"));
    loop {
        let state: String = sqlx::query("select state from runs where id::text = $1")
            .bind(id)
            .fetch_one(&mut records)
            .await
            .unwrap()
            .get("state");
        if state == "completed" {
            break;
        }
        assert!(state != "failed" && began.elapsed() < PATIENCE, "{state}");
    }
    assert_eq!(
        asking(&mut records).await,
        1,
        "the tries take turns, and are still there"
    );

    for one in tries {
        one.abort();
    }
    while asking(&mut records).await > 0 {
        assert!(began.elapsed() < PATIENCE, "the source is still asked");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_try_shows_the_beginning_of_a_long_cell_and_refuses_what_has_too_many_steps() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("administrator").await);
    place.with_report(&client, &token).await;
    let tried = async |order: Value| {
        let answer = client
            .post(place.url("/queries/try"))
            .bearer_auth(&token)
            .json(&order)
            .send()
            .await
            .unwrap();
        answer.json::<Value>().await.unwrap()
    };
    let query =
        |sql: &str| format!("[query]\nsource = \"plain\"\nstep = \"PT1M\"\nsql = \"{sql}\"\n");
    let answer =
        tried(json!({ "definition": query("select repeat('ä', 5000000) as long, 1 as short") }))
            .await;
    let cell = answer["rows"][0][0]
        .as_str()
        .unwrap_or_else(|| panic!("{answer:#}"));
    assert!(
        cell.len() < 5_000 && cell.ends_with("… (5000000 characters)"),
        "{}",
        cell.len()
    );
    assert_eq!(answer["rows"][0][1], "1");
    let century = json!({
        "definition": query("select count(*) from unnest(:steps::timestamptz[]) s"),
        "from": "1926-01-01T00:00:00Z",
        "to": "2026-01-01T00:00:00Z",
    });
    let detail = tried(century).await["detail"].as_str().unwrap().to_owned();
    assert!(
        detail.contains("more than 100000 steps of PT1M; set a longer step"),
        "{detail}"
    );
}

/// What somebody has to see to stands first, however much went well meanwhile.
#[tokio::test(flavor = "multi_thread")]
async fn what_waits_for_somebody_or_has_failed_is_not_overlooked() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("administrator").await);
    place.with_report(&client, &token).await;
    let get = async |path: &str| -> Value {
        let request = client.get(place.url(path)).bearer_auth(&token);
        request.send().await.unwrap().json().await.unwrap()
    };
    let mut ids = Vec::new();
    for _ in 0..3 {
        let order = client
            .post(place.url("/reports/r/runs"))
            .bearer_auth(&token)
            .json(&json!({ "deliver": false }));
        let run: Value = order.send().await.unwrap().json().await.unwrap();
        ids.push(run["id"].as_str().unwrap().to_owned());
    }
    // The first waits for a look since days, the second failed just now, the third went well after it.
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    for (id, state, status, days) in [
        (&ids[0], "awaiting-approval", "critical", 3),
        (&ids[1], "failed", "ok", 0),
        (&ids[2], "delivered", "warning", 0),
    ] {
        let set = "update runs set state = $2, status = $3, lease_owner = null, lease_until = null, created_at = now() - make_interval(days => $4), scheduled_for = now() - make_interval(days => $4) where id::text = $1";
        sqlx::query(set)
            .bind(id)
            .bind(state)
            .bind(status)
            .bind(days)
            .execute(&mut records)
            .await
            .unwrap();
    }
    let overview = get("/overview").await;
    assert_eq!(overview["status"], "warning");
    assert_eq!(
        overview["sentence"],
        "1 run went out in the last 24 hours. 1 run awaits approval."
    );
    let attention = overview["attention"].as_array().unwrap();
    let states: Vec<_> = attention
        .iter()
        .map(|run| (&run["id"], &run["state"], &run["status"]))
        .collect();
    assert_eq!(
        states,
        [(
            &json!(ids[0]),
            &json!("awaiting-approval"),
            &json!("critical")
        )]
    );
    let today = chrono::Utc::now().date_naive();
    let (from, to) = (today - chrono::Days::new(1), today + chrono::Days::new(2));
    let agenda = get(&format!("/agenda?from={from}&to={to}&time_zone=UTC")).await;
    let days = agenda["days"].as_array().unwrap();
    let busy = days
        .iter()
        .filter_map(|day| day["entries"].as_array())
        .find(|entries| entries.iter().any(|entry| entry["state"] == "failed"))
        .unwrap_or_else(|| panic!("{agenda:#}"));
    let states: Vec<_> = busy
        .iter()
        .map(|entry| (&entry["state"], &entry["status"]))
        .collect();
    assert_eq!(
        states,
        [
            (&json!("failed"), &json!("ok")),
            (&json!("delivered"), &json!("warning"))
        ]
    );
}
