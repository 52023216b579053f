//! A picture made of lines, areas and texts.

use crate::html::escaped;
use maple_lark_data::stop;

/// Where the report's own is not there, one that is no wider: labels have their places by it.
pub const FONT: &str = "Inter, 'Liberation Sans', Arial, Helvetica, sans-serif";
/// The dashes of limits: so long, with gaps so long.
pub const LIMIT_DASHES: (f64, f64) = (5.0, 4.0);
/// The size of labels in pixels.
pub const LABEL: f64 = 11.0;

/// A picture in CSS pixels: what is drawn on it, the first below the next. It can be
/// written as SVG, or set on a page of a PDF.
pub struct Canvas {
    pub width: f64,
    pub height: f64,
    pub inks: Vec<DrawOp>,
}

/// One thing drawn.
pub enum DrawOp {
    Line {
        points: Vec<(f64, f64)>,
        colour: &'static str,
        width: f64,
        /// Dashes so long, with gaps so long.
        dash: Option<(f64, f64)>,
    },
    Area {
        points: Vec<(f64, f64)>,
        colour: &'static str,
    },
    Text {
        text: String,
        at: (f64, f64),
        anchor: Anchor,
        colour: &'static str,
    },
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
        Self {
            width,
            height,
            inks: Vec::new(),
        }
    }

    pub fn line(
        &mut self,
        points: impl IntoIterator<Item = (f64, f64)>,
        colour: &'static str,
        width: f64,
    ) {
        stop::check();
        self.inks.push(DrawOp::Line {
            points: points.into_iter().collect(),
            colour,
            width,
            dash: None,
        });
    }

    pub fn area(&mut self, points: impl IntoIterator<Item = (f64, f64)>, colour: &'static str) {
        self.inks.push(DrawOp::Area {
            points: points.into_iter().collect(),
            colour,
        });
    }

    /// Dashes along a line: so long, with gaps so long.
    pub fn dashes(
        &mut self,
        points: &[(f64, f64)],
        dash: (f64, f64),
        colour: &'static str,
        width: f64,
    ) {
        self.inks.push(DrawOp::Line {
            points: points.to_vec(),
            colour,
            width,
            dash: Some(dash),
        });
    }

    pub fn rectangle(&mut self, corner: (f64, f64), opposite: (f64, f64), colour: &'static str) {
        let points = vec![
            corner,
            (opposite.0, corner.1),
            opposite,
            (corner.0, opposite.1),
        ];
        self.inks.push(DrawOp::Area { points, colour });
    }

    pub fn dot(&mut self, centre: (f64, f64), radius: f64, colour: &'static str) {
        let around = (0..12).map(|i| f64::from(i) * std::f64::consts::TAU / 12.0);
        let points = around
            .map(|a| (centre.0 + radius * a.cos(), centre.1 + radius * a.sin()))
            .collect();
        self.inks.push(DrawOp::Area { points, colour });
    }

    /// A text whose middle line runs through `at`.
    pub fn text(&mut self, text: &str, at: (f64, f64), anchor: Anchor, colour: &'static str) {
        self.inks.push(DrawOp::Text {
            text: text.to_owned(),
            at,
            anchor,
            colour,
        });
    }

    /// The picture as a self-contained SVG with a title for screen readers. Written without
    /// a drawing library: a report has a dozen of these, and they were most of what its HTML cost.
    pub fn svg(&self, description: &str) -> String {
        let mut svg = String::with_capacity(16_384);
        svg.push_str("<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 ");
        tenths(&mut svg, self.width);
        svg.push(' ');
        tenths(&mut svg, self.height);
        svg.push_str("\" width=\"");
        tenths(&mut svg, self.width);
        svg.push_str("\" height=\"");
        tenths(&mut svg, self.height);
        svg.push_str(&format!(
            "\" role=\"img\" font-family=\"{FONT}\" font-size=\"{LABEL}\"><title>{}</title>",
            escaped(description)
        ));
        self.inks.iter().for_each(|ink| draw(&mut svg, ink));
        svg.push_str("</svg>");
        svg
    }
}

