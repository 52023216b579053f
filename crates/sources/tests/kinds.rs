//! Every kind of source but PostgreSQL, against what really answers: HTTP servers, files,
//! sockets. Everything that can go wrong says what, where, and what to do.

#![allow(
    clippy::too_many_lines,
    reason = "a test tells one story from its beginning to its end"
)]

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

fn write(folder: &Path, name: &str, bytes: &[u8]) {
    let path = folder.join(name);
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    std::fs::write(path, bytes).unwrap();
}

#[tokio::test]
async fn files_are_read_by_pattern_with_types_found_out_or_fixed() {
    let folder = TempDir::new().unwrap();
    write(folder.path(), "2026/a.csv", b"\xef\xbb\xbfhost,load,seen\nh1,1.5,2026-10-25T10:00:00Z\n\"h,2\",,2026-10-25T11:00:00+01:00\n");
    write(
        folder.path(),
        "2026/b.csv",
        b"host,load,seen\nh3,7,2026-10-27T10:00:00Z\n",
    );
    let files = source(&format!(
        "kind = \"files\"\nfolder = \"{}\"",
        folder.path().display()
    ));
    let all = ask(&files, "file = \"2026/*.csv\"").await.unwrap();
    assert_eq!(
        all.table.columns.iter().map(|c| c.kind).collect::<Vec<_>>(),
        [ColumnKind::Text, ColumnKind::Number, ColumnKind::Instant]
    );
    assert_eq!(
        (
            all.table.rows.len(),
            all.table.rows[1][0].clone(),
            all.table.rows[1][1].clone()
        ),
        (3, Value::Text("h,2".into()), Value::Missing)
    );
    assert_eq!(all.sent, "2026/*.csv of 2 files");
    // Only what lies in the window.
    assert_eq!(
        ask(&files, "file = \"2026/*.csv\"\ntime = \"seen\"")
            .await
            .unwrap()
            .table
            .rows
            .len(),
        2
    );
    let fixed = "file = \"**/a.csv\"\nfield = [{ name = \"machine\", column = \"host\" }, { name = \"load\", kind = \"decimal\" }]";
    let fixed = ask(&files, fixed).await.unwrap().table;
    assert_eq!(
        fixed
            .columns
            .iter()
            .map(|c| (c.name.as_str(), c.kind))
            .collect::<Vec<_>>(),
        [("machine", ColumnKind::Text), ("load", ColumnKind::Decimal)]
    );

    write(
        folder.path(),
        "old.csv",
        "hús;uppseting\nNólsoy;31.12.2025 08:30\n"
            .chars()
            .map(|c| c as u32 as u8)
            .collect::<Vec<u8>>()
            .as_slice(),
    );
    let old = "file = \"old.csv\"\nencoding = \"windows-1252\"\ndelimiter = \";\"\nfield = [{ name = \"house\", column = \"hús\" }, { name = \"at\", column = \"uppseting\", kind = \"instant\", time = \"%d.%m.%Y %H:%M\" }]";
    let old = ask(&files, old).await.unwrap().table;
    assert_eq!(
        old.rows[0],
        [
            Value::Text("Nólsoy".into()),
            Value::Instant("2025-12-31T08:30:00Z".parse().unwrap())
        ]
    );

    write(
        folder.path(),
        "log.jsonl",
        b"{\"level\":\"warn\",\"n\":3}\n\n{\"level\":\"info\",\"n\":4,\"more\":1}\n",
    );
    let log = ask(&files, "file = \"log.jsonl\"\nformat = \"json-lines\"")
        .await
        .unwrap()
        .table;
    assert_eq!(
        (log.rows.len(), log.columns[1].kind),
        (2, ColumnKind::Integer)
    );
    assert!(
        Reader::unguarded()
            .test(&files)
            .await
            .unwrap()
            .found
            .starts_with("4 files in ")
    );
    assert_eq!(
        Reader::unguarded().catalogue(&files, "log").await.unwrap()[0].name,
        "log.jsonl"
    );
}

