//! Runs counted by days.

use futures::{StreamExt, TryStreamExt, stream};
use maple_lark_api::RunState;
use sea_orm::FromQueryResult;
use uuid::Uuid;

use crate::{Result, Store, Stored, entity::Time, teams::Sight};

/// So many days are counted together, and so many of such parts at a time.
const DAYS_TOGETHER: usize = 8;
const PARTS_AT_ONCE: usize = 4;

/// Runs of one report that ended alike on one day.
#[derive(Debug, Clone, FromQueryResult)]
pub struct RunDay {
    pub report: String,
    pub title: String,
    pub state: Stored<RunState>,
    /// Which of the days it is; the first is 1.
    pub day: i32,
    pub count: i64,
    pub first: Time,
    pub last: Time,
    /// The last of them.
    pub latest: Uuid,
    /// How its content was judged.
    pub status: Option<String>,
}

impl Store {
    /// How many runs of each report ended in each state on each day, by the instant that they
    /// were scheduled for. Each day begins at one of `days`, which ascend, and ends where the
    /// next begins; the last only ends the one before it.
    pub async fn run_days(
        &self,
        report: Option<&str>,
        days: &[Time],
        sight: &Sight,
    ) -> Result<Vec<RunDay>> {
        // Some days each on a connection of their own: what is counted there is counted side by side.
        let parts = (0..days.len().saturating_sub(1)).step_by(DAYS_TOGETHER);
        let counted = parts.map(|first| {
            let edges = &days[first..days.len().min(first + DAYS_TOGETHER + 1)];
            self.some_days(report, first, edges, sight)
        });
        let counted: Vec<Vec<RunDay>> = stream::iter(counted)
            .buffered(PARTS_AT_ONCE)
            .try_collect()
            .await?;
        Ok(counted.into_iter().flatten().collect())
    }

    /// The same of days that follow `before` others.
    async fn some_days(
        &self,
        report: Option<&str>,
        before: usize,
        days: &[Time],
        sight: &Sight,
    ) -> Result<Vec<RunDay>> {
        // Texts are compared by their bytes while they are counted, which is faster, and by the rules of the
        // database where an index is asked. Only what is asked for stands in it: a condition that may be none
        // keeps the server from reading the index alone. The words are the same for all parts, so that a
        // connection keeps their plan.
        let mut values = vec![days.to_vec().into(), (before as i32).into()];
        let mut wanted = String::new();
        if let Some(report) = report {
            values.push(report.into());
            wanted += &format!(" and report = ${}", values.len());
        }
        if *sight != Sight::All {
            values.push(sight.value());
            wanted += &format!(" and team = any(${})", values.len());
        }
        // An index leads to the runs of one report; those of all are counted by the hour already.
        let counted = if report.is_none() && days.iter().all(|day| begins_an_hour(*day)) {
            format!(
                "sum(count)::bigint as count, min(first) as first, max(last) as last, bool_and(settled) as settled \
                 from run_hours where hour >= edges.begins and hour < edges.ends{wanted} \
                 group by report collate \"C\", state collate \"C\" having sum(count) > 0"
            )
        } else {
            format!(
                "count(*) as count, min(scheduled_for) as first, max(scheduled_for) as last, true as settled \
                 from runs where scheduled_for >= edges.begins and scheduled_for < edges.ends{wanted} \
                 group by report collate \"C\", state collate \"C\""
            )
        };
        // The runs that a day has of a report in a state, which are looked at where the instants are not settled.
        let these = format!(
            "from runs where report = days.report collate \"default\" and state = days.state collate \"default\"{wanted}"
        );
        let sql = format!(
            "with edges as ( \
               select $2::int + day::int as day, begins, lead(begins) over (order by day) as ends \
               from unnest($1) with ordinality as edge(begins, day)), \
             days as ( \
               select counted.*, edges.* from edges cross join lateral ( \
                 select report collate \"C\" as report, state collate \"C\" as state, {counted}) counted \
               where edges.ends is not null) \
             select day, report, state, count, \
               case when settled then first else (select min(scheduled_for) {these} and scheduled_for >= first and scheduled_for < ends) end as first, \
               latest.at as last, latest.id as latest, latest.title, latest.status \
             from days cross join lateral ( \
               (select id, title, status, scheduled_for as at {these} and scheduled_for = last order by created_at desc limit 1) \
               union all \
               (select id, title, status, scheduled_for as at {these} and not settled and scheduled_for >= begins and scheduled_for <= last \
                order by scheduled_for desc, created_at desc limit 1) \
               limit 1) latest \
             order by day, report, state"
        );
        let statement = Store::sql(&sql, values);
        Ok(RunDay::find_by_statement(statement).all(&self.db).await?)
    }
}

fn begins_an_hour(instant: Time) -> bool {
    instant.timestamp() % 3600 == 0 && instant.timestamp_subsec_nanos() == 0
}
