//! A spreadsheet workbook (Office Open XML): a summary, a sheet for each table with typed
//! cells, and a sheet with a native chart for each chart that a spreadsheet can draw.

use std::collections::BTreeMap;

use chrono::{DateTime, NaiveDate, Utc};
use maple_lark_data::{
    ColumnKind, Unit, Value,
    number_format::{NumberFormat, decimals},
};
use maple_lark_definition::LineStyle;
use maple_lark_document::{
    chart::{Chart as Picture, Plot},
    document::{Block, Body, DataTable, Document, ShownAs},
};
use rust_xlsxwriter::{
    Chart, ChartType, Color, DocProperties, ExcelDateTime, Format, Workbook, Worksheet, XlsxError,
};

use crate::RenderError;

/// The rows that a sheet can hold below its headings.
const MOST_ROWS: usize = 1_048_575;
/// The smallest whole number that a spreadsheet does not write out.
const LONGEST_WHOLE: u64 = 1_000_000_000_000_000;
/// More columns than these are printed on pages that lie.
const MOST_UPRIGHT: usize = 6;

impl From<XlsxError> for RenderError {
    fn from(error: XlsxError) -> Self {
        Self::Workbook(error.to_string())
    }
}

struct Formats {
    heading: Format,
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
        Self {
            heading: Format::new()
                .set_bold()
                .set_background_color(Color::RGB(0xf2f5f7))
                .set_text_wrap(),
            title: Format::new().set_bold().set_font_size(14),
            instant: Format::new().set_num_format(format!("{day} hh:mm:ss")),
            date: Format::new().set_num_format(day),
            grouped: document.number_format.group.is_some(),
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
    let of_tables = |data: &&DataTable| data.shown_as == ShownAs::Table;
    for data in document.data.iter().filter(of_tables) {
        let sheet = book.add_worksheet().set_name(names.free(&data.title))?;
        table(sheet, data, &formats)?;
    }
    // The rows behind the charts, in the order of the charts that have any.
    let mut rows = document
        .data
        .iter()
        .filter(|data| !of_tables(data))
        .peekable();
    for block in document.sections.iter().flat_map(|section| &section.blocks) {
        let chart = match &block.body {
            Body::Chart { chart } => Some(chart),
            Body::Empty { .. } | Body::Failed { .. } => None,
            _ => continue,
        };
        let data = rows.next_if(|data| data.title == block.title);
        let Some(chart) = chart else { continue };
        let name = names.free(&block.title);
        let sheet = book.add_worksheet().set_name(&name)?;
        match (grid(chart, document), data) {
            (Some(grid), _) => drawn(sheet, &name, block, chart, &grid, &formats)?,
            (None, Some(data)) => table(sheet, data, &formats)?,
            (None, None) => {
                sheet.write_string(0, 0, &chart.description)?;
            }
        }
    }
    Ok(book.save_to_buffer()?)
}

/// Sheet names: at most 31 letters, none of which means something, each once.
#[derive(Default)]
struct Names(Vec<String>);

impl Names {
    fn free(&mut self, title: &str) -> String {
        let clean: String = title
            .chars()
            .map(|c| {
                if matches!(c, '[' | ']' | ':' | '*' | '?' | '/' | '\\' | '\'') || c.is_control() {
                    ' '
                } else {
                    c
                }
            })
            .collect();
        let clean = if clean.trim().is_empty() {
            "Sheet"
        } else {
            clean.trim()
        };
        let short = |most: usize| {
            clean
                .chars()
                .take(most)
                .collect::<String>()
                .trim()
                .to_owned()
        };
        let taken = |name: &str| {
            self.0
                .iter()
                .any(|known| known.to_lowercase() == name.to_lowercase())
        };
        let mut name = short(31);
        let mut number = 2;
        while taken(&name) {
            name = format!("{} {number}", short(27));
            number += 1;
        }
        self.0.push(name.clone());
        name
    }
}

fn summary(sheet: &mut Worksheet, document: &Document, formats: &Formats) -> Result<(), XlsxError> {
    let front = &document.front;
    sheet.write_with_format(0, 0, &document.title, &formats.title)?;
    let mut lines = vec![
        ("Window", front.window_label.clone()),
        ("", front.window_exact.clone()),
    ];
    lines.push(("Status", document.summary.headline.clone()));
    lines.extend(
        document
            .summary
            .lines
            .iter()
            .map(|line| ("", line.text.clone())),
    );
    lines.extend(
        front
            .filters
            .iter()
            .map(|(name, value)| (name.as_str(), value.clone())),
    );
    lines.push(("Made", front.made_at.clone()));
    lines.push(("Sources", front.sources.join(", ")));
    lines.push(("Run", front.run_id.clone()));
    if let Some(version) = &front.zone_rules {
        lines.push(("Time zone rules", version.clone()));
    }
    if let Some(head) = &front.archive_head {
        lines.push(("Archive up to", head.clone()));
    }
    let mut row = 2;
    for (name, value) in lines {
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
        for (column, heading) in [
            block.title.as_str(),
            "Value",
            "Number",
            "Unit",
            "Status",
            "Change",
        ]
        .into_iter()
        .enumerate()
        {
            sheet.write_with_format(row, column as u16, heading, &formats.heading)?;
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

#[expect(
    clippy::too_many_lines,
    reason = "writes headings, formats and rows of one sheet"
)]
fn table(sheet: &mut Worksheet, data: &DataTable, formats: &Formats) -> Result<(), XlsxError> {
    let shapes = shapes(data);
    for (index, shape) in shapes.iter().enumerate() {
        let mut heading = data.titles[index].clone();
        if data.table.columns[index].kind == ColumnKind::Instant {
            heading += &format!(" ({})", data.zone);
        }
        let symbol = data.units[index].symbol();
        if !symbol.is_empty() {
            heading += &format!(" [{symbol}]");
        }
        sheet
            .write_with_format(0, index as u16, &heading, &formats.heading)?
            .set_column_width(index as u16, shape.width(&heading))?;
    }
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
                        text.chars().take(32_767).collect::<String>(),
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

/// What the values of a column have in common.
#[derive(Default)]
struct Shape {
    /// Whether its whole numbers have more digits than a spreadsheet's numbers, which is
    /// fifteen: identifiers, as a rule. All of such a column is text, so that it is of one type;
    /// a fraction is the nearest number.
    exact: bool,
    decimals: usize,
    /// In characters, of the longest value.
    longest: usize,
}

impl Shape {
    /// So wide that values are whole and a heading breaks between words at most.
    fn width(&self, heading: &str) -> f64 {
        let word = heading.split(' ').map(|word| word.chars().count()).max();
        let widest = self.longest.max(word.unwrap_or_default());
        widest.clamp(8, 60) as f64 + 2.0
    }
}

fn shapes(data: &DataTable) -> Vec<Shape> {
    let mut shapes: Vec<Shape> = Vec::new();
    shapes.resize_with(data.table.columns.len(), Shape::default);
    let mut fractions: Vec<(bool, f64)> = vec![(false, 0.0); shapes.len()];
    let (mut rows, mut row) = (data.table.rows(), Vec::new());
    while rows.next_into(&mut row) {
        for ((value, shape), (has_fraction, largest)) in
            row.iter().zip(&mut shapes).zip(&mut fractions)
        {
            shape.exact |= match value {
                Value::Integer(n) => n.unsigned_abs() >= LONGEST_WHOLE,
                Value::Decimal(n) => {
                    n.is_integer()
                        && n.trunc().mantissa().unsigned_abs() >= u128::from(LONGEST_WHOLE)
                }
                _ => false,
            };
            let long = match value {
                Value::Missing => 0,
                Value::Text(text) => text
                    .lines()
                    .map(|line| line.chars().count())
                    .max()
                    .unwrap_or(0),
                Value::Instant(_) => 20,
                Value::Date(_) => 11,
                Value::Boolean(_) => 5,
                number => {
                    let number = number.as_number().unwrap_or_default();
                    *has_fraction |= number.fract() != 0.0;
                    *largest = largest.max(number.abs());
                    0
                }
            };
            shape.longest = shape.longest.max(long);
        }
    }
    for (((has_fraction, largest), shape), unit) in
        fractions.into_iter().zip(&mut shapes).zip(&data.units)
    {
        shape.decimals = match unit {
            Unit::Currency(_) => 2,
            // A fraction, and the largest.
            Unit::Percent | Unit::Ratio if has_fraction => decimals(&[0.5, largest], true),
            _ if has_fraction => decimals(&[0.5, largest], false),
            _ => 0,
        };
        let plain = NumberFormat::default();
        let number = plain.number(largest, shape.decimals).chars().count() + 1;
        shape.longest = shape.longest.max(if shape.exact { 20 } else { number });
    }
    shapes
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

/// What a native chart is drawn from: one row for each time or category.
struct Grid {
    first: String,
    series: Vec<String>,
    rows: Vec<(Label, Vec<Option<f64>>)>,
    kind: ChartType,
}

enum Label {
    Text(String),
    Instant(i64),
}

/// The charts that a spreadsheet can draw: lines, areas and bars.
fn grid(chart: &Picture, document: &Document) -> Option<Grid> {
    let zone = document.zone;
    match &chart.plot {
        Plot::Lines { series, style, .. } if *style != LineStyle::Stacked => {
            // By instant: on a day with 25 hours the wall clock shows one hour twice.
            let mut rows: BTreeMap<DateTime<Utc>, Vec<Option<f64>>> = BTreeMap::new();
            for (index, one) in series.iter().enumerate() {
                for (at, value) in one.stretches.iter().flatten() {
                    rows.entry(*at).or_insert_with(|| vec![None; series.len()])[index] =
                        Some(*value);
                }
            }
            let kind = if *style == LineStyle::Area {
                ChartType::Area
            } else {
                ChartType::Line
            };
            let rows = rows
                .into_iter()
                .map(|(at, values)| (Label::Instant(zone.local(at).and_utc().timestamp()), values))
                .collect();
            Some(Grid {
                first: format!("Time ({zone})"),
                series: series.iter().map(|one| one.name.clone()).collect(),
                rows,
                kind,
            })
        }
        Plot::Bars {
            categories,
            series,
            form,
        } => {
            let rows = categories
                .iter()
                .enumerate()
                .map(|(index, name)| {
                    (
                        Label::Text(name.clone()),
                        series.iter().map(|bars| bars.values[index]).collect(),
                    )
                })
                .collect();
            let kind = match (form.upright, form.stacked) {
                (true, true) => ChartType::ColumnStacked,
                (true, false) => ChartType::Column,
                (false, true) => ChartType::BarStacked,
                (false, false) => ChartType::Bar,
            };
            Some(Grid {
                first: String::new(),
                series: series.iter().map(|bars| bars.name.clone()).collect(),
                rows,
                kind,
            })
        }
        _ => None,
    }
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
    sheet
        .write_with_format(0, 0, &grid.first, &formats.heading)?
        .set_column_width(0, 22)?;
    for (index, title) in grid.series.iter().enumerate() {
        let heading = if picture.axis.unit.is_empty() {
            title.clone()
        } else {
            format!("{title} [{}]", picture.axis.unit)
        };
        sheet
            .write_with_format(0, index as u16 + 1, heading, &formats.heading)?
            .set_column_width(index as u16 + 1, 14)?;
    }
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
    let mut chart = Chart::new(grid.kind);
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
    if matches!(grid.kind, ChartType::Bar | ChartType::BarStacked) {
        chart.x_axis().set_reverse();
    }
    chart
        .set_alt_text(&picture.description)
        .set_width(820)
        .set_height(400);
    sheet.insert_chart(1, grid.series.len() as u16 + 2, &chart)?;
    Ok(())
}
