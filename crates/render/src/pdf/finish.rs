//! Sets charts, the cells of tables, headers and footers on finished pages, as the pages' own
//! lines and glyphs.
//!
//! The layout sees an empty picture for each chart and each header, and empty cells; it gives
//! them their places, tags and alternative texts. What belongs there is set afterwards.
//! Nothing has to be written as SVG and read back, and the typesetter need not break lines
//! in thousands of cells: both took most of the time that a report takes.

use std::{collections::HashMap, num::NonZeroUsize};

use maple_lark_document::{chart::Chart, document::Document};
use typst::{
    ecow::{EcoString, eco_format},
    foundations::{Bytes, Content, Packed, Smart},
    introspection::{Location, Tag},
    layout::{Abs, Frame, FrameItem, GroupItem, Point, Ratio, Size as PageSize, Transform},
    model::{Destination, LinkMarker, TableCell, TableElem},
    syntax::Span,
    visualize::{
        Curve, DashPattern, FillRule, FixedStroke, Geometry, Image, ImageElem, ImageKind, LineJoin,
        Shape,
    },
};
use typst_layout::Page;

use super::{
    breaks,
    cells::Fitted,
    glyphs::{Faces, paint},
    rows,
};
use crate::{
    chart::{
        Size,
        canvas::{Anchor, Canvas, DrawOp, LABEL},
        drawn, height,
    },
    palette,
};

/// What the pages of one document still lack.
pub struct Finish<'a> {
    faces: &'a Faces,
    document: &'a Document,
    by_picture: HashMap<Bytes, Placeholder<'a>>,
    /// The tables in their order; nothing for one that the typesetter sets.
    tables: Vec<Option<Fitted<'a>>>,
    /// How many tables have begun.
    begun: usize,
    /// How many rows of the last that has begun are set.
    set: usize,
    /// The row whose cells are set, until the typesetter says that it has ended.
    row: Option<Location>,
    page: usize,
    pages: usize,
    /// Where the labels of the pages are, and on which page.
    places: HashMap<EcoString, (Location, usize)>,
}

/// How thick the line under a row of a table is, in points.
const ROW_RULE: f64 = 0.4;
/// What lines and areas are drawn in, in points: finer than any printer, and places are whole numbers of it, which are
/// written faster and shorter than others.
const GRAIN: f64 = 0.05;
/// How an address begins that stands for a place on the pages.
const PLACE: &str = "place:";

/// How many columns a cell goes over.
fn spanned(cell: &Packed<TableCell>) -> usize {
    cell.colspan.as_option().map_or(1, NonZeroUsize::get)
}

