//! A picture made of lines, areas and texts.

use crate::html::escaped;
use maple_lark_data::stop;

/// Where the report's own is not there, one that is no wider: labels have their places by it.
pub const FONT: &str = "Inter, 'Liberation Sans', Arial, Helvetica, sans-serif";
/// The dashes of limits: so long, with gaps so long.
pub const LIMIT_DASHES: (f64, f64) = (5.0, 4.0);
/// What has so many points is written once where it is shown twice.
const MANY: usize = 24;
/// The size of labels in pixels.
pub const LABEL: f64 = 11.0;

/// A picture in CSS pixels: what is drawn on it, the first below the next. It can be
/// written as SVG, or set on a page of a PDF.
pub struct Canvas {
    pub width: f64,
    pub height: f64,
    pub inks: Vec<DrawOp>,
    /// Whether it answers its reader: then it keeps what things say, and where values over time are.
    answers: bool,
    /// What each thing that is drawn says, by its place among them.
    says: Vec<(usize, Says)>,
    /// Where values over time are drawn: left, right, top and bottom, a frame each.
    frames: Vec<[f64; 4]>,
}

/// What something that is drawn says to a reader who asks.
#[derive(Debug, Clone, PartialEq)]
enum Says {
    /// It is a part of this series.
    Series(usize),
    Words(String),
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
            answers: false,
            says: Vec::new(),
            frames: Vec::new(),
        }
    }

    /// The same, if `answers`, with what its reader can ask for.
    pub fn answering(self, answers: bool) -> Self {
        Self { answers, ..self }
    }

    /// What is drawn last says these words.
    pub fn says(&mut self, words: impl FnOnce() -> String) {
        if self.answers && !self.inks.is_empty() {
            let words = Says::Words(words());
            self.says.push((self.inks.len() - 1, words));
        }
    }

    /// What is drawn from here on is of this series, as long as `draw` draws.
    pub fn series(&mut self, number: usize, draw: impl FnOnce(&mut Self)) {
        let before = self.inks.len();
        draw(self);
        if self.answers {
            let drawn = before..self.inks.len();
            self.says.extend(drawn.map(|at| (at, Says::Series(number))));
        }
    }

    /// Values over time are drawn here.
    pub fn framed(&mut self, frame: [f64; 4]) {
        if self.answers {
            self.frames.push(frame);
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
        self.written(description, |index, ink, svg| {
            draw(svg, ink, &self.attributes(index));
        })
    }

    /// The picture, and the same drawn otherwise, as two SVGs for one page: long lines and areas
    /// stand in the first alone, under names that begin with `name`, and are shown in the second
    /// from there. How wide their strokes are there follows from the page's class `line`.
    pub fn svgs(&self, other: &Self, description: &str, name: &str) -> (String, String) {
        let (long, others) = (self.long(), other.long());
        let mut moves = Vec::new();
        if long.len() == others.len() {
            let pairs = long.iter().zip(&others);
            moves.extend(pairs.map(|((_, from), (_, to))| Move::between(from, to)));
        }
        let place = |all: &[(usize, &[(f64, f64)])], index: usize| {
            let found = all.iter().position(|(at, _)| *at == index)?;
            Some((found, moves.get(found).copied().flatten()?))
        };
        let first = self.written(description, |index, ink, svg| match place(&long, index) {
            Some((number, _)) => {
                let names = format!(" id='{name}-{number}' class='line'");
                draw(svg, ink, &(names + &self.attributes(index)));
            }
            None => draw(svg, ink, &self.attributes(index)),
        });
        let second = other.written(description, |index, ink, svg| match place(&others, index) {
            Some((number, by)) => {
                let [a, d, e, f] = by.0;
                let said = other.silent(index);
                svg.push_str(&format!("<use href='#{name}-{number}'{said} transform='matrix({a:.5} 0 0 {d:.5} {e:.2} {f:.2})'/>"));
            }
            None => draw(svg, ink, &other.silent(index)),
        });
        (first, second)
    }

    /// What something says, as attributes. Between plain quotation marks only what is drawn has colours.
    fn attributes(&self, index: usize) -> String {
        let Ok(at) = self.says.binary_search_by_key(&index, |(at, _)| *at) else {
            return String::new();
        };
        match &self.says[at].1 {
            Says::Series(number) => format!(" data-of='{number}'"),
            Says::Words(words) => {
                format!(" data-says='{}'", escaped(words).replace('\'', "&#39;"))
            }
        }
    }

    /// The same for the second of two drawings, whose words stand in the first.
    fn silent(&self, index: usize) -> String {
        match self.says.binary_search_by_key(&index, |(at, _)| *at) {
            Ok(at) if matches!(self.says[at].1, Says::Words(_)) => " data-says".to_owned(),
            _ => self.attributes(index),
        }
    }

    /// The lines and areas of many points, by their places.
    fn long(&self) -> Vec<(usize, &[(f64, f64)])> {
        let all = self.inks.iter().map(|ink| match ink {
            DrawOp::Line { points, .. } | DrawOp::Area { points, .. } => &points[..],
            DrawOp::Text { .. } => &[],
        });
        let all = all.enumerate();
        all.filter(|(_, points)| points.len() >= MANY).collect()
    }

    fn written(&self, description: &str, draw: impl Fn(usize, &DrawOp, &mut String)) -> String {
        let mut svg = String::with_capacity(16_384);
        svg.push_str("<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 ");
        tenths(&mut svg, self.width);
        svg.push(' ');
        tenths(&mut svg, self.height);
        svg.push_str("\" width=\"");
        tenths(&mut svg, self.width);
        svg.push_str("\" height=\"");
        tenths(&mut svg, self.height);
        let frames: Vec<String> = (self.frames.iter())
            .map(|frame| frame.map(|at| format!("{at:.1}")).join(" "))
            .collect();
        let frames = match &frames[..] {
            [] => String::new(),
            _ => format!(" data-frames='{}'", frames.join(",")),
        };
        svg.push_str(&format!(
            "\"{frames} role=\"img\" font-family=\"{FONT}\" font-size=\"{LABEL}\"><title>{}</title>",
            escaped(description)
        ));
        for (index, ink) in self.inks.iter().enumerate() {
            draw(index, ink, &mut svg);
        }
        svg.push_str("</svg>");
        svg
    }
}

