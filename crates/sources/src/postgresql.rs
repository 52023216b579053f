//! PostgreSQL: a read-only transaction, a statement timeout, bound parameters.

use std::cell::Cell;

use chrono::{DateTime, Datelike, Utc};
use futures::TryStreamExt;
use maple_lark_data::{CellRef, Column, ColumnKind, PackedTable};
use maple_lark_definition::{DatabaseServer, ParameterValue, Source, Sql, TimeValue, Times, Tls};
use sqlx::{
    AssertSqlSafe, Column as _, ConnectOptions, Connection, Executor, Postgres, Row, SqlSafeStr,
    Statement, Type, TypeInfo, ValueRef,
    postgres::{
        PgArguments, PgColumn, PgConnectOptions, PgConnection, PgRow, PgSslMode, PgTypeInfo,
        PgValueRef,
    },
};

use crate::{
    Answer, BadCell, Greeting, Question, Reader, SourceError, cells::within_bytes, check_steps,
    pool::Key, server::Server, unlogged, within_size,
};

pub async fn read(
    reader: &Reader,
    source: &Source,
    settings: &DatabaseServer,
    sql: &Sql,
    question: Question<'_>,
) -> Result<Answer, SourceError> {
    check_steps(source, &sql.text, question.times)?;
    let (mut connection, key) = begun(reader, source, settings).await?;
    let asked = Asked {
        source,
        sql,
        question,
    };
    let text = asked.typed_text(&mut connection).await?;
    let (table, beyond) = unlogged(asked.fetch(&mut connection, text)).await?;
    // Nothing was written. A connection that is as it was when it was made waits for the next query; any other
    // is closed.
    if connection.execute(AS_BEFORE).await.is_ok()
        && connection.clear_cached_statements().await.is_ok()
    {
        reader.pool.keep(key, connection, source.max_concurrency);
    }
    let mut answer = Answer::of(table, sql.text.numbered.clone());
    answer.note = (beyond > 0).then(|| {
        let values = if beyond == 1 {
            "value is"
        } else {
            "values are"
        };
        format!(
            "{beyond} {values} infinite or outside of the years 1 to 9999, and shown as missing"
        )
    });
    Ok(answer)
}

/// Nothing may be written.
const BEGIN: &str = "begin transaction read only";
/// A server that can looks each second whether it is still waited for, so that what is let go of here ends there.
const LOOK: &str = "select set_config(name, '1000', false) from pg_settings \
    where name = 'client_connection_check_interval' and version() like '%linux%'";
/// Takes back all that a query may have set, and the locks that would outlast it.
const AS_BEFORE: &str = "rollback; select pg_advisory_unlock_all()";

/// A connection in which nothing may be written, and as whom it was made: one that waits, or a new one.
async fn begun(
    reader: &Reader,
    source: &Source,
    settings: &DatabaseServer,
) -> Result<(PgConnection, Key), SourceError> {
    let server = Server::of(reader, source, settings).await?;
    let key = Key {
        address: server.place.address.clone(),
        database: server.database.clone(),
        user: server.user.clone(),
        password: server.password.clone(),
        options: format!(
            "{:?} {:?} {:?} {}",
            server.place.addresses, settings.tls, settings.ca_file, source.timeout_seconds
        ),
    };
    // What cannot begin was ended by its server.
    while let Some(mut kept) = reader.pool.take(&key) {
        if kept.execute(BEGIN).await.is_ok() {
            return Ok((kept, key));
        }
    }
    let mut connection = connect_to(&server, source, settings).await?;
    let refused = |error: sqlx::Error| query_error(source, error);
    connection.execute(LOOK).await.map_err(refused)?;
    connection.execute(BEGIN).await.map_err(refused)?;
    Ok((connection, key))
}

/// SQL with what it is asked with.
struct Asked<'a> {
    source: &'a Source,
    sql: &'a Sql,
    question: Question<'a>,
}

impl Asked<'_> {
    fn value(&self, name: &str) -> Option<&ParameterValue> {
        self.sql
            .constants
            .get(name)
            .or_else(|| self.question.values.get(name))
    }

    fn no_value(&self, name: &str) -> SourceError {
        SourceError::NoValue {
            source_name: self.source.name.clone(),
            name: name.to_owned(),
        }
    }
}

