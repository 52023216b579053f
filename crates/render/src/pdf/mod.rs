//! PDF through the Typst libraries: one fixed template, fed with the document as data.

mod breaks;
mod cells;
mod finish;
mod glyphs;
mod pack;
mod provenance;
mod rows;

use std::{
    collections::HashMap,
    sync::{
        LazyLock, OnceLock,
        atomic::{AtomicUsize, Ordering},
    },
};

use base64::Engine;
use cells::Fitted;
use finish::Finish;
use glyphs::{Face, Faces};
use maple_lark_data::{
    status::Status,
    stop::{self, Stop},
};
use maple_lark_definition::{Picture, Theme, Width};
use maple_lark_document::{
    capture::pieces,
    document::{Body, Cell, Document, ShownTable},
};
use serde_json::Value;
use typst::{
    Library, LibraryExt, World,
    diag::{FileError, FileResult, SourceDiagnostic},
    foundations::{Bytes, Datetime, Duration, Smart},
    syntax::{FileId, RootedPath, Source, VirtualPath, VirtualRoot},
    text::{Font, FontBook},
    utils::{LazyHash, Scalar},
};
use typst_layout::{Page, PagedDocument};
use typst_pdf::{PdfOptions, PdfStandard, PdfStandards, Timestamp};
use typst_render::RenderOptions;

use crate::{
    RenderError,
    chart::Size,
    csv::write_csv,
    fonts::{self, FontSet, OWN},
    html, palette, place as place_of, template_values_without_rows,
    threads::by_one_thread,
};

/// The template, and what it is put together from, each by the name that the typesetter asks for.
const TEMPLATES: [(&str, &str); 2] = [
    ("report.typ", include_str!("report.typ")),
    ("parts.typ", include_str!("parts.typ")),
];

/// What never changes between documents: fonts, the standard library, the template.
struct Fixed {
    library: LazyHash<Library>,
    faces: Faces,
    templates: Vec<Source>,
}

static FIXED: LazyLock<Fixed> = LazyLock::new(|| Fixed {
    library: LazyHash::new(Library::default()),
    faces: Faces {
        plain: Face::new(&OWN.fonts[0]),
        strong: Face::new(&OWN.fonts[2]),
    },
    templates: TEMPLATES
        .into_iter()
        .filter_map(|(name, text)| Some(Source::new(file_id(name)?, text.to_owned())))
        .collect(),
});

fn file_id(name: &str) -> Option<FileId> {
    VirtualPath::new(name)
        .ok()
        .map(|path| RootedPath::new(VirtualRoot::Project, path).intern())
}

fn main_id() -> FileId {
    static MAIN: OnceLock<FileId> = OnceLock::new();
    // The name is fixed and valid.
    *MAIN.get_or_init(|| file_id("report.typ").expect("a fixed valid path"))
}

/// The one document that is being laid out.
struct Job {
    font_set: &'static FontSet,
    files: HashMap<FileId, Bytes>,
    /// The typesetter comes back here all the time, on whichever thread.
    stop: Stop,
}

impl World for Job {
    fn library(&self) -> &LazyHash<Library> {
        self.stop.check();
        &FIXED.library
    }

    fn book(&self) -> &LazyHash<FontBook> {
        self.stop.check();
        &self.font_set.book
    }

    fn main(&self) -> FileId {
        self.stop.check();
        main_id()
    }

    fn source(&self, id: FileId) -> FileResult<Source> {
        self.stop.check();
        let found = FIXED.templates.iter().find(|source| source.id() == id);
        found
            .cloned()
            .ok_or_else(|| FileError::NotFound(id.get().vpath().get_without_slash().into()))
    }

    fn file(&self, id: FileId) -> FileResult<Bytes> {
        self.stop.check();
        self.files
            .get(&id)
            .cloned()
            .ok_or_else(|| FileError::NotFound(id.get().vpath().get_without_slash().into()))
    }

    fn font(&self, index: usize) -> Option<Font> {
        self.stop.check();
        self.font_set.fonts.get(index).cloned()
    }

