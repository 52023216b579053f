mod charts;
mod over_time;
mod page;
mod words;

use std::collections::BTreeMap;

use maple_lark_data::{
    Column, ColumnKind, Table, Unit, Value, number_format::NumberFormat, status::Status,
};
use maple_lark_definition::RecipientFormat;
use maple_lark_fixtures::{self as fixtures, Fixture};
use maple_lark_time::Window;

use crate::{
    chart::Plot,
    compose::{compose, compose_for, run_values},
    document::{Align, Body, Document, ShownAs, ShownTable},
    snapshot::{FrozenDefinition, Outcome, QueryRecord, Snapshot},
};

fn daily() -> Fixture {
    fixtures::report("daily", "ferries")
        .key("title", "Daily ferries")
        .key("time-zone", "Atlantic/Faroe")
}

fn dated(dates: &str) -> String {
    daily()
        .key("numbers", "1.234,5")
        .key("dates", dates)
        .to_string()
}

fn dashboard(block: &str) -> String {
    format!(
        r#"
[dashboard]
name = "ferries"
title = "Ferries"
[[query]]
name = "q"
source = "ops"
sql = "select 1"
[[query.column]]
name = "used"
title = "Disk used"
unit = "percent"
warning = 80
critical = 90
[[section]]
title = "S"
[[section.block]]
title = "B"
query = "q"
{block}
"#
    )
}

fn snapshot(block: &str, outcome: Outcome) -> Snapshot {
    let at = |text: &str| text.parse().unwrap();
    Snapshot {
        blobs: BTreeMap::new(),
        layout: Snapshot::LAYOUT,
        run_id: "run-1".into(),
        report: "daily".into(),
        scheduled_for: at("2026-10-26T07:30:00Z"),
        made_at: at("2026-10-26T07:30:02Z"),
        window: Window {
            from: at("2026-10-24T23:00:00Z"),
            to: at("2026-10-26T00:00:00Z"),
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
                text: dashboard(block),
            },
        ],
        queries: vec![QueryRecord {
            capture: None,
            earlier: BTreeMap::new(),
            dashboard: "ferries".into(),
            name: "q".into(),
            source: "ops".into(),
            source_title: "Operations".into(),
            text: "select 1".into(),
            started: at("2026-10-26T07:30:00Z"),
            ended: at("2026-10-26T07:30:01.5Z"),
            note: None,
            outcome,
        }],
    }
}

fn rows(rows: &[(&str, Option<f64>)]) -> Outcome {
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
            ],
            rows: rows
                .iter()
                .map(|(host, used)| {
                    vec![
                        Value::Text((*host).into()),
                        used.map_or(Value::Missing, Value::Number),
                    ]
                })
                .collect(),
            truncated: false,
        }
        .into(),
    )
}

fn table(document: &Document) -> &ShownTable {
    let Body::Table { table } = &document.sections[0].blocks[0].body else {
        panic!("{document:?}")
    };
    table
}

/// The decimals that an author wants are those of tables, figures and charts alike.
#[test]
fn decimals_are_those_that_the_author_wants() {
    let column = |name: &str, kind| Column {
        name: name.into(),
        kind,
    };
    let rows = Table {
        columns: vec![
            column("host", ColumnKind::Text),
            column("used", ColumnKind::Number),
        ],
        rows: vec![
            vec![Value::Text("db-1".into()), Value::Number(61.23456)],
            vec![Value::Text("db-2".into()), Value::Number(7.0)],
        ],
        truncated: false,
    };
    let with = |shape: &str, decimals: &str| {
        let mut snapshot = snapshot(shape, Outcome::Rows(rows.clone().into()));
        let text = &mut snapshot.definitions[1].text;
        *text = text.replace(
            "unit = \"percent\"",
            &format!("unit = \"percent\"\n{decimals}"),
        );
        compose(&snapshot).unwrap()
    };
    let cells = |decimals: &str| -> Vec<String> {
        let document = with("show = \"table\"", decimals);
        let rows = table(&document).rows.iter();
        rows.map(|row| row[1].text.clone()).collect()
    };
    assert_eq!(cells(""), ["61.2", "7.0"]);
    assert_eq!(cells("decimals = 3"), ["61.235", "7.000"]);
    assert_eq!(cells("decimals = 0"), ["61", "7"]);
    let labels = |decimals: &str| {
        let document = with(
            "show = \"bar\"\nlabel = \"host\"\nvalue = \"used\"",
            decimals,
        );
        let Body::Chart { chart } = &document.sections[0].blocks[0].body else {
            panic!()
        };
        let Plot::Bars { series, .. } = &chart.plot else {
            panic!()
        };
        series[0].labels.join(", ").replace('\u{a0}', " ")
    };
    assert_eq!(labels(""), "61.2 %, 7.0 %");
    assert_eq!(labels("decimals = 2"), "61.23 %, 7.00 %");
    let figures = with("show = \"figures\"\ncolumns = [\"used\"]", "decimals = 1");
    assert_eq!(
        figures
            .figures()
            .next()
            .unwrap()
            .value
            .replace('\u{a0}', " "),
        "61.2 %"
    );
}

