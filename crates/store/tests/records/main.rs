//! Records in a real PostgreSQL server: who gets which work, and what is left when something
//! fails between two steps.

#![allow(
    clippy::too_many_lines,
    reason = "a test tells one story from its beginning to its end"
)]

use maple_lark_api::{
    Cause, ChannelType, DeliveryState, Format, NoticeKind, RecipientRole, RunState, SavedFrom,
    Words,
};
mod archive;
mod archive_chain;
mod bounds;
mod deliveries;
mod directory;
mod fences;
mod history;
mod keeping;
mod kept;
mod many;
mod outside;
mod pictures;
mod restored;
mod run_hours;
mod run_lines;
mod status;
mod teams;
mod telemetry;
mod upgrades;

use chrono::TimeDelta;
use maple_lark_demo::TestCluster;
use maple_lark_store::{
    Store, StoreError,
    claims::{AttemptClaim, Claim},
    definitions::{Change, Rule, Saved, StoredDefinition},
    deliveries::{Copy, Delivery, Ended, Ending},
    documents::{Document, StoredSnapshot},
    entity::Time,
    pictures::Pictures,
    runs::{NewRun, Run, RunFilter},
    schedule::Due,
    teams::Sight,
};
use uuid::Uuid;

struct Place {
    store: Store,
    cluster: TestCluster,
    url: String,
}

impl std::ops::Deref for Place {
    type Target = Store;

    fn deref(&self) -> &Store {
        &self.store
    }
}

const LEASE: TimeDelta = TimeDelta::seconds(60);

fn at(seconds: i64) -> Time {
    Time::from_timestamp(1_790_000_000 + seconds, 0).unwrap()
}

impl Place {
    async fn new() -> Self {
        let cluster = TestCluster::new().await.unwrap();
        let tables = async |_, owner: String| {
            Store::open(&owner, 1).await?;
            Ok(())
        };
        let secret = cluster
            .copy("maple_lark_tables", "maple_lark", "maple_lark", tables)
            .await
            .unwrap();
        let url = cluster.url_for("maple_lark", &secret, "maple_lark");
        Self {
            store: Store::open(&url, 4).await.unwrap(),
            cluster,
            url,
        }
    }

    /// One attempt that ends by itself.
    async fn end_attempt(
        &self,
        claim: AttemptClaim,
        ending: &Ending,
        now: Time,
    ) -> Result<(), StoreError> {
        let ended = Ended {
            claim,
            ending: ending.clone(),
        };
        let written = self.end_attempts(&[ended], now).await?;
        if written.contains(&claim.delivery) {
            Ok(())
        } else {
            Err(StoreError::LeaseLost(claim.delivery))
        }
    }

    async fn new_run(&self, report: &str, seconds: i64) -> Uuid {
        let id = Uuid::now_v7();
        self.add_run(&run(id, report, seconds)).await.unwrap();
        id
    }

    async fn state(&self, id: Uuid) -> (String, Option<String>) {
        let run = self.run(id).await.unwrap().unwrap();
        (run.state.word().to_owned(), run.problem)
    }

    /// A run with `count` deliveries in the outbox.
    async fn delivering(&self, owner: Uuid, count: usize) -> (Run, Uuid) {
        self.delivering_of("daily", owner, count).await
    }

    /// Sends a run that is being rendered to one recipient, who accepts it.
    async fn deliver_at(&self, run: &Run, owner: Uuid, now: Time) {
        let snapshot = snapshot(run.id, b"{}".to_vec());
        let snapshot_id = snapshot.id;
        self.keep_snapshot(run.claim(), snapshot, &Pictures::new(), None)
            .await
            .unwrap();
        let one = delivery(run, snapshot_id, "p@orrin-sound.example", "");
        self.enqueue(run.claim(), &[one]).await.unwrap();
        let claimed = self
            .claim_deliveries(owner, now, LEASE, 10, &[], &[])
            .await
            .unwrap();
        for (_, attempt) in &claimed {
            self.end_attempt(*attempt, &accepted(), now).await.unwrap();
        }
    }

