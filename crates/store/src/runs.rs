//! Runs and their steps, snapshots and documents. Work on a run is guarded by a lease.

use std::{collections::BTreeSet, sync::LazyLock};

use chrono::TimeDelta;
use sea_orm::{
    ActiveValue::Set,
    ColumnTrait, ConnectionTrait, DatabaseTransaction, EntityTrait, IdenStatic, Iterable,
    QueryFilter, QueryOrder, QuerySelect, Select, TransactionTrait,
    sea_query::{OnConflict, Query},
};
use uuid::Uuid;

use maple_lark_api::{Cause, Format, RunState, StepKind, StepState, Words};

use crate::{
    Page, Result, Store, StoreError, Stored, bodies,
    claims::{ABANDONED, Claim},
    entity::{Time, document, run, run_step, snapshot},
    kept, offset,
    pictures::{self, Pictures},
    stored::{sql_list, words},
    teams::Sight,
};

pub use document::Model as Document;
pub use run::Model as Run;
pub use run_step::Model as Step;
pub use snapshot::Model as StoredSnapshot;

/// The columns of a run for lists: all but its frozen definitions, which may be long.
pub(crate) static HEAD: LazyLock<String> = LazyLock::new(|| {
    let columns = run::Column::iter().map(|column| match column {
        run::Column::Definitions => "'null'::jsonb as definitions",
        column => column.as_str(),
    });
    columns.collect::<Vec<_>>().join(", ")
});

/// The states of runs that a worker may claim, as a list in SQL.
fn work_states() -> String {
    sql_list(RunState::which(RunState::is_work))
}

#[derive(Debug, Clone)]
pub struct NewRun {
    pub id: Uuid,
    /// The team that its report belongs to; empty if it belongs to all.
    pub team: String,
    pub report: String,
    pub title: String,
    pub scheduled_for: Time,
    pub cause: Cause,
    pub requested_by: Option<String>,
    pub deliver: bool,
    /// `due`, or `skipped` for an instant that nobody ran in time.
    pub state: RunState,
    pub definitions: serde_json::Value,
    pub window_from: Time,
    pub window_to: Time,
    pub time_zone: String,
    pub skipped: i32,
    /// Whether it may be under way beside another run of its report.
    pub may_overlap: bool,
    /// Which hours and weekdays inside the window count, if not all do.
    pub within: Option<serde_json::Value>,
    /// Who alone gets it this time, if not its audiences.
    pub only_to: Option<serde_json::Value>,
    /// Why it may have been sent before: it is held then once it is made.
    pub doubt: Option<String>,
    pub created_at: Time,
}

/// Everything about a snapshot but its bytes, of which there may be many.
#[derive(Debug, Clone, sea_orm::FromQueryResult)]
pub struct SnapshotHead {
    pub id: Uuid,
    pub values_key: String,
    pub sha256: String,
    /// How its document was judged, once it was composed.
    pub status: Option<String>,
    /// Why nothing is sent of it.
    pub quiet: Option<String>,
    /// Its values, as texts for people; nothing for those of older versions.
    pub shown: Option<serde_json::Value>,
    /// When its bytes went.
    pub removed_at: Option<Time>,
}

impl SnapshotHead {
    /// What a list of snapshots says of one that is at hand.
    #[must_use]
    pub fn of(snapshot: &StoredSnapshot) -> Self {
        Self {
            id: snapshot.id,
            values_key: snapshot.values_key.clone(),
            sha256: snapshot.sha256.clone(),
            status: snapshot.status.clone(),
            quiet: snapshot.quiet.clone(),
            shown: snapshot.shown.clone(),
            removed_at: snapshot.removed_at,
        }
    }
}

/// Everything about a document but its bytes.
#[derive(Debug, Clone, sea_orm::FromQueryResult)]
pub struct DocumentHead {
    pub id: Uuid,
    pub snapshot_id: Uuid,
    pub variant: String,
    pub format: Stored<Format>,
    pub file_name: String,
    pub media_type: String,
    pub sha256: String,
    pub size: i64,
    /// When its bytes went.
    pub removed_at: Option<Time>,
}

#[derive(Debug, Clone)]
pub struct RunFilter {
    pub report: Option<String>,
    pub state: Option<RunState>,
    /// Who looks: nothing that they do not see is among the runs or counted.
    pub sight: Sight,
}