    /// Rendering has no clock.
    fn today(&self, _offset: Option<Duration>) -> Option<Datetime> {
        None
    }
}

/// The document as a tagged PDF with its title, language and bookmarks: PDF/A-3a and
/// PDF/UA-1 (unless it has glyphs that these do not allow), with the rows of each table
/// embedded as CSV.
pub fn pdf(document: &Document) -> Result<Vec<u8>, RenderError> {
    by_one_thread(|| written(document))
}

fn written(document: &Document) -> Result<Vec<u8>, RenderError> {
    let laid_out = pages(document)?;
    let options = |standards| PdfOptions {
        ident: Smart::Custom(document.front.run_id.clone()),
        creator: Smart::Custom(Some("Maple Lark".to_owned())),
        timestamp: timestamp(document.front.made_at_seconds),
        standards,
        ..PdfOptions::default()
    };
    let strict = PdfStandards::new(&[PdfStandard::A_3a, PdfStandard::Ua_1])
        .map_err(|error| RenderError::Layout(error.message().to_string()))?;
    // What no standard allows, such as glyphs that no font has, is no reason to send nothing.
    let bytes = typst_pdf::pdf(&laid_out, &options(strict))
        .or_else(|_| typst_pdf::pdf(&laid_out, &options(PdfStandards::default())))
        .map_err(in_words)?;
    drop(laid_out);
    forget_now_and_then();
    let packed = if bytes.len() > LONG_FILE {
        pack::packed(&bytes)
    } else {
        None
    };
    Ok(packed.unwrap_or(bytes))
}

/// A layout of more pages than this is forgotten at once.
const MANY_PAGES: usize = 20;
/// A file of more bytes than this is worth packing its objects.
const LONG_FILE: usize = 800_000;

/// The first page as a PNG, two pixels to a point.
pub fn first_page(document: &Document) -> Result<Vec<u8>, RenderError> {
    by_one_thread(|| drawn(document, 2.0))
}

/// The first page as a PNG, a pixel to a point: to be looked at beside others.
pub fn first_page_small(document: &Document) -> Result<Vec<u8>, RenderError> {
    by_one_thread(|| drawn(document, 1.0))
}

fn drawn(document: &Document, pixels: f64) -> Result<Vec<u8>, RenderError> {
    let laid_out = pages(document)?;
    let page = laid_out
        .pages()
        .first()
        .ok_or_else(|| RenderError::Layout("there is no page".to_owned()))?;
    let options = RenderOptions {
        pixel_per_pt: Scalar::new(pixels),
        ..RenderOptions::default()
    };
    let picture = typst_render::render(page, &options)
        .encode_png()
        .map_err(|error| RenderError::Image(error.to_string()))?;
    forget_now_and_then();
    Ok(picture)
}

fn pages(document: &Document) -> Result<PagedDocument, RenderError> {
    let provenance = document
        .theme
        .provenance
        .then(|| provenance::Shown::new(&document.provenance));
    let mut laying = Laying {
        document,
        provenance: provenance.as_ref(),
        files: HashMap::new(),
        finish: Finish::new(&FIXED.faces, document),
        values: template_values_without_rows(document),
    };
    // The template reads it as it is shown.
    laying.values["provenance"].take();
    for section in 0..document.sections.len() {
        laying.section(section)?;
    }
    let data = laying.around()?;
    let text = data.to_string();
    let font_set = fonts::for_text(&text);
    laying.data(data, &text, font_set);
    drop(text);
    let Laying { files, finish, .. } = laying;
    let mut laid_out = typst::compile::<PagedDocument>(&Job {
        font_set,
        files,
        stop: stop::current(),
    })
    .output
    .map_err(in_words)?;
    if laid_out.pages().len() > MANY_PAGES {
        // What the typesetter remembers of so long a layout would double what it needs; its
        // room is used for what follows.
        comemo::evict(0);
    }
    let info = std::mem::take(laid_out.info_mut());
    // What the typesetter knows of the pages goes first, and each page as soon as it is set anew: a long
    // table is not there twice.
    let pages = laid_out.pages().to_vec();
    drop(laid_out);
    let pages: Vec<Page> = finish.pages(pages);
    Ok(PagedDocument::new(pages.into(), info))
}

