//! Promises, forecasts and changes as a reader sees them.

use chrono::{TimeDelta, Utc};
use maple_lark_data::{Column, ColumnKind, Table, Value, status::Status};

use crate::{
    chart::Plot,
    compose::{compose, run_values, tests::snapshot},
    document::{Body, Document},
    snapshot::{EarlierRows, Outcome, Snapshot, Time},
};

fn rows(columns: &[(&str, ColumnKind)], rows: Vec<Vec<Value>>) -> Table {
    Table {
        columns: columns
            .iter()
            .map(|(name, kind)| Column {
                name: (*name).to_owned(),
                kind: *kind,
            })
            .collect(),
        rows,
        truncated: false,
    }
}

/// A snapshot whose block shows the query after this has been done to it.
fn done(then: &str, block: &str, table: Table) -> Snapshot {
    let mut snapshot = snapshot(block, Outcome::Rows(table.into()));
    snapshot.definitions[1].text = snapshot.definitions[1]
        .text
        .replace("[[section]]\n", &format!("{then}\n[[section]]\n"));
    snapshot
}

fn body(document: &Document) -> &Body {
    &document.sections[0].blocks[0].body
}

fn states() -> Table {
    let at = |hour: i64| {
        let from: chrono::DateTime<Utc> = "2026-10-24T23:00:00Z".parse().unwrap();
        Value::Instant(from + TimeDelta::hours(hour))
    };
    let text = |text: &str| Value::Text(text.to_owned());
    rows(
        &[
            ("service", ColumnKind::Text),
            ("at", ColumnKind::Instant),
            ("state", ColumnKind::Text),
        ],
        vec![
            vec![text("Booking"), at(0), text("up")],
            vec![text("Payments"), at(0), text("up")],
            vec![text("Payments"), at(10), text("down")],
            vec![text("Payments"), at(11), text("up")],
        ],
    )
}

const AVAILABILITY: &str = r#"
[[query.then]]
do = "availability"
by = ["service"]
time = "at"
state = "state"
objective = 99.5
total = "All"
needs = "mean"
"#;

#[test]
fn a_missed_promise_is_named_on_the_front_and_drawn_with_its_objective() {
    // The window of the tests is the day with 25 hours.
    let block = "show = \"availability\"\nlabel = \"service\"";
    let document = compose(&done(AVAILABILITY, block, states())).unwrap();
    assert_eq!(document.summary.status, Status::Critical);
    assert_eq!(
        document.summary.lines[0],
        "Payments: 96.00 %, objective 99.50 %"
    );
    let Body::Chart { chart } = body(&document) else {
        panic!("{:?}", body(&document))
    };
    let Plot::Availability { rows, .. } = &chart.plot else {
        panic!("{chart:?}")
    };
    let said: Vec<(&str, bool, Option<bool>)> = rows
        .iter()
        .map(|row| (row.name.as_str(), row.is_whole, row.met))
        .collect();
    assert_eq!(
        said,
        [
            ("All", true, Some(false)),
            ("Payments", false, Some(false)),
            ("Booking", false, Some(true))
        ]
    );
    assert!(chart.axis.min > 90.0 && chart.axis.max == 100.0);
    assert!(
        chart
            .description
            .contains("Booking: 100.00 of 99.50 %, met")
    );
    let note = document.sections[0].blocks[0].note.as_deref();
    assert!(note.unwrap().starts_with("A warning counts as up;"));
}