#[test]
fn the_front_says_what_this_is_and_of_when() {
    let document = compose(&snapshot("show = \"table\"", rows(&[("a", Some(1.0))]))).unwrap();
    assert_eq!(document.title, "Daily ferries");
    assert_eq!(document.front.window_label, "Sunday 25 October 2026, 25 h");
    assert_eq!(
        document.front.window_exact,
        "25 Oct 2026, 00:00 (UTC+1) to 24:00 (UTC+0), Atlantic/Faroe"
    );
    assert_eq!(document.front.made_at, "Monday 26 October 2026, 07:30");
    // What it was scheduled for is said where it is another minute.
    assert_eq!(document.front.scheduled_for, None);
    let mut late = snapshot("show = \"table\"", rows(&[("a", Some(1.0))]));
    late.made_at = "2026-10-26T09:05:00Z".parse().unwrap();
    let scheduled_for = compose(&late).unwrap().front.scheduled_for;
    assert_eq!(scheduled_for.unwrap(), "Monday 26 October 2026, 07:30");
    assert_eq!(document.file_stem, "daily_2026-10-25");
    assert_eq!(
        document.provenance[0].took.replace('\u{a0}', " "),
        "1500 ms".replace("1500", "1,500")
    );
}

#[test]
fn a_table_marks_what_is_past_its_limits_and_the_summary_names_it() {
    let document = compose(&snapshot(
        "show = \"table\"",
        rows(&[
            ("a", Some(91.25)),
            ("b", Some(80.0)),
            ("c", Some(5.0)),
            ("d", None),
        ]),
    ))
    .unwrap();
    let shown = table(&document);
    assert_eq!(shown.headings[1].title, "Disk used");
    assert_eq!(
        (shown.headings[1].align, shown.headings[1].unit.as_str()),
        (Align::Right, "%")
    );
    let cells: Vec<_> = shown
        .rows
        .iter()
        .map(|row| (row[1].text.as_str(), row[1].mark))
        .collect();
    // One column, one count of decimals; what is missing is not zero and not judged.
    assert_eq!(
        cells,
        [
            ("91.2", Some(Status::Critical)),
            ("80.0", Some(Status::Warning)),
            ("5.0", None),
            ("–", None)
        ]
    );
    assert_eq!(document.summary.status, Status::Critical);
    assert_eq!(
        document.summary.lines,
        [
            "a: Disk used 91.2\u{a0}%, critical from 90\u{a0}%",
            "b: Disk used 80.0\u{a0}%, warning from 80\u{a0}%"
        ]
    );
    assert_eq!(document.data[0].headings, ["host", "used [%]"]);
    assert_eq!(document.data[0].file_name, "daily_2026-10-25_b.csv");
}

#[test]
fn what_is_past_a_limit_is_told_with_the_decimals_of_its_column() {
    let values = rows(&[("a", Some(91.257)), ("b", Some(92.0))]);
    for show in ["table", "ranking\"\nlabel = \"host\"\nvalue = \"used"] {
        let mut snapshot = snapshot(&format!("show = \"{show}\""), values.clone());
        let dashboard = &mut snapshot.definitions[1].text;
        *dashboard = dashboard.replace("critical = 90", "critical = 90\ndecimals = 2");
        let lines = compose(&snapshot).unwrap().summary.lines;
        let told = ["b: Disk used 92.00\u{a0}%", "a: Disk used 91.26\u{a0}%"];
        let told = told.map(|one| format!("{one}, critical from 90.00\u{a0}%"));
        let lines: Vec<String> = lines.into_iter().map(|line| line.text).collect();
        assert_eq!(lines, told, "{show}");
    }
}