/// A document on its way to the typesetter: the values that its template reads, the files beside
/// them, and what is set on the pages afterwards.
struct Laying<'d> {
    document: &'d Document,
    provenance: Option<&'d provenance::Shown>,
    files: HashMap<FileId, Bytes>,
    finish: Finish<'d>,
    values: Value,
}

impl<'d> Laying<'d> {
    fn add(&mut self, name: &str, bytes: Bytes) {
        if let Some(id) = file_id(name) {
            self.files.insert(id, bytes);
        }
    }

    fn section(&mut self, index: usize) -> Result<(), RenderError> {
        let document: &'d Document = self.document;
        let section = &document.sections[index];
        self.values["sections"][index]["rows"] = section
            .rows()
            .into_iter()
            .map(|row| row.collect::<Vec<_>>())
            .collect();
        for (block_index, block) in section.blocks.iter().enumerate() {
            let room = block.width.of(self.document.theme.room(), GUTTER);
            let place = format!("{index}-{block_index}");
            // Taken out while files are added, and put back.
            let mut value = self.values["sections"][index]["blocks"][block_index].take();
            value["room"] = room.into();
            let mut across = 1;
            match &block.body {
                Body::Chart { chart } => {
                    let picture = self.finish.picture_for(chart, Size::of(block.width));
                    self.add(&format!("chart-{place}.svg"), picture);
                }
                Body::Table { table } => {
                    self.table(table, block.width, &place, &mut value["body"]["table"]);
                }
                Body::Figures { figures } => {
                    across = breaks::across(figures, block.width, &document.theme);
                    breaks::figures(&FIXED.faces, figures, &mut value["body"], room, across);
                    let lines = figures.iter().enumerate();
                    for (index, figure) in lines.filter(|(_, figure)| !figure.sparkline.is_empty())
                    {
                        let name = format!("spark-{place}-{index}.svg");
                        let line = self.finish.sparkline(&figure.sparkline);
                        self.add(&name, line);
                        value["body"]["figures"][index]["spark"] = name.into();
                    }
                }
                Body::Page { .. } => self.page(&block.body, &place, room, &mut value["body"]),
                Body::Image { picture, .. } => {
                    let name = picture_name(&format!("image-{place}"), picture);
                    self.add(&name, bytes_of(picture)?);
                    value["body"]["name"] = name.into();
                }
                _ => {}
            }
            breaks::block(&FIXED.faces, &mut value, room, &document.theme);
            value["breaks"] = breaks::may_break(block, across).into();
            self.values["sections"][index]["blocks"][block_index] = value;
        }
        breaks::section(
            &FIXED.faces,
            &mut self.values["sections"][index],
            &document.theme,
        );
        Ok(())
    }

