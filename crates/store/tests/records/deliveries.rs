//! Deliveries: who carries them, how they end, and what becomes of their run.

use std::collections::BTreeMap;

use super::*;

#[tokio::test]
async fn how_a_run_ends_follows_from_its_deliveries() {
    for (endings, state) in [
        (vec![accepted(), accepted()], "delivered"),
        (vec![accepted(), refused()], "partly-delivered"),
        (vec![refused(), refused()], "failed"),
    ] {
        let place = Place::new().await;
        let owner = Uuid::now_v7();
        let (run, _) = place.delivering(owner, 2).await;
        let claimed = place
            .claim_deliveries(owner, at(1), LEASE, 10, &[], &[])
            .await
            .unwrap();
        assert_eq!(claimed.len(), 2);
        for (n, ((_, attempt), ending)) in claimed.iter().zip(&endings).enumerate() {
            assert_eq!(place.state(run.id).await.0, "delivering", "after {n}");
            place.end_attempt(*attempt, ending, at(2)).await.unwrap();
        }
        let refusals = endings
            .iter()
            .filter(|ending| **ending == refused())
            .count();
        let problem = (refusals > 0).then(|| format!("{refusals} of 2 deliveries were refused"));
        assert_eq!(place.state(run.id).await, (state.to_owned(), problem));
        let attempts = place
            .attempts(&place.deliveries(run.id).await.unwrap())
            .await
            .unwrap();
        assert!(
            attempts
                .iter()
                .all(|attempt| attempt.ended_at == Some(at(2)) && attempt.answer.is_some()),
            "{attempts:?}"
        );
    }
}

#[tokio::test]
async fn what_is_postponed_or_unsure_is_tried_again_and_a_dead_process_leaves_its_attempt_on_record()
 {
    let place = Place::new().await;
    let (one, other) = (Uuid::now_v7(), Uuid::now_v7());
    let (run, snapshot_id) = place.delivering(one, 1).await;
    let claim = async |owner, seconds| {
        place
            .claim_deliveries(owner, at(seconds), LEASE, 10, &[], &[])
            .await
            .unwrap()
    };
    let first = claim(one, 1).await;
    let [(_, attempt)] = &first[..] else {
        panic!("{first:?}")
    };
    assert!(claim(other, 2).await.is_empty(), "it is leased");
    place
        .end_attempt(
            *attempt,
            &Ending::Postponed {
                answer: "451 later".into(),
                again: at(100),
            },
            at(3),
        )
        .await
        .unwrap();
    assert!(claim(other, 99).await.is_empty(), "it is not its time");
    let second = claim(one, 100).await;
    let [(delivery, attempt)] = &second[..] else {
        panic!("{second:?}")
    };
    place
        .end_attempt(
            *attempt,
            &Ending::Unconfirmed {
                answer: "the connection was lost".into(),
                again: at(110),
            },
            at(101),
        )
        .await
        .unwrap();
    assert_eq!(place.unconfirmed_attempts().await.unwrap(), 1);
    // This process dies while it sends; another one takes over when the lease has run out.
    let third = claim(one, 110).await;
    let fourth = claim(other, 200).await;
    let [(again, attempt)] = &fourth[..] else {
        panic!("{fourth:?}")
    };
    assert_eq!(again.message_id, delivery.message_id);
    assert!(matches!(
        place.end_attempt(third[0].1, &refused(), at(201)).await,
        Err(StoreError::LeaseLost(_))
    ));
    assert_eq!(
        place.state(run.id).await.0,
        "delivering",
        "a refusal by who has lost the lease decides nothing"
    );
    place
        .end_attempt(*attempt, &accepted(), at(202))
        .await
        .unwrap();
    let attempts = place
        .attempts(&place.deliveries(run.id).await.unwrap())
        .await
        .unwrap();
    let outcomes: Vec<_> = attempts
        .iter()
        .filter_map(|attempt| attempt.outcome.map(|outcome| outcome.word()))
        .collect();
    assert_eq!(outcomes, ["postponed", "unknown", "refused", "accepted"]);
    assert_eq!(place.state(run.id).await.0, "delivered");

    // A copy that is refused later says nothing about the run.
    let copy = Copy {
        audience: "all".into(),
        channel: ChannelType::Mail,
        via: String::new(),
        recipient: "late@orrin-sound.example".into(),
        snapshot_id,
        variant: String::new(),
    };
    place
        .add_copies(
            run.id,
            &[copy],
            "orrin-sound.example",
            Some("as asked"),
            "ops",
            at(300),
        )
        .await
        .unwrap();
    let copies = claim(one, 301).await;
    place
        .end_attempt(copies[0].1, &refused(), at(302))
        .await
        .unwrap();
    assert_eq!(
        (copies[0].0.copy, place.state(run.id).await.0.as_str()),
        (1, "delivered")
    );
}

