//! SVG turned into PNG: for mail programs that show no SVG, and for a chart by itself.

use std::{
    collections::hash_map::Entry,
    sync::{Arc, LazyLock, Mutex, PoisonError},
};

use maple_lark_definition::Format;
use maple_lark_document::{
    compose::slug,
    document::{Body, Document},
};
use maple_lark_time::nearest::suggestion;
use resvg::{
    tiny_skia::{IntSize, Pixmap, Transform},
    usvg::{Options, Tree, fontdb::Database},
};
use rustc_hash::FxHashMap;

use crate::{
    RenderError, Rendered,
    chart::{self, Size},
    fonts::{self, FontSet},
};

static OWN: LazyLock<Arc<Database>> = LazyLock::new(|| Arc::new(database(&fonts::OWN)));
static ALL: LazyLock<Arc<Database>> = LazyLock::new(|| Arc::new(database(&fonts::ALL)));

fn database(font_set: &FontSet) -> Database {
    let mut fonts = Database::new();
    for font in &font_set.fonts {
        fonts.load_font_data(font.data().to_vec());
    }
    fonts
}

/// One chart of a document as a picture of its own, two pixels to a CSS pixel.
///
/// # Errors
/// What the document has instead, in words.
pub fn chart_alone(document: &Document, title: &str) -> Result<Rendered, NoChart> {
    let blocks = || document.sections.iter().flat_map(|section| &section.blocks);
    let named = |chart: bool| {
        blocks()
            .filter(move |block| !chart || matches!(block.body, Body::Chart { .. }))
            .map(|block| block.title.as_str())
    };
    let Some(block) = blocks().find(|block| block.title == title) else {
        return Err(NoChart::Unknown(suggestion(title, named(false))));
    };
    let Body::Chart { chart } = &block.body else {
        return Err(NoChart::Other(named(true).map(str::to_owned).collect()));
    };
    Ok(Rendered {
        format: Format::Png,
        file_name: format!("{}_{}.png", document.file_stem, slug(title)),
        media_type: "image/png",
        bytes: png(&chart::svg(chart, Size::of(block.width)), 2.0)?,
    })
}

/// Why there is no picture of a block.
#[derive(Debug, thiserror::Error)]
pub enum NoChart {
    #[error("there is no block of this title.{0}")]
    Unknown(String),
    #[error("this block is no chart; there are {}", quoted(.0))]
    Other(Vec<String>),
    #[error(transparent)]
    Image(#[from] RenderError),
}

fn quoted(titles: &[String]) -> String {
    if titles.is_empty() {
        "none".to_owned()
    } else {
        titles
            .iter()
            .map(|title| format!("\"{title}\""))
            .collect::<Vec<_>>()
            .join(", ")
    }
}

/// The picture at `scale` pixels to one CSS pixel, on white.
pub fn png(svg: &str, scale: f32) -> Result<Vec<u8>, RenderError> {
    let failed = |error: String| RenderError::Image(error);
    let options = Options {
        fontdb: if fonts::OWN.missing(svg).is_empty() {
            OWN.clone()
        } else {
            ALL.clone()
        },
        font_family: "Inter".to_owned(),
        ..Options::default()
    };
    let tree = Tree::from_str(svg, &options).map_err(|error| failed(error.to_string()))?;
    let (width, height) = (tree.size().width() * scale, tree.size().height() * scale);
    let (width, height) = (width.ceil() as u32, height.ceil() as u32);
    let mut paper = Paper::take();
    paper.pixels.clear();
    let bytes = 4 * width as usize * height as usize;
    paper.pixels.resize(bytes, u8::MAX);
    let mut pixels = IntSize::from_wh(width, height)
        .and_then(|size| Pixmap::from_vec(std::mem::take(&mut paper.pixels), size))
        .ok_or_else(|| failed("it has no size".to_owned()))?;
    resvg::render(
        &tree,
        Transform::from_scale(scale, scale),
        &mut pixels.as_mut(),
    );
    let packed = packed(&pixels, &mut paper.places);
    paper.pixels = pixels.take();
    paper.give_back();
    packed.map_err(|error| failed(error.to_string()))
}

/// The room that a picture is drawn in. It is used again: room that is new for each picture costs the system more
/// than the drawing.
#[derive(Default)]
struct Paper {
    /// Four bytes for each pixel.
    pixels: Vec<u8>,
    /// For each pixel, which colour of a palette it has.
    places: Vec<u8>,
}

/// So many papers are kept.
const PAPERS: usize = 4;
/// Larger ones are not.
const LARGEST_PAPER: usize = 8 << 20;

static KEPT: Mutex<Vec<Paper>> = Mutex::new(Vec::new());

impl Paper {
    fn take() -> Self {
        let mut kept = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
        kept.pop().unwrap_or_default()
    }

