//! A place outside of the database for bodies: a folder or object storage. Each body lies there
//! under its SHA-256, so that equal ones lie there once and each can be checked when it is read.
//!
//! A body is put there before a row says so, and is removed after the last row has let go of it.
//! Whoever puts one there says so first (`outside_bodies`), and nobody removes what somebody is
//! putting; what is being removed no row may take any more. So a process may end at any point:
//! what it leaves is a body that no row has, and that is removed later.

use std::{
    fs, io,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, Instant},
};

use chrono::TimeDelta;
use object_store::{
    ObjectStore, ObjectStoreExt, PutPayload, local::LocalFileSystem, path::Path as Name,
};
use sea_orm::{ConnectionTrait, DatabaseTransaction, TransactionTrait};
use sha2::{Digest, Sha256};
use uuid::Uuid;

use crate::{Result, Store, StoreError, bodies, entity::Time};

/// So long somebody may take who puts a body there and then writes its row.
const CLAIM: TimeDelta = TimeDelta::hours(1);
/// A place that failed is left alone for so long; what is new stays in the database meanwhile.
const REST: Duration = Duration::from_secs(30);
/// Nobody writes a file for so long.
const BEGUN: Duration = Duration::from_secs(3600);
/// Bodies of at least so many bytes are hashed on a thread of their own.
const LONG: usize = 1 << 18;
/// One process moves or removes bodies at a time.
const LOCK: i64 = 7_302_431;
/// The tables with bodies.
const TABLES: [&str; 3] = ["documents", "snapshots", "pictures"];

/// Bodies as they go to the place and come back from it.
pub type Bytes = bytes::Bytes;

/// Where bodies are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Keeps {
    /// New ones go to the place, and those in the database follow.
    Outside,
    /// New ones stay in the database, and those in the place come back.
    Inside,
}

/// A place for bodies, and which way they go.
#[derive(Debug, Clone)]
pub struct Outside {
    place: Arc<dyn ObjectStore>,
    keeps: Keeps,
    /// Where it is, if it is a folder.
    folder: Option<PathBuf>,
    /// When it failed, if it did when it was last used.
    failed: Arc<Mutex<Option<Instant>>>,
}

/// A body that is on its way into its row.
pub(crate) enum Rest {
    /// The row has all of it.
    None,
    /// It is too long for one statement.
    Long(Bytes),
    /// It lies in the place under this name.
    Outside(String, Bytes),
}

impl Outside {
    pub fn new(place: Arc<dyn ObjectStore>, keeps: Keeps) -> Self {
        Self {
            place,
            keeps,
            folder: None,
            failed: Arc::default(),
        }
    }

    /// A folder that is there.
    ///
    /// # Errors
    /// If it is not, or is no folder.
    pub fn folder(path: &Path, keeps: Keeps) -> Result<Self> {
        let folder = LocalFileSystem::new_with_prefix(path).map_err(StoreError::Place)?;
        // What is said to be written is on the disk.
        Ok(Self {
            folder: Some(path.to_owned()),
            ..Self::new(Arc::new(folder.with_fsync(true)), keeps)
        })
    }

    /// Removes what a process left in the folder that ended while it wrote: files that were begun more
    /// than an hour ago and have no name of their own yet. Answers how many there were.
    ///
    /// # Errors
    /// If the folder cannot be read.
    pub async fn sweep(&self) -> Result<usize> {
        let Some(folder) = self.folder.clone() else {
            return Ok(0);
        };
        let sweeping = tokio::task::spawn_blocking(move || swept(&folder));
        let swept = sweeping.await.map_err(|_| StoreError::Stopped)?;
        swept.map_err(|error| {
            StoreError::Place(object_store::Error::Generic {
                store: "folder",
                source: error.into(),
            })
        })
    }

    fn failed(&self) -> MutexGuard<'_, Option<Instant>> {
        self.failed.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether new bodies are put there now.
    fn takes(&self) -> bool {
        let rests = self.failed().is_some_and(|at| at.elapsed() < REST);
        self.keeps == Keeps::Outside && !rests
    }

