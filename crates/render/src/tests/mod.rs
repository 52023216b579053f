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
mod formats;
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
fn csv_follows_rfc_4180_and_is_safe_in_a_spreadsheet() {
    let mut document = document(disks(&[("=cmd()", 95.512345), ("a,\"b\"\nc", -1.0)]));
    let files = render(&document, Format::Csv).unwrap();
    assert_eq!(
        (files[0].file_name.as_str(), files[0].media_type),
        (
            "daily_2026-10-25_disks-in-a-table.csv",
            "text/csv; charset=utf-8; header=present"
        )
    );
    let text = String::from_utf8(files[0].bytes.clone()).unwrap();
    assert_eq!(
        text,
        "host,used [%],seen\r\n'=cmd(),95.512345,2026-10-25T01:30:00+01:00\r\n\"a,\"\"b\"\"\nc\",-1,2026-10-25T01:30:00+01:00\r\n"
    );
    document.packing.csv = CsvForm {
        byte_order_mark: true,
        formulas_as_they_are: true,
    };
    let other = String::from_utf8(render(&document, Format::Csv).unwrap().remove(0).bytes).unwrap();
    assert_eq!(
        other,
        format!("\u{feff}{}", text.replace("'=cmd()", "=cmd()"))
    );
}

#[test]
fn a_missing_value_alone_in_its_row_leaves_no_blank_line() {
    let mut document = document(disks(&[]));
    let column = Column {
        name: "n".into(),
        kind: ColumnKind::Number,
    };
    let table = document.data.iter_mut().find(|data| data.is_file).unwrap();
    table.headings = vec!["n".into()];
    table.table = Table {
        columns: vec![column],
        rows: vec![vec![Value::Missing], vec![Value::Number(1.0)]],
        truncated: false,
    }
    .into();
    assert_eq!(
        render(&document, Format::Csv).unwrap()[0].bytes,
        b"n\r\n\"\"\r\n1\r\n"
    );
}

/// The rows behind the document's only table.
fn table_of(document: &Document) -> &DataTable {
    document.files().next().unwrap()
}

fn unzipped(bytes: &[u8]) -> Vec<(String, Vec<u8>)> {
    let mut zip = zip::ZipArchive::new(std::io::Cursor::new(bytes)).unwrap();
    (0..zip.len())
        .map(|index| {
            let mut entry = zip.by_index(index).unwrap();
            let mut bytes = Vec::new();
            entry.read_to_end(&mut bytes).unwrap();
            (entry.name().unwrap().into_owned(), bytes)
        })
        .collect()
}

#[test]
fn what_is_large_or_many_is_zipped_and_the_same_each_time() {
    let mut document = document(disks(&[("a", 1.0), ("b", 2.0)]));
    let plain = render(&document, Format::Csv).unwrap().remove(0);
    for (zip, packed) in [
        (Zip::Never, false),
        (Zip::Over(plain.bytes.len() as u64), false),
        (Zip::Over(plain.bytes.len() as u64 - 1), true),
        (Zip::Always, true),
    ] {
        document.packing.zip = zip;
        let file = render(&document, Format::Csv).unwrap().remove(0);
        assert_eq!(file == plain, !packed, "{zip:?}");
        if packed {
            assert_eq!(
                (file.file_name.clone(), file.media_type),
                (format!("{}.zip", plain.file_name), "application/zip")
            );
            assert_eq!(
                unzipped(&file.bytes),
                [(plain.file_name.clone(), plain.bytes.clone())]
            );
            assert_eq!(render(&document, Format::Csv).unwrap().remove(0), file);
        }
    }
    document.packing.zip = Zip::default();
    for n in 2..=11 {
        let another = DataTable {
            file_name: format!("table-{n}.csv"),
            ..table_of(&document).clone()
        };
        document.data.push(another);
    }
    let files = render(&document, Format::Csv).unwrap();
    assert_eq!(
        (files.len(), files[0].file_name.as_str()),
        (1, "daily_2026-10-25.csv.zip")
    );
    assert_eq!(unzipped(&files[0].bytes).len(), 11);
}

