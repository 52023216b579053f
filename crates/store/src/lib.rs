//! Records in PostgreSQL: the queue, the lock and the store of the service.
//!
//! Functions here read and write rows; what the rows mean is decided by their callers. A
//! function that returns has written durably.

pub mod archive;
pub mod archive_chain;
pub mod audit;
mod bodies;
pub mod bounds;
pub mod claims;
pub mod definitions;
pub mod deliveries;
pub mod directory;
pub mod documents;
pub mod entity;
pub mod failed_pages;
pub mod keeping;
mod kept;
mod look;
mod migration;
pub mod new_database;
pub mod notices;
pub mod orders;
pub mod outside;
pub mod passkeys;
pub mod people;
pub mod pictures;
pub mod recipients;
pub mod restored;
pub mod run_days;
pub mod run_lines;
pub mod runs;
pub mod sampling;
pub mod schedule;
pub mod second_factor;
pub mod secrets;
pub mod steps;
mod stored;
pub mod teams;
pub mod telemetry;
mod upgrade;
pub mod users;
pub mod views;
mod word_lists;

use sea_orm::{
    ConnectOptions, ConnectionTrait, Database, DatabaseConnection, DbBackend, RuntimeErr,
    Statement,
    sqlx::{Connection, PgConnection},
};
use sea_orm_migration::MigratorTrait;

pub use look::{Looked, look};
pub use migration::Migrator;
pub use sea_orm::DbErr;
pub use stored::Stored;

/// The connection pool to the product's database.
#[derive(Debug, Clone)]
pub struct Store {
    pub(crate) db: DatabaseConnection,
    outside: Option<outside::Outside>,
}

#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    #[error("the database cannot be reached or refused: {0}")]
    Database(DbErr),
    /// A newer program has changed the tables.
    #[error(
        "a newer version of Maple Lark changed its tables ({0}), and this version cannot read them; run the newer version"
    )]
    Newer(String),
    /// They cannot be brought up to date now.
    #[error(
        "another program's transaction uses tables that are to be brought up to date; find it in pg_stat_activity, and wait until it has ended or end it"
    )]
    InUse,
    /// PostgreSQL keeps every character in a text but this one.
    #[error("a text has the character U+0000 in it, which cannot be kept; leave it out")]
    NulCharacter,
    /// Another process has taken the work over; whatever this one did must not be kept.
    #[error("the lease on {0} was lost to another process")]
    LeaseLost(uuid::Uuid),
    /// A state that may not follow the one that the run is in.
    #[error("the run {run} is {from} and cannot become {to}")]
    Transition {
        run: uuid::Uuid,
        from: maple_lark_api::RunState,
        to: maple_lark_api::RunState,
    },
    /// What was checked is not what is there any more.
    #[error("the definitions were changed meanwhile")]
    DefinitionsChanged,
    /// What is to be sent went, as long as it is kept.
    #[error("the documents of the run {run} went on {}", at.format("%Y-%m-%d"))]
    DocumentsGone { run: uuid::Uuid, at: entity::Time },
    /// The storage outside of the database does not answer, or refuses.
    #[error("the storage of snapshots and documents fails: {0}")]
    Place(#[source] object_store::Error),
    #[error(
        "it is kept outside of the database, and the configuration names no place for that; write [storage] into it again"
    )]
    NoPlace,
    #[error(
        "what is kept outside of the database as {0} is not there any more; bring it back from a backup of that place"
    )]
    BodyMissing(String),
    #[error(
        "what is kept outside of the database as {0} has been altered; bring it back from a backup of that place"
    )]
    BodyAltered(String),
    /// What several wrote together, said to each of them.
    #[error("how an attempt ended could not be written: {0}")]
    Unwritten(#[source] std::sync::Arc<StoreError>),
    #[error("how an attempt ended could not be written: the task that wrote it was stopped")]
    Stopped,
}

impl From<DbErr> for StoreError {
    fn from(error: DbErr) -> Self {
        match sql_state(&error).as_deref() {
            Some(CHARACTER_NOT_IN_REPERTOIRE | UNTRANSLATABLE_CHARACTER) => Self::NulCharacter,
            _ => Self::Database(error),
        }
    }
}

impl StoreError {
    /// Whether it may be over in a moment: the server is not there yet, is starting, or has no
    /// connection to spare, or its tables are in use. A wrong password or a missing database does not mend itself.
    pub fn may_pass(&self) -> bool {
        let error = match self {
            Self::InUse => return true,
            Self::Database(error) => error,
            _ => return false,
        };
        match sql_state(error).as_deref() {
            Some(CANNOT_CONNECT_NOW | TOO_MANY_CONNECTIONS) => true,
            Some(_) => false,
            None => matches!(error, DbErr::Conn(_) | DbErr::ConnectionAcquire(_)),
        }
    }
}

/// The server is starting or stopping.
const CANNOT_CONNECT_NOW: &str = "57P03";
const TOO_MANY_CONNECTIONS: &str = "53300";

/// U+0000 in a text, by the SQLSTATEs of PostgreSQL.
const CHARACTER_NOT_IN_REPERTOIRE: &str = "22021";
/// U+0000 in JSON.
const UNTRANSLATABLE_CHARACTER: &str = "22P05";