    /// Notes how it went with the place.
    fn noted<T>(&self, done: object_store::Result<T>) -> Result<T> {
        match done {
            Ok(value) => {
                *self.failed() = None;
                Ok(value)
            }
            Err(error) => {
                *self.failed() = Some(Instant::now());
                Err(StoreError::Place(error))
            }
        }
    }

    /// Puts a body there. It is durable when this returns, and putting it again changes nothing.
    async fn put(&self, sha256: &str, body: Bytes) -> Result<()> {
        let put = self
            .place
            .put(&named(sha256), PutPayload::from_bytes(body))
            .await;
        self.noted(put).map(drop)
    }

    /// Reads a body and checks that it is the one that was put there.
    async fn get(&self, sha256: &str, size: u64) -> Result<Bytes> {
        let altered = || StoreError::BodyAltered(sha256.to_owned());
        let found = match self.place.get(&named(sha256)).await {
            Err(object_store::Error::NotFound { .. }) => {
                return Err(StoreError::BodyMissing(sha256.to_owned()));
            }
            found => self.noted(found)?,
        };
        if found.meta.size != size {
            return Err(altered());
        }
        let body = self.noted(found.bytes().await)?;
        match digest(&body).await? == sha256 {
            true => Ok(body),
            false => Err(altered()),
        }
    }

    /// Removes a body; it may be gone already.
    async fn remove(&self, sha256: &str) -> Result<()> {
        match self.place.delete(&named(sha256)).await {
            Err(object_store::Error::NotFound { .. }) => Ok(()),
            removed => self.noted(removed),
        }
    }

    /// Puts something there, reads it and removes it.
    ///
    /// # Errors
    /// What the place says, or that it gives back something else.
    pub async fn test(&self) -> Result<()> {
        let body = Bytes::from(format!(
            "whether this place keeps what it is given, {}",
            Uuid::now_v7()
        ));
        let name = digest(&body).await?;
        let size = body.len() as u64;
        self.put(&name, body).await?;
        self.get(&name, size).await?;
        self.remove(&name).await
    }
}

fn swept(folder: &Path) -> io::Result<usize> {
    let mut swept = 0;
    for prefix in fs::read_dir(folder)? {
        let prefix = prefix?.path();
        if !prefix.is_dir() {
            continue;
        }
        for file in fs::read_dir(prefix)? {
            let file = file?;
            // A name is one of digits; what is being written has a number behind it.
            let is_begun = file.file_name().to_string_lossy().contains('#');
            let age = file.metadata()?.modified()?.elapsed().unwrap_or_default();
            if is_begun && age > BEGUN {
                fs::remove_file(file.path())?;
                swept += 1;
            }
        }
    }
    Ok(swept)
}

/// Where a body lies.
fn named(sha256: &str) -> Name {
    let prefix = sha256.get(..2).unwrap_or_default();
    Name::from_iter([prefix, sha256])
}

/// The SHA-256 of a body in lower-case hexadecimal.
async fn digest(body: &Bytes) -> Result<String> {
    let hashed = |body: &[u8]| hex::encode(Sha256::digest(body));
    if body.len() < LONG {
        return Ok(hashed(body));
    }
    let body = body.clone();
    let hashing = tokio::task::spawn_blocking(move || hashed(&body));
    hashing.await.map_err(|_| StoreError::Stopped)
}

/// What was done with bodies.
#[derive(Debug, Default)]
pub struct Moved {
    pub out: u64,
    pub back: u64,
    pub removed: u64,
    /// Bodies that rows had let go of, of which it is known now since when no row has them.
    pub looked_at: u64,
    /// Rows whose bodies are not what was put into the place, and what is wrong.
    pub lost: Vec<(Uuid, StoreError)>,
}

impl Moved {
    pub fn is_nothing(&self) -> bool {
        self.out + self.back + self.removed + self.looked_at == 0 && self.lost.is_empty()
    }
}

