//! What is looked at again and again looks at what is open and what is latest, however much is
//! on record; counts are what counting would find.

use std::collections::BTreeMap;

use maple_lark_api::{RunState, Words};
use maple_lark_store::{runs::RunFilter, teams::Sight};
use sqlx::{PgConnection, Row};
use uuid::Uuid;

use super::{LEASE, Place, accepted, at, refused};

/// Runs of twenty reports over the years, nearly all of them settled, each with two deliveries
/// of two attempts.
const PAST: &str = "
    insert into runs (id, report, title, scheduled_for, cause, deliver, state, definitions, window_from, window_to, time_zone, created_at, started_at, finished_at)
    select gen_random_uuid(), 'r' || n % 20, 'R', t, 'schedule', true,
           case n % 50 when 0 then 'failed' when 1 then 'quiet' when 2 then 'partly-delivered' when 3 then 'completed' else 'delivered' end,
           '[]', t, t, 'UTC', t, t, t
    from (select n, timestamptz '2026-09-21T15:06:40Z' - n * interval '10 minutes' as t from generate_series(1, 20000) n) past;
    insert into snapshots (id, run_id, values_key, sha256, body, created_at, status)
    select gen_random_uuid(), id, 'k', 'x', '', created_at, 'ok' from runs;
    insert into deliveries (id, run_id, snapshot_id, audience, channel, recipient, state, message_id, next_attempt_at, created_at, settled_at)
    select gen_random_uuid(), s.run_id, s.id, 'all', 'mail', p, 'accepted', gen_random_uuid()::text, s.created_at, s.created_at, s.created_at
    from snapshots s, unnest(array['one@orrin-sound.example', 'two@orrin-sound.example']) p;
    insert into delivery_attempts (delivery_id, started_at, ended_at, outcome)
    select id, created_at, created_at, o from deliveries, unnest(array['postponed', 'accepted']) o;
    insert into notices (kind, subject, text, created_at, told_at)
    select 'suppressed', 'p' || n || '@orrin-sound.example', 'suppressed', '2026-01-01', '2026-01-01' from generate_series(1, 20000) n;
    insert into notices (kind, subject, run_id, text, created_at, told_at)
    select 'failed', report, id, 'it failed', created_at, created_at from runs where state = 'failed';
";

/// The tables that grow with history.
const TABLES: [&str; 6] = [
    "runs",
    "run_hours",
    "snapshots",
    "deliveries",
    "delivery_attempts",
    "notices",
];

impl Place {
    pub(super) async fn administrator(&self) -> PgConnection {
        self.cluster.connect("maple_lark").await.unwrap()
    }
}