/// How one drawing of the same is moved and stretched to be the other: across by the first, down by the
/// second, then moved by the last two.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Move([f64; 4]);

impl Move {
    /// From one to the other, if there is one that brings every point within a part of a pixel.
    fn between(from: &[(f64, f64)], to: &[(f64, f64)]) -> Option<Self> {
        if from.len() != to.len() {
            return None;
        }
        let along = |part: fn(&(f64, f64)) -> f64| {
            let reach = |points: &[(f64, f64)]| {
                let all = points.iter().map(part);
                all.fold((f64::MAX, f64::MIN), |(low, high), at| {
                    (low.min(at), high.max(at))
                })
            };
            let ((low, high), (to_low, to_high)) = (reach(from), reach(to));
            let stretch = if high - low < 0.05 {
                1.0
            } else {
                (to_high - to_low) / (high - low)
            };
            (stretch, to_low - low * stretch)
        };
        let ((a, e), (d, f)) = (along(|point| point.0), along(|point| point.1));
        let meets = |((x, y), (to_x, to_y)): (&(f64, f64), &(f64, f64))| {
            (x * a + e - to_x).abs() < 0.1 && (y * d + f - to_y).abs() < 0.1
        };
        let every = from.iter().zip(to).all(meets);
        every.then_some(Self([a, d, e, f]))
    }
}

/// An element with some attributes, as far as the value of the next one.
fn begin(svg: &mut String, element: &str, attributes: &str, next: &str) {
    for part in ["<", element, attributes, " ", next, "=\""] {
        svg.push_str(part);
    }
}

/// Writes one thing, with more attributes as written.
fn draw(svg: &mut String, ink: &DrawOp, more: &str) {
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
            begin(svg, "polyline", more, "points");
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
            begin(svg, "polygon", more, "points");
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
            begin(svg, "text", more, "x");
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
    // Half of them away from zero, as `round` has it, without a call.
    let tenths = (length * 10.0 + 0.5_f64.copysign(length)) as i64;
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

    fn wave(across: f64, up: f64, left: f64) -> Canvas {
        let mut canvas = Canvas::new(400.0, 100.0);
        let point = |i: u32| {
            let x = f64::from(i);
            (left + x * across, 50.0 - (x / 9.0).sin() * up)
        };
        canvas.line((0..50).map(point), "#2a7291", 1.5);
        canvas.line((0..3).map(point), "#2a7291", 1.5);
        canvas
    }

    #[test]
    fn what_is_long_is_written_once_and_shown_in_both() {
        let (wide, narrow) = (wave(7.0, 40.0, 30.0), wave(3.0, 36.0, 20.0));
        let (first, second) = wide.svgs(&narrow, "A wave", "c1");
        assert_eq!(
            first.replace(" id='c1-0' class='line'", ""),
            wide.svg("A wave")
        );
        assert_eq!(first.matches("<polyline").count(), 2);
        assert_eq!(second.matches("<polyline").count(), 1);
        let used = "<use href='#c1-0' transform='matrix(0.42857 0 0 0.90000 7.14 5.00)'/>";
        assert!(second.contains(used), "{second}");
        // What is not the same is written where it is.
        let mut other = wave(3.0, 36.0, 20.0);
        if let DrawOp::Line { points, .. } = &mut other.inks[0] {
            points[20].1 += 4.0;
        }
        let (first, second) = wide.svgs(&other, "A wave", "c1");
        assert_eq!((first, second), (wide.svg("A wave"), other.svg("A wave")));
    }

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
