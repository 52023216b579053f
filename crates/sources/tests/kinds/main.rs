//! Every kind of source but PostgreSQL, against what really answers: HTTP servers, files,
//! sockets. Everything that can go wrong says what, where, and what to do.

#![allow(
    clippy::too_many_lines,
    reason = "a test tells one story from its beginning to its end"
)]

mod checks;
mod databases;
mod files;
mod ldap;
mod machine;
mod postgresql;
mod programs;
mod snmp;

use std::path::Path;

use maple_lark_data::{ColumnKind, Table, Value};
use maple_lark_definition::{Definition, ParameterValue, Source, Times, query_alone};
use maple_lark_demo::{WebServices, web_services::TELEMETRY_TOKEN};
use maple_lark_sources::{Boundary, Question, Reader, Values};
use maple_lark_time::Window;
use tempfile::TempDir;

fn source(lines: &str) -> Source {
    match Definition::parse("s.toml", &format!("[source]\nname = \"s\"\n{lines}\n")) {
        Ok(Definition::Source(source)) => *source,
        other => panic!("{other:?}"),
    }
}

fn times() -> Times {
    let window = Window {
        from: "2026-10-24T23:00:00Z".parse().unwrap(),
        to: "2026-10-26T00:00:00Z".parse().unwrap(),
        zone: "Atlantic/Faroe".parse().unwrap(),
        within: None,
    };
    Times {
        window,
        comparison: None,
        step: "PT1H".parse().unwrap(),
    }
}

#[derive(Debug)]
struct Answer {
    table: Table,
    sent: String,
    note: Option<String>,
}

async fn ask_with(
    reader: &Reader,
    source: &Source,
    query: &str,
    values: &Values,
) -> Result<Answer, String> {
    let query = query_alone("q.toml", &format!("[query]\nsource = \"s\"\n{query}"))
        .map_err(|problems| problems[0].to_string())?;
    let answer = reader
        .read(
            source,
            Question {
                ask: query.ask().unwrap(),
                times: &times(),
                values,
            },
        )
        .await
        .map_err(|error| error.to_string())?;
    Ok(Answer {
        table: answer.table.into(),
        sent: answer.sent,
        note: answer.note,
    })
}

async fn ask(source: &Source, query: &str) -> Result<Answer, String> {
    ask_with(&Reader::unguarded(), source, query, &Values::new()).await
}

fn column(table: &Table, name: &str) -> Vec<Value> {
    let index = table
        .column(name)
        .unwrap_or_else(|| panic!("no column {name}: {:?}", table.columns));
    table.rows.iter().map(|row| row[index].clone()).collect()
}

const TELEMETRY: &str = r#"
path = "/telemetry/range"
send = { expression = "fuel_rate{fleet=\"{{ fleet }}\"}", start = "{{ from_unix }}", end = "{{ to_unix }}", step = "{{ step_seconds }}" }
rows = "$.answer.series[*]"
each = "$.points[*]"
field = [
  { name = "vessel", outer = "$.labels.vessel" },
  { name = "at", path = "$[0]", kind = "instant" },
  { name = "fuel", path = "$[1]", kind = "number" },
]
"#;

#[tokio::test]
async fn series_of_points_with_labels_become_rows() {
    let services = WebServices::start().await.unwrap();
    let token = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(token.path(), TELEMETRY_TOKEN).unwrap();
    let kind = format!(
        "kind = \"http-json\"\nurl = \"{}\"\n[source.sign-in]\nkind = \"bearer\"\ntoken = \"file:{}\"",
        services.url(""),
        token.path().display()
    );
    let values = Values::from([(
        "fleet".to_owned(),
        ParameterValue::Text("a\"} or x".to_owned()),
    )]);
    let answer = ask_with(&Reader::unguarded(), &source(&kind), TELEMETRY, &values)
        .await
        .unwrap();
    // The value stayed a text in its quotation marks.
    assert!(
        answer.sent.contains("fleet%3D%22a%5C%22%7D+or+x%22"),
        "{}",
        answer.sent
    );
    assert_eq!(
        answer
            .table
            .columns
            .iter()
            .map(|c| c.kind)
            .collect::<Vec<_>>(),
        [ColumnKind::Text, ColumnKind::Instant, ColumnKind::Number]
    );
    // Nine vessels, 25 hours, less two of one vessel's in the night of 25 hours.
    assert_eq!(answer.table.rows.len(), 9 * 25 - 2);
    assert_eq!(
        answer.table.rows[0][1],
        Value::Instant("2026-10-24T23:00:00Z".parse().unwrap())
    );

    std::fs::write(token.path(), "another-token").unwrap();
    let said = ask_with(&Reader::unguarded(), &source(&kind), TELEMETRY, &values)
        .await
        .unwrap_err();
    assert_eq!(
        said,
        format!(
            "source \"s\": {} answered 403: it refuses the sign-in; check [source.sign-in]",
            services.url("/telemetry/range")
        )
    );
    assert!(!said.contains("another-token"));
    let missing = ask(&source(&kind), TELEMETRY).await.unwrap_err();
    assert_eq!(
        missing,
        "source \"s\": the query asks for :fleet, which has no value"
    );
}

