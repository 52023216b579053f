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
