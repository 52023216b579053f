//! A spreadsheet as OpenDocument (ISO/IEC 26300): a summary, a sheet for each table with typed cells, and one
//! with the values of each chart. The same document gives the same bytes.

use std::{
    collections::BTreeMap,
    io::{self, Cursor, Write},
};

use chrono::{DateTime, NaiveDateTime};
use maple_lark_data::{Value, number_format::decimals};
use maple_lark_document::document::{Body, DataTable, Document};
use quick_xml::{
    Writer,
    events::{BytesDecl, BytesEnd, BytesStart, BytesText, Event},
};
use zip::{CompressionMethod, ZipWriter};

use crate::{
    RenderError,
    archive::options,
    sheets::{
        FIGURE_HEADINGS, Grid, Head, LONGEST_TEXT, Label, MOST_ROWS, MOST_UPRIGHT, Names, Part,
        heads, heads_of_chart, parts, shapes, summary_lines,
    },
    xml::possible,
};

const MEDIA_TYPE: &str = "application/vnd.oasis.opendocument.spreadsheet";
const VERSION: &str = "1.3";
/// The namespaces of the standard, by the prefixes that everybody gives them.
const NAMESPACES: [(&str, &str); 9] = [
    (
        "xmlns:config",
        "urn:oasis:names:tc:opendocument:xmlns:config:1.0",
    ),
    ("xmlns:dc", "http://purl.org/dc/elements/1.1/"),
    (
        "xmlns:fo",
        "urn:oasis:names:tc:opendocument:xmlns:xsl-fo-compatible:1.0",
    ),
    (
        "xmlns:meta",
        "urn:oasis:names:tc:opendocument:xmlns:meta:1.0",
    ),
    (
        "xmlns:number",
        "urn:oasis:names:tc:opendocument:xmlns:datastyle:1.0",
    ),
    (
        "xmlns:office",
        "urn:oasis:names:tc:opendocument:xmlns:office:1.0",
    ),
    (
        "xmlns:style",
        "urn:oasis:names:tc:opendocument:xmlns:style:1.0",
    ),
    (
        "xmlns:table",
        "urn:oasis:names:tc:opendocument:xmlns:table:1.0",
    ),
    (
        "xmlns:text",
        "urn:oasis:names:tc:opendocument:xmlns:text:1.0",
    ),
];
/// The widths of the summary's columns, in characters.
const SUMMARY_WIDTHS: [f64; 6] = [28.0, 48.0, 16.0, 10.0, 12.0, 36.0];
/// Numbers have no more decimals than this.
const MOST_DECIMALS: usize = 4;
/// How wide a character is, in centimetres.
const CHARACTER: f64 = 0.23;

/// The whole spreadsheet. Times stand in the report's zone, which the heading of their column names, for a
/// spreadsheet's times have none.
///
/// # Errors
/// If there is no room.
pub fn opendocument(document: &Document) -> Result<Vec<u8>, RenderError> {
    let made_at = document.front.made_at_seconds;
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    // The first entry, as it is, so that the file is known by its beginning.
    let plain = options(made_at)
        .compression_method(CompressionMethod::Stored)
        .compression_level(None);
    zip.start_file("mimetype", plain).map_err(io::Error::from)?;
    zip.write_all(MEDIA_TYPE.as_bytes())?;
    let sheets = Sheets::of(document);
    for (name, write) in [
        ("META-INF/manifest.xml", manifest as Writes),
        ("meta.xml", meta),
        ("styles.xml", styles),
        ("settings.xml", settings),
        ("content.xml", content),
    ] {
        zip.start_file(name, options(made_at))
            .map_err(io::Error::from)?;
        let mut xml = Xml::new(&mut zip)?;
        write(&mut xml, document, &sheets)?;
    }
    Ok(zip.finish().map_err(io::Error::from)?.into_inner())
}

type Zip = ZipWriter<Cursor<Vec<u8>>>;
type Writes = fn(&mut Xml<'_>, &Document, &Sheets<'_>) -> io::Result<()>;

/// The sheets by their names.
struct Sheets<'a> {
    summary: String,
    parts: Vec<(String, Part<'a>)>,
}