/// Conditions as what follows the table in a query.
fn restriction(conditions: &[String]) -> String {
    if conditions.is_empty() {
        return String::new();
    }
    format!("where {}", conditions.join(" and "))
}

pub(crate) async fn insert_run(transaction: &DatabaseTransaction, new: &NewRun) -> Result<bool> {
    let row = run::ActiveModel {
        id: Set(new.id),
        report: Set(new.report.clone()),
        title: Set(new.title.clone()),
        scheduled_for: Set(new.scheduled_for),
        cause: Set(new.cause.into()),
        requested_by: Set(new.requested_by.clone()),
        deliver: Set(new.deliver),
        state: Set(new.state.into()),
        definitions: Set(new.definitions.clone()),
        window_from: Set(new.window_from),
        window_to: Set(new.window_to),
        time_zone: Set(new.time_zone.clone()),
        problem: Set((new.state == RunState::Skipped)
            .then(|| "its instant passed while no service ran".to_owned())),
        skipped: Set(new.skipped),
        created_at: Set(new.created_at),
        finished_at: Set((new.state != RunState::Due).then_some(new.created_at)),
        may_overlap: Set(new.may_overlap),
        checks: Set(0),
        within: Set(new.within.clone()),
        only_to: Set(new.only_to.clone()),
        claims: Set(0),
        team: Set(new.team.clone()),
        doubt: Set(new.doubt.clone()),
        // The rest is empty until something happens to it.
        ..Default::default()
    };
    let inserted = run::Entity::insert(row)
        .on_conflict(OnConflict::new().do_nothing().to_owned())
        .exec_without_returning(transaction)
        .await?;
    Ok(inserted > 0)
}

impl Store {
    pub async fn add_run(&self, new: &NewRun) -> Result<()> {
        self.add_runs(std::slice::from_ref(new)).await
    }

    /// Adds several runs, all of them or none.
    pub async fn add_runs(&self, all: &[NewRun]) -> Result<()> {
        let transaction = self.db.begin().await?;
        for new in all {
            insert_run(&transaction, new).await?;
        }
        Ok(transaction.commit().await?)
    }

    /// Takes the oldest run that has work to do and no living owner, unless another run of
    /// the same report is under way and it may not overlap. A run that waits for its data
    /// has work to do when it is time to ask again. The runs `in_hand` are passed over: a
    /// process whose lease on one ran out goes on with it, as long as no other has taken it. Only runs in
    /// `states` are taken, all that have work to do if nothing is said.
    pub async fn claim_run(
        &self,
        process: Uuid,
        now: Time,
        lease: TimeDelta,
        in_hand: &[Uuid],
        states: Option<&[RunState]>,
    ) -> Result<Option<Run>> {
        // Processes claim in turns, so that two runs of one report never begin at once. The oldest is taken, and
        // there is an index in that order; a server that has not counted the rows since thousands came at once
        // would rather sort all of them each time.
        let transaction = self.db.begin().await?;
        transaction
            .execute_unprepared(
                "set local enable_sort = off; set local enable_bitmapscan = off; select pg_advisory_xact_lock(7302419)",
            )
            .await?;
        let work = work_states();
        // Whether another run is under way is asked as a value, and so for the one run that it is asked of: as a
        // condition, all that are under way would be gathered first.
        let mine = states.map_or_else(work_states, |states| sql_list(states.iter().copied()));
        let statement = Store::sql(
            &format!(
                "update runs set lease_owner = gen_random_uuid(), lease_process = $1, lease_until = $3, started_at = coalesce(started_at, $2), \
               claims = claims + 1, claimed_at = coalesce(claimed_at, clock_timestamp()) where id = ( \
               select id from runs mine where state in ({mine}) and (state <> 'waiting' or next_check_at <= $2) \
               and (lease_until is null or lease_until < $2) and not (id = any($4)) and (select is_same_database()) \
               and (may_overlap or (select true from runs other where other.report = mine.report and other.id <> mine.id and other.lease_until >= $2 \
                 and other.state in ({work}) limit 1) is null) \
               order by created_at for update skip locked limit 1) returning *"
            ),
            [
                process.into(),
                now.into(),
                (now + lease).into(),
                in_hand.to_vec().into(),
            ],
        );
        let found = run::Entity::find()
            .from_raw_sql(statement)
            .one(&transaction)
            .await?;
        transaction.commit().await?;
        Ok(found)
    }

