//! Rows out of files: CSV (RFC 4180), JSON Lines, JSON, lines of text, iCalendar (RFC 5545), workbooks of
//! spreadsheets and Parquet; also packed.

use std::io::{BufRead, BufReader, Cursor, Read, Seek};

use chrono::{DateTime, Utc};
use encoding_rs_io::DecodeReaderBytesBuilder;
use maple_lark_data::{Column, ColumnKind, Table, Value};
use maple_lark_definition::{Field, FileForm, FileRows, Source, TimeForm};
use maple_lark_time::{Window, calendar::Calendar};
use serde_json_path::JsonPath;

use crate::{
    Answer, BadCell, SourceError, cells,
    columns::{BadColumns, Columns},
    json,
    packed_files::{each_member, sheet},
    within_size,
};

/// The rows of one file that is in memory.
pub fn rows_of(
    source: &Source,
    rows: &FileRows,
    window: &Window,
    bytes: &[u8],
    sent: String,
) -> Result<Answer, SourceError> {
    let mut gathered = Gathered::new(source, rows, window);
    gathered.add(&rows.file, Cursor::new(bytes))?;
    gathered.answer(sent)
}

/// The columns that are asked for of the events of a calendar: what each is called, and which of
/// [`FileForm::EVENT_COLUMNS`] it is.
fn event_columns(rows: &FileRows) -> Vec<(Column, usize)> {
    let all = FileForm::EVENT_COLUMNS;
    let column = |name: &str, place: usize| {
        let column = Column {
            name: name.to_owned(),
            kind: all[place].1,
        };
        (column, place)
    };
    if rows.fields.is_empty() {
        let names = all.iter().enumerate();
        return names
            .map(|(place, (name, _))| column(name, place))
            .collect();
    }
    let asked = rows.fields.iter().filter_map(|field| {
        let wanted = field.path.as_ref().unwrap_or(&field.name);
        let place = all.iter().position(|(name, _)| name == wanted)?;
        Some(column(&field.name, place))
    });
    asked.collect()
}

/// What the column of a line is called that is taken as a whole.
const WHOLE_LINE: &str = "line";

/// A column whose kind is found out.
fn text_field(name: &str) -> Field {
    Field {
        name: name.to_owned(),
        path: None,
        outer: false,
        kind: ColumnKind::Text,
        time: TimeForm::Iso,
    }
}

/// A cell of a heading.
fn written(cell: &serde_json::Value) -> String {
    match cell {
        serde_json::Value::Null => String::new(),
        serde_json::Value::String(text) => text.trim().to_owned(),
        other => other.to_string(),
    }
}

/// Rows of one file after another.
pub struct Gathered<'a> {
    source: &'a Source,
    rows: &'a FileRows,
    window: &'a Window,
    columns: Vec<Field>,
    /// Only what has a field is typed at once; else all texts are kept until all are known.
    texts: Vec<Vec<String>>,
    table: Table,
    bad: usize,
    first_bad: Option<String>,
    /// How many bytes may still be read.
    left: u64,
}

impl<'a> Gathered<'a> {
    pub fn new(source: &'a Source, rows: &'a FileRows, window: &'a Window) -> Self {
        let columns = rows.fields.clone();
        let table = Table {
            columns: columns
                .iter()
                .map(|field| Column {
                    name: field.name.clone(),
                    kind: field.kind,
                })
                .collect(),
            ..Table::default()
        };
        Self {
            source,
            rows,
            window,
            columns,
            texts: Vec::new(),
            table,
            bad: 0,
            first_bad: None,
            left: source.max_bytes,
        }
    }

    pub fn full(&self) -> bool {
        self.table.truncated
    }

    /// A file, which may be packed or an archive of several.
    pub fn add(&mut self, name: &str, file: impl Read + Seek) -> Result<(), SourceError> {
        match self.rows.form {
            FileForm::Workbook => return self.add_workbook(name, file),
            FileForm::Parquet => return self.add_parquet(name, file),
            _ => {}
        }
        let source_name = self.source.name.clone();
        let failed = |words: String| SourceError::Files {
            source_name: source_name.clone(),
            words,
        };
        each_member(name, file, failed, |name, inside| {
            self.add_one(name, inside)?;
            Ok(!self.full())
        })
    }