fn draw(svg: &mut String, ink: &DrawOp) {
    let through = |svg: &mut String, points: &[(f64, f64)]| {
        for (x, y) in points {
            tenths(svg, *x);
            svg.push(' ');
            tenths(svg, *y);
            svg.push(' ');
        }
    };
    match ink {
        DrawOp::Line {
            points,
            colour,
            width,
            dash,
        } => {
            svg.push_str("<polyline points=\"");
            through(svg, points);
            svg.push_str("\" fill=\"none\" stroke=\"");
            svg.push_str(colour);
            svg.push_str("\" stroke-width=\"");
            tenths(svg, *width);
            if let Some((long, gap)) = dash {
                svg.push_str("\" stroke-dasharray=\"");
                tenths(svg, *long);
                svg.push(' ');
                tenths(svg, *gap);
            }
            svg.push_str("\" stroke-linejoin=\"round\"/>");
        }
        DrawOp::Area { points, colour } => {
            svg.push_str("<polygon points=\"");
            through(svg, points);
            svg.push_str("\" fill=\"");
            svg.push_str(colour);
            svg.push_str("\"/>");
        }
        DrawOp::Text {
            text,
            at,
            anchor,
            colour,
        } => {
            let anchor = match anchor {
                Anchor::Start => "start",
                Anchor::Middle => "middle",
                Anchor::End => "end",
            };
            svg.push_str("<text x=\"");
            tenths(svg, at.0);
            svg.push_str("\" y=\"");
            tenths(svg, at.1);
            svg.push_str(&format!(
                "\" dy=\"0.5ex\" text-anchor=\"{anchor}\" fill=\"{colour}\">{}</text>",
                escaped(text)
            ));
        }
    }
}

/// A length in tenths of a pixel, which is as fine as anybody sees. There are thousands in a
/// picture, so it does without the machinery of formatting.
fn tenths(svg: &mut String, length: f64) {
    let tenths = (length * 10.0).round() as i64;
    if tenths < 0 {
        svg.push('-');
    }
    svg.push_str(itoa::Buffer::new().format(tenths.abs() / 10));
    let part = (tenths.abs() % 10) as u8;
    if part > 0 {
        svg.push('.');
        svg.push(char::from(b'0' + part));
    }
}

/// About how wide a label is. Inter's digits and letters average a little over half its
/// size; capitals and wide letters count more.
pub fn text_width(text: &str) -> f64 {
    text.chars()
        .map(|c| match c {
            'i' | 'j' | 'l' | 't' | 'f' | 'r' | 'I' | '.' | ',' | ':' | ' ' | '\u{a0}' | '-'
            | '/' | '|' => 0.34,
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

/// A name cut in its middle: names are often alike but for their ends.
pub fn fit_name(text: &str, width: f64) -> String {
    if text_width(text) <= width {
        return text.to_owned();
    }
    let letters: Vec<char> = text.chars().collect();
    for kept in (2..letters.len()).rev() {
        let (before, after) = (kept.div_ceil(2), kept / 2);
        let start: String = letters[..before].iter().collect();
        let end: String = letters[letters.len() - after..].iter().collect();
        let short = format!("{}…{}", start.trim_end(), end.trim_start());
        if text_width(&short) <= width {
            return short;
        }
    }
    fit(text, width)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_differ_at_their_ends_stay_apart() {
        let room = text_width("skarvoy-kiosk-12") - 20.0;
        let [one, other] =
            ["skarvoy-kiosk-12", "skarvoy-kiosk-13"].map(|name| fit_name(name, room));
        assert_ne!(one, other);
        assert!(one.contains('…') && one.ends_with("12"), "{one}");
        assert!(text_width(&one) <= room);
        assert_eq!(fit_name("db-1", 100.0), "db-1");
    }
}
