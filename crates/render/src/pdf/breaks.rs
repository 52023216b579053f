//! Nothing runs past the paper: words that are wider than their line get places where they may be broken, and blocks
//! that are higher than a page may go on on the next.

use maple_lark_definition::{Theme, Width};
use maple_lark_document::document::{Block, Body, Figure, ShownTable};
use serde_json::Value;
use typst::{layout::FrameItem, text::TextItem};
use unicode_width::UnicodeWidthChar;

use super::glyphs::Faces;

/// Where a line may end without a mark: a space of no width.
const BREAK: &str = "\u{200b}";
/// Behind these a long word is broken first. The last two are spaces at which no line ends.
const SEAMS: [char; 14] = [
    '/', '-', '_', '.', '?', '&', '=', ':', ',', ';', '|', '(', '\u{a0}', '\u{202f}',
];
/// More letters than this of a text that is as wide as the page make a block that may be broken.
const MOST_LETTERS: usize = 1500;
/// More letters than this make a figure that may be broken.
const MOST_OF_A_FIGURE: usize = 150;
/// Key figures in more rows than this may run over pages.
const MOST_ROWS: usize = 6;
/// The space between two key figures, and what is around the text of each.
const BETWEEN_FIGURES: f64 = 7.0;
const AROUND_A_FIGURE: f64 = 20.5;
/// What is around the text of a notice, with its mark.
const AROUND_A_NOTICE: f64 = 34.0;
/// More lines than this are not in the head of a column.
const MOST_LINES: f64 = 8.0;
/// How large text is, as the template has it; marks of code are larger by an eighth.
const TEXT: f64 = 10.1;
const SMALL: f64 = 7.5;
const BLOCK_TITLE: f64 = 9.5;
const SECTION_TITLE: f64 = 13.0;

/// Gives words that are wider than `room` places to break, in letters of `size`; both in points.
pub fn mend(faces: &Faces, value: Option<&mut Value>, room: f64, size: f64) {
    if let Some(Value::String(text)) = value
        && let Some(broken) = broken(faces, text, room, size)
    {
        *text = broken;
    }
}

/// The same for the head of a column, in at most `MOST_LINES`: it is repeated on every page, and would leave no room for
/// rows. A longer one is shortened in its middle; the data's file has it whole.
pub fn mend_head(faces: &Faces, heading: &mut Value, room: f64, size: f64) {
    let Some(Value::String(title)) = heading.get_mut("title") else {
        return;
    };
    // Lines are not filled to their ends.
    let most = MOST_LINES * 0.8 * room.max(size);
    if faces.strong.width(title, size) > most {
        let glyphs: Vec<char> = title.chars().collect();
        let mut kept = glyphs.len();
        let shortened = |kept: usize| {
            let begin = glyphs[..kept.div_ceil(2)].iter();
            let end = glyphs[glyphs.len() - kept / 2..].iter();
            begin.chain(['…'].iter()).chain(end).collect::<String>()
        };
        while kept > 2 && faces.strong.width(&shortened(kept), size) > most {
            kept = kept * 19 / 20;
        }
        *title = shortened(kept);
    }
    mend(faces, heading.get_mut("title"), room, size);
    mend(faces, heading.get_mut("unit"), room, size);
}

fn broken(faces: &Faces, text: &str, room: f64, size: f64) -> Option<String> {
    // No letter is wider than one and a fifth of its size. What is strong is wider.
    let is_wide =
        |word: &str| word.len() as f64 * size * 1.2 > room && faces.strong.width(word, size) > room;
    let is_space = |glyph: char| glyph.is_whitespace() && !SEAMS.contains(&glyph);
    if !text.split(is_space).any(is_wide) {
        return None;
    }
    let mut broken = String::with_capacity(2 * text.len());
    for word in text.split_inclusive(is_space) {
        if !is_wide(word.trim_end()) {
            broken.push_str(word);
            continue;
        }
        for part in word.split_inclusive(SEAMS) {
            let is_wide = is_wide(part);
            for (place, glyph) in part.chars().enumerate() {
                // What has no width of its own stays with the letter before.
                if is_wide && place > 0 && glyph.width().unwrap_or(0) > 0 {
                    broken.push_str(BREAK);
                }
                broken.push(glyph);
            }
            if part.ends_with(SEAMS) {
                broken.push_str(BREAK);
            }
        }
    }
    Some(broken)
}

