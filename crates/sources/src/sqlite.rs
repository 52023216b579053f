//! SQLite: a file that is opened to be read, bound parameters, nothing but that file.

use std::{path::PathBuf, time::Duration};

use chrono::{DateTime, Utc};
use maple_lark_data::{Column, ColumnKind, PackedTable, Value, stop};
use maple_lark_definition::{
    Dialect, ParameterValue, QueryText, Setting, Source, Sql, TimeForm, TimeValue, Times,
};
use rusqlite::{
    Connection, InterruptHandle, OpenFlags, Statement,
    hooks::{AuthAction, AuthContext, Authorization},
    limits::Limit,
    types::{ToSqlOutput, Value as Cell, ValueRef},
};

use crate::{
    Answer, BadCell, Greeting, Question, Reader, SettingProblem, SourceError, Values,
    catalogue::{Entry, Item, Line, tables},
    cells::{self, within_bytes},
    check_steps,
    threads::computed,
    within_size,
};

/// A connection to a database that another program is writing waits so long for it.
const BUSY: Duration = Duration::from_secs(5);
/// No statement nests deeper.
const DEPTH: i32 = 200;

pub async fn read(
    reader: &Reader,
    source: &Source,
    file: &str,
    sql: &Sql,
    question: Question<'_>,
) -> Result<Answer, SourceError> {
    let statement = sql.statement(Dialect::Sqlite).map_err(|error| {
        let words = error.to_string();
        refused(source, words)
    })?;
    check_steps(source, &statement.text, question.times)?;
    let path = path(reader, source, file)?;
    let (text, constants) = (statement.text.clone(), statement.constants.clone());
    let (of, times, values) = (
        source.clone(),
        question.times.clone(),
        question.values.clone(),
    );
    let sent = text.numbered.clone();
    let table = interrupted(source, path, move |connection| {
        let values = bound(&of, &text, &times, &constants, &values)?;
        fetch(connection, &of, &text, &values)
    })
    .await?;
    Ok(Answer::of(table, sent))
}

pub async fn greet(reader: &Reader, source: &Source, file: &str) -> Result<Greeting, SourceError> {
    let path = path(reader, source, file)?;
    let of = source.clone();
    let (tables, version) = interrupted(source, path, move |connection| {
        let count = "select count(*) from sqlite_schema where type in ('table', 'view')";
        let tables: i64 = connection
            .query_row(count, [], |row| row.get(0))
            .map_err(|error| said(&of, &error))?;
        Ok((tables, rusqlite::version()))
    })
    .await?;
    let tables = match tables {
        1 => "1 table or view".to_owned(),
        more => format!("{more} tables and views"),
    };
    Ok(Greeting {
        found: format!("SQLite {version}, {tables}"),
        warning: None,
    })
}

/// Tables and views with their columns.
pub async fn catalogue(
    reader: &Reader,
    source: &Source,
    file: &str,
    search: &str,
) -> Result<Vec<Entry>, SourceError> {
    let path = path(reader, source, file)?;
    let (of, search) = (source.clone(), search.to_owned());
    interrupted(source, path, move |connection| {
        let refused = |error: rusqlite::Error| said(&of, &error);
        let sql = "select s.name, s.type, c.name, c.type from sqlite_schema s join pragma_table_info(s.name) c \
             where s.type in ('table', 'view') and s.name not like 'sqlite~_%' escape '~' order by s.name, c.cid";
        let mut statement = connection.prepare(sql).map_err(refused)?;
        let mut rows = statement.query([]).map_err(refused)?;
        let mut lines = Vec::new();
        while let Some(row) = rows.next().map_err(refused)? {
            let text = |at| row.get::<_, String>(at).map_err(refused);
            lines.push(Line {
                name: text(0)?,
                kind: text(1)?,
                description: String::new(),
                item: Item {
                    name: text(2)?,
                    kind: text(3)?.to_lowercase(),
                    description: String::new(),
                    values: Vec::new(),
                },
            });
        }
        Ok(tables(lines, &search))
    })
    .await
}

