//! Claims are fenced: whoever has lost one writes nothing into the work of the next, and every
//! attempt has an end.

use std::cell::Cell;

use chrono::TimeDelta;
use maple_lark_api::{RunState, StepKind, StepState};
use maple_lark_store::{
    StoreError,
    claims::Claim,
    deliveries::{Attempt, Ending},
    pictures::Pictures,
    runs::Run,
    steps::EndedStep,
    teams::Sight,
};
use sqlx::Connection as _;
use uuid::Uuid;

use super::{LEASE, Place, accepted, at, document, refused, snapshot};

fn lost<T: std::fmt::Debug>(result: Result<T, StoreError>) {
    assert!(
        matches!(result, Err(StoreError::LeaseLost(_))),
        "{result:?}"
    );
}

/// A write under a claim.
type Write<'a> = std::pin::Pin<Box<dyn Future<Output = Result<(), StoreError>> + 'a>>;

impl Place {
    /// Somebody else takes a run, and has not yet said so when a write under the claim begins.
    async fn overtaken(&self, claim: Claim, what: &str, write: Write<'_>) {
        let (mut other, mut watch) = (self.administrator().await, self.administrator().await);
        let mut taking = other.begin().await.unwrap();
        let takes = "update runs set lease_owner = gen_random_uuid()";
        sqlx::query(takes).execute(&mut *taking).await.unwrap();
        let written = Cell::new(false);
        let write = async {
            let result = write.await;
            written.set(true);
            result
        };
        let taken = async {
            let waiting = "select exists (select from pg_stat_activity where datname = current_database() and wait_event_type = 'Lock')";
            while !written.get()
                && !sqlx::query_scalar::<_, bool>(waiting)
                    .fetch_one(&mut watch)
                    .await
                    .unwrap()
            {
                tokio::task::yield_now().await;
            }
            assert!(
                !written.get(),
                "{what} without waiting for who takes the run"
            );
            taking.commit().await.unwrap();
        };
        let (result, ()) = tokio::join!(write, taken);
        lost(result);
        // As it was, for the next.
        let back = "update runs set lease_owner = $1";
        sqlx::query(back)
            .bind(claim.token)
            .execute(&mut other)
            .await
            .unwrap();
    }

    async fn all_attempts(&self, run: &Run) -> Vec<Attempt> {
        let deliveries = self.deliveries(run.id).await.unwrap();
        self.attempts(&deliveries).await.unwrap()
    }
}