/// What an empty picture stands for.
#[derive(Clone, Copy)]
enum Placeholder<'a> {
    Chart(&'a Chart, Size),
    Header,
    Footer,
    Sparkline(&'a [Option<f64>]),
}

/// Something with its place in a frame.
type Placed = (Point, FrameItem);

/// What is set in the place of a picture: what has no words, and what has.
struct Drawing {
    lines: FrameItem,
    texts: Frame,
}

/// Where the last figure or table of a frame begins, and what belongs before one that begins outside of it. That is
/// lines: readers are told of them in neither place, and inside, the bounds of each would be worked out.
#[derive(Default)]
struct Bounded {
    layer: Option<usize>,
    outside: Vec<Placed>,
    /// The lines under the rows of a table, as one.
    rules: Curve,
}

impl Bounded {
    fn begins(&mut self, frame: &Frame) {
        self.layer = Some(frame.layer());
    }

    /// Puts items before what is bounded, whose places are seen from `at`.
    fn precede(&mut self, frame: &mut Frame, at: Point, items: Vec<Placed>) {
        for (place, item) in items {
            match &mut self.layer {
                Some(layer) => {
                    frame.insert(*layer, at + place, item);
                    *layer += 1;
                }
                None => self.outside.push((at + place, item)),
            }
        }
    }

    /// Draws the rules of a frame that is set, and answers with what belongs before what begins outside of it.
    fn end(mut self, mut frame: Frame, colour: &str) -> (Frame, Vec<Placed>) {
        if !self.rules.is_empty() {
            let rules = Geometry::Curve(std::mem::take(&mut self.rules));
            let stroke = FixedStroke::from_pair(paint(colour), Abs::pt(ROW_RULE));
            let rules = vec![shape(rules.stroked(stroke))];
            self.precede(&mut frame, Point::zero(), rules);
        }
        (frame, self.outside)
    }
}

impl<'a> Finish<'a> {
    pub fn new(faces: &'a Faces, document: &'a Document) -> Self {
        Self {
            faces,
            document,
            by_picture: HashMap::new(),
            tables: Vec::new(),
            begun: 0,
            set: 0,
            row: None,
            page: 0,
            pages: 0,
            places: HashMap::new(),
        }
    }

    /// The empty picture (an SVG) that keeps the chart's place.
    pub fn picture_for(&mut self, chart: &'a Chart, size: Size) -> Bytes {
        self.picture(
            size.width(),
            height(chart, size),
            Placeholder::Chart(chart, size),
        )
    }

    pub fn sparkline(&mut self, values: &'a [Option<f64>]) -> Bytes {
        self.picture(120.0, 20.0, Placeholder::Sparkline(values))
    }

    pub fn header(&mut self) -> Bytes {
        self.picture(100.0, 4.0, Placeholder::Header)
    }

    pub fn footer(&mut self) -> Bytes {
        self.picture(100.0, 4.0, Placeholder::Footer)
    }

    fn picture(&mut self, width: f64, height: f64, placeholder: Placeholder<'a>) -> Bytes {
        let number = self.by_picture.len();
        let picture = Bytes::from_string(format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{width}\" height=\"{height}\"><title>{number}</title></svg>"
        ));
        self.by_picture.insert(picture.clone(), placeholder);
        picture
    }

    /// Adds the next table of the document.
    pub fn table(&mut self, fitted: Option<Fitted<'a>>) {
        self.tables.push(fitted);
    }

    /// The pages with everything in its place.
    pub fn pages(mut self, pages: Vec<Page>) -> Vec<Page> {
        self.pages = pages.len();
        for (index, page) in pages.iter().enumerate() {
            self.find_places(&page.frame, index + 1);
        }
        let each = pages.into_iter().enumerate();
        each.map(|(index, page)| {
            self.page = index + 1;
            let (mut frame, before) = self.frame(&page.frame);
            frame.prepend_multiple(before);
            Page { frame, ..page }
        })
        .collect()
    }

    fn find_places(&mut self, frame: &Frame, page: usize) {
        for (_, item) in frame.items() {
            match item {
                FrameItem::Group(group) => self.find_places(&group.frame, page),
                FrameItem::Tag(Tag::Start(content, _)) => {
                    if let (Some(label), Some(location)) = (content.label(), content.location()) {
                        let name = label.resolve().as_str().into();
                        self.places.entry(name).or_insert((location, page));
                    }
                }
                _ => {}
            }
        }
    }

    /// The place on the pages that an address stands for.
    fn place(&self, address: &str) -> Option<(Location, usize)> {
        self.places.get(address.strip_prefix(PLACE)?).copied()
    }

    /// What begins here, if it is another than the typesetter knows of: a link to a place says its page instead of
    /// its address, and a table that was laid out by whole rows has cells.
    fn begins(&self, content: &Content) -> Option<Content> {
        if let Some(table) = content.to_packed::<TableElem>() {
            let next = self.tables.get(self.begun)?.as_ref();
            return next
                .filter(|next| next.by_rows())
                .and_then(|next| rows::table(table, next.count() + 1));
        }
        let link = content.to_packed::<LinkMarker>()?;
        let (_, page) = self.place(link.alt.as_ref()?)?;
        let mut link = link.clone();
        link.alt = Some(eco_format!("page {page}"));
        Some(link.pack())
    }

    /// Sets a frame with everything in its place, and answers with what belongs before a figure or a table that
    /// begins outside of it.
    fn frame(&mut self, frame: &Frame) -> (Frame, Vec<Placed>) {
        let mut set = Frame::new(frame.size(), frame.kind());
        let mut bounded = Bounded::default();
        for (at, item) in frame.items() {
            match item {
                FrameItem::Group(group) => {
                    let mut group = group.clone();
                    let (frame, before) = self.frame(&group.frame);
                    group.frame = frame;
                    if group.transform.is_identity() && group.clip.is_none() {
                        bounded.precede(&mut set, *at, before);
                    } else {
                        group.frame.prepend_multiple(before);
                    }
                    set.push(*at, FrameItem::Group(group));
                }
                FrameItem::Image(image, size, _) => match self.placeholder(image) {
                    Some(Placeholder::Chart(chart, room)) => {
                        let Drawing { lines, texts } = self.chart(chart, room, *size);
                        bounded.precede(&mut set, *at, vec![(Point::zero(), lines)]);
                        set.push(*at, group(texts));
                    }
                    Some(Placeholder::Sparkline(values)) => {
                        set.push(*at, self.sparkline_on(values, *size));
                    }
                    Some(Placeholder::Header) => set.push(*at, group(self.header_on(*size))),
                    Some(Placeholder::Footer) => set.push(*at, group(self.footer_on(*size))),
                    None => set.push(*at, item.clone()),
                },
                FrameItem::Link(Destination::Url(address), size) => {
                    let leads = self.place(address).map_or_else(
                        || item.clone(),
                        |(place, _)| FrameItem::Link(Destination::Location(place), *size),
                    );
                    set.push(*at, leads);
                }
                FrameItem::Tag(Tag::Start(content, flags)) => {
                    if content.is::<ImageElem>() || content.is::<TableElem>() {
                        bounded.begins(&set);
                    }
                    if let Some(cell) = content.to_packed::<TableCell>() {
                        self.cell_that_begins(cell, item, *at, &mut set, &mut bounded.rules);
                        continue;
                    }
                    set.push(
                        *at,
                        self.begins(content).map_or_else(
                            || item.clone(),
                            |begun| FrameItem::Tag(Tag::Start(begun, *flags)),
                        ),
                    );
                }
                FrameItem::Text(text) => set.push(*at, breaks::without_places(text)),
                // Its cells have ended.
                FrameItem::Tag(Tag::End(place, ..)) if self.row == Some(*place) => self.row = None,
                other => set.push(*at, other.clone()),
            }
        }
        if frame.has_baseline() {
            set.set_baseline(frame.baseline());
        }
        bounded.end(set, &self.colour(palette::RULE))
    }

    /// Sets the cell of a table where one begins, given with its tag; of a fitted table with its texts, and all cells
    /// of a row that was laid out whole. The line under its row is added to the rules.
    fn cell_that_begins(
        &mut self,
        cell: &Packed<TableCell>,
        tag: &FrameItem,
        at: Point,
        into: &mut Frame,
        rules: &mut Curve,
    ) {
        let place = |set: Option<Smart<usize>>| set.and_then(Smart::custom);
        let repeated = cell.is_repeated.as_option().unwrap_or(false);
        let (Some(x), Some(y)) = (place(*cell.x.as_option()), place(*cell.y.as_option())) else {
            return into.push(at, tag.clone());
        };
        if (x, y, repeated) == (0, 0, false) {
            self.begun += 1;
            self.set = 0;
        }
        let fitted = self
            .begun
            .checked_sub(1)
            .and_then(|table| self.tables.get(table)?.as_ref());
        // A table that the typesetter sets may go on below one beside it that is set here and has ended. The rows of
        // this one follow each other, and each is one cell.
        let of_it = |fitted: &&Fitted<'_>| {
            y == 0 || y == self.set + 1 && spanned(cell) == fitted.columns.len()
        };
        let Some(fitted) = fitted.filter(of_it) else {
            return into.push(at, tag.clone());
        };
        // A heading that is repeated on a further page takes nothing back.
        self.set = self.set.max(y);
        for (row, below) in fitted.rows_of(y).filter(|_| x == 0) {
            let from = at + Point::with_y(Abs::pt(below + fitted.height(row)));
            rules.move_(from);
            rules.line(from + Point::with_x(Abs::pt(fitted.width())));
        }
        match cell.location().filter(|_| fitted.by_rows()) {
            Some(_) if y == 0 && !repeated => {
                let heading = rows::heading(cell);
                into.push(at, FrameItem::Tag(Tag::Start(heading, rows::FLAGS)));
            }
            Some(place) if y > 0 => {
                self.row = Some(place);
                let columns = fitted.columns.len();
                let each = (fitted.rows_of(y)).flat_map(|row| (0..columns).map(move |x| (row, x)));
                for (number, ((row, below), x)) in each.enumerate() {
                    let (begins, ends) = rows::cell(cell, place, number, (x, row + 1));
                    let at = at + Point::new(Abs::pt(fitted.left(x)), Abs::pt(below));
                    into.push(at, FrameItem::Tag(begins));
                    self.cell(fitted, x, row, at, into);
                    into.push(at, FrameItem::Tag(ends));
                }
            }
            _ => {
                into.push(at, tag.clone());
                for (row, _) in fitted.rows_of(y) {
                    self.cell(fitted, x, row, at, into);
                }
            }
        }
    }

    fn placeholder(&self, image: &Image) -> Option<Placeholder<'a>> {
        match image.kind() {
            ImageKind::Svg(svg) => self.by_picture.get(svg.data()).copied(),
            _ => None,
        }
    }

    /// A colour as the theme wants it.
    fn colour(&self, light: &str) -> String {
        if self.document.theme.dark {
            palette::dark(light)
        } else {
            light.to_owned()
        }
    }

    /// What is drawn of a chart. Its lines stand before the figure and not in it: they are artifacts in either
    /// place, and what each line in a figure covers is worked out at length for the figure's bounds. A rectangle
    /// that is not painted says those.
    fn chart(&self, chart: &Chart, room: Size, size: PageSize) -> Drawing {
        let mut drawing = self.drawn_on(&drawn(chart, room), size);
        let bounds = Shape {
            geometry: Geometry::Rect(size),
            fill: None,
            fill_rule: FillRule::default(),
            stroke: None,
        };
        let (at, bounds) = shape(bounds);
        drawing.texts.prepend(at, bounds);
        drawing
    }

    fn sparkline_on(&self, values: &[Option<f64>], size: PageSize) -> FrameItem {
        self.drawn_on(&sparkline(values, size.x / size.y), size)
            .lines
    }

    fn header_on(&self, size: PageSize) -> Frame {
        // The first page says the same in large type.
        if self.page == 1 {
            return Frame::soft(size);
        }
        let theme = &self.document.theme;
        let mut frame = self.marginal(
            size,
            theme.header.as_deref().unwrap_or(&self.document.title),
            &self.document.front.window_label,
        );
        let line = Geometry::Line(Point::new(size.x, Abs::zero())).stroked(FixedStroke::from_pair(
            paint(&self.colour(palette::RULE)),
            Abs::pt(0.5),
        ));
        frame.push(
            Point::new(Abs::zero(), Abs::pt(12.0)),
            FrameItem::Shape(line, Span::detached()),
        );
        frame
    }

    fn footer_on(&self, size: PageSize) -> Frame {
        let front = &self.document.front;
        let usual = || format!("Made {} · run {}", front.made_at, front.run_id);
        self.marginal(
            size,
            &self.document.theme.footer.clone().unwrap_or_else(usual),
            &format!("Page {} of {}", self.page, self.pages),
        )
    }

    fn marginal(&self, size: PageSize, left: &str, right: &str) -> Frame {
        const LETTERS: f64 = 7.5;
        let face = &self.faces.plain;
        let colour = self.colour(palette::MUTED);
        let mut frame = Frame::soft(size);
        let (right, width) = face.set(right, LETTERS, &colour);
        let end = size.x.to_pt() - width;
        let (mut items, mut taken) = face.set(left, LETTERS, &colour);
        let mut rest = left.to_owned();
        while taken > end - 20.0 && rest.pop().is_some() {
            (items, taken) = face.set(&format!("{}…", rest.trim_end()), LETTERS, &colour);
        }
        for (begin, items) in [(0.0, items), (end, right)] {
            frame.push_multiple(items.into_iter().map(|(x, item)| {
                (
                    Point::new(Abs::pt(begin + x), Abs::pt(6.5)),
                    FrameItem::Text(item),
                )
            }));
        }
        frame
    }

    fn drawn_on(&self, canvas: &Canvas, size: PageSize) -> Drawing {
        let face = &self.faces.plain;
        let scale = size.x.to_pt() / canvas.width;
        let grains = scale / GRAIN;
        let whole = |pixels: f64| Abs::pt((pixels * grains).round());
        let place = |(x, y): (f64, f64)| Point::new(whole(x), whole(y));
        let mut lines: Vec<Shape> = Vec::new();
        let mut texts = Frame::soft(size);
        for ink in &canvas.inks {
            match ink {
                DrawOp::Line {
                    points,
                    colour,
                    width,
                    dash,
                } => {
                    let stroke = FixedStroke {
                        join: joined(points.len()),
                        dash: dash.map(|(long, gap)| DashPattern {
                            array: vec![Abs::pt(long * grains), Abs::pt(gap * grains)],
                            phase: Abs::zero(),
                        }),
                        ..FixedStroke::from_pair(
                            paint(&self.colour(colour)),
                            Abs::pt(width * grains),
                        )
                    };
                    let curve = through(points.iter().copied().map(place));
                    add_line(&mut lines, curve, stroke);
                }
                DrawOp::Area { points, colour } => {
                    let mut curve = through(points.iter().copied().map(place));
                    curve.close();
                    lines.push(Geometry::Curve(curve).filled(paint(&self.colour(colour))));
                }
                DrawOp::Text {
                    text,
                    at,
                    anchor,
                    colour,
                } => {
                    let glyphs = LABEL * scale;
                    let (items, width) = face.set(text, glyphs, &self.colour(colour));
                    let before = match anchor {
                        Anchor::Start => 0.0,
                        Anchor::Middle => 0.5,
                        Anchor::End => 1.0,
                    };
                    // The middle line of a text is half the height of its lower-case letters above its baseline.
                    let from = Point::new(
                        short(at.0 * scale - width * before),
                        short(at.1 * scale + face.half_x_height(glyphs)),
                    );
                    texts.push_multiple(items.into_iter().map(|(x, item)| {
                        (from + Point::with_x(Abs::pt(x)), FrameItem::Text(item))
                    }));
                }
            }
        }
        let lines = in_grains(size, lines);
        Drawing { lines, texts }
    }

    /// Sets the texts of a cell whose upper left corner is at `at`.
    #[expect(
        clippy::too_many_lines,
        reason = "draws what a cell has, one thing over the other"
    )]
    fn cell(&self, fitted: &Fitted<'_>, x: usize, row: usize, at: Point, into: &mut Frame) {
        let cell = &fitted.table.rows[row][fitted.columns[x]];
        let sum = fitted.table.sums_up.contains(&row);
        if sum && x == 0 {
            let size = PageSize::new(
                Abs::pt(fitted.width()),
                Abs::pt(fitted.height(row) - ROW_RULE),
            );
            into.push(
                at,
                FrameItem::Shape(
                    Geometry::Rect(size).filled(paint(&self.colour(palette::SHADE))),
                    Span::detached(),
                ),
            );
        }
        if let Some(length) = cell.bar.filter(|length| *length > 0.0) {
            // Behind the text, so that both can be read.
            let size = PageSize::new(
                Abs::pt((fitted.widths[x] - 4.0) * length),
                Abs::pt(fitted.height(row) - 4.4),
            );
            let bar = Geometry::Rect(size).filled(paint(&self.colour(palette::BAR)));
            into.push(
                at + Point::new(Abs::pt(2.0), Abs::pt(2.0)),
                FrameItem::Shape(bar, Span::detached()),
            );
        }
        if !cell.trend.is_empty() {
            let size = PageSize::new(
                Abs::pt(fitted.widths[x] - 8.0),
                Abs::pt(fitted.height(row) - 4.0),
            );
            into.push(
                at + Point::new(Abs::pt(4.0), Abs::pt(2.0)),
                self.sparkline_on(&cell.trend, size),
            );
        }
        let strong = sum || cell.mark.is_some();
        let colour = &*self.colour(cell.mark.map_or(palette::INK, palette::status));
        let face = if strong {
            &self.faces.strong
        } else {
            &self.faces.plain
        };
        let shift = if cell.mark.is_some() {
            1.4 * fitted.size
        } else {
            0.0
        };
        let mut put = |text: &str, x: f64, y: f64| {
            let (items, _) = face.set(text, fitted.size, colour);
            into.push_multiple(items.into_iter().map(|(shift, item)| {
                (
                    at + Point::new(Abs::pt(x + shift), Abs::pt(y)),
                    FrameItem::Text(item),
                )
            }));
        };
        for (number, line) in fitted
            .lines(self.faces, row, x, strong, shift)
            .into_iter()
            .enumerate()
        {
            if let Some(mark) = cell.mark.filter(|_| number == 0) {
                put(
                    palette::mark(mark),
                    line.x - 1.4 * fitted.size,
                    line.baseline,
                );
            }
            if !line.text.is_empty() {
                put(line.text, line.x, line.baseline);
            }
        }
    }
}

