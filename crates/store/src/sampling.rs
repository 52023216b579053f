//! The history that samplers keep.

use sea_orm::{ConnectionTrait, FromQueryResult, TransactionTrait};
use serde_json::Value as Json;

use crate::{Result, Store, entity::Time, teams::Sight};

/// What a sampler has done last and does next.
#[derive(Debug, Clone, FromQueryResult)]
pub struct SamplerState {
    pub sampler: String,
    pub next_at: Time,
    pub last_at: Option<Time>,
    pub detail: Option<String>,
    pub works: bool,
    pub samples: i64,
    pub since: Option<Time>,
}

#[derive(Debug, Clone, FromQueryResult)]
pub struct Sample {
    pub at: Time,
    pub body: Json,
}

impl Store {
    /// All samplers that have been asked, with how much they have kept.
    pub async fn sampler_states(&self) -> Result<Vec<SamplerState>> {
        let statement = Store::sql(
            "select s.sampler, s.next_at, s.last_at, s.detail, s.works, count(k.at) as samples, min(k.at) as since \
             from sampler_states s left join samples k on k.sampler = s.sampler group by s.sampler order by s.sampler",
            [],
        );
        Ok(SamplerState::find_by_statement(statement)
            .all(&self.db)
            .await?)
    }

    /// Takes the turn of a sampler if it has come: only one process gets it, and the next turn
    /// is at `next`. A sampler that is new has its first turn at once.
    pub async fn take_sampler(&self, sampler: &str, now: Time, next: Time) -> Result<bool> {
        let statement = Store::sql(
            "insert into sampler_states (sampler, next_at) values ($1, $3) \
             on conflict (sampler) do update set next_at = $3 where sampler_states.next_at <= $2 or sampler_states.next_at > $3",
            [sampler.into(), now.into(), next.into()],
        );
        Ok(self.db.execute_raw(statement).await?.rows_affected() == 1)
    }

    /// Keeps an answer; one that is there already for that instant stays.
    pub async fn keep_sample(&self, sampler: &str, at: Time, body: Json) -> Result<()> {
        let statement = Store::sql(
            "insert into samples (sampler, at, body) values ($1, $2, $3) on conflict do nothing",
            [sampler.into(), at.into(), body.into()],
        );
        self.db.execute_raw(statement).await?;
        Ok(())
    }

    pub async fn note_sampler(
        &self,
        sampler: &str,
        at: Time,
        works: bool,
        detail: &str,
    ) -> Result<()> {
        let statement = Store::sql(
            "update sampler_states set last_at = $2, works = $3, detail = $4 where sampler = $1",
            [sampler.into(), at.into(), works.into(), detail.into()],
        );
        self.db.execute_raw(statement).await?;
        Ok(())
    }

    /// The answers of a sampler in `[from, to)`, oldest first, and if wanted the last one
    /// before; at most `most`.
    pub async fn samples(
        &self,
        sampler: &str,
        from: Time,
        to: Time,
        with_the_one_before: bool,
        most: u64,
    ) -> Result<Vec<Sample>> {
        let statement = Store::sql(
            "select at, body from samples where sampler = $1 and at < $3 and at >= coalesce( \
               case when $4 then (select max(at) from samples where sampler = $1 and at < $2) end, $2) order by at limit $5",
            [
                sampler.into(),
                from.into(),
                to.into(),
                with_the_one_before.into(),
                (most as i64).into(),
            ],
        );
        Ok(Sample::find_by_statement(statement).all(&self.db).await?)
    }

    /// Whether it is time to tidy a sampler's history; only one process is told so.
    pub async fn tidy_sampler(&self, sampler: &str, now: Time, not_since: Time) -> Result<bool> {
        let statement = Store::sql(
            "update sampler_states set tidied_at = $2 where sampler = $1 and (tidied_at is null or tidied_at < $3)",
            [sampler.into(), now.into(), not_since.into()],
        );
        Ok(self.db.execute_raw(statement).await?.rows_affected() == 1)
    }

    /// Removes what was kept before `before`; answers how much.
    pub async fn forget_samples(&self, sampler: &str, before: Time) -> Result<u64> {
        let statement = Store::sql(
            "delete from samples where sampler = $1 and at < $2",
            [sampler.into(), before.into()],
        );
        Ok(self.db.execute_raw(statement).await?.rows_affected())
    }

