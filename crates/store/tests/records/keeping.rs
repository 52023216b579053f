//! What goes after how long, what stays, and what is left on record.

use std::collections::BTreeMap;

use maple_lark_api::{KeepStage, KeepWhy};
use maple_lark_store::keeping::{Policy, Terms};

use super::*;

/// What a run is thought to have left, worked out day by day without a database.
struct Thought {
    id: Uuid,
    report: &'static str,
    day: i64,
    stage: Option<KeepStage>,
    kept: bool,
}

const DAY: i64 = 86_400;

pub fn on(day: i64) -> Time {
    at(day * DAY)
}

/// Terms in days.
pub fn terms(day: i64, [documents, snapshots, records]: [Option<i64>; 3]) -> Terms {
    let cut = |days: Option<i64>| days.map(|days| on(day - days));
    Terms {
        documents: cut(documents),
        snapshots: cut(snapshots),
        records: cut(records),
        ..Terms::default()
    }
}

impl Place {
    /// A run that was over at an instant, with a snapshot, a picture and two documents, which say
    /// something.
    pub async fn over(&self, report: &str, when: Time, bytes: usize) -> Uuid {
        let mut new = run(Uuid::now_v7(), report, 0);
        new.scheduled_for = when;
        new.created_at = when;
        self.add_run(&new).await.unwrap();
        let mut records = self.cluster.connect("maple_lark").await.unwrap();
        let snapshot = Uuid::now_v7();
        for statement in [
            "update runs set state = 'delivered', started_at = $4, finished_at = $4 where id = $1 and $2 = $2 and $3 = $3",
            "insert into snapshots (id, run_id, values_key, sha256, body, created_at) select $2, $1, 'k', 's', decode(repeat('61', $3), 'hex'), $4",
            "insert into pictures (id, run_id, sha256, body) select gen_random_uuid(), $1, 'p', 'picture'::bytea where $2 = $2 and $3 = $3 and $4 = $4",
            "insert into document_texts (snapshot_id, text) select $2, 'words' where $1 = $1 and $3 = $3 and $4 = $4",
            "insert into documents (id, run_id, snapshot_id, format, file_name, media_type, sha256, size, body, created_at, variant) \
             select gen_random_uuid(), $1, $2, 'csv', n, 'text/csv', n || $1, $3, decode(repeat('62', $3), 'hex'), $4, '' from unnest(array['a.csv', 'b.csv']) n",
        ] {
            sqlx::query(statement)
                .bind(new.id)
                .bind(snapshot)
                .bind(bytes as i32)
                .bind(when)
                .execute(&mut records)
                .await
                .unwrap();
        }
        new.id
    }

    /// Lets everything go that is to go, and answers with how many times something went.
    pub async fn let_all_go(&self, policy: &Policy, now: Time) -> u64 {
        while self.measure(100).await.unwrap() > 0 {}
        let mut gone = 0;
        loop {
            let going = self.going(policy, 7).await.unwrap();
            let went = self.let_go(&going, now).await.unwrap();
            assert_eq!(went, going.len() as u64, "{going:?}");
            gone += went;
            if went == 0 {
                return gone;
            }
        }
    }

    /// What goes next of a run; nothing if nothing is left of it.
    async fn next_of(&self, run: Uuid) -> Option<KeepStage> {
        self.holding(run).await.unwrap().map(|one| *one.stage)
    }
}

pub fn policy(usual: Terms, floor: Time) -> Policy {
    Policy {
        floor,
        usual,
        reports: BTreeMap::new(),
        most_bytes: None,
    }
}

