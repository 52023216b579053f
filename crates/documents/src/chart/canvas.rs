//! A plotters drawing area in CSS pixels with sub-pixel precision.

use plotters::{
    backend::SVGBackend,
    coord::Shift,
    prelude::{DrawingArea, IntoDrawingArea, PathElement, Polygon, Rectangle},
    style::{
        Color, FontTransform, RGBColor, TextStyle,
        text_anchor::{HPos, Pos, VPos},
    },
};

use crate::RenderError;

/// The SVG backend draws on whole units, so it is given ten to a pixel.
const FINE: f64 = 10.0;

pub const FONT: &str = "Inter";
/// The size of labels in pixels.
pub const LABEL: f64 = 11.0;

pub struct Canvas {
    width: f64,
    height: f64,
    body: String,
}

/// Where a text stands against its point.
#[derive(Debug, Clone, Copy)]
pub enum Anchor {
    Start,
    Middle,
    End,
}

type Area<'a> = DrawingArea<SVGBackend<'a>, Shift>;

impl Canvas {
    pub fn new(width: f64, height: f64) -> Self {
        Self { width, height, body: String::new() }
    }

    pub fn width(&self) -> f64 {
        self.width
    }

    pub fn height(&self) -> f64 {
        self.height
    }

    /// Draws into the picture, on top of what is there.
    pub fn paint(&mut self, draw: impl FnOnce(&Painter<'_>) -> Result<(), String>) -> Result<(), RenderError> {
        let size = ((self.width * FINE) as u32, (self.height * FINE) as u32);
        let mut text = String::new();
        {
            let area = SVGBackend::with_string(&mut text, size).into_drawing_area();
            let painter = Painter { area };
            draw(&painter).map_err(RenderError::Chart)?;
            painter.area.present().map_err(|error| RenderError::Chart(error.to_string()))?;
        }
        // Only what stands between the backend's own <svg> and </svg> is kept.
        let inner = text.find('>').map_or("", |start| &text[start + 1..]);
        self.body.push_str(inner.trim_end().trim_end_matches("</svg>"));
        Ok(())
    }

    pub fn finish(self, description: &str) -> String {
        let title = escape(description);
        format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {} {}\" width=\"{}\" height=\"{}\" role=\"img\"><title>{title}</title>{}</svg>",
            self.width * FINE,
            self.height * FINE,
            self.width,
            self.height,
            self.body.trim()
        )
    }
}

pub struct Painter<'a> {
    area: Area<'a>,
}

fn fine(point: (f64, f64)) -> (i32, i32) {
    ((point.0 * FINE).round() as i32, (point.1 * FINE).round() as i32)
}

fn colour(hex: &str) -> RGBColor {
    let part = |at: usize| hex.get(at..at + 2).and_then(|text| u8::from_str_radix(text, 16).ok()).unwrap_or(0);
    RGBColor(part(1), part(3), part(5))
}

impl Painter<'_> {
    pub fn line(&self, points: impl IntoIterator<Item = (f64, f64)>, hex: &str, width: f64) -> Result<(), String> {
        let points: Vec<_> = points.into_iter().map(fine).collect();
        let style = colour(hex).stroke_width((width * FINE) as u32);
        self.area.draw(&PathElement::new(points, style)).map_err(|error| error.to_string())
    }

    pub fn dashed(&self, from: (f64, f64), to: (f64, f64), hex: &str, width: f64) -> Result<(), String> {
        let length = (to.0 - from.0).hypot(to.1 - from.1);
        let at = |along: f64| (from.0 + (to.0 - from.0) * along / length, from.1 + (to.1 - from.1) * along / length);
        let mut along = 0.0;
        while along < length {
            self.line([at(along), at((along + 5.0).min(length))], hex, width)?;
            along += 9.0;
        }
        Ok(())
    }

    pub fn rectangle(&self, corner: (f64, f64), opposite: (f64, f64), hex: &str) -> Result<(), String> {
        self.area.draw(&Rectangle::new([fine(corner), fine(opposite)], colour(hex).filled())).map_err(|error| error.to_string())
    }

    pub fn dot(&self, centre: (f64, f64), radius: f64, hex: &str) -> Result<(), String> {
        let points: Vec<_> =
            (0..12).map(|i| f64::from(i) * std::f64::consts::TAU / 12.0).map(|a| fine((centre.0 + radius * a.cos(), centre.1 + radius * a.sin()))).collect();
        self.area.draw(&Polygon::new(points, colour(hex).filled())).map_err(|error| error.to_string())
    }

    /// A text whose middle line runs through `at`.
    pub fn text(&self, text: &str, at: (f64, f64), anchor: Anchor, hex: &str) -> Result<(), String> {
        let across = match anchor {
            Anchor::Start => HPos::Left,
            Anchor::Middle => HPos::Center,
            Anchor::End => HPos::Right,
        };
        let ink = colour(hex);
        let style = TextStyle::from((FONT, LABEL * FINE)).color(&ink).pos(Pos::new(across, VPos::Center)).transform(FontTransform::None);
        self.area.draw(&plotters::element::Text::new(text.to_owned(), fine(at), style)).map_err(|error| error.to_string())
    }
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

pub fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}
