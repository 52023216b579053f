//! Where things stand on a page and in a drawing.

use maple_lark_definition::Width;

use super::*;

/// How a page of a PDF lies: `(width, height)` in points, for each.
pub(super) fn pages(bytes: &[u8]) -> Vec<(f32, f32)> {
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
pub(super) fn places(bytes: &[u8], words: &[&str]) -> Vec<(usize, f64, f64)> {
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

/// Few rows with long texts are as high as many, so they run over pages, too. What is set by its lines ends with "…" after
/// the twelfth; what the typesetter has to set is there to its end.
#[test]
fn long_texts_in_few_rows_are_all_on_the_pages() {
    let mut sample = document(disks(&[("a", 95.5), ("b", 40.0)]));
    let Body::Table { table } = &sample.sections[0].blocks[3].body else {
        panic!()
    };
    let mut wanted = Vec::new();
    // How many rows, of how many words each, and in which letters.
    let tables = [
        (8, 400, "word", Width::FULL),
        (1, 3_000, "word", Width::FULL),
        (8, 120, "word", Width::HALF),
        (3, 500, "word", Width::HALF),
        (8, 200, "كلمة", Width::FULL),
        (1, 1_500, "كلمة", Width::FULL),
        (12, 12, "كلمة", Width::FULL),
    ];
    let blocks = tables.into_iter().enumerate();
    let blocks = blocks.map(|(of, (rows, words, word, width))| {
        let mut table = table.clone();
        // As heavy as a column of long texts is.
        table.headings[0].weight = 42.0;
        let row = |number: usize| {
            let mut row = table.rows[1].clone();
            let (first, last) = (format!("first{of}x{number}"), format!("last{of}x{number}"));
            row[0].text = format!("{first} {} {last}", vec![word; words].join(" "));
            wanted.push(first);
            if word != "word" {
                wanted.push(last);
            }
            row
        };
        table.rows = (0..rows).map(row).collect();
        let mut block = sample.sections[0].blocks[3].clone();
        (block.width, block.body) = (width, Body::Table { table });
        block
    });
    let blocks = blocks.collect();
    sample.sections[0].blocks = blocks;
    let bytes = pdf(&sample).unwrap();
    let sizes = pages(&bytes);
    let wanted: Vec<&str> = wanted.iter().map(String::as_str).collect();
    let mut places = places(&bytes, &wanted);
    for (word, (page, left, top)) in wanted.iter().zip(&places) {
        let (width, height) = sizes[page - 1];
        // Above the footer, and on the paper.
        let inside = *left < f64::from(width) && *top < f64::from(height) - 50.0;
        assert!(inside, "{word} is at {left}, {top} on page {page}");
    }
    places.sort_by(|one, other| one.partial_cmp(other).unwrap());
    places.dedup();
    assert_eq!(places.len(), wanted.len(), "no text stands on another");
    assert!(sizes.len() < 25, "{} pages", sizes.len());
}
