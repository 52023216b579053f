//! Files in a folder and behind a URL: CSV, JSON Lines, calendars.

use super::*;

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
    let words = bad.unwrap_err();
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

/// The bytes as gzip has them.
fn gzipped(bytes: &[u8]) -> Vec<u8> {
    use std::io::Write;
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packed.write_all(bytes).unwrap();
    packed.finish().unwrap()
}

/// An archive of these files.
fn zipped(files: &[(&str, &[u8])]) -> Vec<u8> {
    use std::io::Write;
    let mut archive = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, bytes) in files {
        let options = zip::write::SimpleFileOptions::default();
        archive.start_file(*name, options).unwrap();
        archive.write_all(bytes).unwrap();
    }
    archive.finish().unwrap().into_inner()
}

fn folder_source(folder: &TempDir, more: &str) -> Source {
    source(&format!(
        "kind = \"files\"\nfolder = \"{}\"\n{more}",
        folder.path().display()
    ))
}

#[tokio::test]
async fn packed_files_are_unpacked_on_the_way() {
    let folder = TempDir::new().unwrap();
    let (first, second) = (&b"host,load\nh1,1\n"[..], &b"host,load\nh2,2\n"[..]);
    // As logs are turned over: parts one after the other.
    let both = [gzipped(first), gzipped(b"h3,3\n")].concat();
    write(folder.path(), "one.csv.gz", &both);
    write(
        folder.path(),
        "all.zip",
        &zipped(&[("b/late.csv", second), ("b/", b""), ("a.csv", first)]),
    );
    let files = folder_source(&folder, "");
    let hosts = async |file: &str| {
        let answer = ask(&files, &format!("file = \"{file}\"")).await.unwrap();
        let rows = answer.table.rows;
        rows.iter()
            .map(|row| format!("{:?}", row[0]))
            .collect::<Vec<_>>()
    };
    assert_eq!(hosts("one.csv.gz").await, ["Text(\"h1\")", "Text(\"h3\")"]);
    // In the order of their names, whatever the order in the archive.
    assert_eq!(hosts("all.zip").await, ["Text(\"h1\")", "Text(\"h2\")"]);
    // A row that is wrong is named by the archive and the file in it.
    let wrong = zipped(&[("in/bad.csv", b"host,load\nh1,1,2\n")]);
    write(folder.path(), "wrong.zip", &wrong);
    let error = ask(&files, "file = \"wrong.zip\"").await.unwrap_err();
    assert!(error.contains("wrong.zip/in/bad.csv, line 2"), "{error}");
    // What ends in the middle is no answer.
    write(folder.path(), "cut.csv.gz", &both[..both.len() - 9]);
    write(folder.path(), "cut.zip", &zipped(&[("a.csv", first)])[..40]);
    for file in ["cut.csv.gz", "cut.zip"] {
        let error = ask(&files, &format!("file = \"{file}\""))
            .await
            .unwrap_err();
        assert!(error.contains(file), "{error}");
    }
}

#[tokio::test]
async fn what_is_unpacked_counts() {
    let folder = TempDir::new().unwrap();
    let long = format!("text\n{}\n", "x".repeat(3_000_000));
    write(folder.path(), "long.csv.gz", &gzipped(long.as_bytes()));
    let archive = zipped(&[("long.csv", long.as_bytes())]);
    write(folder.path(), "long.zip", &archive);
    // Such an archive is one of a workbook, as far as its beginning says.
    write(folder.path(), "long.xlsx", &archive);
    let files = folder_source(&folder, "max-size = \"1 MB\"");
    for asked in [
        "file = \"long.csv.gz\"",
        "file = \"long.zip\"",
        "file = \"long.xlsx\"\nformat = \"workbook\"",
    ] {
        let error = ask(&files, asked).await.unwrap_err();
        assert!(error.contains("1 MB"), "{asked}: {error}");
    }
}

