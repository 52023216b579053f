//! CSV, and what is packed into one file.

use super::*;

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
pub(super) fn table_of(document: &Document) -> &DataTable {
    document.files().next().unwrap()
}

pub(super) fn unzipped(bytes: &[u8]) -> Vec<(String, Vec<u8>)> {
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
