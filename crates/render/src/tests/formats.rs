//! What other programs make of our files, but for PDF.

use calamine::{Data, Reader};

use super::{
    files::{table_of, unzipped},
    *,
};

#[test]
fn an_independent_parser_finds_no_error_in_the_html() {
    let mut with_everything = sample();
    with_everything.theme.organisation = Some("A & B".to_owned());
    for document in [
        sample(),
        with_everything,
        document(disks(&[])),
        document(Outcome::Failed("no </script> answer".into())),
    ] {
        let parsed = scraper::Html::parse_document(&html(&document).unwrap());
        assert!(parsed.errors.is_empty(), "{:?}", parsed.errors);
    }
}

#[test]
fn another_library_opens_the_workbook() {
    let bytes = render(&sample(), Format::Xlsx).unwrap().remove(0).bytes;
    let mut book: calamine::Xlsx<_> = calamine::Xlsx::new(std::io::Cursor::new(bytes)).unwrap();
    assert_eq!(
        book.sheet_names(),
        ["Summary", "Disks in a table", "Latency", "Disks"]
    );
    let sheet = book.worksheet_range("Disks in a table").unwrap();
    let rows: Vec<&[Data]> = sheet.rows().collect();
    assert_eq!(rows[0][1], Data::String("Used [%]".into()));
    assert_eq!(
        rows[1][..2],
        [Data::String("=cmd()".into()), Data::Float(95.5)]
    );
    let Data::DateTime(seen) = &rows[1][2] else {
        panic!("{:?}", rows[1])
    };
    // Days since 30 December 1899: 01:30 on 25 October 2026 in the report's zone.
    assert_eq!(seen.as_f64(), 46320.0625);
    assert!(
        book.worksheet_formula("Disks in a table")
            .unwrap()
            .is_empty()
    );
    assert_eq!(book.worksheet_range("Latency").unwrap().height(), 301);
    // Key figures are numbers beside what a reader sees.
    let summary = book.worksheet_range("Summary").unwrap();
    let used = summary
        .rows()
        .find(|row| row[1] == Data::String("95.5\u{a0}%".into()))
        .unwrap();
    assert_eq!(used[2..4], [Data::Float(95.5), Data::String("%".into())]);
}

/// The same sheets as the workbook's, with the same values.
#[test]
fn another_library_opens_the_opendocument() {
    let mut document = sample();
    let texts = [
        "=cmd()",
        "a  b",
        " before",
        "one\nother",
        "<&>'\"",
        "sign \u{1}",
        "",
    ];
    let rows = texts.map(|text| vec![Value::Text(text.into())]);
    document.data.push(DataTable {
        title: "Texts".into(),
        ..whatever::data(vec!["Text".into()], rows.to_vec())
    });
    let bytes = render(&document, Format::Ods).unwrap().remove(0).bytes;
    assert_eq!(&bytes[30..38], b"mimetype");
    let kind = format!("mimetype{}", Format::Ods.media_type());
    assert_eq!(&bytes[30..30 + kind.len()], kind.as_bytes());
    let again = render(&document, Format::Ods).unwrap().remove(0).bytes;
    assert!(bytes == again, "the same document gives the same bytes");
    let mut book: calamine::Ods<_> = calamine::Ods::new(std::io::Cursor::new(bytes)).unwrap();
    assert_eq!(
        book.sheet_names(),
        ["Summary", "Disks in a table", "Texts", "Latency", "Disks"]
    );
    let sheet = book.worksheet_range("Disks in a table").unwrap();
    let rows: Vec<&[Data]> = sheet.rows().collect();
    assert_eq!(rows[0][1], Data::String("Used [%]".into()));
    assert_eq!(
        rows[1][..3],
        [
            Data::String("=cmd()".into()),
            Data::Float(95.5),
            Data::DateTimeIso("2026-10-25T01:30:00".into())
        ]
    );
    let formulas = book.worksheet_formula("Disks in a table").unwrap();
    assert!(formulas.used_cells().next().is_none(), "{formulas:?}");
    let sheet = book.worksheet_range("Texts").unwrap();
    let said: Vec<String> = sheet.rows().skip(1).map(|row| row[0].to_string()).collect();
    // XML has no place for some signs.
    let held = texts.map(|text| text.replace('\u{1}', "\u{fffd}"));
    assert_eq!(said, held[..said.len()]);
    assert!(said.len() >= 6);
    assert_eq!(book.worksheet_range("Latency").unwrap().height(), 301);
    let summary = book.worksheet_range("Summary").unwrap();
    let used = summary
        .rows()
        .find(|row| row[1] == Data::String("95.5\u{a0}%".into()))
        .unwrap();
    assert_eq!(used[2..4], [Data::Float(95.5), Data::String("%".into())]);
}

