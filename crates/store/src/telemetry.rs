//! Which runs are over and have not been told to whatever gathers traces.

use sea_orm::{
    ConnectionTrait, DatabaseTransaction, FromQueryResult, TransactionTrait, prelude::Uuid,
};

use crate::{Result, Store, entity::Time, runs::Run};

/// A run may be put on record a moment after it ended.
const SETTLES: &str = "5 seconds";
/// What is older has no use any more when nobody could take it for so long.
const OLDEST: &str = "1 day";

/// Runs whose traces are being handed on; nobody else hands them on meanwhile.
pub struct PendingTraces {
    transaction: DatabaseTransaction,
    runs: Vec<Run>,
}

impl PendingTraces {
    /// The runs, in the order in which they ended.
    #[must_use]
    pub fn runs(&self) -> &[Run] {
        &self.runs
    }

    /// Notes that all of them have been handed on.
    ///
    /// # Errors
    /// If the database cannot be used.
    pub async fn sent(self) -> Result<()> {
        if let Some((last, at)) = self
            .runs
            .last()
            .and_then(|run| Some((run.id, run.finished_at?)))
        {
            let noted = Store::sql(
                "update telemetry_sent set finished_at = $1, run_id = $2",
                [at.into(), last.into()],
            );
            self.transaction.execute_raw(noted).await?;
        }
        Ok(self.transaction.commit().await?)
    }
}

/// An attempt at a delivery, without whom it was for.
#[derive(Debug, Clone, FromQueryResult)]
pub struct TracedAttempt {
    pub id: i64,
    pub delivery_id: Uuid,
    /// What kind of channel, and which; empty for the service's own mail server.
    pub channel: String,
    pub via: String,
    pub started_at: Time,
    pub ended_at: Option<Time>,
    pub outcome: Option<String>,
}

impl Store {
    /// The next runs to tell of, at most so many; nothing while somebody else tells. The first time
    /// that anybody asks, what was before is left out.
    ///
    /// # Errors
    /// If the database cannot be used.
    pub async fn runs_to_trace(&self, most: u64) -> Result<Option<PendingTraces>> {
        let transaction = self.db.begin().await?;
        let begin = "insert into telemetry_sent (finished_at, run_id) values (now(), '00000000-0000-0000-0000-000000000000') on conflict do nothing";
        transaction.execute_unprepared(begin).await?;
        let last = Self::sql(
            "select finished_at, run_id from telemetry_sent for update skip locked",
            [],
        );
        let Some(row) = transaction.query_one_raw(last).await? else {
            return Ok(None);
        };
        let (at, id): (Time, Uuid) = (row.try_get("", "finished_at")?, row.try_get("", "run_id")?);
        let asked = Self::sql(
            &format!(
                "select * from runs where finished_at is not null and (finished_at, id) > (greatest($1, now() - interval '{OLDEST}'), $2) \
                 and finished_at < now() - interval '{SETTLES}' order by finished_at, id limit $3"
            ),
            [at.into(), id.into(), (most as i64).into()],
        );
        let runs = Run::find_by_statement(asked).all(&transaction).await?;
        Ok(Some(PendingTraces { transaction, runs }))
    }

    /// What was tried to deliver of a run, in its order.
    ///
    /// # Errors
    /// If the database cannot be used.
    pub async fn traced_attempts(&self, run: Uuid) -> Result<Vec<TracedAttempt>> {
        let asked = Self::sql(
            "select a.id, a.delivery_id, d.channel, d.via, a.started_at, a.ended_at, a.outcome \
             from delivery_attempts a join deliveries d on d.id = a.delivery_id where d.run_id = $1 order by a.id",
            [run.into()],
        );
        Ok(TracedAttempt::find_by_statement(asked)
            .all(&self.db)
            .await?)
    }
}