    fn give_back(self) {
        let mut kept = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.len() < PAPERS && self.pixels.capacity() <= LARGEST_PAPER {
            kept.push(self);
        }
    }
}

/// A picture without a place that is seen through. Drawings have few colours and long runs of them: unfiltered they
/// become smaller than filtered, and at this level in a fifth of the time of the usual one. Most have so few that a
/// byte says which: that is a third of what is packed otherwise.
fn packed(pixels: &Pixmap, places: &mut Vec<u8>) -> Result<Vec<u8>, ::png::EncodingError> {
    let mut bytes = Vec::new();
    let mut encoder = ::png::Encoder::new(&mut bytes, pixels.width(), pixels.height());
    encoder.set_depth(::png::BitDepth::Eight);
    encoder.set_deflate_compression(::png::DeflateCompression::Level(3));
    encoder.set_filter(::png::Filter::NoFilter);
    let without_palette;
    let data = if let Some(palette) = by_palette(pixels, places) {
        encoder.set_color(::png::ColorType::Indexed);
        encoder.set_palette(palette);
        places
    } else {
        encoder.set_color(::png::ColorType::Rgb);
        without_palette = without_alpha(pixels.data());
        &without_palette
    };
    let mut writer = encoder.write_header()?;
    writer.write_image_data(data)?;
    writer.finish()?;
    Ok(bytes)
}

fn without_alpha(pixels: &[u8]) -> Vec<u8> {
    let mut colours = vec![0; pixels.len() / 4 * 3];
    for (colour, pixel) in colours.chunks_exact_mut(3).zip(pixels.chunks_exact(4)) {
        colour.copy_from_slice(&pixel[..3]);
    }
    colours
}

/// The colours one after another, and in `places` for each pixel which of them it has; nothing if there are more than
/// a byte can tell apart.
fn by_palette(pixels: &Pixmap, places: &mut Vec<u8>) -> Option<Vec<u8>> {
    let (mut palette, mut known) = (Vec::new(), FxHashMap::default());
    let mut place_of = |pixel: [u8; 4]| {
        Some(match known.entry(pixel) {
            Entry::Occupied(known) => *known.get(),
            Entry::Vacant(new) => {
                let place = u8::try_from(palette.len() / 3).ok()?;
                palette.extend(&pixel[..3]);
                *new.insert(place)
            }
        })
    };
    places.clear();
    let width = pixels.width() as usize;
    let mut before: &[[u8; 4]] = &[];
    let (pixels, _) = pixels.data().as_chunks::<4>();
    for row in pixels.chunks(width) {
        // Most of a drawing goes on downwards.
        if row == before {
            places.extend_from_within(places.len() - row.len()..);
            continue;
        }
        before = row;
        let mut rest = row;
        while let Some(&pixel) = rest.first() {
            let run = run_of(pixel, rest);
            places.resize(places.len() + run, place_of(pixel)?);
            rest = &rest[run..];
        }
    }
    Some(palette)
}

/// How many pixels at the beginning of some are the same as one, many of them compared at once.
fn run_of(pixel: [u8; 4], pixels: &[[u8; 4]]) -> usize {
    const AT_ONCE: usize = 16;
    let many = [pixel; AT_ONCE];
    let whole = pixels
        .as_chunks()
        .0
        .iter()
        .take_while(|chunk| **chunk == many)
        .count()
        * AT_ONCE;
    whole
        + pixels[whole..]
            .iter()
            .take_while(|one| **one == pixel)
            .count()
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;

    use super::*;

    /// A picture a pixel high, with as many colours as pixels.
    fn picture(colours: u32) -> Pixmap {
        let data = (0..colours).flat_map(|colour| {
            let [low, high, ..] = colour.to_le_bytes();
            [low, high, 7, u8::MAX]
        });
        let size = IntSize::from_wh(colours, 1).unwrap();
        Pixmap::from_vec(data.collect(), size).unwrap()
    }

    #[test]
    fn a_picture_keeps_its_pixels_by_palette_or_without() {
        let kinds = [
            (1, ::png::ColorType::Indexed),
            (256, ::png::ColorType::Indexed),
            (257, ::png::ColorType::Rgb),
        ];
        for (colours, kind) in kinds {
            let drawn = picture(colours);
            let bytes = packed(&drawn, &mut Vec::new()).unwrap();
            let header = ::png::Decoder::new(Cursor::new(&bytes))
                .read_info()
                .unwrap();
            assert_eq!(header.info().color_type, kind, "{colours} colours");
            let read = Pixmap::decode_png(&bytes).unwrap();
            assert_eq!(read.data(), drawn.data(), "{colours} colours");
        }
    }

    #[test]
    fn runs_and_rows_that_come_again_keep_their_pixels() {
        for width in [1, 15, 16, 17, 40, 100] {
            // Rows are the same two and two, with runs of every length.
            let data = (0..12u32).flat_map(|row| {
                (0..width).flat_map(move |column: u32| {
                    let tint = ((column * (row / 2 + 1)).isqrt() % 7) as u8;
                    [tint, 0, 9, u8::MAX]
                })
            });
            let size = IntSize::from_wh(width, 12).unwrap();
            let drawn = Pixmap::from_vec(data.collect(), size).unwrap();
            let read = Pixmap::decode_png(&packed(&drawn, &mut Vec::new()).unwrap()).unwrap();
            assert_eq!(read.data(), drawn.data(), "{width} pixels wide");
        }
    }

    #[test]
    fn nothing_of_an_earlier_picture_is_left_on_its_paper() {
        let drawing = |size: u32| {
            let svg = format!(
                r##"<svg xmlns="http://www.w3.org/2000/svg" width="{size}" height="{size}"><circle cx="5" cy="5" r="{size}" fill="#0a5fb4"/></svg>"##
            );
            png(&svg, 1.0).unwrap()
        };
        let empty = || {
            png(
                r#"<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"/>"#,
                1.0,
            )
            .unwrap()
        };
        let first = empty();
        for size in [9, 100, 30] {
            drawing(size);
            assert_eq!(empty(), first);
        }
        assert_eq!(drawing(30), drawing(30));
    }

    #[test]
    fn a_drawing_stands_on_white_and_has_a_palette() {
        let svg = r##"<svg xmlns="http://www.w3.org/2000/svg" width="20" height="10"><circle cx="10" cy="5" r="4" fill="#0a5fb4"/></svg>"##;
        let read = Pixmap::decode_png(&png(svg, 2.0).unwrap()).unwrap();
        assert_eq!((read.width(), read.height()), (40, 20));
        let at = |x, y| read.pixel(x, y).unwrap();
        let colour = |x, y| [at(x, y).red(), at(x, y).green(), at(x, y).blue()];
        assert_eq!(colour(0, 0), [255, 255, 255]);
        assert_eq!(colour(20, 10), [0x0a, 0x5f, 0xb4]);
        assert!(by_palette(&read, &mut Vec::new()).is_some());
    }
}