impl<'a> Sheets<'a> {
    fn of(document: &'a Document) -> Self {
        let mut names = Names::default();
        let summary = names.free("Summary");
        let parts = parts(document).into_iter().map(|part| {
            let title = match &part {
                Part::Table(data) => &data.title,
                Part::Chart(block, ..) | Part::Words(block, _) => &block.title,
            };
            (names.free(title), part)
        });
        Self {
            parts: parts.collect(),
            summary,
        }
    }
}

/// Writes elements.
struct Xml<'a> {
    writer: Writer<&'a mut Zip>,
}

impl<'a> Xml<'a> {
    fn new(zip: &'a mut Zip) -> io::Result<Self> {
        let mut writer = Writer::new(zip);
        writer.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
        Ok(Self { writer })
    }

    fn open(&mut self, name: &str, attributes: &[(&str, &str)]) -> io::Result<()> {
        let start = BytesStart::new(name).with_attributes(attributes.iter().copied());
        self.writer.write_event(Event::Start(start))
    }

    fn close(&mut self, name: &str) -> io::Result<()> {
        self.writer.write_event(Event::End(BytesEnd::new(name)))
    }

    fn empty(&mut self, name: &str, attributes: &[(&str, &str)]) -> io::Result<()> {
        let start = BytesStart::new(name).with_attributes(attributes.iter().copied());
        self.writer.write_event(Event::Empty(start))
    }

    fn text(&mut self, text: &str) -> io::Result<()> {
        let text = BytesText::new(text);
        self.writer.write_event(Event::Text(text))
    }

    fn element(&mut self, name: &str, attributes: &[(&str, &str)], text: &str) -> io::Result<()> {
        self.open(name, attributes)?;
        self.text(&possible(text))?;
        self.close(name)
    }

    /// The root of one of the files.
    fn root(&mut self, name: &str) -> io::Result<()> {
        let mut attributes = NAMESPACES.to_vec();
        attributes.push(("office:version", VERSION));
        self.open(name, &attributes)
    }

    /// A text, a paragraph for each line; blanks beyond one are told by their number.
    fn paragraphs(&mut self, text: &str) -> io::Result<()> {
        let text: String = possible(text).chars().take(LONGEST_TEXT).collect();
        for line in text.lines() {
            self.open("text:p", &[])?;
            let mut blanks = 0;
            for piece in line.split_inclusive(' ') {
                let word = piece.strip_suffix(' ');
                if piece == " " {
                    blanks += 1;
                    continue;
                }
                self.blanks(blanks)?;
                self.text(word.unwrap_or(piece))?;
                blanks = usize::from(word.is_some());
            }
            self.blanks(blanks)?;
            self.close("text:p")?;
        }
        Ok(())
    }

    fn blanks(&mut self, count: usize) -> io::Result<()> {
        match count {
            0 => Ok(()),
            1 => self.text(" "),
            more => self.empty("text:s", &[("text:c", &more.to_string())]),
        }
    }

    fn words(&mut self, text: &str, style: Option<&str>) -> io::Result<()> {
        let mut attributes = vec![("office:value-type", "string")];
        attributes.extend(style.map(|style| ("table:style-name", style)));
        self.open("table:table-cell", &attributes)?;
        self.paragraphs(text)?;
        self.close("table:table-cell")
    }

    /// A value of a kind that has an attribute of its own.
    fn value(&mut self, kind: &str, key: &str, value: &str, style: &str) -> io::Result<()> {
        let attributes = [
            ("office:value-type", kind),
            (key, value),
            ("table:style-name", style),
        ];
        self.empty("table:table-cell", &attributes)
    }

    fn number(&mut self, value: f64, decimals: usize) -> io::Result<()> {
        let style = number_style(decimals);
        self.value("float", "office:value", &value.to_string(), &style)
    }

    fn time(&mut self, at: NaiveDateTime, style: &str) -> io::Result<()> {
        let written = at.format("%Y-%m-%dT%H:%M:%S").to_string();
        self.value("date", "office:date-value", &written, style)
    }

    fn nothing(&mut self) -> io::Result<()> {
        self.empty("table:table-cell", &[])
    }

    fn row(&mut self, cells: impl FnOnce(&mut Self) -> io::Result<()>) -> io::Result<()> {
        self.open("table:table-row", &[])?;
        cells(self)?;
        self.close("table:table-row")
    }

