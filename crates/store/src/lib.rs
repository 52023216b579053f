//! Records in PostgreSQL: the queue, the lock and the store of the service.
//!
//! Functions here read and write rows; what the rows mean is decided by their callers. A
//! function that returns has written durably.

mod bodies;
pub mod definitions;
pub mod deliveries;
pub mod entity;
mod migration;
pub mod notices;
pub mod people;
pub mod recipients;
pub mod runs;
pub mod sampling;
pub mod schedule;
pub mod secrets;

use sea_orm::{
    ConnectOptions, ConnectionTrait, Database, DatabaseConnection, DbBackend, Statement,
};
use sea_orm_migration::MigratorTrait;

pub use migration::Migrator;
pub use sea_orm::DbErr;

/// The connection pool to the product's database.
#[derive(Debug, Clone)]
pub struct Store {
    pub(crate) db: DatabaseConnection,
}

#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    #[error("the database cannot be reached or refused: {0}")]
    Database(DbErr),
    /// PostgreSQL keeps every character in a text but this one.
    #[error("a text has the character U+0000 in it, which cannot be kept; leave it out")]
    NulCharacter,
    /// Another process has taken the work over; whatever this one did must not be kept.
    #[error("the lease on {0} was lost to another process")]
    LeaseLost(uuid::Uuid),
    /// What several wrote together, said to each of them.
    #[error("how an attempt ended could not be written: {0}")]
    Unwritten(String),
}

impl From<DbErr> for StoreError {
    fn from(error: DbErr) -> Self {
        let words = error.to_string();
        // SQLSTATE 22021 for texts, 22P05 for JSON; only the words get as far as here.
        let nul = words.contains("invalid byte sequence for encoding \"UTF8\": 0x00")
            || words.contains("\\u0000 cannot be converted to text");
        if nul || words.contains("unsupported Unicode escape sequence") {
            Self::NulCharacter
        } else {
            Self::Database(error)
        }
    }
}

pub type Result<T> = std::result::Result<T, StoreError>;

/// A page of a list: rows, and how many there are in all.
#[derive(Debug, Clone)]
pub struct Page<T> {
    pub items: Vec<T>,
    pub total: u64,
}

impl Store {
    /// Connects and brings the tables up to date.
    pub async fn open(url: &str, connections: u32) -> Result<Self> {
        let mut options = ConnectOptions::new(url);
        // Bringing the tables up to date takes one connection beside the one that holds the lock.
        options
            .max_connections(connections.max(2))
            .min_connections(1)
            .sqlx_logging(false)
            .connect_timeout(std::time::Duration::from_secs(10));
        let store = Self {
            db: Database::connect(options).await?,
        };
        // Processes that start together take turns: the lock goes with its transaction.
        let turn = sea_orm::TransactionTrait::begin(&store.db).await?;
        turn.execute_unprepared("select pg_advisory_xact_lock(7302418)")
            .await?;
        Migrator::up(&store.db, None).await?;
        turn.commit().await?;
        Ok(store)
    }

    /// Whether the database answers and its tables are up to date.
    pub async fn ready(&self) -> Result<bool> {
        Ok(Migrator::get_pending_migrations(&self.db).await?.is_empty())
    }

    pub(crate) fn sql(text: &str, values: impl IntoIterator<Item = sea_orm::Value>) -> Statement {
        Statement::from_sql_and_values(DbBackend::Postgres, text, values)
    }
}
