//! Fits the texts of a table into columns: how wide each is, where lines break, how high
//! rows are. The typesetter then lays out a table of empty rows, which costs it little.

use maple_lark_document::document::{Align, ShownTable};
use serde_json::{Value, json};

use super::{breaks, glyphs::Faces};

/// What is left and right of a cell's text, and above and below it, in points.
const SIDE: f64 = 4.0;
const ABOVE: f64 = 3.6;
/// A column that must give way is not made narrower than this.
const LEAST: f64 = 34.0;
/// How wide a line over time is drawn, and at the least where its table has little room.
const TREND: f64 = 70.0;
const NARROW_TREND: f64 = 44.0;
/// The longest text without a space that a column is widened for.
const LONGEST_WORD: f64 = 110.0;
/// Letters are not made smaller than this, in points, to keep rows on one line.
const READABLE: f64 = 7.5;
/// More lines than this are not set in one cell.
const MOST_LINES: usize = 12;
/// Of a table of more rows than this, the typesetter lays out several as one, which are no higher than so many points
/// together: they stay together at the end of a page.
const MANY_ROWS: usize = 1000;
const HIGHEST_AT_ONCE: f64 = 75.0;

/// A table that is ready to be set, or a part of its columns.
pub struct Fitted<'a> {
    pub table: &'a ShownTable,
    /// The columns of the table that are here; the first is there in every part.
    pub columns: Vec<usize>,
    pub widths: Vec<f64>,
    pub size: f64,
    rows: Vec<FittedRow>,
    /// How many rows the typesetter lays out as one.
    at_once: usize,
}

struct FittedRow {
    height: f64,
    /// For each column, what its lines are if they are several.
    broken: Vec<Option<Vec<String>>>,
}

impl Faces {
    /// Whether a table can be set cell by cell.
    fn can_set(&self, table: &ShownTable) -> bool {
        table
            .rows
            .iter()
            .flatten()
            .all(|cell| self.plain.can_set(&cell.text))
    }