    fn add_one(&mut self, name: &str, bytes: impl Read) -> Result<(), SourceError> {
        // One byte more tells a file that ends here from one that goes on.
        let most = self.left.saturating_add(1);
        let mut bytes = bytes.take(most);
        let added = self.decode(name, &mut bytes);
        match self.left.checked_sub(most - bytes.limit()) {
            Some(left) => self.left = left,
            None => within_size(self.source, usize::MAX)?,
        }
        added
    }

    fn decode(&mut self, name: &str, bytes: impl Read) -> Result<(), SourceError> {
        let failed = |words: String| SourceError::Files {
            source_name: self.source.name.clone(),
            words,
        };
        let encoding =
            encoding_rs::Encoding::for_label(self.rows.encoding.as_bytes()).ok_or_else(|| {
                failed(format!(
                    "\"{}\" is not an encoding, such as \"utf-8\" or \"windows-1252\"",
                    self.rows.encoding
                ))
            })?;
        // A byte-order mark, if there is one, says more than the definition.
        let text = DecodeReaderBytesBuilder::new()
            .encoding(Some(encoding))
            .bom_override(true)
            .build(bytes);
        match self.rows.form {
            FileForm::Csv => self.add_csv(name, text),
            FileForm::JsonLines => self.add_lines(name, BufReader::new(text)),
            FileForm::Json => self.add_json(name, text),
            FileForm::Lines => self.add_text(name, BufReader::new(text)),
            FileForm::Calendar => self.add_events(name, text),
            // They are no text, and have been read as a whole.
            FileForm::Workbook | FileForm::Parquet => Ok(()),
        }
    }

    /// All of a file that is no text.
    fn whole(&mut self, name: &str, mut file: impl Read) -> Result<Vec<u8>, SourceError> {
        let mut bytes = Vec::new();
        let most = self.left.saturating_add(1);
        let read = file.by_ref().take(most).read_to_end(&mut bytes);
        read.map_err(|error| SourceError::Files {
            source_name: self.source.name.clone(),
            words: format!("{name}: it cannot be read: {error}"),
        })?;
        match self.left.checked_sub(bytes.len() as u64) {
            Some(left) => self.left = left,
            None => within_size(self.source, usize::MAX)?,
        }
        Ok(bytes)
    }

    /// The rows of a file of columns.
    fn add_parquet(&mut self, name: &str, file: impl Read) -> Result<(), SourceError> {
        let bytes = self.whole(name, file)?;
        let source_name = self.source.name.clone();
        let failed = |error: BadColumns| SourceError::Files {
            source_name: source_name.clone(),
            words: format!("{name}: {error}"),
        };
        let columns = Columns::open(bytes, self.source.max_bytes).map_err(failed)?;
        let places = self.places(name, columns.names(), columns.names().len())?;
        for (row, number) in columns.rows().map_err(failed)?.zip(1..) {
            let row = row.map_err(failed)?;
            self.add_row(name, number, |place, _| {
                let cell = places.get(place).and_then(|place| row.get(*place));
                cell.cloned().unwrap_or_default()
            })?;
            if self.full() {
                break;
            }
        }
        Ok(())
    }

    /// The rows of one sheet.
    fn add_workbook(&mut self, name: &str, file: impl Read) -> Result<(), SourceError> {
        let bytes = self.whole(name, file)?;
        let failed = |words: String| SourceError::Files {
            source_name: self.source.name.clone(),
            words: format!("{name}: {words}"),
        };
        let read = sheet(bytes, self.rows.sheet.as_deref(), self.source.max_bytes);
        let all = read.map_err(|error| failed(error.to_string()))?;
        if all.is_empty() {
            return Ok(());
        }
        let width = all.first().map_or(0, Vec::len);
        let heading: Vec<String> = match all.first() {
            Some(first) if self.rows.has_header => first.iter().map(written).collect(),
            _ => Vec::new(),
        };
        let places = self.places(name, &heading, width)?;
        let first = usize::from(self.rows.has_header);
        for (row, line) in all.iter().zip(1..).skip(first) {
            if row.iter().all(serde_json::Value::is_null) {
                continue;
            }
            self.add_row(name, line, |place, _| {
                let cell = places.get(place).and_then(|place| row.get(*place));
                cell.cloned().unwrap_or_default()
            })?;
            if self.full() {
                break;
            }
        }
        Ok(())
    }