#[test]
fn a_long_table_is_cut_and_says_where_the_rest_is() {
    let names: Vec<String> = (0..1234).map(|i| format!("h{i}")).collect();
    let many: Vec<_> = names
        .iter()
        .map(|name| (name.as_str(), Some(1.0)))
        .collect();
    let document = compose(&snapshot("show = \"table\"\nlimit = 10", rows(&many))).unwrap();
    assert_eq!(table(&document).rows.len(), 10);
    assert_eq!(
        table(&document).cut.as_deref(),
        Some("The first 10 of 1,234 rows.")
    );
    assert_eq!(document.data[0].table.len(), 1234);
    // A file is named only where it is.
    let (table, file) = (table(&document), document.data[0].file_name.clone());
    let cut = table.cut.as_deref().unwrap();
    assert_eq!(table.with_file(cut, &["daily.pdf".to_owned()]), cut);
    assert_eq!(
        table.with_file(cut, &[file]),
        "The first 10 of 1,234 rows. All rows that were read are in daily_2026-10-25_b.csv."
    );
}

#[test]
fn the_rows_behind_charts_are_kept_and_are_files_where_there_is_no_table() {
    let hosts = rows(&[("a", Some(91.25)), ("b", None)]);
    let bar = "show = \"bar\"\nlabel = \"host\"\nvalue = \"used\"";
    let alone = compose(&snapshot(bar, hosts.clone())).unwrap();
    assert_eq!(alone.data.len(), 1);
    let data = &alone.data[0];
    assert_eq!((data.shown_as, data.table.len()), (ShownAs::Chart, 2));
    assert_eq!(data.headings, ["host", "used [%]"]);
    assert_eq!(
        (data.titles[1].as_str(), &data.units[1]),
        ("Disk used", &Unit::Percent)
    );
    let files = |document: &Document| {
        let names = document.files().map(|data| data.file_name.clone());
        names.collect::<Vec<_>>()
    };
    assert_eq!(files(&alone), ["daily_2026-10-25_b.csv"]);

    let no_file = format!("{bar}\ncsv = false");
    assert!(files(&compose(&snapshot(&no_file, hosts.clone())).unwrap()).is_empty());

    let table = "\n[[section.block]]\nshow = \"table\"\ntitle = \"B\"\nquery = \"q\"";
    let both = compose(&snapshot(&format!("{bar}{table}"), hosts.clone())).unwrap();
    assert_eq!(both.data.len(), 2);
    assert_eq!(
        files(&both),
        ["daily_2026-10-25_b.csv"],
        "the table's keeps its name"
    );
    assert!(both.data[1].is_file);
    let wanted = format!("{bar}\ncsv = true{table}");
    assert_eq!(
        files(&compose(&snapshot(&wanted, hosts)).unwrap()),
        ["daily_2026-10-25_b.csv", "daily_2026-10-25_b-2.csv"]
    );
    // Without rows a file has its headings only; a column that is not there is the chart's
    // complaint.
    assert_eq!(files(&compose(&snapshot(bar, rows(&[]))).unwrap()).len(), 1);
    let wrong = bar.replace("used", "usd");
    assert!(
        compose(&snapshot(&wrong, rows(&[("a", None)])))
            .unwrap()
            .data
            .is_empty()
    );
}

#[test]
fn key_figures_carry_their_status_and_limits() {
    let document = compose(&snapshot(
        "show = \"figures\"\ncolumns = [\"used\"]",
        rows(&[("a", Some(85.0))]),
    ))
    .unwrap();
    let Body::Figures { figures } = &document.sections[0].blocks[0].body else {
        panic!()
    };
    assert_eq!(
        (
            figures[0].title.as_str(),
            figures[0].value.replace('\u{a0}', " ")
        ),
        ("Disk used", "85 %".to_owned())
    );
    assert_eq!(figures[0].status, Some(Status::Warning));
    assert_eq!(
        figures[0]
            .limits
            .as_deref()
            .map(|text| text.replace('\u{a0}', " "))
            .as_deref(),
        Some("warning from 80 %, critical from 90 %")
    );
}

