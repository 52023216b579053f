//! Where things stand on a page and in a drawing.

use maple_lark_definition::Width;
use maple_lark_document::{document::Block, markdown::Part};

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

/// Every word on the pages of a PDF, as Debian's poppler reads it: its page, from 1, and its left, top, right and
/// bottom.
fn words(bytes: &[u8]) -> Vec<(String, usize, [f64; 4])> {
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), bytes).unwrap();
    let output = std::process::Command::new("pdftotext")
        .arg("-bbox")
        .arg(file.path())
        .arg("-")
        .output()
        .unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    let mut page = 0;
    let mut words = Vec::new();
    for line in text.lines() {
        page += usize::from(line.contains("<page "));
        let Some((tag, rest)) = line
            .trim()
            .split_once('>')
            .filter(|(tag, _)| tag.starts_with("<word "))
        else {
            continue;
        };
        let sides = ["xMin", "yMin", "xMax", "yMax"].map(|name| {
            let after = tag.split(&format!("{name}=\"")).nth(1).unwrap();
            after.split('"').next().unwrap().parse().unwrap()
        });
        words.push((rest.trim_end_matches("</word>").to_owned(), page, sides));
    }
    words
}

/// Where words stand on the pages of a PDF: page, left, top.
pub(super) fn places(bytes: &[u8], wanted: &[&str]) -> Vec<(usize, f64, f64)> {
    let words = words(bytes);
    let place = |wanted: &&str| {
        let found = words.iter().find(|(word, ..)| word == wanted);
        let (_, page, [left, top, ..]) =
            found.unwrap_or_else(|| panic!("{wanted} is not there: {words:?}"));
        (*page, *left, *top)
    };
    wanted.iter().map(place).collect()
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

/// What is wrong with where words stand on the pages of a PDF: past the margins, or on each other.
fn misplaced(bytes: &[u8]) -> Vec<String> {
    let (sizes, words) = (pages(bytes), words(bytes));
    let mut wrong = Vec::new();
    for (at, (word, page, [left, top, right, bottom])) in words.iter().enumerate() {
        let (width, height) = sizes[page - 1];
        let is_footer = *top > f64::from(height) - 50.0 && *bottom < f64::from(height) - 10.0;
        let is_beside = *left < 20.0 || *right > f64::from(width) - 20.0;
        if is_beside || (*bottom > f64::from(height) - 30.0 && !is_footer) {
            wrong.push(format!(
                "{word:.20} ends at {right}, {bottom} on page {page}"
            ));
        }
        for (other, of, [l, t, r, b]) in &words[at + 1..] {
            let (wide, high) = (right.min(*r) - left.max(*l), bottom.min(*b) - top.max(*t));
            if page == of && wide > 3.0 && high > 5.0 {
                wrong.push(format!("{word:.20} stands on {other:.20} on page {page}"));
            }
        }
    }
    wrong
}

/// As many words, of which the first and the last are only there.
fn many(name: &str, count: usize) -> String {
    let filling = vec!["word"; count].join(" ");
    format!("first{name} {filling} last{name}")
}

/// A block of the sample that shows something of a kind.
fn block_with(document: &Document, is_it: impl Fn(&Body) -> bool) -> Block {
    let mut blocks = document.sections[0].blocks.iter();
    blocks.find(|block| is_it(&block.body)).unwrap().clone()
}

/// Blocks of one kind each, whose words are `long` or whose texts have many words.
fn blocks_of_long_texts(sample: &Document, long: &str) -> Vec<Block> {
    let chart = block_with(sample, |body| matches!(body, Body::Chart { .. }));
    let with = |body: Body| Block {
        body,
        ..chart.clone()
    };
    let paragraph = |text: &str| {
        let text = text.to_owned();
        let run = maple_lark_document::markdown::Run {
            text,
            ..Default::default()
        };
        let runs = vec![run];
        Body::Text {
            parts: vec![
                Part::Paragraph { runs: runs.clone() },
                Part::List {
                    ordered: false,
                    items: vec![runs],
                },
            ],
        }
    };
    let reason = |text: &str| Body::Failed {
        reason: text.to_owned(),
    };
    let sentence = |text: &str| Body::Empty {
        sentence: text.to_owned(),
        rows: true,
    };
    let figures = |count: usize, title: &str, value: &str| {
        let mut block = block_with(sample, |body| matches!(body, Body::Figures { .. }));
        let Body::Figures { figures } = &mut block.body else {
            panic!()
        };
        figures[0].title = title.to_owned();
        figures[0].value = value.to_owned();
        *figures = vec![figures[0].clone(); count];
        block
    };
    let table = |rows: usize, head: &str, text: &str| {
        let mut block = block_with(sample, |body| matches!(body, Body::Table { .. }));
        let Body::Table { table } = &mut block.body else {
            panic!()
        };
        table.headings[0].title = head.to_owned();
        table.rows[0][0].text = text.to_owned();
        table.rows = vec![table.rows[0].clone(); rows];
        block
    };
    let titled = |title: &str, note: Option<String>| Block {
        title: title.to_owned(),
        note,
        ..chart.clone()
    };
    vec![
        with(reason(&many("reason", 900))),
        with(reason(long)),
        with(sentence(&many("sentence", 900))),
        with(sentence(long)),
        with(paragraph(long)),
        figures(24, "firstfigure lastfigure", "12,345.67\u{a0}ms"),
        figures(1, &many("named", 700), "1\u{a0}%"),
        figures(3, long, long),
        table(2, &many("head", 12), long),
        table(9, long, long),
        table(9, "كلمة", long),
        titled(&many("title", 120), None),
        titled(long, Some(many("note", 900))),
        titled("Disks", Some(long.to_owned())),
    ]
}

#[test]
fn long_texts_run_neither_past_the_paper_nor_into_each_other() {
    let sample = document(disks(&[("a", 95.5), ("b", 40.0)]));
    let long = "http://metrics.orrin.example/".to_owned() + &"abcdefgh".repeat(40);
    let mut blocks = Vec::new();
    for width in ["full", "half", "quarter"] {
        for block in blocks_of_long_texts(&sample, &long) {
            let width: Width = width.parse().unwrap();
            // Side by side if they are not wide.
            let count = if width == Width::FULL { 1 } else { 2 };
            blocks.extend(vec![Block { width, ..block }; count]);
        }
    }
    let mut sample = sample;
    sample.sections[0].blocks = blocks;
    let bytes = pdf(&sample).unwrap();
    assert_eq!(misplaced(&bytes), [""; 0]);
    let words = words(&bytes);
    let count = |wanted: &str| words.iter().filter(|(word, ..)| word == wanted).count();
    for name in ["reason", "sentence", "named", "title", "note"] {
        let ends = (
            count(&format!("first{name}")),
            count(&format!("last{name}")),
        );
        assert_eq!(ends, (5, 5), "{name}");
    }
    assert_eq!(count("lastfigure"), 24 * 5);
    // A head is shortened where its column has no room for it.
    assert!(count("firsthead") >= 1 && count("lasthead") >= 1);
    // Whoever copies a word gets no places to break with it.
    assert!(words.iter().all(|(word, ..)| !word.contains('\u{200b}')));
}

#[test]
fn long_words_of_the_front_stay_on_the_paper() {
    let mut sample = document(disks(&[("a", 95.5), ("b", 40.0)]));
    let long = "abcdefgh".repeat(60);
    let front = &mut sample.front;
    front.filters.push(("port".into(), long.clone()));
    front.sources.push(long.clone());
    sample.summary.headline = long.clone();
    sample.summary.lines[0].text = long.clone();
    sample.theme.organisation = Some(long.clone());
    sample.sections[0].title = long.clone();
    sample.provenance[0].query = long.clone();
    sample.provenance[0].detail = Some(long.clone());
    sample.title = long;
    for contents in [false, true] {
        sample.theme.contents = contents;
        assert_eq!(misplaced(&pdf(&sample).unwrap()), [""; 0]);
    }
}