/// A line of more points than these has them closer to each other than it is wide, or nearly so.
const DENSE: usize = 200;

/// How the points of a line are joined. Of a dense one nobody sees it, and how far round joins reach
/// would be worked out for each of its points.
fn joined(points: usize) -> LineJoin {
    match points {
        0..=DENSE => LineJoin::Round,
        _ => LineJoin::Bevel,
    }
}

/// A line without axes, for its shape alone.
fn sparkline(values: &[Option<f64>], aspect: f64) -> Canvas {
    let mut canvas = Canvas::new(20.0 * aspect, 20.0);
    let step = (20.0 * aspect - 4.0) / values.len().saturating_sub(1).max(1) as f64;
    let place = |index: usize, value: f64| (2.0 + index as f64 * step, 17.0 - value * 14.0);
    let mut stretch = Vec::new();
    for (index, value) in values.iter().enumerate() {
        match value {
            Some(value) => stretch.push(place(index, *value)),
            None => canvas.line(std::mem::take(&mut stretch), palette::series(0), 1.2),
        }
    }
    canvas.line(stretch, palette::series(0), 1.2);
    if let Some((index, Some(last))) = values.iter().enumerate().next_back() {
        let (x, y) = place(index, *last);
        canvas.dot((x, y), 2.0, palette::series(1));
    }
    canvas
}

