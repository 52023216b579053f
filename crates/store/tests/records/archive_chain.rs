//! Each day of the archive is proved later: what is altered, missing or put in is named.

use chrono::{NaiveDate, TimeDelta};
use maple_lark_store::archive_chain::DayProof;

use super::{
    keeping::{on, policy, terms},
    *,
};

impl Place {
    async fn sealed(&self, now: Time) -> u64 {
        let mut days = 0;
        while self.seal_day(now, now).await.unwrap() {
            days += 1;
        }
        days
    }

    async fn proof(&self, day: NaiveDate) -> DayProof {
        self.prove_day(day).await.unwrap().unwrap()
    }

    /// What somebody with all rights on the database does behind the service's back.
    async fn meddle(&self, sql: &'static str) {
        let mut records = self.cluster.connect("maple_lark").await.unwrap();
        sqlx::Executor::execute(&mut records, sql).await.unwrap();
    }
}

fn names(found: &[maple_lark_store::archive_chain::Found]) -> Vec<&str> {
    found.iter().map(|one| one.file_name.as_str()).collect()
}

/// Documents of four days: each digest is that of the bytes.
async fn four_days() -> (Place, Vec<NaiveDate>) {
    let place = Place::new().await;
    for day in 0..4 {
        place.over("daily", on(day), 50).await;
    }
    place
        .meddle("update documents set sha256 = encode(sha256(body), 'hex')")
        .await;
    let days = (0..4).map(|day| on(day).date_naive()).collect();
    (place, days)
}

#[tokio::test]
async fn days_are_sealed_once_they_are_over_and_each_with_the_one_before() {
    let (place, days) = four_days().await;
    assert!(place.archive_head().await.unwrap().is_none());
    let last = on(3)
        .date_naive()
        .and_time(chrono::NaiveTime::MIN)
        .and_utc();
    assert_eq!(place.sealed(last).await, 3, "the fourth is not over");
    assert_eq!(place.sealed(last + TimeDelta::hours(23)).await, 0);
    assert_eq!(
        place.sealed(last + TimeDelta::days(2)).await,
        2,
        "also one without documents"
    );
    let all = place.archive_days(1, 10).await.unwrap();
    assert_eq!(all.total, 5);
    let counts: Vec<i64> = all.items.iter().rev().map(|day| day.documents).collect();
    assert_eq!(counts, [2, 2, 2, 2, 0]);
    assert!(
        all.items
            .iter()
            .all(|day| day.intact && day.sha256.len() == 64)
    );
    let (day, head) = place.archive_head().await.unwrap().unwrap();
    assert_eq!((day, &head), (all.items[0].day, &all.items[0].sha256));
    let proof = place.proof(days[1]).await;
    assert!(proof.altered.is_empty() && proof.missing.is_empty() && proof.added.is_empty());
    assert!(
        place
            .prove_day(on(90).date_naive())
            .await
            .unwrap()
            .is_none()
    );
}

#[tokio::test]
async fn what_was_done_behind_the_services_back_is_named_with_its_day() {
    let (place, days) = four_days().await;
    place.sealed(on(6)).await;
    place
        .meddle("update documents set body = 'other' where id = (select id from documents order by created_at, file_name limit 1)")
        .await;
    assert_eq!(names(&place.proof(days[0]).await.altered), ["a.csv"]);
    place
        .meddle("delete from documents where id = (select id from documents order by created_at offset 2 limit 1)")
        .await;
    assert_eq!(place.proof(days[1]).await.missing.len(), 1);
    place
        .meddle("insert into documents select gen_random_uuid(), run_id, snapshot_id, format, 'c.csv', media_type, sha256, size, body, created_at, variant from documents order by created_at desc limit 1")
        .await;
    assert_eq!(names(&place.proof(days[3]).await.added), ["c.csv"]);
    // The list itself cannot be changed as long as its triggers are there, and is chained if it is.
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    for sql in [
        "delete from archive_documents",
        "update archive_days set sha256 = ''",
    ] {
        let refused = sqlx::Executor::execute(&mut records, sql)
            .await
            .unwrap_err();
        assert!(refused.to_string().contains("not changed or removed"));
    }
    place
        .meddle("alter table archive_documents disable trigger keep_documents; update archive_documents set size = 1 where day = (select min(day) + 2 from archive_days)")
        .await;
    let broken = |all: &[maple_lark_store::archive_chain::ArchiveDay]| -> Vec<NaiveDate> {
        let broken = all.iter().filter(|day| !day.intact);
        broken.map(|day| day.day).collect()
    };
    let all = place.archive_days(1, 10).await.unwrap().items;
    assert_eq!(broken(&all), [days[2]]);
}

#[tokio::test]
async fn what_went_after_as_long_as_it_is_kept_is_not_missing() {
    let (place, days) = four_days().await;
    place.sealed(on(6)).await;
    // Of the first two days the documents go, of the first the records as well.
    let gone = terms(6, [Some(4), Some(5), Some(6)]);
    place.let_all_go(&policy(gone, on(6)), on(6)).await;
    for day in &days {
        let proof = place.proof(*day).await;
        assert!(proof.day.intact && proof.altered.is_empty(), "{proof:?}");
        assert!(
            proof.missing.is_empty() && proof.added.is_empty(),
            "{proof:?}"
        );
    }
    let went: Vec<i64> = [
        place.proof(days[0]).await.let_go,
        place.proof(days[3]).await.let_go,
    ]
    .into();
    assert_eq!(went, [2, 0]);
}

#[tokio::test]
async fn somebody_outside_is_told_of_the_latest_day_once() {
    let (place, days) = four_days().await;
    let takes = TimeDelta::minutes(2);
    let take = async |now: Time| {
        let taken = place.take_untold_day(now, takes).await.unwrap();
        taken.map(|one| (one.day, one.documents, one.sha256))
    };
    let now = on(3) + TimeDelta::days(2);
    assert_eq!(take(now).await, None, "no day is sealed");
    place.sealed(on(3)).await;
    let (head, digest) = place.archive_head().await.unwrap().unwrap();
    assert_eq!(take(now).await, Some((head, 2, digest.clone())));
    assert_eq!(head, days[2]);
    // Another process leaves it to the first, until that has taken too long.
    assert_eq!(take(now + TimeDelta::minutes(1)).await, None);
    let later = now + TimeDelta::minutes(3);
    assert_eq!(take(later).await, Some((head, 2, digest)));
    place.told_of_day(head, later).await.unwrap();
    assert_eq!(take(later + TimeDelta::days(1)).await, None);
    // The next day is told of when it is sealed; those between follow from it.
    place.sealed(now).await;
    let (head, digest) = place.archive_head().await.unwrap().unwrap();
    let (day, _, told) = take(later + TimeDelta::days(1)).await.unwrap();
    assert_eq!((day, told), (head, digest));
    assert!(day > days[2]);
    assert!(
        place.proof(days[0]).await.day.intact,
        "days themselves stay as they were sealed"
    );
}
