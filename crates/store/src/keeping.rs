//! How long what was made is kept, what somebody keeps for good, and what went.

use std::collections::BTreeMap;

use maple_lark_api::{KeepStage, KeepWhy, RunState, Words};
use sea_orm::{ConnectionTrait, DatabaseTransaction, FromQueryResult, TransactionTrait, Value};
use uuid::Uuid;

use crate::{Page, Result, Store, StoreError, Stored, entity::Time, offset, stored::sql_list};

/// What goes of the runs of a report, or of all those whose reports say nothing of their own.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Terms {
    /// Of runs that were over by this instant the documents go; none go if there is none.
    pub documents: Option<Time>,
    /// The same of the snapshots, once the documents have gone.
    pub snapshots: Option<Time>,
    /// The same of the records, once the snapshots have gone.
    pub records: Option<Time>,
    /// The documents of so many runs of a report stay at most, the latest.
    pub most_runs: Option<i64>,
    /// Documents and snapshots of a report take so many bytes at most.
    pub most_bytes: Option<i64>,
}

impl Terms {
    fn cut(&self, stage: KeepStage) -> Option<Time> {
        match stage {
            KeepStage::Documents => self.documents,
            KeepStage::Snapshots => self.snapshots,
            KeepStage::Record => self.records,
        }
    }
}

/// Everything that decides what goes at an instant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Policy {
    /// Nothing goes of a run that was over after this instant, whatever the rest says.
    pub floor: Time,
    /// For reports that say nothing of their own.
    pub usual: Terms,
    /// What reports say.
    pub reports: BTreeMap<String, Terms>,
    /// Documents and snapshots of all reports together take so many bytes at most.
    pub most_bytes: Option<i64>,
}

impl Policy {
    fn of(&self, report: &str) -> &Terms {
        self.reports.get(report).unwrap_or(&self.usual)
    }
}

/// Something of a run that is to go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Going {
    pub run: Uuid,
    pub report: String,
    pub ended_at: Time,
    pub what: KeepStage,
    pub why: KeepWhy,
    /// Bytes that it takes.
    pub bytes: i64,
}

/// Something of a run that went.
#[derive(Debug, Clone, FromQueryResult)]
pub struct Removal {
    pub at: Time,
    pub what: Stored<KeepStage>,
    pub why: String,
    pub run_id: Uuid,
    pub report: String,
    pub title: String,
    pub ended_at: Time,
    pub window_from: Time,
    pub window_to: Time,
    pub bytes: i64,
    /// A list of objects with `name`, `sha256` and `size`.
    pub files: serde_json::Value,
}

/// What is kept of a run, and whether for good.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct Holding {
    pub run_id: Uuid,
    pub report: String,
    /// What goes of it next; the record, if nothing else is left.
    pub stage: Stored<KeepStage>,
    pub kept_at: Option<Time>,
    pub kept_by: Option<String>,
    pub kept_because: Option<String>,
}

/// What there is of all runs together.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, FromQueryResult)]
pub struct Holdings {
    /// Runs that are over and were looked at.
    pub runs: i64,
    /// Those of them whose documents are there.
    pub with_documents: i64,
    /// Those that somebody keeps for good.
    pub kept: i64,
    pub document_bytes: i64,
    pub snapshot_bytes: i64,
}

#[derive(FromQueryResult)]
struct Row {
    run_id: Uuid,
    report: String,
    ended_at: Time,
    bytes: i64,
}

/// What a run takes at a stage.
fn bytes_of(stage: KeepStage) -> &'static str {
    match stage {
        KeepStage::Documents => "document_bytes",
        KeepStage::Snapshots => "snapshot_bytes",
        KeepStage::Record => "0::bigint",
    }
}

impl Store {
    /// The policy as it was set, by whom and when; nothing if nobody did.
    pub async fn keep_policy(&self) -> Result<Option<(serde_json::Value, Time, String)>> {
        let asked = Self::sql("select policy, set_at, set_by from keep_policy", []);
        let Some(row) = self.db.query_one_raw(asked).await? else {
            return Ok(None);
        };
        Ok(Some((
            row.try_get("", "policy")?,
            row.try_get("", "set_at")?,
            row.try_get("", "set_by")?,
        )))
    }

