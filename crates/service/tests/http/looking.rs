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