#[test]
fn the_mail_body_has_figures_a_picture_and_a_readable_text() {
    let body = mail_body(
        &document(disks(&[("a", 95.5)])),
        MailContent::Summary,
        &Context {
            message: Some("Good morning."),
            attachments: &["daily.pdf".into()],
            link: Some(("http://127.0.0.1/runs/1", "This run in the console")),
            ..Context::default()
        },
    )
    .unwrap();
    let [image] = &body.images[..] else {
        panic!("{:?}", body.images.len())
    };
    let html = body.html.unwrap();
    assert!(image.png.starts_with(b"\x89PNG"));
    assert!(html.contains(&format!("cid:{}", image.content_id)));
    // Programs that ignore style sheets lose nothing but what suits a phone.
    let (head, body_of_html) = html.split_once("</head>").unwrap();
    let (_, sheet) = head.split_once("<style>").unwrap();
    assert!(
        sheet
            .trim_start()
            .starts_with("@media (max-width: 30rem) {")
    );
    assert!(!body_of_html.contains("<style") && !html.contains("<svg"));
    let text = body.text.replace('\u{a0}', " ");
    assert!(text.starts_with("Daily <ferries> & more\nSunday 25 October 2026, 25 h\n"));
    for part in [
        "Good morning.",
        "◆ Needs action",
        "  Used   95.5 %   ◆ Critical",
        "Attached: daily.pdf",
        "http://127.0.0.1/runs/1",
    ] {
        assert!(text.contains(part), "{part} is missing in\n{text}");
    }
}

#[test]
fn many_attachments_are_counted_by_their_kind() {
    let names = ["a.pdf", "a.html", "b.csv", "c.csv"].map(String::from);
    let body = mail_body(
        &document(disks(&[("a", 95.5)])),
        MailContent::Summary,
        &Context {
            attachments: &names,
            ..Context::default()
        },
    )
    .unwrap();
    assert!(
        body.text
            .contains("Attached: 1 PDF, 1 HTML and 2 CSV files\n"),
        "{}",
        body.text
    );
    assert!(
        body.html
            .unwrap()
            .contains("Attached: 1 PDF, 1 HTML and 2 CSV files.")
    );
}

