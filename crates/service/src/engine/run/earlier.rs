//! The rows of earlier runs that queries compare theirs with.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use maple_lark_definition::Dashboard;
use maple_lark_document::{
    Snapshot,
    compose::answers::earlier_times,
    snapshot::{EarlierRows, Outcome, QueryRecord, Time},
};

use super::{answer::Asking, context::values_key};
use crate::engine::shared::{Shared, WorkError};

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
    let mut wanted: Vec<(String, String)> = records
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
    let mut found: BTreeMap<(String, String), EarlierRows> = BTreeMap::new();
    let key = values_key(asking.values);
    let before = shared
        .store
        .snapshots_before(&asking.report.name, &key, at, MOST_RUNS)
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
            .computing(asking.purpose)
            .run(move || taken(&stored.body, looked_for))
            .await?;
        wanted.retain(|name| !taken.contains_key(name));
        found.extend(taken);
    }
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

/// The rows that a stored snapshot has of these queries.
fn taken(body: &[u8], wanted: Vec<(String, String)>) -> BTreeMap<(String, String), EarlierRows> {
    let Ok(snapshot) = Snapshot::open(body) else {
        return BTreeMap::new();
    };
    let rows = |(dashboard, query): &(String, String)| {
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