    async fn delivering_of(&self, report: &str, owner: Uuid, count: usize) -> (Run, Uuid) {
        let id = self.new_run(report, 0).await;
        let run = self
            .claim_run(owner, at(0), LEASE, &[], None)
            .await
            .unwrap()
            .unwrap();
        assert_eq!(run.id, id);
        let snapshot = snapshot(id, b"{}".to_vec());
        let snapshot_id = snapshot.id;
        self.keep_snapshot(run.claim(), snapshot, &Pictures::new(), None)
            .await
            .unwrap();
        self.set_run_state(run.claim(), RunState::Collecting, None, at(0))
            .await
            .unwrap();
        self.set_run_state(run.claim(), RunState::Rendering, None, at(0))
            .await
            .unwrap();
        let deliveries: Vec<_> = (0..count)
            .map(|n| delivery(&run, snapshot_id, &format!("p{n}@orrin-sound.example"), ""))
            .collect();
        self.enqueue(run.claim(), &deliveries).await.unwrap();
        (run, snapshot_id)
    }
}

fn saved() -> Saved {
    Saved {
        at: at(0),
        by: "ann".into(),
        from: SavedFrom::Api,
        message: None,
    }
}

/// A change of nothing.
fn change() -> Change {
    Change {
        based_on: 0,
        paused: Vec::new(),
        put: Vec::new(),
        remove: Vec::new(),
        schedules: Vec::new(),
        saved: saved(),
    }
}

#[tokio::test]
async fn two_processes_that_start_at_once_bring_the_tables_up_to_date_in_turns() {
    let cluster = TestCluster::new().await.unwrap();
    let secret = cluster.database("empty", "maple_lark").await.unwrap();
    let url = cluster.url_for("maple_lark", &secret, "empty");
    let (one, other) = tokio::join!(Store::open(&url, 4), Store::open(&url, 4));
    assert!(one.unwrap().ready().await.unwrap() && other.unwrap().ready().await.unwrap());
}

fn run(id: Uuid, report: &str, seconds: i64) -> NewRun {
    NewRun {
        id,
        team: String::new(),
        report: report.into(),
        title: report.into(),
        scheduled_for: at(seconds),
        cause: Cause::Schedule,
        requested_by: None,
        deliver: true,
        state: RunState::Due,
        definitions: Default::default(),
        window_from: at(seconds - 3600),
        window_to: at(seconds),
        time_zone: "UTC".into(),
        skipped: 0,
        may_overlap: false,
        within: None,
        only_to: None,
        doubt: None,
        created_at: at(seconds),
    }
}

fn snapshot(run_id: Uuid, body: Vec<u8>) -> StoredSnapshot {
    StoredSnapshot {
        id: Uuid::now_v7(),
        run_id,
        values_key: "k".into(),
        sha256: "s".into(),
        body,
        created_at: at(0),
        status: None,
        quiet: None,
        shown: Some(serde_json::json!(["havnes"])),
        chosen: None,
        removed_at: None,
    }
}

fn document(run_id: Uuid, snapshot_id: Uuid, file_name: &str, body: Vec<u8>) -> Document {
    Document {
        id: Uuid::now_v7(),
        run_id,
        snapshot_id,
        format: Format::Csv.into(),
        file_name: file_name.into(),
        media_type: "text/csv".into(),
        sha256: format!("of {file_name}"),
        size: body.len() as i64,
        body,
        created_at: at(0),
        variant: String::new(),
        removed_at: None,
    }
}

fn delivery(run: &Run, snapshot_id: Uuid, recipient: &str, via: &str) -> Delivery {
    let id = Uuid::now_v7();
    Delivery {
        id,
        run_id: run.id,
        snapshot_id,
        audience: "all".into(),
        channel: ChannelType::Mail.into(),
        recipient: recipient.into(),
        state: DeliveryState::Waiting.into(),
        message_id: format!("{id}@orrin-sound.example"),
        next_attempt_at: at(0),
        problem: None,
        lease_owner: None,
        lease_until: None,
        lease_process: None,
        created_at: at(0),
        settled_at: None,
        via: via.into(),
        role: RecipientRole::To.into(),
        variant: String::new(),
        copy: 0,
        note: None,
        requested_by: None,
        held_up: false,
    }
}

fn accepted() -> Ending {
    Ending::Accepted {
        answer: "250 taken".into(),
    }
}

fn refused() -> Ending {
    Ending::Refused {
        answer: "550 unknown".into(),
    }
}

/// Bytes without a pattern that a mistake in their order would keep.
fn bytes(length: usize) -> Vec<u8> {
    (0..length)
        .map(|i| (i as u32).wrapping_mul(2_654_435_761).to_be_bytes()[0])
        .collect()
}