#[tokio::test]
async fn a_sheet_of_a_workbook_is_read_with_what_its_cells_hold() {
    use rust_xlsxwriter::{ExcelDateTime, Format, Workbook};
    let folder = TempDir::new().unwrap();
    let mut workbook = Workbook::new();
    workbook.add_worksheet().set_name("Notes").unwrap();
    let sheet = workbook.add_worksheet();
    sheet.set_name("Kiosks").unwrap();
    let date = Format::new().set_num_format("yyyy-mm-dd hh:mm");
    // Two rows above its headings are empty, and so is one between its rows.
    for (column, heading) in ["kiosk", "count", "share", "seen", "open"]
        .iter()
        .enumerate()
    {
        sheet.write(2, column as u16, *heading).unwrap();
    }
    for (row, name) in [(3, "Havnes 1"), (5, "Havnes 2")] {
        sheet.write(row, 0, name).unwrap();
        sheet.write(row, 1, row).unwrap();
        sheet.write(row, 2, 0.25).unwrap();
        let at = ExcelDateTime::parse_from_str("2026-10-25T10:30:00").unwrap();
        sheet.write_with_format(row, 3, &at, &date).unwrap();
        sheet.write(row, 4, row == 3).unwrap();
    }
    write(
        folder.path(),
        "kiosks.xlsx",
        &workbook.save_to_buffer().unwrap(),
    );
    let files = folder_source(&folder, "");
    let asked = "file = \"kiosks.xlsx\"\nformat = \"workbook\"\n";
    let answer = ask(&files, &format!("{asked}sheet = \"Kiosks\""))
        .await
        .unwrap();
    let kinds: Vec<(&str, ColumnKind)> = answer
        .table
        .columns
        .iter()
        .map(|column| (column.name.as_str(), column.kind))
        .collect();
    assert_eq!(
        kinds,
        [
            ("kiosk", ColumnKind::Text),
            ("count", ColumnKind::Integer),
            ("share", ColumnKind::Number),
            ("seen", ColumnKind::Instant),
            ("open", ColumnKind::Boolean),
        ]
    );
    assert_eq!(answer.table.rows.len(), 2);
    assert_eq!(
        answer.table.rows[1],
        [
            Value::Text("Havnes 2".into()),
            Value::Integer(5),
            Value::Number(0.25),
            Value::Instant("2026-10-25T10:30:00Z".parse().unwrap()),
            Value::Boolean(false),
        ]
    );
    // The first sheet has nothing; one that is not there is said, with those that are.
    assert!(ask(&files, asked).await.unwrap().table.rows.is_empty());
    let error = ask(&files, &format!("{asked}sheet = \"Kiosk\""))
        .await
        .unwrap_err();
    assert!(
        error.contains(
            "it has no sheet \"Kiosk\". Did you mean \"Kiosks\"? There are: Notes, Kiosks"
        ),
        "{error}"
    );
    write(folder.path(), "text.xlsx", b"host,load\n");
    let text = "file = \"text.xlsx\"\nformat = \"workbook\"";
    let error = ask(&files, text).await.unwrap_err();
    assert!(error.contains("text.xlsx: it is no workbook"), "{error}");
}

/// Written by another program, packed in each of four ways.
#[tokio::test]
async fn columns_of_parquet_are_rows_with_what_they_hold() {
    let folder = TempDir::new().unwrap();
    let written = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/kinds/parquet");
    let files = folder_source(&folder, "");
    for packing in ["zstd", "snappy", "gzip", "lz4"] {
        let bytes = std::fs::read(written.join(format!("quays-{packing}.parquet"))).unwrap();
        write(folder.path(), "quays.parquet", &bytes);
        let answer = ask(&files, "file = \"quays.parquet\"\nformat = \"parquet\"")
            .await
            .unwrap_or_else(|error| panic!("{packing}: {error}"));
        let kinds: Vec<(&str, ColumnKind)> = answer
            .table
            .columns
            .iter()
            .map(|column| (column.name.as_str(), column.kind))
            .collect();
        assert_eq!(
            kinds,
            [
                ("quay", ColumnKind::Text),
                ("boats", ColumnKind::Integer),
                ("load", ColumnKind::Number),
                ("open", ColumnKind::Boolean),
                ("day", ColumnKind::Date),
                ("seen", ColumnKind::Instant),
                ("exact", ColumnKind::Instant),
                ("wall", ColumnKind::Instant),
                ("fee", ColumnKind::Number),
                ("tags", ColumnKind::Text),
            ],
            "{packing}"
        );
        let instant = |text: &str| Value::Instant(text.parse().unwrap());
        assert_eq!(
            answer.table.rows[0],
            [
                Value::Text("Havnes".into()),
                Value::Integer(3),
                Value::Number(0.5),
                Value::Boolean(true),
                Value::Date("2026-10-25".parse().unwrap()),
                instant("2026-10-25T00:30:00.25Z"),
                instant("2026-10-25T00:30:00.000000001Z"),
                // What a clock on a wall showed is read as other files' times without an offset are.
                instant("2026-10-25T02:30:00Z"),
                Value::Number(12.5),
                Value::Text("[\"a\",\"b\"]".into()),
            ],
            "{packing}"
        );
        assert_eq!(answer.table.rows[1][0], Value::Text("Skarvøy".into()));
        assert_eq!(answer.table.rows[1][2], Value::Missing);
        assert_eq!(
            answer.table.rows[2][4],
            Value::Date("1969-12-31".parse().unwrap())
        );
    }
    // Named columns, of the kind that is asked for, within the window.
    let some = "file = \"*.parquet\"\nformat = \"parquet\"\ntime = \"seen\"\nfield = [{ name = \"at\", column = \"quay\" }, { name = \"seen\", kind = \"instant\" }]";
    let table = ask(&files, some).await.unwrap().table;
    assert_eq!(table.rows.len(), 2, "one was never seen");
    assert_eq!(table.columns[0].name, "at");
    let error = ask(
        &files,
        "file = \"quays.parquet\"\nformat = \"parquet\"\nfield = [{ name = \"boat\" }]",
    )
    .await
    .unwrap_err();
    assert!(error.contains("Did you mean \"boats\"?"), "{error}");
    let small = folder_source(&folder, "max-size = \"1 kB\"");
    let error = ask(&small, "file = \"quays.parquet\"\nformat = \"parquet\"")
        .await
        .unwrap_err();
    assert!(error.contains("max-size"), "{error}");
    write(folder.path(), "text.parquet", b"host,load\n");
    let error = ask(&files, "file = \"text.parquet\"\nformat = \"parquet\"")
        .await
        .unwrap_err();
    assert!(error.contains("text.parquet: it is no Parquet"), "{error}");
    // One that was cut short, as a copy that is not over.
    let bytes = std::fs::read(written.join("quays-zstd.parquet")).unwrap();
    write(folder.path(), "half.parquet", &bytes[..bytes.len() / 2]);
    let error = ask(&files, "file = \"half.parquet\"\nformat = \"parquet\"")
        .await
        .unwrap_err();
    assert!(error.contains("half.parquet: it is no Parquet"), "{error}");
}