#[tokio::test]
async fn the_events_of_a_calendar_are_rows_of_the_window() {
    let folder = TempDir::new().unwrap();
    let event = |body: &str| format!("BEGIN:VEVENT\r\n{body}\r\nEND:VEVENT\r\n");
    let calendar = |events: &str| {
        format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Orrin Sound//EN\r\n{events}END:VCALENDAR\r\n"
        )
    };
    let night = event(
        "UID:1\r\nSUMMARY:Database upgrade\r\nLOCATION:Payments\r\nDTSTART:20261025T010000Z\r\nDTEND:20261025T030000Z",
    );
    let later =
        event("UID:2\r\nSUMMARY:Later\r\nDTSTART:20261225T010000Z\r\nDTEND:20261225T030000Z");
    write(
        folder.path(),
        "maintenance.ics",
        calendar(&(night + &later)).as_bytes(),
    );
    write(
        folder.path(),
        "bad.ics",
        calendar(&event("SUMMARY:Never\r\nDTSTART:soon")).as_bytes(),
    );
    let files = source(&format!(
        "kind = \"files\"\nfolder = \"{}\"",
        folder.path().display()
    ));
    let asked = "file = \"maintenance.ics\"\nformat = \"icalendar\"";
    let all = ask(&files, asked).await.unwrap().table;
    let names: Vec<&str> = all.columns.iter().map(|one| one.name.as_str()).collect();
    assert_eq!(
        names,
        [
            "from",
            "to",
            "title",
            "location",
            "categories",
            "description"
        ]
    );
    let text = |text: &str| Value::Text(text.to_owned());
    let at = |text: &str| Value::Instant(text.parse().unwrap());
    assert_eq!(
        all.rows,
        [[
            at("2026-10-25T01:00:00Z"),
            at("2026-10-25T03:00:00Z"),
            text("Database upgrade"),
            text("Payments"),
            Value::Missing,
            Value::Missing,
        ]]
    );
    let fields = "field = [{ name = \"service\", column = \"location\" }, { name = \"from\" }]";
    let some = ask(&files, &format!("{asked}\n{fields}"))
        .await
        .unwrap()
        .table;
    assert_eq!(some.columns[0].name, "service");
    assert_eq!(some.rows, [[text("Payments"), at("2026-10-25T01:00:00Z")]]);
    let bad = ask(&files, "file = \"bad.ics\"\nformat = \"icalendar\"").await;
    let words = bad.unwrap_err().to_string();
    assert!(
        words.contains("bad.ics")
            && words.contains("line 6")
            && words.contains("\"soon\" is not a date"),
        "{words}"
    );
}

#[tokio::test]
async fn a_bad_row_is_named_or_left_out_and_nothing_outside_the_folder_is_read() {
    let folder = TempDir::new().unwrap();
    write(
        folder.path(),
        "f/bad.csv",
        b"host,load\nh1,1\nh2,many\nh3\nh4,4\n",
    );
    write(folder.path(), "f/bad.jsonl", b"{\"n\":1}\nnonsense\n");
    write(folder.path(), "secret.csv", b"a\n1\n");
    std::os::unix::fs::symlink(
        folder.path().join("secret.csv"),
        folder.path().join("f/link.csv"),
    )
    .unwrap();
    let files = source(&format!(
        "kind = \"files\"\nfolder = \"{}/f\"",
        folder.path().display()
    ));
    let typed =
        "file = \"bad.csv\"\nfield = [{ name = \"host\" }, { name = \"load\", kind = \"number\" }]";
    let said = ask(&files, typed).await.unwrap_err();
    assert!(
        said.contains("bad.csv, line 3: column \"load\": \"many\" is not a number. Mend the file, or let such rows be left out with bad-rows = \"skip\""),
        "{said}"
    );
    let rest = ask(&files, &format!("{typed}\nbad-rows = \"skip\""))
        .await
        .unwrap();
    assert_eq!(rest.table.rows.len(), 2);
    assert!(
        rest.note
            .unwrap()
            .starts_with("2 rows that could not be read were left out; the first: ")
    );
    // An answer has its size, however few cells it is in: no more is read than that.
    write(folder.path(), "f/wide.csv", &[b'x'; 30_000]);
    write(folder.path(), "f/fits.csv", &[b'x'; 1999]);
    let small = source(&format!(
        "kind = \"files\"\nfolder = \"{}/f\"\nmax-size = \"2 kB\"",
        folder.path().display()
    ));
    let said = ask(&small, "file = \"wide.csv\"").await.unwrap_err();
    assert!(said.contains("the answer is larger than"), "{said}");
    assert!(ask(&small, "file = \"fits.csv\"").await.is_ok());
    assert!(
        ask(&files, "file = \"bad.jsonl\"\nformat = \"json-lines\"")
            .await
            .unwrap_err()
            .contains("bad.jsonl, line 2: it is not JSON")
    );
    assert!(
        ask(
            &files,
            "file = \"bad.csv\"\nfield = [{ name = \"lode\" }]\nbad-rows = \"skip\""
        )
        .await
        .unwrap_err()
        .contains("there is no column \"lode\". Did you mean \"load\"?")
    );
    assert!(
        ask(&files, "file = \"link.csv\"")
            .await
            .unwrap_err()
            .contains("leads out of the folder and is not read")
    );
    assert!(
        ask(&files, "file = \"../secret.csv\"")
            .await
            .unwrap_err()
            .contains("must lie below the source's folder")
    );
    assert!(
        ask(&files, "file = \"none*.csv\"")
            .await
            .unwrap_err()
            .contains("finds no file in")
    );
    assert!(
        ask(&files, "file = \"bad.csv\"\nencoding = \"utf-99\"")
            .await
            .unwrap_err()
            .contains("\"utf-99\" is not an encoding")
    );

    let services = WebServices::start().await.unwrap();
    let web = source(&format!(
        "kind = \"files\"\nurl = \"{}\"",
        services.url("/exports")
    ));
    let kiosks =
        ask(&web, "file = \"kiosks.csv\"\ndelimiter = \";\"\nfield = [{ name = \"kiosk\" }, { name = \"installed\", kind = \"date\", time = \"%d.%m.%Y\" }]")
            .await
            .unwrap()
            .table;
    assert_eq!(
        (kiosks.rows.len(), kiosks.rows[1][1].clone()),
        (24, Value::Date("2023-02-02".parse().unwrap()))
    );
}