/// The texts of the front.
pub fn front(faces: &Faces, values: &mut Value, theme: &Theme) {
    let room = theme.room();
    let titles = titles(theme, room);
    mend(faces, values.get_mut("title"), titles, 20.0);
    mend(
        faces,
        values["theme"].get_mut("organisation"),
        room / 2.0,
        10.0,
    );
    let summary = &mut values["summary"];
    mend(
        faces,
        summary.get_mut("headline"),
        room - AROUND_A_NOTICE,
        11.0,
    );
    for line in items(summary.get_mut("lines")) {
        mend(faces, line.get_mut("text"), room - AROUND_A_NOTICE, TEXT);
    }
    let front = &mut values["front"];
    mend(faces, front.get_mut("window_label"), room, 12.5);
    mend(faces, front.get_mut("window_exact"), room, 8.0);
    // Behind the words "From" and "Filters".
    let beside = room - 44.0;
    mend(faces, front.get_mut("compared_with"), beside, 8.0);
    let sources = items(front.get_mut("sources"));
    for text in sources {
        mend(faces, Some(text), beside, 8.0);
    }
    for filter in items(front.get_mut("filters")) {
        items(Some(filter)).for_each(|text| mend(faces, Some(text), beside, 8.0));
    }
}

/// Titles stand in the contents, too, in half a page's width if there are many.
fn titles(theme: &Theme, room: f64) -> f64 {
    if theme.contents { room / 2.0 } else { room }
}

/// A section's title and the words under it.
pub fn section(faces: &Faces, value: &mut Value, theme: &Theme) {
    let room = theme.room();
    mend(
        faces,
        value.get_mut("title"),
        titles(theme, room),
        SECTION_TITLE,
    );
    parts(faces, value.get_mut("text"), room);
}

/// A block's texts but for a table's; `room` is its width in points.
pub fn block(faces: &Faces, value: &mut Value, room: f64, theme: &Theme) {
    mend(
        faces,
        value.get_mut("title"),
        titles(theme, room),
        BLOCK_TITLE,
    );
    mend(faces, value.get_mut("note"), room, SMALL);
    let body = &mut value["body"];
    parts(faces, body.get_mut("parts"), room);
    for text in ["sentence", "reason"] {
        mend(faces, body.get_mut(text), room - AROUND_A_NOTICE, TEXT);
    }
    mend(faces, body.get_mut("place"), room, 7.0);
    let table = body.get_mut("table");
    mend(
        faces,
        table.and_then(|table| table.get_mut("cut")),
        room,
        SMALL,
    );
}

fn parts(faces: &Faces, value: Option<&mut Value>, room: f64) {
    // Items stand behind their marks.
    let room = room - 18.0;
    for part in items(value) {
        mend(faces, part.get_mut("title"), room, BLOCK_TITLE);
        let listed = items(part.get_mut("items"));
        for runs in listed {
            items(Some(runs)).for_each(|run| mend(faces, run.get_mut("text"), room, TEXT));
        }
        items(part.get_mut("runs")).for_each(|run| mend(faces, run.get_mut("text"), room, TEXT));
    }
}

fn items(value: Option<&mut Value>) -> impl Iterator<Item = &mut Value> {
    value.and_then(Value::as_array_mut).into_iter().flatten()
}

/// How many key figures stand beside each other.
pub fn across(figures: &[Figure], width: Width, theme: &Theme) -> usize {
    let count = figures.len();
    let most = match count {
        _ if theme.landscape => 5,
        _ if count.is_multiple_of(4) || count > 6 => 4,
        _ => 3,
    };
    count.min((most * usize::from(width.twelfths()) / 12).max(1))
}

/// Lays out key figures: how many stand beside each other, and the size of each value's letters.
pub fn figures(faces: &Faces, figures: &[Figure], value: &mut Value, room: f64, across: usize) {
    let columns = across as f64;
    let room = (room + BETWEEN_FIGURES) / columns - BETWEEN_FIGURES - AROUND_A_FIGURE;
    value["across"] = across.into();
    value["tall"] = figures.iter().any(is_tall).into();
    for (figure, value) in figures.iter().zip(items(value.get_mut("figures"))) {
        let sizes = [16.0, 13.0, 11.0];
        let fits = |size: &&f64| faces.strong.width(&figure.value, **size) <= room;
        let size = *sizes.iter().find(fits).unwrap_or(&9.0);
        value["size"] = size.into();
        mend(faces, value.get_mut("value"), room, size);
        for text in ["title", "change", "limits"] {
            mend(faces, value.get_mut(text), room, SMALL);
        }
    }
}

fn is_tall(figure: &Figure) -> bool {
    let others = [&figure.change, &figure.limits].into_iter().flatten();
    let texts = others.chain([&figure.title, &figure.value]);
    texts.map(String::len).sum::<usize>() > MOST_OF_A_FIGURE
}