#[test]
fn an_opendocument_shows_numbers_and_days_as_the_document_does() {
    let content = |document: &Document| {
        let bytes = render(document, Format::Ods).unwrap().remove(0).bytes;
        let parts = unzipped(&bytes);
        for (path, bytes) in parts.iter().filter(|(path, _)| path.ends_with(".xml")) {
            let mut reader = quick_xml::Reader::from_reader(&bytes[..]);
            loop {
                let read = reader.read_event();
                let read = read.unwrap_or_else(|error| panic!("{path}: {error}"));
                if read == quick_xml::events::Event::Eof {
                    break;
                }
            }
        }
        let (_, bytes) = parts
            .iter()
            .find(|(path, _)| path == "content.xml")
            .unwrap();
        String::from_utf8(bytes.clone()).unwrap()
    };
    let mut document = sample();
    let text = content(&document);
    assert!(text.contains("number:grouping=\"true\""), "{text}");
    assert!(text.contains("number:textual=\"true\""), "{text}");
    let range = "&apos;Disks in a table&apos;.A1:&apos;Disks in a table&apos;.C3";
    assert!(text.contains(range), "{text}");
    // What stands above numbers stands right, as they do.
    let cell = |heading: &str| {
        let before = text.split(&format!("<text:p>{heading}</text:p>")).next();
        before.unwrap().rsplit("<table:table-cell").next().unwrap()
    };
    assert!(cell("Host").contains("\"heading\""), "{text}");
    assert!(cell("Used [%]").contains("\"heading-right\""), "{text}");
    document.number_format =
        maple_lark_data::number_format::NumberFormat::like("1234.5", "2026-11-22");
    let text = content(&document);
    assert!(!text.contains("number:grouping=\"true\""), "{text}");
    assert!(!text.contains("number:textual=\"true\""), "{text}");
}

/// How cells are shown is in the workbook's own files, which another library does not tell.
#[test]
fn the_workbook_shows_numbers_as_the_document_does() {
    let styles = |document: &Document| {
        let bytes = render(document, Format::Xlsx).unwrap().remove(0).bytes;
        let parts = unzipped(&bytes);
        let part = |name: &str| {
            let (_, bytes) = parts.iter().find(|(path, _)| path == name).unwrap();
            String::from_utf8(bytes.clone()).unwrap()
        };
        (part("xl/styles.xml"), part("xl/worksheets/sheet2.xml"))
    };
    let mut document = sample();
    let (style, sheet) = styles(&document);
    assert!(style.contains("\"#,##0.0\""), "{style}");
    // What stands above numbers stands right, as they do.
    let heading = |cell: &str| {
        let rest = sheet.split(&format!("<c r=\"{cell}\" s=\"")).nth(1);
        let place: usize = rest.unwrap().split('"').next().unwrap().parse().unwrap();
        let formats = style.split("<cellXfs").nth(1).unwrap();
        let format = formats.split("<xf ").nth(place + 1).unwrap();
        format.contains("horizontal=\"right\"")
    };
    assert!(!heading("A1") && heading("B1"), "{sheet}\n{style}");
    assert!(style.contains("d mmm yyyy hh:mm:ss"), "{style}");
    let widths: Vec<f64> = sheet
        .split("<col ")
        .skip(1)
        .map(|col| {
            col.split("width=\"")
                .nth(1)
                .unwrap()
                .split('"')
                .next()
                .unwrap()
        })
        .map(|width| width.parse().unwrap())
        .collect();
    assert!(
        widths.iter().all(|width| (9.0..=64.0).contains(width)),
        "{widths:?}"
    );
    document.number_format =
        maple_lark_data::number_format::NumberFormat::like("1234.5", "2026-11-22");
    let (style, _) = styles(&document);
    assert!(
        style.contains("\"0.0\"") && style.contains("yyyy-mm-dd hh:mm:ss"),
        "{style}"
    );
}

/// A chart that a spreadsheet cannot draw is there with its rows.
#[test]
fn every_chart_has_its_rows_in_the_workbook() {
    let text = DASHBOARD.replace(
        "show = \"bar\"\ntitle = \"Disks\"\nquery = \"disks\"\nlabel = \"host\"\nvalue = \"used\"",
        "show = \"box\"\ntitle = \"Disks\"\nquery = \"disks\"\nrow = \"host\"\nvalue = \"used\"",
    );
    let document = document_of(&text, disks(&[("a", 95.5), ("b", 4.25)]));
    let bytes = render(&document, Format::Xlsx).unwrap().remove(0).bytes;
    let mut book: calamine::Xlsx<_> = calamine::Xlsx::new(std::io::Cursor::new(bytes)).unwrap();
    let sheet = book.worksheet_range("Disks").unwrap();
    let cells: Vec<Vec<String>> = sheet
        .rows()
        .map(|row| row.iter().map(ToString::to_string).collect())
        .collect();
    assert_eq!(cells, [["Host", "Used [%]"], ["a", "95.5"], ["b", "4.25"]]);
}

