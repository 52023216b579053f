//! Whatever stands in the data: any text, any number, none at all. Every format is written, is
//! read back by another program, and nothing in a value becomes more than a value.

use calamine::Reader as _;
use maple_lark_data::{PackedTable, Unit};
use maple_lark_document::document::ShownAs;
use maple_lark_time::Zone;
use proptest::prelude::*;

use super::*;

/// Texts that mean something somewhere, and texts of any letters.
fn text() -> impl Strategy<Value = String> {
    let meaning = prop::sample::select(vec![
        "<script>alert(1)</script>",
        "\"onmouseover=\"x",
        "</td></tr></table>",
        "&amp; &lt;",
        "<!-- -->",
        "]]>",
        "=HYPERLINK(\"x\")",
        "@SUM(1)",
        "-2+3",
        "a,b;c\"d",
        "line\r\nfeed",
        "{{ figures.x }}{% raw %}",
        "#set text(red) $x$ *b* _e_ [l] @ref <label>",
        "\\ \u{202e}back\u{202c}",
        "",
        " ",
    ]);
    prop_oneof![meaning.prop_map(str::to_owned), "\\PC{0,24}"]
}

fn value() -> impl Strategy<Value = Value> {
    prop_oneof![
        2 => Just(Value::Missing),
        4 => text().prop_map(Value::Text),
        2 => any::<i64>().prop_map(Value::Integer),
        2 => (-1e300..1e300f64).prop_map(Value::Number),
        1 => any::<bool>().prop_map(Value::Boolean),
    ]
}

pub(super) fn data(headings: Vec<String>, rows: Vec<Vec<Value>>) -> DataTable {
    let columns = headings
        .iter()
        .map(|name| Column {
            name: name.clone(),
            kind: ColumnKind::Text,
        })
        .collect();
    let table = PackedTable::from(Table {
        columns,
        rows,
        truncated: false,
    });
    DataTable {
        title: "T".into(),
        file_name: "t.csv".into(),
        titles: headings.clone(),
        units: vec![Unit::None; headings.len()],
        shown_as: ShownAs::Table,
        is_file: true,
        headings,
        table,
        zone: Zone::UTC,
    }
}

fn read_back(bytes: &[u8]) -> Vec<Vec<String>> {
    let mut reader = ::csv::ReaderBuilder::new()
        .has_headers(false)
        .flexible(false)
        .from_reader(bytes);
    reader
        .records()
        .map(|record| record.unwrap().iter().map(str::to_owned).collect())
        .collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn a_table_in_csv_is_read_back_as_it_was(
        headings in prop::collection::vec(text(), 2..5),
        rows in prop::collection::vec(prop::collection::vec(value(), 4), 0..12),
        safe in any::<bool>(),
    ) {
        let width = headings.len();
        let rows: Vec<Vec<Value>> = rows.into_iter().map(|row| row.into_iter().take(width).collect()).map(|mut row: Vec<Value>| { row.resize(width, Value::Missing); row }).collect();
        let table = data(headings.clone(), rows.clone());
        let mut bytes = Vec::new();
        write_csv(&table, CsvForm { byte_order_mark: false, formulas_as_they_are: !safe }, &mut bytes).unwrap();
        let read = read_back(&bytes);
        prop_assert_eq!(read.len(), rows.len() + 1);
        let runs = |text: &str| text.starts_with(['=', '+', '-', '@', '\t', '\r', '\n', '＝', '＋', '－', '＠']);
        let as_text = |text: &str| if safe && runs(text) { format!("'{text}") } else { text.to_owned() };
        for (cell, heading) in read[0].iter().zip(&headings) {
            prop_assert_eq!(cell, &as_text(heading));
        }
        for (cells, row) in read[1..].iter().zip(&rows) {
            for (cell, value) in cells.iter().zip(row) {
                match value {
                    Value::Missing => prop_assert_eq!(cell, ""),
                    Value::Text(text) => prop_assert_eq!(cell, &as_text(text)),
                    // Numbers are exact, whatever they begin with.
                    Value::Integer(n) => prop_assert_eq!(cell.parse::<i64>().unwrap(), *n),
                    Value::Number(n) => prop_assert_eq!(cell.parse::<f64>().unwrap(), *n),
                    other => prop_assert_eq!(cell, &other.exact(Zone::UTC)),
                }
                prop_assert!(!safe || !matches!(value, Value::Text(_)) || !runs(cell), "{:?}", cell);
            }
        }
    }
}

