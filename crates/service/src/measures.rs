//! The service's own measures, for whatever watches it: as OpenMetrics text and by OTLP.

use chrono::{DateTime, Utc};
use maple_lark_definition::DefinitionSet;
use maple_lark_store::{Store, StoreError, teams::Sight};

/// Measures of one name.
pub struct Family {
    pub name: &'static str,
    pub unit: &'static str,
    pub help: &'static str,
    pub samples: Vec<Sample>,
}

/// One value, with what tells it from the others of its family.
pub struct Sample {
    pub label: Option<(&'static str, String)>,
    pub value: f64,
}

fn family(
    name: &'static str,
    unit: &'static str,
    help: &'static str,
    samples: Vec<Sample>,
) -> Family {
    Family {
        name,
        unit,
        help,
        samples,
    }
}

fn of(label: &'static str, value: &str, measured: f64) -> Sample {
    Sample {
        label: Some((label, value.to_owned())),
        value: measured,
    }
}

fn alone(value: f64) -> Vec<Sample> {
    vec![Sample { label: None, value }]
}

/// Counts of runs and deliveries by state, what waits, and what comes next, as far as somebody sees them;
/// `whole` adds those of the whole place. Nothing that is read grows with history.
///
/// # Errors
/// If the database cannot be used.
#[expect(
    clippy::too_many_lines,
    reason = "a flat list of families, in the order of the page"
)]
pub async fn families(
    store: &Store,
    set: &DefinitionSet,
    sight: &Sight,
    whole: bool,
    now: DateTime<Utc>,
) -> Result<Vec<Family>, StoreError> {
    let counts = store.counts(sight).await?;
    let by_state = |wanted: &str| {
        counts
            .iter()
            .filter(|(what, _, _)| what == wanted)
            .map(|(_, state, count)| of("state", state, *count as f64))
            .collect::<Vec<_>>()
    };
    let mut all = vec![family(
        "maple_lark_runs",
        "",
        "Runs on record, by state.",
        by_state("run"),
    )];
    if whole {
        all.extend(of_the_place(store, by_state("delivery"), now).await?);
    }
    let reports: Vec<String> = set.reports.keys().cloned().collect();
    let mut latest = store.latest_runs(&reports).await?;
    latest.retain(|run| sight.sees(&run.team));
    let took = latest.iter().filter_map(|run| {
        let took = run.finished_at? - run.started_at?;
        let seconds = took.num_milliseconds() as f64 / 1000.0;
        Some(of("report", &run.report, seconds))
    });
    all.push(family(
        "maple_lark_last_run_duration_seconds",
        "seconds",
        "How long the latest run of each report took.",
        took.collect(),
    ));
    let good = latest.iter().filter(|run| run.finished_at.is_some());
    let good = good.map(|run| {
        let good = f64::from(u8::from(run.state.is_good()));
        of("report", &run.report, good)
    });
    all.push(family(
        "maple_lark_last_run_good",
        "",
        "Whether the latest run of each report went as it should.",
        good.collect(),
    ));
    let states = store.schedule_states().await?;
    let next = states
        .iter()
        .filter(|state| !state.paused && set.reports.contains_key(&state.report))
        .filter_map(|state| {
            let next = state.next_instant?.timestamp() as f64;
            Some(of("report", &state.report, next))
        });
    all.push(family(
        "maple_lark_next_run_timestamp_seconds",
        "seconds",
        "When each report is due next.",
        next.collect(),
    ));
    let mut samplers = store.sampler_states().await?;
    samplers.retain(|state| set.samplers.contains_key(&state.sampler));
    let kept = samplers
        .iter()
        .map(|state| of("sampler", &state.sampler, state.samples as f64));
    all.push(family(
        "maple_lark_samples",
        "",
        "Answers that samplers have kept.",
        kept.collect(),
    ));
    let works = samplers.iter().map(|state| {
        let works = f64::from(u8::from(state.works));
        of("sampler", &state.sampler, works)
    });
    all.push(family(
        "maple_lark_sampler_works",
        "",
        "Whether a sampler's last answer came.",
        works.collect(),
    ));
    all.push(family(
        "maple_lark_resident_memory_bytes",
        "bytes",
        "Memory of this process that is held in RAM.",
        alone(resident_bytes()),
    ));
    Ok(all)
}

/// What waits in the whole place, whoever it belongs to.
async fn of_the_place(
    store: &Store,
    deliveries: Vec<Sample>,
    now: DateTime<Utc>,
) -> Result<Vec<Family>, StoreError> {
    let oldest = store
        .oldest_waiting_delivery()
        .await?
        .map_or(0.0, |at| (now - at).num_milliseconds() as f64 / 1000.0);
    let queues = store.queues().await?;
    let waiting = queues.iter().map(|queue| {
        let name = if queue.via.is_empty() {
            "own-mail-server"
        } else {
            &queue.via
        };
        of("channel", name, queue.waiting as f64)
    });
    let unsure = store.unconfirmed_attempts().await? as f64;
    Ok(vec![
        family(
            "maple_lark_deliveries",
            "",
            "Deliveries on record, by state.",
            deliveries,
        ),
        family(
            "maple_lark_oldest_waiting_delivery_seconds",
            "seconds",
            "How long the oldest delivery that has not gone out has waited.",
            alone(oldest),
        ),
        family(
            "maple_lark_waiting_deliveries",
            "",
            "Deliveries that have not gone out yet, by channel.",
            waiting.collect(),
        ),
        family(
            "maple_lark_unconfirmed_attempts",
            "",
            "Attempts on record of which nobody knows whether they arrived.",
            alone(unsure),
        ),
    ])
}

/// From /proc/self/status, which counts in KiB; zero where the system has no such file.
fn resident_bytes() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"));
    line.and_then(|line| {
        line.trim()
            .trim_end_matches("kB")
            .trim()
            .parse::<f64>()
            .ok()
    })
    .unwrap_or(0.0)
        * 1024.0
}
