//! Orrin Sound Ferries: what its systems measured, for any stretch of time.
//!
//! Every value is a function of a fixed seed, of what is measured and of when, so the same
//! moment always has the same data and a running demo can be continued at any time.

pub(crate) mod company;
mod measured;
pub(crate) mod noise;
pub mod work_orders;

use anyhow::Result;
use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use sqlx::{AssertSqlSafe, Executor, PgConnection};

pub use company::{PORTS, SERVICES};

/// How far back the data of the demo goes when it is first loaded.
pub const DAYS: i64 = 35;
/// How often everything is measured.
pub const STEP: TimeDelta = TimeDelta::minutes(5);

const TABLES: &str = include_str!("tables.sql");

/// Loads the scenario up to `now`, at first from `days` before, and grants `reader` read access; continues where the
/// data ends if there is some already. Answers how many rows were added.
pub async fn load(
    connection: &mut PgConnection,
    reader: &str,
    now: DateTime<Utc>,
    days: i64,
) -> Result<u64> {
    let exists: Option<(i32,)> =
        sqlx::query_as("select 1 from information_schema.tables where table_name = 'scenario'")
            .fetch_optional(&mut *connection)
            .await?;
    if exists.is_none() {
        connection.execute(TABLES).await?;
        connection
            .execute(AssertSqlSafe(format!(
                "grant usage on schema public to {reader}; grant select on all tables in schema public to {reader}; grant pg_read_all_stats to {reader}"
            )))
            .await?;
        let anchor = now.duration_trunc(TimeDelta::days(1))?;
        sqlx::query("insert into scenario (anchor, measured_until) values ($1, $2)")
            .bind(anchor)
            .bind(anchor - TimeDelta::days(days))
            .execute(&mut *connection)
            .await?;
        company::load(connection, anchor).await?;
    }
    let (anchor, from): (DateTime<Utc>, DateTime<Utc>) =
        sqlx::query_as("select anchor, measured_until from scenario")
            .fetch_one(&mut *connection)
            .await?;
    let to = now.duration_trunc(STEP)? + STEP;
    if to <= from {
        return Ok(0);
    }
    connection.execute("begin").await?;
    let rows = measured::load(connection, anchor, from, to).await?;
    sqlx::query("update scenario set measured_until = $1")
        .bind(to)
        .execute(&mut *connection)
        .await?;
    connection.execute("commit").await?;
    if rows > 10_000 {
        connection.execute("analyze").await?;
    }
    Ok(rows)
}