/// Adds a line to what is drawn. A grid of lines that look alike is one shape.
fn add_line(lines: &mut Vec<Shape>, curve: Curve, stroke: FixedStroke) {
    match lines.last_mut() {
        Some(Shape {
            geometry: Geometry::Curve(before),
            stroke: Some(same),
            ..
        }) if *same == stroke => before.0.extend(curve.0),
        _ => lines.push(Geometry::Curve(curve).stroked(stroke)),
    }
}

/// Shapes whose places are in grains.
fn in_grains(size: PageSize, shapes: Vec<Shape>) -> FrameItem {
    let mut frame = Frame::soft(size);
    frame.push_multiple(shapes.into_iter().map(shape));
    let mut group = GroupItem::new(frame);
    group.transform = Transform::scale(Ratio::new(GRAIN), Ratio::new(GRAIN));
    FrameItem::Group(group)
}

/// A place in hundredths of a point, which is finer than any printer and shorter in the file.
fn short(points: f64) -> Abs {
    Abs::pt((points * 100.0).round() / 100.0)
}

fn group(frame: Frame) -> FrameItem {
    FrameItem::Group(GroupItem::new(frame))
}

fn shape(shape: Shape) -> Placed {
    (Point::zero(), FrameItem::Shape(shape, Span::detached()))
}

fn through(points: impl Iterator<Item = Point>) -> Curve {
    let mut curve = Curve::new();
    for (index, point) in points.enumerate() {
        if index == 0 {
            curve.move_(point)
        } else {
            curve.line(point)
        }
    }
    curve
}