#[test]
fn no_number_reads_as_if_it_were_on_another_side_of_a_limit() {
    let read = |block: &str, values: &[(&str, Option<f64>)]| {
        let document = compose(&snapshot(block, rows(values))).unwrap();
        let first = document.summary.lines.first();
        let first = first.map(|line| line.text.replace('\u{a0}', " "));
        match &document.sections[0].blocks[0].body {
            Body::Figures { figures } => (vec![figures[0].value.replace('\u{a0}', " ")], first),
            Body::Table { table } => {
                let used = table.rows.iter().map(|row| row[1].text.clone());
                (used.collect::<Vec<_>>(), first)
            }
            other => panic!("{other:?}"),
        }
    };
    let figure = "show = \"figures\"\ncolumns = [\"used\"]";
    let (value, front) = read(figure, &[("a", Some(89.96))]);
    assert_eq!(value, ["89.96 %"]);
    assert_eq!(
        front.as_deref(),
        Some("Disk used: 89.96 %, warning from 80 %")
    );
    let (values, front) = read("show = \"table\"", &[("a", Some(89.96)), ("b", Some(12.5))]);
    assert_eq!(values, ["89.96", "12.50"]);
    assert_eq!(
        front.as_deref(),
        Some("a: Disk used 89.96 %, warning from 80 %")
    );
    let bars = "show = \"bar\"\nlabel = \"host\"\nvalue = \"used\"";
    let bars = compose(&snapshot(
        bars,
        rows(&[("a", Some(89.96)), ("b", Some(12.5))]),
    ))
    .unwrap();
    let bars = serde_json::to_string(&bars.sections[0].blocks[0].body).unwrap();
    assert!(
        bars.contains("89.96\u{a0}%") && bars.contains("12.50\u{a0}%"),
        "{bars}"
    );
    // What is past its limit may read as the limit.
    let (values, _) = read("show = \"table\"", &[("a", Some(90.04)), ("b", Some(12.5))]);
    assert_eq!(values, ["90.0", "12.5"]);
}

#[test]
fn what_cannot_be_shown_says_why_in_its_place() {
    let failed = |block: &str, outcome| compose(&snapshot(block, outcome)).unwrap().failed;
    assert_eq!(
        failed(
            "show = \"table\"",
            Outcome::Failed("relation \"x\" does not exist".into())
        ),
        [("B".to_owned(), "relation \"x\" does not exist".to_owned())]
    );
    let lost = failed(
        "show = \"bar\"\nlabel = \"hst\"\nvalue = \"used\"",
        rows(&[("a", Some(1.0))]),
    );
    assert_eq!(
        lost[0].1,
        "the query \"q\" has no column \"hst\". Did you mean \"host\"? It has: host, used"
    );
    let text = failed(
        "show = \"bar\"\nlabel = \"host\"\nvalue = \"host\"",
        rows(&[("a", Some(1.0))]),
    );
    assert_eq!(
        text[0].1,
        "the column \"host\" of the query \"q\" holds texts, not numbers"
    );
    let empty = compose(&snapshot("show = \"figures\"", rows(&[]))).unwrap();
    assert_eq!(
        empty.sections[0].blocks[0].body,
        Body::Empty {
            sentence: "Operations has no data in this window.".into(),
            rows: false
        }
    );
    assert_eq!(empty.failed, []);
}

#[test]
fn the_same_snapshot_gives_the_same_document_after_storage() {
    let snapshot = snapshot("show = \"table\"", rows(&[("a", Some(0.1)), ("b", None)]));
    let bytes = snapshot.seal().bytes;
    let stored = Snapshot::open(&bytes).unwrap();
    assert_eq!(stored, snapshot);
    assert_eq!(stored.seal().bytes, bytes);
    assert_eq!(Snapshot::digest_of(&bytes).unwrap(), snapshot.seal().sha256);
    assert_eq!(
        Snapshot::digest_of(&serde_json::to_vec(&snapshot).unwrap()).unwrap(),
        snapshot.seal().sha256
    );
    assert_eq!(compose(&stored).unwrap(), compose(&snapshot).unwrap());
}

mod quiet {
    use super::*;
    use maple_lark_data::{Column, ColumnKind, Table, Value, status::Status};
    use maple_lark_definition::{Placed, SendWhen};

    use crate::send_condition::reason;

    fn said(outcome: Outcome, send_when: SendWhen, incomplete: Option<&str>) -> Option<String> {
        let mut snapshot = snapshot("show = \"figures\"", outcome);
        snapshot.incomplete = incomplete.map(str::to_owned);
        let mut report = snapshot.definitions().unwrap().report;
        report.send_when = send_when;
        reason(&report, &snapshot, &compose(&snapshot).unwrap(), None)
    }