    pub async fn set_keep_policy(
        &self,
        policy: &serde_json::Value,
        by: &str,
        now: Time,
    ) -> Result<()> {
        let set = Self::sql(
            "insert into keep_policy (policy, set_at, set_by) values ($1, $2, $3) \
             on conflict (only_one) do update set policy = excluded.policy, set_at = excluded.set_at, set_by = excluded.set_by",
            [policy.clone().into(), now.into(), by.into()],
        );
        self.db.execute_raw(set).await?;
        Ok(())
    }

    /// Looks at some runs that are over and that nobody has looked at: how much there is of each.
    /// Answers with how many there were.
    pub async fn measure(&self, most: u64) -> Result<u64> {
        let open = sql_list(RunState::which(RunState::is_open));
        let measured = Self::sql(
            &format!(
                "with over as (select id, report, coalesce(finished_at, created_at) as ended_at from runs \
                    where not measured and state not in ({open}) order by created_at limit $1 for update skip locked), \
                 marked as (update runs set measured = true from over where runs.id = over.id) \
                 insert into holdings (run_id, report, ended_at, document_bytes, snapshot_bytes) \
                 select over.id, over.report, over.ended_at, \
                    (select coalesce(sum(size), 0) from documents where run_id = over.id), \
                    (select coalesce(sum(coalesce(o.size, octet_length(body))), 0) from snapshots left join outside_bodies o on o.sha256 = outside where run_id = over.id) \
                        + (select coalesce(sum(coalesce(o.size, octet_length(body))), 0) from pictures left join outside_bodies o on o.sha256 = outside where run_id = over.id) from over \
                 on conflict (run_id) do update set ended_at = excluded.ended_at, document_bytes = excluded.document_bytes, snapshot_bytes = excluded.snapshot_bytes"
            ),
            [(most as i64).into()],
        );
        Ok(self.db.execute_raw(measured).await?.rows_affected())
    }

    /// What goes next by a policy, the oldest first: documents before snapshots before records.
    /// What takes too much room goes in this order, too, and no more than has to.
    pub async fn going(&self, policy: &Policy, most: u64) -> Result<Vec<Going>> {
        let mut found: Vec<Going> = Vec::new();
        for stage in KeepStage::ALL.iter().copied() {
            let left = most.saturating_sub(found.len() as u64);
            self.too_old(policy, stage, left, &mut found).await?;
        }
        for report in self.reports_with_runs().await? {
            let terms = policy.of(&report);
            if let Some(runs) = terms.most_runs {
                let left = most.saturating_sub(found.len() as u64);
                self.too_many(policy, &report, runs, left, &mut found)
                    .await?;
            }
            if let Some(bytes) = terms.most_bytes {
                let left = most.saturating_sub(found.len() as u64);
                self.too_large(policy, Some(&report), bytes, left, &mut found)
                    .await?;
            }
        }
        if let Some(bytes) = policy.most_bytes {
            let left = most.saturating_sub(found.len() as u64);
            self.too_large(policy, None, bytes, left, &mut found)
                .await?;
        }
        Ok(found)
    }

    async fn reports_with_runs(&self) -> Result<Vec<String>> {
        let asked = Self::sql(
            "select report from run_counts group by report order by report",
            [],
        );
        let rows = self.db.query_all_raw(asked).await?;
        rows.iter()
            .map(|row| Ok(row.try_get("", "report")?))
            .collect()
    }

    async fn too_old(
        &self,
        policy: &Policy,
        stage: KeepStage,
        most: u64,
        found: &mut Vec<Going>,
    ) -> Result<()> {
        let mut names = Vec::new();
        let mut cuts = Vec::new();
        for (report, terms) in &policy.reports {
            names.push(report.clone());
            cuts.push(terms.cut(stage).map_or(String::new(), |at| at.to_rfc3339()));
        }
        let asked = format!(
            "select h.run_id, h.report, h.ended_at, {bytes} as bytes from holdings h \
             left join unnest($1::text[], $2::text[]) as own(report, cut) on own.report = h.report \
             where h.stage = $3 and h.kept_at is null and h.ended_at <= $4 \
             and h.ended_at <= case when own.report is null then $5::timestamptz else nullif(own.cut, '')::timestamptz end \
             order by h.ended_at, h.run_id limit $6",
            bytes = bytes_of(stage)
        );
        let values: [Value; 6] = [
            names.into(),
            cuts.into(),
            stage.word().into(),
            policy.floor.into(),
            policy.usual.cut(stage).into(),
            (most as i64).into(),
        ];
        self.find(&asked, values, (stage, KeepWhy::Age), found)
            .await
    }

