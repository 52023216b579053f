//! What a document says beside its data: texts with values, how things stand, lines in cells.

use maple_lark_data::{Column, ColumnKind, Table, Value, status::Status};
use maple_lark_definition::{Template, Width};

use crate::{
    chart::Plot,
    compose::{
        compose,
        past::Past,
        run_values::{message_values, render_text},
        summary,
        tests::{rows, snapshot, table},
    },
    document::{Block, Body, Document, Figure, Place, Section, SummaryLine},
    markdown::{self, Part},
    snapshot::Outcome,
};

fn texts(text: &str, outcome: Outcome) -> Vec<Part> {
    let block = format!(
        "show = \"figures\"\ncolumns = [\"used\"]\n[[section.block]]\nshow = \"text\"\ntext = '''{text}'''"
    );
    let document = compose(&snapshot(&block, outcome)).unwrap();
    let Body::Text { parts } = &document.sections[0].blocks[1].body else {
        panic!("{document:?}")
    };
    parts.clone()
}

fn said(text: &str, outcome: Outcome) -> String {
    markdown::plain(&texts(text, outcome)).replace('\u{a0}', " ")
}

#[test]
fn a_text_names_figures_that_stand_before_and_after_it() {
    assert_eq!(
        said(
            "Disks are at **{{ figures.used }}**: {{ summary }}",
            rows(&[("a", Some(91.0))])
        ),
        "Disks are at 91 %: Needs action"
    );
    assert_eq!(
        said(
            "{% if status == \"ok\" %}Sleep well.{% else %}Look at it.{% endif %}",
            rows(&[("a", Some(1.0))])
        ),
        "Sleep well."
    );
    assert_eq!(
        said("{{ figures.used }} in {{ window.label }}", rows(&[])),
        "not known in Sunday 25 October 2026, 25 h"
    );
    // A single brace is a brace.
    assert_eq!(
        said("{ a } and {b}", rows(&[("a", Some(1.0))])),
        "{ a } and {b}"
    );
}

#[test]
fn a_value_in_a_text_is_never_markup() {
    let snapshot = snapshot("show = \"figures\"", rows(&[("a", Some(1.0))]));
    let document = Document {
        title: "[x](https://thief.example) **b**".into(),
        ..compose(&snapshot).unwrap()
    };
    let merged = render_text(
        &Template::new("*{{ report.title }}*".into()),
        message_values(&snapshot, &document, None),
    )
    .unwrap();
    let parts = markdown::read(&merged);
    let [Part::Paragraph { runs }] = &parts[..] else {
        panic!("{parts:?}")
    };
    assert_eq!(markdown::plain(&parts), "[x](https://thief.example) **b**");
    assert!(
        runs.iter()
            .all(|run| run.emphasis && !run.strong && run.link.is_none()),
        "{runs:?}"
    );
}

#[test]
fn a_table_is_judged_by_all_of_its_rows_also_by_those_that_are_not_shown() {
    let names: Vec<String> = (0..300).map(|i| format!("h{i}")).collect();
    let many: Vec<_> = names
        .iter()
        .enumerate()
        .map(|(i, name)| (name.as_str(), Some(if i >= 298 { 95.0 } else { 1.0 })))
        .collect();
    let document = compose(&snapshot("show = \"table\"\nlimit = 10", rows(&many))).unwrap();
    assert_eq!(document.summary.status, Status::Critical);
    assert_eq!(
        document.summary.lines,
        [
            "h298: Disk used 95\u{a0}%, critical from 90\u{a0}%",
            "h299: Disk used 95\u{a0}%, critical from 90\u{a0}%"
        ]
    );
    let well = compose(&snapshot("show = \"table\"", rows(&[("a", Some(1.0))]))).unwrap();
    assert_eq!(
        (well.summary.status, well.summary.headline.as_str()),
        (Status::Ok, "All within limits")
    );
}