    fn rows() -> SendWhen {
        SendWhen::Rows(vec![Placed {
            value: "q".into(),
            place: Default::default(),
        }])
    }

    fn table(rows: usize) -> Outcome {
        let column = Column {
            name: "n".into(),
            kind: ColumnKind::Integer,
        };
        Outcome::Rows(
            Table {
                columns: vec![column],
                rows: vec![vec![Value::Integer(1)]; rows],
                truncated: false,
            }
            .into(),
        )
    }

    #[test]
    fn a_run_is_quiet_only_when_all_is_known_to_be_well() {
        assert_eq!(said(table(0), SendWhen::Always, None), None);
        assert_eq!(
            said(table(0), rows(), None).as_deref(),
            Some("no rows in \"q\"")
        );
        assert_eq!(said(table(1), rows(), None), None);
        assert_eq!(said(Outcome::Failed("gone".into()), rows(), None), None);
        assert_eq!(said(table(0), rows(), Some("the backup is late")), None);
        assert_eq!(
            said(table(1), SendWhen::Status(Status::Warning), None).as_deref(),
            Some("nothing is warning or critical")
        );
        assert_eq!(
            said(table(1), SendWhen::Status(Status::Critical), None).as_deref(),
            Some("nothing is critical")
        );
    }

    fn level(used: f64) -> Outcome {
        let column = Column {
            name: "used".into(),
            kind: ColumnKind::Number,
        };
        Outcome::Rows(
            Table {
                columns: vec![column],
                rows: vec![vec![Value::Number(used)]],
                truncated: false,
            }
            .into(),
        )
    }

    fn figures(conditions: &[&str], all: bool) -> SendWhen {
        let placed = |text: &&str| Placed {
            value: text.parse().unwrap(),
            place: Default::default(),
        };
        SendWhen::Figures {
            conditions: conditions.iter().map(placed).collect(),
            all,
        }
    }

    #[test]
    fn figures_decide_by_any_or_by_all_and_what_is_not_known_is_worth_a_look() {
        let any = figures(&["used > 50", "used < 10"], false);
        assert_eq!(
            said(level(30.0), any.clone(), None).as_deref(),
            Some("none of \"used > 50\" and \"used < 10\" is true")
        );
        assert_eq!(said(level(5.0), any.clone(), None), None);
        let all = figures(&["used > 20", "used < 40"], true);
        assert_eq!(said(level(30.0), all.clone(), None), None);
        assert_eq!(
            said(level(50.0), all, None).as_deref(),
            Some("not all of \"used > 20\" and \"used < 40\" is true")
        );
        // Nothing to compare with, a value that is missing, a figure that is not there.
        assert_eq!(
            said(level(30.0), figures(&["used changed by 5"], false), None),
            None
        );
        assert_eq!(said(level(f64::NAN), any, None), None);
        assert_eq!(said(level(30.0), figures(&["free > 5"], false), None), None);
    }

    #[test]
    fn a_change_is_told_once_and_a_first_run_is_one_unless_all_is_well() {
        let decided = |used: f64, last: Option<Status>| {
            let snapshot = snapshot("show = \"figures\"", level(used));
            let mut report = snapshot.definitions().unwrap().report;
            report.send_when = SendWhen::Change;
            reason(&report, &snapshot, &compose(&snapshot).unwrap(), last)
        };
        assert_eq!(
            decided(10.0, None).as_deref(),
            Some("the status is ok as in the run before")
        );
        assert_eq!(decided(95.0, None), None);
        assert_eq!(decided(95.0, Some(Status::Warning)), None);
        assert_eq!(
            decided(95.0, Some(Status::Critical)).as_deref(),
            Some("the status is critical as in the run before")
        );
        assert_eq!(decided(10.0, Some(Status::Critical)), None);
    }

    #[test]
    fn messages_have_the_figures_the_status_and_what_is_not_known() {
        use maple_lark_definition::{Template, figures_named, render};

        use crate::compose::run_values::message_values;
        let snapshot = snapshot("show = \"figures\"", level(95.0));
        let document = compose(&snapshot).unwrap();
        let values = message_values(&snapshot, &document, Some("Port of Havnes"));
        let template = Template::new(
            "{{ audience }}: {{ figures.used }}, {{ figures.free }}, {{ status }}: {{ summary }}"
                .into(),
        );
        assert_eq!(
            render(&template, &values).unwrap().replace('\u{a0}', " "),
            "Port of Havnes: 95 %, not known, critical: Needs action"
        );
        assert_eq!(figures_named(&template), ["free", "used"]);
        assert_eq!(
            document
                .figures()
                .map(|figure| (figure.name.as_str(), figure.amount))
                .collect::<Vec<_>>(),
            [("used", Some(95.0))]
        );
    }