#[test]
fn a_mail_can_hold_the_whole_report_or_the_message_alone() {
    let around = Context {
        message: Some("Good <b>morning</b>."),
        note: Some("This is a copy."),
        left_out: Some("The files are too large for a mail."),
        leave: Some("https://lark.example/leave/x"),
        ..Context::default()
    };
    let full = mail_body(
        &document(disks(&[("a", 95.5), ("b", 12.0)])),
        MailContent::Full,
        &around,
    )
    .unwrap();
    let html = full.html.unwrap();
    for wanted in [
        "This is a copy.",
        "Good &lt;b&gt;morning&lt;&#x2f;b&gt;.",
        "<td align=",
        "too large",
        "Get this report no more",
    ] {
        assert!(html.contains(wanted), "{wanted} is missing in\n{html}");
    }
    assert!(
        full.text
            .contains("To get this report no more: https://lark.example/leave/x")
    );
    let failed = mail_body(
        &document(Outcome::Failed("no relation".into())),
        MailContent::Full,
        &around,
    )
    .unwrap();
    assert!(
        failed
            .html
            .unwrap()
            .contains("Could not be made: no relation")
    );
    let alone = mail_body(&document(disks(&[("a", 95.5)])), MailContent::Text, &around).unwrap();
    assert!(alone.html.is_none() && alone.images.is_empty());
    assert!(
        alone.text.contains("Good <b>morning</b>.") && !alone.text.contains("95.5"),
        "{}",
        alone.text
    );
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

/// How a page of a PDF lies: `(width, height)` in points, for each.
fn pages(bytes: &[u8]) -> Vec<(f32, f32)> {
    let document = lopdf::Document::load_mem(bytes).unwrap();
    let size = |id| {
        let sizes = document
            .get_dictionary(id)
            .unwrap()
            .get(b"MediaBox")
            .unwrap()
            .as_array()
            .unwrap()
            .clone();
        (sizes[2].as_float().unwrap(), sizes[3].as_float().unwrap())
    };
    document.get_pages().into_values().map(size).collect()
}

#[test]
fn a_table_that_is_too_wide_gets_a_page_that_lies_and_the_rest_stands() {
    let wide = |columns: usize| {
        let mut document = document(disks(&[("a", 95.5), ("b", 40.0)]));
        let Body::Table { table } = &mut document.sections[0].blocks[3].body else {
            panic!()
        };
        while table.headings.len() < columns {
            table.headings.push(table.headings[0].clone());
            table.rows.iter_mut().for_each(|row| {
                row.push(maple_lark_document::document::Cell {
                    text: "about so wide a text".into(),
                    ..Default::default()
                })
            });
        }
        pages(&pdf(&document).unwrap())
    };
    let lying = |pages: &[(f32, f32)]| {
        pages
            .iter()
            .filter(|(width, height)| width > height)
            .count()
    };
    assert_eq!(lying(&wide(4)), 0);
    let pages = wide(18);
    assert_eq!(lying(&pages), 1, "{pages:?}");
    assert!(
        pages[0].0 < pages[0].1 && pages[pages.len() - 1].0 < pages[pages.len() - 1].1,
        "{pages:?}"
    );
}

/// Where words stand on the pages of a PDF, as Debian's poppler reads them: page, left, top.
fn places(bytes: &[u8], words: &[&str]) -> Vec<(usize, f64, f64)> {
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), bytes).unwrap();
    let output = std::process::Command::new("pdftotext")
        .arg("-bbox")
        .arg(file.path())
        .arg("-")
        .output()
        .unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    let place = |word: &&str| {
        let at = text
            .find(&format!(">{word}</word>"))
            .unwrap_or_else(|| panic!("{word} is not there:\n{text}"));
        let tag = &text[text[..at].rfind("<word").unwrap()..at];
        let number = |name: &str| {
            tag.split(&format!("{name}=\""))
                .nth(1)
                .unwrap()
                .split('"')
                .next()
                .unwrap()
                .parse::<f64>()
                .unwrap()
        };
        (
            text[..at].matches("<page ").count(),
            number("xMin"),
            number("yMin"),
        )
    };
    words.iter().map(place).collect()
}

#[test]
fn blocks_stand_side_by_side_as_their_widths_say() {
    let mut document = document(disks(&[("a", 95.5), ("b", 40.0)]));
    let widths = |document: &mut Document, words: [&str; 4]| {
        for ((block, width), title) in document.sections[0]
            .blocks
            .iter_mut()
            .zip(words)
            .zip(["Firstly", "Secondly", "Thirdly", "Fourthly"])
        {
            (block.width, block.title) = (width.parse().unwrap(), title.to_owned());
        }
    };
    let titles = ["Firstly", "Secondly", "Thirdly", "Fourthly"];
    widths(&mut document, ["third", "third", "third", "full"]);
    let [first, second, third, fourth] = places(&pdf(&document).unwrap(), &titles)[..] else {
        panic!()
    };
    assert!(
        first.2 == second.2 && second.2 == third.2 && fourth.2 > third.2,
        "{first:?} {second:?} {third:?} {fourth:?}"
    );
    // Three columns of one width.
    assert!(
        second.1 > first.1 && ((third.1 - second.1) - (second.1 - first.1)).abs() < 0.5,
        "{first:?} {second:?} {third:?}"
    );
    assert_eq!(
        html(&document)
            .unwrap()
            .matches("style=\"--twelfths: 4\"")
            .count(),
        3
    );

    widths(
        &mut document,
        ["half", "three-quarters", "quarter", "two-thirds"],
    );
    let [first, second, third, fourth] = places(&pdf(&document).unwrap(), &titles)[..] else {
        panic!()
    };
    assert!(
        first.1 == second.1 && second.1 == fourth.1 && third.1 > second.1,
        "{first:?} {second:?} {third:?} {fourth:?}"
    );
    assert!(
        first.2 < second.2 && second.2 == third.2 && third.2 < fourth.2,
        "{first:?} {second:?} {third:?} {fourth:?}"
    );
}