    /// How long a run has been worked on, over all claims and by the database's own clock.
    pub async fn worked_on(&self, id: Uuid) -> Result<std::time::Duration> {
        let statement = Store::sql(
            "select extract(epoch from clock_timestamp() - claimed_at)::float8 as seconds from runs where id = $1 and claimed_at is not null",
            [id.into()],
        );
        let row = self.db.query_one_raw(statement).await?;
        let seconds: f64 = match row {
            Some(row) => row.try_get("", "seconds")?,
            None => 0.0,
        };
        Ok(std::time::Duration::from_secs_f64(seconds.max(0.0)))
    }

    pub async fn renew_run(&self, claim: Claim, until: Time) -> Result<()> {
        let statement = Store::sql(
            "update runs set lease_until = $3 where id = $1 and lease_owner = $2",
            [claim.run.into(), claim.token.into(), until.into()],
        );
        self.one_row(statement, claim.run).await
    }

    /// Gives a run back as if it had not been claimed; whoever claims it next begins at once.
    pub async fn give_back(&self, claim: Claim) -> Result<()> {
        let statement = Store::sql(
            "update runs set lease_owner = null, lease_until = null, claims = greatest(claims - 1, 0) where id = $1 and lease_owner = $2",
            [claim.run.into(), claim.token.into()],
        );
        self.one_row(statement, claim.run).await
    }

    /// Gives up every lease of a process that stops, so that another can go on at once. An
    /// attempt that it broke off may have arrived.
    pub async fn release_all(&self, process: Uuid, now: Time) -> Result<()> {
        let broken_off = Store::sql(
            &format!(
                "update delivery_attempts set ended_at = $2, {ABANDONED} where ended_at is null and delivery_id in ( \
                   select id from deliveries where lease_process = $1 and lease_owner is not null)"
            ),
            [process.into(), now.into()],
        );
        self.db.execute_raw(broken_off).await?;
        for (table, in_order) in [
            ("runs", ", claims = greatest(claims - 1, 0)"),
            ("deliveries", ""),
        ] {
            self.db
                .execute_raw(Store::sql(&format!("update {table} set lease_owner = null, lease_until = null{in_order} where lease_process = $1 and lease_owner is not null"), [process.into()]))
                .await?;
        }
        Ok(())
    }

    /// Moves a run on; only its owner can, and only to a state that may follow. A state without
    /// further work for a worker ends the lease.
    pub async fn set_run_state(
        &self,
        claim: Claim,
        state: RunState,
        problem: Option<&str>,
        now: Time,
    ) -> Result<()> {
        let open = state.is_open();
        let statement = Store::sql(
            "update runs set state = $3, problem = coalesce($4, problem), finished_at = case when $5 then null else $6::timestamptz end, \
               lease_owner = case when $7 then lease_owner end, lease_until = case when $7 then lease_until end, \
               claims = case when $7 then claims else 0 end, claimed_at = case when $7 then claimed_at end \
             where id = $1 and lease_owner = $2 and state = any($8)",
            [
                claim.run.into(),
                claim.token.into(),
                Stored(state).into(),
                problem.map(str::to_owned).into(),
                open.into(),
                now.into(),
                state.is_work().into(),
                words(state.previous()).into(),
            ],
        );
        self.moved(statement, claim, state).await
    }

    /// Runs a statement that moves a run on. That it moves none means that the lease is lost, or
    /// that the state may not follow the one that the run is in.
    async fn moved(&self, statement: sea_orm::Statement, claim: Claim, to: RunState) -> Result<()> {
        if self.db.execute_raw(statement).await?.rows_affected() == 1 {
            return Ok(());
        }
        Err(self.why_not_moved(claim, to).await?)
    }

    /// Why a run could not be moved on to a state.
    pub(crate) async fn why_not_moved(&self, claim: Claim, to: RunState) -> Result<StoreError> {
        Ok(match self.run(claim.run).await? {
            Some(run) if run.lease_owner == Some(claim.token) => StoreError::Transition {
                run: claim.run,
                from: *run.state,
                to,
            },
            _ => StoreError::LeaseLost(claim.run),
        })
    }

    /// Moves a run on to being collected, with its audiences, if they are known.
    pub async fn begin_collecting(
        &self,
        claim: Claim,
        audiences: Option<&serde_json::Value>,
    ) -> Result<()> {
        let statement = Store::sql(
            "update runs set state = 'collecting', finished_at = null, audiences = coalesce(audiences, $3) where id = $1 and lease_owner = $2 and state = any($4)",
            [
                claim.run.into(),
                claim.token.into(),
                audiences.cloned().into(),
                words(RunState::Collecting.previous()).into(),
            ],
        );
        self.moved(statement, claim, RunState::Collecting).await
    }

