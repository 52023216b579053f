//! A database that was put back to an earlier copy takes no work before what is in doubt is held.

use maple_lark_store::restored::DOUBT;

use super::*;

async fn by_hand(place: &Place, sql: &str) {
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    sqlx::Executor::execute(&mut records, sqlx::AssertSqlSafe(sql.to_owned()))
        .await
        .unwrap();
}

/// What the records would say had they been copied from elsewhere.
async fn pretend(place: &Place, column: &str) {
    let sql = format!("update database_identity set {column} = 'another'");
    by_hand(place, &sql).await;
}

#[tokio::test]
async fn what_was_on_its_way_is_held_and_nothing_is_taken_before() {
    let place = Place::new().await;
    let owner = Uuid::now_v7();
    assert_eq!(
        place.look_whether_restored(false, at(0)).await.unwrap(),
        None
    );
    let (sending, _) = place.delivering(owner, 2).await;
    let one = place
        .claim_deliveries(owner, at(0), LEASE, 1, &[], &[])
        .await
        .unwrap();
    place
        .end_attempt(one[0].1, &accepted(), at(0))
        .await
        .unwrap();
    let asked = place.new_run("asked", 0).await;
    let claim = place.claim_run(owner, at(0), LEASE, &[], None).await;
    let claim = claim.unwrap().unwrap().claim();
    for step in [RunState::Collecting, RunState::Rendering] {
        place.set_run_state(claim, step, None, at(0)).await.unwrap();
    }
    place.await_approval(claim, at(5)).await.unwrap();
    let due = place.new_run("weekly", 1).await;
    let mut made = run(Uuid::now_v7(), "made", 2);
    made.deliver = false;
    place.add_run(&made).await.unwrap();

    pretend(&place, "number").await;
    let nothing = || async {
        let run = place
            .claim_run(owner, at(9), LEASE, &[], None)
            .await
            .unwrap();
        let deliveries = place
            .claim_deliveries(owner, at(9), LEASE, 9, &[], &[])
            .await
            .unwrap();
        run.is_none() && deliveries.is_empty()
    };
    assert!(nothing().await, "it is another database");
    let found = place
        .look_whether_restored(false, at(10))
        .await
        .unwrap()
        .unwrap();
    // One that is sent to nobody is no doubt.
    assert_eq!((found.found_at, found.runs), (at(10), 3));
    assert_eq!(place.last_restored().await.unwrap(), Some(found));
    assert_eq!(
        place.look_whether_restored(false, at(11)).await.unwrap(),
        None
    );
    assert_eq!(
        place.state(sending.id).await,
        ("held".into(), Some(DOUBT.into()))
    );
    assert_eq!(place.in_doubt().await.unwrap(), 2, "one is not made yet");
    assert_eq!(
        place.state(asked).await,
        ("awaiting-approval".into(), Some(DOUBT.into()))
    );
    let silent = place.unapproved(at(10)).await.unwrap();
    assert!(silent.is_empty(), "nobody's silence sends it");
    let run = place.run(due).await.unwrap().unwrap();
    assert_eq!(
        (run.state.word(), run.doubt.as_deref()),
        ("due", Some(DOUBT))
    );

    // Its documents have been made and judged.
    by_hand(&place, "update snapshots set status = 'OK'").await;
    // Who releases it sends it to those who lack it.
    assert!(place.release_run(sending.id, "ann").await.unwrap());
    let taken = place.run(sending.id).await.unwrap().unwrap();
    assert_eq!((taken.problem, taken.doubt), (None, None));
    let states = [RunState::Releasing];
    let again = place
        .claim_run(owner, at(12), LEASE, &[], Some(&states))
        .await;
    let again = again.unwrap().unwrap();
    place.enqueue(again.claim(), &[]).await.unwrap();
    let left = place
        .claim_deliveries(owner, at(13), LEASE, 9, &[], &[])
        .await
        .unwrap();
    assert_eq!(left.len(), 1);
}

#[tokio::test]
async fn a_standby_that_takes_over_holds_nothing_up_where_that_is_said() {
    let place = Place::new().await;
    let owner = Uuid::now_v7();
    assert_eq!(
        place.look_whether_restored(true, at(0)).await.unwrap(),
        None
    );
    let run = place.new_run("daily", 0).await;
    pretend(&place, "timeline").await;
    assert_eq!(
        place.look_whether_restored(true, at(1)).await.unwrap(),
        None
    );
    let taken = place
        .claim_run(owner, at(2), LEASE, &[], None)
        .await
        .unwrap();
    assert_eq!(taken.map(|taken| taken.id), Some(run));
    // The server itself is another, or nobody said so any more.
    pretend(&place, "cluster").await;
    assert!(
        place
            .look_whether_restored(true, at(3))
            .await
            .unwrap()
            .is_some()
    );
    assert_eq!(
        place.look_whether_restored(false, at(4)).await.unwrap(),
        None
    );
    pretend(&place, "timeline").await;
    assert!(
        place
            .look_whether_restored(false, at(5))
            .await
            .unwrap()
            .is_some()
    );
}