#[test]
fn a_chart_is_drawn_for_the_room_that_it_has() {
    let mut document = document(disks(&[("a", 95.5)]));
    let across = |word: &str, document: &mut Document| {
        document.sections[0].blocks[0].width = word.parse().unwrap();
        let html = html(document).unwrap();
        let svg = html.split("<div class=\"wide\"><svg").nth(1).unwrap();
        svg.split("viewBox=\"0 0 ")
            .nth(1)
            .unwrap()
            .split(' ')
            .next()
            .unwrap()
            .parse::<f64>()
            .unwrap()
    };
    let drawn: Vec<f64> = ["full", "two-thirds", "half", "third"]
        .iter()
        .map(|word| across(word, &mut document))
        .collect();
    assert_eq!(
        drawn.iter().map(|width| width.round()).collect::<Vec<_>>(),
        [720.0, 475.0, 352.0, 229.0]
    );
    // A definition lets no chart be narrower; a change in a report might, and is not drawn so.
    assert_eq!(across("quarter", &mut document), drawn[3]);
}

/// The bundled poppler turns runs from right to left around again, so that what it reads is in
/// the order in which it is said.
#[test]
fn text_from_right_to_left_keeps_its_order_everywhere_on_the_page() {
    with_fonts();
    let mut document = document(disks(&[("שלום עולם 12", 95.5), ("b", 40.0)]));
    document.title = "דוח יומי".to_owned();
    document.sections[0].blocks[0].title = "Harbour נמל 42".to_owned();
    let bytes = pdf(&document).unwrap();
    let text = pdf::selectable(&bytes);
    for (wanted, count) in [("דוח יומי", 2), ("שלום עולם", 2), ("נמל", 1)] {
        assert!(
            text.matches(wanted).count() >= count,
            "{wanted} {count}\n{text}"
        );
    }
}

/// The texts of an SVG with their places.
fn texts(svg: &str) -> Vec<(f64, f64, String)> {
    let number = |tag: &str, name: &str| {
        tag.split(&format!("{name}=\""))
            .nth(1)
            .unwrap()
            .split('"')
            .next()
            .unwrap()
            .parse::<f64>()
            .unwrap()
    };
    svg.split("<text ")
        .skip(1)
        .map(|tag| {
            (
                number(tag, "x"),
                number(tag, "y"),
                tag.split_once('>')
                    .unwrap()
                    .1
                    .split('<')
                    .next()
                    .unwrap()
                    .to_owned(),
            )
        })
        .collect()
}

#[test]
fn standing_bars_are_named_in_two_lines_where_one_has_no_room_and_never_over_one_another() {
    let ports = [
        "Skarvøy", "Havnes", "Lyngsund", "Brimsund", "Tornvik", "Østrey",
    ];
    let rows: Vec<(&str, f64)> = ports.iter().map(|port| (*port, 50.0)).collect();
    let document = document(disks(&rows));
    let Body::Chart { chart } = &document.sections[0].blocks[2].body else {
        panic!()
    };
    let mut chart = chart.clone();
    let Plot::Bars { form, .. } = &mut chart.plot else {
        panic!()
    };
    form.upright = true;
    let names = |size: chart::Size| -> Vec<(f64, f64, String)> {
        texts(&chart::svg(&chart, size))
            .into_iter()
            .filter(|(_, _, text)| ports.contains(&&**text))
            .collect()
    };
    let lines = |names: &[(f64, f64, String)]| {
        names
            .iter()
            .map(|(_, y, _)| *y as i64)
            .collect::<std::collections::BTreeSet<_>>()
            .len()
    };
    assert_eq!(
        (
            names(chart::Size::FULL).len(),
            lines(&names(chart::Size::FULL))
        ),
        (6, 1)
    );
    let third = names(chart::Size::of("third".parse().unwrap()));
    assert_eq!((third.len(), lines(&third)), (6, 2), "{third:?}");
    for line in third.iter().map(|(_, y, _)| *y) {
        let places: Vec<f64> = third
            .iter()
            .filter(|(_, y, _)| *y == line)
            .map(|(x, _, _)| *x)
            .collect();
        assert!(
            places.windows(2).all(|pair| pair[1] - pair[0] > 50.0),
            "{places:?}"
        );
    }
}