#[test]
fn a_history_marks_where_the_objective_was_missed() {
    let then = AVAILABILITY.replace(
        "total = \"All\"\n",
        "give = \"history\"\nevery = \"day\"\nperiods = 1\n",
    );
    let block =
        "show = \"heat-map\"\nrow = \"service\"\ncolumn = \"from\"\nvalue = \"availability\"";
    let document = compose(&done(&then, block, states())).unwrap();
    let Body::Chart { chart } = body(&document) else {
        panic!("{:?}", body(&document))
    };
    let Plot::Heat { cells, rows, .. } = &chart.plot else {
        panic!("{chart:?}")
    };
    let labels: Vec<(&str, &str)> = rows
        .iter()
        .zip(cells)
        .map(|(row, cells)| (row.as_str(), cells[0].as_ref().unwrap().label.as_str()))
        .collect();
    assert_eq!(labels, [("Payments", "◆96.00"), ("Booking", "100.00")]);
    assert!(chart.description.ends_with("◆: objective missed."));
    let note = document.sections[0].blocks[0].note.as_deref().unwrap();
    assert!(
        note.contains("◆ marks where the objective was missed."),
        "{note}"
    );
}

fn growing() -> Table {
    let from: chrono::DateTime<Utc> = "2026-09-26T00:00:00Z".parse().unwrap();
    let row = |day: i64| {
        vec![
            Value::Instant(from + TimeDelta::days(day)),
            Value::Number(50.0 + day as f64),
        ]
    };
    let columns = [("day", ColumnKind::Instant), ("used", ColumnKind::Number)];
    rows(&columns, (0..=28).map(row).collect())
}

const FORECAST: &str = r#"
[[query.then]]
do = "forecast"
method = "line"
time = "day"
value = "used"
ahead = "P20D"
"#;

#[test]
fn a_forecast_marks_when_limits_are_reached_and_leaves_out_what_it_is_told_to() {
    // At 78 on 24 October, and by one a day: 80 on the 26th, 90 on 5 November.
    let block = "show = \"forecast\"\ntime = \"day\"";
    let document = compose(&done(FORECAST, block, growing())).unwrap();
    assert_eq!(
        document.summary.lines,
        ["B: 80\u{a0}% likely on 26 Oct 2026; 90\u{a0}% likely on 5 Nov 2026"]
    );
    let values = run_values::message_values(
        &done(FORECAST, block, growing()),
        &document,
        Some("Readers"),
    );
    assert_eq!(values.worst, "B: 80\u{a0}% likely on 26 Oct 2026");
    let plot = |document: &Document| {
        let Body::Chart { chart } = body(document) else {
            panic!("{:?}", body(document))
        };
        match &chart.plot {
            Plot::Forecast(plot) => plot.clone(),
            other => panic!("{other:?}"),
        }
    };
    let whole = plot(&document);
    assert_eq!((whole.forecast.len(), whole.crossings.len()), (20, 2));
    assert_eq!((whole.fitted.len(), whole.wide.len()), (29, 20));
    let bare = block.to_owned() + "\nwithout = [\"fitted\", \"interval\", \"crossing\"]";
    let bare = plot(&compose(&done(FORECAST, &bare, growing())).unwrap());
    assert!(bare.fitted.is_empty() && bare.wide.is_empty() && bare.crossings.is_empty());
}

#[test]
fn what_lies_far_ahead_is_said_by_the_day_and_what_is_near_by_the_minute() {
    let likely = |growing: Table| {
        let then = format!("{FORECAST}give = \"limits\"\n");
        let document = compose(&done(
            &then,
            "show = \"table\"\ncolumns = [\"limit\", \"likely\"]",
            growing,
        ));
        let document = document.unwrap();
        let Body::Table { table } = body(&document) else {
            panic!("{:?}", body(&document))
        };
        let rows = table.rows.iter();
        rows.map(|row| row[1].text.clone()).collect::<Vec<_>>()
    };
    // At 80 on the 26th, and at 90 on 5 November.
    assert_eq!(likely(growing()), ["26 Oct 2026", "5 Nov 2026"]);
    // By two a day, both are reached within the week.
    let mut faster = growing();
    for row in &mut faster.rows {
        row[1] = Value::Number(row[1].as_number().unwrap() * 2.0 - 80.0);
    }
    let near = likely(faster);
    assert!(near.iter().all(|text| text.contains(':')), "{near:?}");
}