pub async fn greet(
    reader: &Reader,
    source: &Source,
    settings: &DatabaseServer,
) -> Result<Greeting, SourceError> {
    let mut connection = connect(reader, source, settings).await?;
    let refused = |error: sqlx::Error| query_error(source, error);
    let row = connection
        .fetch_one(
            "select current_setting('server_version') as version, current_user::text as name, \
             not (select rolsuper from pg_roles where rolname = current_user) and not exists ( \
               select from information_schema.table_privileges where grantee in (current_user, 'PUBLIC') \
               and privilege_type in ('INSERT', 'UPDATE', 'DELETE', 'TRUNCATE') and table_schema not in ('pg_catalog', 'information_schema')) as read_only",
        )
        .await
        .map_err(refused)?;
    let version: String = row.try_get("version").map_err(refused)?;
    let user: String = row.try_get("name").map_err(refused)?;
    let read_only: bool = row.try_get("read_only").map_err(refused)?;
    let greeting = Greeting {
        found: format!("PostgreSQL {version}, signed in as {user}"),
        warning: (!read_only).then(|| format!("the account {user} may write; Maple Lark only reads, but a read-only account is safer")),
    };
    let _ = connection.close().await;
    Ok(greeting)
}

pub async fn connect(
    reader: &Reader,
    source: &Source,
    settings: &DatabaseServer,
) -> Result<PgConnection, SourceError> {
    let server = Server::of(reader, source, settings).await?;
    connect_to(&server, source, settings).await
}

async fn connect_to(
    server: &Server,
    source: &Source,
    settings: &DatabaseServer,
) -> Result<PgConnection, SourceError> {
    let milliseconds = (source.timeout_seconds * 1000).to_string();
    let mut options = PgConnectOptions::new_without_pgpass()
        .host(&server.place.host)
        .port(server.place.port)
        .database(&server.database)
        .username(&server.user)
        .application_name("maple-lark")
        .options([
            ("statement_timeout", milliseconds.as_str()),
            ("default_transaction_read_only", "on"),
            ("timezone", "UTC"),
        ])
        .ssl_mode(match settings.tls {
            Tls::Off => PgSslMode::Disable,
            Tls::Require => PgSslMode::Require,
            Tls::VerifyFull => PgSslMode::VerifyFull,
        })
        .disable_statement_logging();
    if let Some(path) = &settings.ca_file {
        options = options.ssl_root_cert(path);
    }
    if let Some(password) = &server.password {
        options = options.password(password);
    }
    let connected = server.connect(source, options, PgConnectOptions::host);
    Ok(connected.await?.0)
}

