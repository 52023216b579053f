//! The fonts of documents: Inter, which comes with the program, and for letters that it lacks
//! the fonts that whoever runs the program provides. Nothing here reads a file.

use std::sync::{LazyLock, OnceLock};

use typst::{
    foundations::Bytes,
    text::{Font, FontBook},
    utils::LazyHash,
};

pub const FILES: [&[u8]; 4] = [
    include_bytes!("../fonts/Inter-Regular.otf"),
    include_bytes!("../fonts/Inter-Italic.otf"),
    include_bytes!("../fonts/Inter-SemiBold.otf"),
    include_bytes!("../fonts/Inter-Bold.otf"),
];

/// Fonts with the book in which the typesetter looks them up.
pub struct Shelf {
    pub fonts: Vec<Font>,
    pub book: LazyHash<FontBook>,
}

impl Shelf {
    fn new(fonts: Vec<Font>) -> Self {
        Self {
            book: LazyHash::new(FontBook::from_fonts(&fonts)),
            fonts,
        }
    }

    /// The first font that has the letter.
    pub fn font_of(&self, letter: char) -> Option<&Font> {
        self.fonts
            .iter()
            .find(|font| font.info().coverage.contains(letter as u32))
    }

    /// The letters of a text that no font has, each once.
    pub fn missing(&self, text: &str) -> Vec<char> {
        let mut missing: Vec<char> = Vec::new();
        for letter in text
            .chars()
            .filter(|letter| !letter.is_ascii() && !letter.is_control() && !letter.is_whitespace())
        {
            // Joiners and marks of direction have no shape of their own.
            let shapeless = matches!(letter, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{fe00}'..='\u{fe0f}' | '\u{feff}');
            if !shapeless && !missing.contains(&letter) && self.font_of(letter).is_none() {
                missing.push(letter);
            }
        }
        missing
    }
}

type Provider = Box<dyn Fn() -> Vec<Vec<u8>> + Send + Sync>;

static PROVIDER: OnceLock<Provider> = OnceLock::new();

/// Names where font files (their bytes) can be had for letters that Inter lacks. It is asked
/// once, when the first such letter comes. Documents with such letters have the same bytes
/// only where the same fonts are provided.
pub fn provide_fonts(provider: impl Fn() -> Vec<Vec<u8>> + Send + Sync + 'static) {
    // Whoever came first stays.
    let _ = PROVIDER.set(Box::new(provider));
}

pub static OWN: LazyLock<Shelf> = LazyLock::new(|| {
    Shelf::new(
        FILES
            .iter()
            .flat_map(|file| Font::iter(Bytes::new(*file)))
            .collect(),
    )
});

/// The program's own fonts first, then all that are provided.
pub static ALL: LazyLock<Shelf> = LazyLock::new(|| {
    let provided = PROVIDER
        .get()
        .map(|provider| provider())
        .unwrap_or_default();
    Shelf::new(
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

/// The smallest shelf that has what there is of a text's letters.
pub fn for_text(text: &str) -> &'static Shelf {
    if OWN.missing(text).is_empty() {
        &OWN
    } else {
        &ALL
    }
}
