//! SVG turned into PNG, for mail programs that show no SVG.

use std::sync::{Arc, LazyLock};

use resvg::{
    tiny_skia::{Pixmap, Transform},
    usvg::{Options, Tree, fontdb::Database},
};

use crate::{
    RenderError,
    fonts::{self, Shelf},
};

static OWN: LazyLock<Arc<Database>> = LazyLock::new(|| Arc::new(database(&fonts::OWN)));
static ALL: LazyLock<Arc<Database>> = LazyLock::new(|| Arc::new(database(&fonts::ALL)));

fn database(shelf: &Shelf) -> Database {
    let mut fonts = Database::new();
    for font in &shelf.fonts {
        fonts.load_font_data(font.data().to_vec());
    }
    fonts
}

/// The picture at `scale` pixels to one CSS pixel, on white.
pub fn png(svg: &str, scale: f32) -> Result<Vec<u8>, RenderError> {
    let failed = |error: String| RenderError::Image(error);
    let options =
        Options { fontdb: if fonts::OWN.missing(svg).is_empty() { OWN.clone() } else { ALL.clone() }, font_family: "Inter".to_owned(), ..Options::default() };
    let tree = Tree::from_str(svg, &options).map_err(|error| failed(error.to_string()))?;
    let (width, height) = (tree.size().width() * scale, tree.size().height() * scale);
    let mut pixels = Pixmap::new(width.ceil() as u32, height.ceil() as u32).ok_or_else(|| failed("it has no size".to_owned()))?;
    pixels.fill(resvg::tiny_skia::Color::WHITE);
    resvg::render(&tree, Transform::from_scale(scale, scale), &mut pixels.as_mut());
    pixels.encode_png().map_err(|error| failed(error.to_string()))
}