    /// The columns of a sheet by their widths, then its headings, which stand on each page.
    fn head(&mut self, columns: &[Head]) -> io::Result<()> {
        self.columns(columns.iter().map(|head| head.width))?;
        self.open("table:table-header-rows", &[])?;
        self.row(|xml| {
            let mut headings = columns.iter();
            headings.try_for_each(|head| xml.words(&head.text, Some(heading_style(head.right))))
        })?;
        self.close("table:table-header-rows")
    }

    fn columns(&mut self, widths: impl Iterator<Item = f64>) -> io::Result<()> {
        for width in widths {
            let style = column_style(width);
            self.empty("table:table-column", &[("table:style-name", &style)])?;
        }
        Ok(())
    }
}

fn number_style(decimals: usize) -> String {
    format!("number-{}", decimals.min(MOST_DECIMALS))
}

fn heading_style(right: bool) -> &'static str {
    if right { "heading-right" } else { "heading" }
}

fn column_style(width: f64) -> String {
    format!("column-{}", width.ceil() as u32)
}

fn manifest(xml: &mut Xml<'_>, _: &Document, _: &Sheets<'_>) -> io::Result<()> {
    let namespace = "urn:oasis:names:tc:opendocument:xmlns:manifest:1.0";
    xml.open(
        "manifest:manifest",
        &[("xmlns:manifest", namespace), ("manifest:version", VERSION)],
    )?;
    for (path, kind) in [
        ("/", MEDIA_TYPE),
        ("meta.xml", "text/xml"),
        ("styles.xml", "text/xml"),
        ("settings.xml", "text/xml"),
        ("content.xml", "text/xml"),
    ] {
        let attributes = [("manifest:full-path", path), ("manifest:media-type", kind)];
        xml.empty("manifest:file-entry", &attributes)?;
    }
    xml.close("manifest:manifest")
}

fn meta(xml: &mut Xml<'_>, document: &Document, _: &Sheets<'_>) -> io::Result<()> {
    let made = DateTime::from_timestamp(document.front.made_at_seconds, 0).unwrap_or_default();
    let made = made.format("%Y-%m-%dT%H:%M:%SZ").to_string();
    xml.root("office:document-meta")?;
    xml.open("office:meta", &[])?;
    xml.element("dc:title", &[], &document.title)?;
    let run = format!("Run {}", document.front.run_id);
    xml.element("dc:description", &[], &run)?;
    xml.element("meta:creation-date", &[], &made)?;
    xml.element("dc:language", &[], &document.language)?;
    xml.close("office:meta")?;
    xml.close("office:document-meta")
}

/// How pages are: as wide as a sheet of paper, upright or lying.
fn styles(xml: &mut Xml<'_>, _: &Document, _: &Sheets<'_>) -> io::Result<()> {
    xml.root("office:document-styles")?;
    xml.empty("office:styles", &[])?;
    xml.open("office:automatic-styles", &[])?;
    for (name, orientation, width, height) in [
        ("upright", "portrait", "21cm", "29.7cm"),
        ("lying", "landscape", "29.7cm", "21cm"),
    ] {
        xml.open("style:page-layout", &[("style:name", name)])?;
        let properties = [
            ("fo:page-width", width),
            ("fo:page-height", height),
            ("style:print-orientation", orientation),
            ("style:scale-to-X", "1"),
            ("style:scale-to-Y", "0"),
        ];
        xml.empty("style:page-layout-properties", &properties)?;
        xml.close("style:page-layout")?;
    }
    xml.close("office:automatic-styles")?;
    xml.open("office:master-styles", &[])?;
    for name in ["upright", "lying"] {
        let attributes = [("style:name", name), ("style:page-layout-name", name)];
        xml.empty("style:master-page", &attributes)?;
    }
    xml.close("office:master-styles")?;
    xml.close("office:document-styles")
}