    fn line(&self, file: &str, line: u64, words: String) -> SourceError {
        SourceError::Line {
            source_name: self.source.name.clone(),
            file: file.to_owned(),
            line,
            words,
        }
    }

    /// A row that cannot be read stops the reading, unless its author lets it be left out.
    fn bad_row(&mut self, error: SourceError) -> Result<(), SourceError> {
        if !self.rows.skip_bad {
            return Err(error);
        }
        self.bad += 1;
        if self.first_bad.is_none() {
            let words = match &error {
                SourceError::Line {
                    file, line, words, ..
                } => format!("{file}, line {line}: {words}"),
                other => other.to_string(),
            };
            self.first_bad = Some(words);
        }
        Ok(())
    }

    fn add_csv(&mut self, name: &str, text: impl Read) -> Result<(), SourceError> {
        let mut reader = csv::ReaderBuilder::new()
            .delimiter(self.rows.delimiter as u8)
            .has_headers(self.rows.has_header)
            .flexible(true)
            .from_reader(text);
        let heading: Vec<String> = if self.rows.has_header {
            let found = reader
                .headers()
                .map_err(|error| self.line(name, 1, error.to_string()))?;
            found.iter().map(|name| name.trim().to_owned()).collect()
        } else {
            Vec::new()
        };
        let mut places: Option<Vec<usize>> = None;
        let mut record = csv::StringRecord::new();
        loop {
            let line = reader.position().line();
            match reader.read_record(&mut record) {
                Ok(false) => return Ok(()),
                Ok(true) => {}
                Err(error) => {
                    let words = error.to_string();
                    self.bad_row(self.line(name, line, words))?;
                    continue;
                }
            }
            let line = record.position().map_or(line, csv::Position::line);
            if places.is_none() {
                places = Some(self.places(name, &heading, record.len())?);
            }
            let width = if self.rows.has_header {
                heading.len()
            } else {
                places.as_ref().map_or(0, |_| record.len())
            };
            if record.len() != width {
                self.bad_row(self.line(
                    name,
                    line,
                    format!(
                        "it has {} columns, but the heading has {width}",
                        record.len()
                    ),
                ))?;
                continue;
            }
            let texts = places
                .iter()
                .flatten()
                .map(|place| record.get(*place).unwrap_or_default());
            let texts: Vec<&str> = texts.collect();
            self.add_row(name, line, |place, _| {
                texts.get(place).map_or("", |text| text).to_owned().into()
            })?;
            if self.full() {
                return Ok(());
            }
        }
    }

    /// Where each field stands in this file. Without fields the first file says which
    /// columns there are.
    fn places(
        &mut self,
        name: &str,
        heading: &[String],
        width: usize,
    ) -> Result<Vec<usize>, SourceError> {
        let names: Vec<String> = if self.rows.has_header {
            heading.to_vec()
        } else {
            (1..=width).map(|n| format!("column_{n}")).collect()
        };
        if self.columns.is_empty() {
            self.columns = names.iter().map(|name| text_field(name)).collect();
        }
        let place = |field: &Field| {
            let wanted = field.path.as_ref().unwrap_or(&field.name);
            names.iter().position(|name| name == wanted).ok_or_else(|| {
                let near =
                    maple_lark_time::nearest::suggestion(wanted, names.iter().map(String::as_str));
                self.line(
                    name,
                    1,
                    format!(
                        "there is no column \"{wanted}\".{near} There are: {}",
                        names.join(", ")
                    ),
                )
            })
        };
        self.columns.iter().map(place).collect()
    }

    fn add_lines(&mut self, name: &str, text: impl BufRead) -> Result<(), SourceError> {
        for (index, line) in text.lines().enumerate() {
            let number = index as u64 + 1;
            let line = line.map_err(|error| self.line(name, number, error.to_string()))?;
            if line.trim().is_empty() {
                continue;
            }
            let object = match serde_json::from_str::<serde_json::Value>(&line) {
                Ok(serde_json::Value::Object(object)) => object,
                Ok(_) => {
                    self.bad_row(self.line(name, number, "it is not a JSON object".to_owned()))?;
                    continue;
                }
                Err(error) => {
                    self.bad_row(self.line(name, number, format!("it is not JSON: {error}")))?;
                    continue;
                }
            };
            self.add_object(name, number, &object)?;
            if self.full() {
                break;
            }
        }
        Ok(())
    }