fn hosts(names: &[&str]) -> Table {
    let row = |name: &&str| vec![Value::Text((*name).to_owned()), Value::Number(1.0)];
    rows(
        &[("host", ColumnKind::Text), ("used", ColumnKind::Number)],
        names.iter().map(row).collect(),
    )
}

const CHANGES: &str = r#"
[[query.then]]
do = "changes"
key = ["host"]
"#;

#[test]
fn changes_come_from_the_run_before_and_a_first_run_has_none() {
    let block = "show = \"table\"";
    let first = done(CHANGES, block, hosts(&["a", "b"]));
    let document = compose(&first).unwrap();
    let Body::Empty { sentence, .. } = body(&document) else {
        panic!("{:?}", body(&document))
    };
    assert_eq!(sentence, "There is nothing to compare with yet.");

    let mut second = first;
    let before = EarlierRows::Rows {
        window: second.window.clone(),
        table: hosts(&["b", "c"]).into(),
    };
    second.queries[0].earlier.insert(Time::Run, before);
    // What a snapshot has it also has when it is opened again.
    let second = Snapshot::open(&second.seal().bytes).unwrap();
    let document = compose(&second).unwrap();
    let Body::Table { table } = body(&document) else {
        panic!("{:?}", body(&document))
    };
    let cells: Vec<Vec<&str>> = table
        .rows
        .iter()
        .map(|row| row.iter().map(|cell| cell.text.as_str()).collect())
        .collect();
    assert_eq!(cells[0][..2], ["new", "a"]);
    assert_eq!(cells[1][..2], ["gone", "c"]);
    assert_eq!(
        document.sections[0].blocks[0].note.as_deref(),
        Some("Compared with the run before, of Sunday 25 October 2026, 25 h.")
    );
}

#[test]
fn numbers_stand_beside_what_they_were_in_tables_and_key_figures() {
    let used = |value: f64| {
        rows(
            &[("host", ColumnKind::Text), ("used", ColumnKind::Number)],
            vec![vec![Value::Text("a".to_owned()), Value::Number(value)]],
        )
    };
    let run = "01a21fb9-8341-7649-b7f3-5749fb00368c";
    for (since, time) in [
        ("since = \"window\"".to_owned(), Time::Window),
        ("since = \"run\"".to_owned(), Time::Run),
        (format!("run = \"{run}\""), Time::Named),
    ] {
        let then = format!("[[query.then]]\ndo = \"compare\"\nkey = [\"host\"]\n{since}");
        let mut table = done(&then, "show = \"table\"", used(85.0));
        let before = EarlierRows::Rows {
            window: table.window.clone(),
            table: used(70.0).into(),
        };
        table.queries[0].earlier.insert(time, before.clone());
        let document = compose(&table).unwrap();
        let Body::Table { table } = body(&document) else {
            panic!("{:?}", body(&document))
        };
        let units: Vec<&str> = table.headings.iter().map(|one| one.unit.as_str()).collect();
        assert_eq!(units, ["", "%", "%", "points", "%", ""]);
        let texts: Vec<&str> = table.rows[0].iter().map(|one| one.text.as_str()).collect();
        assert_eq!(texts, ["a", "85", "70", "15", "21.4", "worse"]);
        // A key figure needs no step for it.
        if time == Time::Named {
            continue;
        }
        let figures = format!("show = \"figures\"\ncolumns = [\"used\"]\n{since}");
        let mut figures = done("", &figures, used(85.0));
        let first = compose(&figures).unwrap();
        figures.queries[0].earlier.insert(time, before);
        let second = compose(&figures).unwrap();
        let change = |document: &Document| match body(document) {
            Body::Figures { figures } => figures[0].change.clone(),
            other => panic!("{other:?}"),
        };
        assert_eq!(change(&first), None);
        let words = "+15\u{a0}points against 70\u{a0}%, worse";
        assert_eq!(change(&second).as_deref(), Some(words));
    }
}
