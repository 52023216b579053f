//! A process that is killed anywhere loses nothing and sends nothing twice.
//!
//! To kill it at a known step, a test holds a lock on the table that the step writes next:
//! the service comes to the step, waits, and dies there.

use std::time::{Duration, Instant};

use sqlx::{AssertSqlSafe, Connection, Executor, PgConnection};

use crate::place::{
    PATIENCE, Place, applied, message_ids, operations, small_dashboard, small_report,
    small_report_for, wait_for,
};

async fn count(connection: &mut PgConnection, sql: &'static str) -> i64 {
    sqlx::query_scalar(sql).fetch_one(connection).await.unwrap()
}

/// Waits until some session waits for a lock.
async fn somebody_waits(connection: &mut PgConnection) {
    let began = Instant::now();
    while count(
        connection,
        "select count(*) from pg_locks where not granted",
    )
    .await
        == 0
    {
        assert!(
            began.elapsed() < PATIENCE,
            "nobody comes to the locked table"
        );
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_process_killed_at_any_step_leaves_a_run_that_is_finished_once() {
    let place = Place::new().await;
    let service = place.serve();
    place.sign_in();
    place.apply_small(&small_report());
    drop(service);
    let mut watch = place.records().await;
    for (round, table) in [
        "run_steps",
        "snapshots",
        "documents",
        "deliveries",
        "delivery_attempts",
    ]
    .into_iter()
    .enumerate()
    {
        let mut holder = place.records().await;
        let service = place.serve();
        let mut lock = holder.begin().await.unwrap();
        lock.execute(AssertSqlSafe(format!(
            "lock table {table} in share row exclusive mode"
        )))
        .await
        .unwrap();
        let id = place.json(&["run", "small", "--detach"])["id"]
            .as_str()
            .unwrap()
            .to_owned();
        somebody_waits(&mut watch).await;
        service.kill();
        // The killed process's own statements end with it.
        watch
            .execute("select pg_terminate_backend(pid) from pg_locks where not granted")
            .await
            .unwrap();
        lock.rollback().await.unwrap();

        let _service = place.serve();
        let run = place.settled(&id);
        assert_eq!(
            run["state"], "delivered",
            "killed before writing {table}: {run:#}"
        );
        assert_eq!(run["snapshots"].as_array().unwrap().len(), 1);
        assert_eq!(run["documents"].as_array().unwrap().len(), 3);
        assert_eq!(run["deliveries"].as_array().unwrap().len(), 2);
        assert_eq!(
            message_ids(&place).len(),
            2 * (round + 1),
            "killed before writing {table}"
        );
    }
    let mut ids = message_ids(&place);
    ids.sort();
    ids.dedup();
    assert_eq!(ids.len(), 10, "every mail has an id of its own");
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_between_acceptance_and_its_record_the_same_message_id_is_used() {
    let place = Place::new().await;
    let service = place.serve();
    place.sign_in();
    place.apply_small(&small_report_for("a@orrin-sound.example"));
    let mut watch = place.records().await;
    // The server keeps the message and only then says so, much later than the kill.
    place
        .mail
        .behave(|behaviour| behaviour.slow = Duration::from_secs(600));
    let id = place.json(&["run", "small", "--detach"])["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let began = Instant::now();
    while place.mail.messages().is_empty() {
        assert!(began.elapsed() < PATIENCE);
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    service.kill();
    place
        .mail
        .behave(|behaviour| behaviour.slow = Duration::ZERO);
    let _service = place.serve();
    let run = place.settled(&id);
    assert_eq!(run["state"], "delivered");
    let ids = message_ids(&place);
    assert_eq!(
        (ids.len(), &ids[0]),
        (2, &ids[1]),
        "the one ambiguous case is sent again under the same id"
    );
    let outcomes: Vec<&str> = run["deliveries"][0]["attempts"]
        .as_array()
        .unwrap()
        .iter()
        .map(|attempt| attempt["outcome"].as_str().unwrap())
        .collect();
    assert_eq!(outcomes, ["unknown", "accepted"], "and it is on record");
    assert_eq!(count(&mut watch, "select count(*) from runs").await, 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_process_told_to_stop_releases_what_it_holds() {
    let place = Place::new().await;
    let service = place.serve();
    place.sign_in();
    place.apply_small(&small_report());
    assert_eq!(place.json(&["run", "small"])["state"], "delivered");
    assert!(service.stop().success());
    let mut watch = place.records().await;
    assert_eq!(
        count(
            &mut watch,
            "select count(*) from runs where lease_owner is not null"
        )
        .await,
        0
    );
    assert_eq!(
        count(
            &mut watch,
            "select count(*) from deliveries where lease_owner is not null"
        )
        .await,
        0
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_process_told_to_stop_does_so_whatever_a_source_or_a_mail_server_does() {
    let place = Place::new().await;
    let service = place.serve();
    place.sign_in();
    place.apply_small(&small_report());
    // Both would go on for far longer than anybody waits.
    place
        .mail
        .behave(|behaviour| behaviour.slow = Duration::from_secs(600));
    let sending = place.json(&["run", "small", "--detach"]);
    let mut watch = place.records().await;
    let began = Instant::now();
    while place.mail.messages().is_empty() {
        assert!(began.elapsed() < PATIENCE);
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let source = operations().key("timeout", "PT10M");
    let dashboard = small_dashboard("select pg_sleep(600)::text as nap");
    applied(
        &place,
        &[("source.toml", &source), ("dashboard.toml", &dashboard)],
    );
    let asking = place.json(&["run", "small", "--detach"]);
    let began = Instant::now();
    let asked = "select count(*) from pg_stat_activity where datname like 'orrin_ops_%' and query like '%pg_sleep(600)%' and pid <> pg_backend_pid()";
    while count(&mut watch, asked).await == 0 {
        assert!(began.elapsed() < PATIENCE);
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let began = Instant::now();
    assert!(service.stop().success());
    assert!(began.elapsed() < PATIENCE);
    let held = "select (select count(*) from runs where lease_owner is not null) + (select count(*) from deliveries where lease_owner is not null) \
                + (select count(*) from delivery_attempts where ended_at is null)";
    assert_eq!(count(&mut watch, held).await, 0);
    // Another goes on: with the mail that may have arrived, and with the question.
    place
        .mail
        .behave(|behaviour| behaviour.slow = Duration::ZERO);
    let _service = place.serve();
    let run = place.settled(sending["id"].as_str().unwrap());
    assert_eq!(run["state"], "delivered");
    let id = asking["id"].as_str().unwrap();
    wait_for(&place, id, "collecting", |run| run["state"] == "collecting");
    assert!(place.lark(&["cancel", id]).status.success());
}
