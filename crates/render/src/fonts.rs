//! The fonts of documents: Inter, which comes with the program, and for glyphs that it lacks
//! the fonts that whoever runs the program provides. Nothing here reads a file.

use std::sync::{LazyLock, OnceLock};

use typst::{
    foundations::Bytes,
    text::{Font, FontBook},
    utils::LazyHash,
};

pub const FILES: [&[u8]; 3] = [
    include_bytes!("../fonts/Inter-Regular.otf"),
    include_bytes!("../fonts/Inter-Italic.otf"),
    include_bytes!("../fonts/Inter-SemiBold.otf"),
];

/// Fonts with the book in which the typesetter looks them up.
pub struct FontSet {
    pub fonts: Vec<Font>,
    pub book: LazyHash<FontBook>,
}

impl FontSet {
    fn new(fonts: Vec<Font>) -> Self {
        Self {
            book: LazyHash::new(FontBook::from_fonts(&fonts)),
            fonts,
        }
    }

    /// The first font that has the glyph.
    pub fn font_of(&self, glyph: char) -> Option<&Font> {
        self.fonts
            .iter()
            .find(|font| font.info().coverage.contains(glyph as u32))
    }

    /// The glyphs of a text that no font has, each once.
    pub fn missing(&self, text: &str) -> Vec<char> {
        let mut missing: Vec<char> = Vec::new();
        for glyph in text
            .chars()
            .filter(|glyph| !glyph.is_ascii() && !glyph.is_control() && !glyph.is_whitespace())
        {
            // Joiners and marks of direction have no shape of their own.
            let shapeless = matches!(glyph, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{fe00}'..='\u{fe0f}' | '\u{feff}');
            if !shapeless && !missing.contains(&glyph) && self.font_of(glyph).is_none() {
                missing.push(glyph);
            }
        }
        missing
    }
}

type Provider = Box<dyn Fn() -> Vec<Vec<u8>> + Send + Sync>;

static PROVIDER: OnceLock<Provider> = OnceLock::new();

/// Names where font files (their bytes) can be had for glyphs that Inter lacks. It is asked
/// once, when the first such glyph comes. Documents with such glyphs have the same bytes
/// only where the same fonts are provided.
pub fn provide_fonts(provider: impl Fn() -> Vec<Vec<u8>> + Send + Sync + 'static) {
    // Whoever came first stays.
    let _ = PROVIDER.set(Box::new(provider));
}

pub static OWN: LazyLock<FontSet> = LazyLock::new(|| {
    FontSet::new(
        FILES
            .iter()
            .flat_map(|file| Font::iter(Bytes::new(*file)))
            .collect(),
    )
});

/// The program's own fonts first, then all that are provided.
pub static ALL: LazyLock<FontSet> = LazyLock::new(|| {
    let provided = PROVIDER
        .get()
        .map(|provider| provider())
        .unwrap_or_default();
    FontSet::new(
        OWN.fonts
            .iter()
            .cloned()
            .chain(
                provided
                    .into_iter()
                    .flat_map(|file| Font::iter(Bytes::new(file))),
            )
            .collect(),
    )
});

/// The smallest font set that has what there is of a text's glyphs.
pub fn for_text(text: &str) -> &'static FontSet {
    if OWN.missing(text).is_empty() {
        &OWN
    } else {
        &ALL
    }
}