/// The SQLSTATE that the server gave, if the error comes from it.
fn sql_state(error: &DbErr) -> Option<String> {
    let (DbErr::Exec(RuntimeErr::SqlxError(inner))
    | DbErr::Query(RuntimeErr::SqlxError(inner))
    | DbErr::Conn(RuntimeErr::SqlxError(inner))) = error
    else {
        return None;
    };
    inner.as_database_error()?.code().map(Into::into)
}

pub type Result<T> = std::result::Result<T, StoreError>;

/// A page of a list: rows, and how many there are in all.
#[derive(Debug, Clone)]
pub struct Page<T> {
    pub items: Vec<T>,
    pub total: u64,
}

/// How many rows come before a page; pages count from 1.
pub(crate) fn offset(page: u64, size: u64) -> i64 {
    let before = page.saturating_sub(1).saturating_mul(size);
    i64::try_from(before).unwrap_or(i64::MAX)
}

/// No lease is longer, unless the process says so that asks.
const LONGEST_LEASE: chrono::TimeDelta = chrono::TimeDelta::hours(1);
/// No delivery rests longer between two attempts.
const LONGEST_RETRY: chrono::TimeDelta = chrono::TimeDelta::hours(2);
/// No run waits longer for its data before it asks again.
const LONGEST_CHECK: chrono::TimeDelta = chrono::TimeDelta::hours(25);

/// A connection that was not used for so long is asked whether it still answers.
const RESTED: std::time::Duration = std::time::Duration::from_secs(1);

impl Store {
    /// Connects and brings the tables up to date.
    pub async fn open(url: &str, connections: u32) -> Result<Self> {
        // The pool would try for as long as it may; one connection says at once what is wrong.
        let unreachable = |error| DbErr::Conn(RuntimeErr::SqlxError(std::sync::Arc::new(error)));
        let first = PgConnection::connect(url).await.map_err(unreachable)?;
        first.close().await.map_err(unreachable)?;
        let mut options = ConnectOptions::new(url);
        options
            .max_connections(connections.max(2))
            .min_connections(1)
            .sqlx_logging(false)
            // A connection that was in use a moment ago is taken as it is; one that rested may
            // have lost its server, so it is asked first.
            .test_before_acquire(false)
            .map_sqlx_postgres_pool_opts(|options| {
                options.before_acquire(|connection, metadata| {
                    Box::pin(async move {
                        if metadata.idle_for > RESTED {
                            connection.ping().await?;
                        }
                        Ok(true)
                    })
                })
            })
            // Compiling a statement takes longer than any of these.
            .map_sqlx_postgres_opts(|options| options.options([("jit", "off")]))
            .connect_timeout(std::time::Duration::from_secs(10));
        let store = Self {
            db: Database::connect(options).await?,
            outside: None,
        };
        // Processes that start together take turns: the lock goes with its transaction.
        let turn = sea_orm::TransactionTrait::begin(&store.db).await?;
        turn.execute_unprepared("select pg_advisory_xact_lock(7302418)")
            .await?;
        if let Some(newest) = look(url).await?.unknown.pop() {
            return Err(StoreError::Newer(newest));
        }
        upgrade::upgrade(url).await?;
        turn.commit().await?;
        Ok(store)
    }

    /// What time it is by the database's clock, which all processes share.
    ///
    /// # Errors
    /// If the database cannot be used.
    pub async fn time(&self) -> Result<entity::Time> {
        let row = self
            .db
            .query_one_raw(Store::sql("select clock_timestamp() as now", []))
            .await?;
        match row {
            Some(row) => Ok(row.try_get("", "now")?),
            None => Err(DbErr::RecordNotFound("the time".to_owned()).into()),
        }
    }

    /// Brings back leases and waits that reach further ahead than any can, as a clock leaves
    /// them that was ahead and is right again. Answers how many there were. With `ask_again`,
    /// runs that wait for their data ask now, however long they would have waited.
    ///
    /// # Errors
    /// If the database cannot be used.
    pub async fn bring_back(
        &self,
        now: entity::Time,
        lease: chrono::TimeDelta,
        ask_again: bool,
    ) -> Result<u64> {
        let leases = |table: &str| {
            format!(
                "update {table} set lease_until = $1 where lease_owner is not null and lease_until > $2"
            )
        };
        let too_long = now + lease.max(LONGEST_LEASE);
        let longest_check = if ask_again { now } else { now + LONGEST_CHECK };
        let statements = [
            (leases("runs"), now + lease, too_long),
            (leases("deliveries"), now + lease, too_long),
            (
                "update deliveries set next_attempt_at = $1 where state = 'waiting' and next_attempt_at > $2".to_owned(),
                now,
                now + LONGEST_RETRY,
            ),
            (
                "update runs set next_check_at = $1 where state = 'waiting' and next_check_at > $2".to_owned(),
                now,
                longest_check,
            ),
        ];
        let mut moved = 0;
        for (sql, to, limit) in statements {
            let statement = Store::sql(&sql, [to.into(), limit.into()]);
            moved += self.db.execute_raw(statement).await?.rows_affected();
        }
        Ok(moved)
    }

    /// Whether the database answers and its tables are up to date.
    pub async fn ready(&self) -> Result<bool> {
        Ok(Migrator::get_pending_migrations(&self.db).await?.is_empty())
    }

    pub(crate) fn sql(text: &str, values: impl IntoIterator<Item = sea_orm::Value>) -> Statement {
        Statement::from_sql_and_values(DbBackend::Postgres, text, values)
    }
}
