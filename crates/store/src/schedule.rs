//! When each report is due next, and the runs that come of it.

use std::collections::HashMap;

use sea_orm::{
    ActiveValue::Set, ConnectionTrait, DatabaseTransaction, EntityTrait, TransactionTrait,
};

use maple_lark_api::RunState;

use crate::{
    Result, Store,
    entity::{Time, run, schedule_state},
    runs::{HEAD, NewRun, insert_run},
    teams::Sight,
};

pub use schedule_state::Model as ScheduleState;

/// What a report that is due makes of it.
pub struct Due {
    /// The runs for the instants that have come, oldest first; those that are missed for
    /// good are among them, as skipped.
    pub runs: Vec<NewRun>,
    pub next: Option<Time>,
}

/// So many reports that are due are taken in one transaction.
const TAKEN_TOGETHER: i64 = 50;

/// Inserts the runs of a report that is due, and moves it to its next instant. Answers with the runs that have
/// work to do.
async fn taken(
    transaction: &DatabaseTransaction,
    row: ScheduleState,
    decide: &impl Fn(&ScheduleState) -> Due,
) -> Result<Vec<uuid::Uuid>> {
    let due = decide(&row);
    let mut made = Vec::new();
    for new in due.runs {
        if insert_run(transaction, &new).await? && new.state == RunState::Due {
            made.push(new.id);
        }
    }
    let runs_made = row.runs_made + made.len() as i32;
    let mut row: schedule_state::ActiveModel = row.into();
    row.next_instant = Set(due.next);
    row.runs_made = Set(runs_made);
    schedule_state::Entity::update(row)
        .exec(transaction)
        .await?;
    Ok(made)
}

impl Store {
    pub async fn schedule_states(&self) -> Result<Vec<ScheduleState>> {
        Ok(schedule_state::Entity::find().all(&self.db).await?)
    }

    /// The same by the names of their reports.
    pub async fn schedule_states_by_report(&self) -> Result<HashMap<String, ScheduleState>> {
        let states = self.schedule_states().await?.into_iter();
        Ok(states.map(|state| (state.report.clone(), state)).collect())
    }

    /// When the first report is due that is not paused.
    pub async fn first_due(&self) -> Result<Option<Time>> {
        let statement = Store::sql(
            "select min(next_instant) as at from schedule_states where not paused",
            [],
        );
        let row = self.db.query_one_raw(statement).await?;
        Ok(row
            .map(|row| row.try_get::<Option<Time>>("", "at"))
            .transpose()?
            .flatten())
    }

    /// Gives reports that are due later than `now` another next instant, where the rules of
    /// a newer zone database or a changed calendar say so. Answers how many were moved.
    pub async fn reschedule(&self, now: Time, next: &[(String, Option<Time>)]) -> Result<u64> {
        let transaction = self.db.begin().await?;
        let mut moved = 0;
        for (report, at) in next {
            let statement = Store::sql(
                "update schedule_states set next_instant = $3 where report = $1 and next_instant > $2 and next_instant is distinct from $3",
                [report.as_str().into(), now.into(), (*at).into()],
            );
            moved += transaction.execute_raw(statement).await?.rows_affected();
        }
        transaction.commit().await?;
        Ok(moved)
    }

    /// Takes every report that is due at `now`, some at a time: in one transaction their runs are inserted and they
    /// are moved to their next instants. Nothing is due in a copy that was restored before that has
    /// been noticed. Rows that another process holds are
    /// passed over, and a scheduled instant never becomes two runs.
    pub async fn take_due(
        &self,
        now: Time,
        decide: impl Fn(&ScheduleState) -> Due,
    ) -> Result<Vec<uuid::Uuid>> {
        let mut made = Vec::new();
        loop {
            let transaction = self.db.begin().await?;
            let statement = Store::sql(
                "select report, rule, paused, next_instant, runs_made from schedule_states \
                 where not paused and next_instant <= $1 and (select is_same_database()) order by next_instant for update skip locked limit $2",
                [now.into(), TAKEN_TOGETHER.into()],
            );
            let due = schedule_state::Entity::find()
                .from_raw_sql(statement)
                .all(&transaction)
                .await?;
            if due.is_empty() {
                transaction.commit().await?;
                return Ok(made);
            }
            let mut together = Vec::new();
            for row in due {
                together.extend(taken(&transaction, row, &decide).await?);
            }
            transaction.commit().await?;
            made.append(&mut together);
        }
    }

    /// Pauses or resumes a report's schedule; `next` is its next instant from now on.
    /// Answers whether the report has a schedule.
    pub async fn set_paused(&self, report: &str, paused: bool, next: Option<Time>) -> Result<bool> {
        let statement = Store::sql(
            "update schedule_states set paused = $2, next_instant = $3 where report = $1",
            [report.into(), paused.into(), next.into()],
        );
        Ok(self.db.execute_raw(statement).await?.rows_affected() > 0)
    }

    /// How many runs each of these reports has, of those that somebody sees.
    pub async fn runs_of_each(
        &self,
        reports: &[String],
        sight: &Sight,
    ) -> Result<HashMap<String, u64>> {
        let statement = Store::sql(
            "select report, sum(count)::bigint as total from run_counts \
             where report = any($1) and ($2::text[] is null or team = any($2)) group by report",
            [reports.to_vec().into(), sight.value()],
        );
        let rows = self.db.query_all_raw(statement).await?;
        let read = |row: &sea_orm::QueryResult| {
            let total: i64 = row.try_get("", "total")?;
            Ok((row.try_get("", "report")?, total.cast_unsigned()))
        };
        rows.iter().map(read).collect()
    }

    /// The latest run of each of these reports that was for its audiences, or its latest if none
    /// was; without its definitions.
    pub async fn latest_runs(&self, reports: &[String]) -> Result<Vec<run::Model>> {
        let head = &*HEAD;
        let statement = Store::sql(
            &format!(
                "select latest.* from unnest($1::text[]) as named(report) \
                 cross join lateral (select * from ( \
                   (select {head} from runs where runs.report = named.report and deliver and only_to is null order by created_at desc limit 1) \
                   union all \
                   (select {head} from runs where runs.report = named.report order by created_at desc limit 1)) found \
                 order by (deliver and only_to is null) desc limit 1) latest"
            ),
            [reports.to_vec().into()],
        );
        Ok(run::Entity::find()
            .from_raw_sql(statement)
            .all(&self.db)
            .await?)
    }
}