    /// A row of the names of an object. Without fields the first says which columns there are.
    fn add_object(
        &mut self,
        name: &str,
        number: u64,
        object: &serde_json::Map<String, serde_json::Value>,
    ) -> Result<(), SourceError> {
        if self.columns.is_empty() {
            self.columns = object.keys().map(|key| text_field(key)).collect();
        }
        self.add_row(name, number, |_, field| {
            object
                .get(field.path.as_ref().unwrap_or(&field.name))
                .cloned()
                .unwrap_or_default()
        })
    }

    /// The objects of a list, or of the place in the text that is said; an object by itself is a row.
    fn add_json(&mut self, name: &str, mut text: impl Read) -> Result<(), SourceError> {
        let failed = |words: String| SourceError::Files {
            source_name: self.source.name.clone(),
            words: format!("{name}: {words}"),
        };
        let mut bytes = Vec::new();
        let read = text.read_to_end(&mut bytes);
        read.map_err(|error| failed(format!("it cannot be read: {error}")))?;
        let whole = json::parse(self.source, name, &bytes)?;
        let found: Vec<&serde_json::Value> = match &self.rows.rows {
            Some(path) => {
                let path = JsonPath::parse(path).map_err(|error| failed(error.to_string()))?;
                path.query(&whole).all()
            }
            None => match &whole {
                serde_json::Value::Array(all) => all.iter().collect(),
                one => vec![one],
            },
        };
        for (row, number) in found.into_iter().zip(1..) {
            match row {
                serde_json::Value::Object(object) => self.add_object(name, number, object)?,
                _ => {
                    let words = format!("row {number} is not an object");
                    let error = SourceError::Files {
                        source_name: self.source.name.clone(),
                        words: format!("{name}: {words}"),
                    };
                    self.bad_row(error)?;
                }
            }
            if self.full() {
                break;
            }
        }
        Ok(())
    }

    /// Lines of text: each is a row of its own, or of what the pattern finds in it.
    fn add_text(&mut self, name: &str, text: impl BufRead) -> Result<(), SourceError> {
        let pattern = match &self.rows.pattern {
            Some(pattern) => {
                let read = regex::Regex::new(pattern);
                Some(read.map_err(|error| self.line(name, 1, error.to_string()))?)
            }
            None => None,
        };
        if self.columns.is_empty() {
            self.columns = match &pattern {
                Some(pattern) => pattern.capture_names().flatten().map(text_field).collect(),
                None => vec![text_field(WHOLE_LINE)],
            };
        }
        for (line, number) in text.lines().zip(1..) {
            let line = line.map_err(|error| self.line(name, number, error.to_string()))?;
            let found = match &pattern {
                Some(pattern) => pattern.captures(&line),
                None => None,
            };
            if pattern.is_some() && found.is_none() {
                if !line.trim().is_empty() {
                    let words = "it does not fit the pattern".to_owned();
                    self.bad_row(self.line(name, number, words))?;
                }
                continue;
            }
            self.add_row(name, number, |_, field| {
                let wanted = field.path.as_ref().unwrap_or(&field.name);
                let text = match &found {
                    Some(found) => found.name(wanted).map(|part| part.as_str()),
                    None => (wanted == WHOLE_LINE).then_some(line.as_str()),
                };
                text.map_or(serde_json::Value::Null, Into::into)
            })?;
            if self.full() {
                break;
            }
        }
        Ok(())
    }

    /// The events of a calendar that have a part in the window.
    fn add_events(&mut self, name: &str, mut text: impl Read) -> Result<(), SourceError> {
        let mut whole = String::new();
        text.read_to_string(&mut whole)
            .map_err(|error| self.line(name, 1, error.to_string()))?;
        let calendar = Calendar::parse(&whole).map_err(|problems| {
            let first = problems.into_iter().next();
            let (line, words) = first.map_or_else(Default::default, |problem| {
                let of = match problem.event.as_str() {
                    "" => String::new(),
                    event => format!("{event}: "),
                };
                (problem.line as u64, of + &problem.message)
            });
            self.line(name, line, words)
        })?;
        let columns = event_columns(self.rows);
        for event in calendar.events_in(self.window) {
            let said = &event.said;
            let texts = [
                &said.title,
                &said.location,
                &said.categories,
                &said.description,
            ];
            let texts = texts.map(|text| match text.as_str() {
                "" => Value::Missing,
                text => Value::Text(text.to_owned()),
            });
            let [title, location, categories, description] = texts;
            let (from, to) = (Value::Instant(event.from), Value::Instant(event.to));
            let all = [from, to, title, location, categories, description];
            self.keep(
                columns
                    .iter()
                    .map(|(_, place)| all[*place].clone())
                    .collect(),
            );
            if self.full() {
                break;
            }
        }
        Ok(())
    }

