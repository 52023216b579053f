//! Days that begin on hours are counted from the runs of each hour, and are what counting the runs would find.

use chrono::{TimeDelta, Timelike};
use maple_lark_api::Cause;
use maple_lark_store::{entity::Time, run_days::RunDay, teams::Sight};
use sqlx::{PgConnection, Row};
use uuid::Uuid;

use super::{Place, at, run};

/// One kind of runs of a day: which day, report, state, how many, the first and last instant, the last run.
type Counted = (i32, String, String, i64, Time, Time, Uuid);

const TEAMS: [&str; 2] = ["", "port"];
const REPORTS: [&str; 3] = ["daily", "hourly", "weekly"];
const STATES: [&str; 3] = ["due", "delivered", "failed"];
const DAYS: i64 = 3;

/// Midnights, or half past for days that are counted run by run.
fn edges(half_past: bool) -> Vec<Time> {
    let midnight = at(0).with_hour(0).unwrap().with_minute(0).unwrap();
    let midnight = midnight.with_second(0).unwrap();
    let past = TimeDelta::minutes(if half_past { 30 } else { 0 });
    (0..=DAYS)
        .map(|day| midnight + TimeDelta::days(day) + past)
        .collect()
}

fn counted(day: RunDay) -> Counted {
    let state = maple_lark_api::Words::word(*day.state).to_owned();
    let (first, last) = (day.first, day.last);
    (
        day.day, day.report, state, day.count, first, last, day.latest,
    )
}

/// What counting the runs themselves finds.
async fn found(records: &mut PgConnection, edges: &[Time], teams: &[&str]) -> Vec<Counted> {
    let mut all = Vec::new();
    for (day, edge) in (1..).zip(edges.windows(2)) {
        let rows = sqlx::query(
            "select report, state, count(*) as count, min(scheduled_for) as first, max(scheduled_for) as last, \
               (array_agg(id order by scheduled_for desc, created_at desc))[1] as latest \
             from runs where scheduled_for >= $1 and scheduled_for < $2 and team = any($3) \
             group by report, state order by report collate \"C\", state collate \"C\"",
        )
        .bind(edge[0])
        .bind(edge[1])
        .bind(teams)
        .fetch_all(&mut *records)
        .await
        .unwrap();
        all.extend(rows.iter().map(|row| {
            let (first, last) = (row.get("first"), row.get("last"));
            let (report, state) = (row.get("report"), row.get("state"));
            (
                day,
                report,
                state,
                row.get("count"),
                first,
                last,
                row.get("latest"),
            )
        }));
    }
    all
}

/// Holds what is told of days against the runs themselves, for all and for those of a team.
async fn check(place: &Place, records: &mut PgConnection, what: &str) {
    let nobody = Sight::Teams(vec![String::new()]);
    for (sight, teams) in [(Sight::All, &TEAMS[..]), (nobody, &TEAMS[..1])] {
        for half_past in [false, true] {
            let edges = edges(half_past);
            let told = place.run_days(None, &edges, &sight).await.unwrap();
            let told: Vec<Counted> = told.into_iter().map(counted).collect();
            let there = found(records, &edges, teams).await;
            assert_eq!(told, there, "{what}, half past: {half_past}, {teams:?}");
        }
    }
}

/// Numbers that are the same each time.
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, limit: usize) -> usize {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize % limit
    }
    fn one<'a>(&mut self, of: &[&'a str]) -> &'a str {
        of[self.below(of.len())]
    }
}

async fn add(place: &Place, numbers: &mut Numbers) -> Uuid {
    // In few hours, so that several share one; a little before and after the days, too.
    let hour = numbers.below(DAYS as usize * 2 + 2) as i64 * 12 - 6;
    let within = edges(false)[0] + TimeDelta::minutes(hour * 60 + numbers.below(4) as i64 * 15);
    let seconds = (within - at(0)).num_seconds();
    let mut new = run(Uuid::now_v7(), numbers.one(&REPORTS), seconds);
    // Several may have one instant, as what people ask for has.
    new.cause = Cause::Request;
    new.created_at += TimeDelta::microseconds(numbers.below(1_000_000_000) as i64);
    new.team = numbers.one(&TEAMS).to_owned();
    place.add_run(&new).await.unwrap();
    new.id
}

#[tokio::test]
async fn they_are_what_counting_finds_however_runs_change() {
    let place = Place::new().await;
    let mut records = place.administrator().await;
    let mut numbers = Numbers(7);
    let mut runs = Vec::new();
    for _ in 0..60 {
        runs.push(add(&place, &mut numbers).await);
    }
    check(&place, &mut records, "new").await;
    place.fold_counts().await.unwrap();
    check(&place, &mut records, "folded").await;
    for round in 0..120 {
        let id = runs[numbers.below(runs.len())];
        let (what, value) = match numbers.below(6) {
            0 => (
                "delete from runs where id = $1 and $2 <> ''",
                "x".to_owned(),
            ),
            1 => (
                "update runs set team = $2 where id = $1",
                numbers.one(&TEAMS).to_owned(),
            ),
            2 => {
                let hours = numbers.below(5).to_string();
                (
                    "update runs set scheduled_for = scheduled_for + make_interval(hours => $2::int) where id = $1",
                    hours,
                )
            }
            3 => {
                runs.push(add(&place, &mut numbers).await);
                (
                    "update runs set state = $2 where id = $1",
                    "quiet".to_owned(),
                )
            }
            _ => (
                "update runs set state = $2 where id = $1",
                numbers.one(&STATES).to_owned(),
            ),
        };
        let change = sqlx::query(what).bind(id).bind(&value);
        change.execute(&mut records).await.unwrap();
        if numbers.below(4) == 0 {
            place.fold_counts().await.unwrap();
        }
        check(&place, &mut records, &format!("round {round}: {what}")).await;
    }
    sqlx::query("delete from runs")
        .execute(&mut records)
        .await
        .unwrap();
    check(&place, &mut records, "all are gone").await;
    place.fold_counts().await.unwrap();
    let left: i64 = sqlx::query_scalar("select count(*) from run_hours")
        .fetch_one(&mut records)
        .await
        .unwrap();
    assert_eq!(left, 0, "nothing is kept of what is gone");
}

#[tokio::test(flavor = "multi_thread")]
async fn processes_that_add_up_at_once_lose_nothing() {
    let place = Place::new().await;
    let mut numbers = Numbers(11);
    let mut runs = Vec::new();
    for _ in 0..40 {
        runs.push(add(&place, &mut numbers).await);
    }
    let (mut one, mut other) = (place.administrator().await, place.administrator().await);
    let change = "update runs set state = $2 where id = $1";
    let (half, rest) = runs.split_at(20);
    let folds = async || {
        for _ in 0..30 {
            place.fold_counts().await.unwrap();
        }
    };
    let changed = async |records: &mut PgConnection, ids: &[Uuid], mut numbers: Numbers| {
        for _ in 0..6 {
            for id in ids {
                let to = numbers.one(&STATES);
                let change = sqlx::query(change).bind(id).bind(to);
                change.execute(&mut *records).await.unwrap();
            }
        }
    };
    tokio::join!(
        folds(),
        folds(),
        changed(&mut one, half, Numbers(3)),
        changed(&mut other, rest, Numbers(5)),
    );
    check(&place, &mut one, "in the midst").await;
    place.fold_counts().await.unwrap();
    check(&place, &mut one, "at last").await;
}