    /// A live page in pieces that fit on sheets: its picture, or the page as the browser printed it.
    fn page(&mut self, body: &'d Body, place: &str, room: f64, value: &mut Value) {
        let Body::Page {
            parts,
            address,
            width,
            height,
            printed,
        } = body
        else {
            return;
        };
        if let Some(printed) = printed {
            self.add(&format!("page-{place}.pdf"), Bytes::new(printed.clone()));
        }
        value["place"] = place_of(address).into();
        // What stands above the first piece needs room, too.
        let sheet = self.document.theme.height() - ROOM_ABOVE;
        for (index, part) in parts.iter().enumerate() {
            let scale = (room / f64::from(part.width)).min(POINTS_A_PIXEL);
            let most = (sheet / scale).max(1.0) as u32;
            let pieces: Vec<Value> = pieces(part.height, &part.cuts, most)
                .into_iter()
                .map(|(top, bottom)| {
                    // One that is higher than a sheet is made smaller.
                    let high = f64::from(bottom - top) * scale;
                    let scale = if high > sheet {
                        scale * sheet / high
                    } else {
                        scale
                    };
                    let (name, x, y, full) = match printed {
                        Some(_) => (
                            format!("page-{place}.pdf"),
                            part.x,
                            part.y + top,
                            (*width, *height),
                        ),
                        None => (
                            format!("page-{place}-{index}.png"),
                            0,
                            top,
                            (part.width, part.height),
                        ),
                    };
                    serde_json::json!({
                        "name": name,
                        "x": f64::from(x) * scale,
                        "y": f64::from(y) * scale,
                        "width": f64::from(part.width) * scale,
                        "height": f64::from(bottom - top) * scale,
                        "full_width": f64::from(full.0) * scale,
                        "full_height": f64::from(full.1) * scale,
                    })
                })
                .collect();
            value["parts"][index]["pieces"] = pieces.into();
            if printed.is_none() {
                let png = Bytes::new(part.png.clone());
                self.add(&format!("page-{place}-{index}.png"), png);
            }
        }
    }

    fn table(&mut self, table: &'d ShownTable, width: Width, place: &str, value: &mut Value) {
        let theme = &self.document.theme;
        let room = width.of(theme.room(), GUTTER);
        // One that has not the page's width may run over pages beside another one: whose cells are there, the
        // typesetter alone knows.
        let fitted = FIXED.faces.fit(table, room);
        let breaks = table.rows.len() > MOST_UNBROKEN || is_high(table, fitted.as_deref());
        let alone = width == Width::FULL || !breaks;
        value["breaks"] = breaks.into();
        // What is set afterwards is not broken inside a row.
        let highest = theme.height() / 2.0;
        let mut fitted = fitted.filter(|parts| {
            let highest_row = parts.iter().map(Fitted::highest).fold(0.0, f64::max);
            alone && highest_row <= highest
        });
        // One that must be split has pages that lie, if it is split less there.
        let split = fitted
            .as_ref()
            .filter(|parts| width == Width::FULL && parts.len() > 1);
        let lying = split.and_then(|parts| {
            let lying = FIXED.faces.fit(table, theme.lying_room());
            lying.filter(|lying| lying.len() < parts.len())
        });
        if lying.is_some() {
            value["lying"] = true.into();
            fitted = lying;
        }
        match fitted {
            Some(parts) => {
                value["rows"] = Value::Null;
                value["count"] = table.rows.len().into();
                value["marks"] = marks(table).into();
                value["parts"] = parts.iter().map(|part| part.plan(&FIXED.faces)).collect();
                parts
                    .into_iter()
                    .for_each(|part| self.finish.table(Some(part)));
            }
            None => {
                // Every cell has a JSON form.
                value["rows"] = serde_json::to_value(&table.rows).unwrap_or_default();
                for (row, column, cell) in trends(table) {
                    let name = format!("trend-{place}-{row}-{column}.svg");
                    let line = self.finish.sparkline(&cell.trend);
                    self.add(&name, line);
                    value["rows"][row][column]["line"] = name.into();
                }
                value["one_line"] = is_of_single_lines(table).into();
                flatten(value);
                breaks::columns(&FIXED.faces, table, width, value, room);
                value["marks"] = marks(table).into();
                self.finish.table(None);
            }
        }
    }

