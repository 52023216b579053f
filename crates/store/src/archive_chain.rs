//! The days of the archive: what was made on each, chained, so that it can be proved later.

use chrono::{Days, NaiveDate, TimeDelta};
use sea_orm::{ConnectionTrait, FromQueryResult, TransactionTrait};
use uuid::Uuid;

use crate::{Page, Result, Store, StoreError, entity::Time, offset};

/// One who seals a day keeps others from it.
const LOCK: i64 = 7_302_428;
/// So many documents are named of each kind of fault.
const MOST_NAMED: i64 = 20;

/// A day that is over.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct ArchiveDay {
    pub day: NaiveDate,
    pub documents: i64,
    /// The last entry that the audit trail had when the day was sealed; 0 if there was none.
    pub audit_id: i64,
    pub sha256: String,
    pub sealed_at: Time,
    /// Whether the list of its documents, the day before it and the audit trail are what was sealed.
    pub intact: bool,
}

/// A sealed day that nobody outside was told of.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct UntoldDay {
    pub day: NaiveDate,
    pub documents: i64,
    pub sha256: String,
    pub sealed_at: Time,
}

/// A document that is not as it was sealed.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct Found {
    pub document_id: Uuid,
    pub run_id: Uuid,
    pub file_name: String,
}

/// What has become of the documents of a day; at most twenty of each kind are named.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DayProof {
    pub day: ArchiveDay,
    /// Documents whose bytes or digest are others now.
    pub altered: Vec<Found>,
    /// Documents that are gone although nothing on record let them go.
    pub missing: Vec<Found>,
    /// Documents that say they are of that day and were not there at its end.
    pub added: Vec<Found>,
    /// How many went after as long as they are kept.
    pub let_go: i64,
}

/// The instants of a day, $1, in UTC.
const OF_THE_DAY: &str = "created_at >= $1::date::timestamp at time zone 'UTC' \
     and created_at < ($1::date + 1)::timestamp at time zone 'UTC'";

const DAYS: &str = "select d.day, d.documents, d.audit_id, d.sha256, d.sealed_at, \
     d.sha256 = archive_digest(d) \
       and d.documents = (select count(*) from archive_documents s where s.day = d.day) \
       and d.previous = coalesce((select sha256 from archive_days b where b.day < d.day order by b.day desc limit 1), '') \
       and d.audit_sha256 = coalesce((select sha256 from audit_entries where id = d.audit_id), '') as intact \
     from archive_days d";

impl Store {
    /// Seals the next day if it was over `by` an instant; answers with whether there was one. The
    /// first is the day of the first document.
    pub async fn seal_day(&self, by: Time, now: Time) -> Result<bool> {
        let transaction = self.db.begin().await?;
        transaction
            .execute_raw(Self::sql("select pg_advisory_xact_lock($1)", [LOCK.into()]))
            .await?;
        let next = Self::sql(
            "select coalesce((select max(day) + 1 from archive_days), \
               (select (min(created_at) at time zone 'UTC')::date from documents)) as day",
            [],
        );
        let next = transaction.query_one_raw(next).await?;
        let next = next.map(|row| row.try_get::<Option<NaiveDate>>("", "day"));
        let Some(day) = next.transpose()?.flatten() else {
            return Ok(false);
        };
        let end = day.checked_add_days(Days::new(1)).unwrap_or(day);
        let end = end.and_time(chrono::NaiveTime::MIN).and_utc();
        if end > by {
            return Ok(false);
        }
        let listed = format!(
            "insert into archive_documents (document_id, day, run_id, file_name, sha256, size) \
             select id, $1, run_id, file_name, sha256, size from documents where {OF_THE_DAY}"
        );
        transaction
            .execute_raw(Self::sql(&listed, [day.into()]))
            .await?;
        // The database counts the documents and makes the digest, of the day as it is listed now.
        let sealed = "insert into archive_days (day, documents, audit_id, audit_sha256, previous, sha256, sealed_at) \
             select $1, 0, coalesce(last.id, 0), coalesce(last.sha256, ''), '', '', $2 from (select 1) one \
             left join lateral (select id, sha256 from audit_entries order by id desc limit 1) last on true";
        transaction
            .execute_raw(Self::sql(sealed, [day.into(), now.into()]))
            .await?;
        transaction.commit().await?;
        Ok(true)
    }

    /// Takes the latest sealed day to tell somebody outside of it; nothing if they were told, or another
    /// process is at it for as long as `takes`.
    pub async fn take_untold_day(&self, now: Time, takes: TimeDelta) -> Result<Option<UntoldDay>> {
        let taken = Self::sql(
            "with taken as (insert into archive_told as told (day, telling_until) select max(day), $2 from archive_days having max(day) is not null \
               on conflict (day) do update set telling_until = $2 where told.told_at is null and told.telling_until < $1 returning day) \
             select day, documents, sha256, sealed_at from archive_days where day in (select day from taken)",
            [now.into(), (now + takes).into()],
        );
        Ok(UntoldDay::find_by_statement(taken).one(&self.db).await?)
    }

    /// Puts it on record that somebody outside knows the digest of a day, which follows from all before.
    pub async fn told_of_day(&self, day: NaiveDate, now: Time) -> Result<()> {
        let told = Self::sql(
            "update archive_told set told_at = $2 where day = $1",
            [day.into(), now.into()],
        );
        self.db.execute_raw(told).await?;
        Ok(())
    }

