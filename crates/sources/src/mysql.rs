//! MySQL and MariaDB: a read-only transaction, a time limit of the server's, bound parameters.

use chrono::{DateTime, Datelike, NaiveDate, NaiveDateTime, Utc};
use futures::TryStreamExt;
use maple_lark_data::{Column, ColumnKind, PackedTable, Value};
use maple_lark_definition::{
    DatabaseServer, Dialect, ParameterValue, Source, Sql, TimeValue, Times, Tls,
};
use sqlx::{
    AssertSqlSafe, Column as _, ConnectOptions, Connection, Executor, Row, SqlSafeStr, Statement,
    TypeInfo, ValueRef,
    mysql::{
        MySqlArguments, MySqlConnectOptions, MySqlConnection, MySqlRow, MySqlSslMode, MySqlTypeInfo,
    },
};

use crate::{
    Answer, BadCell, Greeting, Question, Reader, SourceError,
    catalogue::{self, Entry, tables},
    cells::within_bytes,
    check_steps,
    server::Server,
    unlogged, within_size,
};

/// What the server calls a statement that took longer than it may, in MariaDB and in MySQL.
const TOO_LONG: [u16; 2] = [1969, 3024];
/// Privileges that change nothing.
const HARMLESS: [&str; 7] = [
    "USAGE",
    "SELECT",
    "SHOW VIEW",
    "SHOW DATABASES",
    "PROCESS",
    "REPLICATION CLIENT",
    "BINLOG MONITOR",
];

pub async fn read(
    reader: &Reader,
    source: &Source,
    settings: &DatabaseServer,
    sql: &Sql,
    question: Question<'_>,
) -> Result<Answer, SourceError> {
    let statement = sql.statement(Dialect::Mysql).map_err(|error| {
        let words = error.to_string();
        refused(source, words)
    })?;
    check_steps(source, &statement.text, question.times)?;
    let mut session = connect(reader, source, settings).await?;
    let asked = Asked {
        source,
        sql: &statement,
        question,
    };
    let (table, unread) = unlogged(asked.fetch(&mut session.connection)).await?;
    session.close().await;
    let mut answer = Answer::of(table, statement.text.in_order().0);
    answer.note = (unread > 0).then(|| match unread {
        1 => "1 value is no date of the calendar, and shown as missing".to_owned(),
        more => format!("{more} values are no dates of the calendar, and shown as missing"),
    });
    Ok(answer)
}

pub async fn greet(
    reader: &Reader,
    source: &Source,
    settings: &DatabaseServer,
) -> Result<Greeting, SourceError> {
    let mut session = connect(reader, source, settings).await?;
    let failed = |error: sqlx::Error| query_error(source, error);
    let (version, user): (String, String) = sqlx::query_as("select version(), current_user()")
        .fetch_one(&mut session.connection)
        .await
        .map_err(failed)?;
    let grants: Vec<String> = sqlx::query_scalar("show grants")
        .fetch_all(&mut session.connection)
        .await
        .map_err(failed)?;
    session.close().await;
    let name = match version.to_lowercase().contains("mariadb") {
        true => "MariaDB",
        false => "MySQL",
    };
    let number = version.split('-').next().unwrap_or(&version);
    Ok(Greeting {
        found: format!("{name} {number}, signed in as {user}"),
        warning: grants.iter().any(|grant| may_write(grant)).then(|| {
            format!("the account {user} may write; Maple Lark only reads, but a read-only account is safer")
        }),
    })
}

/// Whether a line of `show grants` allows more than reading.
fn may_write(grant: &str) -> bool {
    let Some(list) = grant
        .strip_prefix("GRANT ")
        .and_then(|rest| rest.split(" ON ").next())
    else {
        return false;
    };
    // A role is granted without " ON "; what it may is not listed here.
    let mut inside = false;
    let plain: String = list
        .chars()
        .filter(|c| {
            // Columns that a privilege is narrowed to stand in parentheses.
            match c {
                '(' => inside = true,
                ')' => {
                    inside = false;
                    return false;
                }
                _ => {}
            }
            !inside
        })
        .collect();
    grant.contains(" ON ") && !plain.split(',').all(|one| HARMLESS.contains(&one.trim()))
}