    /// All that the template reads: the document, what is around it, and what is attached.
    fn around(&mut self) -> Result<Value, RenderError> {
        let document = self.document;
        if let Some(logo) = &document.theme.logo {
            let name = picture_name("logo", logo);
            self.add(&name, bytes_of(logo)?);
            self.values["theme"]["logo"] = name.into();
        }
        let rows = document.files().map(|data| data.table.len());
        let mut attached: Vec<Value> = Vec::new();
        if rows.sum::<usize>() <= MOST_EMBEDDED {
            for data in document.files() {
                let mut bytes = Vec::new();
                write_csv(data, document.packing.csv, &mut bytes)?;
                self.add(&data.file_name, Bytes::new(bytes));
                attached.push(serde_json::json!({ "name": data.file_name, "title": data.title }));
            }
        }
        let (header, footer) = (self.finish.header(), self.finish.footer());
        self.add("header.svg", header);
        self.add("footer.svg", footer);
        let mut data = serde_json::json!({ "colours": colours(&document.theme), "statuses": statuses(&document.theme), "attached": attached });
        if let Some(shown) = self.provenance {
            let room = document.theme.room();
            let fitted = shown.fit(&FIXED.faces, room);
            data["provenance"] = shown.values(&FIXED.faces, fitted.as_ref(), room);
            self.finish.table(fitted);
        }
        data["title"] = document.title.clone().into();
        breaks::front(&FIXED.faces, &mut self.values, &document.theme);
        data["document"] = self.values.take();
        Ok(data)
    }

    fn data(&mut self, mut data: Value, text: &str, font_set: &FontSet) {
        let missing: Vec<String> = font_set
            .missing(text)
            .iter()
            .map(|glyph| format!("U+{:04X}", *glyph as u32))
            .collect();
        data["missing"] = missing.into();
        data["backwards"] = glyphs::has_backwards(text).into();
        self.add("data.json", Bytes::from_string(data.to_string()));
    }
}

/// Layout results are remembered between documents; what the last few did not use goes.
/// Looking for it takes a while, so it is not done after every document.
fn forget_now_and_then() {
    static DOCUMENTS: AtomicUsize = AtomicUsize::new(1);
    if DOCUMENTS.fetch_add(1, Ordering::Relaxed).is_multiple_of(4) {
        comemo::evict(1);
    }
}

/// What the title above the first piece of a page takes, in points.
const ROOM_ABOVE: f64 = 64.0;
/// Points of a CSS pixel.
const POINTS_A_PIXEL: f64 = 0.75;
/// What is between two blocks side by side, in points.
const GUTTER: f64 = 14.0;
/// Tables of more rows than this together are not embedded in the PDF; its CSV has them.
const MOST_EMBEDDED: usize = 100_000;
/// A table of more rows than this may run over pages.
const MOST_UNBROKEN: usize = 8;
/// So does one whose rows are higher than this together, in points, or have more letters where it is not known how
/// high they are.
const MOST_HEIGHT: f64 = 220.0;
const MOST_LETTERS: usize = 1500;
/// A head of more letters than this may be higher than rows are.
const LONG_HEAD: usize = 100;

/// Whether a few rows, or their heads, are so high that they may not fit where the page is.
fn is_high(table: &ShownTable, fitted: Option<&[Fitted<'_>]>) -> bool {
    let heads = table.headings.iter().map(|heading| heading.title.len());
    if heads.max().unwrap_or(0) > LONG_HEAD {
        return true;
    }
    match fitted {
        Some(parts) => parts.iter().any(|part| part.rows_height() > MOST_HEIGHT),
        None => {
            let letters = table.rows.iter().flatten().map(|cell| cell.text.len());
            letters.sum::<usize>() > MOST_LETTERS
        }
    }
}

/// Whether no text is longer than its column is heavy, so that all rows have the height of one line.
fn is_of_single_lines(table: &ShownTable) -> bool {
    let fits = |row: &Vec<Cell>| {
        let mut cells = row.iter().zip(&table.headings);
        cells.all(|(cell, heading)| cell.text.chars().count() as f64 <= heading.weight)
    };
    table.rows.iter().all(fits)
}

/// The cells of a table that are lines, with their places.
fn trends(table: &ShownTable) -> impl Iterator<Item = (usize, usize, &Cell)> {
    let cells = table.rows.iter().enumerate().flat_map(|(row, cells)| {
        cells
            .iter()
            .enumerate()
            .map(move |(column, cell)| (row, column, cell))
    });
    cells.filter(|(_, _, cell)| !cell.trend.is_empty())
}

/// The marks that occur in a table, worst first.
fn marks(table: &ShownTable) -> Vec<&'static str> {
    let has = |status: Status| {
        table
            .rows
            .iter()
            .flatten()
            .any(|cell| cell.mark == Some(status))
    };
    [
        (Status::Critical, "critical"),
        (Status::Warning, "warning"),
        (Status::Unknown, "unknown"),
        (Status::Ok, "ok"),
    ]
    .into_iter()
    .filter_map(|(status, name)| has(status).then_some(name))
    .collect()
}