/// Two years of three reports, each with its terms, against what is thought out day by day.
#[tokio::test]
async fn two_years_go_as_they_are_to_go() {
    let place = Place::new().await;
    let mut all: Vec<Thought> = Vec::new();
    let floor = 20;
    // Documents, snapshots, records; and how many runs of a report.
    let usual = [Some(200), Some(300), Some(400)];
    let own = [
        ("daily", [Some(90), Some(90), None], None),
        ("short", [Some(5), Some(30), Some(31)], None),
        ("many", [None, Some(100), None], Some(6)),
    ];
    for day in (0..730).step_by(5) {
        let names = ["daily", "short", "many", "other"];
        let report = names[(day / 5) as usize % 4];
        let id = place.over(report, on(day), 10).await;
        let kept = day % 165 == 0;
        if kept {
            let by = ("ann", "an audit");
            assert!(
                !place
                    .keep_run((id, report), by.0, by.1, on(day))
                    .await
                    .unwrap()
            );
        }
        all.push(Thought {
            id,
            report,
            day,
            stage: Some(KeepStage::Documents),
            kept,
        });
        if day == 600 {
            // What was kept for good goes with the rest once it is not any more.
            assert!(place.keep_run_no_longer(all[0].id).await.unwrap());
            assert!(!place.keep_run_no_longer(all[0].id).await.unwrap());
            all[0].kept = false;
        }
        let mut policy = policy(terms(day, usual), on(day - floor));
        for (name, days, most_runs) in own {
            let terms = Terms {
                most_runs,
                ..terms(day, days)
            };
            policy.reports.insert(name.to_owned(), terms);
        }
        place.let_all_go(&policy, on(day)).await;

        for thought in (0..all.len()).rev() {
            let (report, age) = (all[thought].report, day - all[thought].day);
            if all[thought].kept || age < floor {
                continue;
            }
            let named = own.iter().find(|(name, ..)| *name == report);
            let (days, most) = named.map_or((usual, None), |(_, days, most)| (*days, *most));
            let later = all[thought + 1..].iter().filter(|one| {
                one.report == report && !one.kept && one.stage == Some(KeepStage::Documents)
            });
            let too_many = most.is_some_and(|most| later.count() as i64 >= most);
            let is_over = |term: Option<i64>| term.is_some_and(|term| age >= term);
            let one = &mut all[thought];
            if one.stage == Some(KeepStage::Documents) && (is_over(days[0]) || too_many) {
                one.stage = Some(KeepStage::Snapshots);
            }
            if one.stage == Some(KeepStage::Snapshots) && is_over(days[1]) {
                one.stage = Some(KeepStage::Record);
            }
            if one.stage == Some(KeepStage::Record) && is_over(days[2]) {
                one.stage = None;
            }
        }
        if day % 60 == 0 || day > 700 {
            for one in &all {
                let stage = place.next_of(one.id).await;
                assert_eq!(
                    stage, one.stage,
                    "{} of day {} on day {day}",
                    one.report, one.day
                );
            }
        }
    }
    let holdings = place.holdings().await.unwrap();
    assert_eq!(
        holdings.runs as usize,
        all.iter().filter(|one| one.stage.is_some()).count()
    );
    let with_documents = all
        .iter()
        .filter(|one| one.stage == Some(KeepStage::Documents));
    assert_eq!(
        holdings.document_bytes as usize,
        with_documents.count() * 20
    );
    // Whatever went is on record, once for each of its parts.
    let parts = |one: &Thought| match one.stage {
        Some(KeepStage::Documents) => 0,
        Some(KeepStage::Snapshots) => 1,
        Some(KeepStage::Record) => 2,
        None => 3,
    };
    let removals = place.removals(None, 1, 10).await.unwrap();
    assert_eq!(removals.total, all.iter().map(parts).sum::<u64>());
}