/// Tables and views that the account may read.
pub async fn catalogue(
    reader: &Reader,
    source: &Source,
    settings: &DatabaseServer,
    search: &str,
) -> Result<Vec<Entry>, SourceError> {
    let mut session = connect(reader, source, settings).await?;
    let failed = |error: sqlx::Error| query_error(source, error);
    let sql = "select cast(if(c.table_schema = database(), c.table_name, concat(c.table_schema, '.', c.table_name)) as char) as name, \
         cast(lower(if(t.table_type = 'VIEW', 'view', 'table')) as char) as kind, \
         cast(if(t.table_type = 'VIEW', '', t.table_comment) as char) as description, \
         cast(c.column_name as char) as item, cast(c.column_type as char) as item_kind, cast(c.column_comment as char) as item_description \
       from information_schema.columns c join information_schema.tables t on t.table_schema = c.table_schema and t.table_name = c.table_name \
       where c.table_schema not in ('information_schema', 'mysql', 'performance_schema', 'sys') \
       order by c.table_schema <> database(), c.table_schema, c.table_name, c.ordinal_position";
    let rows = sqlx::query(sql)
        .fetch_all(&mut session.connection)
        .await
        .map_err(failed)?;
    session.close().await;
    let lines = rows
        .iter()
        .map(|row| catalogue::line_of(row).map_err(failed));
    Ok(tables(lines.collect::<Result<_, _>>()?, search))
}

/// A session that is asked to end what it does when nobody waits for it any more: the server
/// itself looks at a connection only when it writes to it.
struct Session {
    connection: MySqlConnection,
    /// Nothing once it has ended in order.
    running: Option<Running>,
}

struct Running {
    options: MySqlConnectOptions,
    id: u64,
}

impl Session {
    async fn close(mut self) {
        // Nothing was written, so there is nothing to keep.
        let _ = self.connection.execute("rollback").await;
        self.running = None;
        // The server notices the end of the connection by itself.
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        let Some(Running { options, id }) = self.running.take() else {
            return;
        };
        tokio::spawn(async move {
            if let Ok(mut other) = options.connect().await {
                // A session's number is the server's own.
                let kill = AssertSqlSafe(format!("kill query {id}"));
                let _ = other.execute(kill).await;
                let _ = other.close().await;
            }
        });
    }
}

async fn connect(
    reader: &Reader,
    source: &Source,
    settings: &DatabaseServer,
) -> Result<Session, SourceError> {
    let server = Server::of(reader, source, settings).await?;
    let mut options = MySqlConnectOptions::new()
        .host(&server.place.host)
        .port(server.place.port)
        .database(&server.database)
        .username(&server.user)
        .ssl_mode(match settings.tls {
            Tls::Off => MySqlSslMode::Disabled,
            Tls::Require => MySqlSslMode::Required,
            Tls::VerifyFull => MySqlSslMode::VerifyIdentity,
        })
        .disable_statement_logging();
    if let Some(path) = &settings.ca_file {
        options = options.ssl_ca(path);
    }
    if let Some(password) = &server.password {
        options = options.password(password);
    }
    let connected = server.connect(source, options, MySqlConnectOptions::host);
    let (connection, options) = connected.await?;
    begun(source, connection, options).await
}

/// Nothing may be written, and the server ends what takes too long.
async fn begun(
    source: &Source,
    mut connection: MySqlConnection,
    options: MySqlConnectOptions,
) -> Result<Session, SourceError> {
    let failed = |error: sqlx::Error| query_error(source, error);
    let (version, id): (String, u64) = sqlx::query_as("select version(), connection_id()")
        .fetch_one(&mut connection)
        .await
        .map_err(failed)?;
    let seconds = source.timeout_seconds;
    let limit = match version.to_lowercase().contains("mariadb") {
        true => format!("set session max_statement_time = {seconds}"),
        false => format!("set session max_execution_time = {}", seconds * 1000),
    };
    connection
        .execute(AssertSqlSafe(limit))
        .await
        .map_err(failed)?;
    connection
        .execute("start transaction read only")
        .await
        .map_err(failed)?;
    Ok(Session {
        connection,
        running: Some(Running { options, id }),
    })
}

/// SQL with what it is asked with.
struct Asked<'a> {
    source: &'a Source,
    sql: &'a Sql,
    question: Question<'a>,
}