    /// The table in as many parts as the width makes necessary; nothing if its texts need
    /// the typesetter.
    pub fn fit<'a>(&self, table: &'a ShownTable, room: f64) -> Option<Vec<Fitted<'a>>> {
        // Letters that are a little smaller are better than a table in parts, or a date on two lines.
        let sizes: &[f64] = if table.headings.len() > 7 {
            &[7.0]
        } else {
            &[8.0, 7.5, 7.0]
        };
        self.fit_in(table, room, sizes)
    }

    /// The same in letters of the first size, or of one that leaves it whole or that breaks nothing.
    pub fn fit_in<'a>(
        &self,
        table: &'a ShownTable,
        room: f64,
        sizes: &[f64],
    ) -> Option<Vec<Fitted<'a>>> {
        if !self.can_set(table) {
            return None;
        }
        let needs = |size: f64| -> Vec<Need> {
            let columns = 0..table.headings.len();
            columns
                .map(|column| self.need(table, column, size))
                .collect()
        };
        let (mut size, mut needed) = (sizes[0], needs(sizes[0]));
        for smaller in &sizes[1..] {
            let whole = parts_of(&needed, room).len() == 1;
            if whole && (has_room(&needed, room) || *smaller < READABLE) {
                break;
            }
            let needs = needs(*smaller);
            if parts_of(&needs, room).len() == 1 && (!whole || has_room(&needs, room)) {
                (size, needed) = (*smaller, needs);
            }
        }
        let parts = parts_of(&needed, room);
        let fit = |columns: Vec<usize>| {
            let widths = widths(
                &columns
                    .iter()
                    .map(|column| &needed[*column])
                    .collect::<Vec<_>>(),
                room,
            );
            self.fitted(table, columns, widths, size)
        };
        Some(parts.into_iter().map(fit).collect())
    }

    /// The table with columns of these widths; nothing if its texts need the typesetter.
    pub fn fit_to<'a>(
        &self,
        table: &'a ShownTable,
        widths: Vec<f64>,
        size: f64,
    ) -> Option<Fitted<'a>> {
        let columns = (0..widths.len()).collect();
        self.can_set(table)
            .then(|| self.fitted(table, columns, widths, size))
    }

    fn fitted<'a>(
        &self,
        table: &'a ShownTable,
        columns: Vec<usize>,
        widths: Vec<f64>,
        size: f64,
    ) -> Fitted<'a> {
        let rows = (0..table.rows.len())
            .map(|row| self.row(table, row, &columns, &widths, size))
            .collect();
        let mut fitted = Fitted {
            table,
            columns,
            widths,
            size,
            rows,
            at_once: 1,
        };
        if fitted.by_rows() && fitted.count() > MANY_ROWS {
            let at_once = HIGHEST_AT_ONCE / fitted.highest();
            fitted.at_once = (at_once as usize).max(1);
        }
        fitted
    }

    fn need(&self, table: &ShownTable, column: usize, size: f64) -> Need {
        let heading = &table.headings[column];
        if heading.trend {
            let title = self.strong.width(&heading.title, size) + 2.0 * SIDE;
            return Need {
                least: NARROW_TREND,
                unbroken: NARROW_TREND.max(title),
                natural: TREND.max(title),
            };
        }
        let mut need = Need {
            least: LEAST,
            unbroken: LEAST,
            natural: LEAST,
        };
        let whole = if heading.unit.is_empty() {
            heading.title.clone()
        } else {
            format!("{} ({})", heading.title, heading.unit)
        };
        for word in whole.split_whitespace() {
            let width = self.strong.width(word, size) + 2.0 * SIDE;
            need.least = need.least.max(width.min(LONGEST_WORD));
            need.unbroken = need.unbroken.max(width);
        }
        for cell in table.rows.iter().map(|row| &row[column]) {
            let width = self.plain.width(&cell.text, size)
                + 2.0 * SIDE
                + if cell.mark.is_some() { 1.7 * size } else { 0.3 };
            need.unbroken = need.unbroken.max(width);
            if width > need.least {
                let unbroken = if heading.align == Align::Right {
                    width
                } else {
                    cell.text
                        .split_whitespace()
                        .map(|word| self.plain.width(word, size))
                        .fold(0.0, f64::max)
                        + 2.0 * SIDE
                };
                need.least = need.least.max(unbroken.min(LONGEST_WORD));
            }
        }
        // A long heading may stand on two lines.
        let on_two = self.strong.width(&whole, size) * 0.55 + 2.0 * SIDE;
        need.natural = need.unbroken.max(on_two);
        need
    }

    fn row(
        &self,
        table: &ShownTable,
        row: usize,
        columns: &[usize],
        widths: &[f64],
        size: f64,
    ) -> FittedRow {
        let cells = columns.iter().zip(widths);
        let broken: Vec<Option<Vec<String>>> = cells
            .map(|(column, width)| {
                let cell = &table.rows[row][*column];
                if table.headings[*column].trend {
                    return None;
                }
                let room = width - 2.0 * SIDE - if cell.mark.is_some() { 1.6 * size } else { 0.0 };
                (self.plain.width(&cell.text, size) > room)
                    .then(|| self.lines(&cell.text, room, size))
            })
            .collect();
        let lines = broken.iter().flatten().map(Vec::len).max().unwrap_or(1);
        FittedRow {
            height: size * 0.9 + 2.0 * ABOVE + (lines - 1) as f64 * pitch(size),
            broken,
        }
    }

    /// Breaks a text at spaces, and a word that is too long by itself into parts of one length.
    fn lines(&self, text: &str, room: f64, size: f64) -> Vec<String> {
        let mut lines = vec![String::new()];
        let mut taken = 0.0;
        for word in text.split_inclusive([' ', '/', '-']) {
            let width = self.plain.width(word.trim_end(), size);
            if taken > 0.0 && taken + width > room {
                lines.push(String::new());
                taken = 0.0;
            }
            let part = if width > room {
                // Up to a letter more in the earlier ones, so that no rest is left.
                (width / (width / (room - size).max(size)).ceil() + size).min(room)
            } else {
                room
            };
            for glyph in word.chars() {
                let width = self.plain.width(glyph.encode_utf8(&mut [0; 4]), size);
                if taken > 0.0 && taken + width > part && glyph != ' ' {
                    lines.push(String::new());
                    taken = 0.0;
                }
                if let Some(line) = lines.last_mut() {
                    line.push(glyph);
                }
                taken += width;
            }
        }
        if lines.len() > MOST_LINES {
            lines.truncate(MOST_LINES);
            if let Some(last) = lines.last_mut() {
                last.push('…');
            }
        }
        lines
    }
}

