//! SVG turned into PNG: for mail programs that show no SVG, and for a chart by itself.

use std::sync::{Arc, LazyLock};

use maple_lark_definition::Format;
use maple_lark_document::{
    compose::slug,
    document::{Body, Document},
};
use maple_lark_time::nearest::suggestion;
use resvg::{
    tiny_skia::{Pixmap, Transform},
    usvg::{Options, Tree, fontdb::Database},
};

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
    let mut pixels = Pixmap::new(width.ceil() as u32, height.ceil() as u32)
        .ok_or_else(|| failed("it has no size".to_owned()))?;
    pixels.fill(resvg::tiny_skia::Color::WHITE);
    resvg::render(
        &tree,
        Transform::from_scale(scale, scale),
        &mut pixels.as_mut(),
    );
    packed(&pixels).map_err(|error| failed(error.to_string()))
}

/// A picture without a place that is seen through. Drawings have few colours and long runs of them: unfiltered they
/// become smaller than filtered, and at this level in a fifth of the time of the usual one.
fn packed(pixels: &Pixmap) -> Result<Vec<u8>, ::png::EncodingError> {
    let mut bytes = Vec::new();
    let mut encoder = ::png::Encoder::new(&mut bytes, pixels.width(), pixels.height());
    encoder.set_color(::png::ColorType::Rgb);
    encoder.set_depth(::png::BitDepth::Eight);
    encoder.set_deflate_compression(::png::DeflateCompression::Level(3));
    encoder.set_filter(::png::Filter::NoFilter);
    let mut writer = encoder.write_header()?;
    let mut colours = vec![0; pixels.data().len() / 4 * 3];
    for (colour, pixel) in colours
        .chunks_exact_mut(3)
        .zip(pixels.data().chunks_exact(4))
    {
        colour.copy_from_slice(&pixel[..3]);
    }
    writer.write_image_data(&colours)?;
    writer.finish()?;
    Ok(bytes)
}
