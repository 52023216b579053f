//! A spreadsheet workbook (Office Open XML): a summary, a sheet for each table with typed
//! cells, and a sheet with a native chart for each chart that a spreadsheet can draw.

use chrono::{DateTime, NaiveDate};
use maple_lark_data::{Value, number_format::decimals};
use maple_lark_document::{
    chart::Chart as Picture,
    document::{Block, Body, DataTable, Document},
};
use rust_xlsxwriter::{
    Chart, ChartType, Color, DocProperties, ExcelDateTime, Format, FormatAlign, Workbook,
    Worksheet, XlsxError,
};

use crate::{
    RenderError,
    sheets::{
        Drawn, FIGURE_HEADINGS, Grid, Head, LONGEST_TEXT, Label, MOST_ROWS, MOST_UPRIGHT, Names,
        Part, heads, heads_of_chart, parts, shapes, summary_lines,
    },
};

impl From<XlsxError> for RenderError {
    fn from(error: XlsxError) -> Self {
        Self::Workbook(error.to_string())
    }
}

struct Formats {
    heading: Format,
    /// Of a column whose values stand right.
    right_heading: Format,
    title: Format,
    instant: Format,
    date: Format,
    /// Whether thousands are set apart.
    grouped: bool,
}

impl Formats {
    fn new(document: &Document) -> Self {
        let day = if document.number_format.iso_dates {
            "yyyy-mm-dd"
        } else {
            "d mmm yyyy"
        };
        let heading = Format::new()
            .set_bold()
            .set_background_color(Color::RGB(0xf2f5f7))
            .set_text_wrap();
        Self {
            right_heading: heading.clone().set_align(FormatAlign::Right),
            heading,
            title: Format::new().set_bold().set_font_size(14),
            instant: Format::new().set_num_format(format!("{day} hh:mm:ss")),
            date: Format::new().set_num_format(day),
            grouped: document.number_format.group.is_some(),
        }
    }

    fn heading(&self, right: bool) -> &Format {
        if right {
            &self.right_heading
        } else {
            &self.heading
        }
    }

    /// A number with so many decimals; the spreadsheet writes it by the reader's own signs.
    fn number(&self, decimals: usize) -> Format {
        let whole = if self.grouped { "#,##0" } else { "0" };
        let fraction = match decimals {
            0 => String::new(),
            some => format!(".{}", "0".repeat(some)),
        };
        Format::new().set_num_format(format!("{whole}{fraction}"))
    }
}

/// All tables whole, whatever a page shows of them. Times stand in the report's zone, which
/// the heading of their column names, for a spreadsheet's times have none.
pub fn workbook(document: &Document) -> Result<Vec<u8>, RenderError> {
    let mut book = Workbook::new();
    let made = DateTime::from_timestamp(document.front.made_at_seconds, 0)
        .unwrap_or_default()
        .naive_utc();
    let made = ExcelDateTime::from_timestamp(made.and_utc().timestamp())?;
    book.set_properties(
        &DocProperties::new()
            .set_title(&document.title)
            .set_comment(format!("Run {}", document.front.run_id))
            .set_creation_datetime(&made),
    );
    let formats = Formats::new(document);
    let mut names = Names::default();
    summary(
        book.add_worksheet().set_name(names.free("Summary"))?,
        document,
        &formats,
    )?;
    for part in parts(document) {
        match part {
            Part::Table(data) => {
                let sheet = book.add_worksheet().set_name(names.free(&data.title))?;
                table(sheet, data, &formats)?;
            }
            Part::Chart(block, chart, grid) => {
                let name = names.free(&block.title);
                let sheet = book.add_worksheet().set_name(&name)?;
                drawn(sheet, &name, block, chart, &grid, &formats)?;
            }
            Part::Words(block, words) => {
                let sheet = book.add_worksheet().set_name(names.free(&block.title))?;
                sheet.write_string(0, 0, words)?;
            }
        }
    }
    Ok(book.save_to_buffer()?)
}