#[test]
#[expect(clippy::too_many_lines, reason = "one case after the other")]
fn bars_and_lines_count_in_the_summary() {
    let bars = compose(&snapshot(
        "show = \"bar\"\nlabel = \"host\"\nvalue = \"used\"",
        rows(&[("a", Some(95.0)), ("b", Some(85.0)), ("c", None)]),
    ))
    .unwrap();
    assert_eq!(
        bars.summary.lines,
        [
            "a: Disk used 95\u{a0}%, critical from 90\u{a0}%",
            "b: Disk used 85\u{a0}%, warning from 80\u{a0}%"
        ]
    );
    let lines = |values: &[(&str, f64)]| {
        let from: chrono::DateTime<chrono::Utc> = "2026-10-24T23:00:00Z".parse().unwrap();
        let column = |name: &str, kind| Column {
            name: name.into(),
            kind,
        };
        let rows = values
            .iter()
            .enumerate()
            .map(|(i, (name, used))| {
                vec![
                    Value::Instant(from + chrono::TimeDelta::minutes(i as i64)),
                    Value::Text((*name).into()),
                    Value::Number(*used),
                ]
            })
            .collect();
        let columns = vec![
            column("at", ColumnKind::Instant),
            column("host", ColumnKind::Text),
            column("used", ColumnKind::Number),
        ];
        let block = "show = \"line\"\ntime = \"at\"\nvalue = \"used\"\nseries = \"host\"";
        compose(&snapshot(
            block,
            Outcome::Rows(
                Table {
                    columns,
                    rows,
                    truncated: false,
                }
                .into(),
            ),
        ))
        .unwrap()
        .summary
    };
    let ended_badly = lines(&[("a", 10.0), ("b", 95.0), ("a", 85.0), ("b", 20.0)]);
    assert_eq!(ended_badly.status, Status::Warning);
    let past = "a: Disk used 85\u{a0}%, warning from 80\u{a0}%";
    assert_eq!(
        ended_badly.lines,
        [
            past,
            "B: 1 of 2 lines past a limit for a time, well at the end"
        ]
    );
    assert_eq!(ended_badly.worst.as_deref(), Some(past));
    // Each says where it is shown.
    let place = Some(Place::default());
    assert!(ended_badly.lines.iter().all(|line| line.place == place));
    let recovered = lines(&[("a", 10.0), ("b", 95.0), ("a", 15.0), ("b", 20.0)]);
    // One box says one thing.
    assert_eq!(recovered.headline, "All within limits at the end");
    assert_eq!(
        recovered.lines,
        ["B: 1 of 2 lines past a limit for a time, well at the end"]
    );
}

#[test]
fn what_has_no_data_is_counted_but_an_empty_table_is_not() {
    let figures = compose(&snapshot("show = \"figures\"", rows(&[]))).unwrap();
    assert_eq!(figures.summary.lines, ["1 block is without data"]);
    let table = compose(&snapshot("show = \"table\"", rows(&[]))).unwrap();
    assert!(table.summary.lines.is_empty(), "{:?}", table.summary);
}

const MANY: &str = "show = \"line\"\ntime = \"at\"\nvalue = \"used\"\nseries = \"host\"";

fn many_lines(count: usize) -> Outcome {
    let from: chrono::DateTime<chrono::Utc> = "2026-10-24T23:00:00Z".parse().unwrap();
    let columns = [
        ("at", ColumnKind::Instant),
        ("host", ColumnKind::Text),
        ("used", ColumnKind::Number),
    ];
    let row = |minute: usize, host: usize| {
        vec![
            Value::Instant(from + chrono::TimeDelta::minutes(minute as i64)),
            Value::Text(format!("host-{host}")),
            // The hosts with the highest numbers are the fullest.
            Value::Number(host as f64 / count as f64 * 100.0 - minute as f64),
        ]
    };
    let rows = (0..5)
        .flat_map(|minute| (0..count).map(move |host| row(minute, host)))
        .collect();
    Outcome::Rows(
        Table {
            columns: columns
                .map(|(name, kind)| Column {
                    name: name.into(),
                    kind,
                })
                .to_vec(),
            rows,
            truncated: false,
        }
        .into(),
    )
}

#[test]
fn of_forty_lines_the_worst_are_named_and_the_others_are_behind_them() {
    let document = compose(&snapshot(MANY, many_lines(40))).unwrap();
    let Body::Chart { chart } = &document.sections[0].blocks[0].body else {
        panic!("{document:?}")
    };
    let Plot::Lines { series, .. } = &chart.plot else {
        panic!()
    };
    let named: Vec<&str> = series
        .iter()
        .filter(|one| !one.behind)
        .map(|one| one.name.as_str())
        .collect();
    assert_eq!(series.len(), 40);
    assert_eq!(
        named,
        (32..40)
            .rev()
            .map(|host| format!("host-{host}"))
            .collect::<Vec<_>>()
    );
    assert_eq!(chart.judged.all, 40);
    let refused = compose(&snapshot(MANY, many_lines(101))).unwrap().failed;
    assert_eq!(
        refused[0].1,
        "101 series are too many for one figure; narrow the query to 100 or fewer"
    );
}