    fn add_row(
        &mut self,
        name: &str,
        line: u64,
        cell: impl Fn(usize, &Field) -> serde_json::Value,
    ) -> Result<(), SourceError> {
        let typed = !self.rows.fields.is_empty();
        let cells = self.columns.iter().enumerate().map(|(place, field)| {
            cells::from_json(&cell(place, field), field).map_err(|error| (field, error))
        });
        match cells.collect::<Result<Vec<Value>, (&Field, BadCell)>>() {
            Err((field, error)) => {
                let words = format!("column \"{}\": {error}", field.name);
                let error = self.line(name, line, words);
                self.bad_row(error)
            }
            Ok(cells) if typed => {
                if self.in_window(&cells) {
                    self.keep(cells);
                }
                Ok(())
            }
            Ok(cells) => {
                let texts = cells
                    .into_iter()
                    .map(|value| {
                        if let Value::Text(text) = value {
                            text
                        } else {
                            String::new()
                        }
                    })
                    .collect();
                if self.texts.len() == self.source.row_limit {
                    self.table.truncated = true
                } else {
                    self.texts.push(texts)
                }
                Ok(())
            }
        }
    }

    fn keep(&mut self, cells: Vec<Value>) {
        if self.table.rows.len() == self.source.row_limit {
            self.table.truncated = true
        } else {
            self.table.rows.push(cells)
        }
    }

    fn in_window(&self, cells: &[Value]) -> bool {
        let Some(time) = &self.rows.time else {
            return true;
        };
        let place = self.columns.iter().position(|field| field.name == *time);
        let within = |at: DateTime<Utc>| at >= self.window.from && at < self.window.to;
        place
            .and_then(|place| cells.get(place))
            .is_some_and(|value| match value {
                Value::Instant(at) => within(*at),
                Value::Date(date) => within(self.window.zone.start_of(*date)),
                _ => false,
            })
    }

    /// What was gathered, with the kinds of columns found out that were not said.
    pub fn answer(mut self, sent: String) -> Result<Answer, SourceError> {
        if self.rows.form == FileForm::Calendar {
            let columns = event_columns(self.rows).into_iter();
            self.table.columns = columns.map(|(column, _)| column).collect();
        } else if self.rows.fields.is_empty() {
            let names = self.columns.iter().map(|field| field.name.clone());
            let mut table = cells::typed(names, std::mem::take(&mut self.texts));
            for (field, column) in self.columns.iter_mut().zip(&table.columns) {
                field.kind = column.kind;
            }
            table.rows.retain(|row| self.in_window(row));
            table.truncated = self.table.truncated;
            self.table = table;
        }
        self.check_time()?;
        let note = self.first_bad.map(|first| {
            let rows = if self.bad == 1 {
                "1 row that could not be read was left out".to_owned()
            } else {
                format!("{} rows that could not be read were left out", self.bad)
            };
            format!("{rows}; the first: {first}")
        });
        Ok(Answer {
            note,
            ..Answer::of(self.table, sent)
        })
    }

    /// That the column that the window narrows is there and holds times.
    fn check_time(&self) -> Result<(), SourceError> {
        if let Some(time) = &self.rows.time {
            let kind = self
                .columns
                .iter()
                .find(|field| field.name == *time)
                .map(|field| field.kind);
            let timed = matches!(kind, Some(ColumnKind::Instant | ColumnKind::Date));
            if !timed && !self.columns.is_empty() {
                let words = format!(
                    "the window is to narrow the column \"{time}\", which {}",
                    if kind.is_some() {
                        "holds no times"
                    } else {
                        "is not there"
                    }
                );
                return Err(SourceError::Files {
                    source_name: self.source.name.clone(),
                    words,
                });
            }
        }
        Ok(())
    }
}