fn summary(sheet: &mut Worksheet, document: &Document, formats: &Formats) -> Result<(), XlsxError> {
    sheet.write_with_format(0, 0, &document.title, &formats.title)?;
    let mut row = 2;
    for (name, value) in summary_lines(document) {
        sheet
            .write_string(row, 0, name)?
            .write_string(row, 1, value)?;
        row += 1;
    }
    figures(sheet, row, document, formats)?;
    sheet
        .set_column_width(0, 28)?
        .set_column_width(1, 48)?
        .set_column_width(2, 16)?
        .set_column_width(3, 10)?
        .set_column_width(4, 12)?
        .set_column_width(5, 36)?;
    sheet.set_print_fit_to_pages(1, 0);
    Ok(())
}

/// The key figures below each other, from a row on: as they read, and as numbers.
fn figures(
    sheet: &mut Worksheet,
    mut row: u32,
    document: &Document,
    formats: &Formats,
) -> Result<(), XlsxError> {
    for block in document.sections.iter().flat_map(|section| &section.blocks) {
        let Body::Figures { figures } = &block.body else {
            continue;
        };
        row += 1;
        let first = (block.title.as_str(), false);
        let headings = std::iter::once(first).chain(FIGURE_HEADINGS);
        for (column, (heading, right)) in headings.enumerate() {
            sheet.write_with_format(row, column as u16, heading, formats.heading(right))?;
        }
        for figure in figures {
            row += 1;
            sheet
                .write_string(row, 0, &figure.title)?
                .write_string(row, 1, &figure.value)?;
            if let Some(amount) = figure.amount.filter(|amount| amount.is_finite()) {
                let format = formats.number(decimals(&[amount], figure.unit == "%"));
                sheet.write_number_with_format(row, 2, amount, &format)?;
            }
            sheet
                .write_string(row, 3, &figure.unit)?
                .write_string(row, 4, figure.status.map_or("", |status| status.word()))?
                .write_string(row, 5, figure.change.as_deref().unwrap_or_default())?;
        }
        row += 1;
    }
    Ok(())
}

/// The first row of a sheet, and how wide its columns are.
fn head(
    sheet: &mut Worksheet,
    heads: impl Iterator<Item = Head>,
    formats: &Formats,
) -> Result<(), XlsxError> {
    for (index, head) in heads.enumerate() {
        sheet
            .write_with_format(0, index as u16, &head.text, formats.heading(head.right))?
            .set_column_width(index as u16, head.width)?;
    }
    Ok(())
}

#[expect(
    clippy::too_many_lines,
    reason = "writes formats and rows of one sheet"
)]
fn table(sheet: &mut Worksheet, data: &DataTable, formats: &Formats) -> Result<(), XlsxError> {
    let shapes = shapes(data);
    head(sheet, heads(data, &shapes), formats)?;
    let numbers: Vec<Format> = shapes
        .iter()
        .map(|shape| formats.number(shape.decimals))
        .collect();
    let (mut rows, mut row, mut place) = (data.table.rows(), Vec::new(), 0);
    while place < MOST_ROWS && rows.next_into(&mut row) {
        place += 1;
        for (index, value) in row.iter().enumerate() {
            let at = (place as u32, index as u16);
            match value {
                Value::Missing => {}
                Value::Boolean(b) => {
                    sheet.write_boolean(at.0, at.1, *b)?;
                }
                Value::Integer(_) | Value::Decimal(_) if shapes[index].exact => {
                    sheet.write_string(at.0, at.1, value.exact(data.zone))?;
                }
                Value::Integer(n) => {
                    sheet.write_number_with_format(at.0, at.1, *n as f64, &numbers[index])?;
                }
                Value::Number(n) if !n.is_finite() => {
                    sheet.write_string(at.0, at.1, n.to_string())?;
                }
                Value::Number(_) | Value::Decimal(_) => {
                    let number = value.as_number().unwrap_or_default();
                    sheet.write_number_with_format(at.0, at.1, number, &numbers[index])?;
                }
                // Written as a text, "=1+1" is no formula.
                Value::Text(text) => {
                    sheet.write_string(
                        at.0,
                        at.1,
                        text.chars().take(LONGEST_TEXT).collect::<String>(),
                    )?;
                }
                Value::Instant(instant) => match ExcelDateTime::from_timestamp(
                    data.zone.local(*instant).and_utc().timestamp(),
                ) {
                    Ok(time) => {
                        sheet.write_datetime_with_format(at.0, at.1, &time, &formats.instant)?;
                    }
                    Err(_) => {
                        sheet.write_string(at.0, at.1, data.zone.rfc3339(*instant))?;
                    }
                },
                Value::Date(date) => match days(*date) {
                    Some(time) => {
                        sheet.write_datetime_with_format(at.0, at.1, &time, &formats.date)?;
                    }
                    None => {
                        sheet.write_string(at.0, at.1, date.to_string())?;
                    }
                },
            }
        }
    }
    on_paper(sheet)?;
    if data.headings.len() > MOST_UPRIGHT {
        sheet.set_landscape();
    }
    if !data.headings.is_empty() {
        sheet.autofilter(0, 0, place as u32, data.headings.len() as u16 - 1)?;
    }
    Ok(())
}

