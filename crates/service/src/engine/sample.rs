//! Asks samplers when their time has come and keeps the answers as history.

use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
    time::Duration,
};

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_data::{
    Column, ColumnKind, PackedTable, Table, Value,
    figures::{Context, FigureError, NoRows, Operation, apply_all},
    series::Aggregation,
    stop,
};
use maple_lark_definition::{Downsample, Origin, Sampler, Times};
use maple_lark_document::snapshot::Outcome;
use maple_lark_sources::{Question, SourceError, Values};
use maple_lark_store::{StoreError, sampling::Sample};
use maple_lark_time::{Window, Zone, window::Step};
use tokio::sync::watch;

use super::{definitions::Definitions, limits::Purpose, shared::Shared};

/// Samplers are looked at so often; the shortest that one can have is ten times as long.
const TICK: Duration = Duration::from_secs(1);
/// A history is tidied so often.
const TIDY_MINUTES: i64 = 30;
/// So many answers are read for one query at most.
const MOST_SAMPLES: u64 = 200_000;
/// So many rows come of them at most.
const MOST_ROWS: usize = 1_000_000;

pub async fn watch_samplers(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    // When each sampler is due next, as this process knows it: the database is asked only then.
    let mut known = HashMap::new();
    while !*stopped.borrow() {
        if let Err(error) = tick(&shared, &mut known).await {
            tracing::error!(%error, "samplers could not be looked at; it is tried again in a moment");
        }
        tokio::select! {
            () = tokio::time::sleep(TICK) => {}
            _ = stopped.changed() => {}
        }
    }
}

async fn tick(
    shared: &Arc<Shared>,
    known: &mut HashMap<String, DateTime<Utc>>,
) -> Result<(), StoreError> {
    let definitions = shared.definitions.current(&shared.store).await?;
    let now = shared.now();
    let mut due = Vec::new();
    for sampler in definitions.set.samplers.values() {
        let next = multiple_after(now, sampler.every_seconds);
        if known.get(&sampler.name).is_some_and(|at| *at == next) {
            continue;
        }
        if shared.store.take_sampler(&sampler.name, now, next).await? {
            due.push(sampler);
        }
        known.insert(sampler.name.clone(), next);
    }
    // Side by side: one that hangs does not keep the others waiting past its own timeout.
    for sampler in due {
        // One question under way each: those of a slow source do not pile up.
        let Some(turn) = shared.sampling.begin(sampler.name.clone()) else {
            let words = "the question before is still under way, so this one is left out";
            tracing::warn!(sampler = %sampler.name, words);
            shared
                .store
                .note_sampler(&sampler.name, now, false, words)
                .await?;
            continue;
        };
        let (shared, definitions, sampler) = (shared.clone(), definitions.clone(), sampler.clone());
        tokio::spawn(async move {
            let _turn = turn;
            ask(&shared, &definitions, &sampler, now).await;
        });
    }
    Ok(())
}

fn multiple_after(now: DateTime<Utc>, seconds: i64) -> DateTime<Utc> {
    let next = (now.timestamp().div_euclid(seconds) + 1) * seconds;
    DateTime::from_timestamp(next, 0).unwrap_or(now)
}