/// A document in which everything that comes from data or definitions is one text.
fn made_of(word: &str) -> Document {
    let mut document = document(disks(&[("a", 95.5), ("b", 40.0)]));
    let said = || word.to_owned();
    document.title = said();
    document.front.window_label = said();
    document.front.sources = vec![said()];
    document.front.filters = vec![(said(), said())];
    document.summary.lines = vec![said().into()];
    document.theme.organisation = Some(said());
    document.provenance[0].query = said();
    document.provenance[0].source = said();
    for section in &mut document.sections {
        section.title = said();
        for block in &mut section.blocks {
            (block.title, block.note) = (said(), Some(said()));
            match &mut block.body {
                Body::Table { table } => {
                    table
                        .headings
                        .iter_mut()
                        .for_each(|heading| (heading.title, heading.unit) = (said(), said()));
                    table
                        .rows
                        .iter_mut()
                        .flatten()
                        .for_each(|cell| cell.text = said());
                    table.cut = Some(said());
                }
                Body::Figures { figures } => figures.iter_mut().for_each(|figure| {
                    (figure.title, figure.value, figure.change) = (said(), said(), Some(said()))
                }),
                Body::Chart { chart } => {
                    chart.description = said();
                    match &mut chart.plot {
                        Plot::Lines { series, .. } => {
                            series.iter_mut().for_each(|one| one.name = said())
                        }
                        Plot::Bars { categories, .. } => {
                            categories.iter_mut().for_each(|name| *name = said())
                        }
                        _ => {}
                    }
                }
                _ => {}
            }
        }
    }
    document
}

/// How many elements of each kind a page has; how many strokes a figure has depends on the room
/// that names take.
fn elements(html: &str) -> BTreeMap<String, usize> {
    let mut found = BTreeMap::new();
    for element in scraper::Html::parse_document(html)
        .root_element()
        .descendent_elements()
    {
        if ["polyline", "polygon", "text", "use"].contains(&element.value().name()) {
            continue;
        }
        *found.entry(element.value().name().to_owned()).or_default() += 1;
    }
    found
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn no_text_becomes_markup_in_a_page_or_a_mail(word in text()) {
        prop_assume!(!word.trim().is_empty());
        let (harmless, any) = (made_of("x"), made_of(&word));
        let page = html(&any).unwrap();
        prop_assert_eq!(elements(&page), elements(&html(&harmless).unwrap()), "{}", word);
        let answering = |document: &Document| {
            let mut document = document.clone();
            document.interactive = true;
            elements(&html(&document).unwrap())
        };
        prop_assert_eq!(answering(&any), answering(&harmless), "{}", word);
        let parsed = scraper::Html::parse_document(&page);
        let heading = parsed.select(&scraper::Selector::parse("h1").unwrap()).next().unwrap().text().collect::<String>();
        // Line ends are one kind in a page.
        prop_assert_eq!(heading, word.replace("\r\n", "\n").replace('\r', "\n"));
        let mail = |document: &Document| mail_body(document, MailContent::Full, &Context { message: Some(&word), ..Context::default() }).unwrap().html.unwrap();
        let (one, other) = (elements(&mail(&any)), elements(&mail(&harmless)));
        prop_assert_eq!(one, other, "{}", word);
    }

    #[test]
    fn json_and_workbook_have_every_text_as_it_is(word in text()) {
        let mut document = document(disks(&[("a", 95.5)]));
        let rows = vec![vec![Value::Text(word.clone()), Value::Missing]];
        document.data = vec![data(vec!["one".into(), "other".into()], rows)];
        document.title = word.clone();
        let json: serde_json::Value = serde_json::from_slice(&render(&document, Format::Json).unwrap().remove(0).bytes).unwrap();
        prop_assert_eq!(&json["title"], &serde_json::Value::from(word.clone()));
        prop_assert_eq!(&json["tables"][0]["rows"][0][0], &serde_json::Value::from(word.clone()));
        prop_assert!(json["tables"][0]["rows"][0][1].is_null());
        let bytes = render(&document, Format::Xlsx).unwrap().remove(0).bytes;
        let mut book: calamine::Xlsx<_> = calamine::Xlsx::new(std::io::Cursor::new(bytes)).unwrap();
        let sheet = book.worksheet_range("T").unwrap();
        let cell = sheet.get_value((1, 0)).map(ToString::to_string).unwrap_or_default();
        prop_assert_eq!(cell.replace("\r\n", "\n"), word.replace("\r\n", "\n"));
        prop_assert!(book.worksheet_formula("T").unwrap().is_empty());
    }
}

/// The typesetter has a language of its own, of which nothing in a text is a part.
#[test]
fn a_pdf_shows_texts_that_look_like_its_own_language_as_they_are() {
    for word in [
        "#set text(red)",
        "$x^2$",
        "*strong* _emphasis_",
        "<label> @ref",
        "= Heading",
        "\\ escape",
        "// comment",
        "[content]",
        "`raw` -- ---",
    ] {
        let bytes = pdf(&made_of(word)).unwrap_or_else(|error| panic!("{word}: {error}"));
        let text = pdf::selectable(&bytes);
        let there = text.lines().filter(|line| line.contains(word)).count();
        assert!(there >= 8, "{word} is there {there} times:\n{text}");
    }
}
