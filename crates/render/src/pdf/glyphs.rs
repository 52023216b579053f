//! Sets short texts glyph by glyph, without the typesetter's line breaking: labels of
//! charts, cells of tables, headers and footers.

use maple_lark_data::stop;
use rustybuzz::{Direction, Feature, GlyphInfo, GlyphPosition, UnicodeBuffer, ttf_parser::Tag};
use typst::{
    layout::{Abs, Em},
    syntax::Span,
    text::{Font, FontInstance, FontVariant, FontVariations, Glyph, Lang, TextItem},
    visualize::{Color, Paint},
};

use unicode_bidi::{BidiClass, BidiInfo, bidi_class};

use crate::{fonts, palette};

/// A font with digits that are all of one width.
pub struct Face {
    font: FontInstance,
    /// The glyphs of ASCII, most of what is set, with how wide they are; nothing for those that the font lacks.
    ascii: [Option<(u16, Em)>; 128],
}

/// The glyphs of plain texts and of those that are set apart.
pub struct Faces {
    pub plain: Face,
    pub strong: Face,
}

impl Face {
    pub fn new(font: &Font) -> Self {
        let font = instance(font);
        let mut buffer = UnicodeBuffer::new();
        buffer.push_str("0123456789");
        let shaped = rustybuzz::shape(
            font.rusty(),
            &[Feature::new(Tag::from_bytes(b"tnum"), 1, ..)],
            buffer,
        );
        // One glyph for each digit, in their order.
        let digits: Vec<u16> = shaped
            .glyph_infos()
            .iter()
            .map(|info| info.glyph_id as u16)
            .collect();
        let ascii = std::array::from_fn(|code| {
            let glyph = char::from(code as u8);
            let digit = glyph.to_digit(10).map(|digit| digit as usize);
            let id = match digit.and_then(|digit| digits.get(digit)) {
                Some(id) => *id,
                None => font.ttf().glyph_index(glyph)?.0,
            };
            Some((id, font.x_advance(id).unwrap_or_default()))
        });
        Self { font, ascii }
    }

    /// The glyph of a character, and how wide it is.
    fn glyph(&self, glyph: char) -> Option<(u16, Em)> {
        if let Some(known) = self.ascii.get(glyph as usize) {
            return *known;
        }
        let id = self.font.ttf().glyph_index(glyph)?.0;
        Some((id, self.font.x_advance(id).unwrap_or_default()))
    }

    /// Whether glyphs side by side are all that the text needs: the font has each of them,
    /// and none changes with its neighbours or runs from right to left.
    pub fn can_set(&self, text: &str) -> bool {
        text.chars().all(|glyph| {
            glyph.is_ascii_graphic()
                || glyph == ' '
                || (!is_joining(glyph) && self.glyph(glyph).is_some())
        })
    }

    /// How wide the text is in points.
    pub fn width(&self, text: &str, size: f64) -> f64 {
        stop::check();
        text.chars()
            .filter_map(|glyph| self.glyph(glyph))
            .map(|(_, advance)| advance)
            .sum::<Em>()
            .get()
            * size
    }

    /// Half the height of lower-case letters in points, by which a text is centred on a line.
    pub fn half_x_height(&self, size: f64) -> f64 {
        self.font.metrics().x_height.at(Abs::pt(size)).to_pt() / 2.0
    }

    /// The text from left to right, each item with where it begins in points, and how wide it
    /// is in all.
    pub fn set(&self, text: &str, size: f64, colour: &str) -> (Vec<(f64, TextItem)>, f64) {
        stop::check();
        if !self.can_set(text) {
            return self.shaped(text, size, colour);
        }
        let glyph = |(at, glyph): (usize, char)| {
            let (id, x_advance) = self.glyph(glyph).unwrap_or_default();
            Glyph {
                id,
                x_advance,
                x_offset: Em::zero(),
                y_advance: Em::zero(),
                y_offset: Em::zero(),
                range: at as u16..(at + glyph.len_utf8()) as u16,
                span: (Span::detached(), 0),
            }
        };
        let item = item(
            self.font.clone(),
            text,
            size,
            colour,
            text.char_indices().map(glyph).collect(),
        );
        let width = item.width().to_pt();
        (vec![(0.0, item)], width)
    }

    /// Sets a text whose glyphs change with their neighbours, run from right to left, or are
    /// in no font of our own: each stretch of one direction (Unicode Standard Annex 9) and one
    /// font for itself.
    fn shaped(&self, text: &str, size: f64, colour: &str) -> (Vec<(f64, TextItem)>, f64) {
        let ordered = BidiInfo::new(text, None);
        let (mut items, mut width) = (Vec::new(), 0.0);
        // A label is one line; what an odd character would begin as another stands behind it.
        for paragraph in &ordered.paragraphs {
            let (levels, runs) = ordered.visual_runs(paragraph, paragraph.range.clone());
            for run in runs {
                let backwards = levels[run.start].is_rtl();
                let mut stretches = self.by_font(&text[run]);
                if backwards {
                    stretches.reverse();
                }
                for (stretch, font) in stretches {
                    let glyphs = glyphs(&font, stretch, backwards);
                    let item = item(font, stretch, size, colour, glyphs);
                    let wide = item.width().to_pt();
                    items.push((width, item));
                    width += wide;
                }
            }
        }
        (items, width)
    }