    async fn too_many(
        &self,
        policy: &Policy,
        report: &str,
        runs: i64,
        most: u64,
        found: &mut Vec<Going>,
    ) -> Result<()> {
        let asked = "select run_id, report, ended_at, document_bytes as bytes from \
             (select * from holdings where report = $1 and stage = 'documents' and kept_at is null \
                and ended_at is not null order by ended_at desc, run_id desc offset $2) more \
             where ended_at <= $3 order by ended_at, run_id limit $4";
        let values: [Value; 4] = [
            report.into(),
            runs.into(),
            policy.floor.into(),
            (most as i64).into(),
        ];
        let what = (KeepStage::Documents, KeepWhy::Number);
        self.find(asked, values, what, found).await
    }

    /// Documents, and if that is not enough, snapshots; of one report or of all.
    async fn too_large(
        &self,
        policy: &Policy,
        report: Option<&str>,
        bytes: i64,
        most: u64,
        found: &mut Vec<Going>,
    ) -> Result<()> {
        let before = found.len();
        for stage in [KeepStage::Documents, KeepStage::Snapshots] {
            let asked = format!(
                "select run_id, report, ended_at, bytes from \
                 (select run_id, report, ended_at, {bytes} as bytes, sum({bytes}) over (order by ended_at, run_id) - {bytes} as freed from holdings \
                    where stage = $1 and kept_at is null and ended_at <= $2 and ($3::text is null or report = $3)) old \
                 where freed < (select coalesce(sum(document_bytes + snapshot_bytes), 0) - $4 from holdings where ($3::text is null or report = $3)) \
                 order by ended_at, run_id limit $5",
                bytes = bytes_of(stage)
            );
            let values: [Value; 5] = [
                stage.word().into(),
                policy.floor.into(),
                report.into(),
                bytes.into(),
                (most as i64).into(),
            ];
            self.find(&asked, values, (stage, KeepWhy::Size), found)
                .await?;
            if found.len() > before {
                break;
            }
        }
        Ok(())
    }

    /// Adds what a statement finds, but for what is among the rest already.
    async fn find<const N: usize>(
        &self,
        asked: &str,
        values: [Value; N],
        (what, why): (KeepStage, KeepWhy),
        found: &mut Vec<Going>,
    ) -> Result<()> {
        let rows = Row::find_by_statement(Self::sql(asked, values))
            .all(&self.db)
            .await?;
        for row in rows {
            if !found.iter().any(|one| one.run == row.run_id) {
                found.push(Going {
                    run: row.run_id,
                    report: row.report,
                    ended_at: row.ended_at,
                    what,
                    why,
                    bytes: row.bytes,
                });
            }
        }
        Ok(())
    }

    /// Removes what is to go of some runs, in one transaction, and puts it on record. What somebody
    /// keeps for good meanwhile, works on, or is still sending, stays. Answers with how many went.
    pub async fn let_go(&self, going: &[Going], now: Time) -> Result<u64> {
        let transaction = self.db.begin().await?;
        let mut gone = 0;
        for one in going {
            if Self::is_free_to_go(&transaction, one).await? {
                Self::put_on_record(&transaction, one, now).await?;
                for statement in removing(one.what) {
                    let mut values: Vec<Value> = vec![one.run.into()];
                    if statement.contains("$2") {
                        values.push(now.into());
                    }
                    transaction
                        .execute_raw(Self::sql(statement, values))
                        .await?;
                }
                gone += 1;
            }
        }
        transaction.commit().await?;
        Ok(gone)
    }

