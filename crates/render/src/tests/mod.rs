#![allow(
    clippy::too_many_lines,
    reason = "a test tells one story from its beginning to its end"
)]

use std::{collections::BTreeMap, io::Read};

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_data::{Column, ColumnKind, Table, Value};
use maple_lark_definition::{CsvForm, MailContent};
use maple_lark_document::{
    Snapshot,
    chart::Plot,
    compose::compose,
    document::DataTable,
    snapshot::{FrozenDefinition, Outcome, QueryRecord},
};
use maple_lark_fixtures::{self as fixtures, Fixture};
use maple_lark_time::Window;

use super::*;

mod answering;
mod charts;
mod files;
mod formats;
mod layout;
mod mail;
mod pdf;
mod whatever;

pub(crate) use pdf::with_fonts;

fn sample() -> Document {
    document(disks(&[("=cmd()", 95.5), ("b & <i>", 12.25)]))
}

fn daily() -> Fixture {
    fixtures::report("daily", "ferries")
        .key("title", "Daily <ferries> & more")
        .key("time-zone", "Atlantic/Faroe")
}

const DASHBOARD: &str = r#"
[dashboard]
name = "ferries"
title = "Ferries"
[[query]]
name = "latency"
source = "ops"
sql = "select 1"
[[query.column]]
name = "ms"
unit = "ms"
warning = 300
[[query]]
name = "disks"
source = "ops"
sql = "select 1"
[[query.column]]
name = "used"
unit = "percent"
warning = 80
critical = 90
[[section]]
title = "Services"
text = "Some *text* with <b>markup</b>."
[[section.block]]
show = "line"
title = "Latency"
query = "latency"
time = "at"
series = "service"
value = "ms"
[[section.block]]
show = "figures"
title = "Figures"
query = "disks"
columns = ["used"]
[[section.block]]
show = "bar"
title = "Disks"
query = "disks"
label = "host"
value = "used"
width = "half"
[[section.block]]
show = "table"
title = "Disks in a table"
query = "disks"
"#;

fn document(disks: Outcome) -> Document {
    document_of(DASHBOARD, disks)
}

fn document_of(dashboard: &str, disks: Outcome) -> Document {
    let from: DateTime<Utc> = "2026-10-24T23:00:00Z".parse().unwrap();
    let latency = (0..300)
        .flat_map(|i| {
            ["booking", "pay<ment>"].map(|name| {
                vec![
                    Value::Instant(from + TimeDelta::minutes(5 * i)),
                    Value::Text(name.into()),
                    Value::Number(200.0 + (i % 40) as f64),
                ]
            })
        })
        .collect();
    let column = |name: &str, kind| Column {
        name: name.into(),
        kind,
    };
    let record = |name: &str, outcome| QueryRecord {
        capture: None,
        earlier: BTreeMap::new(),
        dashboard: "ferries".into(),
        name: name.into(),
        source: "ops".into(),
        source_title: "Operations".into(),
        text: "select 1".into(),
        started: from,
        ended: from,
        note: None,
        outcome,
    };
    let table = Table {
        columns: vec![
            column("at", ColumnKind::Instant),
            column("service", ColumnKind::Text),
            column("ms", ColumnKind::Number),
        ],
        rows: latency,
        truncated: false,
    };
    compose(&Snapshot {
        blobs: maple_lark_document::capture::Blobs::new(),
        layout: Snapshot::LAYOUT,
        run_id: "0190-run".into(),
        report: "daily".into(),
        scheduled_for: from + TimeDelta::hours(32),
        made_at: from + TimeDelta::hours(32),
        window: Window {
            from,
            to: from + TimeDelta::hours(25),
            zone: "Atlantic/Faroe".parse().unwrap(),
            within: None,
        },
        zone_rules: None,
        incomplete: None,
        archive_head: None,
        values: BTreeMap::new(),
        definitions: vec![
            FrozenDefinition {
                file: "r".into(),
                text: daily().to_string(),
            },
            FrozenDefinition {
                file: "d".into(),
                text: dashboard.into(),
            },
        ],
        queries: vec![
            record("latency", Outcome::Rows(table.into())),
            record("disks", disks),
        ],
    })
    .unwrap()
}

