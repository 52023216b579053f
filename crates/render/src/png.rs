//! SVG turned into PNG: for mail programs that show no SVG, and for a chart by itself.

use std::{
    collections::hash_map::Entry,
    sync::{Arc, LazyLock},
};

use maple_lark_definition::Format;
use maple_lark_document::{
    compose::slug,
    document::{Body, Document},
};
use maple_lark_time::nearest::suggestion;
use resvg::{
    tiny_skia::{IntSize, Pixmap, PremultipliedColorU8, Transform},
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
    let white = vec![u8::MAX; 4 * width as usize * height as usize];
    let mut pixels = IntSize::from_wh(width, height)
        .and_then(|size| Pixmap::from_vec(white, size))
        .ok_or_else(|| failed("it has no size".to_owned()))?;
    resvg::render(
        &tree,
        Transform::from_scale(scale, scale),
        &mut pixels.as_mut(),
    );
    packed(&pixels).map_err(|error| failed(error.to_string()))
}

/// A picture without a place that is seen through. Drawings have few colours and long runs of them: unfiltered they
/// become smaller than filtered, and at this level in a fifth of the time of the usual one. Most have so few that a
/// byte says which: that is a third of what is packed otherwise.
fn packed(pixels: &Pixmap) -> Result<Vec<u8>, ::png::EncodingError> {
    let mut bytes = Vec::new();
    let mut encoder = ::png::Encoder::new(&mut bytes, pixels.width(), pixels.height());
    encoder.set_depth(::png::BitDepth::Eight);
    encoder.set_deflate_compression(::png::DeflateCompression::Level(3));
    encoder.set_filter(::png::Filter::NoFilter);
    let data = if let Some((palette, places)) = by_palette(pixels.pixels()) {
        encoder.set_color(::png::ColorType::Indexed);
        encoder.set_palette(palette);
        places
    } else {
        encoder.set_color(::png::ColorType::Rgb);
        without_alpha(pixels.data())
    };
    let mut writer = encoder.write_header()?;
    writer.write_image_data(&data)?;
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

fn colour(pixel: &PremultipliedColorU8) -> [u8; 3] {
    [pixel.red(), pixel.green(), pixel.blue()]
}

/// The colours one after another, and for each pixel which of them it has; nothing if there are more than a byte can
/// tell apart.
fn by_palette(pixels: &[PremultipliedColorU8]) -> Option<(Vec<u8>, Vec<u8>)> {
    let mut palette = Vec::new();
    let mut known: FxHashMap<[u8; 3], u8> = FxHashMap::default();
    let mut places = Vec::with_capacity(pixels.len());
    for run in pixels.chunk_by(|one, next| one == next) {
        let colour = colour(&run[0]);
        let place = match known.entry(colour) {
            Entry::Occupied(known) => *known.get(),
            Entry::Vacant(new) => {
                let place = u8::try_from(palette.len() / colour.len()).ok()?;
                palette.extend(colour);
                *new.insert(place)
            }
        };
        places.resize(places.len() + run.len(), place);
    }
    Some((palette, places))
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
            let bytes = packed(&drawn).unwrap();
            let header = ::png::Decoder::new(Cursor::new(&bytes))
                .read_info()
                .unwrap();
            assert_eq!(header.info().color_type, kind, "{colours} colours");
            let read = Pixmap::decode_png(&bytes).unwrap();
            assert_eq!(read.data(), drawn.data(), "{colours} colours");
        }
    }

    #[test]
    fn a_drawing_stands_on_white_and_has_a_palette() {
        let svg = r##"<svg xmlns="http://www.w3.org/2000/svg" width="20" height="10"><circle cx="10" cy="5" r="4" fill="#0a5fb4"/></svg>"##;
        let read = Pixmap::decode_png(&png(svg, 2.0).unwrap()).unwrap();
        assert_eq!((read.width(), read.height()), (40, 20));
        let at = |x, y| colour(&read.pixel(x, y).unwrap());
        assert_eq!(at(0, 0), [255, 255, 255]);
        assert_eq!(at(20, 10), [0x0a, 0x5f, 0xb4]);
        assert!(by_palette(read.pixels()).is_some());
    }
}