/// Also the sheets behind charts, which went over as many pages side by side as their charts are wide.
#[test]
fn every_sheet_is_as_wide_as_a_page_on_paper() {
    let bytes = render(&sample(), Format::Xlsx).unwrap().remove(0).bytes;
    let files = unzipped(&bytes);
    let sheets = files
        .iter()
        .filter(|(name, _)| name.starts_with("xl/worksheets/sheet"));
    let mut count = 0;
    for (name, bytes) in sheets {
        let text = String::from_utf8_lossy(bytes);
        assert!(
            text.contains("<pageSetUpPr fitToPage=\"1\"/>"),
            "{name} is not fitted to its page"
        );
        count += 1;
    }
    assert!(count > 2, "{count} sheets");
}

#[test]
fn names_of_sheets_are_short_unlike_and_without_signs() {
    let mut document = sample();
    let long = "A title [with] signs: and/or more than thirty letters";
    for _ in 0..2 {
        let another = DataTable {
            title: long.into(),
            ..table_of(&document).clone()
        };
        document.data.push(another);
    }
    let bytes = render(&document, Format::Xlsx).unwrap().remove(0).bytes;
    let book: calamine::Xlsx<_> = calamine::Xlsx::new(std::io::Cursor::new(bytes)).unwrap();
    assert_eq!(
        book.sheet_names()[2..4],
        [
            "A title  with  signs  and or mo",
            "A title  with  signs  and o 2"
        ]
    );
}

#[test]
fn the_json_has_the_rows_exactly() {
    let json: serde_json::Value =
        serde_json::from_slice(&render(&sample(), Format::Json).unwrap()[0].bytes).unwrap();
    assert_eq!(
        (json["layout"].as_u64(), json["run"].as_str()),
        (Some(3), Some("0190-run"))
    );
    let shown: Vec<(&str, &str)> = json["tables"]
        .as_array()
        .unwrap()
        .iter()
        .map(|table| {
            (
                table["title"].as_str().unwrap(),
                table["shown_as"].as_str().unwrap(),
            )
        })
        .collect();
    assert_eq!(
        shown,
        [
            ("Latency", "chart"),
            ("Disks", "chart"),
            ("Disks in a table", "table")
        ]
    );
    assert_eq!(json["tables"][0]["rows"].as_array().unwrap().len(), 600);
    assert_eq!(
        json["tables"][1]["headings"],
        serde_json::json!(["host", "used [%]"])
    );
    assert_eq!(
        json["tables"][2]["rows"][0],
        serde_json::json!(["=cmd()", 95.5, "2026-10-25T00:30:00Z"])
    );
    assert_eq!(json["window"]["zone"], "Atlantic/Faroe");
    // Durations and counts are numbers, instants RFC 3339.
    let from = &json["provenance"][0];
    assert_eq!(
        (&from["asked_at"], &from["took_seconds"], &from["rows"]),
        (
            &"2026-10-25T00:00:00+01:00".into(),
            &serde_json::json!(0.0),
            &600.into()
        )
    );
    let schema: serde_json::Value =
        serde_json::from_str(include_str!("../../../../docs/document.schema.json")).unwrap();
    // The schema knows every key, and demands what is always there.
    let schema = jsonschema::options()
        .should_validate_formats(true)
        .build(&schema)
        .unwrap();
    let wrong: Vec<String> = schema
        .iter_errors(&json)
        .map(|error| format!("{}: {error}", error.instance_path()))
        .collect();
    assert_eq!(wrong, Vec::<String>::new());
    assert_eq!(
        json["window"]["interval"],
        "2026-10-25T00:00:00+01:00/2026-10-26T00:00:00+00:00"
    );
    let mut more = json.clone();
    more["sections"][0]["blocks"][0]["extra"] = true.into();
    assert!(!schema.is_valid(&more), "the schema is strict");
}

#[test]
fn the_plain_text_can_be_read_by_itself() {
    insta::assert_snapshot!(text(&sample()).replace('\u{a0}', " "));
}

#[test]
fn what_nobody_waits_for_is_not_made_in_any_format() {
    use maple_lark_data::stop::{Stop, under};
    let document = sample();
    let stop = Stop::default();
    stop.stop();
    for format in Format::ALL {
        let made = under(&stop, || render(&document, format).map(|files| files.len()));
        assert!(made.is_err(), "{format:?}");
    }
    assert!(render(&document, Format::Pdf).is_ok());
}