/// That headings stay in sight.
fn settings(xml: &mut Xml<'_>, _: &Document, sheets: &Sheets<'_>) -> io::Result<()> {
    xml.root("office:document-settings")?;
    xml.open("office:settings", &[])?;
    xml.open(
        "config:config-item-set",
        &[("config:name", "ooo:view-settings")],
    )?;
    xml.open(
        "config:config-item-map-indexed",
        &[("config:name", "Views")],
    )?;
    xml.open("config:config-item-map-entry", &[])?;
    xml.open("config:config-item-map-named", &[("config:name", "Tables")])?;
    for (name, part) in &sheets.parts {
        if matches!(part, Part::Words(..)) {
            continue;
        }
        let name = possible(name);
        xml.open("config:config-item-map-entry", &[("config:name", &name)])?;
        for (key, kind, value) in [
            ("VerticalSplitMode", "short", "2"),
            ("VerticalSplitPosition", "int", "1"),
            ("ActiveSplitRange", "short", "2"),
            ("PositionBottom", "int", "1"),
        ] {
            let attributes = [("config:name", key), ("config:type", kind)];
            xml.element("config:config-item", &attributes, value)?;
        }
        xml.close("config:config-item-map-entry")?;
    }
    xml.close("config:config-item-map-named")?;
    xml.close("config:config-item-map-entry")?;
    xml.close("config:config-item-map-indexed")?;
    xml.close("config:config-item-set")?;
    xml.close("office:settings")?;
    xml.close("office:document-settings")
}

fn content(xml: &mut Xml<'_>, document: &Document, sheets: &Sheets<'_>) -> io::Result<()> {
    let tables: BTreeMap<&str, Vec<Head>> = sheets
        .parts
        .iter()
        .map(|(name, part)| (name.as_str(), heads_of(part)))
        .collect();
    xml.root("office:document-content")?;
    let widths = tables.values().flatten().map(|head| head.width);
    cell_styles(xml, document, widths.chain(SUMMARY_WIDTHS))?;
    xml.open("office:body", &[])?;
    xml.open("office:spreadsheet", &[])?;
    summary(xml, document, &sheets.summary)?;
    let mut filtered = Vec::new();
    for (name, part) in &sheets.parts {
        let head = &tables[name.as_str()];
        let lies = matches!(part, Part::Chart(..)) || head.len() > MOST_UPRIGHT;
        open_sheet(xml, name, lies)?;
        match part {
            Part::Table(data) => {
                xml.head(head)?;
                let rows = table(xml, data)?;
                if !head.is_empty() {
                    filtered.push((name, rows, head.len()));
                }
            }
            Part::Chart(_, _, grid) => {
                xml.head(head)?;
                drawn(xml, grid)?;
            }
            Part::Words(_, words) => xml.row(|xml| xml.words(words, None))?,
        }
        xml.close("table:table")?;
    }
    if !filtered.is_empty() {
        filters(xml, &filtered)?;
    }
    xml.close("office:spreadsheet")?;
    xml.close("office:body")?;
    xml.close("office:document-content")
}

/// Each table can be filtered by its headings.
fn filters(xml: &mut Xml<'_>, tables: &[(&String, usize, usize)]) -> io::Result<()> {
    xml.open("table:database-ranges", &[])?;
    for (index, (name, rows, columns)) in tables.iter().enumerate() {
        let sheet = format!("'{}'", name.replace('\'', "''"));
        let range = format!(
            "{sheet}.A1:{sheet}.{}{}",
            letters(columns.saturating_sub(1)),
            rows + 1
        );
        let attributes = [
            ("table:name", &*format!("rows-{}", index + 1)),
            ("table:target-range-address", &*possible(&range)),
            ("table:display-filter-buttons", "true"),
        ];
        xml.empty("table:database-range", &attributes)?;
    }
    xml.close("table:database-ranges")
}

/// The letters of a column by its place: A, B, … Z, AA …
fn letters(mut place: usize) -> String {
    let mut letters = Vec::new();
    loop {
        letters.insert(0, char::from(b'A' + (place % 26) as u8));
        match (place / 26).checked_sub(1) {
            None => return letters.into_iter().collect(),
            Some(rest) => place = rest,
        }
    }
}

/// What stands above the columns of a sheet.
fn heads_of(part: &Part<'_>) -> Vec<Head> {
    match part {
        Part::Table(data) => heads(data, &shapes(data)).collect(),
        Part::Chart(_, chart, grid) => heads_of_chart(chart, grid).collect(),
        Part::Words(..) => Vec::new(),
    }
}