impl Store {
    /// The same records, with a place outside of the database for their bodies.
    #[must_use]
    pub fn with_outside(mut self, outside: Option<Outside>) -> Self {
        self.outside = outside;
        self
    }

    /// Takes a body out of what is to be a row, and puts it into the place for bodies, or leaves it
    /// to be written by [`Rest::write`]. A place that fails keeps nothing from being written.
    pub(crate) async fn take_out(&self, body: &mut Vec<u8>) -> Result<Rest> {
        let outside = self.outside.as_ref().filter(|outside| outside.takes());
        if let Some(outside) = outside.filter(|_| !body.is_empty()) {
            let taken = Bytes::from(std::mem::take(body));
            let sha256 = digest(&taken).await?;
            let claimed = self.claim_body(&sha256, taken.len()).await?;
            if claimed && outside.put(&sha256, taken.clone()).await.is_ok() {
                return Ok(Rest::Outside(sha256, taken));
            }
            return Ok(Rest::Long(taken));
        }
        Ok(match bodies::taken_out(body) {
            Some(body) => Rest::Long(body.into()),
            None => Rest::None,
        })
    }

    /// Says that a body is about to be put into the place. Answers whether it may be: not while one
    /// that is the same is being removed.
    async fn claim_body(&self, sha256: &str, size: usize) -> Result<bool> {
        let claimed = Self::sql(
            "insert into outside_bodies as kept (sha256, size, not_before) values ($1, $2, clock_timestamp() + make_interval(secs => $3)) \
             on conflict (sha256) do update set not_before = greatest(kept.not_before, excluded.not_before), unused_since = null where not kept.going",
            [
                sha256.into(),
                (size as i64).into(),
                (CLAIM.num_seconds() as f64).into(),
            ],
        );
        Ok(self.db.execute_raw(claimed).await?.rows_affected() == 1)
    }

    /// Reads what a row does not have of its body. Bodies never change once they are kept; they may
    /// be moved or go while they are read.
    pub(crate) async fn read_rest(&self, table: &str, id: Uuid, body: &mut Vec<u8>) -> Result<()> {
        if !body.is_empty() && body.len() < bodies::PART {
            return Ok(());
        }
        match self.body_outside(table, id).await? {
            Some((sha256, size)) => *body = self.read_outside(&sha256, size).await?.into(),
            None => match bodies::read_rest(&self.db, table, id, body).await? {
                bodies::Read::All => {}
                // It was moved out meanwhile.
                bodies::Read::Elsewhere => {
                    if let Some((sha256, size)) = self.body_outside(table, id).await? {
                        *body = self.read_outside(&sha256, size).await?.into();
                    }
                }
            },
        }
        Ok(())
    }

    /// Under which name a body lies in the place, and how long it is; nothing if the row has it.
    pub(crate) async fn body_outside(
        &self,
        table: &str,
        id: Uuid,
    ) -> Result<Option<(String, u64)>> {
        let asked = format!(
            "select o.sha256, o.size from {table} t join outside_bodies o on o.sha256 = t.outside where t.id = $1"
        );
        let row = self
            .db
            .query_one_raw(Self::sql(&asked, [id.into()]))
            .await?;
        let Some(row) = row else { return Ok(None) };
        let size: i64 = row.try_get("", "size")?;
        Ok(Some((row.try_get("", "sha256")?, size.unsigned_abs())))
    }

    pub(crate) async fn read_outside(&self, sha256: &str, size: u64) -> Result<Bytes> {
        match &self.outside {
            Some(outside) => outside.get(sha256, size).await,
            None => Err(StoreError::NoPlace),
        }
    }

