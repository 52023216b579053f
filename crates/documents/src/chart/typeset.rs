//! Sets charts on the pages of a PDF as the page's own lines and letters.
//!
//! The layout sees an empty picture of the chart's size, and gives it its place, its
//! alternative text and its tag. When the pages are done, the drawing takes the empty
//! picture's place. Nothing has to be written as SVG and read back, which took a third of
//! the time that a whole report takes.

use std::collections::HashMap;

use maple_lark_core::chart::Chart;
use typst::{
    foundations::Bytes,
    layout::{Abs, Frame, FrameItem, Point, Size as PageSize},
    syntax::Span,
    text::{FontInstance, Glyph, Lang, TextItem},
    visualize::{Color, Curve, FixedStroke, Geometry, Image, ImageKind, LineJoin, Paint},
};

use super::{
    Size,
    canvas::{Anchor, Canvas, Ink, LABEL},
    drawn,
};
use crate::palette;

/// Charts by the empty pictures that stand for them.
pub struct Drawings<'a> {
    font: FontInstance,
    by_picture: HashMap<Bytes, (&'a Chart, Size)>,
}

impl<'a> Drawings<'a> {
    pub fn new(font: FontInstance) -> Self {
        Self { font, by_picture: HashMap::new() }
    }

    /// The empty picture (an SVG) that keeps the chart's place.
    pub fn picture_for(&mut self, chart: &'a Chart, size: Size) -> Bytes {
        let (width, height, number) = (size.width(), super::height(chart, size), self.by_picture.len());
        let picture = format!("<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{width}\" height=\"{height}\"><title>{number}</title></svg>");
        let picture = Bytes::from_string(picture);
        self.by_picture.insert(picture.clone(), (chart, size));
        picture
    }

    /// The frame with drawings where empty pictures were.
    pub fn set_in(&self, frame: &Frame) -> Frame {
        let mut set = Frame::new(frame.size(), frame.kind());
        set.push_multiple(frame.items().map(|(at, item)| {
            let item = match item {
                FrameItem::Group(group) => {
                    let mut group = group.clone();
                    group.frame = self.set_in(&group.frame);
                    FrameItem::Group(group)
                }
                FrameItem::Image(image, size, _) => match self.chart(image) {
                    Some((chart, room)) => FrameItem::Group(typst::layout::GroupItem::new(page_frame(&drawn(chart, room), *size, &self.font))),
                    None => item.clone(),
                },
                other => other.clone(),
            };
            (*at, item)
        }));
        if frame.has_baseline() {
            set.set_baseline(frame.baseline());
        }
        set
    }

    fn chart(&self, image: &Image) -> Option<(&'a Chart, Size)> {
        match image.kind() {
            ImageKind::Svg(svg) => self.by_picture.get(svg.data()).copied(),
            _ => None,
        }
    }
}

fn page_frame(canvas: &Canvas, size: PageSize, font: &FontInstance) -> Frame {
    let scale = size.x.to_pt() / canvas.width;
    // A hundredth of a point is finer than any printer, and shorter in the file.
    let length = |pixels: f64| Abs::pt((pixels * scale * 100.0).round() / 100.0);
    let place = |(x, y): (f64, f64)| Point::new(length(x), length(y));
    let mut frame = Frame::soft(size);
    frame.push_multiple(canvas.inks.iter().map(|ink| match ink {
        Ink::Line { points, colour, width } => {
            let stroke = FixedStroke { join: LineJoin::Round, ..FixedStroke::from_pair(paint(colour), Abs::pt(width * scale)) };
            shape(Geometry::Curve(through(points.iter().copied().map(place))).stroked(stroke))
        }
        Ink::Area { points, colour } => {
            let mut curve = through(points.iter().copied().map(place));
            curve.close();
            shape(Geometry::Curve(curve).filled(paint(colour)))
        }
        Ink::Text { text, at, anchor, colour } => {
            let item = letters(text, font, Abs::pt(LABEL * scale), paint(colour));
            let before = match anchor {
                Anchor::Start => 0.0,
                Anchor::Middle => 0.5,
                Anchor::End => 1.0,
            };
            // The middle line of a text is half the height of its small letters above its baseline.
            let from = place(*at) + Point::new(item.width() * -before, font.metrics().x_height.at(item.size) / 2.0);
            (from, FrameItem::Text(item))
        }
    }));
    frame
}

fn shape(shape: typst::visualize::Shape) -> (Point, FrameItem) {
    (Point::zero(), FrameItem::Shape(shape, Span::detached()))
}

fn through(points: impl Iterator<Item = Point>) -> Curve {
    let mut curve = Curve::new();
    for (index, point) in points.enumerate() {
        if index == 0 { curve.move_(point) } else { curve.line(point) }
    }
    curve
}

fn paint(hex: &str) -> Paint {
    let [red, green, blue] = palette::parts(hex);
    Color::from_u8(red, green, blue, 255).into()
}

/// A label's letters side by side, each as wide as the font says.
fn letters(text: &str, font: &FontInstance, size: Abs, fill: Paint) -> TextItem {
    let glyph = |(at, letter): (usize, char)| {
        let id = font.ttf().glyph_index(letter).map_or(0, |id| id.0);
        Glyph {
            id,
            x_advance: font.x_advance(id).unwrap_or_default(),
            x_offset: Default::default(),
            y_advance: Default::default(),
            y_offset: Default::default(),
            range: at as u16..(at + letter.len_utf8()) as u16,
            span: (Span::detached(), 0),
        }
    };
    let glyphs = text.char_indices().map(glyph).collect();
    TextItem { font: font.clone(), size, fill, stroke: None, lang: Lang::ENGLISH, region: None, text: text.into(), glyphs }
}