#[tokio::test]
async fn a_service_that_lists_what_it_has_has_a_catalogue() {
    let services = WebServices::start().await.unwrap();
    let token = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(token.path(), TELEMETRY_TOKEN).unwrap();
    let kind = |kind: &str, catalogue: &str| {
        let sign_in = format!(
            "[source.sign-in]\nkind = \"bearer\"\ntoken = \"file:{}\"",
            token.path().display()
        );
        source(&format!(
            "kind = \"{kind}\"\nurl = \"{}\"\n{sign_in}\n[source.catalogue]\npath = \"/telemetry/measures\"\n{catalogue}",
            services.url("")
        ))
    };
    let reader = Reader::unguarded();
    let whole = "rows = \"$.measures[*]\"\nname = \"$.name\"\nkind = \"$.type\"\nunit = \"$.unit\"\ndescription = \"$.help\"\nitems = \"$.labels\"";
    let entries = reader
        .catalogue(&kind("http-json", whole), "")
        .await
        .unwrap();
    assert_eq!(
        entries
            .iter()
            .map(|entry| (entry.name.as_str(), entry.unit.as_str()))
            .collect::<Vec<_>>(),
        [("fuel_rate", "l/h"), ("speed", "kn")]
    );
    assert_eq!(entries[0].kind, "gauge");
    assert_eq!(
        entries[0]
            .items
            .iter()
            .map(|item| item.name.as_str())
            .collect::<Vec<_>>(),
        ["vessel", "home"]
    );
    // Searched by name and by description.
    let found = async |word: &str| {
        reader
            .catalogue(&kind("http-json", whole), word)
            .await
            .unwrap()
            .into_iter()
            .map(|entry| entry.name)
            .collect::<Vec<_>>()
    };
    assert_eq!(found("GROUND").await, ["speed"]);
    assert_eq!(found("nothing").await, Vec::<String>::new());
    // A list of bare names is as good, also of files.
    let bare = reader
        .catalogue(&kind("files", "rows = \"$.measures[*].name\""), "")
        .await
        .unwrap();
    assert_eq!(
        bare.iter()
            .map(|entry| entry.name.as_str())
            .collect::<Vec<_>>(),
        ["fuel_rate", "speed"]
    );

    let wrong = Definition::parse(
        "s.toml",
        "[source]\nname = \"s\"\nkind = \"http-json\"\nurl = \"https://x.example\"\n[source.catalogue]\npath = \"/a\"\nrows = \"measures[\"\n",
    );
    let said = wrong.unwrap_err()[0].to_string();
    assert!(
        said.starts_with(
            "s.toml:7:8: source.catalogue.rows: \"measures[\" is not a JSONPath (RFC 9535)"
        ),
        "{said}"
    );
}

#[tokio::test]
async fn groups_inside_of_groups_become_rows() {
    let services = WebServices::start().await.unwrap();
    let source = source(&format!(
        "kind = \"http-json\"\nurl = \"{}\"",
        services.url("/")
    ));
    let query = r#"
path = "/logbook/count"
method = "POST"
body = '{"size": 0, "from": "{{ from_unix_ms }}", "to": "{{ to_unix_ms }}", "ports": "{{ ports }}"}'
rows = "$.groups.by_kind.buckets[*]"
each = "$.over_time.buckets[*]"
field = [
  { name = "kind", outer = "$.key" },
  { name = "at", path = "$.key", kind = "instant", time = "unix-ms" },
  { name = "entries", path = "$.entries.value", kind = "integer" },
]
"#;
    let values = Values::from([(
        "ports".to_owned(),
        ParameterValue::List(vec!["havnes".into(), "ostrey".into()]),
    )]);
    let answer = ask_with(&Reader::unguarded(), &source, query, &values)
        .await
        .unwrap();
    assert_eq!(answer.table.rows.len(), 4 * 25);
    assert!(
        answer.sent.contains("\"from\":1792882800000")
            && answer.sent.contains("\"ports\":[\"havnes\",\"ostrey\"]"),
        "{}",
        answer.sent
    );
    assert_eq!(
        column(&answer.table, "kind")[25],
        Value::Text("navigation".into())
    );
}

