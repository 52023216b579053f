//! Runs: how they are claimed, go from state to state, and are listed. Work on a run is guarded by a lease.

use std::sync::LazyLock;

use chrono::TimeDelta;
use sea_orm::{
    ActiveValue::Set, ConnectionTrait, DatabaseTransaction, EntityTrait, IdenStatic, Iterable,
    TransactionTrait, sea_query::OnConflict,
};
use uuid::Uuid;

use maple_lark_api::{Cause, RunState, Words};

use crate::{
    Page, Result, Store, StoreError, Stored,
    claims::{ABANDONED, Claim},
    entity::{Time, run},
    offset,
    stored::{sql_list, words},
    teams::Sight,
};

pub use run::Model as Run;

/// The columns of a run for lists: all but its frozen definitions, which may be long.
pub(crate) static HEAD: LazyLock<String> = LazyLock::new(|| {
    let columns = run::Column::iter().map(|column| match column {
        run::Column::Definitions => "'null'::jsonb as definitions",
        column => column.as_str(),
    });
    columns.collect::<Vec<_>>().join(", ")
});

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
        let states =
            states.map_or_else(|| RunState::which(RunState::is_work), <[RunState]>::to_vec);
        let statement = Store::sql(
            "select * from claim_run($1, $2, $3, $4, $5)",
            [
                process.into(),
                now.into(),
                (now + lease).into(),
                in_hand.to_vec().into(),
                words(states).into(),
            ],
        );
        Ok(run::Entity::find()
            .from_raw_sql(statement)
            .one(&self.db)
            .await?)
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
}