/// How many rows were read by going through whole tables.
async fn gone_through(connection: &mut PgConnection) -> BTreeMap<String, i64> {
    sqlx::query("select pg_stat_force_next_flush()")
        .execute(&mut *connection)
        .await
        .unwrap();
    sqlx::query(
        "select relname::text as name, coalesce(seq_tup_read, 0) as rows from pg_stat_user_tables",
    )
    .fetch_all(connection)
    .await
    .unwrap()
    .iter()
    .map(|row| (row.get::<String, _>("name"), row.get::<i64, _>("rows")))
    .filter(|(name, _)| TABLES.contains(&name.as_str()))
    .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_that_is_looked_at_again_and_again_goes_through_history() {
    let place = Place::new().await;
    let mut administrator = place.administrator().await;
    sqlx::raw_sql(PAST)
        .execute(&mut administrator)
        .await
        .unwrap();
    sqlx::raw_sql("analyze")
        .execute(&mut administrator)
        .await
        .unwrap();
    let process = Uuid::now_v7();
    let (open, _) = place.delivering_of("r7", process, 2).await;
    let reports: Vec<String> = (0..20).map(|n| format!("r{n}")).collect();
    let (now, day) = (at(60), chrono::TimeDelta::days(1));

    // What has been put on record at once is added up once.
    place.fold_counts().await.unwrap();
    sqlx::raw_sql("vacuum analyze run_hours")
        .execute(&mut administrator)
        .await
        .unwrap();
    let before = gone_through(&mut administrator).await;
    // As often as it takes for a statement to get a plan that fits any values.
    for round in 0..8 {
        let now = now + chrono::TimeDelta::seconds(round);
        assert!(
            place
                .claim_run(process, now, LEASE, &[], None)
                .await
                .unwrap()
                .is_none()
        );
        assert_eq!(place.untold(now - day).await.unwrap().len(), 3);
        place.recovered(now - day).await.unwrap();
        place.open_since(now).await.unwrap();
        place.unapproved(now).await.unwrap();
        place.close_abandoned(now).await.unwrap();
        place.bring_back(now, LEASE, false).await.unwrap();
        place.fold_counts().await.unwrap();
        place.queues().await.unwrap();
        place.attempts_since("", now - LEASE).await.unwrap();
        place.oldest_waiting_delivery().await.unwrap();
        assert_eq!(place.unconfirmed_attempts().await.unwrap(), 0);
        assert_eq!(place.latest_runs(&reports).await.unwrap().len(), 20);
        place.outcomes_since(now - day, &Sight::All).await.unwrap();
        let days: Vec<_> = (0..4).map(|n| now - day * (3 - n)).collect();
        assert!(
            place
                .run_days(None, &days, &Sight::All)
                .await
                .unwrap()
                .len()
                > 20
        );
        place.counts(&Sight::All).await.unwrap();
        place.quiet_since("r1", now - day).await.unwrap();
        place.status_before(&open, "k").await.unwrap();
        for (report, state) in [
            (None, None),
            (Some("r3".to_owned()), None),
            (None, Some(RunState::Failed)),
            (Some("r0".to_owned()), Some(RunState::Failed)),
        ] {
            let filter = RunFilter {
                report,
                state,
                sight: Sight::All,
            };
            assert_eq!(place.runs(&filter, 1, 25).await.unwrap().items.len(), 25);
        }
        // There are none of these, and they are not looked for one by one.
        let none = RunFilter {
            report: Some("r3".to_owned()),
            state: Some(RunState::Failed),
            sight: Sight::All,
        };
        assert!(place.runs(&none, 1, 25).await.unwrap().items.is_empty());
        place.run(open.id).await.unwrap();
        place.steps(open.id).await.unwrap();
        place.snapshot_heads(open.id).await.unwrap();
        let deliveries = place.deliveries(open.id).await.unwrap();
        place.attempts(&deliveries).await.unwrap();
        place.document_heads(open.id).await.unwrap();
    }
    // A connection reports what it has read at its first statement after a second's rest, and
    // the pool has four of them, which take turns.
    tokio::time::sleep(std::time::Duration::from_millis(1500)).await;
    for _ in 0..8 {
        place.time().await.unwrap();
    }
    let after = gone_through(&mut administrator).await;
    assert_eq!(before, after);
}

/// How many runs the index of instants has told of, and how many of them were then read.
async fn told_and_read(place: &Place, connection: &mut PgConnection) -> (i64, i64) {
    // A connection reports what it has read at its first statement after a second's rest.
    tokio::time::sleep(std::time::Duration::from_millis(1500)).await;
    for _ in 0..8 {
        place.time().await.unwrap();
    }
    let row = sqlx::query(
        "select idx_tup_read as told, idx_tup_fetch as read from pg_stat_user_indexes where indexrelname = 'runs_scheduled'",
    )
    .fetch_one(connection)
    .await
    .unwrap();
    (row.get("told"), row.get("read"))
}

#[tokio::test(flavor = "multi_thread")]
async fn the_runs_of_each_day_are_counted_without_reading_them() {
    let place = Place::new().await;
    let mut administrator = place.administrator().await;
    // Only what is written for good is seen to be visible to all.
    sqlx::raw_sql("set synchronous_commit = on")
        .execute(&mut administrator)
        .await
        .unwrap();
    sqlx::raw_sql(PAST)
        .execute(&mut administrator)
        .await
        .unwrap();
    sqlx::raw_sql("vacuum analyze runs")
        .execute(&mut administrator)
        .await
        .unwrap();
    let days: Vec<_> = (0..20)
        .map(|n| at(0) - chrono::TimeDelta::days(20 - n))
        .collect();
    for sight in [Sight::All, Sight::Teams(vec![String::new()])] {
        let before = told_and_read(&place, &mut administrator).await;
        let found = place.run_days(None, &days, &sight).await.unwrap();
        assert!(found.len() > 200);
        let after = told_and_read(&place, &mut administrator).await;
        assert!(after.0 - before.0 > 2000, "{before:?} {after:?}");
        assert_eq!(after.1, before.1, "they were read");
    }
    // Where days begin on hours, the hours are counted, and only the last run of each report is looked up.
    place.fold_counts().await.unwrap();
    sqlx::raw_sql("vacuum analyze run_hours")
        .execute(&mut administrator)
        .await
        .unwrap();
    let past = chrono::TimeDelta::seconds(at(0).timestamp() % 3600);
    let hours: Vec<_> = days.iter().map(|day| *day - past).collect();
    let before = told_and_read(&place, &mut administrator).await;
    let found = place.run_days(None, &hours, &Sight::All).await.unwrap();
    let after = told_and_read(&place, &mut administrator).await;
    assert!(found.iter().map(|day| day.count).sum::<i64>() > 2000);
    let looked_up = after.0 - before.0;
    assert!(looked_up <= found.len() as i64, "{before:?} {after:?}");
}

#[tokio::test]
async fn counts_are_what_counting_finds_however_states_change() {
    let place = Place::new().await;
    let mut administrator = place.administrator().await;
    let process = Uuid::now_v7();
    let mut check = async |what: &str| {
        for (kind, table) in [("run", "runs"), ("delivery", "deliveries")] {
            let sql =
                format!("select state, count(*) as n from {table} group by state order by state");
            let counted: Vec<(String, i64)> = sqlx::query(sqlx::AssertSqlSafe(sql))
                .fetch_all(&mut administrator)
                .await
                .unwrap()
                .iter()
                .map(|row| (row.get("state"), row.get("n")))
                .collect();
            let kept: Vec<(String, i64)> = place
                .counts(&Sight::All)
                .await
                .unwrap()
                .into_iter()
                .filter(|(of, _, _)| of == kind)
                .map(|(_, state, n)| (state, n))
                .collect();
            assert_eq!(kept, counted, "{kind}, {what}");
        }
    };
    check("nothing").await;
    let (first, _) = place.delivering_of("daily", process, 3).await;
    let (second, _) = place.delivering_of("weekly", process, 1).await;
    check("enqueued").await;
    let claimed = place
        .claim_deliveries(process, at(1), LEASE, 10, &[], &[])
        .await
        .unwrap();
    for (n, (_, claim)) in claimed.iter().enumerate() {
        let ending = if n == 0 { refused() } else { accepted() };
        place.end_attempt(*claim, &ending, at(2)).await.unwrap();
        check("an attempt has ended").await;
    }
    place.fold_counts().await.unwrap();
    check("folded").await;
    let of = async |report: Option<&str>, state: Option<RunState>| {
        let filter = RunFilter {
            report: report.map(str::to_owned),
            state,
            sight: Sight::All,
        };
        place.runs(&filter, 1, 1).await.unwrap().total
    };
    assert_eq!(of(None, None).await, 2);
    assert_eq!(of(Some("daily"), None).await, 1);
    assert_eq!(of(Some("daily"), Some(RunState::Held)).await, 0);
    assert_eq!(of(Some("none"), None).await, 0);
    let ended = place.run(first.id).await.unwrap().unwrap().state;
    assert_eq!(of(None, Some(*ended)).await, 1, "{}", ended.word());
    let remove = sqlx::query("delete from runs where id = $1").bind(second.id);
    remove
        .execute(&mut place.administrator().await)
        .await
        .unwrap();
    check("one is gone").await;
    place.fold_counts().await.unwrap();
    check("folded again").await;
}