#[tokio::test]
async fn json_and_lines_of_text_are_rows() {
    let folder = TempDir::new().unwrap();
    write(
        folder.path(),
        "list.json",
        br#"[{"host": "h1", "load": 1.5}, {"host": "h2"}]"#,
    );
    let deep = br#"{"data": {"hosts": [{"host": "h1", "load": 2}, 7]}, "host": "above"}"#;
    write(folder.path(), "deep.json", deep);
    let files = folder_source(&folder, "");
    let table = |asked: &str| {
        let (files, asked) = (files.clone(), asked.to_owned());
        async move { ask(&files, &asked).await.map(|answer| answer.table) }
    };
    let list = table("file = \"list.json\"\nformat = \"json\"")
        .await
        .unwrap();
    assert_eq!(list.rows[0], [Value::Text("h1".into()), Value::Number(1.5)]);
    assert_eq!(list.rows[1], [Value::Text("h2".into()), Value::Missing]);
    let rows = "file = \"deep.json\"\nformat = \"json\"\nrows = \"$.data.hosts[*]\"\n";
    let error = table(rows).await.unwrap_err();
    assert!(
        error.contains("deep.json: row 2 is not an object"),
        "{error}"
    );
    let some = table(&format!("{rows}bad-rows = \"skip\"")).await.unwrap();
    assert_eq!(some.rows.len(), 1);
    // An object by itself is a row.
    let one = table("file = \"deep.json\"\nformat = \"json\"\nfield = [{ name = \"host\" }]")
        .await
        .unwrap();
    assert_eq!(one.rows, [[Value::Text("above".into())]]);

    let log = b"2026-10-25T10:00:00Z db-1 412 slow query\n2026-11-25T10:00:00Z db-2 7 out of the window\n\nnonsense\n";
    write(folder.path(), "app.log", log);
    let whole = table("file = \"app.log\"\nformat = \"lines\"")
        .await
        .unwrap();
    assert_eq!(
        (whole.columns[0].name.as_str(), whole.rows.len()),
        ("line", 4)
    );
    let pattern = "file = \"app.log\"\nformat = \"lines\"\npattern = '^(?<at>\\S+) (?<host>\\S+) (?<ms>\\d+) (?<text>.*)$'\n";
    let error = table(pattern).await.unwrap_err();
    assert!(
        error.contains("line 4: it does not fit the pattern"),
        "{error}"
    );
    let found = table(&format!("{pattern}bad-rows = \"skip\"\ntime = \"at\""))
        .await
        .unwrap();
    assert_eq!(
        found.rows,
        [[
            Value::Instant("2026-10-25T10:00:00Z".parse().unwrap()),
            Value::Text("db-1".into()),
            Value::Integer(412),
            Value::Text("slow query".into()),
        ]]
    );
}