#[tokio::test]
async fn bodies_of_any_length_come_back_as_they_were_and_the_first_one_stays() {
    const MEBIBYTE: usize = 1 << 20;
    let place = Place::new().await;
    for (n, length) in [
        0,
        1,
        MEBIBYTE - 1,
        MEBIBYTE,
        MEBIBYTE + 1,
        3 * MEBIBYTE,
        5 * MEBIBYTE + 7,
    ]
    .into_iter()
    .enumerate()
    {
        let id = place.new_run(&format!("r{n}"), n as i64).await;
        let run = place
            .claim_run(Uuid::now_v7(), at(10), LEASE, &[], None)
            .await;
        let claim = run.unwrap().unwrap().claim();
        let first = snapshot(id, bytes(length));
        place
            .keep_snapshot(claim, first.clone(), &Pictures::new(), None)
            .await
            .unwrap();
        // Made again after a crash, it is the one that was kept first that counts.
        place
            .keep_snapshot(
                claim,
                snapshot(id, bytes(2 * MEBIBYTE)),
                &Pictures::new(),
                None,
            )
            .await
            .unwrap();
        let [head] = &place.snapshot_heads(id).await.unwrap()[..] else {
            panic!()
        };
        assert_eq!(head.id, first.id);
        assert!(
            place.snapshot(first.id).await.unwrap().unwrap() == first,
            "{length}"
        );

        let documents =
            ["a.csv", "b.csv"].map(|name| document(id, first.id, name, bytes(length + 3)));
        place
            .keep_documents(claim, documents.to_vec(), None)
            .await
            .unwrap();
        place
            .keep_documents(
                claim,
                vec![document(id, first.id, "a.csv", bytes(2 * MEBIBYTE))],
                None,
            )
            .await
            .unwrap();
        assert!(
            place.documents_of_snapshot(first.id, "").await.unwrap() == documents,
            "{length}"
        );
        assert!(place.document(documents[1].id).await.unwrap().unwrap() == documents[1]);
        assert!(
            place
                .document_with("of a.csv", &Sight::All)
                .await
                .unwrap()
                .is_some()
        );
    }
    assert!(place.snapshot(Uuid::now_v7()).await.unwrap().is_none());
    assert!(place.document(Uuid::now_v7()).await.unwrap().is_none());
}

#[tokio::test]
async fn however_many_rows_are_kept_all_of_them_are_or_none_is() {
    let place = Place::new().await;
    let id = place.new_run("daily", 0).await;
    let run = place.claim_run(Uuid::now_v7(), at(10), LEASE, &[], None);
    let run = run.await.unwrap().unwrap();
    let one = snapshot(id, bytes(9));
    place
        .keep_snapshot(run.claim(), one.clone(), &Pictures::new(), None)
        .await
        .unwrap();
    // Together they are too long for one statement, and each for itself is not.
    let files: Vec<_> = (0..6)
        .map(|n| document(id, one.id, &format!("{n}.csv"), bytes(900_000 + n)))
        .collect();
    place
        .keep_documents(run.claim(), files.clone(), None)
        .await
        .unwrap();
    assert!(place.documents_of_snapshot(one.id, "").await.unwrap() == files);
    // More than one statement takes: under a claim that is lost none of them is there.
    let many: Vec<_> = (0..1_203)
        .map(|n| delivery(&run, one.id, &format!("p{n}@orrin-sound.example"), ""))
        .collect();
    place
        .set_run_state(run.claim(), RunState::Collecting, None, at(11))
        .await
        .unwrap();
    place
        .set_run_state(run.claim(), RunState::Rendering, None, at(12))
        .await
        .unwrap();
    let lost = Claim {
        token: Uuid::now_v7(),
        ..run.claim()
    };
    assert!(place.enqueue(lost, &many).await.is_err());
    assert!(place.deliveries(id).await.unwrap().is_empty());
    place.enqueue(run.claim(), &many).await.unwrap();
    assert_eq!(place.deliveries(id).await.unwrap().len(), many.len());
    assert_eq!(place.state(id).await.0, "delivering");
}

