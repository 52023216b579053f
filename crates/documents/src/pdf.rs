//! PDF through the Typst libraries: one fixed template, fed with the document as data.

use std::{
    collections::HashMap,
    sync::{
        LazyLock, OnceLock,
        atomic::{AtomicUsize, Ordering},
    },
};

use maple_lark_core::{
    definition::Width,
    document::{Body, Document},
};
use serde_json::Value;
use typst::{
    Library, LibraryExt, World,
    diag::{FileError, FileResult, SourceDiagnostic},
    foundations::{Bytes, Datetime, Duration, Smart},
    layout::Abs,
    syntax::{FileId, RootedPath, Source, VirtualPath, VirtualRoot},
    text::{Font, FontBook, FontInstance, FontVariant, FontVariations},
    utils::LazyHash,
};
use typst_layout::{Page, PagedDocument};
use typst_pdf::{PdfOptions, Timestamp};

use crate::{
    RenderError,
    chart::{Size, typeset::Drawings},
    palette, template_values,
};

pub(crate) const FONT_FILES: [&[u8]; 4] = [
    include_bytes!("../fonts/Inter-Regular.otf"),
    include_bytes!("../fonts/Inter-Italic.otf"),
    include_bytes!("../fonts/Inter-SemiBold.otf"),
    include_bytes!("../fonts/Inter-Bold.otf"),
];
const TEMPLATE: &str = include_str!("../templates/report.typ");

/// What never changes between documents: fonts, the standard library, the template.
struct Fixed {
    library: LazyHash<Library>,
    book: LazyHash<FontBook>,
    fonts: Vec<Font>,
    /// What labels of charts are set in.
    label_font: FontInstance,
    template: Source,
}

static FIXED: LazyLock<Fixed> = LazyLock::new(|| {
    let fonts: Vec<Font> = FONT_FILES.iter().flat_map(|file| Font::iter(Bytes::new(*file))).collect();
    Fixed {
        library: LazyHash::new(Library::default()),
        book: LazyHash::new(FontBook::from_fonts(&fonts)),
        label_font: fonts[0].clone().instantiate(FontVariant::default(), Abs::pt(8.0), &FontVariations::default()),
        fonts,
        template: Source::new(file_id("report.typ").unwrap_or_else(main_id), TEMPLATE.to_owned()),
    }
});

fn file_id(name: &str) -> Option<FileId> {
    VirtualPath::new(name).ok().map(|path| RootedPath::new(VirtualRoot::Project, path).intern())
}

fn main_id() -> FileId {
    static MAIN: OnceLock<FileId> = OnceLock::new();
    // The name is fixed and valid.
    *MAIN.get_or_init(|| file_id("report.typ").expect("a fixed valid path"))
}

/// The one document that is being laid out.
struct Job {
    files: HashMap<FileId, Bytes>,
}

impl World for Job {
    fn library(&self) -> &LazyHash<Library> {
        &FIXED.library
    }

    fn book(&self) -> &LazyHash<FontBook> {
        &FIXED.book
    }

    fn main(&self) -> FileId {
        main_id()
    }

    fn source(&self, id: FileId) -> FileResult<Source> {
        if id == main_id() { Ok(FIXED.template.clone()) } else { Err(FileError::NotFound(id.get().vpath().get_without_slash().into())) }
    }

    fn file(&self, id: FileId) -> FileResult<Bytes> {
        self.files.get(&id).cloned().ok_or_else(|| FileError::NotFound(id.get().vpath().get_without_slash().into()))
    }

    fn font(&self, index: usize) -> Option<Font> {
        FIXED.fonts.get(index).cloned()
    }

    /// Rendering has no clock.
    fn today(&self, _offset: Option<Duration>) -> Option<Datetime> {
        None
    }
}

