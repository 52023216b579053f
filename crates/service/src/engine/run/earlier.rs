//! The rows of earlier runs that queries compare theirs with.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use maple_lark_definition::Dashboard;
use maple_lark_document::{
    Snapshot,
    compose::answers::{earlier_times, named_run},
    snapshot::{EarlierRows, Outcome, QueryRecord, Time},
};

use uuid::Uuid;

use super::{answer::Asking, context::values_key};
use crate::engine::{
    limits::Purpose,
    room::{Held, OF_A_SNAPSHOT},
    shared::{Shared, WorkError},
};

/// So many runs are looked back at for one in which a query had rows.
const MOST_RUNS: u32 = 10;

/// Puts what they are compared with beside the answers to queries.
///
/// `at` is the instant that the run was scheduled for, with the one at which it was created: later
/// runs, which there are where an earlier one is made again, are none of its past.
///
/// # Errors
/// If the runs cannot be read; a snapshot that cannot be is as if it were not there.
pub async fn add_earlier_runs(
    shared: &Shared,
    asking: &Asking<'_>,
    dashboards: &[&Dashboard],
    at: (DateTime<Utc>, DateTime<Utc>),
    records: &mut [QueryRecord],
) -> Result<(), WorkError> {
    add_named_runs(shared, asking, dashboards, records).await?;
    let mut wanted: Vec<Recorded> = records
        .iter()
        .filter(|record| {
            let dashboard = dashboards.iter().find(|own| own.name == record.dashboard);
            dashboard.is_some_and(|own| earlier_times(own, &record.name).contains(&Time::Run))
        })
        .map(|record| (record.dashboard.clone(), record.name.clone()))
        .collect();
    if wanted.is_empty() {
        return Ok(());
    }
    let looked = LookBack {
        purpose: asking.purpose,
        report: &asking.report.name,
        team: asking.report.team(),
        values_key: values_key(asking.values),
        at,
    };
    let (mut found, any) = looked.rows(shared, &mut wanted).await?;
    for record in records {
        let name = (record.dashboard.clone(), record.name.clone());
        let rows = match found.remove(&name) {
            Some(rows) => rows,
            None if !wanted.contains(&name) => continue,
            None if any => EarlierRows::Nothing(format!(
                "There is nothing to compare with: the last runs have no answer to “{}”.",
                record.name
            )),
            None => EarlierRows::Nothing(
                "There is nothing to compare with yet: this is the first run.".to_owned(),
            ),
        };
        record.earlier.insert(Time::Run, rows);
    }
    Ok(())
}

/// Takes room for the rows of earlier runs; those that there is none for are let go, with the
/// reason. Those of another window came with the answer and have theirs.
pub fn hold(held: &Held, records: &mut [QueryRecord]) {
    for record in records {
        for (time, rows) in &mut record.earlier {
            let size = match rows {
                EarlierRows::Rows { table, .. } if *time != Time::Window => table.size(),
                _ => 0,
            };
            if size > 0 && !held.take(size) {
                *rows = EarlierRows::Nothing(format!(
                    "There is nothing to compare with: the rows of now and then are larger than {} MB together.",
                    OF_A_SNAPSHOT / 1_000_000
                ));
            }
        }
    }
}

/// A recorded query: its dashboard, and the name that its answer has there.
pub type Recorded = (String, String);

/// Where answers of earlier runs are looked for.
pub struct LookBack<'a> {
    pub purpose: Purpose,
    pub report: &'a str,
    /// The team that the report belongs to: a name may have been another's before.
    pub team: &'a str,
    pub values_key: String,
    /// Only runs before this instant, and of those of one instant only those created before.
    pub at: (DateTime<Utc>, DateTime<Utc>),
}

impl LookBack<'_> {
    /// The latest rows of each of these queries; those that were found are no longer wanted. Also
    /// whether there was any run to look at.
    ///
    /// # Errors
    /// If the runs cannot be read; a snapshot that cannot be is as if it were not there.
    pub async fn rows(
        &self,
        shared: &Shared,
        wanted: &mut Vec<Recorded>,
    ) -> Result<(BTreeMap<Recorded, EarlierRows>, bool), WorkError> {
        let mut found = BTreeMap::new();
        let before = shared
            .store
            .snapshots_before(
                (self.report, self.team),
                &self.values_key,
                self.at,
                MOST_RUNS,
            )
            .await?;
        let any = !before.is_empty();
        for id in before {
            if wanted.is_empty() {
                break;
            }
            let Some(stored) = shared.store.snapshot(id).await? else {
                continue;
            };
            let looked_for = wanted.clone();
            let taken = shared
                .computing(self.purpose)
                .run(move || taken(&stored.body, looked_for))
                .await?;
            wanted.retain(|name| !taken.contains_key(name));
            found.extend(taken);
        }
        Ok((found, any))
    }

    /// The rows that a run had of a query, if it is one of this report with these values.
    ///
    /// # Errors
    /// As for [`LookBack::rows`].
    pub async fn rows_of(
        &self,
        shared: &Shared,
        run: &str,
        name: Recorded,
    ) -> Result<Option<EarlierRows>, WorkError> {
        let run = match run.parse::<Uuid>() {
            Ok(id) => shared.store.run(id).await?,
            Err(_) => None,
        };
        // Those of another report are none of this one's readers' business.
        let own = run.filter(|found| found.report == self.report && found.team == self.team);
        let heads = match &own {
            Some(found) => shared.store.snapshot_heads(found.id).await?,
            None => Vec::new(),
        };
        let head = heads.iter().find(|head| head.values_key == self.values_key);
        let stored = match head {
            Some(head) => shared.store.snapshot(head.id).await?,
            None => None,
        };
        let Some(stored) = stored else {
            return Ok(None);
        };
        let taken = shared
            .computing(self.purpose)
            .run(move || taken(&stored.body, vec![name]))
            .await?;
        Ok(taken.into_values().next())
    }
}