#[tokio::test]
async fn the_last_two_deliveries_of_two_processes_settle_the_run() {
    let place = Place::new().await;
    let owner = Uuid::now_v7();
    let (run, _) = place.delivering(owner, 40).await;
    let claimed = place
        .claim_deliveries(owner, at(1), LEASE, 64, &[], &[])
        .await
        .unwrap();
    assert_eq!(claimed.len(), 40);
    let mut ends = tokio::task::JoinSet::new();
    for (_, claim) in claimed {
        let store = place.store.clone();
        let ended = Ended {
            claim,
            ending: accepted(),
        };
        ends.spawn(async move { store.end_attempts(&[ended], at(2)).await });
    }
    while let Some(written) = ends.join_next().await {
        assert_eq!(written.unwrap().unwrap().len(), 1);
    }
    assert_eq!(place.state(run.id).await.0, "delivered");
}

#[tokio::test]
async fn endings_that_are_written_together_are_each_as_if_it_were_alone() {
    let place = Place::new().await;
    let (owner, other) = (Uuid::now_v7(), Uuid::now_v7());
    let (first, _) = place.delivering(owner, 3).await;
    let (second, _) = place.delivering_of("weekly", owner, 2).await;
    let claimed = place
        .claim_deliveries(owner, at(1), LEASE, 64, &[], &[])
        .await
        .unwrap();
    let of = |run: Uuid| {
        claimed
            .iter()
            .filter(move |(delivery, _)| delivery.run_id == run)
            .collect::<Vec<_>>()
    };
    let (of_first, of_second) = (of(first.id), of(second.id));
    assert_eq!((of_first.len(), of_second.len()), (3, 2));
    let ended = |(_, claim): &(Delivery, AttemptClaim), ending: Ending| Ended {
        claim: *claim,
        ending,
    };
    // Nothing at all is as good as something.
    assert!(place.end_attempts(&[], at(2)).await.unwrap().is_empty());
    let together = [
        ended(of_first[0], accepted()),
        ended(of_second[0], accepted()),
        ended(
            of_first[1],
            Ending::Postponed {
                answer: "451 later\0with a character that cannot be kept".into(),
                again: at(100),
            },
        ),
        ended(of_second[1], refused()),
    ];
    assert_eq!(place.end_attempts(&together, at(2)).await.unwrap().len(), 4);
    assert_eq!(
        place.state(first.id).await.0,
        "delivering",
        "one waits, one is under way"
    );
    assert_eq!(
        place.state(second.id).await,
        (
            "partly-delivered".into(),
            Some("1 of 2 deliveries were refused".into())
        )
    );
    let deliveries = place.deliveries(first.id).await.unwrap();
    let waiting = deliveries
        .iter()
        .find(|delivery| delivery.id == of_first[1].0.id)
        .unwrap();
    assert_eq!(
        (
            waiting.state.word(),
            waiting.next_attempt_at,
            waiting.settled_at
        ),
        ("waiting", at(100), None)
    );
    assert_eq!(
        waiting.problem.as_deref(),
        Some("451 later\u{fffd}with a character that cannot be kept")
    );

    // What another process has taken over is left to it; the rest is written all the same.
    let taken = place
        .claim_deliveries(other, at(200), LEASE, 64, &[], &[])
        .await
        .unwrap();
    assert_eq!(taken.len(), 2);
    let late = [ended(of_first[2], refused())];
    assert!(place.end_attempts(&late, at(201)).await.unwrap().is_empty());
    let both: Vec<Ended> = taken.iter().map(|claim| ended(claim, accepted())).collect();
    assert_eq!(place.end_attempts(&both, at(202)).await.unwrap().len(), 2);
    assert_eq!(place.state(first.id).await, ("delivered".into(), None));
    // Twice is once.
    assert!(place.end_attempts(&both, at(203)).await.unwrap().is_empty());
}

