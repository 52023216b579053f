//! Two versions on one database, while one takes over from the other.
//!
//! `make test-upgrade` builds the program of an earlier version and runs this; MAPLE_LARK_BEFORE says where it is.

use std::{
    collections::BTreeMap,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

use mail_parser::MessageParser;
use serde_json::{Value, json};
use sqlx::{Executor, PgConnection};

use crate::place::{PATIENCE, Place, Service, small_report, until};

/// So many runs each version works on while both are there.
const EACH: usize = 8;

/// Orders runs by turns of the addresses that are there, until it is told to stop.
fn ordering(place: &Place, addresses: Vec<String>) -> (Arc<AtomicBool>, Orders) {
    let stop = Arc::new(AtomicBool::new(false));
    let (told, token) = (Arc::clone(&stop), place.token());
    let orders = tokio::spawn(async move {
        let client = reqwest::Client::new();
        let mut runs = Vec::new();
        for address in addresses.iter().cycle() {
            if told.load(Ordering::Relaxed) {
                break;
            }
            let ordered = client
                .post(format!("http://{address}/api/v1/reports/small/runs"))
                .bearer_auth(&token)
                .json(&json!({}))
                .send();
            let ordered = ordered.await.unwrap().error_for_status().unwrap();
            let run: Value = ordered.json().await.unwrap();
            runs.push(run["id"].as_str().unwrap().to_owned());
            tokio::time::sleep(Duration::from_millis(150)).await;
        }
        runs
    });
    (stop, orders)
}

type Orders = tokio::task::JoinHandle<Vec<String>>;

async fn count(records: &mut PgConnection, what: &'static str) -> i64 {
    sqlx::query_scalar(what).fetch_one(records).await.unwrap()
}

/// How many runs a process has put into the outbox.
fn worked_on(service: &Service) -> usize {
    service
        .log()
        .matches("deliveries are in the outbox")
        .count()
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs the program of an earlier version: make test-upgrade"]
async fn two_versions_work_side_by_side_while_one_takes_over() {
    let program = std::env::var("MAPLE_LARK_BEFORE").expect("MAPLE_LARK_BEFORE names a program");
    let place = Place::new().await;
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    records
        .execute("drop schema public cascade; create schema public authorization maple_lark")
        .await
        .unwrap();
    let steps = "select count(*) from seaql_migrations";
    let old = place.serve_by(&program);
    let known = count(&mut records, steps).await;
    place.sign_in();
    place.apply_small(&small_report().list("formats", &["pdf"]));
    let mut ordered = Vec::new();

    // The version before works, the new one comes, both work.
    let (stop, orders) = ordering(&place, vec![old.address.clone()]);
    until("the first runs", || (worked_on(&old) >= EACH).then_some(()));
    let new = place.serve_another();
    stop.store(true, Ordering::Relaxed);
    ordered.extend(orders.await.unwrap());
    // Whoever takes an order is the first to know of it, so both are asked.
    let (stop, orders) = ordering(&place, vec![old.address.clone(), new.address.clone()]);
    let before = worked_on(&old);
    until("runs of both", || {
        (worked_on(&old) >= before + EACH && worked_on(&new) >= EACH).then_some(())
    });
    stop.store(true, Ordering::Relaxed);
    ordered.extend(orders.await.unwrap());

    // The version before goes while there is work, and the new one does it alone.
    let (stop, orders) = ordering(&place, vec![new.address.clone()]);
    let log = old.log.clone();
    assert!(old.stop().success());
    let alone = worked_on(&new);
    until("runs of the new one", || {
        (worked_on(&new) >= alone + EACH).then_some(())
    });
    stop.store(true, Ordering::Relaxed);
    ordered.extend(orders.await.unwrap());

    let all = ordered.len() as i64;
    let delivered = "select count(*) from runs where report = 'small' and state = 'delivered'";
    let began = Instant::now();
    while count(&mut records, delivered).await < all {
        assert!(
            began.elapsed() < PATIENCE,
            "the last delivery does not come"
        );
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let log = std::fs::read_to_string(log).unwrap();
    for said in [&log, &new.log()] {
        let wrong = said.lines().find(|line| line.contains("ERROR"));
        assert_eq!(wrong, None, "in what one of them said");
    }
    // Each reached each recipient once.
    let mut mails: BTreeMap<String, usize> = BTreeMap::new();
    for mail in place.mail.messages() {
        let read = MessageParser::default().parse(&mail).unwrap();
        let id = read.message_id().unwrap().to_owned();
        *mails.entry(id).or_default() += 1;
    }
    assert_eq!(mails.len(), ordered.len() * 2);
    assert!(mails.values().all(|count| *count == 1), "{mails:?}");

    // One that is started again now does not know these tables, and says so.
    drop(new);
    if known == count(&mut records, steps).await {
        drop(place.serve_by(&program));
        return;
    }
    let (ended, said) = place.refuses_to_serve(&program);
    assert!(!ended.success());
    assert!(
        said.contains("a newer version of Maple Lark changed its tables"),
        "{said}"
    );
}
