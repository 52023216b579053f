//! Thousands of runs that are due at once, before the server has counted the rows of its tables: claiming of them
//! costs as much as claiming of a few.

use sqlx::{PgConnection, Row};
use uuid::Uuid;

use super::{LEASE, Place, at, run};

const FEW: usize = 20;
const MANY: usize = 1_000;
const TAKEN: usize = 10;

/// How many blocks of its tables and indexes the server has looked at for statements that begin like this.
async fn blocks(administrator: &mut PgConnection, statement: &str) -> i64 {
    let counted = "select coalesce(sum(shared_blks_hit + shared_blks_read), 0)::bigint as blocks, coalesce(sum(calls), 0)::bigint as calls \
        from pg_stat_statements s join pg_database d on d.oid = s.dbid where d.datname = current_database() and starts_with(query, $1)";
    let row = sqlx::query(counted)
        .bind(statement)
        .fetch_one(administrator)
        .await
        .unwrap();
    assert!(row.get::<i64, _>("calls") > 0, "{statement} was not asked");
    row.get("blocks")
}

async fn watched() -> (Place, PgConnection) {
    let place = Place::new().await;
    let mut administrator = place.administrator().await;
    sqlx::raw_sql("create extension pg_stat_statements")
        .execute(&mut administrator)
        .await
        .unwrap();
    (place, administrator)
}

async fn claiming_runs(due: usize) -> i64 {
    let (place, mut administrator) = watched().await;
    let all = (0..due).map(|n| run(Uuid::now_v7(), &format!("r{n}"), 0));
    place.add_runs(&all.collect::<Vec<_>>()).await.unwrap();
    let process = Uuid::now_v7();
    for _ in 0..TAKEN {
        let claimed = place.claim_run(process, at(0), LEASE, &[], None).await;
        assert!(claimed.unwrap().is_some());
    }
    blocks(&mut administrator, "select * from claim_run(").await
}

#[tokio::test]
async fn claiming_of_a_thousand_runs_costs_what_it_costs_of_a_few() {
    let (few, many) = (claiming_runs(FEW).await, claiming_runs(MANY).await);
    assert!(many < 3 * few, "{many} blocks, {few} of {FEW}");
}