#[tokio::test]
async fn what_went_is_gone_and_what_is_said_of_it_stays() {
    let place = Place::new().await;
    let run = place.over("daily", on(0), 50).await;
    let other = place.over("daily", on(9), 50).await;
    let heads = place.document_heads(run).await.unwrap();
    let everything = terms(10, [Some(5), Some(5), None]);
    let gone = place.let_all_go(&policy(everything, on(10)), on(10)).await;
    assert_eq!(gone, 2, "documents, then the snapshot");
    let document = place.document(heads[0].id).await.unwrap().unwrap();
    assert_eq!(
        (document.body.len(), document.removed_at),
        (0, Some(on(10)))
    );
    let snapshot = heads[0].snapshot_id;
    assert!(place.whole_snapshot(snapshot).await.unwrap().is_none());
    assert_eq!(
        place.snapshot_place(snapshot).await.unwrap(),
        Some((run, Some(on(10))))
    );
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    let left = "select (select count(*) from pictures where run_id = $1) + (select count(*) from document_texts t join snapshots s on s.id = t.snapshot_id where s.run_id = $1)";
    let left: i64 = sqlx::query_scalar(left)
        .bind(run)
        .fetch_one(&mut records)
        .await
        .unwrap();
    assert_eq!(left, 0);
    // Nothing of it is sent again.
    let refused = place
        .add_copies(run, &[], "host", None, "ann", on(11))
        .await
        .unwrap_err();
    assert!(
        matches!(refused, StoreError::DocumentsGone { .. }),
        "{refused}"
    );

    // Its record goes, too, and still it is known what it was.
    let everything = terms(11, [Some(5), Some(5), Some(5)]);
    place.let_all_go(&policy(everything, on(11)), on(11)).await;
    assert!(place.run(run).await.unwrap().is_none());
    assert!(place.run(other).await.unwrap().is_some());
    let known = place
        .removed_document(&format!("a.csv{run}"))
        .await
        .unwrap()
        .unwrap();
    assert_eq!(
        (known.run_id, known.at, *known.what),
        (run, on(10), KeepStage::Documents)
    );
    assert_eq!(known.files.as_array().unwrap().len(), 2);
    let removals = place.removals(Some("daily"), 1, 10).await.unwrap();
    let what = removals.items.iter().map(|one| *one.what);
    assert_eq!(
        what.collect::<Vec<_>>(),
        [
            KeepStage::Record,
            KeepStage::Snapshots,
            KeepStage::Documents
        ]
    );
}

#[tokio::test]
async fn what_takes_too_much_room_goes_oldest_first_and_documents_before_snapshots() {
    use KeepStage::{Documents, Record, Snapshots};
    let place = Place::new().await;
    let mut runs = Vec::new();
    for day in 0..6 {
        runs.push(place.over("daily", on(day), 100).await);
    }
    place.measure(100).await.unwrap();
    // Each has 200 bytes of documents and 107 of snapshot and picture.
    let limited = |bytes| Policy {
        most_bytes: Some(bytes),
        ..policy(Terms::default(), on(10))
    };
    let going = place.going(&limited(6 * 307 - 250), 50).await.unwrap();
    let named: Vec<_> = going
        .iter()
        .map(|one| (one.run, one.what, one.why))
        .collect();
    let documents = |run: Uuid| (run, Documents, KeepWhy::Size);
    assert_eq!(named, [documents(runs[0]), documents(runs[1])]);
    // Somebody keeps the oldest meanwhile; the others make room for it.
    place
        .keep_run((runs[0], "daily"), "ann", "an audit", on(6))
        .await
        .unwrap();
    assert_eq!(place.let_go(&going, on(7)).await.unwrap(), 1);
    place.let_all_go(&limited(500), on(7)).await;
    let mut stages = Vec::new();
    for run in &runs {
        stages.push(place.next_of(*run).await.unwrap());
    }
    // 307 of the kept one, and 107 of one snapshot: the next would be too much.
    assert_eq!(
        stages,
        [Documents, Record, Record, Record, Record, Snapshots]
    );
    // What is under way, or being sent, does not go.
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    sqlx::query("update runs set state = 'releasing' where id = $1")
        .bind(runs[5])
        .execute(&mut records)
        .await
        .unwrap();
    let going = place.going(&limited(1), 50).await.unwrap();
    assert_eq!(place.let_go(&going, on(8)).await.unwrap(), 0);
}

/// The room of what went is used again.
#[tokio::test]
async fn the_database_does_not_grow_while_as_much_goes_as_comes() {
    let place = Place::new().await;
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    let mut sizes = Vec::new();
    for round in 0..4 {
        for run in 0..10 {
            place.over("daily", on(round * 10 + run), 200_000).await;
        }
        let (day, all) = (round * 10 + 20, [Some(5), Some(5), Some(5)]);
        place
            .let_all_go(&policy(terms(day, all), on(day)), on(day))
            .await;
        place.give_back_room().await.unwrap();
        let size: i64 = sqlx::query_scalar(
            "select pg_total_relation_size('documents') + pg_total_relation_size('snapshots')",
        )
        .fetch_one(&mut records)
        .await
        .unwrap();
        sizes.push(size);
    }
    assert!(sizes[3] <= sizes[0] * 2, "{sizes:?}");
}