/// The columns in as many parts as the room makes necessary, each of which begins with the first.
fn parts_of(needs: &[Need], room: f64) -> Vec<Vec<usize>> {
    let mut parts: Vec<Vec<usize>> = Vec::new();
    let mut taken = 0.0;
    for (column, need) in needs.iter().enumerate() {
        match parts.last_mut() {
            Some(part) if taken + need.least <= room => {
                part.push(column);
                taken += need.least;
            }
            Some(_) => {
                parts.push(vec![0, column]);
                taken = needs[0].least + need.least;
            }
            None => {
                parts.push(vec![column]);
                taken = need.least;
            }
        }
    }
    parts
}

/// Whether no cell must be broken; a long heading may stand on several lines all the same.
fn has_room(needs: &[Need], room: f64) -> bool {
    needs.iter().map(|need| need.unbroken).sum::<f64>() <= room
}

fn pitch(size: f64) -> f64 {
    size * 1.25
}

/// What a column needs in points: so that nothing is broken inside a word, so that no cell is broken, and so that it
/// looks well: its heading on two lines, lines over time as wide as they should be.
struct Need {
    least: f64,
    unbroken: f64,
    natural: f64,
}

/// Columns take what they need, and a little air. Where there is not enough room, headings and lines over time give way
/// first, then the widest columns.
fn widths(needs: &[&Need], room: f64) -> Vec<f64> {
    let natural: f64 = needs.iter().map(|need| need.natural).sum();
    if natural <= room {
        let air = ((room - natural) / needs.len() as f64).min(26.0);
        return needs.iter().map(|need| need.natural + air).collect();
    }
    let unbroken: f64 = needs.iter().map(|need| need.unbroken).sum();
    if unbroken <= room {
        let share = (room - unbroken) / (natural - unbroken);
        let between = |need: &&Need| need.unbroken + share * (need.natural - need.unbroken);
        return needs.iter().map(between).collect();
    }
    let within = |most: f64| {
        needs
            .iter()
            .map(move |need| need.unbroken.min(need.least.max(most)))
    };
    let (mut low, mut high) = (0.0, room);
    for _ in 0..40 {
        let middle = (low + high) / 2.0;
        if within(middle).sum::<f64>() > room {
            high = middle
        } else {
            low = middle
        }
    }
    let widths: Vec<f64> = within(low).collect();
    // Words that no column is wide enough for are broken.
    let shrink = (room / widths.iter().sum::<f64>()).min(1.0);
    widths.into_iter().map(|width| width * shrink).collect()
}

/// A line of text in a cell, from the cell's upper left corner to its baseline.
pub struct Line<'a> {
    pub text: &'a str,
    pub x: f64,
    pub baseline: f64,
}