#[tokio::test]
async fn channels_that_are_busy_are_passed_over_and_what_is_cancelled_is_not_sent() {
    let place = Place::new().await;
    let owner = Uuid::now_v7();
    let id = place.new_run("daily", 0).await;
    let run = place
        .claim_run(owner, at(0), LEASE, &[], None)
        .await
        .unwrap()
        .unwrap();
    let snapshot = snapshot(id, Vec::new());
    let snapshot_id = snapshot.id;
    place
        .keep_snapshot(run.claim(), snapshot, &Pictures::new(), None)
        .await
        .unwrap();
    for step in [RunState::Collecting, RunState::Rendering] {
        place
            .set_run_state(run.claim(), step, None, at(0))
            .await
            .unwrap();
    }
    let via = ["slow", "slow", "", "share"];
    place
        .enqueue(
            run.claim(),
            &via.iter()
                .enumerate()
                .map(|(n, via)| {
                    delivery(&run, snapshot_id, &format!("p{n}@orrin-sound.example"), via)
                })
                .collect::<Vec<_>>(),
        )
        .await
        .unwrap();
    let queues: Vec<_> = place
        .queues()
        .await
        .unwrap()
        .into_iter()
        .map(|queue| (queue.via, queue.waiting))
        .collect();
    assert_eq!(
        queues,
        [(String::new(), 1), ("share".into(), 1), ("slow".into(), 2)]
    );
    let claimed = place
        .claim_deliveries(owner, at(1), LEASE, 10, &["slow".to_owned()], &[])
        .await
        .unwrap();
    let mut taken: Vec<_> = claimed
        .iter()
        .map(|(delivery, _)| delivery.via.as_str())
        .collect();
    taken.sort_unstable();
    assert_eq!(taken, ["", "share"]);
    assert_eq!(place.attempts_since("share", at(0)).await.unwrap(), 1);
    assert_eq!(place.attempts_since("share", at(1)).await.unwrap(), 0);
    // What waits is cancelled; what is being handed over comes to its own end.
    assert!(place.cancel_run(id, "ops", at(2)).await.unwrap());
    assert!(
        place
            .claim_deliveries(owner, at(3), LEASE, 10, &[], &[])
            .await
            .unwrap()
            .is_empty()
    );
    for (_, attempt) in &claimed {
        place
            .end_attempt(*attempt, &accepted(), at(4))
            .await
            .unwrap();
    }
    assert_eq!(
        place.state(id).await,
        ("cancelled".into(), Some("cancelled by ops".into()))
    );
    let mut states: Vec<_> = place
        .deliveries(id)
        .await
        .unwrap()
        .into_iter()
        .map(|delivery| delivery.state.word())
        .collect();
    states.sort_unstable();
    assert_eq!(states, ["accepted", "accepted", "cancelled", "cancelled"]);
    assert!(!place.cancel_run(id, "ops", at(5)).await.unwrap());
}

