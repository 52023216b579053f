//! What other programs make of our PDF.

use std::process::Command;

use maple_lark_definition::{Paper, Theme, Width};

use super::{
    layout::{pages, places},
    *,
};
use crate::threads::by_one_thread;

/// Runs a program of the system on a file; its output.
fn asked(program: &str, arguments: &[&str], bytes: &[u8]) -> String {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("file");
    std::fs::write(&file, bytes).unwrap();
    let output = Command::new(program)
        .args(arguments)
        .arg(&file)
        .current_dir(folder.path())
        .output()
        .unwrap_or_else(|error| panic!("{program}: {error}"));
    assert!(
        output.status.success(),
        "{program}: {}{}",
        String::from_utf8_lossy(&output.stdout),
        String::from_utf8_lossy(&output.stderr)
    );
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// What a reader can select in a PDF, laid out as it stands there.
pub(super) fn selectable(bytes: &[u8]) -> String {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("a.pdf");
    std::fs::write(&file, bytes).unwrap();
    let output = Command::new("pdftotext")
        .arg("-layout")
        .arg(&file)
        .arg("-")
        .output()
        .unwrap();
    String::from_utf8(output.stdout)
        .unwrap()
        .replace('\u{a0}', " ")
}

#[test]
fn another_program_finds_nothing_wrong_with_the_pdf() {
    let bytes = pdf(&sample()).unwrap();
    assert!(
        asked("qpdf", &["--check"], &bytes).contains("No syntax or stream encoding errors found")
    );
    let text = String::from_utf8_lossy(&bytes);
    for claim in [
        "<pdfaid:part>3</pdfaid:part>",
        "<pdfaid:conformance>A</pdfaid:conformance>",
        "<pdfuaid:part>1</pdfuaid:part>",
    ] {
        assert!(text.contains(claim), "{claim}");
    }
    let info = asked("pdfinfo", &[], &bytes);
    assert!(
        info.contains("Tagged:          yes")
            && info.contains("Title:           Daily <ferries> & more"),
        "{info}"
    );
}

#[test]
fn the_text_of_the_pdf_can_be_selected() {
    let text = selectable(&pdf(&sample()).unwrap());
    for part in [
        "Daily <ferries> & more",
        "Needs action",
        "=cmd()",
        "◆ 95.5",
        "12.2",
        "b & <i>",
        "pay<ment>",
        "Page 1 of 2",
        "Page 2 of 2",
        "SHA-256",
    ] {
        assert!(text.contains(part), "{part}: {text}");
    }
}

#[test]
fn what_needs_action_leads_to_its_place() {
    let document = sample();
    let line = &document.summary.lines[0];
    let place = line.place.unwrap();
    let anchor = format!("block-{}-{}", place.section + 1, place.block + 1);
    let html = html(&document).unwrap();
    assert!(
        html.contains(&format!("<li><a href=\"#{anchor}\">")),
        "{html}"
    );
    assert_eq!(html.matches(&format!("id=\"{anchor}\"")).count(), 1);
    // Its title says where it is; the title of another block is somewhere else.
    let mut document = document;
    for (number, block) in document.sections[place.section]
        .blocks
        .iter_mut()
        .enumerate()
    {
        block.title = format!("Block{number}");
    }
    let bytes = pdf(&document).unwrap();
    let wanted: Vec<String> = document
        .summary
        .lines
        .iter()
        .filter_map(|line| Some(format!("Block{}", line.place?.block)))
        .collect();
    let wanted: Vec<&str> = wanted.iter().map(String::as_str).collect();
    let mut titles = places(&bytes, &wanted);
    let mut found = links(&bytes);
    assert_eq!(found.len(), titles.len());
    titles.sort_by(|a, b| (a.0, a.2).partial_cmp(&(b.0, b.2)).unwrap());
    found.sort_by(|a, b| (a.page, a.top).partial_cmp(&(b.page, b.top)).unwrap());
    for (link, (page, _, top)) in found.iter().zip(titles) {
        assert_eq!(link.said, format!("page {page}"));
        assert!(
            link.page == page && (0.0..12.0).contains(&(top - link.top)),
            "{link:?} does not lead to {top} on page {page}"
        );
    }
}

/// Where a link within a PDF leads, from the top of its page, and what it says.
#[derive(Debug)]
struct Link {
    page: usize,
    top: f64,
    said: String,
}

fn links(bytes: &[u8]) -> Vec<Link> {
    let file = lopdf::Document::load_mem(bytes).unwrap();
    let sheets = file.get_pages();
    let heights = pages(bytes);
    let links = file.objects.values().filter_map(|object| {
        let link = object.as_dict().ok()?;
        let is_link = link.get(b"Subtype").ok()?.as_name().ok()? == b"Link";
        let to = link.get(b"Dest").and_then(|to| file.dereference(to));
        let to = to.ok().filter(|_| is_link)?.1.as_array().ok()?;
        let sheet = to[0].as_reference().ok()?;
        let page = *sheets.iter().find(|(_, each)| **each == sheet)?.0 as usize;
        let said = link.get(b"Contents").and_then(lopdf::decode_text_string);
        Some(Link {
            page,
            top: f64::from(heights[page - 1].1 - to[3].as_float().unwrap()),
            said: said.unwrap(),
        })
    });
    links.collect()
}

/// How often the typesetter lays out the pages of a document.
fn layouts(document: &Document) -> usize {
    const HERE: &str = "these pages";
    typst_timing::enable();
    by_one_thread(|| {
        let _mark = typst_timing::TimingScope::new(HERE);
        pdf(document).unwrap();
    });
    typst_timing::disable();
    let mut told = Vec::new();
    typst_timing::export_json(&mut told, |_| (String::new(), 0)).unwrap();
    let told: Vec<serde_json::Value> = serde_json::from_slice(&told).unwrap();
    // Other tests may lay out something meanwhile, on other threads.
    let mine = told.iter().find(|event| event["name"] == HERE).unwrap();
    let begun = told.iter().filter(|event| {
        event["ph"] == "B"
            && event["tid"] == mine["tid"]
            && typst::introspection::ITER_NAMES
                .iter()
                .any(|name| event["name"] == *name)
    });
    begun.count()
}

/// What the typesetter has to look for on its own pages makes it lay out all of them again, as contents do.
#[test]
fn pages_without_contents_are_laid_out_once() {
    let mut document = sample();
    assert!(
        document
            .summary
            .lines
            .iter()
            .any(|line| line.place.is_some())
    );
    assert_eq!(layouts(&document), 1);
    document.theme.contents = true;
    assert_eq!(layouts(&document), 2);
}

/// The lines of a chart are not in its figure, which says all the same how far it reaches.
#[test]
fn a_chart_has_the_bounds_of_its_picture() {
    let bytes = pdf(&sample()).unwrap();
    let file = lopdf::Document::load_mem(&bytes).unwrap();
    let figures = file.objects.values().filter_map(|object| {
        let element = object.as_dict().ok()?;
        let is_figure = element.get(b"S").ok()?.as_name().ok()? == b"Figure";
        let described = element.get(b"Alt").ok().filter(|_| is_figure)?;
        let alternative = lopdf::decode_text_string(described).unwrap();
        let attributes = element.get(b"A").and_then(|to| file.dereference(to));
        let attributes = match attributes.ok()?.1 {
            lopdf::Object::Array(all) => all.first()?.as_dict().ok()?,
            one => one.as_dict().ok()?,
        };
        let bounds = attributes.get(b"BBox").ok()?.as_array().ok()?;
        let bounds: Vec<f32> = bounds.iter().map(|n| n.as_float().unwrap()).collect();
        Some((alternative, bounds[2] - bounds[0], bounds[3] - bounds[1]))
    });
    let figures: Vec<(String, f32, f32)> = figures.collect();
    let document = sample();
    for block in document.sections.iter().flat_map(|section| &section.blocks) {
        let Body::Chart { chart } = &block.body else {
            continue;
        };
        let (_, width, height) = figures
            .iter()
            .find(|(alternative, ..)| *alternative == chart.description)
            .unwrap_or_else(|| panic!("{} is not among {figures:?}", chart.description));
        let room = block.width.of(document.theme.room(), 14.0) as f32;
        assert!((width - room).abs() < 0.5, "{width} of {room}");
        let size = chart::Size::of(block.width);
        let wanted = room * (chart::height(chart, size) / size.width()) as f32;
        assert!((height - wanted).abs() < 0.5, "{height} of {wanted}");
    }
}

#[test]
fn each_tables_rows_are_embedded_in_the_pdf() {
    let document = sample();
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("a.pdf");
    std::fs::write(&file, pdf(&document).unwrap()).unwrap();
    let status = Command::new("pdfdetach")
        .arg("-saveall")
        .arg(&file)
        .current_dir(folder.path())
        .status()
        .unwrap();
    assert!(status.success());
    let csv = render(&document, Format::Csv).unwrap().remove(0);
    assert_eq!(
        std::fs::read(folder.path().join(&csv.file_name)).unwrap(),
        csv.bytes
    );
}

/// The tags of a table's cells by an independent reader: a heading cell for each column, a
/// cell for each value.
#[test]
fn the_cells_of_a_table_are_tagged_as_cells() {
    let structure = asked("pdfinfo", &["-struct-text"], &pdf(&sample()).unwrap());
    let table = structure.split("Table").nth(1).unwrap();
    let count = |tag: &str| {
        table
            .lines()
            .filter(|line| line.trim_start().split([' ', ':']).next() == Some(tag))
            .count()
    };
    assert_eq!((count("TH"), count("TD")), (3, 6), "{table}");
    assert!(table.contains("\"=cmd()\""), "{table}");
}

/// A table over several pages is one table to its readers, with a row for each row and its cells in order, wherever
/// the pages end.
#[test]
fn a_table_over_several_pages_is_tagged_as_one() {
    // Of the second, five rows are laid out as one, and three at its end.
    for count in [200, 1003] {
        is_tagged_as_one(count);
    }
}

fn is_tagged_as_one(count: usize) {
    let hosts: Vec<String> = (0..count)
        .map(|number| format!("host-{number:04}"))
        .collect();
    let mut document = document(disks(&[("host", 50.5)]));
    let Body::Table { table } = &mut document.sections[0].blocks[3].body else {
        panic!()
    };
    let row = table.rows[0].clone();
    table.rows = hosts
        .iter()
        .map(|host| {
            let mut row = row.clone();
            row[0].text.clone_from(host);
            row
        })
        .collect();
    let bytes = pdf(&document).unwrap();
    let pages = asked("pdfinfo", &[], &bytes);
    let pages: usize = pages
        .lines()
        .find_map(|line| line.strip_prefix("Pages:")?.trim().parse().ok())
        .unwrap();
    assert!(pages > 4, "{pages}");
    let structure = asked("pdfinfo", &["-struct-text"], &bytes);
    let table = structure.split("Table").nth(1).unwrap();
    let tags = table
        .lines()
        .filter_map(|line| line.trim_start().split([' ', ':']).next());
    let of_kind = |wanted: &str| tags.clone().filter(|tag| *tag == wanted).count();
    assert_eq!(
        ["THead", "TBody", "TH", "TR", "TD"].map(of_kind),
        [1, 1, 3, count + 1, 3 * count]
    );
    let said: Vec<&str> = table
        .split("TBody")
        .nth(1)
        .unwrap()
        .lines()
        .filter_map(|line| line.trim().strip_prefix('"')?.strip_suffix('"'))
        .take(3 * count)
        .collect();
    assert_eq!(said.len(), 3 * count);
    for (row, host) in said.chunks(3).zip(&hosts) {
        assert_eq!((row[0], row[1]), (host.as_str(), "50.5"), "{row:?}");
    }
    // Each says which column it belongs to.
    let attributes = asked("pdfinfo", &["-struct"], &bytes);
    let table = attributes.split("Table").nth(1).unwrap();
    let body = table.split("TBody").nth(1).unwrap();
    assert_eq!(body.matches("/Headers").count(), 3 * count);
    assert_eq!(table.matches("/Scope /Column").count(), 3);
}

/// A line for each row, and all of a table on a page as one shape: each shape says anew how it is drawn.
#[test]
fn the_lines_under_rows_are_one_shape_for_each_table_and_page() {
    let hosts: Vec<String> = (0..200).map(|number| format!("host-{number:03}")).collect();
    let rows: Vec<(&str, f64)> = hosts.iter().map(|host| (host.as_str(), 50.5)).collect();
    let mut document = document(disks(&rows));
    document.theme.provenance = false;
    let bytes = pdf(&document).unwrap();
    let file = lopdf::Document::load_mem(&bytes).unwrap();
    let mut rules = Vec::new();
    for page in file.get_pages().into_values() {
        let content = file.get_page_content(page);
        let (mut thickness, mut lines, mut of_page) = (0.0, Vec::new(), Vec::new());
        for operation in lopdf::content::Content::decode(&content)
            .unwrap()
            .operations
        {
            match operation.operator.as_str() {
                "w" => thickness = operation.operands[0].as_float().unwrap(),
                "m" => lines.push(operation.operands[1].as_float().unwrap()),
                "S" if thickness == 0.4 => of_page.push(std::mem::take(&mut lines)),
                "S" | "f" | "f*" => lines.clear(),
                _ => {}
            }
        }
        rules.push(of_page);
    }
    let all: Vec<&Vec<f32>> = rules.iter().flatten().collect();
    assert_eq!(all.iter().map(|of_page| of_page.len()).sum::<usize>(), 200);
    // Each is a row's height of 14.4 points below the one before.
    let apart = |two: &[f32]| (two[1] - two[0] - 14.4).abs() < 0.01;
    assert!(
        all.iter().all(|of_page| of_page.windows(2).all(apart)),
        "{rules:?}"
    );
    assert!(rules.iter().all(|of_page| of_page.len() <= 1), "{rules:?}");
    assert!(all.len() > 4, "{rules:?}");
}

/// The longer of two tables beside each other is set by the typesetter and goes on where the other has ended.
#[test]
fn tables_beside_each_other_keep_their_cells_on_the_next_page() {
    let mut document = document(disks(&[("a", 95.5), ("b", 40.0)]));
    let Body::Table { table } = &document.sections[0].blocks[3].body else {
        panic!()
    };
    let half = |of: usize, count: usize| {
        let mut table = table.clone();
        let row = |number: usize| {
            let mut row = table.rows[1].clone();
            row[0].text = format!("t{of}-{number:02}");
            row
        };
        table.rows = (1..=count).map(row).collect();
        let mut block = document.sections[0].blocks[3].clone();
        (block.width, block.body) = (Width::HALF, Body::Table { table });
        block
    };
    // Pairs of every length, so that some go over the end of a page, and some of these are uneven.
    let lengths = [
        (60, 8),
        (12, 12),
        (14, 9),
        (7, 30),
        (12, 12),
        (18, 18),
        (8, 18),
        (5, 5),
    ];
    let lengths: Vec<usize> = lengths
        .iter()
        .flat_map(|(one, other)| [*one, *other])
        .collect();
    let blocks = lengths.iter().enumerate();
    let blocks = blocks.map(|(of, count)| half(of, *count)).collect();
    document.sections[0].blocks = blocks;
    let bytes = pdf(&document).unwrap();
    let text = selectable(&bytes);
    for (of, length) in lengths.iter().enumerate() {
        let each = (1..=*length).map(|number| format!("t{of}-{number:02}"));
        let wrong: Vec<String> = each
            .filter(|name| text.matches(name).count() != 1)
            .collect();
        assert!(wrong.is_empty(), "{wrong:?} in {text}");
    }
    let structure = asked("pdfinfo", &["-struct"], &bytes);
    let tags = structure.lines().map(str::trim_start);
    let cells = tags.filter(|line| line.starts_with("TD")).count();
    let of_provenance = document.provenance.len() * 5;
    assert_eq!(cells, lengths.iter().sum::<usize>() * 3 + of_provenance);
}

#[test]
fn a_look_changes_paper_and_colours_and_not_what_is_said() {
    let mut document = sample();
    let plain = asked("pdfinfo", &[], &pdf(&document).unwrap());
    assert!(plain.contains("595.276 x 841.89 pts (A4)"), "{plain}");
    document.theme = Theme {
        paper: Paper::Letter,
        landscape: true,
        dark: true,
        compact: true,
        cover: true,
        contents: true,
        provenance: false,
        ..Theme::default()
    };
    document.theme.header = Some("For the desk".to_owned());
    let bytes = pdf(&document).unwrap();
    assert!(asked("pdfinfo", &[], &bytes).contains("792 x 612 pts (letter)"));
    let text = selectable(&bytes);
    assert!(!text.contains("How this was made"), "{text}");
    assert_ne!(pdf(&document).unwrap(), pdf(&sample()).unwrap());
}

#[test]
fn the_picture_of_the_first_page_is_two_pixels_to_a_point() {
    let bytes = render(&sample(), Format::Png).unwrap().remove(0).bytes;
    let size = |at: usize| u32::from_be_bytes(bytes[at..at + 4].try_into().unwrap());
    assert_eq!((size(16), size(20)), (1191, 1684));
}

/// Of many columns, a part stands on each table, and the first column on all of them.
#[test]
fn a_table_that_is_too_wide_is_split_with_its_key_repeated() {
    let mut wide = sample();
    let column = |n: usize| Column {
        name: format!("measured_value_{n}"),
        kind: ColumnKind::Integer,
    };
    let columns: Vec<Column> = std::iter::once(Column {
        name: "host".into(),
        kind: ColumnKind::Text,
    })
    .chain((1..60).map(column))
    .collect();
    let row = |host: &str| {
        std::iter::once(Value::Text(host.into()))
            .chain((1..60).map(|n| Value::Integer(n * 1000)))
            .collect()
    };
    let table = Table {
        columns,
        rows: vec![row("alpha-host"), row("beta-host")],
        truncated: false,
    };
    let snapshot = |outcome| document(outcome);
    wide.sections = snapshot(Outcome::Rows(table.into())).sections;
    wide.sections[0]
        .blocks
        .retain(|block| block.title == "Disks in a table");
    let text = selectable(&pdf(&wide).unwrap());
    let parts = text.matches("part ").count();
    // Also on pages that lie, which take more columns than those that stand.
    assert!(parts >= 3, "{text}");
    assert_eq!(text.matches("alpha-host").count(), parts, "{text}");
    assert!(text.replace(',', "").contains("59000"));
}

/// Dates as ISO 8601 has them are a little wider than half a page has room for.
#[test]
fn a_table_is_set_smaller_before_it_is_split() {
    let column = |name: &str, kind| Column {
        name: name.into(),
        kind,
    };
    let row = |job: &str, hour: u8| {
        vec![
            Value::Text(job.into()),
            Value::Text(format!("2026-11-28 0{hour}:00")),
            Value::Number(67.6),
            Value::Text("succeeded".into()),
            Value::Integer(0),
        ]
    };
    let table = Table {
        columns: vec![
            column("job", ColumnKind::Text),
            column("started", ColumnKind::Text),
            column("took_min", ColumnKind::Number),
            column("outcome", ColumnKind::Text),
            column("failures", ColumnKind::Integer),
        ],
        rows: vec![row("nightly-ledger", 1), row("backup-payments", 3)],
        truncated: false,
    };
    let titled = "title = \"Disks in a table\"";
    let half = DASHBOARD.replace(titled, &format!("{titled}\nwidth = \"half\""));
    let mut half = document_of(&half, Outcome::Rows(table.into()));
    half.sections[0]
        .blocks
        .retain(|block| block.title == "Disks in a table");
    let text = selectable(&pdf(&half).unwrap());
    assert_eq!(text.matches("backup-payments").count(), 1, "{text}");
    assert!(!text.contains("part 1 of"), "{text}");
}

/// Fonts are provided once, before the first document that needs them.
pub(crate) fn with_fonts() {
    provide_fonts(|| {
        std::fs::read("/usr/share/fonts/truetype/dejavu/DejaVuSans.ttf")
            .into_iter()
            .collect()
    });
}

/// Armenian is in a font of Debian's package fonts-dejavu-core; Bamum is in neither.
#[test]
fn letters_of_other_scripts_come_from_the_fonts_provided_and_missing_ones_are_named() {
    with_fonts();
    let text = selectable(
        &pdf(&document(disks(&[
            ("Նավահանգիստ հյուսիս", 95.5),
            ("\u{16800} x", 1.0),
        ])))
        .unwrap(),
    );
    assert!(text.contains("Նավահանգիստ հյուսիս"), "{text}");
    assert!(
        text.contains("not shown (1)") && text.contains("U+16800"),
        "{text}"
    );
}

/// A long table's tags are packed, and are the same to those who read them.
#[test]
fn a_long_pdf_is_packed_and_stays_what_it_was() {
    let names: Vec<String> = (0..6000).map(|n| format!("host-{n:04}")).collect();
    let rows: Vec<(&str, f64)> = names.iter().map(|name| (name.as_str(), 12.0)).collect();
    let mut long = document(disks(&rows));
    long.data.clear();
    let table = long.sections[0]
        .blocks
        .iter_mut()
        .find_map(|block| match &mut block.body {
            Body::Table { table } => Some(table),
            _ => None,
        });
    let table = table.unwrap();
    let first = table.rows[0].clone();
    table.rows = names
        .iter()
        .map(|name| {
            [
                vec![maple_lark_document::document::Cell {
                    text: name.clone(),
                    ..first[0].clone()
                }],
                first[1..].to_vec(),
            ]
            .concat()
        })
        .collect();
    let bytes = pdf(&long).unwrap();
    assert!(
        String::from_utf8_lossy(&bytes).contains("/ObjStm") && bytes.len() < 1_500_000,
        "{} bytes",
        bytes.len()
    );
    assert!(
        asked("qpdf", &["--check"], &bytes).contains("No syntax or stream encoding errors found")
    );
    let text = selectable(&bytes);
    assert!(names.iter().all(|name| text.contains(name)));
    // Its heading is on every page that the table is on.
    let pages = text
        .split('\u{c}')
        .filter(|page| page.contains("host-"))
        .count();
    assert_eq!(
        text.split('\u{c}')
            .filter(|page| page.contains("host-") && page.contains("Seen"))
            .count(),
        pages
    );
    let structure = asked("pdfinfo", &["-struct"], &bytes);
    assert_eq!(
        structure
            .lines()
            .filter(|line| line.trim_start().starts_with("TD"))
            .count(),
        18_000 + 2 * 5
    );
    assert_eq!(pdf(&long).unwrap(), bytes);
}