/// The document as a tagged PDF with its title, language and bookmarks.
pub fn pdf(document: &Document) -> Result<Vec<u8>, RenderError> {
    let mut files = HashMap::new();
    let mut add = |name: &str, bytes: Bytes| {
        if let Some(id) = file_id(name) {
            files.insert(id, bytes);
        }
    };
    let mut drawings = Drawings::new(FIXED.label_font.clone());
    for (section_index, section) in document.sections.iter().enumerate() {
        for (block_index, block) in section.blocks.iter().enumerate() {
            if let Body::Chart { chart } = &block.body {
                let size = if block.width == Width::Half { Size::Half } else { Size::Full };
                add(&format!("chart-{section_index}-{block_index}.svg"), drawings.picture_for(chart, size));
            }
        }
    }
    let colours: HashMap<&str, &str> = [("ink", palette::INK), ("muted", palette::MUTED), ("rule", palette::RULE), ("shade", palette::SHADE)].into();
    let mut values = template_values(document);
    flatten_tables(&mut values);
    let data = serde_json::json!({ "document": values, "colours": colours });
    add("data.json", Bytes::new(serde_json::to_vec(&data).map_err(|error| RenderError::Layout(error.to_string()))?));

    let job = Job { files };
    let mut laid_out = typst::compile::<PagedDocument>(&job).output.map_err(in_words)?;
    let pages = laid_out.pages().iter().map(|page| Page { frame: drawings.set_in(&page.frame), ..page.clone() });
    let laid_out = PagedDocument::new(pages.collect(), std::mem::take(laid_out.info_mut()));
    let options = PdfOptions {
        ident: Smart::Custom(document.front.run_id.clone()),
        creator: Smart::Custom(Some("Maple Lark".to_owned())),
        timestamp: timestamp(document.front.made_at_seconds),
        ..PdfOptions::default()
    };
    let bytes = typst_pdf::pdf(&laid_out, &options).map_err(in_words)?;
    forget_now_and_then();
    Ok(bytes)
}

/// Layout results are remembered between documents; what the last few did not use goes.
/// Looking for it takes a while, so it is not done after every document.
fn forget_now_and_then() {
    static DOCUMENTS: AtomicUsize = AtomicUsize::new(1);
    if DOCUMENTS.fetch_add(1, Ordering::Relaxed).is_multiple_of(8) {
        comemo::evict(1);
    }
}

/// Gives each table its cells as one flat list, a text where a cell has no mark, with the
/// marks that occur, worst first: what the template would otherwise work out cell by cell.
fn flatten_tables(values: &mut Value) {
    let blocks = values["sections"].as_array_mut().into_iter().flatten().filter_map(|section| section["blocks"].as_array_mut()).flatten();
    for table in blocks.filter_map(|block| block["body"]["table"].as_object_mut()) {
        let Some(Value::Array(rows)) = table.remove("rows") else { continue };
        let count = rows.len();
        let sums_up: Vec<u64> = table.get("sums_up").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_u64).collect();
        let mut cells: Vec<Value> = Vec::new();
        for (place, row) in rows.into_iter().enumerate() {
            let Value::Array(mut row) = row else { continue };
            if sums_up.contains(&(place as u64)) {
                row.iter_mut().for_each(|cell| cell["sum"] = true.into());
            }
            cells.append(&mut row);
        }
        let has = |mark: &&str| cells.iter().any(|cell| cell["mark"] == **mark);
        let marks: Vec<&str> = ["critical", "warning", "unknown", "ok"].iter().filter(|mark| has(mark)).copied().collect();
        table.insert("count".to_owned(), count.into());
        table.insert("marks".to_owned(), marks.into());
        let plain = |mut cell: Value| if cell["mark"].is_null() && cell["sum"].is_null() { cell["text"].take() } else { cell };
        table.insert("cells".to_owned(), cells.into_iter().map(plain).collect());
    }
}

fn timestamp(seconds: i64) -> Option<Timestamp> {
    use chrono::{Datelike, Timelike};
    let at = chrono::DateTime::from_timestamp(seconds, 0)?;
    let datetime = Datetime::from_ymd_hms(at.year(), at.month() as u8, at.day() as u8, at.hour() as u8, at.minute() as u8, at.second() as u8)?;
    Some(Timestamp::new_utc(datetime))
}

fn in_words(errors: impl IntoIterator<Item = SourceDiagnostic>) -> RenderError {
    RenderError::Layout(errors.into_iter().map(|error| error.message.to_string()).collect::<Vec<_>>().join("; "))
}