#[tokio::test]
async fn addresses_are_suppressed_whatever_their_case_and_notices_are_told_once() {
    let place = Place::new().await;
    assert!(
        !place
            .count_bounce("Rúna@Orrin-Sound.example", "no such box", 2, at(0))
            .await
            .unwrap()
    );
    assert!(
        place
            .passed_over("daily", &["rúna@orrin-sound.example".into()])
            .await
            .unwrap()
            .is_empty()
    );
    assert!(
        place
            .count_bounce("rúna@orrin-sound.example", "no such box", 2, at(1))
            .await
            .unwrap()
    );
    // It is suppressed once, however many come after.
    assert!(
        !place
            .count_bounce("rúna@orrin-sound.example", "no such box", 2, at(2))
            .await
            .unwrap()
    );
    assert_eq!(
        place
            .passed_over("daily", &["rúna@orrin-sound.example".into()])
            .await
            .unwrap(),
        BTreeMap::from([(
            "rúna@orrin-sound.example".to_owned(),
            "rúna@orrin-sound.example is suppressed after 3 bounces: no such box".to_owned()
        )])
    );
    assert!(
        place
            .forget_bounces("RÚNA@orrin-sound.example")
            .await
            .unwrap()
    );
    assert!(
        !place
            .forget_bounces("rúna@orrin-sound.example")
            .await
            .unwrap()
    );

    place
        .unsubscribe("daily", "Jan@orrin-sound.example", at(0))
        .await
        .unwrap();
    place
        .unsubscribe("daily", "jan@orrin-sound.example", at(1))
        .await
        .unwrap();
    assert_eq!(place.unsubscribes(Some("daily")).await.unwrap().len(), 1);
    assert!(place.unsubscribes(Some("weekly")).await.unwrap().is_empty());
    assert!(
        place
            .remove_unsubscribe("daily", "JAN@orrin-sound.example")
            .await
            .unwrap()
    );

    let owner = ["owner@orrin-sound.example".to_owned()];
    let failed = place.new_run("daily", 0).await;
    assert!(
        place
            .add_notice(
                NoticeKind::Failed,
                "daily",
                Some(failed),
                &owner,
                "it failed",
                at(0)
            )
            .await
            .unwrap()
    );
    assert!(
        !place
            .add_notice(
                NoticeKind::Failed,
                "daily",
                Some(failed),
                &owner,
                "it failed",
                at(1)
            )
            .await
            .unwrap()
    );
    assert!(
        place
            .add_notice(
                NoticeKind::Suppressed,
                "jan",
                None,
                &owner,
                "suppressed",
                at(0)
            )
            .await
            .unwrap()
    );
    let batch = place.claim_notices(at(10), at(10), LEASE).await.unwrap();
    assert_eq!(batch.len(), 2);
    assert!(
        place
            .claim_notices(at(11), at(11), LEASE)
            .await
            .unwrap()
            .is_empty(),
        "another process is telling them"
    );
    let again = place.claim_notices(at(100), at(100), LEASE).await.unwrap();
    assert_eq!(again.len(), 2, "nobody told them");
    place.told(again[0].batch.unwrap(), at(101)).await.unwrap();
    assert!(
        place
            .claim_notices(at(300), at(300), LEASE)
            .await
            .unwrap()
            .is_empty()
    );

    // A source is counted once for each run that it fails.
    let (run_1, run_2) = (Uuid::now_v7(), Uuid::now_v7());
    assert_eq!(
        place
            .count_source_failure("ops", run_1, "down", at(0))
            .await
            .unwrap(),
        (1, at(0))
    );
    assert_eq!(
        place
            .count_source_failure("ops", run_1, "down", at(1))
            .await
            .unwrap(),
        (1, at(0))
    );
    assert_eq!(
        place
            .count_source_failure("ops", run_2, "down", at(2))
            .await
            .unwrap(),
        (2, at(0))
    );
    assert_eq!(place.forget_source_failures("ops").await.unwrap(), 2);
    assert_eq!(place.forget_source_failures("ops").await.unwrap(), 0);
}

#[tokio::test]
async fn a_report_is_still_quiet_when_nothing_was_sent_or_said_for_a_week() {
    const DAY: i64 = 86_400;
    let place = Place::new().await;
    let ended = async |day: i64, state: RunState| {
        let owner = Uuid::now_v7();
        place.new_run("alarm", day * DAY).await;
        let run = place
            .claim_run(owner, at(day * DAY), LEASE, &[], None)
            .await
            .unwrap()
            .unwrap();
        let quiet = [RunState::Collecting, RunState::Rendering, RunState::Quiet];
        let delivered = [RunState::Collecting, RunState::Rendering];
        let steps: &[RunState] = if state == RunState::Quiet {
            &quiet
        } else {
            &delivered
        };
        for step in steps {
            place
                .set_run_state(run.claim(), *step, None, at(day * DAY))
                .await
                .unwrap();
        }
        if state == RunState::Delivered {
            place.deliver_at(&run, owner, at(day * DAY)).await;
        }
        run.id
    };
    let since = async |day: i64| {
        place
            .quiet_since("alarm", at((day - 7) * DAY))
            .await
            .unwrap()
    };
    assert_eq!(since(0).await, None);
    ended(0, RunState::Delivered).await;
    for day in 1..=7 {
        ended(day, RunState::Quiet).await;
        assert_eq!(since(day).await, None, "day {day}");
    }
    let last = ended(8, RunState::Quiet).await;
    assert_eq!(since(8).await, Some((8, at(DAY))));
    // Having said so begins another week.
    place
        .add_notice(
            NoticeKind::StillQuiet,
            "alarm",
            Some(last),
            &[],
            "still quiet",
            at(8 * DAY),
        )
        .await
        .unwrap();
    ended(9, RunState::Quiet).await;
    assert_eq!(since(9).await, None);
    ended(16, RunState::Quiet).await;
    assert_eq!(since(16).await, Some((2, at(9 * DAY))));
    // A mail that went out says more than that.
    ended(17, RunState::Delivered).await;
    assert_eq!(since(17).await, None);
}