impl Fitted<'_> {
    /// Whether the typesetter lays it out by whole rows: each of its cells costs it as much as a row.
    pub fn by_rows(&self) -> bool {
        self.columns.len() > 1
    }

    /// Where a column begins.
    pub fn left(&self, place: usize) -> f64 {
        self.widths[..place].iter().copied().map(round).sum()
    }

    pub fn width(&self) -> f64 {
        self.widths.iter().sum()
    }

    pub fn height(&self, row: usize) -> f64 {
        self.rows[row].height
    }

    /// The height of its highest row.
    pub fn highest(&self) -> f64 {
        self.rows.iter().map(|row| row.height).fold(0.0, f64::max)
    }

    /// The height of all rows together.
    pub fn rows_height(&self) -> f64 {
        self.rows.iter().map(|row| row.height).sum()
    }

    pub fn count(&self) -> usize {
        self.rows.len()
    }

    /// The rows that the typesetter lays out as the one of this number, each with how far below its beginning it
    /// stands. The first, with the headings, has none of them.
    pub fn rows_of(&self, laid_out: usize) -> impl Iterator<Item = (usize, f64)> {
        let all = laid_out.checked_sub(1).map_or(0..0, |before| {
            let first = (before * self.at_once).min(self.count());
            first..(first + self.at_once).min(self.count())
        });
        all.scan(0.0, |below, row| {
            let at = *below;
            *below += self.height(row);
            Some((row, at))
        })
    }

    /// What the template needs to lay out the table of empty cells.
    pub fn plan(&self, faces: &Faces) -> Value {
        let headings = self
            .columns
            .iter()
            .zip(&self.widths)
            .map(|(column, width)| {
                let mut heading = json!(self.table.headings[*column]);
                breaks::mend_head(faces, &mut heading, width - 2.0 * SIDE, self.size);
                heading
            });
        let headings: Vec<Value> = headings.collect();
        let heights = self.rows.chunks(self.at_once);
        let mut heights: Vec<f64> = heights
            .map(|rows| round(rows.iter().map(|row| row.height).sum()))
            .collect();
        let count = heights.len();
        if heights.iter().all(|height| *height == heights[0]) {
            heights.truncate(1);
        }
        let widths: Vec<f64> = self.widths.iter().map(|width| round(*width)).collect();
        json!({ "headings": headings, "widths": widths, "heights": heights, "size": self.size, "count": count })
    }

    /// The lines of a cell. `shift` is what stands before the first of them.
    pub fn lines<'s>(
        &'s self,
        faces: &Faces,
        row: usize,
        place: usize,
        strong: bool,
        shift: f64,
    ) -> Vec<Line<'s>> {
        let column = self.columns[place];
        let (cell, width) = (&self.table.rows[row][column], self.widths[place]);
        let face = if strong { &faces.strong } else { &faces.plain };
        let line = |number: usize, text: &'s str| {
            let text = text.trim_end();
            let x = match self.table.headings[column].align {
                Align::Right => width - SIDE - face.width(text, self.size),
                Align::Left => SIDE + shift,
            };
            Line {
                text,
                x,
                baseline: ABOVE + self.size * 0.82 + number as f64 * pitch(self.size),
            }
        };
        match &self.rows[row].broken[place] {
            Some(lines) => lines
                .iter()
                .enumerate()
                .map(|(number, text)| line(number, text))
                .collect(),
            // What a line shows need not be said beside it.
            None if cell.text.is_empty() || !cell.trend.is_empty() => Vec::new(),
            None => vec![line(0, &cell.text)],
        }
    }
}

fn round(points: f64) -> f64 {
    (points * 100.0).round() / 100.0
}

#[cfg(test)]
mod tests {
    use maple_lark_document::document::{Align, Cell, Heading, ShownTable};

    use super::{Faces, TREND};

    fn heading(title: &str) -> Heading {
        Heading {
            title: title.to_owned(),
            unit: String::new(),
            align: Align::Left,
            weight: 1.0,
            trend: false,
        }
    }

    fn table(headings: Vec<Heading>, cells: &[&str]) -> ShownTable {
        let cell = |text: &&str| Cell {
            text: (*text).to_owned(),
            ..Cell::default()
        };
        ShownTable {
            headings,
            rows: vec![cells.iter().map(cell).collect()],
            sums_up: Vec::new(),
            cut: None,
            file: String::new(),
            judged: Default::default(),
        }
    }

    fn natural(faces: &Faces, table: &ShownTable, size: f64) -> f64 {
        let columns = 0..table.headings.len();
        columns
            .map(|column| faces.need(table, column, size).natural)
            .sum()
    }