/// The file, with its links followed, within the folders that sources may read.
fn path(reader: &Reader, source: &Source, file: &str) -> Result<PathBuf, SourceError> {
    let problem = |problem: SettingProblem| SourceError::Setting {
        source_name: source.name.clone(),
        setting: "file",
        reference: file.to_owned(),
        problem,
    };
    let named = match file.strip_prefix("env:") {
        None => file.to_owned(),
        Some(name) => {
            let setting = Setting::Environment(name.to_owned());
            reader.permissions.check(&setting, None).map_err(problem)?;
            std::env::var(name).map_err(|_| problem(SettingProblem::NotSet))?
        }
    };
    // What may not be read is not told from what is not there.
    let path = PathBuf::from(&named).canonicalize().ok();
    path.filter(|path| path.is_file() && reader.permissions.may_read(path))
        .ok_or_else(|| problem(SettingProblem::NoFolder(named)))
}

/// Ends what a connection does when nobody waits for it any more.
struct Interrupt(InterruptHandle);

impl Drop for Interrupt {
    fn drop(&mut self) {
        self.0.interrupt();
    }
}

/// Opens the file and works with it on a thread of its own; whoever lets go of the answer, as a
/// timeout does, ends the statement that runs.
async fn interrupted<T: Send + 'static>(
    source: &Source,
    path: PathBuf,
    work: impl FnOnce(&Connection) -> Result<T, SourceError> + Send + 'static,
) -> Result<T, SourceError> {
    let of = source.clone();
    let connection = computed(source, move || {
        open(&path).map_err(|error| said(&of, &error))
    })
    .await?;
    let _interrupt = Interrupt(connection.get_interrupt_handle());
    computed(source, move || work(&connection)).await
}

/// A connection that reads this file and nothing else: no other file can be attached, no
/// setting changed, no extension loaded.
fn open(path: &std::path::Path) -> rusqlite::Result<Connection> {
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = Connection::open_with_flags(path, flags)?;
    connection.busy_timeout(BUSY)?;
    connection.pragma_update(None, "query_only", true)?;
    connection.set_limit(Limit::SQLITE_LIMIT_ATTACHED, 0);
    connection.set_limit(Limit::SQLITE_LIMIT_EXPR_DEPTH, DEPTH);
    connection.authorizer(Some(|context: AuthContext<'_>| match context.action {
        AuthAction::Select
        | AuthAction::Read { .. }
        | AuthAction::Function { .. }
        | AuthAction::Recursive => Authorization::Allow,
        AuthAction::Pragma {
            pragma_name: "table_info",
            ..
        } => Authorization::Allow,
        _ => Authorization::Deny,
    }));
    Ok(connection)
}

/// The values of a statement, in the order of its numbers.
fn bound(
    source: &Source,
    text: &QueryText,
    times: &Times,
    constants: &Values,
    values: &Values,
) -> Result<Vec<Cell>, SourceError> {
    let value = |name: &String| {
        if Times::NAMES.contains(&name.as_str()) {
            return times.value(name).map(|value| match value {
                TimeValue::Instant(at) => Cell::Text(written(at)),
                TimeValue::Instants(all) => {
                    list(all.into_iter().map(written).collect::<Vec<String>>())
                }
            });
        }
        let value = constants.get(name).or_else(|| values.get(name))?;
        Some(match value {
            ParameterValue::Text(text) => Cell::Text(text.clone()),
            ParameterValue::Number(number) if number.fract() == 0.0 && number.abs() < 9e15 => {
                Cell::Integer(*number as i64)
            }
            ParameterValue::Number(number) => Cell::Real(*number),
            ParameterValue::List(items) => list(items.clone()),
        })
    };
    let found = text.names.iter().map(|name| {
        value(name).ok_or_else(|| SourceError::NoValue {
            source_name: source.name.clone(),
            name: name.clone(),
        })
    });
    found.collect()
}

