//! A database that was restored does not know what was done after the copy was made. Whatever may have been
//! sent in that time is held until somebody has looked.

use maple_lark_api::RunState;
use sea_orm::{ConnectionTrait, DatabaseTransaction, TransactionTrait};

use crate::{Result, Store, entity::Time, stored::sql_list};

/// What is said of each run that may have been sent before.
pub const DOUBT: &str = "the database was restored from a copy, and this may have been sent after the copy was made; see the mail server's log, or ask a recipient, before you release it";

/// What was found of a database that has been restored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Restored {
    pub found_at: Time,
    /// How many runs were on their way in the copy.
    pub runs: u64,
}

impl Store {
    /// Whether this is the database that it was when it was looked at last. If it is not, all that is on its
    /// way to somebody is held, copies that wait are cancelled and notices that wait are not told; until
    /// this has been done, nobody takes any work. `fails_over` says that a standby may take over from its
    /// server without anything being lost.
    ///
    /// # Errors
    /// If the database cannot be asked; nothing has been done then.
    pub async fn look_whether_restored(
        &self,
        fails_over: bool,
        now: Time,
    ) -> Result<Option<Restored>> {
        let known = Store::sql(
            "select exists (select from database_identity known, current_identity() now where known.cluster = now.cluster \
             and known.timeline = now.timeline and known.number = now.number and known.fails_over = $1) as known",
            [fails_over.into()],
        );
        // Nothing is locked or written as long as nothing has happened.
        if let Some(row) = self.db.query_one_raw(known).await?
            && row.try_get("", "known")?
        {
            return Ok(None);
        }
        let transaction = self.db.begin().await?;
        // One process looks at a time.
        transaction
            .execute_unprepared("select pg_advisory_xact_lock(7302423)")
            .await?;
        let known = Store::sql(
            "insert into database_identity (cluster, timeline, number, fails_over) \
             select cluster, timeline, number, $1 from current_identity() \
             on conflict (one) do update set fails_over = $1 where database_identity.fails_over <> $1",
            [fails_over.into()],
        );
        transaction.execute_raw(known).await?;
        let same = Store::sql("select is_same_database() as same", []);
        let row = transaction.query_one_raw(same).await?;
        let same = match row {
            Some(row) => row.try_get::<bool>("", "same")?,
            None => true,
        };
        let mut found = None;
        if !same {
            let runs = hold(&transaction, now).await?;
            let kept = Store::sql(
                "insert into restores (found_at, runs) values ($1, $2)",
                [now.into(), runs.cast_signed().into()],
            );
            transaction.execute_raw(kept).await?;
            found = Some(Restored {
                found_at: now,
                runs,
            });
        }
        // The timeline of a server that fails over is another now and then.
        transaction
            .execute_unprepared(
                "update database_identity known set cluster = now.cluster, timeline = now.timeline, number = now.number from current_identity() now \
                 where known.cluster <> now.cluster or known.timeline <> now.timeline or known.number <> now.number",
            )
            .await?;
        transaction.commit().await?;
        Ok(found)
    }

    /// When it was found last that the database had been restored. What was due before may have been sent.
    pub async fn last_restored(&self) -> Result<Option<Restored>> {
        let statement = Store::sql(
            "select found_at, runs from restores order by id desc limit 1",
            [],
        );
        let row = self.db.query_one_raw(statement).await?;
        let read = |row: sea_orm::QueryResult| {
            Ok(Restored {
                found_at: row.try_get("", "found_at")?,
                runs: row.try_get::<i64>("", "runs")?.cast_unsigned(),
            })
        };
        row.map(read).transpose()
    }

    /// How many runs are held because they may have been sent before.
    pub async fn in_doubt(&self) -> Result<u64> {
        let statement = Store::sql(
            "select count(*) as runs from runs where doubt is not null and state in ('held', 'awaiting-approval')",
            [],
        );
        let row = self.db.query_one_raw(statement).await?;
        let runs: i64 = row.map_or(Ok(0), |row| row.try_get("", "runs"))?;
        Ok(runs.cast_unsigned())
    }
}

/// Holds all that is on its way to somebody, and answers how many runs that are.
async fn hold(transaction: &DatabaseTransaction, now: Time) -> Result<u64> {
    let mut runs = 0;
    for sql in holding() {
        let held = Store::sql(&sql, [DOUBT.into(), now.into()]);
        runs += transaction.execute_raw(held).await?.rows_affected();
    }
    for sql in [
        "with gone as (update deliveries set state = 'cancelled', settled_at = $2, lease_owner = null, lease_until = null \
           where state = 'waiting' and copy > 0 returning id) \
         insert into delivery_attempts (delivery_id, started_at, ended_at, outcome, answer) select id, $2, $2, 'unknown', $1 from gone",
        "update notices set told_at = $2 where told_at is null and $1 <> ''",
    ] {
        let ended = Store::sql(sql, [DOUBT.into(), now.into()]);
        transaction.execute_raw(ended).await?;
    }
    Ok(runs)
}

/// What holds the runs that were on their way in the copy, by how far they were: those without documents go on
/// until they have them, the others stay where they are. `$1` is why, `$2` when.
fn holding() -> [String; 3] {
    let making = sql_list(RunState::which(|state| {
        state.is_work() && state != RunState::Releasing
    }));
    let sending = sql_list([RunState::Releasing, RunState::Delivering]);
    [
        format!("update runs set doubt = $1 where state in ({making}) and deliver and created_at <= $2"),
        format!(
            "update runs set state = 'held', doubt = $1, problem = $1, finished_at = $2, lease_owner = null, lease_until = null, claims = 0, claimed_at = null \
             where state in ({sending})"
        ),
        // Nobody's silence sends it.
        "update runs set doubt = $1, problem = $1, approval_deadline = null where state = 'awaiting-approval' and created_at <= $2".to_owned(),
    ]
}