fn cell_styles(
    xml: &mut Xml<'_>,
    document: &Document,
    widths: impl Iterator<Item = f64>,
) -> io::Result<()> {
    xml.open("office:automatic-styles", &[])?;
    let widths: BTreeMap<String, f64> = widths
        .map(|width| (column_style(width), width.ceil()))
        .collect();
    for (name, width) in widths {
        style(xml, &name, "table-column", &[], |xml| {
            let width = format!("{:.1}cm", width * CHARACTER);
            xml.empty(
                "style:table-column-properties",
                &[("style:column-width", &width)],
            )
        })?;
    }
    for name in ["upright", "lying"] {
        style(
            xml,
            name,
            "table",
            &[("style:master-page-name", name)],
            |xml| xml.empty("style:table-properties", &[("table:display", "true")]),
        )?;
    }
    let grouping = document.number_format.group.is_some();
    for decimals in 0..=MOST_DECIMALS {
        let (name, places) = (number_style(decimals), decimals.to_string());
        let format = format!("format-{name}");
        xml.open("number:number-style", &[("style:name", &format)])?;
        let attributes = [
            ("number:decimal-places", &*places),
            ("number:min-decimal-places", &places),
            ("number:min-integer-digits", "1"),
            ("number:grouping", if grouping { "true" } else { "false" }),
        ];
        xml.empty("number:number", &attributes)?;
        xml.close("number:number-style")?;
        let format = [("style:data-style-name", &*format)];
        style(xml, &name, "table-cell", &format, |_| Ok(()))?;
    }
    for (name, has_time) in [("date", false), ("instant", true)] {
        let format = format!("format-{name}");
        date_format(xml, &format, document.number_format.iso_dates, has_time)?;
        let format = [("style:data-style-name", &*format)];
        style(xml, name, "table-cell", &format, |_| Ok(()))?;
    }
    heading_styles(xml)?;
    style(xml, "title", "table-cell", &[], |xml| {
        let properties = [("fo:font-weight", "bold"), ("fo:font-size", "14pt")];
        xml.empty("style:text-properties", &properties)
    })?;
    xml.close("office:automatic-styles")
}

fn heading_styles(xml: &mut Xml<'_>) -> io::Result<()> {
    for right in [false, true] {
        style(xml, heading_style(right), "table-cell", &[], |xml| {
            let properties = [
                ("fo:background-color", "#f2f5f7"),
                ("fo:wrap-option", "wrap"),
                ("style:text-align-source", "fix"),
            ];
            xml.empty("style:table-cell-properties", &properties)?;
            let side = if right { "end" } else { "start" };
            xml.empty("style:paragraph-properties", &[("fo:text-align", side)])?;
            xml.empty("style:text-properties", &[("fo:font-weight", "bold")])
        })?;
    }
    Ok(())
}