#[tokio::test]
async fn checks_say_what_is_well_and_what_is_not() {
    let services = WebServices::start().await.unwrap();
    let checks = source("kind = \"local-checks\"");
    let tcp = ask(
        &checks,
        &format!(
            "check = \"tcp\"\ntargets = [\"{}\", \"127.0.0.1:9\"]",
            services.address
        ),
    )
    .await
    .unwrap()
    .table;
    assert_eq!(
        column(&tcp, "ok"),
        [Value::Boolean(true), Value::Boolean(false)]
    );
    assert!(matches!(&column(&tcp, "problem")[1], Value::Text(words) if words.contains("refused")));
    let http = ask(
        &checks,
        &format!(
            "check = \"http\"\nseconds = 1\ntargets = [\"{}\", \"{}\", \"{}\"]",
            services.url("/garbage"),
            services.url("/nowhere"),
            services.url("/slow")
        ),
    )
    .await
    .unwrap()
    .table;
    assert_eq!(
        column(&http, "ok"),
        [
            Value::Boolean(true),
            Value::Boolean(false),
            Value::Boolean(false)
        ]
    );
    assert_eq!(
        column(&http, "status")[..2],
        [Value::Integer(200), Value::Integer(404)]
    );
    let disk = ask(
        &checks,
        "check = \"disk\"\ntargets = [\"/\", \"/no/such/folder\"]",
    )
    .await
    .unwrap()
    .table;
    assert!(
        matches!(column(&disk, "used_percent")[0], Value::Number(percent) if (0.0..=100.0).contains(&percent))
    );
    assert_eq!(column(&disk, "ok")[1], Value::Boolean(false));
    let names = ask(&checks, "check = \"dns\"\ntargets = [\"localhost\"]")
        .await
        .unwrap()
        .table;
    assert!(
        matches!(&column(&names, "addresses")[0], Value::Text(found) if found.contains("127.0.0.1"))
    );
    let plain = ask(
        &checks,
        &format!(
            "check = \"certificate\"\ntargets = [\"{}\"]",
            services.address
        ),
    )
    .await
    .unwrap()
    .table;
    assert_eq!(column(&plain, "ok"), [Value::Boolean(false)]);
    assert_eq!(
        Reader::unguarded()
            .catalogue(&checks, "certif")
            .await
            .unwrap()
            .len(),
        1
    );
}

/// A certificate made by openssl, shown by its own server.
#[tokio::test]
async fn the_days_of_a_certificate_are_counted() {
    let folder = TempDir::new().unwrap();
    let (key, certificate) = (
        folder.path().join("key.pem"),
        folder.path().join("certificate.pem"),
    );
    let made = std::process::Command::new("openssl")
        .args([
            "req",
            "-x509",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-days",
            "20",
            "-subj",
            "/CN=Orrin Sound Internal CA",
            "-addext",
            "subjectAltName=DNS:localhost",
            "-addext",
            "basicConstraints=critical,CA:FALSE",
        ])
        .arg("-keyout")
        .arg(&key)
        .arg("-out")
        .arg(&certificate)
        .output()
        .expect("openssl of Debian's package openssl");
    assert!(made.status.success());
    let port = std::net::TcpListener::bind("127.0.0.1:0")
        .unwrap()
        .local_addr()
        .unwrap()
        .port();
    let mut server = std::process::Command::new("openssl")
        .args([
            "s_server",
            "-quiet",
            "-www",
            "-accept",
            &format!("127.0.0.1:{port}"),
        ])
        .arg("-key")
        .arg(&key)
        .arg("-cert")
        .arg(&certificate)
        .stdin(std::process::Stdio::null())
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    for _ in 0..100 {
        if std::net::TcpStream::connect(("127.0.0.1", port)).is_ok() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    let found = ask(
        &source("kind = \"local-checks\""),
        &format!("check = \"certificate\"\ntargets = [\"localhost:{port}\"]"),
    )
    .await;
    let trusting = source(&format!(
        "kind = \"http-json\"\nurl = \"https://localhost:{port}\"\nca-file = \"{}\"",
        certificate.display()
    ));
    let greeting = Reader::unguarded().test(&trusting).await;
    let distrusting = Reader::unguarded()
        .test(&source(&format!(
            "kind = \"http-json\"\nurl = \"https://localhost:{port}\""
        )))
        .await;
    server.kill().unwrap();
    server.wait().unwrap();
    let table = found.unwrap().table;
    assert_eq!(column(&table, "ok"), [Value::Boolean(true)], "{table:?}");
    assert!(
        matches!(column(&table, "days_left")[0], Value::Number(days) if (19.0..=20.0).contains(&days))
    );
    assert_eq!(
        column(&table, "issuer"),
        [Value::Text("Orrin Sound Internal CA".into())]
    );
    assert_eq!(column(&table, "trusted"), [Value::Boolean(false)]);
    assert!(greeting.unwrap().found.ends_with("answered 200"));
    assert!(distrusting.unwrap_err().to_string().contains("certificate"));
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