    /// A text in stretches of one font: our own where it has the glyph, but the one that goes
    /// on rather than another. What no font has is left to our own.
    fn by_font<'t>(&self, text: &'t str) -> Vec<(&'t str, FontInstance)> {
        let font_set = fonts::for_text(text);
        let has = |font: &FontInstance, glyph: char| font.ttf().glyph_index(glyph).is_some();
        let mut stretches: Vec<(usize, FontInstance)> = Vec::new();
        for (at, glyph) in text.char_indices() {
            if stretches.last().is_some_and(|(_, font)| has(font, glyph)) {
                continue;
            }
            let other = if has(&self.font, glyph) {
                None
            } else {
                font_set.font_of(glyph)
            };
            stretches.push((at, other.map_or_else(|| self.font.clone(), instance)));
        }
        let ends: Vec<usize> = stretches
            .iter()
            .skip(1)
            .map(|(at, _)| *at)
            .chain([text.len()])
            .collect();
        stretches
            .into_iter()
            .zip(ends)
            .map(|((from, font), to)| (&text[from..to], font))
            .collect()
    }
}

/// Whether any of the text runs from right to left.
pub fn has_backwards(text: &str) -> bool {
    text.chars()
        .any(|glyph| !glyph.is_ascii() && matches!(bidi_class(glyph), BidiClass::R | BidiClass::AL))
}

fn item(font: FontInstance, text: &str, size: f64, colour: &str, glyphs: Vec<Glyph>) -> TextItem {
    TextItem {
        font,
        size: Abs::pt(size),
        fill: paint(colour),
        stroke: None,
        lang: Lang::ENGLISH,
        region: None,
        text: text.into(),
        glyphs,
    }
}

/// The glyphs of a text that runs one way, from left to right on the page.
fn glyphs(font: &FontInstance, text: &str, backwards: bool) -> Vec<Glyph> {
    let mut buffer = UnicodeBuffer::new();
    buffer.push_str(text);
    buffer.set_direction(if backwards {
        Direction::RightToLeft
    } else {
        Direction::LeftToRight
    });
    buffer.guess_segment_properties();
    let shaped = rustybuzz::shape(font.rusty(), &[], buffer);
    let infos = shaped.glyph_infos();
    let glyph = |(info, position): (&GlyphInfo, &GlyphPosition)| {
        let from = info.cluster as usize;
        // Several characters may be one glyph, and one character several glyphs.
        let to = infos
            .iter()
            .map(|other| other.cluster as usize)
            .filter(|other| *other > from)
            .min()
            .unwrap_or(text.len());
        Glyph {
            id: info.glyph_id as u16,
            x_advance: font.to_em(position.x_advance),
            x_offset: font.to_em(position.x_offset),
            y_advance: Em::zero(),
            y_offset: font.to_em(position.y_offset),
            range: from as u16..to as u16,
            span: (Span::detached(), 0),
        }
    };
    infos
        .iter()
        .zip(shaped.glyph_positions())
        .map(glyph)
        .collect()
}

fn instance(font: &Font) -> FontInstance {
    font.clone().instantiate(
        FontVariant::default(),
        Abs::pt(8.0),
        &FontVariations::default(),
    )
}

/// Combining marks, joiners, and scripts that are not set from left to right, one glyph
/// beside the other.
fn is_joining(glyph: char) -> bool {
    matches!(glyph, '\u{300}'..='\u{36f}' | '\u{590}'..='\u{1cff}' | '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{fb1d}'..='\u{feff}')
        || glyph.is_control()
}

pub fn paint(hex: &str) -> Paint {
    let [red, green, blue] = palette::parts(hex);
    Color::from_u8(red, green, blue, 255).into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_stretch_is_set_in_a_font_that_has_its_letters() {
        crate::tests::with_fonts();
        let face = Face::new(&fonts::OWN.fonts[0]);
        let set = |text: &str| {
            let (items, width) = face.set(text, 8.0, "#000000");
            assert!(
                items
                    .iter()
                    .all(|(_, item)| item.glyphs.iter().all(|glyph| glyph.id != 0)),
                "{text}: a glyph is in no font"
            );
            let ends: Vec<f64> = items
                .iter()
                .map(|(x, item)| x + item.width().to_pt())
                .collect();
            assert!(
                ends.last().is_none_or(|end| (end - width).abs() < 0.01),
                "{text}"
            );
            items
                .into_iter()
                .map(|(_, item)| (item.font.info().family.to_string(), item.text.to_string()))
                .collect::<Vec<_>>()
        };
        let item = |family: &str, text: &str| (family.to_owned(), text.to_owned());
        assert_eq!(set("Skarvøy"), [item("Inter", "Skarvøy")]);
        assert_eq!(
            set("Skarvøy Նավ 3"),
            [item("Inter", "Skarvøy "), item("DejaVu Sans", "Նավ 3")]
        );
        // A paragraph that begins from the right has what is said last at its left.
        assert_eq!(
            set("שלום Ørsted"),
            [item("Inter", "Ørsted"), item("DejaVu Sans", "שלום ")]
        );
    }
}