#[test]
fn a_row_has_the_line_of_its_own_key() {
    let outcome = rows(&[
        ("a", Some(10.0)),
        ("b", Some(50.0)),
        ("a", Some(20.0)),
        ("a", None),
        ("a", Some(15.0)),
    ]);
    let block =
        "show = \"table\"\nlimit = 2\ntrend = \"q\"\ntrend-by = \"host\"\ntrend-of = \"used\"";
    let document = compose(&snapshot(block, outcome.clone())).unwrap();
    let shown = table(&document);
    assert_eq!(
        shown
            .headings
            .iter()
            .map(|heading| (heading.title.as_str(), heading.trend))
            .collect::<Vec<_>>()[2],
        ("Disk used", true)
    );
    // All lines have one scale, from 10 to 50.
    assert_eq!(
        shown.rows[0][2].trend,
        [Some(0.0), Some(0.25), None, Some(0.125)]
    );
    assert_eq!(
        shown.rows[0][2].text.replace('\u{a0}', " "),
        "from 10 % to 15 %, between 10 % and 20 %"
    );
    assert_eq!(shown.rows[1][2].trend, [Some(1.0)]);
    let own = format!("{block}\ntrend-scale = \"each\"");
    let own = compose(&snapshot(&own, outcome)).unwrap();
    assert_eq!(
        table(&own).rows[0][2].trend,
        [Some(0.0), Some(1.0), None, Some(0.5)]
    );
    assert_eq!(table(&own).rows[1][2].trend, [Some(0.5)]);
    // Formats without drawings, and the data, have the columns of the query alone.
    let words = shown.in_words();
    assert_eq!(
        (
            words.headings.len(),
            words.rows[0].len(),
            document.data[0].headings.len()
        ),
        (2, 2, 2)
    );
}

#[test]
fn the_composed_document_is_as_it_was() {
    let block = "show = \"table\"\nbars = [\"used\"]\nnote = \"A note.\"";
    let document = compose(&snapshot(block, rows(&[("a", Some(91.25)), ("b", None)]))).unwrap();
    insta::assert_snapshot!(serde_json::to_string_pretty(&document).unwrap());
}

fn figure(n: usize, status: Status) -> Figure {
    Figure {
        name: format!("f{n}"),
        title: format!("Figure {n}"),
        value: n.to_string(),
        status: Some(status),
        passed: Some(format!("{} from 0", status.word().to_lowercase())),
        limits: None,
        change: None,
        amount: None,
        unit: String::new(),
        before: None,
        sparkline: Vec::new(),
    }
}

/// The lines of the front of a document with these key figures and what is past limits besides.
fn front_of(figures: Vec<Figure>, past: Past) -> Vec<SummaryLine> {
    let block = Block {
        title: "B".into(),
        width: Width::FULL,
        note: None,
        body: Body::Figures { figures },
    };
    let section = Section {
        title: "S".into(),
        text: Vec::new(),
        blocks: vec![block],
    };
    summary::summarise(&[section], &[], None, past).lines
}

#[test]
fn the_front_tells_the_worst_first_and_not_too_much() {
    let status = |n: usize| {
        if n == 5 {
            Status::Critical
        } else {
            Status::Warning
        }
    };
    let lines = |count: usize| {
        let figures = (0..count).map(|n| figure(n, status(n))).collect();
        front_of(figures, Past::default())
    };
    assert_eq!(
        lines(7)[..2],
        [
            "Figure 5: 5, critical from 0",
            "Figure 0: 0, warning from 0"
        ]
    );
    // One more line is as short as a line that says that there is one more.
    assert_eq!((lines(8).len(), lines(9).len()), (8, 9));
    let many = lines(12);
    assert_eq!(
        (many.len(), many[8].text.as_str()),
        (9, "and 4 more, marked in their places")
    );
}

#[test]
fn nothing_that_is_critical_is_counted_behind_a_warning_that_is_named() {
    let figures = (0..3).map(|n| figure(n, Status::Warning)).collect();
    let mut past = Past::default();
    for host in 0..7 {
        past.add(
            &format!("host-{host}"),
            "down".to_owned(),
            Status::Critical,
            1.0,
        );
    }
    let front = front_of(figures, past);
    let lines: Vec<&str> = front.iter().map(|line| &*line.text).collect();
    assert!(
        lines[..7].iter().all(|line| line.ends_with(": down")),
        "{lines:?}"
    );
    assert_eq!(lines[7], "Figure 0: 0, warning from 0");
    assert_eq!(lines[8..], ["and 2 more, marked in their places"]);
}
