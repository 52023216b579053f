//! What owners are told of: kept until it is told, and told once.

use chrono::TimeDelta;
use sea_orm::{ConnectionTrait, EntityTrait, TransactionTrait};
use uuid::Uuid;

use maple_lark_api::{NoticeKind, RunState, Words};

use crate::{
    Result, Store, Stored,
    entity::{Time, notice},
    stored::sql_list,
    teams::Sight,
};

pub use notice::Model as Notice;

/// A run that ended otherwise than it should.
#[derive(Debug, Clone, sea_orm::FromQueryResult)]
pub struct BadEnd {
    pub id: Uuid,
    pub report: String,
    pub title: String,
    pub state: Stored<RunState>,
    pub scheduled_for: Time,
    pub problem: Option<String>,
    pub definitions: serde_json::Value,
}

impl Store {
    /// Keeps a notice for each who is to hear of it, all or none. Of one kind and one run there
    /// is one; answers whether it is new. One that nobody hears of is on record all the same.
    #[expect(clippy::too_many_arguments, reason = "the columns of the table")]
    pub async fn add_notice(
        &self,
        kind: NoticeKind,
        subject: &str,
        run_id: Option<Uuid>,
        recipients: &[String],
        text: &str,
        now: Time,
    ) -> Result<bool> {
        let insert = |run_id: Option<Uuid>, recipient: Option<&String>| {
            Store::sql(
                "insert into notices (kind, subject, run_id, recipient, text, created_at) values ($1, $2, $3, $4, $5, $6) on conflict do nothing",
                [
                    kind.word().into(),
                    subject.into(),
                    run_id.into(),
                    recipient.cloned().into(),
                    text.into(),
                    now.into(),
                ],
            )
        };
        let transaction = self.db.begin().await?;
        let new = transaction
            .execute_raw(insert(run_id, recipients.first()))
            .await?
            .rows_affected()
            == 1;
        if new {
            for also in recipients.iter().skip(1) {
                transaction.execute_raw(insert(None, Some(also))).await?;
            }
        }
        transaction.commit().await?;
        Ok(new)
    }

    /// Since when a report has sent nothing and said nothing, and how many of its runs were
    /// quiet since: nothing if it was not quiet all the time from `since` on.
    pub async fn quiet_since(&self, report: &str, since: Time) -> Result<Option<(i64, Time)>> {
        let statement = Store::sql(
            "select count(*) as runs, min(created_at) as first from runs where report = $1 and state = 'quiet' and created_at > greatest( \
               coalesce((select max(created_at) from runs where report = $1 and state in ('delivered', 'partly-delivered')), '-infinity'), \
               coalesce((select max(created_at) from notices where subject = $1 and kind = 'still-quiet'), '-infinity'))",
            [report.into()],
        );
        let Some(row) = self.db.query_one_raw(statement).await? else {
            return Ok(None);
        };
        let first: Option<Time> = row.try_get("", "first")?;
        Ok(first
            .filter(|first| *first <= since)
            .map(|first| Ok::<_, sea_orm::DbErr>((row.try_get("", "runs")?, first)))
            .transpose()?)
    }

    /// Runs that somebody is to be told of and that nobody was told of since an instant.
    pub async fn untold(&self, since: Time) -> Result<Vec<BadEnd>> {
        use sea_orm::FromQueryResult;
        // The states are in the statement, so that it fits the index of these runs.
        let states = sql_list(RunState::which(|state| NoticeKind::of_run(state).is_some()));
        let statement = Store::sql(
            &format!(
                "select id, report, title, state, scheduled_for, problem, definitions from runs where state in ({states}) and coalesce(finished_at, created_at) >= $1 \
                 and not exists (select from notices where run_id = runs.id and kind = runs.state) order by created_at limit 200"
            ),
            [since.into()],
        );
        Ok(BadEnd::find_by_statement(statement).all(&self.db).await?)
    }