impl Asked<'_> {
    async fn fetch(
        &self,
        connection: &mut MySqlConnection,
    ) -> Result<(PackedTable, usize), SourceError> {
        let source = self.source;
        let failed = |error: sqlx::Error| query_error(source, error);
        let (text, names) = self.sql.text.in_order();
        let statement = connection
            .prepare(AssertSqlSafe(text).into_sql_str())
            .await
            .map_err(failed)?;
        let mut table = PackedTable::default();
        table.columns = self.columns(statement.columns())?;
        let types: Vec<MySqlTypeInfo> = (statement.columns().iter())
            .map(|column| column.type_info().clone())
            .collect();
        let mut query = statement.query_with(MySqlArguments::default());
        for name in names {
            query = self.bind(query, name)?;
        }
        let (mut cells, mut unread) = (Vec::new(), 0);
        let mut rows = query.fetch(connection);
        while let Some(row) = rows.try_next().await.map_err(failed)? {
            if table.len() == source.row_limit {
                table.truncated = true;
                break;
            }
            cells.clear();
            for (at, kind) in types.iter().enumerate() {
                let read = cell(&row, at, kind.name(), &mut unread);
                cells.push(read.map_err(|error| SourceError::Cell {
                    source_name: source.name.clone(),
                    row: table.len() + 1,
                    column: table.columns[at].name.clone(),
                    error,
                })?);
            }
            table.push(&cells);
            within_size(source, table.size())?;
        }
        drop(rows);
        Ok((table, unread))
    }

    fn columns(&self, columns: &[sqlx::mysql::MySqlColumn]) -> Result<Vec<Column>, SourceError> {
        if columns.is_empty() {
            let words = "it returns no columns; only queries that return rows can be asked";
            return Err(refused(self.source, words.to_owned()));
        }
        let mut found: Vec<Column> = Vec::new();
        for column in columns {
            let name = column.name().to_owned();
            if found.iter().any(|earlier| earlier.name == name) {
                let words = format!(
                    "two columns are named \"{name}\"; give one of them another name with \"as\""
                );
                return Err(refused(self.source, words));
            }
            let kind = kind_of(column.type_info().name());
            found.push(Column { name, kind });
        }
        Ok(found)
    }

    fn bind<'q>(
        &self,
        query: sqlx::query::Query<'q, sqlx::MySql, MySqlArguments>,
        name: &str,
    ) -> Result<sqlx::query::Query<'q, sqlx::MySql, MySqlArguments>, SourceError> {
        let no_value = || SourceError::NoValue {
            source_name: self.source.name.clone(),
            name: name.to_owned(),
        };
        if Times::NAMES.contains(&name) {
            return Ok(match self.question.times.value(name) {
                Some(TimeValue::Instant(at)) => query.bind(at),
                Some(TimeValue::Instants(all)) => query.bind(list(all.iter().map(written))),
                None => return Err(no_value()),
            });
        }
        let value = (self.sql.constants.get(name)).or_else(|| self.question.values.get(name));
        Ok(match value {
            Some(ParameterValue::Text(text)) => query.bind(text.clone()),
            Some(ParameterValue::Number(n)) if n.fract() == 0.0 && n.abs() < 9e15 => {
                query.bind(*n as i64)
            }
            Some(ParameterValue::Number(number)) => query.bind(*number),
            Some(ParameterValue::List(items)) => query.bind(list(items.iter().cloned())),
            None => return Err(no_value()),
        })
    }
}

/// A list is one JSON text, for `json_table`.
fn list(items: impl Iterator<Item = String>) -> String {
    serde_json::Value::from(items.collect::<Vec<String>>()).to_string()
}

/// An instant as the server reads it, in UTC, the zone of the session.
fn written(at: &DateTime<Utc>) -> String {
    at.format("%Y-%m-%d %H:%M:%S%.6f").to_string()
}

/// Our kind for a type of the server's; what has none of ours is read as text.
fn kind_of(name: &str) -> ColumnKind {
    match name {
        "BOOLEAN" => ColumnKind::Boolean,
        "BIGINT UNSIGNED" | "DECIMAL" => ColumnKind::Decimal,
        "FLOAT" | "DOUBLE" => ColumnKind::Number,
        // Instants without a zone are taken as UTC, the zone of the session.
        "DATETIME" | "TIMESTAMP" => ColumnKind::Instant,
        "DATE" => ColumnKind::Date,
        name if name.contains("INT") || name == "YEAR" => ColumnKind::Integer,
        _ => ColumnKind::Text,
    }
}