#[tokio::test]
async fn lists_side_by_side_and_pages_become_rows() {
    let services = WebServices::start().await.unwrap();
    let source = source(&format!(
        "kind = \"http-json\"\nurl = \"{}\"",
        services.url("")
    ));
    let weather = r#"
path = "/weather/{{ port }}"
send = { from = "{{ from_unix }}", to = "{{ to_unix }}" }
rows = "$"
parallel = true
field = [
  { name = "station", path = "$.station" },
  { name = "at", path = "$.hourly.time", kind = "instant" },
  { name = "wind", path = "$.hourly.wind", kind = "number" },
]
pages = { by = "number", key = "page" }
"#;
    let values = Values::from([("port".to_owned(), ParameterValue::Text("havnes".into()))]);
    let table = ask_with(&Reader::unguarded(), &source, weather, &values)
        .await
        .unwrap()
        .table;
    // The third page has no hours, but it has a station; rows are as many as the longest list.
    let hours: Vec<Value> = column(&table, "at")
        .into_iter()
        .filter(|at| *at != Value::Missing)
        .collect();
    assert_eq!(hours.len(), 25);
    assert!(
        column(&table, "station")
            .iter()
            .all(|station| *station == Value::Text("havnes".into()))
    );

    let rows = |form: &str| {
        format!("{form}\nfield = [{{ name = \"n\", path = \"$.n\", kind = \"integer\" }}]")
    };
    let eight: Vec<Value> = (0..8).map(Value::Integer).collect();
    for form in [
        "path = \"/pages\"\nrows = \"$.rows[*]\"\npages = { by = \"cursor\", path = \"$.next\", key = \"cursor\" }",
        "path = \"/linked\"\nrows = \"$[*]\"\npages = { by = \"next-link\" }",
    ] {
        assert_eq!(
            column(&ask(&source, &rows(form)).await.unwrap().table, "n"),
            eight,
            "{form}"
        );
    }
    let two = ask(&source, &rows("path = \"/pages\"\nrows = \"$.rows[*]\"\npages = { by = \"cursor\", path = \"$.next\", key = \"cursor\", max-pages = 2 }"))
        .await
        .unwrap()
        .table;
    assert_eq!((two.rows.len(), two.truncated), (6, true));
    // A service that is busy is asked again when it says so.
    assert_eq!(
        ask(&source, &rows("path = \"/busy\"\nrows = \"$[*]\""))
            .await
            .unwrap()
            .table
            .rows
            .len(),
        1
    );
}

#[tokio::test]
async fn what_a_service_does_wrong_is_said_with_its_place() {
    let services = WebServices::start().await.unwrap();
    let at = |path: &str| {
        source(&format!(
            "kind = \"http-json\"\nurl = \"{}\"\ntimeout = \"PT1S\"",
            services.url(path)
        ))
    };
    let root = at("");
    let query = |path: &str| {
        format!(
            "path = \"{path}\"\nrows = \"$[*]\"\nfield = [{{ name = \"n\", path = \"$.n\", kind = \"integer\" }}]"
        )
    };
    let said = |outcome: Result<Answer, String>| outcome.unwrap_err();
    assert!(
        said(ask(&root, &query("/garbage")).await)
            .contains("/garbage cannot be read: it is not JSON: expected value at line 1 column 1")
    );
    assert!(said(ask(&root, &query("/moved")).await).contains(
        "answered 302: it sends on to http://169.254.1.1/elsewhere, which is not followed"
    ));
    assert!(said(ask(&root, &query("/nothing")).await).contains("/nothing answered 404"));
    assert!(
        said(ask(&root, &query("/slow")).await)
            .contains("did not answer within 1 s; narrow the query or raise the source's timeout")
    );
    let closed = source("kind = \"http-json\"\nurl = \"http://127.0.0.1:9\"");
    assert!(
        said(ask(&closed, &query("/x")).await)
            .contains("http://127.0.0.1:9/x cannot be reached: Connection refused")
    );
    let text = "path = \"/linked\"\nrows = \"$[*]\"\nfield = [{ name = \"n\", path = \"$\", kind = \"integer\" }]";
    assert!(said(ask(&root, text).await).contains(
        "row 1, column \"n\" cannot be read: it holds a list or an object, not a whole number"
    ));

    let boundary = Boundary {
        own: vec![services.address],
        allowed: Vec::new(),
    };
    let guarded = Reader::new(
        boundary,
        std::sync::Arc::new(|_| Box::pin(async { Err("is not kept".into()) })),
    );
    let refused = ask_with(&guarded, &root, &query("/busy"), &Values::new())
        .await
        .unwrap_err();
    assert!(
        refused.contains("may not reach")
            && refused.contains("it belongs to Maple Lark itself")
            && refused.contains("sources-may-reach"),
        "{refused}"
    );
    for url in ["http://169.254.169.254/", "http://[fe80::1]/"] {
        let source = source(&format!("kind = \"open-metrics\"\nurl = \"{url}\""));
        assert!(
            ask_with(&guarded, &source, "metric = \"x\"", &Values::new())
                .await
                .unwrap_err()
                .contains("link-local"),
            "{url}"
        );
    }
    let secret = source(&format!(
        "kind = \"http-json\"\nurl = \"{}\"\n[source.sign-in]\nkind = \"bearer\"\ntoken = \"secret:reader\"",
        services.url("")
    ));
    assert_eq!(
        ask_with(
            &Reader::unguarded(),
            &secret,
            &query("/busy"),
            &Values::new()
        )
        .await
        .map(|_| ())
        .unwrap_err(),
        "source \"s\": token refers to secret:reader, which is not kept here"
    );
}

