//! The service's own metrics, as OpenMetrics text, for whatever watches it.

use chrono::{DateTime, Utc};
use maple_lark_store::{Store, teams::Sight};
use rocket::{State, get, http::ContentType};

use super::problem::Problem;
use crate::{access::Viewer, engine::EngineHandle};

/// A family with its samples: labels and value.
fn family(out: &mut String, name: &str, unit: &str, help: &str, samples: &[(String, f64)]) {
    *out += &format!("# TYPE {name} gauge\n");
    if !unit.is_empty() {
        *out += &format!("# UNIT {name} {unit}\n");
    }
    *out += &format!("# HELP {name} {help}\n");
    for (labels, value) in samples {
        *out += &format!("{name}{labels} {value}\n");
    }
}

fn labelled(label: &str, value: &str) -> String {
    format!(
        "{{{label}=\"{}\"}}",
        value
            .replace('\\', "\\\\")
            .replace('"', "\\\"")
            .replace('\n', "\\n")
    )
}

/// Counts of runs and deliveries by state, what waits, and what comes next.
#[utoipa::path(get, operation_id = "metrics", path = "/metrics", tag = "watching", responses((status = 200, description = "OpenMetrics text", content_type = "application/openmetrics-text")))]
#[get("/metrics")]
#[expect(
    clippy::too_many_lines,
    reason = "a flat list of families, in the order of the page"
)]
pub async fn metrics(
    user: Viewer,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Result<(ContentType, String), Problem> {
    // Where there are teams, whoever is in one sees the measures of what they see, and none of the
    // whole place.
    let sees_all = user.1 == Sight::All || store.teams().await?.is_empty();
    let sight = if sees_all { Sight::All } else { user.1 };
    let (counts, now) = (store.counts(&sight).await?, engine.now());
    let of = |wanted: &str| {
        counts
            .iter()
            .filter(|(what, _, _)| what == wanted)
            .map(|(_, state, count)| (labelled("state", state), *count as f64))
            .collect::<Vec<_>>()
    };
    let mut out = String::new();
    family(
        &mut out,
        "maple_lark_runs",
        "",
        "Runs on record, by state.",
        &of("run"),
    );
    if sees_all {
        of_the_place(&mut out, store, &of("delivery"), now).await?;
    }
    let definitions = engine.definitions(store, &sight).await?;
    let reports: Vec<String> = definitions.set.reports.keys().cloned().collect();
    let mut latest = store.latest_runs(&reports).await?;
    latest.retain(|run| sight.sees(&run.team));
    let took = latest.iter().filter_map(|run| {
        Some((
            labelled("report", &run.report),
            (run.finished_at? - run.started_at?).num_milliseconds() as f64 / 1000.0,
        ))
    });
    family(
        &mut out,
        "maple_lark_last_run_duration_seconds",
        "seconds",
        "How long the latest run of each report took.",
        &took.collect::<Vec<_>>(),
    );
    let good = latest.iter().filter(|run| run.finished_at.is_some());
    let good = good.map(|run| {
        (
            labelled("report", &run.report),
            f64::from(u8::from(run.state.is_good())),
        )
    });
    family(
        &mut out,
        "maple_lark_last_run_good",
        "",
        "Whether the latest run of each report went as it should.",
        &good.collect::<Vec<_>>(),
    );
    let next: Vec<(String, f64)> = store
        .schedule_states()
        .await?
        .iter()
        .filter(|state| !state.paused && definitions.set.reports.contains_key(&state.report))
        .filter_map(|state| {
            Some((
                labelled("report", &state.report),
                state.next_instant?.timestamp() as f64,
            ))
        })
        .collect();
    family(
        &mut out,
        "maple_lark_next_run_timestamp_seconds",
        "seconds",
        "When each report is due next.",
        &next,
    );
    let mut samplers = store.sampler_states().await?;
    samplers.retain(|state| definitions.set.samplers.contains_key(&state.sampler));
    let kept: Vec<(String, f64)> = samplers
        .iter()
        .map(|state| (labelled("sampler", &state.sampler), state.samples as f64))
        .collect();
    family(
        &mut out,
        "maple_lark_samples",
        "",
        "Answers that samplers have kept.",
        &kept,
    );
    let works: Vec<(String, f64)> = samplers
        .iter()
        .map(|state| {
            (
                labelled("sampler", &state.sampler),
                f64::from(u8::from(state.works)),
            )
        })
        .collect();
    family(
        &mut out,
        "maple_lark_sampler_works",
        "",
        "Whether a sampler's last answer came.",
        &works,
    );
    family(
        &mut out,
        "maple_lark_resident_memory_bytes",
        "bytes",
        "Memory of this process that is held in RAM.",
        &[(String::new(), resident_bytes())],
    );
    out += "# EOF\n";
    let openmetrics = ContentType::new("application", "openmetrics-text")
        .with_params([("version", "1.0.0"), ("charset", "utf-8")]);
    Ok((openmetrics, out))
}

/// What waits in the whole place, whoever it belongs to.
async fn of_the_place(
    out: &mut String,
    store: &Store,
    deliveries: &[(String, f64)],
    now: DateTime<Utc>,
) -> Result<(), Problem> {
    family(
        out,
        "maple_lark_deliveries",
        "",
        "Deliveries on record, by state.",
        deliveries,
    );
    let oldest = store
        .oldest_waiting_delivery()
        .await?
        .map_or(0.0, |at| (now - at).num_milliseconds() as f64 / 1000.0);
    family(
        out,
        "maple_lark_oldest_waiting_delivery_seconds",
        "seconds",
        "How long the oldest delivery that has not gone out has waited.",
        &[(String::new(), oldest)],
    );
    let queues = store.queues().await?;
    let name = |queue: &maple_lark_store::deliveries::Queue| {
        if queue.via.is_empty() {
            "own-mail-server".to_owned()
        } else {
            queue.via.clone()
        }
    };
    let waiting: Vec<(String, f64)> = queues
        .iter()
        .map(|queue| (labelled("channel", &name(queue)), queue.waiting as f64))
        .collect();
    family(
        out,
        "maple_lark_waiting_deliveries",
        "",
        "Deliveries that have not gone out yet, by channel.",
        &waiting,
    );
    let unsure = store.unconfirmed_attempts().await? as f64;
    family(
        out,
        "maple_lark_unconfirmed_attempts",
        "",
        "Attempts on record of which nobody knows whether they arrived.",
        &[(String::new(), unsure)],
    );
    Ok(())
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
