//! A look at a database before a service uses it: nothing is made, nothing is changed.

use sea_orm::sqlx::{self, Connection, PgConnection, Row};

use crate::{Result, StoreError, entity::Time, migration};

/// What a database is like.
#[derive(Debug, Clone)]
pub struct Looked {
    /// The server's version in words, such as `15.10 (Debian 15.10-0+deb12u1)`.
    pub version: String,
    /// The same as a number: 150010.
    pub number: i32,
    /// How the database keeps texts, such as `UTF8`.
    pub encoding: String,
    /// Whether this account may make tables in it.
    pub may_create: bool,
    /// Whether this account may do anything at all.
    pub superuser: bool,
    /// Steps that its tables have still to take.
    pub pending: usize,
    /// Steps that they took with a newer program.
    pub unknown: Vec<String>,
    /// What time it is there.
    pub now: Time,
}

/// Looks at the database of this address, as its account.
///
/// # Errors
/// If it cannot be reached, or does not let the account in.
pub async fn look(url: &str) -> Result<Looked> {
    let mut connection = PgConnection::connect(url).await.map_err(unreachable)?;
    let sql = "select current_setting('server_version') as version, current_setting('server_version_num')::int as number, \
         pg_encoding_to_char(d.encoding)::text as encoding, \
         coalesce(has_schema_privilege(current_schema(), 'create'), has_database_privilege(d.datname, 'create')) as may_create, \
         r.rolsuper as superuser, now() as now, to_regclass('seaql_migrations') is not null as begun \
       from pg_database d, pg_roles r where d.datname = current_database() and r.rolname = current_user";
    let row = sqlx::query(sql)
        .fetch_one(&mut connection)
        .await
        .map_err(unreachable)?;
    let begun: bool = row.try_get("begun").map_err(unreachable)?;
    let taken: Vec<String> = match begun {
        true => sqlx::query_scalar("select version from seaql_migrations")
            .fetch_all(&mut connection)
            .await
            .map_err(unreachable)?,
        false => Vec::new(),
    };
    let known: Vec<&str> = migration::names().collect();
    let looked = Looked {
        version: row.try_get("version").map_err(unreachable)?,
        number: row.try_get("number").map_err(unreachable)?,
        encoding: row.try_get("encoding").map_err(unreachable)?,
        may_create: row.try_get("may_create").map_err(unreachable)?,
        superuser: row.try_get("superuser").map_err(unreachable)?,
        pending: known
            .iter()
            .filter(|step| !taken.iter().any(|one| one == *step))
            .count(),
        unknown: taken
            .into_iter()
            .filter(|one| !known.contains(&one.as_str()))
            .collect(),
        now: row.try_get("now").map_err(unreachable)?,
    };
    // What was asked is there already.
    let _ = connection.close().await;
    Ok(looked)
}

fn unreachable(error: sqlx::Error) -> StoreError {
    let error = sea_orm::RuntimeErr::SqlxError(std::sync::Arc::new(error));
    sea_orm::DbErr::Conn(error).into()
}