    /// Keeps the audiences that a run has found; those found before stay.
    pub async fn keep_audiences(&self, claim: Claim, audiences: &serde_json::Value) -> Result<()> {
        let statement = Store::sql(
            "update runs set audiences = coalesce(audiences, $3) where id = $1 and lease_owner = $2",
            [
                claim.run.into(),
                claim.token.into(),
                audiences.clone().into(),
            ],
        );
        self.one_row(statement, claim.run).await
    }

    /// Keeps how a snapshot's document was judged, and how its run is: as its worst.
    pub async fn judge_snapshot(
        &self,
        claim: Claim,
        id: Uuid,
        status: &str,
        quiet: Option<&str>,
    ) -> Result<()> {
        let statement = Store::sql(
            "with mine as (select id from runs where id = $1 and lease_owner = $2 for no key update), \
             judged as (update snapshots set status = $4, quiet = $5 from mine \
               where snapshots.id = $3 and run_id = mine.id returning run_id), \
             all_of_them as (select status from snapshots where run_id = $1 and id <> $3 union all select $4) \
             update runs set status = (select case when bool_or(lower(status) = 'critical') then 'critical' \
               when bool_or(lower(status) = 'warning') then 'warning' when bool_or(lower(status) = 'unknown') then 'unknown' else 'ok' end from all_of_them) \
             from judged where runs.id = judged.run_id",
            [
                claim.run.into(),
                claim.token.into(),
                id.into(),
                status.into(),
                quiet.map(str::to_owned).into(),
            ],
        );
        self.one_row(statement, claim.run).await
    }

    /// The status of the run before this one, of the same report and the same values.
    pub async fn status_before(&self, run: &Run, values_key: &str) -> Result<Option<String>> {
        let statement = Store::sql(
            "select s.status from snapshots s join runs r on r.id = s.run_id where r.report = $1 and r.team = $5 and s.values_key = $2 and r.id <> $3 and r.scheduled_for <= $4 \
             and s.status is not null and r.state <> 'cancelled' order by r.scheduled_for desc, r.created_at desc limit 1",
            [
                run.report.as_str().into(),
                values_key.into(),
                run.id.into(),
                run.scheduled_for.into(),
                run.team.as_str().into(),
            ],
        );
        let row = self.db.query_one_raw(statement).await?;
        Ok(row
            .map(|row| row.try_get::<Option<String>>("", "status"))
            .transpose()?
            .flatten())
    }

    /// The snapshots of the runs of a report of a team before the one that was scheduled for, and created at,
    /// these instants, for the same values, the latest first, at most so many. Runs that were
    /// cancelled are none.
    pub async fn snapshots_before(
        &self,
        (report, team): (&str, &str),
        values_key: &str,
        (scheduled_for, created_at): (Time, Time),
        most: u32,
    ) -> Result<Vec<Uuid>> {
        let statement = Store::sql(
            "select s.id from snapshots s join runs r on r.id = s.run_id where r.report = $1 and r.team = $6 and s.values_key = $2 and (r.scheduled_for, r.created_at) < ($3, $4) \
             and r.state <> 'cancelled' and s.removed_at is null order by r.scheduled_for desc, r.created_at desc limit $5",
            [
                report.into(),
                values_key.into(),
                scheduled_for.into(),
                created_at.into(),
                i64::from(most).into(),
                team.into(),
            ],
        );
        let rows = self.db.query_all_raw(statement).await?;
        let ids = rows.into_iter().map(|row| row.try_get::<Uuid>("", "id"));
        Ok(ids.collect::<std::result::Result<_, _>>()?)
    }

    /// Lets a run wait until somebody has looked at it; its lease is given up.
    pub async fn await_approval(&self, claim: Claim, deadline: Time) -> Result<()> {
        let statement = Store::sql(
            "update runs set state = 'awaiting-approval', approval_deadline = $3, lease_owner = null, lease_until = null, claims = 0, claimed_at = null where id = $1 and lease_owner = $2 and state = any($4)",
            [
                claim.run.into(),
                claim.token.into(),
                deadline.into(),
                words(RunState::AwaitingApproval.previous()).into(),
            ],
        );
        self.moved(statement, claim, RunState::AwaitingApproval)
            .await
    }