#[tokio::test]
async fn a_process_that_claims_its_own_run_again_is_another_owner() {
    let place = Place::new().await;
    let process = Uuid::now_v7();
    let id = place.new_run("daily", 0).await;
    let claim = async |seconds, in_hand: &[Uuid]| {
        place
            .claim_run(process, at(seconds), LEASE, in_hand, None)
            .await
            .unwrap()
            .map(|run| run.claim())
    };
    let first = claim(0, &[]).await.unwrap();
    // While it has the run in hand, it passes it over, though the lease has run out …
    assert_eq!(claim(100, &[id]).await, None);
    // … and goes on under its claim.
    place.renew_run(first, at(200)).await.unwrap();
    let second = claim(300, &[]).await.unwrap();
    assert_ne!(first.token, second.token);

    // Given back, it is claimed at once, and as if for the first time.
    place.give_back(second).await.unwrap();
    lost(place.give_back(second).await);
    let again = place.claim_run(process, at(300), LEASE, &[], None).await;
    let again = again.unwrap().unwrap();
    assert_eq!(again.claims, 2);
    let second = again.claim();

    // Nothing is written any more under the claim that was lost.
    let one = snapshot(id, b"{}".to_vec());
    let file = document(id, one.id, "a.csv", b"a".to_vec());
    place
        .keep_snapshot(second, one.clone(), &Pictures::new(), None)
        .await
        .unwrap();
    place
        .begin_step(second, StepKind::Collect, "q", at(301))
        .await
        .unwrap();
    lost(place.renew_run(first, at(400)).await);
    lost(
        place
            .keep_snapshot(first, one.clone(), &Pictures::new(), None)
            .await,
    );
    lost(place.keep_documents(first, vec![file.clone()], None).await);
    lost(place.judge_snapshot(first, one.id, "ok", None).await);
    lost(
        place
            .begin_step(first, StepKind::Render, "pdf", at(302))
            .await,
    );
    lost(
        place
            .note_step(first, StepKind::Collect, "q", "old".to_owned())
            .await,
    );
    let end = ended(StepKind::Collect, "q", None, 302);
    lost(place.end_step(first, &end).await);
    lost(
        place
            .set_run_state(first, RunState::Collecting, None, at(302))
            .await,
    );
    lost(place.begin_collecting(first, None).await);
    lost(place.keep_audiences(first, &serde_json::Value::Null).await);
    lost(place.wait(first, at(400)).await);
    lost(place.set_incomplete(first, "old").await);
    lost(place.await_approval(first, at(400)).await);
    lost(place.enqueue(first, &[]).await);
    let steps = place.steps(id).await.unwrap();
    assert_eq!(steps.len(), 1);
    assert_eq!(
        (steps[0].state.0, &steps[0].detail),
        (StepState::Running, &None)
    );
    assert!(
        place
            .document_with("of a.csv", &Sight::All)
            .await
            .unwrap()
            .is_none()
    );
    // Under the one that holds, it is.
    place
        .keep_documents(second, vec![file], None)
        .await
        .unwrap();
    place
        .judge_snapshot(second, one.id, "ok", None)
        .await
        .unwrap();
    assert!(
        place
            .document_with("of a.csv", &Sight::All)
            .await
            .unwrap()
            .is_some()
    );
}

/// A step that has failed, with what is said of it.
fn ended(kind: StepKind, subject: &str, began: Option<i64>, seconds: i64) -> EndedStep<'_> {
    EndedStep {
        kind,
        subject,
        state: StepState::Failed,
        detail: Some("old".to_owned()),
        started_at: began.map(at),
        ended_at: at(seconds),
    }
}

/// A step that is soon done is written when it has ended, with what it made; one that takes longer keeps when it began.
#[tokio::test]
async fn a_step_ends_with_what_it_made_or_not_at_all() {
    let place = Place::new().await;
    let id = place.new_run("daily", 0).await;
    let claimed = place.claim_run(Uuid::now_v7(), at(0), LEASE, &[], None);
    let first = claimed.await.unwrap().unwrap().claim();
    let one = snapshot(id, b"{}".to_vec());
    let kept = ended(StepKind::Snapshot, "values", Some(3), 4);
    place
        .keep_snapshot(first, one.clone(), &Pictures::new(), Some(&kept))
        .await
        .unwrap();
    let wait = StepKind::Wait;
    place.begin_step(first, wait, "u", at(1)).await.unwrap();
    let end = ended(wait, "u", None, 2);
    place.end_step(first, &end).await.unwrap();
    let said = async || {
        let steps = place.steps(id).await.unwrap().into_iter();
        let said = steps.map(|step| (step.subject, step.started_at, step.ended_at));
        said.collect::<Vec<_>>()
    };
    let words = str::to_owned;
    let before = vec![
        (words("u"), at(1), Some(at(2))),
        (words("values"), at(3), Some(at(4))),
    ];
    assert_eq!(said().await, before);

    // Another takes the run over: it is claimed for the second time, until a step of it has ended.
    let claimed = place.claim_run(Uuid::now_v7(), at(301), LEASE, &[], None);
    let second = claimed.await.unwrap().unwrap();
    assert_eq!(second.claims, 2);
    let file = || vec![document(id, one.id, "a.csv", b"a".to_vec())];
    let made = ended(StepKind::Render, "csv", Some(302), 303);
    lost(place.keep_documents(first, file(), Some(&made)).await);
    lost(place.keep_documents(first, Vec::new(), Some(&made)).await);
    assert_eq!(said().await, before);
    let claim = second.claim();
    place
        .keep_documents(claim, file(), Some(&made))
        .await
        .unwrap();
    assert_eq!(said().await[2], (words("csv"), at(302), Some(at(303))));
    assert_eq!(place.run(id).await.unwrap().unwrap().claims, 1);

    // Begun anew after a crash, it is the later time that counts.
    let again = ended(StepKind::Render, "csv", Some(305), 306);
    place.end_step(claim, &again).await.unwrap();
    assert_eq!(said().await[2], (words("csv"), at(305), Some(at(306))));
}