    #[test]
    fn letters_are_a_little_smaller_where_that_leaves_dates_on_one_line() {
        let faces = &super::super::FIXED.faces;
        let table = table(
            vec![heading("Disk"), heading("Full on")],
            &["archive-01", "between 29 Nov and 4 Dec 2026"],
        );
        let natural = |size: f64| natural(faces, &table, size);
        let fitted = |room: f64| {
            let parts = faces.fit(&table, room).unwrap();
            assert_eq!(parts.len(), 1);
            let broken = parts[0].rows[0].broken.iter().any(Option::is_some);
            (parts[0].size, broken)
        };
        assert_eq!(fitted(natural(8.0) + 0.1), (8.0, false));
        assert_eq!(fitted(natural(8.0) - 0.1), (7.5, false));
        assert_eq!(fitted(natural(7.5) + 0.1), (7.5, false));
        // What is broken in any case keeps its size.
        assert_eq!(fitted(natural(7.5) - 0.1), (8.0, true));
    }

    #[test]
    fn headings_and_lines_over_time_give_way_before_a_date_is_broken() {
        let faces = &super::super::FIXED.faces;
        let mut headings = vec![
            heading("Disk"),
            heading("Full on"),
            heading("Was wrong by so many points"),
        ];
        headings.push(Heading {
            trend: true,
            ..heading("Used")
        });
        let table = table(headings, &["archive-01", "21 January 2027", "0.05", ""]);
        let natural = natural(faces, &table, 8.0);
        let widths = |room: f64| {
            let parts = faces.fit(&table, room).unwrap();
            let fitted = &parts[0];
            assert_eq!((parts.len(), fitted.size), (1, 8.0));
            assert!(fitted.rows[0].broken.iter().all(Option::is_none));
            fitted.widths.clone()
        };
        let (wide, narrow) = (widths(natural + 0.1), widths(natural - 30.0));
        assert!(wide[3] >= TREND && narrow[3] < TREND);
        assert!(narrow[2] < wide[2] - 5.0, "{wide:?} {narrow:?}");
        // The others keep what they need.
        for place in 0..2 {
            assert!((narrow[place] - wide[place]).abs() < 0.1);
        }
        assert!((narrow.iter().sum::<f64>() - natural + 30.0).abs() < 0.01);
    }

    #[test]
    fn a_unit_stays_within_its_column_where_there_is_little_room() {
        let faces = &super::super::FIXED.faces;
        let mut headings = vec![heading("Note"), heading("Rate")];
        headings[1].unit = "transactions".to_owned();
        let table = table(
            headings,
            &["as long as it takes ".repeat(20).as_str(), "12"],
        );
        let parts = faces.fit(&table, 200.0).unwrap();
        let fitted = &parts[0];
        assert_eq!((parts.len(), fitted.size), (1, 8.0));
        let unit = faces.plain.width("(transactions)", 8.0);
        let widths = &fitted.widths;
        assert!(widths[1] - 2.0 * super::SIDE >= unit, "{widths:?}");
        // One that is too long for any column is broken as its title is.
        let mut long = serde_json::json!({ "title": "Rate", "unit": "transactions".repeat(5) });
        super::breaks::mend_head(faces, &mut long, 60.0, 8.0);
        let unit = long["unit"].as_str().unwrap();
        assert!(unit.len() > 60, "{unit}");
    }

    #[test]
    fn a_word_that_is_too_long_is_broken_into_parts_of_one_length() {
        let faces = &super::super::FIXED.faces;
        let digest = "4f40249d8920459856dd1489dba893437211ef836f7f07c21405d251e66bbde8";
        let whole = faces.plain.width(digest, 7.5);
        let lines = faces.lines(digest, whole * 0.55, 7.5);
        assert_eq!(lines.concat(), digest);
        let lengths: Vec<usize> = lines.iter().map(String::len).collect();
        assert_eq!(lengths.len(), 2);
        assert!(lengths[0].abs_diff(lengths[1]) <= 4, "{lengths:?}");
        // Words that have room stand beside each other as before.
        assert_eq!(
            faces.lines("Ferry operations database", whole * 0.3, 7.5),
            ["Ferry operations ", "database"]
        );
    }
}