async fn ask(shared: &Shared, definitions: &Definitions, sampler: &Sampler, now: DateTime<Utc>) {
    // The instant that it was due at, not the one at which somebody noticed.
    let mut at =
        multiple_after(now, sampler.every_seconds) - TimeDelta::seconds(sampler.every_seconds);
    let window = Window {
        from: at - TimeDelta::seconds(sampler.every_seconds),
        to: at,
        zone: Zone::UTC,
        within: None,
    };
    let mut asked = None;
    let outcome = sample(shared, definitions, sampler, window, &mut asked).await;
    // What had to wait for its source for long is kept under the instant it was asked at.
    if let Some(late) =
        asked.filter(|asked| (*asked - at).num_seconds() * 2 > sampler.every_seconds)
    {
        at = DateTime::from_timestamp(late.timestamp(), 0).unwrap_or(at);
    }
    let kept = match outcome {
        Ok(table) => {
            let rows = table.rows.len();
            match shared
                .store
                .keep_sample(
                    &sampler.name,
                    at,
                    serde_json::to_value(table).unwrap_or_default(),
                )
                .await
            {
                Ok(()) => {
                    shared
                        .store
                        .note_sampler(&sampler.name, at, true, &format!("{rows} rows"))
                        .await
                }
                Err(error) => Err(error),
            }
        }
        Err(error) => {
            let reason = error.to_string();
            tracing::warn!(sampler = %sampler.name, reason, "a sample could not be taken");
            shared
                .store
                .note_sampler(&sampler.name, at, false, &reason)
                .await
        }
    };
    let tidied = match kept {
        Ok(()) => tidy(shared, sampler, now).await,
        Err(error) => Err(error),
    };
    if let Err(error) = tidied {
        tracing::error!(sampler = %sampler.name, %error, "a sample could not be kept");
    }
}

