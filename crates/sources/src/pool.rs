//! Connections to databases that are kept for the next query: signing in costs both sides more than most
//! queries do.

use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};

use sqlx::{Connection, postgres::PgConnection};

/// How long a connection waits for the next query before it is closed.
const KEPT: Duration = Duration::from_secs(10);

/// As whom a connection was made, and to where: only the same may use it.
#[derive(Clone, PartialEq, Eq, Hash)]
pub struct Key {
    pub address: String,
    pub database: String,
    pub user: String,
    pub password: Option<String>,
    /// What else it was made with.
    pub options: String,
}

type Waiting = HashMap<Key, Vec<(Instant, PgConnection)>>;

/// Connections that wait.
#[derive(Default)]
pub struct Pool {
    waiting: Mutex<Waiting>,
}

impl Pool {
    fn waiting(&self) -> std::sync::MutexGuard<'_, Waiting> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The one that has waited least, if there is one. Its server may have ended it.
    pub fn take(&self, key: &Key) -> Option<PgConnection> {
        let mut waiting = self.waiting();
        let all = waiting.get_mut(key)?;
        let (_, connection) = all.pop()?;
        if all.is_empty() {
            waiting.remove(key);
        }
        Some(connection)
    }

    /// Lets a connection wait, unless `most` of them do; it is closed when nobody has come.
    pub fn keep(self: &Arc<Self>, key: Key, connection: PgConnection, most: usize) {
        let mut waiting = self.waiting();
        let all = waiting.entry(key).or_default();
        if all.len() >= most {
            return;
        }
        all.push((Instant::now(), connection));
        drop(waiting);
        let own = Arc::downgrade(self);
        tokio::spawn(async move {
            tokio::time::sleep(KEPT).await;
            let Some(own) = own.upgrade() else { return };
            for connection in own.overdue() {
                // One that cannot say good-bye is gone already.
                let _ = connection.close().await;
            }
        });
    }

    /// Takes out those that have waited long enough.
    fn overdue(&self) -> Vec<PgConnection> {
        let mut overdue = Vec::new();
        self.waiting().retain(|_, all| {
            let still = all.iter().position(|(since, _)| since.elapsed() < KEPT);
            let gone = all.drain(..still.unwrap_or(all.len()));
            overdue.extend(gone.map(|(_, connection)| connection));
            !all.is_empty()
        });
        overdue
    }
}