/// The columns of a table that the typesetter sets: the share of each in the block's width, and places to break in
/// heads and cells, which are one flat list. `room` is the block's width in points.
pub fn columns(faces: &Faces, table: &ShownTable, width: Width, value: &mut Value, room: f64) {
    let count = table.headings.len();
    let (many, across) = (count > 7, f64::from(width.twelfths()) / 12.0);
    let total: f64 = table.headings.iter().map(|heading| heading.weight).sum();
    // Columns take what they need: a narrow table does not sprawl over the page.
    let fits = 80.0 * across;
    let whole = if width == Width::FULL && count <= 3 {
        60.0
    } else {
        fits
    };
    let whole = whole.max(total);
    let size = if many { 7.0 } else { 8.0 };
    let one_line = value["one_line"] == true;
    // Where every text fits on one line, rows have one height and need not be measured.
    value["one_line"] = (one_line && total <= fits && !many).into();
    value["size"] = size.into();
    let shares = table.headings.iter().map(|heading| heading.weight / whole);
    let shares: Vec<f64> = shares.collect();
    let rooms: Vec<f64> = shares.iter().map(|share| share * room - 8.0).collect();
    for (heading, room) in items(value.get_mut("headings")).zip(&rooms) {
        mend_head(faces, heading, *room, size);
    }
    for (cell, room) in items(value.get_mut("cells")).zip(rooms.iter().cycle()) {
        let text = if cell.is_string() {
            Some(cell)
        } else {
            cell.get_mut("text")
        };
        mend(faces, text, *room, size);
    }
    value["shares"] = shares.into();
}

/// Whether a block may go on on the next page, as far as it is not a table, which is known by its rows.
pub fn may_break(block: &Block, across: usize) -> bool {
    let is_long = |text: &str| text.len() * 12 > MOST_LETTERS * usize::from(block.width.twelfths());
    let body = match &block.body {
        Body::Text { .. } => true,
        Body::Figures { figures } => {
            figures.len().div_ceil(across.max(1)) > MOST_ROWS || figures.iter().any(is_tall)
        }
        Body::Empty { sentence: text, .. } | Body::Failed { reason: text } => is_long(text),
        _ => false,
    };
    let around = [Some(&*block.title), block.note.as_deref()];
    body || around.into_iter().flatten().any(is_long)
}

/// A text as it was before it got places to break: whoever copies a word or looks for it finds it whole.
pub fn without_places(item: &TextItem) -> FrameItem {
    let mut whole = item.clone();
    if item.text.contains(BREAK) {
        let places: Vec<usize> = item.text.match_indices(BREAK).map(|(at, _)| at).collect();
        let moved = |at: u16| {
            let before = places.partition_point(|place| *place < usize::from(at));
            at - (before * BREAK.len()) as u16
        };
        whole.text = item.text.replace(BREAK, "");
        whole.glyphs.retain_mut(|glyph| {
            let is_place = item.text.get(glyph.range()) == Some(BREAK);
            glyph.range = moved(glyph.range.start)..moved(glyph.range.end);
            !is_place
        });
    }
    FrameItem::Text(whole)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_word_that_is_too_wide_is_broken_at_its_seams_and_else_anywhere() {
        let faces = &super::super::FIXED.faces;
        let text = "asked of http://metrics.example/api_v1?query=sum";
        // What fits stays as it is, and so do words beside one that does not.
        assert_eq!(broken(faces, text, 300.0, 9.0), None);
        let seams = broken(faces, text, 100.0, 9.0).unwrap();
        assert_eq!(
            seams.replace(BREAK, "|"),
            "asked of http:|/|/|metrics.|example/|api_|v1?|query=|sum"
        );
        let spaces = broken(faces, "12,345.67\u{a0}km", 50.0, 16.0).unwrap();
        assert_eq!(spaces.replace(BREAK, "|"), "12,|345.|67\u{a0}|km");
        let anywhere = broken(faces, "abcdé and e\u{301}fghijklm", 30.0, 9.0).unwrap();
        assert_eq!(
            anywhere.replace(BREAK, "|"),
            "abcdé and e\u{301}|f|g|h|i|j|k|l|m"
        );
    }

    #[test]
    fn a_long_head_is_shortened_in_its_middle() {
        let faces = &super::super::FIXED.faces;
        let head = |title: &str| {
            let mut heading = serde_json::json!({ "title": title });
            mend_head(faces, &mut heading, 60.0, 8.0);
            heading["title"].as_str().unwrap().replace(BREAK, "")
        };
        assert_eq!(head("Used of its room"), "Used of its room");
        let long = head(&format!("from{} to", " here".repeat(80)));
        assert!(
            long.starts_with("from here") && long.ends_with("here to"),
            "{long}"
        );
        assert!(long.contains('…') && faces.strong.width(&long, 8.0) < 60.0 * MOST_LINES);
    }
}