impl Asked<'_> {
    /// The question's text with every column that has no type of ours read as text.
    async fn typed_text(&self, connection: &mut PgConnection) -> Result<String, SourceError> {
        let source = self.source;
        let text = &self.sql.text.numbered;
        let types = self
            .sql
            .text
            .names
            .iter()
            .map(|name| self.parameter_type(name))
            .collect::<Result<Vec<_>, _>>()?;
        let statement = connection
            .prepare_with(AssertSqlSafe(text.clone()).into_sql_str(), &types)
            .await
            .map_err(|error| query_error(source, error))?;
        let columns = statement.columns();
        if columns.is_empty() {
            return Err(SourceError::Query {
                source_name: source.name.clone(),
                words: "it returns no columns; only queries that return rows can be asked"
                    .to_owned(),
            });
        }
        for (index, column) in columns.iter().enumerate() {
            if columns[..index]
                .iter()
                .any(|earlier| earlier.name() == column.name())
            {
                let words = format!(
                    "two columns are named \"{}\"; give one of them another name with \"as\"",
                    column.name()
                );
                return Err(SourceError::Query {
                    source_name: source.name.clone(),
                    words,
                });
            }
        }
        if columns
            .iter()
            .all(|column| form_of_type(column.type_info().name()).is_some())
        {
            return Ok(text.clone());
        }
        let list: Vec<String> = columns
            .iter()
            .map(|column| {
                let name = format!("\"{}\"", column.name().replace('"', "\"\""));
                if form_of_type(column.type_info().name()).is_some() {
                    name
                } else {
                    format!("{name}::text as {name}")
                }
            })
            .collect();
        Ok(format!(
            "select {} from (\n{text}\n) as answer",
            list.join(", ")
        ))
    }

    #[expect(
        clippy::too_many_lines,
        reason = "streams rows within the limits of time and number"
    )]
    async fn fetch(
        &self,
        connection: &mut PgConnection,
        text: String,
    ) -> Result<(PackedTable, usize), SourceError> {
        let (source, question) = (self.source, self.question);
        let mut query = sqlx::query_with(AssertSqlSafe(text), PgArguments::default());
        for name in &self.sql.text.names {
            query = match name.as_str() {
                name if Times::NAMES.contains(&name) => match question.times.value(name) {
                    Some(TimeValue::Instant(at)) => query.bind(at),
                    Some(TimeValue::Instants(all)) => query.bind(all),
                    None => return Err(self.no_value(name)),
                },
                name => match self.value(name) {
                    Some(ParameterValue::Text(text)) => query.bind(text.clone()),
                    Some(ParameterValue::Number(number)) if is_whole(*number) => {
                        query.bind(*number as i64)
                    }
                    Some(ParameterValue::Number(number)) => query.bind(*number),
                    Some(ParameterValue::List(items)) => query.bind(items.clone()),
                    None => return Err(self.no_value(name)),
                },
            };
        }
        let (mut table, mut forms) = (PackedTable::default(), Vec::new());
        let beyond = Cell::new(0);
        let mut rows = query.fetch(&mut *connection);
        while let Some(row) = rows
            .try_next()
            .await
            .map_err(|error| query_error(source, error))?
        {
            if table.columns.is_empty() {
                forms = row.columns().iter().map(form_of).collect();
                table.columns = row
                    .columns()
                    .iter()
                    .zip(&forms)
                    .map(|(column, form)| Column {
                        name: column.name().to_owned(),
                        kind: form.kind(),
                    })
                    .collect();
            }
            if table.len() == source.row_limit {
                table.truncated = true;
                break;
            }
            let read = |column: usize| cell(&row, column, forms[column], &beyond);
            table
                .push_read(read)
                .map_err(|(column, error)| SourceError::Cell {
                    source_name: source.name.clone(),
                    row: table.len() + 1,
                    column: table.columns[column].name.clone(),
                    error,
                })?;
            within_size(source, table.size())?;
        }
        drop(rows);
        if table.columns.is_empty() {
            // Without a row the driver gives no columns either; an empty table still has them.
            let types = self
                .sql
                .text
                .names
                .iter()
                .map(|name| self.parameter_type(name))
                .collect::<Result<Vec<_>, _>>()?;
            let text = AssertSqlSafe(self.sql.text.numbered.clone()).into_sql_str();
            let statement = connection
                .prepare_with(text, &types)
                .await
                .map_err(|error| query_error(source, error))?;
            table.columns = statement
                .columns()
                .iter()
                .map(|column| Column {
                    name: column.name().to_owned(),
                    kind: form_of(column).kind(),
                })
                .collect();
        }
        Ok((table, beyond.get()))
    }

    /// The type of a parameter: one that the driver knows, so that the server need not be asked for it.
    fn parameter_type(&self, name: &str) -> Result<PgTypeInfo, SourceError> {
        fn of<T: Type<Postgres>>() -> PgTypeInfo {
            T::type_info()
        }
        if Times::NAMES.contains(&name) {
            return Ok(match self.question.times.value(name) {
                Some(TimeValue::Instants(_)) => of::<Vec<DateTime<Utc>>>(),
                _ => of::<DateTime<Utc>>(),
            });
        }
        Ok(match self.value(name) {
            Some(ParameterValue::Text(_)) => of::<String>(),
            Some(ParameterValue::Number(number)) if is_whole(*number) => of::<i64>(),
            Some(ParameterValue::Number(_)) => of::<f64>(),
            Some(ParameterValue::List(_)) => of::<Vec<String>>(),
            None => return Err(self.no_value(name)),
        })
    }
}

fn is_whole(number: f64) -> bool {
    number.fract() == 0.0 && number.abs() < 9e15
}

/// How the values of a type arrive, in the binary form of the protocol.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Form {
    Boolean,
    Small,
    Whole,
    Large,
    Single,
    Double,
    Decimal,
    Text,
    Instant,
    Date,
}

impl Form {
    fn kind(self) -> ColumnKind {
        match self {
            Self::Boolean => ColumnKind::Boolean,
            Self::Small | Self::Whole | Self::Large => ColumnKind::Integer,
            Self::Single | Self::Double => ColumnKind::Number,
            Self::Decimal => ColumnKind::Decimal,
            Self::Text => ColumnKind::Text,
            Self::Instant => ColumnKind::Instant,
            Self::Date => ColumnKind::Date,
        }
    }
}

/// The form of a PostgreSQL type, or nothing if its values are read as text.
fn form_of_type(name: &str) -> Option<Form> {
    Some(match name {
        "BOOL" => Form::Boolean,
        "INT2" => Form::Small,
        "INT4" => Form::Whole,
        "INT8" => Form::Large,
        "FLOAT4" => Form::Single,
        "FLOAT8" => Form::Double,
        "NUMERIC" => Form::Decimal,
        "TEXT" | "VARCHAR" | "CHAR" | "NAME" => Form::Text,
        "TIMESTAMPTZ" | "TIMESTAMP" => Form::Instant,
        "DATE" => Form::Date,
        _ => return None,
    })
}