/// The run goes to the next while a write of the one before is under way: the write waits for
/// that, and then finds that it has come too late.
#[tokio::test]
async fn a_claim_that_is_lost_in_the_middle_of_a_write_writes_nothing() {
    let place = Place::new().await;
    let id = place.new_run("daily", 0).await;
    let claimed = place.claim_run(Uuid::now_v7(), at(0), LEASE, &[], None);
    let claim = claimed.await.unwrap().unwrap().claim();
    let one = snapshot(id, b"{}".to_vec());
    place
        .keep_snapshot(claim, one.clone(), &Pictures::new(), None)
        .await
        .unwrap();
    let (collect, render) = (StepKind::Collect, StepKind::Render);
    place.begin_step(claim, collect, "q", at(1)).await.unwrap();
    let end = ended(collect, "q", None, 2);
    let file = document(id, one.id, "a.csv", b"a".to_vec());
    let writes: [(&str, Write<'_>); 8] = [
        (
            "kept",
            Box::pin(place.keep_documents(claim, vec![file.clone()], None)),
        ),
        ("begun again", Box::pin(place.begin_collecting(claim, None))),
        (
            "judged",
            Box::pin(place.judge_snapshot(claim, one.id, "OK", Some("old"))),
        ),
        (
            "begun",
            Box::pin(place.begin_step(claim, render, "pdf", at(2))),
        ),
        (
            "noted",
            Box::pin(place.note_step(claim, collect, "q", "old".to_owned())),
        ),
        ("ended", Box::pin(place.end_step(claim, &end))),
        (
            "a picture",
            Box::pin(place.keep_failed_page(claim, "q", b"old", at(2))),
        ),
        ("incomplete", Box::pin(place.set_incomplete(claim, "old"))),
    ];
    for (what, write) in writes {
        place.overtaken(claim, what, write).await;
    }
    let steps = place.steps(id).await.unwrap();
    let states: Vec<_> = steps
        .iter()
        .map(|step| (step.state.0, &step.detail))
        .collect();
    assert_eq!(states, [(StepState::Running, &None)]);
    let run = place.run(id).await.unwrap().unwrap();
    assert_eq!((run.status, run.incomplete), (None, None));
    assert!(place.document(file.id).await.unwrap().is_none());
    let heads = place.snapshot_heads(id).await.unwrap();
    assert_eq!(heads[0].status, None);
    assert!(place.failed_pages(id).await.unwrap().is_empty());
}

#[tokio::test]
async fn a_delivery_that_is_in_hand_is_not_claimed_again_by_the_process_that_carries_it() {
    let place = Place::new().await;
    let process = Uuid::now_v7();
    let (run, _) = place.delivering(process, 1).await;
    let claim = async |seconds, in_hand: &[Uuid]| {
        place
            .claim_deliveries(process, at(seconds), LEASE, 10, &[], in_hand)
            .await
            .unwrap()
    };
    let [(delivery, first)] = &claim(1, &[]).await[..] else {
        panic!()
    };
    assert!(claim(100, &[delivery.id]).await.is_empty());
    place.renew_delivery(*first, at(200)).await.unwrap();
    assert_eq!(place.all_attempts(&run).await.len(), 1);
    // Once it is lost, the old claim renews nothing.
    let [(_, second)] = &claim(300, &[]).await[..] else {
        panic!()
    };
    lost(place.renew_delivery(*first, at(400)).await);
    // The first attempt succeeds late: the delivery is settled, and nobody tries it again.
    lost(place.end_attempt(*first, &accepted(), at(301)).await);
    assert_eq!(place.state(run.id).await.0, "delivered");
    lost(place.end_attempt(*second, &refused(), at(302)).await);
    assert_eq!(place.state(run.id).await.0, "delivered");
    assert!(claim(500, &[]).await.is_empty());
    // Both are on record with what really became of them.
    let outcomes: Vec<_> = place
        .all_attempts(&run)
        .await
        .iter()
        .map(|attempt| attempt.outcome.unwrap().to_string())
        .collect();
    assert_eq!(outcomes, ["accepted", "refused"]);
}

#[tokio::test]
async fn every_attempt_has_an_end_even_where_nobody_goes_on() {
    let place = Place::new().await;
    let process = Uuid::now_v7();
    let (run, _) = place.delivering(process, 2).await;
    let claimed = place
        .claim_deliveries(process, at(1), LEASE, 10, &[], &[])
        .await
        .unwrap();
    assert_eq!(claimed.len(), 2);
    // Cancelled while both are under way; then the process dies.
    assert!(place.cancel_run(run.id, "ops", at(2)).await.unwrap());
    assert_eq!(
        place.close_abandoned(at(3)).await.unwrap(),
        0,
        "they are leased"
    );
    let open =
        |attempts: Vec<Attempt>| attempts.iter().filter(|one| one.ended_at.is_none()).count();
    assert_eq!(open(place.all_attempts(&run).await), 2);
    assert_eq!(place.close_abandoned(at(100)).await.unwrap(), 4);
    let attempts = place.all_attempts(&run).await;
    assert!(
        attempts
            .iter()
            .all(|one| one.outcome.unwrap().to_string() == "unknown")
    );
    assert_eq!(place.unconfirmed_attempts().await.unwrap(), 2);
    let deliveries = place.deliveries(run.id).await.unwrap();
    assert!(
        deliveries
            .iter()
            .all(|one| one.state.to_string() == "cancelled")
    );
    // It had not died, and says what became of one: that is on record then.
    lost(place.end_attempt(claimed[0].1, &accepted(), at(101)).await);
    assert_eq!(place.unconfirmed_attempts().await.unwrap(), 1);
}

#[tokio::test]
async fn a_process_that_stops_writes_that_its_attempts_are_broken_off() {
    let place = Place::new().await;
    let process = Uuid::now_v7();
    let (run, _) = place.delivering(process, 1).await;
    let claim = async |process| {
        place
            .claim_deliveries(process, at(1), LEASE, 10, &[], &[])
            .await
            .unwrap()
    };
    assert_eq!(claim(process).await.len(), 1);
    place.release_all(process, at(2)).await.unwrap();
    assert_eq!(place.unconfirmed_attempts().await.unwrap(), 1);
    let other = claim(Uuid::now_v7()).await;
    assert_eq!(other.len(), 1, "another goes on at once");
    place
        .end_attempt(other[0].1, &accepted(), at(3))
        .await
        .unwrap();
    assert_eq!(place.state(run.id).await.0, "delivered");
}

#[tokio::test]
async fn leases_and_waits_from_a_clock_that_was_ahead_are_brought_back() {
    let place = Place::new().await;
    let (day, process) = (86_400, Uuid::now_v7());
    let (_, _) = place.delivering(process, 2).await;
    let waiting = place.new_run("weekly", 0).await;
    let ahead = place
        .claim_deliveries(process, at(day), LEASE, 1, &[], &[])
        .await
        .unwrap();
    assert_eq!(ahead.len(), 1);
    let run = place
        .claim_run(process, at(day), LEASE, &[], None)
        .await
        .unwrap()
        .unwrap();
    assert_eq!(run.id, waiting);
    place.wait(run.claim(), at(day + 60)).await.unwrap();

    // The clock is right again: it is a day earlier.
    let now = at(10);
    assert_eq!(place.bring_back(now, LEASE, false).await.unwrap(), 1);
    assert_eq!(place.bring_back(now, LEASE, true).await.unwrap(), 1);
    assert_eq!(place.bring_back(now, LEASE, true).await.unwrap(), 0);
    let soon = now + LEASE + TimeDelta::seconds(1);
    let claimed = place
        .claim_deliveries(process, soon, LEASE, 10, &[], &[])
        .await
        .unwrap();
    assert_eq!(claimed.len(), 2);
    let again = place
        .claim_run(process, soon, LEASE, &[], None)
        .await
        .unwrap();
    assert_eq!(again.unwrap().id, waiting);
}

#[tokio::test]
async fn the_database_says_what_time_it_is() {
    let place = Place::new().await;
    let (before, after) = (place.time().await.unwrap(), place.time().await.unwrap());
    assert!(before < after && after - before < TimeDelta::minutes(1));
}

#[tokio::test]
async fn what_waits_for_a_channel_is_tried_when_it_works_and_what_was_refused_for_now_is_not() {
    let place = Place::new().await;
    let process = Uuid::now_v7();
    let (_, _) = place.delivering(process, 4).await;
    let claimed = place
        .claim_deliveries(process, at(1), LEASE, 10, &[], &[])
        .await
        .unwrap();
    let again = at(3600);
    let held_up = Ending::HeldUp {
        answer: "nobody there".to_owned(),
        again,
    };
    let postponed = Ending::Postponed {
        answer: "451 later".to_owned(),
        again,
    };
    let endings = [&held_up, &held_up, &postponed];
    for ((_, claim), ending) in claimed.iter().zip(endings) {
        place.end_attempt(*claim, ending, at(2)).await.unwrap();
    }
    let (first, last) = (claimed[0].0.id, claimed[3].0.id);
    assert_eq!(place.next_on("", last).await.unwrap(), Some(again));
    assert_eq!(place.next_on("share", last).await.unwrap(), None);
    assert_eq!(
        place.next_on("", first).await.unwrap(),
        Some(again),
        "the one under way is none of those that wait"
    );
    assert_eq!(place.hurry("share", at(3)).await.unwrap(), 0);
    assert_eq!(place.hurry("", at(3)).await.unwrap(), 2);
    assert_eq!(place.hurry("", at(3)).await.unwrap(), 0, "once is enough");
    let now = place
        .claim_deliveries(process, at(3), LEASE, 10, &[], &[])
        .await
        .unwrap();
    assert_eq!(now.len(), 2);
}

#[tokio::test]
async fn documents_of_one_name_are_listed_as_the_report_has_them_first() {
    let place = Place::new().await;
    let id = place.new_run("daily", 0).await;
    let claimed = place.claim_run(Uuid::now_v7(), at(0), LEASE, &[], None);
    let claim = claimed.await.unwrap().unwrap().claim();
    let one = snapshot(id, b"{}".to_vec());
    let none = Pictures::new();
    let kept = place.keep_snapshot(claim, one.clone(), &none, None);
    kept.await.unwrap();
    for variant in ["1.234,5", "", "1 234.5"] {
        let mut file = document(id, one.id, "a.csv", b"a".to_vec());
        file.variant = variant.to_owned();
        let kept = place.keep_documents(claim, vec![file], None);
        kept.await.unwrap();
    }
    let heads = place.document_heads(id).await.unwrap();
    let variants: Vec<&str> = heads.iter().map(|head| &*head.variant).collect();
    assert_eq!(variants, ["", "1 234.5", "1.234,5"]);
}
