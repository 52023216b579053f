//! A picture made of lines, areas and texts.

use plotters::{
    backend::SVGBackend,
    coord::Shift,
    element::Text,
    prelude::{DrawingArea, DrawingAreaErrorKind, DrawingBackend, IntoDrawingArea, PathElement, Polygon},
    style::{
        Color, FontTransform, RGBColor, TextStyle,
        text_anchor::{HPos, Pos, VPos},
    },
};

use crate::{RenderError, palette};

pub const FONT: &str = "Inter";
/// The size of labels in pixels.
pub const LABEL: f64 = 11.0;

/// A picture in CSS pixels: what is drawn on it, the first below the next. It can be
/// written as SVG, or set on a page by [`super::typeset`].
pub struct Canvas {
    pub width: f64,
    pub height: f64,
    pub inks: Vec<Ink>,
}

/// One thing drawn.
pub enum Ink {
    Line { points: Vec<(f64, f64)>, colour: &'static str, width: f64 },
    Area { points: Vec<(f64, f64)>, colour: &'static str },
    Text { text: String, at: (f64, f64), anchor: Anchor, colour: &'static str },
}

/// Where a text stands against its point.
#[derive(Debug, Clone, Copy)]
pub enum Anchor {
    Start,
    Middle,
    End,
}

impl Canvas {
    pub fn new(width: f64, height: f64) -> Self {
        Self { width, height, inks: Vec::new() }
    }

    pub fn line(&mut self, points: impl IntoIterator<Item = (f64, f64)>, colour: &'static str, width: f64) {
        self.inks.push(Ink::Line { points: points.into_iter().collect(), colour, width });
    }

    pub fn dashed(&mut self, from: (f64, f64), to: (f64, f64), colour: &'static str, width: f64) {
        let length = (to.0 - from.0).hypot(to.1 - from.1);
        let at = |along: f64| (from.0 + (to.0 - from.0) * along / length, from.1 + (to.1 - from.1) * along / length);
        let mut along = 0.0;
        while along < length {
            self.line([at(along), at((along + 5.0).min(length))], colour, width);
            along += 9.0;
        }
    }

    pub fn rectangle(&mut self, corner: (f64, f64), opposite: (f64, f64), colour: &'static str) {
        let points = vec![corner, (opposite.0, corner.1), opposite, (corner.0, opposite.1)];
        self.inks.push(Ink::Area { points, colour });
    }

    pub fn dot(&mut self, centre: (f64, f64), radius: f64, colour: &'static str) {
        let around = (0..12).map(|i| f64::from(i) * std::f64::consts::TAU / 12.0);
        let points = around.map(|a| (centre.0 + radius * a.cos(), centre.1 + radius * a.sin())).collect();
        self.inks.push(Ink::Area { points, colour });
    }

    /// A text whose middle line runs through `at`.
    pub fn text(&mut self, text: &str, at: (f64, f64), anchor: Anchor, colour: &'static str) {
        self.inks.push(Ink::Text { text: text.to_owned(), at, anchor, colour });
    }

    /// The picture as a self-contained SVG with a title for screen readers.
    pub fn svg(&self, description: &str) -> Result<String, RenderError> {
        let size = ((self.width * FINE) as u32, (self.height * FINE) as u32);
        let mut text = String::new();
        {
            let area = SVGBackend::with_string(&mut text, size).into_drawing_area();
            self.inks.iter().try_for_each(|ink| draw(&area, ink)).map_err(|error| RenderError::Chart(error.to_string()))?;
            area.present().map_err(|error| RenderError::Chart(error.to_string()))?;
        }
        // Only what stands between the backend's own <svg> and </svg> is kept.
        let inner = text.find('>').map_or("", |start| &text[start + 1..]);
        Ok(format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {} {}\" width=\"{}\" height=\"{}\" role=\"img\"><title>{}</title>{}</svg>",
            self.width * FINE,
            self.height * FINE,
            self.width,
            self.height,
            escape(description),
            inner.trim_end().trim_end_matches("</svg>").trim()
        ))
    }
}

/// The SVG backend draws on whole units, so it is given ten to a pixel.
const FINE: f64 = 10.0;

type Area<'a> = DrawingArea<SVGBackend<'a>, Shift>;

fn draw<'a>(area: &Area<'a>, ink: &Ink) -> Result<(), DrawingAreaErrorKind<<SVGBackend<'a> as DrawingBackend>::ErrorType>> {
    let fine = |point: &(f64, f64)| ((point.0 * FINE).round() as i32, (point.1 * FINE).round() as i32);
    match ink {
        Ink::Line { points, colour, width } => {
            let style = rgb(colour).stroke_width((width * FINE) as u32);
            area.draw(&PathElement::new(points.iter().map(fine).collect::<Vec<_>>(), style))
        }
        Ink::Area { points, colour } => area.draw(&Polygon::new(points.iter().map(fine).collect::<Vec<_>>(), rgb(colour).filled())),
        Ink::Text { text, at, anchor, colour } => {
            let across = match anchor {
                Anchor::Start => HPos::Left,
                Anchor::Middle => HPos::Center,
                Anchor::End => HPos::Right,
            };
            let ink = rgb(colour);
            let style = TextStyle::from((FONT, LABEL * FINE)).color(&ink).pos(Pos::new(across, VPos::Center)).transform(FontTransform::None);
            area.draw(&Text::new(text.clone(), fine(at), style))
        }
    }
}

fn rgb(hex: &str) -> RGBColor {
    let [red, green, blue] = palette::parts(hex);
    RGBColor(red, green, blue)
}

/// About how wide a label is. Inter's digits and letters average a little over half its
/// size; capitals and wide letters count more.
pub fn text_width(text: &str) -> f64 {
    text.chars()
        .map(|c| match c {
            'i' | 'j' | 'l' | 't' | 'f' | 'r' | 'I' | '.' | ',' | ':' | ' ' | '\u{a0}' | '-' | '/' | '|' => 0.34,
            'm' | 'w' | 'M' | 'W' | '@' | '%' => 0.88,
            c if c.is_ascii_uppercase() => 0.70,
            c if c.is_ascii() => 0.60,
            c if ('\u{2e80}'..).contains(&c) => 1.0,
            _ => 0.66,
        })
        .sum::<f64>()
        * LABEL
}

/// The text cut to a width, with an ellipsis where it was cut.
pub fn fit(text: &str, width: f64) -> String {
    if text_width(text) <= width {
        return text.to_owned();
    }
    let mut out = String::new();
    for c in text.chars() {
        if text_width(&out) + text_width("…") + text_width(c.encode_utf8(&mut [0; 4])) > width {
            break;
        }
        out.push(c);
    }
    format!("{}…", out.trim_end())
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}