    /// Locks a run, if nobody has it in hand.
    async fn is_free_to_go(transaction: &DatabaseTransaction, one: &Going) -> Result<bool> {
        let open = sql_list(RunState::which(RunState::is_open));
        let locked = Self::sql(
            &format!(
                "select 1 as free from holdings h join runs r on r.id = h.run_id \
                 where h.run_id = $1 and h.stage = $2 and h.kept_at is null and r.state not in ({open}) \
                 and not exists (select from deliveries d where d.run_id = h.run_id and d.state = 'waiting') \
                 for update of h, r skip locked"
            ),
            [one.run.into(), one.what.word().into()],
        );
        Ok(transaction.query_one_raw(locked).await?.is_some())
    }

    async fn put_on_record(
        transaction: &DatabaseTransaction,
        one: &Going,
        now: Time,
    ) -> Result<()> {
        let files = match one.what {
            KeepStage::Documents => {
                "(select coalesce(jsonb_agg(jsonb_build_object('name', file_name, 'sha256', sha256, 'size', size) order by file_name), '[]') from documents where run_id = $1)"
            }
            KeepStage::Snapshots | KeepStage::Record => "'[]'::jsonb",
        };
        let recorded = Self::sql(
            &format!(
                "insert into removals (at, what, why, run_id, report, title, ended_at, window_from, window_to, bytes, files) \
                 select $2, $3, $4, r.id, r.report, r.title, h.ended_at, r.window_from, r.window_to, {bytes}, {files} \
                 from runs r join holdings h on h.run_id = r.id where r.id = $1",
                bytes = bytes_of(one.what)
            ),
            [
                one.run.into(),
                now.into(),
                one.what.word().into(),
                one.why.word().into(),
            ],
        );
        transaction.execute_raw(recorded).await?;
        Ok(())
    }

    /// Lets the database use again what went; what lies at the end of a table goes back to the disk.
    pub async fn give_back_room(&self) -> Result<()> {
        for table in [
            "documents",
            "document_texts",
            "snapshots",
            "pictures",
            "failed_pages",
            "run_steps",
            "run_lines",
            "deliveries",
            "delivery_attempts",
            "runs",
        ] {
            let statement = format!("vacuum (skip_locked, analyze) {table}");
            self.db.execute_unprepared(&statement).await?;
        }
        Ok(())
    }

    /// What there is of all runs together.
    pub async fn holdings(&self) -> Result<Holdings> {
        let asked = Self::sql(
            "select count(ended_at) as runs, count(*) filter (where stage = 'documents' and ended_at is not null) as with_documents, \
             count(kept_at) as kept, coalesce(sum(document_bytes), 0)::bigint as document_bytes, coalesce(sum(snapshot_bytes), 0)::bigint as snapshot_bytes from holdings",
            [],
        );
        let found = Holdings::find_by_statement(asked).one(&self.db).await?;
        Ok(found.unwrap_or_default())
    }

    /// What is kept of a run; nothing if nobody has looked at it and nobody keeps it.
    pub async fn holding(&self, run: Uuid) -> Result<Option<Holding>> {
        let asked = Self::sql(
            "select run_id, report, stage, kept_at, kept_by, kept_because from holdings where run_id = $1",
            [run.into()],
        );
        Ok(Holding::find_by_statement(asked).one(&self.db).await?)
    }

    /// Keeps a run for good. Answers whether somebody kept it already: that stays as it is then.
    pub async fn keep_run(
        &self,
        (run, report): (Uuid, &str),
        by: &str,
        because: &str,
        now: Time,
    ) -> Result<bool> {
        let kept = Self::sql(
            "insert into holdings (run_id, report, kept_at, kept_by, kept_because) values ($1, $2, $3, $4, $5) \
             on conflict (run_id) do update set kept_at = excluded.kept_at, kept_by = excluded.kept_by, kept_because = excluded.kept_because \
             where holdings.kept_at is null",
            [
                run.into(),
                report.into(),
                now.into(),
                by.into(),
                because.into(),
            ],
        );
        Ok(self.db.execute_raw(kept).await?.rows_affected() == 0)
    }

