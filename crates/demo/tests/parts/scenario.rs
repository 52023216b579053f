//! The data is always the same.

use maple_lark_demo::{TestCluster, scenario};
use sqlx::PgConnection;

async fn loaded(cluster: &TestCluster, name: &str, times: &[&str]) -> PgConnection {
    cluster.database(name, "orrin_owner").await.unwrap();
    let mut connection = cluster.connect(name).await.unwrap();
    for time in times {
        scenario::load(&mut connection, "orrin_reader", time.parse().unwrap(), 3)
            .await
            .unwrap();
    }
    connection
}

async fn digest(connection: &mut PgConnection) -> Vec<String> {
    let mut digests = Vec::new();
    for table in [
        "host_samples",
        "health_checks",
        "vessel_links",
        "kiosk_sales",
        "batch_runs",
        "certificates",
    ] {
        let sql = format!(
            "select count(*) || ' ' || md5(string_agg(t::text, ',' order by t::text)) from {table} t"
        );
        digests.push(
            sqlx::query_scalar(sqlx::AssertSqlSafe(sql))
                .fetch_one(&mut *connection)
                .await
                .unwrap(),
        );
    }
    digests
}

#[tokio::test]
async fn demo_data_is_the_same_each_time_and_can_be_continued() {
    let cluster = TestCluster::new().await.unwrap();
    cluster.role("orrin_reader").await.unwrap();
    let mut whole = loaded(&cluster, "one", &["2026-11-23T09:07:00Z"]).await;
    let mut in_parts = loaded(
        &cluster,
        "two",
        &[
            "2026-11-23T01:00:00Z",
            "2026-11-23T01:00:01Z",
            "2026-11-23T08:59:59Z",
            "2026-11-23T09:07:00Z",
        ],
    )
    .await;
    assert_eq!(digest(&mut whole).await, digest(&mut in_parts).await);
    // What the scenario promises is there to be found.
    let outage: i64 = sqlx::query_scalar("select count(*) from health_checks where service = 'payments' and not ok and at::date = '2026-11-22'")
        .fetch_one(&mut whole)
        .await
        .unwrap();
    let kiosks: f64 =
        sqlx::query_scalar("select (100.0 * sum(failed) / sum(sold + failed))::float8 from kiosk_sales where kiosk like 'havnes%' and hour >= '2026-11-22'")
            .fetch_one(&mut whole)
            .await
            .unwrap();
    let disk: f32 =
        sqlx::query_scalar("select max(disk_percent) from host_samples where host = 'archive-01'")
            .fetch_one(&mut whole)
            .await
            .unwrap();
    assert!(
        outage >= 4 && kiosks > 10.0 && disk > 90.0,
        "{outage} {kiosks} {disk}"
    );
}
