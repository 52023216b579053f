//! PostgreSQL: a read-only transaction, a statement timeout, bound parameters.

use chrono::Datelike;
use futures::TryStreamExt;
use maple_lark_data::{Column, ColumnKind, PackedTable, Value};
use maple_lark_definition::{DatabaseServer, ParameterValue, Source, Sql, TimeValue, Times, Tls};
use sqlx::{
    AssertSqlSafe, Column as _, ConnectOptions, Connection, Executor, Row, SqlSafeStr, Statement,
    TypeInfo, ValueRef,
    postgres::{PgArguments, PgConnectOptions, PgConnection, PgRow, PgSslMode},
};

use crate::{
    Answer, BadCell, Greeting, Question, Reader, SourceError, cells::within_bytes, check_steps,
    kept::Key, server::Server, within_size,
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
    let (table, beyond) = asked.fetch(&mut connection, text).await?;
    // Nothing was written. A connection that is as it was when it was made waits for the next query; any other
    // is closed.
    if connection.execute(AS_BEFORE).await.is_ok()
        && connection.clear_cached_statements().await.is_ok()
    {
        reader.kept.keep(key, connection, source.max_concurrency);
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
    while let Some(mut kept) = reader.kept.take(&key) {
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
            .all(|column| kind_of(column.type_info().name()).is_some())
        {
            return Ok(text.clone());
        }
        let list: Vec<String> = columns
            .iter()
            .map(|column| {
                let name = format!("\"{}\"", column.name().replace('"', "\"\""));
                if kind_of(column.type_info().name()).is_some() {
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
        let mut table = PackedTable::default();
        let (mut cells, mut beyond) = (Vec::new(), 0);
        let mut rows = query.fetch(&mut *connection);
        while let Some(row) = rows
            .try_next()
            .await
            .map_err(|error| query_error(source, error))?
        {
            if table.columns.is_empty() {
                table.columns = row
                    .columns()
                    .iter()
                    .map(|column| Column {
                        name: column.name().to_owned(),
                        kind: kind_of(column.type_info().name()).unwrap_or(ColumnKind::Text),
                    })
                    .collect();
            }
            if table.len() == source.row_limit {
                table.truncated = true;
                break;
            }
            cells.clear();
            for (index, column) in table.columns.iter().enumerate() {
                cells.push(
                    cell(&row, index, &mut beyond).map_err(|error| SourceError::Cell {
                        source_name: source.name.clone(),
                        row: table.len() + 1,
                        column: column.name.clone(),
                        error,
                    })?,
                );
            }
            table.push(&cells);
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
                    kind: kind_of(column.type_info().name()).unwrap_or(ColumnKind::Text),
                })
                .collect();
        }
        Ok((table, beyond))
    }

    fn parameter_type(&self, name: &str) -> Result<sqlx::postgres::PgTypeInfo, SourceError> {
        use sqlx::postgres::PgTypeInfo;
        if Times::NAMES.contains(&name) {
            let list = matches!(
                self.question.times.value(name),
                Some(TimeValue::Instants(_))
            );
            return Ok(PgTypeInfo::with_name(if list {
                "timestamptz[]"
            } else {
                "timestamptz"
            }));
        }
        Ok(PgTypeInfo::with_name(match (name, self.value(name)) {
            (_, Some(ParameterValue::Text(_))) => "text",
            (_, Some(ParameterValue::Number(number))) => {
                if is_whole(*number) {
                    "int8"
                } else {
                    "float8"
                }
            }
            (_, Some(ParameterValue::List(_))) => "text[]",
            (_, None) => return Err(self.no_value(name)),
        }))
    }
}

fn is_whole(number: f64) -> bool {
    number.fract() == 0.0 && number.abs() < 9e15
}

/// Our kind for a PostgreSQL type, or nothing if its values are read as text.
fn kind_of(name: &str) -> Option<ColumnKind> {
    Some(match name {
        "BOOL" => ColumnKind::Boolean,
        "INT2" | "INT4" | "INT8" => ColumnKind::Integer,
        "FLOAT4" | "FLOAT8" => ColumnKind::Number,
        "NUMERIC" => ColumnKind::Decimal,
        "TEXT" | "VARCHAR" | "CHAR" | "NAME" => ColumnKind::Text,
        "TIMESTAMPTZ" | "TIMESTAMP" => ColumnKind::Instant,
        "DATE" => ColumnKind::Date,
        _ => return None,
    })
}

/// Midnight of 1 January 2000 in UTC, from which PostgreSQL counts, in seconds since 1970.
const EPOCH: i64 = 946_684_800;

/// The value of a cell. An instant or a date that no calendar of ours has (infinite, before the
/// year 1, after 9999) is missing, and counted in `beyond`.
fn cell(row: &PgRow, index: usize, beyond: &mut usize) -> Result<Value, BadCell> {
    macro_rules! read {
        ($kind:ty, $value:expr) => {
            row.try_get::<Option<$kind>, _>(index)?
                .map_or(Value::Missing, $value)
        };
    }
    let mut within = |value: Option<Value>| {
        value.unwrap_or_else(|| {
            *beyond += 1;
            Value::Missing
        })
    };
    Ok(match row.columns()[index].type_info().name() {
        "BOOL" => read!(bool, Value::Boolean),
        "INT2" => read!(i16, |n| Value::Integer(n.into())),
        "INT4" => read!(i32, |n| Value::Integer(n.into())),
        "INT8" => read!(i64, Value::Integer),
        "FLOAT4" => read!(f32, |n| Value::Number(n.into())),
        "FLOAT8" => read!(f64, Value::Number),
        "NUMERIC" => read!(rust_decimal::Decimal, Value::Decimal),
        // A timestamp without a zone is taken as UTC, the zone of our session. The driver's own
        // reading of these panics over what chrono's calendar does not reach.
        "TIMESTAMPTZ" | "TIMESTAMP" => match raw::<8>(row, index)? {
            None => Value::Missing,
            Some(bytes) => within(instant(i64::from_be_bytes(bytes))),
        },
        "DATE" => match raw::<4>(row, index)? {
            None => Value::Missing,
            Some(bytes) => within(date(i32::from_be_bytes(bytes))),
        },
        _ => {
            let raw = row.try_get_raw(index)?;
            if !raw.is_null() {
                within_bytes(raw.as_bytes().map_err(sqlx::Error::Decode)?.len())?;
            }
            read!(String, Value::Text)
        }
    })
}

/// The bytes of a value in the binary form of the protocol; nothing if it is null.
fn raw<const N: usize>(row: &PgRow, index: usize) -> Result<Option<[u8; N]>, sqlx::Error> {
    let value = row.try_get_raw(index)?;
    if value.is_null() {
        return Ok(None);
    }
    let bytes = value.as_bytes().map_err(sqlx::Error::Decode)?;
    let bytes = bytes
        .try_into()
        .map_err(|error: std::array::TryFromSliceError| sqlx::Error::Decode(Box::new(error)))?;
    Ok(Some(bytes))
}

/// An instant by its microseconds since 2000; the ends of the range stand for infinity.
fn instant(microseconds: i64) -> Option<Value> {
    let since_1970 = microseconds.checked_add(EPOCH * 1_000_000)?;
    let at = chrono::DateTime::from_timestamp_micros(since_1970)?;
    (1..=9999)
        .contains(&at.year())
        .then_some(Value::Instant(at))
}

/// A date by its days since 2000.
fn date(days: i32) -> Option<Value> {
    let first = chrono::NaiveDate::from_ymd_opt(2000, 1, 1)?;
    let date = first.checked_add_signed(chrono::TimeDelta::try_days(days.into())?)?;
    (1..=9999)
        .contains(&date.year())
        .then_some(Value::Date(date))
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