    /// Sends a run on that awaits approval, is held, or was only made although its report has
    /// audiences. Answers whether it was one.
    pub async fn release_run(&self, id: Uuid, by: &str) -> Result<bool> {
        let statement = Store::sql(
            "update runs set state = 'releasing', deliver = true, released_by = $2, finished_at = null, problem = null, doubt = null where id = $1 \
             and (state = 'awaiting-approval' or (state = 'held' and exists (select from snapshots where run_id = $1 and status is not null)) \
               or (state = 'completed' and jsonb_array_length(audiences) > 0))",
            [id.into(), by.into()],
        );
        Ok(self.db.execute_raw(statement).await?.rows_affected() == 1)
    }

    /// Runs that nobody has looked at by their deadline.
    pub async fn unapproved(&self, now: Time) -> Result<Vec<Run>> {
        let statement = Store::sql(
            "select * from runs where state = 'awaiting-approval' and approval_deadline <= $1 limit 100",
            [now.into()],
        );
        Ok(run::Entity::find()
            .from_raw_sql(statement)
            .all(&self.db)
            .await?)
    }

    /// Scheduled runs of the last days that are still under way although their instant is
    /// `before`.
    pub async fn open_since(&self, before: Time) -> Result<Vec<Run>> {
        // The states are in the statement, so that it fits the index of those under way.
        let states = sql_list(RunState::which(RunState::is_under_way));
        let statement = Store::sql(
            &format!(
                "select {} from runs where state in ({states}) and scheduled_for < $1 and scheduled_for > $2 and cause = 'schedule' order by scheduled_for limit 500",
                *HEAD
            ),
            [before.into(), (before - TimeDelta::days(7)).into()],
        );
        Ok(run::Entity::find()
            .from_raw_sql(statement)
            .all(&self.db)
            .await?)
    }

    /// Lets a run wait until it asks again whether its data is ready; its lease is given up.
    pub async fn wait(&self, claim: Claim, next_check_at: Time) -> Result<()> {
        let statement = Store::sql(
            "update runs set state = 'waiting', next_check_at = $3, checks = checks + 1, lease_owner = null, lease_until = null, claims = 0, claimed_at = null where id = $1 and lease_owner = $2 and state = any($4)",
            [
                claim.run.into(),
                claim.token.into(),
                next_check_at.into(),
                words(RunState::Waiting.previous()).into(),
            ],
        );
        self.moved(statement, claim, RunState::Waiting).await
    }

    /// Writes down that a run goes on with data that may be incomplete.
    pub async fn set_incomplete(&self, claim: Claim, reason: &str) -> Result<()> {
        self.one_row(
            Store::sql(
                "update runs set incomplete = $3 where id = $1 and lease_owner = $2",
                [claim.run.into(), claim.token.into(), reason.into()],
            ),
            claim.run,
        )
        .await
    }

    /// What tells one state of a run from another, with its steps, snapshots, documents, deliveries and links:
    /// another text after each change of any of them. Runs that are gone have none.
    pub async fn run_marks(&self, runs: &[Uuid]) -> Result<Vec<(Uuid, String)>> {
        // Each version of a row has a place and a transaction of its own.
        let parts = ["run_steps", "snapshots", "documents", "deliveries", "shared_links"].map(|table| {
            format!("(select count(*) || '.' || coalesce(sum(hashtext(ctid::text || '.' || xmin::text)), 0) from {table} where run_id = runs.id)")
        });
        let statement = Store::sql(
            &format!(
                "select id, concat_ws(' ', ctid, xmin, {}) as mark from runs where id = any($1)",
                parts.join(", ")
            ),
            [runs.to_vec().into()],
        );
        let rows = self.db.query_all_raw(statement).await?;
        let marks = rows
            .iter()
            .map(|row| Ok((row.try_get("", "id")?, row.try_get("", "mark")?)));
        marks.collect()
    }

    /// Runs a statement that must find its row; that it does not means that the lease is lost.
    pub(crate) async fn one_row(&self, statement: sea_orm::Statement, id: Uuid) -> Result<()> {
        if self.db.execute_raw(statement).await?.rows_affected() == 1 {
            Ok(())
        } else {
            Err(StoreError::LeaseLost(id))
        }
    }