/// Why a sample could not be taken.
#[derive(Debug, thiserror::Error)]
enum SampleError {
    #[error("a sampler can only ask a source")]
    NoSource,
    #[error("there is no source \"{0}\"")]
    Unknown(String),
    #[error(transparent)]
    Source(#[from] SourceError),
    #[error(transparent)]
    Figures(#[from] FigureError),
}

async fn sample(
    shared: &Shared,
    definitions: &Definitions,
    sampler: &Sampler,
    window: Window,
    asked: &mut Option<DateTime<Utc>>,
) -> Result<Table, SampleError> {
    let Origin::Source { name, ask } = &sampler.query.origin else {
        return Err(SampleError::NoSource);
    };
    let source = definitions.set.sources.get(&name.value);
    let source = source.ok_or_else(|| SampleError::Unknown(name.value.clone()))?;
    let times = Times {
        step: Step::fitting(&window, 1),
        comparison: None,
        window,
    };
    let _permit = shared.source_limits.of_source(source, Purpose::Work).await;
    *asked = Some(shared.now());
    let answer = shared
        .reader
        .read(
            source,
            Question {
                ask,
                times: &times,
                values: &Values::new(),
            },
        )
        .await?;
    Ok(done(answer.table.into(), &sampler.query.then, &times)?)
}

/// What a sampler's author wants done before an answer is kept.
fn done(table: Table, then: &[Operation], times: &Times) -> Result<Table, FigureError> {
    let around = Context {
        window: &times.window,
        step: times.step,
        thresholds: &|_| Default::default(),
        other: &|name| {
            let words = format!("a sampler has no other query such as \"{name}\"");
            Err(NoRows(words))
        },
        earlier: &|_| Err(NoRows("a sampler has no run before it".to_owned())),
    };
    apply_all(table, then, &around).map(|figures| figures.table)
}

/// Removes what is too old and thins out what has grown old.
async fn tidy(shared: &Shared, sampler: &Sampler, now: DateTime<Utc>) -> Result<(), StoreError> {
    let store = &shared.store;
    if !store
        .tidy_sampler(&sampler.name, now, now - TimeDelta::minutes(TIDY_MINUTES))
        .await?
    {
        return Ok(());
    }
    store
        .forget_samples(
            &sampler.name,
            now - TimeDelta::seconds(sampler.keep_seconds),
        )
        .await?;
    let Some(downsample) = &sampler.downsample else {
        return Ok(());
    };
    let (zone, until) = (
        Zone::UTC,
        downsample.to.start(
            now - TimeDelta::seconds(downsample.after_seconds),
            Zone::UTC,
        ),
    );
    let old = store
        .samples(
            &sampler.name,
            DateTime::UNIX_EPOCH,
            until,
            false,
            MOST_SAMPLES,
        )
        .await?;
    let mut steps: BTreeMap<DateTime<Utc>, Vec<Sample>> = BTreeMap::new();
    for sample in old {
        steps
            .entry(downsample.to.start(sample.at, zone))
            .or_default()
            .push(sample);
    }
    for samples in steps.into_values().filter(|samples| samples.len() > 1) {
        let (Some(first), Some(last)) = (
            samples.first().map(|sample| sample.at),
            samples.last().cloned(),
        ) else {
            continue;
        };
        let body = downsampled(&samples, downsample).unwrap_or(last.body);
        store
            .replace_samples(
                &sampler.name,
                first,
                last.at + TimeDelta::microseconds(1),
                last.at,
                body,
            )
            .await?;
    }
    Ok(())
}

/// The mean of answers, row by row of equal texts; nothing if the last answer is to stand
/// for all, or they cannot be read.
fn downsampled(samples: &[Sample], downsample: &Downsample) -> Option<serde_json::Value> {
    if !downsample.mean {
        return None;
    }
    let tables: Vec<Table> = samples
        .iter()
        .map(|sample| serde_json::from_value(sample.body.clone()).ok())
        .collect::<Option<_>>()?;
    let mut all = tables.first()?.clone();
    all.rows = tables
        .into_iter()
        .filter(|table| table.columns == all.columns)
        .flat_map(|table| table.rows)
        .collect();
    let texts = all
        .columns
        .iter()
        .filter(|column| !column.kind.is_numeric())
        .map(|column| column.name.clone())
        .collect();
    let group = Operation::Group {
        by: texts,
        values: Vec::new(),
        with: Aggregation::Mean,
        total: None,
        shares: false,
    };
    let window = Window {
        from: samples.first()?.at,
        to: samples.last()?.at,
        zone: Zone::UTC,
        within: None,
    };
    let times = Times {
        step: downsample.to,
        comparison: None,
        window,
    };
    done(all, &[group], &times)
        .ok()
        .and_then(|table| serde_json::to_value(table).ok())
}

/// What a sampler has kept of a window: its rows with the instant of each in a first column
/// `at`. A column that was not there in an older answer is missing in its rows.
pub async fn history(
    shared: &Shared,
    purpose: Purpose,
    sampler: &str,
    window: &Window,
    then: &[Operation],
) -> Outcome {
    // A rate, or a value that holds, needs what was before the window.
    let before = then.iter().any(|operation| {
        matches!(
            operation,
            Operation::Rate { .. } | Operation::Resample { .. } | Operation::Difference { .. }
        )
    });
    let samples = match shared
        .store
        .samples(sampler, window.from, window.to, before, MOST_SAMPLES)
        .await
    {
        Ok(samples) => samples,
        Err(error) => return Outcome::Failed(error.to_string()),
    };
    let work = move || together(samples);
    match shared.computing(purpose).run(work).await {
        Ok(table) => Outcome::Rows(table),
        Err(error) => Outcome::Failed(format!("reading its history: {error}")),
    }
}

/// The rows of all answers, each under the instant that it was asked at.
fn together(samples: Vec<Sample>) -> PackedTable {
    let mut table = Table {
        columns: vec![Column {
            name: "at".to_owned(),
            kind: ColumnKind::Instant,
        }],
        ..Table::default()
    };
    table.truncated = samples.len() as u64 == MOST_SAMPLES;
    for sample in samples {
        stop::check();
        let Ok(answer) = serde_json::from_value::<Table>(sample.body) else {
            continue;
        };
        let places: Vec<usize> = answer
            .columns
            .iter()
            .map(|column| {
                let name = if column.name == "at" {
                    "at_source"
                } else {
                    &column.name
                };
                table.column(name).unwrap_or_else(|| {
                    table.columns.push(Column {
                        name: name.to_owned(),
                        kind: column.kind,
                    });
                    table.columns.len() - 1
                })
            })
            .collect();
        for row in answer.rows {
            if table.rows.len() == MOST_ROWS {
                table.truncated = true;
                break;
            }
            let mut cells = vec![Value::Missing; table.columns.len()];
            cells[0] = Value::Instant(sample.at);
            for (value, place) in row.into_iter().zip(&places) {
                cells[*place] = value;
            }
            table.rows.push(cells);
        }
    }
    let width = table.columns.len();
    table
        .rows
        .iter_mut()
        .for_each(|row| row.resize(width, Value::Missing));
    table.into()
}