/// An instant as SQLite's own functions write it, in UTC.
fn written(at: DateTime<Utc>) -> String {
    at.format("%Y-%m-%d %H:%M:%S").to_string()
}

/// A list is one JSON text, for `json_each`.
fn list(items: Vec<String>) -> Cell {
    Cell::Text(serde_json::Value::from(items).to_string())
}

fn fetch(
    connection: &Connection,
    source: &Source,
    text: &QueryText,
    values: &[Cell],
) -> Result<PackedTable, SourceError> {
    let failed = |error: rusqlite::Error| said(source, &error);
    let mut statement = connection.prepare(&text.numbered).map_err(failed)?;
    if statement.column_count() == 0 {
        let words = "it returns no columns; only queries that return rows can be asked";
        return Err(refused(source, words.to_owned()));
    }
    let names: Vec<String> = statement
        .column_names()
        .into_iter()
        .map(str::to_owned)
        .collect();
    if let Some(twice) = names
        .iter()
        .enumerate()
        .find_map(|(at, name)| names[..at].contains(name).then_some(name))
    {
        let words =
            format!("two columns are named \"{twice}\"; give one of them another name with \"as\"");
        return Err(refused(source, words));
    }
    let declared: Vec<Option<ColumnKind>> = statement
        .columns()
        .iter()
        .map(|column| column.decl_type().and_then(kind_of))
        .collect();
    let (rows, truncated) = rows(&mut statement, source, values)?;
    let kinds: Vec<ColumnKind> = (declared.iter().enumerate())
        .map(|(at, kind)| kind.unwrap_or_else(|| kind_found(rows.iter().map(|row| &row[at]))))
        .collect();
    let columns = names.into_iter().zip(&kinds);
    let mut table = PackedTable::default();
    table.columns = columns
        .map(|(name, kind)| Column { name, kind: *kind })
        .collect();
    for (number, row) in rows.into_iter().enumerate() {
        let cells = row.into_iter().enumerate().map(|(at, value)| {
            cell(value, kinds[at]).map_err(|error| SourceError::Cell {
                source_name: source.name.clone(),
                row: number + 1,
                column: table.columns[at].name.clone(),
                error,
            })
        });
        let cells: Vec<Value> = cells.collect::<Result<_, _>>()?;
        table.push(&cells);
    }
    table.truncated = truncated;
    Ok(table)
}

/// The rows up to the source's limits, and whether there are more.
fn rows(
    statement: &mut Statement<'_>,
    source: &Source,
    values: &[Cell],
) -> Result<(Vec<Vec<Cell>>, bool), SourceError> {
    let failed = |error: rusqlite::Error| said(source, &error);
    let width = statement.column_count();
    let names: Vec<String> = statement
        .column_names()
        .into_iter()
        .map(str::to_owned)
        .collect();
    let name = |at: usize| names[at].clone();
    let bound =
        rusqlite::params_from_iter(values.iter().map(|value| ToSqlOutput::Owned(value.clone())));
    let mut found = statement.query(bound).map_err(failed)?;
    let (mut rows, mut bytes) = (Vec::new(), 0);
    while let Some(row) = found.next().map_err(failed)? {
        stop::check();
        if rows.len() == source.row_limit {
            return Ok((rows, true));
        }
        let mut cells = Vec::with_capacity(width);
        for at in 0..width {
            let value = row.get_ref(at).map_err(failed)?;
            let long = match value {
                ValueRef::Text(bytes) | ValueRef::Blob(bytes) => bytes.len(),
                _ => 0,
            };
            within_bytes(long).map_err(|error| SourceError::Cell {
                source_name: source.name.clone(),
                row: rows.len() + 1,
                column: name(at),
                error,
            })?;
            bytes += size_of::<Cell>() + long;
            within_size(source, bytes)?;
            cells.push(Cell::from(value));
        }
        rows.push(cells);
    }
    Ok((rows, false))
}