    /// Cancels a run that is not settled, with whatever of it waits in the outbox; answers
    /// whether it was still open. The worker holding the lease stops at its next write.
    pub async fn cancel_run(&self, id: Uuid, by: &str, now: Time) -> Result<bool> {
        let transaction = self.db.begin().await?;
        let cancelled = transaction
            .execute_raw(Store::sql(
                "update runs set state = 'cancelled', problem = $3, finished_at = $2, lease_owner = null, lease_until = null \
                 where id = $1 and state = any($4)",
                [
                    id.into(),
                    now.into(),
                    format!("cancelled by {by}").into(),
                    words(RunState::Cancelled.previous()).into(),
                ],
            ))
            .await?;
        if cancelled.rows_affected() == 0 {
            // Copies of a settled run that wait are none of it.
            return Ok(false);
        }
        // A mail that is being handed over at this moment cannot be called back.
        transaction
            .execute_raw(Store::sql(
                "update deliveries set state = 'cancelled', settled_at = $2 where run_id = $1 and state = 'waiting' and (lease_until is null or lease_until < $2)",
                [id.into(), now.into()],
            ))
            .await?;
        transaction.commit().await?;
        Ok(true)
    }

    /// Records that a step begins; beginning again after a crash starts it over.
    pub async fn begin_step(
        &self,
        claim: Claim,
        kind: StepKind,
        subject: &str,
        now: Time,
    ) -> Result<()> {
        let statement = Store::sql(
            "insert into run_steps (run_id, kind, subject, state, started_at) \
             select id, $3, $4, $5, $6 from runs where id = $1 and lease_owner = $2 for share \
             on conflict (run_id, kind, subject) do update set \
               state = excluded.state, detail = null, started_at = excluded.started_at, ended_at = null",
            [
                claim.run.into(),
                claim.token.into(),
                Stored(kind).into(),
                subject.into(),
                Stored(StepState::Running).into(),
                now.into(),
            ],
        );
        self.one_row(statement, claim.run).await
    }

    /// Says how a step that is still under way stands.
    pub async fn note_step(
        &self,
        claim: Claim,
        kind: StepKind,
        subject: &str,
        detail: String,
    ) -> Result<()> {
        let statement = Store::sql(
            "with mine as (select id from runs where id = $1 and lease_owner = $2 for share) \
             update run_steps set detail = $5 from mine \
             where run_id = mine.id and kind = $3 and subject = $4",
            [
                claim.run.into(),
                claim.token.into(),
                Stored(kind).into(),
                subject.into(),
                detail.into(),
            ],
        );
        self.one_row(statement, claim.run).await
    }

    /// Keeps how a step has ended.
    #[expect(clippy::too_many_arguments, reason = "the columns of the table")]
    pub async fn end_step(
        &self,
        claim: Claim,
        kind: StepKind,
        subject: &str,
        state: StepState,
        detail: Option<String>,
        now: Time,
    ) -> Result<()> {
        // A step that has ended is a sign of life: the run is not given up. Only a run that was claimed more than
        // once has to be changed for that.
        let statement = Store::sql(
            "with mine as (select id from runs where id = $1 and lease_owner = $2 for no key update), \
             alive as (update runs set claims = 1 from mine where runs.id = mine.id and claims > 1) \
             update run_steps set state = $5, detail = $6, ended_at = $7 from mine \
             where run_id = mine.id and kind = $3 and subject = $4",
            [
                claim.run.into(),
                claim.token.into(),
                Stored(kind).into(),
                subject.into(),
                Stored(state).into(),
                detail.into(),
                now.into(),
            ],
        );
        self.one_row(statement, claim.run).await
    }

    /// Keeps a snapshot and the pictures that it shows, once for each set of values; a second one
    /// for the same is dropped.
    pub async fn keep_snapshot(
        &self,
        claim: Claim,
        mut one: StoredSnapshot,
        shown: &Pictures,
    ) -> Result<()> {
        let (id, rest) = (one.id, self.take_out(&mut one.body).await?);
        let shown = self.take_out_pictures(shown).await?;
        let (held, row) = (kept::claimed(claim), [one]);
        if rest.is_none() && shown.is_empty() {
            let kept = kept::keep(&self.db, held, &row).await?;
            return kept.map(drop).ok_or(StoreError::LeaseLost(claim.run));
        }
        let transaction = self.db.begin().await?;
        let kept = kept::keep(&transaction, held, &row).await?;
        let kept = kept.ok_or(StoreError::LeaseLost(claim.run))?;
        if kept.contains(&id) {
            rest.write(&transaction, "snapshots", id).await?;
            pictures::keep(&transaction, (claim.run, id), shown).await?;
        }
        Ok(transaction.commit().await?)
    }