    /// Moves some bodies the way they go, but for those of rows to be `skipped`, and removes some from
    /// the place that no row has had for as long as `grace`. If nothing was done, nothing is left to do.
    /// One process does so at a time, the others do nothing meanwhile.
    ///
    /// # Errors
    /// If the place or the database fails. What was moved before stays moved.
    pub async fn move_bodies(
        &self,
        (now, grace): (Time, TimeDelta),
        skipped: &[Uuid],
        most: u64,
    ) -> Result<Moved> {
        let Some(outside) = &self.outside else {
            return Ok(Moved::default());
        };
        let turn = self.db.begin().await?;
        let asked = Self::sql(
            "select pg_try_advisory_xact_lock($1) as mine",
            [LOCK.into()],
        );
        let mine = turn.query_one_raw(asked).await?;
        if !matches!(mine, Some(row) if row.try_get::<bool>("", "mine")?) {
            return Ok(Moved::default());
        }
        let mut moved = Moved::default();
        for table in TABLES {
            for id in self
                .to_be_moved(table, outside.keeps, skipped, most)
                .await?
            {
                match outside.keeps {
                    Keeps::Outside => moved.out += u64::from(self.move_out(table, id).await?),
                    Keeps::Inside => match self.move_back(table, id).await {
                        Err(error @ (StoreError::BodyMissing(_) | StoreError::BodyAltered(_))) => {
                            moved.lost.push((id, error));
                        }
                        done => moved.back += u64::from(done?),
                    },
                }
            }
        }
        moved.looked_at = self.look_for_unused(now, grace, most).await?;
        moved.removed = self.remove_unused(outside, most).await?;
        turn.commit().await?;
        Ok(moved)
    }

    /// Rows whose bodies are not where they are kept.
    async fn to_be_moved(
        &self,
        table: &str,
        keeps: Keeps,
        skipped: &[Uuid],
        most: u64,
    ) -> Result<Vec<Uuid>> {
        let (which, first) = match keeps {
            Keeps::Outside => ("outside is null and octet_length(body) > 0", "id"),
            Keeps::Inside => ("outside is not null", "outside"),
        };
        let asked = format!(
            "select id from {table} where {which} and id <> all($2) order by {first} limit $1"
        );
        let values = [(most as i64).into(), skipped.to_vec().into()];
        let rows = self.db.query_all_raw(Self::sql(&asked, values)).await?;
        rows.iter().map(|row| Ok(row.try_get("", "id")?)).collect()
    }

    /// Moves a body out. Answers whether it did: one that goes meanwhile stays gone.
    async fn move_out(&self, table: &str, id: Uuid) -> Result<bool> {
        let asked = format!(
            "select {} as body from {table} where id = $1 and outside is null",
            bodies::first_part_sql()
        );
        let row = self
            .db
            .query_one_raw(Self::sql(&asked, [id.into()]))
            .await?;
        let Some(row) = row else { return Ok(false) };
        let mut body: Vec<u8> = row.try_get("", "body")?;
        if body.len() >= bodies::PART
            && let bodies::Read::Elsewhere =
                bodies::read_rest(&self.db, table, id, &mut body).await?
        {
            return Ok(false);
        }
        let (size, body) = (body.len() as i64, Bytes::from(body));
        let sha256 = digest(&body).await?;
        let (Some(outside), true) = (&self.outside, self.claim_body(&sha256, body.len()).await?)
        else {
            return Ok(false);
        };
        outside.put(&sha256, body).await?;
        let transaction = self.db.begin().await?;
        if !take_up(&transaction, &sha256).await? {
            return Ok(false);
        }
        let moved = format!(
            "update {table} set body = '', outside = $2 where id = $1 and outside is null and octet_length(body) = $3"
        );
        let values = [id.into(), sha256.into(), size.into()];
        let moved = transaction.execute_raw(Self::sql(&moved, values)).await?;
        transaction.commit().await?;
        Ok(moved.rows_affected() == 1)
    }