fn disks(rows: &[(&str, f64)]) -> Outcome {
    Outcome::Rows(
        Table {
            columns: vec![
                Column {
                    name: "host".into(),
                    kind: ColumnKind::Text,
                },
                Column {
                    name: "used".into(),
                    kind: ColumnKind::Number,
                },
                Column {
                    name: "seen".into(),
                    kind: ColumnKind::Instant,
                },
            ],
            rows: rows
                .iter()
                .map(|(host, used)| {
                    vec![
                        Value::Text((*host).into()),
                        Value::Number(*used),
                        Value::Instant("2026-10-25T00:30:00Z".parse().unwrap()),
                    ]
                })
                .collect(),
            truncated: false,
        }
        .into(),
    )
}

#[test]
fn the_same_document_gives_the_same_bytes_in_every_format() {
    let document = document(disks(&[("a", 95.5), ("b", 12.0)]));
    for format in Format::ALL {
        let first = render(&document, format).unwrap();
        let again = std::thread::scope(|scope| {
            scope
                .spawn(|| render(&document, format).unwrap())
                .join()
                .unwrap()
        });
        assert!(first == again, "{format:?} differs between two renderings");
        assert!(!first.is_empty());
    }
}

#[test]
fn the_pdf_is_tagged_and_has_its_title_and_language() {
    let bytes = pdf(&document(disks(&[("a", 95.5)]))).unwrap();
    assert!(bytes.starts_with(b"%PDF-1."));
    let text = String::from_utf8_lossy(&bytes);
    for part in ["/StructTreeRoot", "/Lang", "/Outlines", "/Marked true"] {
        assert!(text.contains(part), "{part} is missing");
    }
}

#[test]
fn html_is_one_file_with_everything_escaped() {
    let text = html(&document(disks(&[("<script>alert(1)</script>", 95.5)]))).unwrap();
    assert!(text.contains(
        "<title>Daily &lt;ferries&gt; &amp; more – Sunday 25 October 2026, 25 h</title>"
    ));
    assert!(!text.contains("<script") && text.contains("&lt;script&gt;"));
    assert!(text.contains("pay&lt;ment&gt;") && !text.contains("pay<ment>"));
    assert!(
        text.contains("&lt;b&gt;markup&lt;&#x2f;b&gt;")
            || text.contains("&lt;b&gt;markup&lt;/b&gt;")
    );
    for outside in ["src=\"http", "href=\"http", "@import", "url("] {
        assert!(!text.contains(outside), "{outside}");
    }
    assert!(text.contains("<span class=\"hidden\">Critical: </span> 95.5"));
}

#[test]
fn a_failed_block_says_so_in_its_place() {
    let document = document(Outcome::Failed("relation \"disks\" does not exist".into()));
    let text = html(&document).unwrap();
    assert!(text.contains(
        "This block could not be made:</strong> relation &quot;disks&quot; does not exist"
    ));
    assert!(pdf(&document).is_ok());
}

#[test]
fn a_small_chart_is_drawn_as_before() {
    let document = document(disks(&[("a", 95.5), ("b", 40.0)]));
    let Body::Chart { chart } = &document.sections[0].blocks[2].body else {
        panic!()
    };
    insta::assert_snapshot!(chart::svg(chart, chart::Size::HALF));
}

fn with_trend() -> Document {
    let mut document = document(disks(&[("a", 95.5), ("b", 40.0)]));
    let Body::Table { table } = &mut document.sections[0].blocks[3].body else {
        panic!()
    };
    table.headings.push(maple_lark_document::document::Heading {
        title: "Last week".into(),
        trend: true,
        ..table.headings[0].clone()
    });
    for row in &mut table.rows {
        let trend = vec![Some(0.0), None, Some(0.5), Some(1.0)];
        row.push(maple_lark_document::document::Cell {
            text: "from 1 % to 2 %".into(),
            trend,
            ..Default::default()
        });
    }
    document
}