/// A spreadsheet's calendar begins with the year 1900.
fn days(date: NaiveDate) -> Option<ExcelDateTime> {
    use chrono::Datelike;
    ExcelDateTime::from_ymd(
        u16::try_from(date.year()).ok()?,
        date.month() as u8,
        date.day() as u8,
    )
    .ok()
}

/// On paper as wide as a page, with the headings on each; on the screen they stay in sight.
fn on_paper(sheet: &mut Worksheet) -> Result<&mut Worksheet, XlsxError> {
    Ok(sheet
        .set_freeze_panes(1, 0)?
        .set_repeat_rows(0, 0)?
        .set_print_fit_to_pages(1, 0))
}

fn drawn(
    sheet: &mut Worksheet,
    name: &str,
    block: &Block,
    picture: &Picture,
    grid: &Grid,
    formats: &Formats,
) -> Result<(), XlsxError> {
    head(sheet, heads_of_chart(picture, grid), formats)?;
    for (index, (label, values)) in grid.rows.iter().enumerate() {
        let row = index as u32 + 1;
        match label {
            Label::Text(text) => {
                sheet.write_string(row, 0, text)?;
            }
            Label::Instant(at) => {
                sheet.write_datetime_with_format(
                    row,
                    0,
                    &ExcelDateTime::from_timestamp(*at)?,
                    &formats.instant,
                )?;
            }
        }
        for (column, value) in values.iter().enumerate() {
            if let Some(value) = value {
                sheet.write_number(row, column as u16 + 1, *value)?;
            }
        }
    }
    // The chart stands beside its rows.
    on_paper(sheet)?.set_landscape();
    let last = grid.rows.len() as u32;
    let mut chart = Chart::new(kind_of(grid.drawn));
    for column in 1..=grid.series.len() as u16 {
        chart
            .add_series()
            .set_name((name, 0, column))
            .set_categories((name, 1, 0, last, 0))
            .set_values((name, 1, column, last, column));
    }
    chart.title().set_name(&block.title);
    chart.y_axis().set_name(&picture.axis.unit);
    if grid.series.len() < 2 {
        chart.legend().set_hidden();
    }
    if matches!(grid.drawn, Drawn::Bars { upright: false, .. }) {
        chart.x_axis().set_reverse();
    }
    chart
        .set_alt_text(&picture.description)
        .set_width(820)
        .set_height(400);
    sheet.insert_chart(1, grid.series.len() as u16 + 2, &chart)?;
    Ok(())
}

fn kind_of(drawn: Drawn) -> ChartType {
    match drawn {
        Drawn::Lines => ChartType::Line,
        Drawn::Area => ChartType::Area,
        Drawn::Bars { upright, stacked } => match (upright, stacked) {
            (true, true) => ChartType::ColumnStacked,
            (true, false) => ChartType::Column,
            (false, true) => ChartType::BarStacked,
            (false, false) => ChartType::Bar,
        },
    }
}