/// Puts the rows of runs that definitions name beside the answers to queries.
async fn add_named_runs(
    shared: &Shared,
    asking: &Asking<'_>,
    dashboards: &[&Dashboard],
    records: &mut [QueryRecord],
) -> Result<(), WorkError> {
    let looked = LookBack {
        purpose: asking.purpose,
        report: &asking.report.name,
        team: asking.report.team(),
        values_key: values_key(asking.values),
        at: (shared.now(), shared.now()),
    };
    for record in records {
        let dashboard = dashboards.iter().find(|own| own.name == record.dashboard);
        let Some(run) = dashboard.and_then(|own| named_run(own, &record.name)) else {
            continue;
        };
        let name = (record.dashboard.clone(), record.name.clone());
        let rows = looked.rows_of(shared, run, name).await?;
        let rows = rows.unwrap_or_else(|| {
            EarlierRows::Nothing(format!(
                "There is nothing to compare with: the run {run} of this report has no answer to “{}” for these values.",
                record.name
            ))
        });
        record.earlier.insert(Time::Named, rows);
    }
    Ok(())
}

/// The rows that a stored snapshot has of these queries.
fn taken(body: &[u8], wanted: Vec<Recorded>) -> BTreeMap<Recorded, EarlierRows> {
    let Ok(snapshot) = Snapshot::open(body) else {
        return BTreeMap::new();
    };
    let rows = |(dashboard, query): &Recorded| {
        let record = snapshot.query(dashboard, query)?;
        match &record.outcome {
            Outcome::Rows(table) => Some(EarlierRows::Rows {
                window: snapshot.window.clone(),
                table: table.clone(),
            }),
            Outcome::Failed(_) => None,
        }
    };
    wanted
        .into_iter()
        .filter_map(|name| Some((rows(&name)?, name)).map(|(rows, name)| (name, rows)))
        .collect()
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use maple_lark_data::Table;

    use super::*;
    use crate::engine::room::Room;

    #[tokio::test]
    async fn rows_of_then_have_their_room_or_are_let_go_with_the_reason() {
        let rows = || EarlierRows::Rows {
            window: "2026-10-01T00:00:00Z/2026-11-01T00:00:00Z"
                .split_once('/')
                .map(|(from, to)| maple_lark_time::Window {
                    from: from.parse().unwrap(),
                    to: to.parse().unwrap(),
                    zone: "UTC".parse().unwrap(),
                    within: None,
                })
                .unwrap(),
            table: Table {
                columns: vec![maple_lark_data::Column {
                    name: "host".to_owned(),
                    kind: maple_lark_data::ColumnKind::Text,
                }],
                rows: vec![vec![maple_lark_data::Value::Text("a".repeat(1000))]],
                truncated: false,
            }
            .into(),
        };
        let record = QueryRecord {
            dashboard: "d".to_owned(),
            name: "hosts".to_owned(),
            source: "s".to_owned(),
            source_title: "S".to_owned(),
            text: String::new(),
            started: DateTime::UNIX_EPOCH,
            ended: DateTime::UNIX_EPOCH,
            note: None,
            outcome: Outcome::Failed(String::new()),
            capture: None,
            earlier: [(Time::Run, rows()), (Time::Window, rows())].into(),
        };
        let mut records = [record];
        let held = Arc::new(Room::default()).begin().await;
        hold(&held, &mut records);
        assert_eq!(records[0].earlier[&Time::Run], rows());
        assert!(held.take(OF_A_SNAPSHOT - 1500), "one of the two was taken");
        hold(&held, &mut records);
        let EarlierRows::Nothing(why) = &records[0].earlier[&Time::Run] else {
            panic!("there was no room for it")
        };
        assert!(why.contains("larger than 1000 MB together"), "{why}");
        assert_eq!(records[0].earlier[&Time::Window], rows());
    }
}