/// The value of a cell. A date that no calendar has, such as 0000-00-00, is missing, and counted.
fn cell(row: &MySqlRow, at: usize, name: &str, unread: &mut usize) -> Result<Value, BadCell> {
    if row.try_get_raw(at)?.is_null() {
        return Ok(Value::Missing);
    }
    let mut known = |value: Option<Value>| {
        value.unwrap_or_else(|| {
            *unread += 1;
            Value::Missing
        })
    };
    let year = |date: &NaiveDate| (1..=9999).contains(&date.year());
    Ok(match kind_of(name) {
        ColumnKind::Boolean => Value::Boolean(row.try_get(at)?),
        ColumnKind::Integer if name.ends_with("UNSIGNED") || name == "YEAR" => {
            Value::Integer(row.try_get_unchecked::<u64, _>(at)?.cast_signed())
        }
        ColumnKind::Integer => Value::Integer(row.try_get_unchecked(at)?),
        ColumnKind::Decimal if name == "DECIMAL" => Value::Decimal(row.try_get(at)?),
        ColumnKind::Decimal => Value::Decimal(row.try_get::<u64, _>(at)?.into()),
        ColumnKind::Number if name == "FLOAT" => Value::Number(row.try_get::<f32, _>(at)?.into()),
        ColumnKind::Number => Value::Number(row.try_get(at)?),
        ColumnKind::Instant => {
            let read = row.try_get_unchecked::<NaiveDateTime, _>(at).ok();
            let read = read.filter(|at| year(&at.date()));
            known(read.map(|at| Value::Instant(at.and_utc())))
        }
        ColumnKind::Date => {
            let read = row.try_get_unchecked::<NaiveDate, _>(at).ok();
            known(read.filter(year).map(Value::Date))
        }
        ColumnKind::Text => Value::Text(text(row, at, name)?),
    })
}

fn text(row: &MySqlRow, at: usize, name: &str) -> Result<String, BadCell> {
    if name == "TIME" {
        let time: sqlx::mysql::types::MySqlTime = row.try_get(at)?;
        return Ok(time.to_string());
    }
    within_bytes(row.try_get_unchecked::<&[u8], _>(at)?.len())?;
    let bytes: Vec<u8> = row.try_get_unchecked(at)?;
    // Bytes and words with a binary collation, JSON among them, come under the same name.
    Ok(match String::from_utf8(bytes) {
        Ok(text)
            if name != "BIT" && !text.chars().any(|c| c.is_control() && !c.is_whitespace()) =>
        {
            text
        }
        Ok(text) => hexadecimal(text.as_bytes()),
        Err(error) => hexadecimal(error.as_bytes()),
    })
}

fn hexadecimal(bytes: &[u8]) -> String {
    let digits: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    format!("0x{digits}")
}

fn refused(source: &Source, words: String) -> SourceError {
    SourceError::Query {
        source_name: source.name.clone(),
        words,
    }
}

fn query_error(source: &Source, error: sqlx::Error) -> SourceError {
    let number = error
        .as_database_error()
        .and_then(|answer| answer.try_downcast_ref::<sqlx::mysql::MySqlDatabaseError>())
        .map(sqlx::mysql::MySqlDatabaseError::number);
    match error {
        _ if number.is_some_and(|number| TOO_LONG.contains(&number)) => SourceError::Timeout {
            source_name: source.name.clone(),
            seconds: source.timeout_seconds,
        },
        sqlx::Error::Database(answer) => refused(source, answer.message().to_owned()),
        other => refused(source, other.to_string()),
    }
}

#[cfg(test)]
mod tests {
    use super::may_write;

    #[test]
    fn grants_that_only_read_are_told_from_others() {
        for fine in [
            "GRANT USAGE ON *.* TO `reader`@`%` IDENTIFIED BY PASSWORD '*0'",
            "GRANT SELECT, SHOW VIEW ON `orrin`.* TO `reader`@`%`",
            "GRANT SELECT (name, port) ON `orrin`.`hosts` TO `reader`@`%`",
            "GRANT `readers` TO `reader`@`%`",
        ] {
            assert!(!may_write(fine), "{fine}");
        }
        for more in [
            "GRANT ALL PRIVILEGES ON *.* TO `root`@`localhost` WITH GRANT OPTION",
            "GRANT SELECT, INSERT ON `orrin`.* TO `writer`@`%`",
            "GRANT FILE ON *.* TO `reader`@`%`",
        ] {
            assert!(may_write(more), "{more}");
        }
    }
}