/// Our kind for a column that is declared with a type; nothing where any value may stand.
fn kind_of(declared: &str) -> Option<ColumnKind> {
    let declared = declared.to_lowercase();
    let has = |parts: &[&str]| parts.iter().any(|part| declared.contains(part));
    if has(&["bool"]) {
        Some(ColumnKind::Boolean)
    } else if has(&["datetime", "timestamp"]) {
        Some(ColumnKind::Instant)
    } else if declared == "date" {
        Some(ColumnKind::Date)
    } else {
        // Declared or not, any value may stand in others.
        None
    }
}

/// The kind of a column by what stands in it.
fn kind_found<'a>(cells: impl Iterator<Item = &'a Cell> + Clone) -> ColumnKind {
    let some = |wanted: fn(&Cell) -> bool| cells.clone().any(wanted);
    let text = some(|cell| matches!(cell, Cell::Text(_) | Cell::Blob(_)));
    let number = some(|cell| matches!(cell, Cell::Real(_)));
    let whole = some(|cell| matches!(cell, Cell::Integer(_)));
    if text && !number && !whole {
        // What SQLite's functions for times give is text; other texts stay what they are.
        let texts = cells.filter_map(|cell| match cell {
            Cell::Text(text) => Some(text.as_str()),
            Cell::Blob(_) => Some("a"),
            _ => None,
        });
        match cells::inferred(texts) {
            kind @ (ColumnKind::Instant | ColumnKind::Date) => kind,
            _ => ColumnKind::Text,
        }
    } else if text {
        ColumnKind::Text
    } else if number {
        ColumnKind::Number
    } else if whole {
        ColumnKind::Integer
    } else {
        ColumnKind::Text
    }
}

fn cell(cell: Cell, kind: ColumnKind) -> Result<Value, BadCell> {
    let seconds = |kind| match kind {
        ColumnKind::Instant => TimeForm::UnixSeconds,
        _ => TimeForm::Iso,
    };
    match (cell, kind) {
        (Cell::Null, _) => Ok(Value::Missing),
        (Cell::Integer(number), ColumnKind::Integer) => Ok(Value::Integer(number)),
        (Cell::Integer(number), ColumnKind::Number) => Ok(Value::Number(number as f64)),
        (Cell::Real(number), ColumnKind::Number) => Ok(Value::Number(number)),
        (Cell::Integer(number), kind) => {
            cells::from_text(&number.to_string(), kind, &seconds(kind))
        }
        (Cell::Real(number), kind) => cells::from_text(&number.to_string(), kind, &seconds(kind)),
        (Cell::Text(text), ColumnKind::Text) => Ok(Value::Text(text)),
        (Cell::Text(text), kind) => cells::from_text(&text, kind, &TimeForm::Iso),
        (Cell::Blob(bytes), _) => {
            let digits: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
            Ok(Value::Text(format!("0x{digits}")))
        }
    }
}

fn refused(source: &Source, words: String) -> SourceError {
    SourceError::Query {
        source_name: source.name.clone(),
        words,
    }
}

fn said(source: &Source, error: &rusqlite::Error) -> SourceError {
    let words = match error {
        rusqlite::Error::SqliteFailure(_, Some(words)) if words == "not authorized" => {
            "it may only read the file that its source names".to_owned()
        }
        rusqlite::Error::SqliteFailure(failure, words) => {
            words.clone().unwrap_or_else(|| failure.to_string())
        }
        rusqlite::Error::SqlInputError { msg, offset, .. } if *offset >= 0 => {
            format!("{msg} (at character {} of the query)", offset + 1)
        }
        rusqlite::Error::SqlInputError { msg, .. } => msg.clone(),
        other => other.to_string(),
    };
    refused(source, words)
}