    /// The latest sealed day with its digest.
    pub async fn archive_head(&self) -> Result<Option<(NaiveDate, String)>> {
        let asked = Self::sql(
            "select day, sha256 from archive_days order by day desc limit 1",
            [],
        );
        let row = self.db.query_one_raw(asked).await?;
        let read =
            |row: sea_orm::QueryResult| Ok((row.try_get("", "day")?, row.try_get("", "sha256")?));
        row.map(read).transpose()
    }

    /// A page of days, the latest first.
    pub async fn archive_days(&self, page: u64, size: u64) -> Result<Page<ArchiveDay>> {
        let counted = Self::sql("select count(*) as total from archive_days", []);
        let total: i64 = match self.db.query_one_raw(counted).await? {
            Some(row) => row.try_get("", "total")?,
            None => 0,
        };
        let asked = Self::sql(
            &format!("{DAYS} order by d.day desc limit $1 offset $2"),
            [(size as i64).into(), offset(page, size).into()],
        );
        Ok(Page {
            items: ArchiveDay::find_by_statement(asked).all(&self.db).await?,
            total: u64::try_from(total).unwrap_or_default(),
        })
    }

    /// What has become of a day's documents. It reads all of their bytes.
    pub async fn prove_day(&self, day: NaiveDate) -> Result<Option<DayProof>> {
        let asked = Self::sql(&format!("{DAYS} where d.day = $1"), [day.into()]);
        let Some(sealed) = ArchiveDay::find_by_statement(asked).one(&self.db).await? else {
            return Ok(None);
        };
        let found = async |sql: &str| {
            let asked = Self::sql(
                &format!("{sql} order by 1 limit {MOST_NAMED}"),
                [day.into()],
            );
            Found::find_by_statement(asked).all(&self.db).await
        };
        let gone = "exists (select 1 from removals r where r.run_id = s.run_id \
             and r.files @> jsonb_build_array(jsonb_build_object('sha256', s.sha256)))";
        let absent = "from archive_documents s where s.day = $1 \
             and not exists (select 1 from documents d where d.id = s.document_id)";
        let mut altered = found(
            "select s.document_id, s.run_id, s.file_name from archive_documents s \
             join documents d on d.id = s.document_id where s.day = $1 \
             and (d.sha256 <> s.sha256 or d.size <> s.size or d.run_id <> s.run_id or d.file_name <> s.file_name \
               or (d.removed_at is null and coalesce(d.outside, encode(sha256(d.body), 'hex')) <> s.sha256))",
        )
        .await?;
        let mut missing = found(&format!(
            "select s.document_id, s.run_id, s.file_name {absent} and not {gone}"
        ))
        .await?;
        self.prove_outside(day, &mut altered, &mut missing).await?;
        let added = found(&format!(
            "select d.id as document_id, d.run_id, d.file_name from documents d where {OF_THE_DAY} \
             and not exists (select 1 from archive_documents s where s.document_id = d.id and s.day = $1)"
        ))
        .await?;
        let counted = Self::sql(
            &format!(
                "select (select count(*) {absent} and {gone}) \
                   + (select count(*) from archive_documents s join documents d on d.id = s.document_id \
                      where s.day = $1 and d.removed_at is not null) as let_go"
            ),
            [day.into()],
        );
        let let_go = match self.db.query_one_raw(counted).await? {
            Some(row) => row.try_get("", "let_go")?,
            None => 0,
        };
        Ok(Some(DayProof {
            day: sealed,
            altered,
            missing,
            added,
            let_go,
        }))
    }

    /// Reads the documents of a day that are kept outside of the database, and names those that are
    /// altered or missing there.
    async fn prove_outside(
        &self,
        day: NaiveDate,
        altered: &mut Vec<Found>,
        missing: &mut Vec<Found>,
    ) -> Result<()> {
        let mut after = Uuid::nil();
        loop {
            let asked = Self::sql(
                "select s.document_id, s.run_id, s.file_name, o.sha256, o.size from archive_documents s \
                 join documents d on d.id = s.document_id join outside_bodies o on o.sha256 = d.outside \
                 where s.day = $1 and s.document_id > $2 order by s.document_id limit 100",
                [day.into(), after.into()],
            );
            let rows = self.db.query_all_raw(asked).await?;
            let Some(last) = rows.last() else {
                return Ok(());
            };
            after = last.try_get("", "document_id")?;
            for row in rows {
                let one = Found::from_query_result(&row, "")?;
                let (sha256, size): (String, i64) =
                    (row.try_get("", "sha256")?, row.try_get("", "size")?);
                let list = match self.read_outside(&sha256, size.unsigned_abs()).await {
                    Ok(_) => continue,
                    Err(StoreError::BodyAltered(_)) => &mut *altered,
                    // One that went or was moved meanwhile is not missing.
                    Err(StoreError::BodyMissing(_))
                        if self.body_outside("documents", one.document_id).await?
                            != Some((sha256, size.unsigned_abs())) =>
                    {
                        continue;
                    }
                    Err(StoreError::BodyMissing(_)) => &mut *missing,
                    Err(error) => return Err(error),
                };
                if list.len() < MOST_NAMED as usize && !list.contains(&one) {
                    list.push(one);
                }
            }
        }
    }
}