/// The form of a column; what has none of ours is text, as the question asks for it.
fn form_of(column: &PgColumn) -> Form {
    form_of_type(column.type_info().name()).unwrap_or(Form::Text)
}

/// Midnight of 1 January 2000 in UTC, from which PostgreSQL counts, in seconds since 1970.
const EPOCH: i64 = 946_684_800;

/// The value of a cell. An instant or a date that no calendar of ours has (infinite, before the
/// year 1, after 9999) is missing, and counted in `beyond`.
fn cell<'r>(
    row: &'r PgRow,
    index: usize,
    form: Form,
    beyond: &Cell<usize>,
) -> Result<CellRef<'r>, BadCell> {
    let value = row.try_get_raw(index)?;
    if value.is_null() {
        return Ok(CellRef::Missing);
    }
    let within = |value: Option<CellRef<'r>>| {
        value.unwrap_or_else(|| {
            beyond.set(beyond.get() + 1);
            CellRef::Missing
        })
    };
    Ok(match form {
        Form::Boolean => CellRef::Boolean(fixed::<1>(value)? != [0]),
        Form::Small => CellRef::Integer(i16::from_be_bytes(fixed(value)?).into()),
        Form::Whole => CellRef::Integer(i32::from_be_bytes(fixed(value)?).into()),
        Form::Large => CellRef::Integer(i64::from_be_bytes(fixed(value)?)),
        Form::Single => CellRef::Number(f32::from_be_bytes(fixed(value)?).into()),
        Form::Double => CellRef::Number(f64::from_be_bytes(fixed(value)?)),
        Form::Decimal => CellRef::Decimal(
            <rust_decimal::Decimal as sqlx::Decode<Postgres>>::decode(value).map_err(|source| {
                sqlx::Error::ColumnDecode {
                    index: index.to_string(),
                    source,
                }
            })?,
        ),
        // A timestamp without a zone is taken as UTC, the zone of our session. The driver's own
        // reading of these panics over what chrono's calendar does not reach.
        Form::Instant => within(instant(i64::from_be_bytes(fixed(value)?))),
        Form::Date => within(date(i32::from_be_bytes(fixed(value)?))),
        Form::Text => {
            let bytes = value.as_bytes().map_err(sqlx::Error::Decode)?;
            within_bytes(bytes.len())?;
            let text = std::str::from_utf8(bytes);
            CellRef::Text(text.map_err(|error| sqlx::Error::Decode(Box::new(error)))?)
        }
    })
}

/// The bytes of a value that has as many in the binary form of the protocol.
fn fixed<const N: usize>(value: PgValueRef<'_>) -> Result<[u8; N], sqlx::Error> {
    let bytes = value.as_bytes().map_err(sqlx::Error::Decode)?;
    bytes
        .try_into()
        .map_err(|error: std::array::TryFromSliceError| sqlx::Error::Decode(Box::new(error)))
}

/// An instant by its microseconds since 2000; the ends of the range stand for infinity.
fn instant(microseconds: i64) -> Option<CellRef<'static>> {
    let since_1970 = microseconds.checked_add(EPOCH * 1_000_000)?;
    let at = DateTime::from_timestamp_micros(since_1970)?;
    (1..=9999)
        .contains(&at.year())
        .then_some(CellRef::Instant(at))
}

/// A date by its days since 2000.
fn date(days: i32) -> Option<CellRef<'static>> {
    let first = chrono::NaiveDate::from_ymd_opt(2000, 1, 1)?;
    let date = first.checked_add_signed(chrono::TimeDelta::try_days(days.into())?)?;
    (1..=9999)
        .contains(&date.year())
        .then_some(CellRef::Date(date))
}

pub fn query_error(source: &Source, error: sqlx::Error) -> SourceError {
    match error {
        sqlx::Error::Database(answer) if answer.code().as_deref() == Some("57014") => {
            SourceError::Timeout {
                source_name: source.name.clone(),
                seconds: source.timeout_seconds,
            }
        }
        sqlx::Error::Database(answer) => {
            let position = answer
                .try_downcast_ref::<sqlx::postgres::PgDatabaseError>()
                .and_then(|answer| match answer.position() {
                    Some(sqlx::postgres::PgErrorPosition::Original(at)) => {
                        Some(format!(" (at character {at} of the query)"))
                    }
                    _ => None,
                });
            SourceError::Query {
                source_name: source.name.clone(),
                words: format!("{}{}", answer.message(), position.unwrap_or_default()),
            }
        }
        other => SourceError::Query {
            source_name: source.name.clone(),
            words: other.to_string(),
        },
    }
}
