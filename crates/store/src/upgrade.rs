//! Brings the tables up to date while others work on them.

use sea_orm::{ConnectOptions, Database};
use sea_orm_migration::MigratorTrait;

use crate::{Migrator, Result, StoreError, sql_state, word_lists};

/// So long a change waits for those who use its table, in milliseconds. Who needs the table next waits for the change,
/// and may hold what the change needs: after a second the server would end one of them. The change gives way before,
/// so that work that is under way goes on.
const PATIENCE: &str = "500";
/// Somebody used a table for longer than that.
const LOCK_NOT_AVAILABLE: &str = "55P03";
const DEADLOCK_DETECTED: &str = "40P01";

/// Takes the steps that the tables of a database have still to take, each in a transaction of its own.
///
/// # Errors
/// [`StoreError::InUse`] if somebody uses the tables; steps that were taken until then stay.
pub async fn upgrade(url: &str) -> Result<()> {
    let mut options = ConnectOptions::new(url);
    options
        .max_connections(1)
        .sqlx_logging(false)
        .map_sqlx_postgres_opts(|options| options.options([("lock_timeout", PATIENCE)]));
    let db = Database::connect(options).await?;
    let upgraded = async {
        Migrator::up(&db, None).await?;
        word_lists::widen(&db).await
    };
    let upgraded = upgraded.await;
    db.close().await?;
    upgraded.map_err(|error| match sql_state(&error).as_deref() {
        Some(LOCK_NOT_AVAILABLE | DEADLOCK_DETECTED) => StoreError::InUse,
        _ => error.into(),
    })
}