    /// Moves a body back into its row.
    async fn move_back(&self, table: &str, id: Uuid) -> Result<bool> {
        let Some((sha256, size)) = self.body_outside(table, id).await? else {
            return Ok(false);
        };
        let body = self.read_outside(&sha256, size).await?;
        let transaction = self.db.begin().await?;
        let freed = format!("update {table} set outside = null where id = $1 and outside = $2");
        let freed = Self::sql(&freed, [id.into(), sha256.into()]);
        if transaction.execute_raw(freed).await?.rows_affected() == 0 {
            return Ok(false);
        }
        bodies::write(&transaction, table, id, &body).await?;
        transaction.commit().await?;
        Ok(true)
    }

    /// Looks at bodies that rows have let go of: whether others have them, and if none does, since when.
    async fn look_for_unused(&self, now: Time, grace: TimeDelta, most: u64) -> Result<u64> {
        let used = TABLES.map(|table| {
            format!("exists (select from {table} where {table}.outside = looked.sha256)")
        });
        let used = used.join(" or ");
        let statement = format!(
            "with free as (select sha256 from outside_bodies where loose and not going and not_before <= $1 order by not_before limit $3 for update skip locked), \
             looked as (select free.sha256, {used} as used from free join outside_bodies looked using (sha256)) \
             update outside_bodies o set loose = not used, \
               going = not used and coalesce(o.unused_since, $1) <= $2, \
               unused_since = case when used then null else coalesce(o.unused_since, $1) end, \
               not_before = case when used then o.not_before else greatest(o.not_before, coalesce(o.unused_since, $1) + ($1 - $2)) end \
             from looked where o.sha256 = looked.sha256",
        );
        let values = [now.into(), (now - grace).into(), (most as i64).into()];
        let looked = self.db.execute_raw(Self::sql(&statement, values)).await?;
        Ok(looked.rows_affected())
    }

    /// Removes bodies from the place that no row may have any more, each before what is known of it.
    async fn remove_unused(&self, outside: &Outside, most: u64) -> Result<u64> {
        // The rows are held, so that nobody puts there again what is being removed.
        let transaction = self.db.begin().await?;
        let asked = Self::sql(
            "select sha256 from outside_bodies where loose and going order by not_before limit $1 for update skip locked",
            [(most as i64).into()],
        );
        let mut removed = 0;
        for row in transaction.query_all_raw(asked).await? {
            let sha256: String = row.try_get("", "sha256")?;
            outside.remove(&sha256).await?;
            let gone = Self::sql(
                "delete from outside_bodies where sha256 = $1",
                [sha256.into()],
            );
            removed += transaction.execute_raw(gone).await?.rows_affected();
        }
        transaction.commit().await?;
        Ok(removed)
    }
}

/// Lets a row of this transaction have a body that its caller has put into the place. Answers whether
/// it may: not if the claim has run out and the body is being removed.
async fn take_up(transaction: &DatabaseTransaction, sha256: &str) -> Result<bool> {
    let taken = Store::sql(
        "update outside_bodies set loose = false, unused_since = null where sha256 = $1 and not going and not_before > clock_timestamp()",
        [sha256.into()],
    );
    Ok(transaction.execute_raw(taken).await?.rows_affected() == 1)
}

impl Rest {
    /// Whether the row has all of the body.
    pub(crate) fn is_none(&self) -> bool {
        matches!(self, Self::None)
    }

    /// Puts a body into its row, or says in the row where it lies. Nobody sees the row before the
    /// transaction has ended.
    pub(crate) async fn write(
        self,
        transaction: &DatabaseTransaction,
        table: &str,
        id: Uuid,
    ) -> Result<()> {
        match self {
            Self::None => Ok(()),
            Self::Long(body) => bodies::write(transaction, table, id, &body).await,
            Self::Outside(sha256, body) => {
                if !take_up(transaction, &sha256).await? {
                    return bodies::write(transaction, table, id, &body).await;
                }
                let said = format!("update {table} set outside = $2 where id = $1");
                let said = Store::sql(&said, [id.into(), sha256.into()]);
                transaction.execute_raw(said).await?;
                Ok(())
            }
        }
    }
}