    pub async fn snapshot_heads(&self, run_id: Uuid) -> Result<Vec<SnapshotHead>> {
        use snapshot::Column as C;
        let query = snapshot::Entity::find().select_only().columns([
            C::Id,
            C::ValuesKey,
            C::Sha256,
            C::Status,
            C::Quiet,
            C::Shown,
            C::RemovedAt,
        ]);
        Ok(query
            .filter(C::RunId.eq(run_id))
            .order_by_asc(C::CreatedAt)
            .into_model()
            .all(&self.db)
            .await?)
    }

    /// The run of a snapshot, and when its bytes went, if they did.
    pub async fn snapshot_place(&self, id: Uuid) -> Result<Option<(Uuid, Option<Time>)>> {
        use snapshot::Column as C;
        let query = snapshot::Entity::find_by_id(id).select_only();
        let columns = query.columns([C::RunId, C::RemovedAt]);
        Ok(columns.into_tuple().one(&self.db).await?)
    }

    /// A snapshot with its bytes; nothing if they went.
    pub async fn snapshot(&self, id: Uuid) -> Result<Option<StoredSnapshot>> {
        use snapshot::Column as C;
        let columns = C::iter().filter(|column| !matches!(column, C::Body));
        let query = snapshot::Entity::find_by_id(id)
            .filter(C::RemovedAt.is_null())
            .select_only()
            .columns(columns)
            .expr_as(bodies::first_part(), "body");
        let Some(mut found) = query.one(&self.db).await? else {
            return Ok(None);
        };
        self.read_rest("snapshots", id, &mut found.body).await?;
        Ok(Some(found))
    }

    /// Keeps the documents of one snapshot in one transaction; those kept before stay.
    pub async fn keep_documents(&self, claim: Claim, mut documents: Vec<Document>) -> Result<()> {
        let mut rests = Vec::with_capacity(documents.len());
        for one in &mut documents {
            rests.push((one.id, self.take_out(&mut one.body).await?));
        }
        let lost = StoreError::LeaseLost(claim.run);
        let bytes: usize = documents.iter().map(|one| one.body.len()).sum();
        let at_once = if bytes > kept::MOST_BYTES {
            1
        } else {
            kept::AT_ONCE
        };
        if documents.len() <= at_once && rests.iter().all(|(_, rest)| rest.is_none()) {
            let kept = kept::keep(&self.db, kept::claimed(claim), &documents).await?;
            return kept.map(drop).ok_or(lost);
        }
        let transaction = self.db.begin().await?;
        let mut all = BTreeSet::new();
        for some in documents.chunks(at_once) {
            match kept::keep(&transaction, kept::claimed(claim), some).await? {
                Some(kept) => all.extend(kept),
                None => return Err(lost),
            }
        }
        for (id, rest) in rests {
            if all.contains(&id) {
                rest.write(&transaction, "documents", id).await?;
            }
        }
        Ok(transaction.commit().await?)
    }

    pub async fn run(&self, id: Uuid) -> Result<Option<Run>> {
        Ok(run::Entity::find_by_id(id).one(&self.db).await?)
    }

    /// A page of runs, newest first.
    pub async fn runs(&self, filter: &RunFilter, page: u64, size: u64) -> Result<Page<Run>> {
        let wanted = [
            filter.report.clone().into(),
            filter.state.map(|state| state.word().to_owned()).into(),
            filter.sight.value(),
        ];
        let counted = Store::sql(
            "select coalesce(sum(count), 0)::bigint as total from run_counts \
             where ($1::text is null or report = $1) and ($2::text is null or state = $2) and ($3::text[] is null or team = any($3))",
            wanted,
        );
        let total: i64 = match self.db.query_one_raw(counted).await? {
            Some(row) => row.try_get("", "total")?,
            None => 0,
        };
        let mut conditions = Vec::new();
        let mut values: Vec<sea_orm::Value> = vec![(size as i64).into(), offset(page, size).into()];
        if let Some(report) = &filter.report {
            values.push(report.as_str().into());
            conditions.push(format!("report = ${}", values.len()));
        }
        if let Some(state) = filter.state {
            values.push(Stored(state).into());
            conditions.push(format!("state = ${}", values.len()));
        }
        let ordered = "order by created_at desc, id desc limit";
        let head = &*HEAD;
        let text = match filter.sight.restriction() {
            None => {
                let restriction = restriction(&conditions);
                format!("select {head} from runs {restriction} {ordered} $1 offset $2")
            }
            // Of each team the latest, so that what others have is not gone through.
            Some(teams) => {
                values.push(teams.into());
                let seen = values.len();
                conditions.push("runs.team = seen.team".to_owned());
                let restriction = restriction(&conditions);
                format!(
                    "select found.* from unnest(${seen}::text[]) as seen(team) cross join lateral \
                     (select {head} from runs {restriction} {ordered} $1 + $2) found {ordered} $1 offset $2"
                )
            }
        };
        Ok(Page {
            total: u64::try_from(total).unwrap_or_default(),
            items: run::Entity::find()
                .from_raw_sql(Store::sql(&text, values))
                .all(&self.db)
                .await?,
        })
    }