/// Gives a table that the typesetter sets its cells as one flat list, a text where a cell has
/// no mark: what the template would otherwise work out cell by cell.
fn flatten(value: &mut Value) {
    let Some(table) = value.as_object_mut() else {
        return;
    };
    let Some(Value::Array(rows)) = table.remove("rows") else {
        return;
    };
    let count = rows.len();
    let sums_up: Vec<u64> = table
        .get("sums_up")
        .and_then(Value::as_array)
        .into_iter()
        .flatten()
        .filter_map(Value::as_u64)
        .collect();
    let mut cells: Vec<Value> = Vec::new();
    for (place, row) in rows.into_iter().enumerate() {
        let Value::Array(mut row) = row else { continue };
        if sums_up.contains(&(place as u64)) {
            row.iter_mut().for_each(|cell| cell["sum"] = true.into());
        }
        cells.append(&mut row);
    }
    table.insert("count".to_owned(), count.into());
    let plain = |mut cell: Value| {
        if cell["mark"].is_null() && cell["sum"].is_null() && cell["line"].is_null() {
            cell["text"].take()
        } else {
            cell
        }
    };
    table.insert("cells".to_owned(), cells.into_iter().map(plain).collect());
}

/// The colours that the template paints with.
fn colours(theme: &Theme) -> Value {
    let themed = |colour: &str| {
        if theme.dark {
            palette::dark(colour)
        } else {
            colour.to_owned()
        }
    };
    serde_json::json!({
        "ink": themed(palette::INK),
        "muted": themed(palette::MUTED),
        "rule": themed(palette::RULE),
        "shade": themed(palette::SHADE),
        "paper": themed(palette::PAPER),
        "accent": palette::accent(&theme.accent, theme.dark),
    })
}

fn statuses(theme: &Theme) -> Value {
    let mut statuses = html::statuses();
    if theme.dark {
        for status in statuses
            .as_object_mut()
            .into_iter()
            .flatten()
            .map(|(_, status)| status)
        {
            let ink = palette::dark(status["ink"].as_str().unwrap_or(palette::INK));
            status["paper"] = palette::mixed(&ink, &palette::dark(palette::PAPER), 0.82).into();
            status["ink"] = ink.into();
        }
    }
    statuses
}

fn picture_name(stem: &str, picture: &Picture) -> String {
    format!(
        "{stem}.{}",
        picture
            .media_type
            .rsplit('/')
            .next()
            .unwrap_or("png")
            .trim_end_matches("+xml")
    )
}

fn bytes_of(picture: &Picture) -> Result<Bytes, RenderError> {
    let bytes = base64::engine::general_purpose::STANDARD
        .decode(&picture.base64)
        .map_err(|error| RenderError::Image(error.to_string()))?;
    Ok(Bytes::new(bytes))
}

fn timestamp(seconds: i64) -> Option<Timestamp> {
    use chrono::{Datelike, Timelike};
    let at = chrono::DateTime::from_timestamp(seconds, 0)?;
    let datetime = Datetime::from_ymd_hms(
        at.year(),
        at.month() as u8,
        at.day() as u8,
        at.hour() as u8,
        at.minute() as u8,
        at.second() as u8,
    )?;
    Some(Timestamp::new_utc(datetime))
}

fn in_words(errors: impl IntoIterator<Item = SourceDiagnostic>) -> RenderError {
    RenderError::Layout(
        errors
            .into_iter()
            .map(|error| error.message.to_string())
            .collect::<Vec<_>>()
            .join("; "),
    )
}