#[tokio::test]
async fn metrics_have_their_labels_as_columns() {
    let services = WebServices::start().await.unwrap();
    let source = source(&format!(
        "kind = \"open-metrics\"\nurl = \"{}\"",
        services.url("/gates/metrics")
    ));
    let scans = ask(&source, "metric = \"gate_scans\"").await.unwrap().table;
    assert_eq!(
        scans
            .columns
            .iter()
            .map(|c| c.name.as_str())
            .collect::<Vec<_>>(),
        ["gate", "port", "value"]
    );
    assert_eq!(scans.rows.len(), 12);
    let one = ask(
        &source,
        "metric = [\"gate_scans\", \"gate_queue_passengers\"]\nlabels = { port = [\"havnes\"] }",
    )
    .await
    .unwrap()
    .table;
    assert_eq!(
        column(&one, "metric"),
        [
            "gate_scans_total",
            "gate_scans_total",
            "gate_queue_passengers"
        ]
        .map(|name| Value::Text(name.into()))
    );
    assert_eq!(column(&one, "gate")[2], Value::Missing);
    let buckets = ask(&source, "metric = \"gate_scan_seconds\"")
        .await
        .unwrap()
        .table;
    assert_eq!(
        (buckets.rows.len(), column(&buckets, "le")[4].clone()),
        (30, Value::Text("+Inf".into()))
    );
    let wrong = ask(&source, "metric = \"gate_scan\"").await.unwrap_err();
    assert!(
        wrong.contains("has no metric \"gate_scan\". Did you mean \"gate_scans\"?"),
        "{wrong}"
    );
    let entries = Reader::unguarded()
        .catalogue(&source, "queue")
        .await
        .unwrap();
    assert_eq!(
        (
            entries.len(),
            entries[0].kind.as_str(),
            entries[0].items[0].values.len()
        ),
        (1, "gauge", 6)
    );
    assert!(
        Reader::unguarded()
            .test(&source)
            .await
            .unwrap()
            .found
            .starts_with("3 metrics with ")
    );
}

#[tokio::test]
async fn a_sign_in_inside_of_a_url_is_shown_nowhere() {
    let services = WebServices::start().await.unwrap();
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(
        file.path(),
        services
            .url("")
            .replace("http://", "http://reader:hunter2@"),
    )
    .unwrap();
    let source = source(&format!(
        "kind = \"http-json\"\nurl = \"file:{}\"",
        file.path().display()
    ));
    let query = |path: &str| {
        format!("path = \"{path}\"\nrows = \"$[*]\"\nfield = [{{ name = \"n\", path = \"$.n\" }}]")
    };
    assert_eq!(
        ask(&source, &query("/linked")).await.unwrap().sent,
        format!("GET {}", services.url("/linked"))
    );
    let said = ask(&source, &query("/garbage")).await.unwrap_err();
    assert!(
        !said.contains("hunter2") && said.contains(&services.url("/garbage")),
        "{said}"
    );
}