    /// How many runs of the last day ended in each state.
    pub async fn outcomes_since(&self, since: Time, sight: &Sight) -> Result<Vec<(RunState, i64)>> {
        let asked = Store::sql(
            "select state, count(*) as count from runs where created_at >= $1 and ($2::text[] is null or team = any($2)) group by state",
            [since.into(), sight.value()],
        );
        let mut found = Vec::new();
        for row in self.db.query_all_raw(asked).await? {
            let state: Stored<RunState> = row.try_get("", "state")?;
            found.push((*state, row.try_get("", "count")?));
        }
        Ok(found)
    }

    pub async fn steps(&self, run_id: Uuid) -> Result<Vec<Step>> {
        Ok(run_step::Entity::find()
            .filter(run_step::Column::RunId.eq(run_id))
            .order_by_asc(run_step::Column::Id)
            .all(&self.db)
            .await?)
    }

    pub async fn document_heads(&self, run_id: Uuid) -> Result<Vec<DocumentHead>> {
        use document::Column as C;
        let query = document::Entity::find().select_only().columns([
            C::Id,
            C::SnapshotId,
            C::Variant,
            C::Format,
            C::FileName,
            C::MediaType,
            C::Sha256,
            C::Size,
            C::RemovedAt,
        ]);
        Ok(query
            .filter(C::RunId.eq(run_id))
            .order_by_desc(C::Format)
            .order_by_asc(C::FileName)
            .into_model()
            .all(&self.db)
            .await?)
    }

    pub async fn document(&self, id: Uuid) -> Result<Option<Document>> {
        Ok(self
            .opened_documents(document::Entity::find_by_id(id))
            .await?
            .pop())
    }

    /// The first document kept with this SHA-256, of a run that somebody sees.
    pub async fn document_with(&self, sha256: &str, sight: &Sight) -> Result<Option<Document>> {
        let mut query = document::Entity::find().filter(document::Column::Sha256.eq(sha256));
        if let Some(teams) = sight.restriction() {
            let seen = Query::select()
                .column(run::Column::Id)
                .from(run::Entity)
                .and_where(run::Column::Team.is_in(teams))
                .to_owned();
            query = query.filter(document::Column::RunId.in_subquery(seen));
        }
        let query = query.order_by_asc(document::Column::CreatedAt).limit(1);
        Ok(self.opened_documents(query).await?.pop())
    }

    /// The documents of a snapshot as somebody reads them who reads them like `variant`.
    pub async fn documents_of_snapshot(
        &self,
        snapshot_id: Uuid,
        variant: &str,
    ) -> Result<Vec<Document>> {
        let query = document::Entity::find()
            .filter(document::Column::SnapshotId.eq(snapshot_id))
            .filter(document::Column::Variant.eq(variant))
            .order_by_desc(document::Column::Format)
            .order_by_asc(document::Column::FileName);
        self.opened_documents(query).await
    }

    async fn opened_documents(&self, query: Select<document::Entity>) -> Result<Vec<Document>> {
        use document::Column as C;
        let columns = C::iter().filter(|column| !matches!(column, C::Body));
        let mut found = query
            .select_only()
            .columns(columns)
            .expr_as(bodies::first_part(), "body")
            .all(&self.db)
            .await?;
        for one in &mut found {
            self.read_rest("documents", one.id, &mut one.body).await?;
        }
        Ok(found)
    }
}
