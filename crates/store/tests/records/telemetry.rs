//! Runs that are over are told once to whatever gathers traces.

use maple_lark_store::telemetry::PendingTraces;

use super::*;

/// The next runs, once whoever had them before has let go of them.
async fn pending(place: &Place) -> PendingTraces {
    loop {
        if let Some(pending) = place.runs_to_trace(2).await.unwrap() {
            return pending;
        }
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
}

#[tokio::test]
async fn each_run_that_is_over_is_told_until_somebody_has_it() {
    let place = Place::new().await;
    let mut administrator = place.administrator().await;
    let before = place.new_run("before", 0).await;
    // What was over before anybody asked for traces is left out.
    let ended = async |administrator: &mut sqlx::PgConnection, run: Uuid, ago: &str| {
        sqlx::raw_sql(sqlx::AssertSqlSafe(format!(
            "update runs set state = 'completed', finished_at = now() - interval '{ago}' where id = '{run}'"
        )))
        .execute(administrator)
        .await
        .unwrap();
    };
    ended(&mut administrator, before, "1 minute").await;
    let told = async |sent: bool| {
        let pending = pending(&place).await;
        let reports: Vec<String> = pending
            .runs()
            .iter()
            .map(|run| run.report.clone())
            .collect();
        if sent {
            pending.sent().await.unwrap();
        }
        reports
    };
    assert!(told(true).await.is_empty());
    sqlx::raw_sql("update telemetry_sent set finished_at = now() - interval '1 hour'")
        .execute(&mut administrator)
        .await
        .unwrap();
    for (report, ago) in [
        ("third", "20 seconds"),
        ("first", "40 seconds"),
        ("second", "30 seconds"),
        ("just now", "1 second"),
    ] {
        let run = place.new_run(report, 0).await;
        ended(&mut administrator, run, ago).await;
    }
    place.new_run("not over", 0).await;
    assert_eq!(told(false).await, ["before", "first"]);
    assert_eq!(told(true).await, ["before", "first"], "nobody had them");
    // While one tells, others leave it alone.
    let pending = pending(&place).await;
    assert!(place.runs_to_trace(2).await.unwrap().is_none());
    drop(pending);
    assert_eq!(told(true).await, ["second", "third"]);
    assert!(
        told(true).await.is_empty(),
        "one that has just ended may not be on record yet"
    );
}