#[tokio::test]
async fn a_run_has_one_owner_and_a_report_one_run_at_a_time() {
    let place = Place::new().await;
    let (one, other) = (Uuid::now_v7(), Uuid::now_v7());
    let (first, second, third) = (
        place.new_run("daily", 0).await,
        place.new_run("daily", 1).await,
        place.new_run("weekly", 2).await,
    );
    let claimed = async |owner, seconds| {
        place
            .claim_run(owner, at(seconds), LEASE, &[], None)
            .await
            .unwrap()
            .map(|run| run.id)
    };
    let claim_of = async |run| place.run(run).await.unwrap().unwrap().claim();
    assert_eq!(claimed(one, 10).await, Some(first));
    let of_one = claim_of(first).await;
    // The second run of the report waits for the first; another report does not.
    assert_eq!(claimed(other, 10).await, Some(third));
    assert_eq!(claimed(other, 10).await, None);
    place.renew_run(of_one, at(200)).await.unwrap();
    assert_eq!(
        claimed(other, 100).await,
        Some(third),
        "the lease on the third was not renewed"
    );
    // Who has lost a lease can write nothing any more.
    assert!(
        matches!(place.set_run_state(Claim { run: third, token: of_one.token }, RunState::Rendering, None, at(100)).await, Err(StoreError::LeaseLost(id)) if id == third)
    );
    assert_eq!(
        claimed(other, 300).await,
        Some(first),
        "its owner is silent"
    );
    assert!(matches!(
        place.renew_run(of_one, at(500)).await,
        Err(StoreError::LeaseLost(_))
    ));
    place
        .set_run_state(claim_of(first).await, RunState::Failed, Some("no"), at(301))
        .await
        .unwrap();
    assert_eq!(
        place.state(first).await,
        ("failed".into(), Some("no".into()))
    );
    assert_eq!(claimed(one, 302).await, Some(second));
    // A process that stops lets go of all it has.
    place.release_all(one, at(302)).await.unwrap();
    assert_eq!(claimed(other, 303).await, Some(second));
}

#[tokio::test]
async fn one_instant_of_a_schedule_makes_one_run_whoever_asks() {
    let place = Place::new().await;
    let change = Change {
        based_on: place.definitions_version().await.unwrap(),
        paused: Vec::new(),
        put: vec![StoredDefinition {
            kind: "report".into(),
            name: "daily".into(),
            title: "Daily".into(),
            file: "daily.toml".into(),
            text: "[report]".into(),
            updated_at: at(0),
            updated_by: "ops".into(),
        }],
        remove: Vec::new(),
        schedules: vec![Rule {
            report: "daily".into(),
            rule: "every day".into(),
            first: Some(at(100)),
            most_runs: None,
        }],
        saved: saved(),
    };
    place.change_definitions(change).await.unwrap();
    assert_eq!(place.first_due().await.unwrap(), Some(at(100)));
    let due = async |now: i64| {
        place
            .take_due(at(now), |state| Due {
                runs: vec![run(Uuid::now_v7(), &state.report, 100)],
                next: Some(at(200)),
            })
            .await
    };
    let (one, other) = tokio::join!(due(100), due(100));
    assert_eq!(one.unwrap().len() + other.unwrap().len(), 1);
    assert_eq!(place.first_due().await.unwrap(), Some(at(200)));
    assert!(due(150).await.unwrap().is_empty());
    // A pause keeps it from coming, and the next instant is set anew when it ends.
    assert!(place.set_paused("daily", true, None).await.unwrap());
    assert_eq!(place.first_due().await.unwrap(), None);
    assert!(
        place
            .set_paused("daily", false, Some(at(300)))
            .await
            .unwrap()
    );
    assert_eq!(place.first_due().await.unwrap(), Some(at(300)));
    assert!(!place.set_paused("weekly", true, None).await.unwrap());
    let page = place
        .runs(
            &RunFilter {
                report: Some("daily".into()),
                state: None,
                sight: Sight::All,
            },
            1,
            10,
        )
        .await
        .unwrap();
    assert_eq!((page.total, page.items.len()), (1, 1));
}

#[tokio::test]
async fn a_state_that_may_not_follow_is_refused_and_nothing_changes() {
    let place = Place::new().await;
    let owner = Uuid::now_v7();
    let id = place.new_run("daily", 0).await;
    let run = place
        .claim_run(owner, at(0), LEASE, &[], None)
        .await
        .unwrap()
        .unwrap();
    let refused = place
        .set_run_state(run.claim(), RunState::Delivering, None, at(1))
        .await;
    assert!(
        matches!(
            refused,
            Err(StoreError::Transition {
                from: RunState::Due,
                to: RunState::Delivering,
                ..
            })
        ),
        "{refused:?}"
    );
    let early = place.await_approval(run.claim(), at(9)).await;
    assert!(matches!(early, Err(StoreError::Transition { .. })));
    assert_eq!(place.state(id).await, ("due".into(), None));
    for next in [RunState::Collecting, RunState::Rendering, RunState::Held] {
        place
            .set_run_state(run.claim(), next, None, at(2))
            .await
            .unwrap();
    }
    assert_eq!(place.state(id).await.0, "held");
}