    /// Puts one answer in the place of all those in `[from, to)`, all or nothing.
    pub async fn replace_samples(
        &self,
        sampler: &str,
        from: Time,
        to: Time,
        at: Time,
        body: Json,
    ) -> Result<()> {
        let transaction = self.db.begin().await?;
        transaction
            .execute_raw(Store::sql(
                "delete from samples where sampler = $1 and at >= $2 and at < $3",
                [sampler.into(), from.into(), to.into()],
            ))
            .await?;
        transaction
            .execute_raw(Store::sql(
                "insert into samples (sampler, at, body) values ($1, $2, $3)",
                [sampler.into(), at.into(), body.into()],
            ))
            .await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Removes the history of a sampler that is no more.
    pub async fn remove_sampler(&self, sampler: &str) -> Result<()> {
        let transaction = self.db.begin().await?;
        for text in [
            "delete from samples where sampler = $1",
            "delete from sampler_states where sampler = $1",
        ] {
            transaction
                .execute_raw(Store::sql(text, [sampler.into()]))
                .await?;
        }
        transaction.commit().await?;
        Ok(())
    }

    /// How many runs that somebody sees, and how many deliveries, are in each state; the latter for
    /// those alone who see everything.
    pub async fn counts(&self, sight: &Sight) -> Result<Vec<(String, String, i64)>> {
        let statement = Store::sql(
            "select 'run' as what, state, sum(count)::bigint as count from run_counts where $1::text[] is null or team = any($1) group by state having sum(count) > 0 \
             union all select 'delivery', state, sum(count)::bigint from delivery_counts where $1::text[] is null group by state having sum(count) > 0 order by 1, 2",
            [sight.value()],
        );
        let rows = self.db.query_all_raw(statement).await?;
        rows.iter()
            .map(|row| {
                Ok((
                    row.try_get("", "what")?,
                    row.try_get("", "state")?,
                    row.try_get("", "count")?,
                ))
            })
            .collect()
    }

    /// Adds up what has gathered in the lists of changes of counts. What has one line already stays as it is.
    ///
    /// # Errors
    /// If the database cannot be used.
    pub async fn fold_counts(&self) -> Result<()> {
        for statement in [
            "with many as (select report, state, team from run_counts group by report, state, team having count(*) > 1), \
             gone as (delete from run_counts c using many m where c.report = m.report and c.state = m.state and c.team = m.team returning c.*) \
             insert into run_counts (report, state, team, count) \
             select report, state, team, sum(count) from gone group by report, state, team having sum(count) <> 0",
            "with many as (select state from delivery_counts group by state having count(*) > 1), \
             gone as (delete from delivery_counts c using many m where c.state = m.state returning c.*) \
             insert into delivery_counts select state, sum(count) from gone group by state having sum(count) <> 0",
        ] {
            self.db.execute_raw(Store::sql(statement, [])).await?;
        }
        // One process at a time: another would not see what this one has added up. Where runs have left, those that
        // are there are asked for the instants.
        let transaction = self.db.begin().await?;
        transaction
            .execute_unprepared(
                "set local enable_seqscan = off; select pg_advisory_xact_lock(7302422)",
            )
            .await?;
        transaction
            .execute_unprepared(
                "with changed as (select distinct hour, report, state, team from run_hours where not settled), \
                 gone as (delete from run_hours h using changed c \
                   where h.hour = c.hour and h.report = c.report and h.state = c.state and h.team = c.team returning h.*), \
                 sums as (select hour, report, state, team, sum(count) as count, min(first) as first, max(last) as last, bool_or(count < 0) as left_by_some \
                   from gone group by hour, report, state, team having sum(count) <> 0) \
                 insert into run_hours \
                 select hour, report, state, team, count, coalesce(there.first, sums.first), coalesce(there.last, sums.last), true \
                 from sums left join lateral ( \
                   select min(scheduled_for) as first, max(scheduled_for) as last from runs \
                   where left_by_some and report = sums.report and state = sums.state and team = sums.team \
                     and scheduled_for >= sums.hour and scheduled_for < sums.hour + interval '1 hour') there on true",
            )
            .await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Since when the oldest delivery waits.
    pub async fn oldest_waiting_delivery(&self) -> Result<Option<Time>> {
        let row = self
            .db
            .query_one_raw(Store::sql(
                "select min(created_at) as at from deliveries where state = 'waiting'",
                [],
            ))
            .await?;
        Ok(row
            .map(|row| row.try_get::<Option<Time>>("", "at"))
            .transpose()?
            .flatten())
    }
}
