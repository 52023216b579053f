//! The audit trail: who did what, kept for good and chained.

use maple_lark_api::{AuditOutcome, Words};
use sea_orm::{ConnectionTrait, DatabaseTransaction, FromQueryResult, TransactionTrait, Value};

use crate::{Page, Result, Store, Stored, entity::Time, offset};

/// Something that somebody did, or tried to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewEntry {
    pub at: Time,
    /// The user; nothing for somebody who did not sign in.
    pub actor: Option<String>,
    /// Where they did it from.
    pub address: Option<String>,
    /// The operation, by the name that `openapi.json` has for it.
    pub action: String,
    /// What it was done to.
    pub subject: String,
    pub detail: Option<String>,
    pub outcome: AuditOutcome,
}

/// An entry as it is kept.
#[derive(Debug, Clone, FromQueryResult)]
pub struct Entry {
    /// From 1, without gaps.
    pub id: i64,
    pub at: Time,
    pub actor: Option<String>,
    pub address: Option<String>,
    pub action: String,
    pub subject: String,
    pub detail: Option<String>,
    pub outcome: Stored<AuditOutcome>,
    pub sha256: String,
}

/// Which entries are wanted; all of them where nothing is said.
#[derive(Debug, Clone, Default)]
pub struct EntryFilter {
    pub actor: Option<String>,
    pub action: Option<String>,
    /// Words in the subject or the detail.
    pub text: Option<String>,
    pub outcome: Option<AuditOutcome>,
    pub from: Option<Time>,
    pub to: Option<Time>,
}

const WANTED: &str = "($1::text is null or actor = $1) and ($2::text is null or action = $2) \
     and ($3::text is null or subject ilike $3 or detail ilike $3) and ($4::text is null or outcome = $4) \
     and ($5::timestamptz is null or at >= $5) and ($6::timestamptz is null or at < $6)";

impl EntryFilter {
    fn values(&self) -> [Value; 6] {
        // The signs of a pattern are themselves.
        let plain = |text: &String| {
            let escaped = text
                .replace('\\', "\\\\")
                .replace('%', "\\%")
                .replace('_', "\\_");
            format!("%{escaped}%")
        };
        [
            self.actor.clone().into(),
            self.action.clone().into(),
            self.text.as_ref().map(plain).into(),
            self.outcome.map(|one| one.word().to_owned()).into(),
            self.from.into(),
            self.to.into(),
        ]
    }
}

/// What a look through the whole trail has found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Verified {
    pub entries: i64,
    /// The digest of the last entry; empty if there is none.
    pub head: String,
    /// The first entries that are not what was kept, or before which one is missing; at most ten.
    pub broken: Vec<i64>,
}

/// Entries that are being handed on; nobody else hands them on meanwhile.
pub struct Pending {
    transaction: DatabaseTransaction,
    entries: Vec<Entry>,
}

impl Pending {
    /// The entries, in their order.
    pub fn entries(&mut self) -> Vec<Entry> {
        std::mem::take(&mut self.entries)
    }

    /// Notes that the entries up to this one have been handed on.
    pub async fn forwarded(self, last: i64) -> Result<()> {
        let noted = Store::sql("update audit_forwarded set last = $1", [last.into()]);
        self.transaction.execute_raw(noted).await?;
        Ok(self.transaction.commit().await?)
    }
}

impl Store {
    /// The next entries to hand on to a receiver outside, at most so many; nothing while somebody
    /// else is handing them on.
    pub async fn entries_to_forward(&self, most: u64) -> Result<Option<Pending>> {
        let transaction = self.db.begin().await?;
        let last = Self::sql(
            "select last from audit_forwarded for update skip locked",
            [],
        );
        let Some(row) = transaction.query_one_raw(last).await? else {
            return Ok(None);
        };
        let last: i64 = row.try_get("", "last")?;
        let asked = Self::sql(
            "select * from audit_entries where id > $1 order by id limit $2",
            [last.into(), (most as i64).into()],
        );
        let entries = Entry::find_by_statement(asked).all(&transaction).await?;
        Ok(Some(Pending {
            transaction,
            entries,
        }))
    }

    /// Adds an entry. It is there for good once this answers.
    pub async fn audit(&self, new: &NewEntry) -> Result<()> {
        let added = Self::sql(
            "insert into audit_entries (at, actor, address, action, subject, detail, outcome) values ($1, $2, $3, $4, $5, $6, $7)",
            [
                new.at.into(),
                new.actor.clone().into(),
                new.address.clone().into(),
                new.action.as_str().into(),
                new.subject.as_str().into(),
                new.detail.clone().into(),
                new.outcome.word().into(),
            ],
        );
        self.db.execute_raw(added).await?;
        Ok(())
    }

    /// A page of entries, the latest first.
    pub async fn audit_entries(
        &self,
        filter: &EntryFilter,
        page: u64,
        size: u64,
    ) -> Result<Page<Entry>> {
        let counted = Self::sql(
            &format!("select count(*) as total from audit_entries where {WANTED}"),
            filter.values(),
        );
        let total: i64 = match self.db.query_one_raw(counted).await? {
            Some(row) => row.try_get("", "total")?,
            None => 0,
        };
        let mut values = filter.values().to_vec();
        values.extend([(size as i64).into(), offset(page, size).into()]);
        let asked = Self::sql(
            &format!(
                "select * from audit_entries where {WANTED} order by id desc limit $7 offset $8"
            ),
            values,
        );
        Ok(Page {
            items: Entry::find_by_statement(asked).all(&self.db).await?,
            total: u64::try_from(total).unwrap_or_default(),
        })
    }

    /// Entries in their order after one of them, at most so many: a piece of an export.
    pub async fn audit_entries_after(
        &self,
        filter: &EntryFilter,
        after: i64,
        most: u64,
    ) -> Result<Vec<Entry>> {
        let mut values = filter.values().to_vec();
        values.extend([after.into(), (most as i64).into()]);
        let asked = Self::sql(
            &format!("select * from audit_entries where {WANTED} and id > $7 order by id limit $8"),
            values,
        );
        Ok(Entry::find_by_statement(asked).all(&self.db).await?)
    }

    /// Goes through the whole trail.
    pub async fn verify_audit(&self) -> Result<Verified> {
        let asked = Self::sql(
            "select e.id from (select audit_entries as entry, id, previous, sha256, row_number() over (order by id) as place, \
               coalesce(lag(sha256) over (order by id), '') as before from audit_entries) e \
             where e.id <> e.place or e.previous <> e.before or e.sha256 <> audit_digest(e.entry) order by e.id limit 10",
            [],
        );
        let rows = self.db.query_all_raw(asked).await?;
        let broken = rows.iter().map(|row| row.try_get("", "id"));
        let head = Self::sql(
            "select count(*) as entries, coalesce((select sha256 from audit_entries order by id desc limit 1), '') as head from audit_entries",
            [],
        );
        let head = self.db.query_one_raw(head).await?;
        let (entries, head) = match head {
            Some(row) => (row.try_get("", "entries")?, row.try_get("", "head")?),
            None => (0, String::new()),
        };
        Ok(Verified {
            entries,
            head,
            broken: broken.collect::<std::result::Result<_, _>>()?,
        })
    }
}