    /// Keeps a run no longer than others. Answers whether somebody kept it.
    pub async fn keep_run_no_longer(&self, run: Uuid) -> Result<bool> {
        let freed = Self::sql(
            "update holdings set kept_at = null, kept_by = null, kept_because = null where run_id = $1 and kept_at is not null",
            [run.into()],
        );
        Ok(self.db.execute_raw(freed).await?.rows_affected() > 0)
    }

    /// A page of the runs that somebody keeps for good, the latest first.
    pub async fn kept_runs(&self, page: u64, size: u64) -> Result<Page<Holding>> {
        let counted = Self::sql(
            "select count(*) as total from holdings where kept_at is not null",
            [],
        );
        let total: i64 = match self.db.query_one_raw(counted).await? {
            Some(row) => row.try_get("", "total")?,
            None => 0,
        };
        let asked = Self::sql(
            "select run_id, report, stage, kept_at, kept_by, kept_because from holdings where kept_at is not null \
             order by kept_at desc, run_id limit $1 offset $2",
            [(size as i64).into(), offset(page, size).into()],
        );
        Ok(Page {
            total: u64::try_from(total).unwrap_or_default(),
            items: Holding::find_by_statement(asked).all(&self.db).await?,
        })
    }

    /// A page of what went, the latest first; of one report, if one is named.
    pub async fn removals(
        &self,
        report: Option<&str>,
        page: u64,
        size: u64,
    ) -> Result<Page<Removal>> {
        let counted = Self::sql(
            "select count(*) as total from removals where ($1::text is null or report = $1)",
            [report.into()],
        );
        let total: i64 = match self.db.query_one_raw(counted).await? {
            Some(row) => row.try_get("", "total")?,
            None => 0,
        };
        let asked = Self::sql(
            "select at, what, why, run_id, report, title, ended_at, window_from, window_to, bytes, files from removals \
             where ($1::text is null or report = $1) order by id desc limit $2 offset $3",
            [
                report.into(),
                (size as i64).into(),
                offset(page, size).into(),
            ],
        );
        Ok(Page {
            total: u64::try_from(total).unwrap_or_default(),
            items: Removal::find_by_statement(asked).all(&self.db).await?,
        })
    }

    /// When a document with this SHA-256 went, and of which report it was.
    pub async fn removed_document(&self, sha256: &str) -> Result<Option<Removal>> {
        let asked = Self::sql(
            "select at, what, why, run_id, report, title, ended_at, window_from, window_to, bytes, files from removals \
             where files @> $1 order by id limit 1",
            [serde_json::json!([{ "sha256": sha256 }]).into()],
        );
        Ok(Removal::find_by_statement(asked).one(&self.db).await?)
    }
}

/// Refuses what needs the documents of a run that went.
pub(crate) async fn has_documents(transaction: &DatabaseTransaction, run: Uuid) -> Result<()> {
    let gone = Store::sql(
        "select max(removed_at) as at from documents where run_id = $1",
        [run.into()],
    );
    let gone = transaction.query_one_raw(gone).await?;
    let gone = gone.map(|row| row.try_get::<Option<Time>>("", "at"));
    match gone.transpose()?.flatten() {
        Some(at) => Err(StoreError::DocumentsGone { run, at }),
        None => Ok(()),
    }
}

/// The statements that remove something of the run `$1`, at the instant `$2`.
fn removing(what: KeepStage) -> &'static [&'static str] {
    match what {
        KeepStage::Documents => &[
            "update documents set body = '', outside = null, removed_at = $2 where run_id = $1",
            "delete from document_texts using snapshots s where s.id = document_texts.snapshot_id and s.run_id = $1",
            "update snapshots set searchable = true where run_id = $1 and not searchable",
            "update holdings set stage = 'snapshots', document_bytes = 0 where run_id = $1",
        ],
        KeepStage::Snapshots => &[
            "update snapshots set body = '', outside = null, removed_at = $2 where run_id = $1",
            "delete from pictures where run_id = $1",
            "delete from failed_pages where run_id = $1",
            "update holdings set stage = 'record', snapshot_bytes = 0 where run_id = $1",
        ],
        KeepStage::Record => &["delete from runs where id = $1"],
    }
}