fn style(
    xml: &mut Xml<'_>,
    name: &str,
    family: &str,
    more: &[(&str, &str)],
    properties: impl FnOnce(&mut Xml<'_>) -> io::Result<()>,
) -> io::Result<()> {
    let mut attributes = vec![("style:name", name), ("style:family", family)];
    attributes.extend(more);
    xml.open("style:style", &attributes)?;
    properties(xml)?;
    xml.close("style:style")
}

/// Days as the document writes them, and with the time of day.
fn date_format(xml: &mut Xml<'_>, name: &str, iso: bool, has_time: bool) -> io::Result<()> {
    const LONG: [(&str, &str); 1] = [("number:style", "long")];
    xml.open("number:date-style", &[("style:name", name)])?;
    if iso {
        xml.empty("number:year", &LONG)?;
        xml.element("number:text", &[], "-")?;
        xml.empty("number:month", &LONG)?;
        xml.element("number:text", &[], "-")?;
        xml.empty("number:day", &LONG)?;
    } else {
        xml.empty("number:day", &[])?;
        xml.element("number:text", &[], " ")?;
        xml.empty("number:month", &[("number:textual", "true")])?;
        xml.element("number:text", &[], " ")?;
        xml.empty("number:year", &LONG)?;
    }
    if has_time {
        for (before, part) in [
            (" ", "number:hours"),
            (":", "number:minutes"),
            (":", "number:seconds"),
        ] {
            xml.element("number:text", &[], before)?;
            xml.empty(part, &LONG)?;
        }
    }
    xml.close("number:date-style")
}

fn open_sheet(xml: &mut Xml<'_>, name: &str, lies: bool) -> io::Result<()> {
    let style = if lies { "lying" } else { "upright" };
    let attributes = [
        ("table:name", &*possible(name)),
        ("table:style-name", style),
    ];
    xml.open("table:table", &attributes)
}

fn summary(xml: &mut Xml<'_>, document: &Document, name: &str) -> io::Result<()> {
    open_sheet(xml, name, false)?;
    xml.columns(SUMMARY_WIDTHS.into_iter())?;
    xml.row(|xml| xml.words(&document.title, Some("title")))?;
    xml.row(Xml::nothing)?;
    for (name, value) in summary_lines(document) {
        xml.row(|xml| {
            xml.words(name, None)?;
            xml.words(&value, None)
        })?;
    }
    for block in document.sections.iter().flat_map(|section| &section.blocks) {
        let Body::Figures { figures } = &block.body else {
            continue;
        };
        xml.row(Xml::nothing)?;
        xml.row(|xml| {
            let first = (block.title.as_str(), false);
            let mut headings = std::iter::once(first).chain(FIGURE_HEADINGS);
            headings.try_for_each(|(heading, right)| xml.words(heading, Some(heading_style(right))))
        })?;
        for figure in figures {
            xml.row(|xml| {
                xml.words(&figure.title, None)?;
                xml.words(&figure.value, None)?;
                match figure.amount.filter(|amount| amount.is_finite()) {
                    Some(amount) => {
                        xml.number(amount, decimals(&[amount], figure.unit == "%"))?;
                    }
                    None => xml.nothing()?,
                }
                xml.words(&figure.unit, None)?;
                xml.words(figure.status.map_or("", |status| status.word()), None)?;
                xml.words(figure.change.as_deref().unwrap_or_default(), None)
            })?;
        }
    }
    xml.close("table:table")
}

/// The rows of a table, and how many there are.
fn table(xml: &mut Xml<'_>, data: &DataTable) -> io::Result<usize> {
    let shapes = shapes(data);
    let (mut rows, mut row, mut count) = (data.table.rows(), Vec::new(), 0);
    while count < MOST_ROWS && rows.next_into(&mut row) {
        count += 1;
        xml.row(|xml| {
            for (value, shape) in row.iter().zip(&shapes) {
                match value {
                    Value::Missing => xml.nothing()?,
                    Value::Boolean(truth) => {
                        let truth = if *truth { "true" } else { "false" };
                        let attributes = [
                            ("office:value-type", "boolean"),
                            ("office:boolean-value", truth),
                        ];
                        xml.empty("table:table-cell", &attributes)?;
                    }
                    Value::Integer(_) | Value::Decimal(_) if shape.exact => {
                        xml.words(&value.exact(data.zone), None)?;
                    }
                    Value::Number(number) if !number.is_finite() => {
                        xml.words(&number.to_string(), None)?;
                    }
                    Value::Integer(_) | Value::Number(_) | Value::Decimal(_) => {
                        xml.number(value.as_number().unwrap_or_default(), shape.decimals)?;
                    }
                    Value::Text(text) => xml.words(text, None)?,
                    Value::Instant(at) => xml.time(data.zone.local(*at), "instant")?,
                    Value::Date(date) => {
                        xml.value("date", "office:date-value", &date.to_string(), "date")?;
                    }
                }
            }
            Ok(())
        })?;
    }
    Ok(count)
}

fn drawn(xml: &mut Xml<'_>, grid: &Grid) -> io::Result<()> {
    for (label, values) in &grid.rows {
        xml.row(|xml| {
            match label {
                Label::Text(text) => xml.words(text, None)?,
                Label::Instant(at) => {
                    let at = DateTime::from_timestamp(*at, 0).unwrap_or_default();
                    xml.time(at.naive_utc(), "instant")?;
                }
            }
            values.iter().try_for_each(|value| match value {
                Some(value) => xml.number(*value, decimals(&[*value], false)),
                None => xml.nothing(),
            })
        })?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_are_lettered_as_spreadsheets_do() {
        for (place, name) in [
            (0, "A"),
            (25, "Z"),
            (26, "AA"),
            (51, "AZ"),
            (52, "BA"),
            (702, "AAA"),
        ] {
            assert_eq!(letters(place), name);
        }
    }
}
