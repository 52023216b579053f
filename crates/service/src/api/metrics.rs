//! The service's own metrics, as OpenMetrics text, for whatever watches it.

use maple_lark_store::{Store, teams::Sight};
use rocket::{State, get, http::ContentType};

use super::problem::Problem;
use crate::{
    access::Viewer,
    engine::EngineHandle,
    measures::{Family, families},
};

/// A family with its samples: labels and value.
fn write(out: &mut String, family: &Family) {
    let Family {
        name, unit, help, ..
    } = family;
    *out += &format!("# TYPE {name} gauge\n");
    if !unit.is_empty() {
        *out += &format!("# UNIT {name} {unit}\n");
    }
    *out += &format!("# HELP {name} {help}\n");
    for sample in &family.samples {
        let labels = match &sample.label {
            Some((label, value)) => labelled(label, value),
            None => String::new(),
        };
        *out += &format!("{name}{labels} {}\n", sample.value);
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
pub async fn metrics(
    user: Viewer,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Result<(ContentType, String), Problem> {
    // Where there are teams, whoever is in one sees the measures of what they see, and none of the
    // whole place.
    let sees_all = user.1 == Sight::All || store.teams().await?.is_empty();
    let sight = if sees_all { Sight::All } else { user.1 };
    let definitions = engine.definitions(store, &sight).await?;
    let all = families(store, &definitions.set, &sight, sees_all, engine.now()).await?;
    let mut out = String::new();
    for family in &all {
        write(&mut out, family);
    }
    out += "# EOF\n";
    let openmetrics = ContentType::new("application", "openmetrics-text")
        .with_params([("version", "1.0.0"), ("charset", "utf-8")]);
    Ok((openmetrics, out))
}