    #[test]
    fn data_that_was_not_ready_is_said_first() {
        let mut snapshot = snapshot("show = \"figures\"", table(1));
        snapshot.incomplete = Some("the backup is late".into());
        let document = compose(&snapshot).unwrap();
        assert_eq!(
            document.summary.lines[0],
            "The data may be incomplete: the backup is late"
        );
        assert_ne!(document.summary.status, Status::Ok);
    }
}

#[test]
fn a_report_chooses_how_its_readers_write_numbers_and_dates() {
    let rows = Table {
        columns: vec![
            Column {
                name: "used".into(),
                kind: ColumnKind::Number,
            },
            Column {
                name: "since".into(),
                kind: ColumnKind::Date,
            },
        ],
        rows: vec![
            vec![
                Value::Number(81.25),
                Value::Date("2026-10-03".parse().unwrap()),
            ],
            vec![
                Value::Number(1234.5),
                Value::Date("2026-10-04".parse().unwrap()),
            ],
        ],
        truncated: false,
    };
    let mut snapshot = snapshot("show = \"table\"", Outcome::Rows(rows.into()));
    snapshot.definitions[0].text = dated("2026-10-25");
    assert!(
        snapshot.definitions().is_err(),
        "a form that is not known is refused"
    );
    snapshot.definitions[0].text = dated("2026-11-22");
    let document = compose(&snapshot).unwrap();
    let texts: Vec<&str> = table(&document)
        .rows
        .iter()
        .flatten()
        .map(|cell| cell.text.as_str())
        .collect();
    assert_eq!(texts, ["81", "2026-10-03", "1.234", "2026-10-04"]);
    assert_eq!(
        document.data[0].table.rows().nth(1).unwrap()[0],
        Value::Number(1234.5)
    );
}

#[test]
fn one_person_reads_the_same_data_in_their_own_way() {
    let rows = Table {
        columns: vec![Column {
            name: "used".into(),
            kind: ColumnKind::Number,
        }],
        rows: vec![vec![Value::Number(1234.5)]],
        truncated: false,
    };
    let snapshot = snapshot("show = \"table\"", Outcome::Rows(rows.into()));
    let usual = compose(&snapshot).unwrap();
    assert_eq!(
        compose_for(&snapshot, &RecipientFormat::default()).unwrap(),
        usual
    );
    let format = RecipientFormat {
        number_format: Some(NumberFormat::like("1.234,5", "2026-11-22")),
        zone: Some("America/Halifax".parse().unwrap()),
    };
    let own = compose_for(&snapshot, &format).unwrap();
    assert_eq!(
        (
            table(&usual).rows[0][0].text.as_str(),
            table(&own).rows[0][0].text.as_str()
        ),
        ("1,234", "1.234")
    );
    // Every date is in their form: on the front, in how it was made, and in what is merged.
    assert_eq!(
        own.front.window_exact,
        "2026-10-25, 00:00 (UTC+1) to 24:00 (UTC+0), Atlantic/Faroe; in your time 2026-10-24, 20:00 to 2026-10-25, 21:00 (UTC−3, America/Halifax)"
    );
    assert_eq!(own.front.window_label, "Sunday 2026-10-25, 25 h");
    assert_eq!(own.front.made_at, "Monday 2026-10-26, 07:30");
    assert!(own.provenance[0].asked_at.starts_with("2026-10-26 07:30:"));
    let merged = run_values::message_values(&snapshot, &own, None);
    assert_eq!(merged.window.label, "Sunday 2026-10-25, 25 h");
    assert_eq!(merged.run.scheduled_for, "Monday 2026-10-26, 07:30");
    assert_eq!(
        own.data, usual.data,
        "what programs read is the same for everybody"
    );
    assert_eq!(format.key(), "1.234,5 2026-11-22; America/Halifax");
    // Their zone is the report's own: nothing to add.
    let same = RecipientFormat {
        number_format: None,
        zone: Some("Atlantic/Faroe".parse().unwrap()),
    };
    assert_eq!(compose_for(&snapshot, &same).unwrap().front, usual.front);
}
