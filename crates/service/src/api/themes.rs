//! Themes: how documents look, tried on a sample before it is saved.

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_api::{ProblemDetails, ThemeText};
use maple_lark_data::{Column, ColumnKind, Table, Value, digest::sha256};
use maple_lark_definition::Definition;
use maple_lark_document::{
    Snapshot,
    compose::compose,
    snapshot::{FrozenDefinition, Outcome, QueryRecord},
};
use maple_lark_time::{Window, Zone};
use rocket::{Route, State, post, routes};

use super::{body::Body, documents::File, problem::Problem};
use crate::{access::Author, engine::EngineHandle};

pub fn routes() -> Vec<Route> {
    routes![preview]
}

/// The first page of a sample document in this theme, as a PNG. Nothing is kept.
#[utoipa::path(post, operation_id = "preview_theme", path = "/themes/preview", tag = "definitions", request_body = ThemeText, responses((status = 200, content_type = "image/png"), (status = 422, body = ProblemDetails)))]
#[post("/themes/preview", data = "<order>")]
async fn preview(
    _user: Author,
    order: Body<ThemeText>,
    engine: &State<EngineHandle>,
) -> Result<File, Problem> {
    let theme = match Definition::parse("theme.toml", &order.text) {
        Ok(Definition::Theme(theme)) => theme.value,
        Ok(_) => {
            return Err(Problem::new(
                422,
                "No theme",
                "this file defines something else than a theme",
            ));
        }
        Err(problems) => return Err(Problem::definitions(problems)),
    };
    let work = move || {
        let mut document = compose(&sample()).map_err(|error| error.to_string())?;
        document.theme = theme;
        maple_lark_render::first_page(&document).map_err(|error| error.to_string())
    };
    let refused = |words: String| Problem::new(422, "The theme cannot be shown", words);
    let body = engine.compute(work).await?.map_err(refused)?;
    Ok(File {
        name: "theme.png".to_owned(),
        media_type: "image/png".to_owned(),
        sha256: sha256(&body),
        body,
        download: false,
    })
}

const REPORT: &str = "[report]\nname = \"sample\"\ntitle = \"A sample report\"\ntime-zone = \"Atlantic/Faroe\"\ndashboards = [\"sample\"]\n[window]\nprevious = \"day\"\n";

const DASHBOARD: &str = r#"
[dashboard]
name = "sample"
title = "Sample"
[[query]]
name = "load"
source = "sample"
sql = "select 1"
[[query.column]]
name = "load"
unit = "percent"
warning = 80
[[query]]
name = "hosts"
source = "sample"
sql = "select 1"
[[query.column]]
name = "used"
title = "Disk used"
unit = "percent"
warning = 80
critical = 90
[[section]]
title = "Hosts"
text = "What a reader of this theme sees."
[[section.block]]
show = "figures"
title = "The fullest disk"
query = "hosts"
columns = ["used", "free"]
[[section.block]]
show = "line"
title = "Load"
query = "load"
time = "at"
value = "load"
[[section.block]]
show = "table"
title = "Fullest disks"
query = "hosts"
bars = ["used"]
"#;

/// A day of made-up hosts.
#[expect(clippy::too_many_lines, reason = "the data of a sample, written out")]
fn sample() -> Snapshot {
    let from: DateTime<Utc> = DateTime::from_timestamp(1_792_886_400, 0).unwrap_or_default();
    let column = |name: &str, kind| Column {
        name: name.to_owned(),
        kind,
    };
    let load = (0..96).map(|n| {
        let wave = (f64::from(n) / 9.0).sin() * 22.0 + f64::from(n * 37 % 11);
        vec![
            Value::Instant(from + TimeDelta::minutes(15 * i64::from(n))),
            Value::Number(50.0 + wave),
        ]
    });
    let hosts = [
        ("db-01", 93.5),
        ("app-03", 81.2),
        ("queue-02", 64.0),
        ("cache-01", 41.7),
        ("proxy-01", 20.1),
    ];
    let hosts = hosts.iter().map(|(host, used)| {
        vec![
            Value::Text((*host).to_owned()),
            Value::Number(*used),
            Value::Number(100.0 - used),
        ]
    });
    let tables = [
        (
            "load",
            Table {
                columns: vec![
                    column("at", ColumnKind::Instant),
                    column("load", ColumnKind::Number),
                ],
                rows: load.collect(),
                truncated: false,
            },
        ),
        (
            "hosts",
            Table {
                columns: vec![
                    column("host", ColumnKind::Text),
                    column("used", ColumnKind::Number),
                    column("free", ColumnKind::Number),
                ],
                rows: hosts.collect(),
                truncated: false,
            },
        ),
    ];
    let zone = "Atlantic/Faroe".parse().unwrap_or(Zone::UTC);
    Snapshot {
        blobs: maple_lark_document::capture::Blobs::new(),
        layout: Snapshot::LAYOUT,
        run_id: "sample".to_owned(),
        report: "sample".to_owned(),
        scheduled_for: from + TimeDelta::hours(31),
        made_at: from + TimeDelta::hours(31),
        window: Window {
            from,
            to: from + TimeDelta::days(1),
            zone,
            within: None,
        },
        zone_rules: None,
        incomplete: None,
        archive_head: None,
        values: Default::default(),
        definitions: vec![
            FrozenDefinition {
                file: "report.toml".to_owned(),
                text: REPORT.to_owned(),
            },
            FrozenDefinition {
                file: "dashboard.toml".to_owned(),
                text: DASHBOARD.to_owned(),
            },
        ],
        queries: tables
            .into_iter()
            .map(|(name, table)| QueryRecord {
                capture: None,
                earlier: std::collections::BTreeMap::new(),
                dashboard: "sample".to_owned(),
                name: name.to_owned(),
                source: "sample".to_owned(),
                source_title: "Sample".to_owned(),
                text: "select 1".to_owned(),
                started: from,
                ended: from,
                note: None,
                outcome: Outcome::Rows(table.into()),
            })
            .collect(),
    }
}