#[test]
fn a_line_in_a_cell_is_drawn_where_that_can_be_done_and_left_out_elsewhere() {
    let document = with_trend();
    let html = html(&document).unwrap();
    assert_eq!(html.matches("<title>from 1 % to 2 %</title>").count(), 2);
    let text = String::from_utf8(render(&document, Format::Txt).unwrap().remove(0).bytes).unwrap();
    assert!(
        text.contains("Disks in a table")
            && !text.contains("Last week")
            && !text.contains("from 1 %"),
        "{text}"
    );
    let full = mail_body(&document, MailContent::Full, &Context::default())
        .unwrap()
        .html
        .unwrap();
    assert!(
        full.contains("95.5") && !full.contains("Last week"),
        "{full}"
    );
    let mut unusual = with_trend();
    assert!(pdf(&document).unwrap().len() > 1000);
    with_fonts();
    // Letters that the cells cannot be set with go through the typesetter, with their lines.
    let Body::Table { table } = &mut unusual.sections[0].blocks[3].body else {
        panic!()
    };
    table.rows[0][0].text = "港".into();
    assert!(pdf(&unusual).is_ok());
}

#[test]
fn ground_past_a_threshold_is_tinted_once_for_each() {
    let document = document(disks(&[("a", 95.5)]));
    let Body::Chart { chart } = &document.sections[0].blocks[0].body else {
        panic!()
    };
    let mut chart = chart.clone();
    let limits = |warning: f64, critical: f64, downwards: bool| {
        use maple_lark_data::status::Status;
        use maple_lark_document::chart::Limit;
        let limit = |(at, status): (f64, Status)| Limit {
            at,
            status,
            label: status.word().into(),
            downwards,
        };
        [(warning, Status::Warning), (critical, Status::Critical)]
            .map(limit)
            .to_vec()
    };
    chart.limits = limits(210.0, 230.0, false);
    let upwards = chart::svg(&chart, chart::Size::FULL);
    let band = |svg: &str, colour: &str| {
        let end = svg.find(&format!("\" fill=\"{colour}\"")).unwrap();
        let points: Vec<f64> = svg[..end]
            .rsplit_once('"')
            .unwrap()
            .1
            .split_whitespace()
            .map(|number| number.parse().unwrap())
            .collect();
        (points[1].min(points[5]), points[1].max(points[5]))
    };
    let (warning, critical) = (band(&upwards, "#fdf6e9"), band(&upwards, "#fbecee"));
    assert!(
        critical.1 == warning.0 && critical.0 < warning.0,
        "{warning:?} {critical:?}"
    );
    chart.limits = limits(230.0, 210.0, true);
    let downwards = chart::svg(&chart, chart::Size::FULL);
    let (warning, critical) = (band(&downwards, "#fdf6e9"), band(&downwards, "#fbecee"));
    assert!(
        warning.1 == critical.0 && critical.0 < critical.1,
        "{warning:?} {critical:?}"
    );
    // Names of lines that are close to each other are in the order of the lines.
    for (limits, upper) in [
        (limits(236.0, 237.0, false), "Critical"),
        (limits(237.0, 236.0, true), "Warning"),
    ] {
        chart.limits = limits;
        let svg = scraper::Html::parse_fragment(&chart::svg(&chart, chart::Size::FULL));
        let texts = scraper::Selector::parse("text").unwrap();
        let names = svg.select(&texts).map(|text| {
            let y = text.attr("y").unwrap().parse::<f64>().unwrap();
            (y, text.text().collect::<String>())
        });
        let mut names: Vec<_> = names
            .filter(|(_, name)| ["Critical", "Warning"].contains(&name.as_str()))
            .collect();
        names.sort_by(|one, other| one.0.total_cmp(&other.0));
        assert_eq!((names.len(), names[0].1.as_str()), (2, upper));
    }
}