    /// Runs that went well after a notice of trouble with their report, of those that notices
    /// were made of since an instant.
    pub async fn recovered(&self, since: Time) -> Result<Vec<BadEnd>> {
        use sea_orm::FromQueryResult;
        let statement = Store::sql(
            "select r.id, r.report, r.title, r.state, r.scheduled_for, r.problem, r.definitions from ( \
               select distinct on (subject) subject, kind, run_id, created_at from notices where run_id is not null and kind <> 'awaiting-approval' and created_at > $1 order by subject, id desc) last \
             join lateral (select * from runs where report = last.subject and id <> last.run_id and state in ('delivered', 'quiet') \
               and finished_at > last.created_at order by finished_at limit 1) r on true where last.kind <> 'recovered' limit 200",
            [since.into()],
        );
        Ok(BadEnd::find_by_statement(statement).all(&self.db).await?)
    }

    /// Takes the notices for one recipient that were to be gathered until `before`, to be told
    /// in one mail: with one batch, which a process that takes over after a crash finds again.
    pub async fn claim_notices(
        &self,
        before: Time,
        now: Time,
        lease: TimeDelta,
    ) -> Result<Vec<Notice>> {
        let transaction = self.db.begin().await?;
        transaction
            .execute_unprepared("select pg_advisory_xact_lock(7302420)")
            .await?;
        let first = Store::sql(
            "select * from notices where told_at is null and recipient is not null and created_at <= $1 and (lease_until is null or lease_until < $2) and (select is_same_database()) order by id limit 1",
            [before.into(), now.into()],
        );
        let Some(first) = notice::Entity::find()
            .from_raw_sql(first)
            .one(&transaction)
            .await?
        else {
            transaction.commit().await?;
            return Ok(Vec::new());
        };
        let batch = first.batch.unwrap_or_else(Uuid::now_v7);
        let statement = Store::sql(
            "update notices set batch = $1, lease_until = $2 where id in (select id from notices where told_at is null and recipient = $3 \
             and batch is not distinct from $4 order by id limit 100) returning *",
            [
                batch.into(),
                (now + lease).into(),
                first.recipient.clone().into(),
                first.batch.into(),
            ],
        );
        let mut taken = notice::Entity::find()
            .from_raw_sql(statement)
            .all(&transaction)
            .await?;
        transaction.commit().await?;
        taken.sort_by_key(|notice| notice.id);
        Ok(taken)
    }

    pub async fn told(&self, batch: Uuid, now: Time) -> Result<()> {
        self.db
            .execute_raw(Store::sql(
                "update notices set told_at = $2 where batch = $1",
                [batch.into(), now.into()],
            ))
            .await
            .map(drop)
            .map_err(Into::into)
    }

    /// The latest notices, newest first: of the runs that somebody sees, and those of no run.
    pub async fn notices(&self, most: u64, sight: &Sight) -> Result<Vec<Notice>> {
        let asked = Store::sql(
            "select n.* from notices n left join runs r on r.id = n.run_id \
             where $2::text[] is null or n.run_id is null or r.team = any($2) order by n.id desc limit $1",
            [(most as i64).into(), sight.value()],
        );
        Ok(notice::Entity::find()
            .from_raw_sql(asked)
            .all(&self.db)
            .await?)
    }

    /// Counts that a source failed in a run, once for each run. Answers how often it has in a
    /// row, and since when.
    pub async fn count_source_failure(
        &self,
        source: &str,
        run: Uuid,
        words: &str,
        now: Time,
    ) -> Result<(i32, Time)> {
        let statement = Store::sql(
            "insert into source_failures (source, failures, since, words, last_run) values ($1, 1, $2, $3, $4) on conflict (source) do update set \
               failures = source_failures.failures + (source_failures.last_run is distinct from $4)::int, words = $3, last_run = $4 returning failures, since",
            [source.into(), now.into(), words.into(), run.into()],
        );
        match self.db.query_one_raw(statement).await? {
            Some(row) => Ok((row.try_get("", "failures")?, row.try_get("", "since")?)),
            None => Ok((0, now)),
        }
    }

    /// Notes that a source answers again. Answers how often it had failed in a row.
    pub async fn forget_source_failures(&self, source: &str) -> Result<i32> {
        let statement = Store::sql(
            "delete from source_failures where source = $1 returning failures",
            [source.into()],
        );
        Ok(self
            .db
            .query_one_raw(statement)
            .await?
            .map(|row| row.try_get("", "failures"))
            .transpose()?
            .unwrap_or_default())
    }
}
