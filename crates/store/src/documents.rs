//! Snapshots of runs, how they were judged, and the documents made of them.

use std::collections::BTreeSet;

use sea_orm::{
    ColumnTrait, ConnectionTrait, EntityTrait, Iterable, QueryFilter, QueryOrder, QuerySelect,
    Select, TransactionTrait, sea_query::Query,
};
use uuid::Uuid;

use maple_lark_api::Format;

use crate::{
    Result, Store, StoreError, Stored, bodies,
    claims::Claim,
    entity::{Time, document, run, snapshot},
    kept,
    pictures::{self, Pictures},
    runs::Run,
    steps::EndedStep,
    teams::Sight,
};

pub use document::Model as Document;
pub use snapshot::Model as StoredSnapshot;

/// Everything about a snapshot but its bytes, of which there may be many.
#[derive(Debug, Clone, sea_orm::FromQueryResult)]
pub struct SnapshotHead {
    pub id: Uuid,
    pub values_key: String,
    pub sha256: String,
    /// How its document was judged, once it was composed.
    pub status: Option<String>,
    /// Why nothing is sent of it.
    pub quiet: Option<String>,
    /// Its values, as texts for people; nothing for those of older versions.
    pub shown: Option<serde_json::Value>,
    /// When its bytes went.
    pub removed_at: Option<Time>,
}

impl SnapshotHead {
    /// What a list of snapshots says of one that is at hand.
    #[must_use]
    pub fn of(snapshot: &StoredSnapshot) -> Self {
        Self {
            id: snapshot.id,
            values_key: snapshot.values_key.clone(),
            sha256: snapshot.sha256.clone(),
            status: snapshot.status.clone(),
            quiet: snapshot.quiet.clone(),
            shown: snapshot.shown.clone(),
            removed_at: snapshot.removed_at,
        }
    }
}

/// Everything about a document but its bytes.
#[derive(Debug, Clone, sea_orm::FromQueryResult)]
pub struct DocumentHead {
    pub id: Uuid,
    pub snapshot_id: Uuid,
    pub variant: String,
    pub format: Stored<Format>,
    pub file_name: String,
    pub media_type: String,
    pub sha256: String,
    pub size: i64,
    /// When its bytes went.
    pub removed_at: Option<Time>,
}

impl Store {
    /// Keeps how a snapshot's document was judged, and how its run is: as its worst. A run that was being collected
    /// is being rendered from now on.
    pub async fn judge_snapshot(
        &self,
        claim: Claim,
        id: Uuid,
        status: &str,
        quiet: Option<&str>,
    ) -> Result<()> {
        let statement = Store::sql(
            "with mine as (select id from runs where id = $1 and lease_owner = $2 for no key update), \
             judged as (update snapshots set status = $4, quiet = $5 from mine \
               where snapshots.id = $3 and run_id = mine.id returning run_id), \
             all_of_them as (select status from snapshots where run_id = $1 and id <> $3 union all select $4) \
             update runs set state = case when state = 'collecting' then 'rendering' else state end, status = (select case when bool_or(lower(status) = 'critical') then 'critical' \
               when bool_or(lower(status) = 'warning') then 'warning' when bool_or(lower(status) = 'unknown') then 'unknown' else 'ok' end from all_of_them) \
             from judged where runs.id = judged.run_id",
            [
                claim.run.into(),
                claim.token.into(),
                id.into(),
                status.into(),
                quiet.map(str::to_owned).into(),
            ],
        );
        self.one_row(statement, claim.run).await
    }

    /// The status of the run before this one, of the same report and the same values.
    pub async fn status_before(&self, run: &Run, values_key: &str) -> Result<Option<String>> {
        let statement = Store::sql(
            "select s.status from snapshots s join runs r on r.id = s.run_id where r.report = $1 and r.team = $5 and s.values_key = $2 and r.id <> $3 and r.scheduled_for <= $4 \
             and s.status is not null and r.state <> 'cancelled' order by r.scheduled_for desc, r.created_at desc limit 1",
            [
                run.report.as_str().into(),
                values_key.into(),
                run.id.into(),
                run.scheduled_for.into(),
                run.team.as_str().into(),
            ],
        );
        let row = self.db.query_one_raw(statement).await?;
        Ok(row
            .map(|row| row.try_get::<Option<String>>("", "status"))
            .transpose()?
            .flatten())
    }

    /// The snapshots of the runs of a report of a team before the one that was scheduled for, and created at,
    /// these instants, for the same values, the latest first, at most so many. Runs that were
    /// cancelled are none.
    pub async fn snapshots_before(
        &self,
        (report, team): (&str, &str),
        values_key: &str,
        (scheduled_for, created_at): (Time, Time),
        most: u32,
    ) -> Result<Vec<Uuid>> {
        let statement = Store::sql(
            "select s.id from snapshots s join runs r on r.id = s.run_id where r.report = $1 and r.team = $6 and s.values_key = $2 and (r.scheduled_for, r.created_at) < ($3, $4) \
             and r.state <> 'cancelled' and s.removed_at is null order by r.scheduled_for desc, r.created_at desc limit $5",
            [
                report.into(),
                values_key.into(),
                scheduled_for.into(),
                created_at.into(),
                i64::from(most).into(),
                team.into(),
            ],
        );
        let rows = self.db.query_all_raw(statement).await?;
        let ids = rows.into_iter().map(|row| row.try_get::<Uuid>("", "id"));
        Ok(ids.collect::<std::result::Result<_, _>>()?)
    }

    /// Keeps a snapshot and the pictures that it shows, once for each set of values; a second one
    /// for the same is dropped. With it the step ends that made it, if there is one.
    pub async fn keep_snapshot(
        &self,
        claim: Claim,
        mut one: StoredSnapshot,
        shown: &Pictures,
        step: Option<&EndedStep<'_>>,
    ) -> Result<()> {
        let (id, rest) = (one.id, self.take_out(&mut one.body).await?);
        let shown = self.take_out_pictures(shown).await?;
        let (held, row) = (kept::claimed(claim), [one]);
        if rest.is_none() && shown.is_empty() {
            let kept = kept::keep(&self.db, held, &row, step).await?;
            return kept.map(drop).ok_or(StoreError::LeaseLost(claim.run));
        }
        let transaction = self.db.begin().await?;
        let kept = kept::keep(&transaction, held, &row, step).await?;
        let kept = kept.ok_or(StoreError::LeaseLost(claim.run))?;
        if kept.contains(&id) {
            rest.write(&transaction, "snapshots", id).await?;
            pictures::keep(&transaction, (claim.run, id), shown).await?;
        }
        Ok(transaction.commit().await?)
    }

    pub async fn snapshot_heads(&self, run_id: Uuid) -> Result<Vec<SnapshotHead>> {
        use snapshot::Column as C;
        let query = snapshot::Entity::find().select_only().columns([
            C::Id,
            C::ValuesKey,
            C::Sha256,
            C::Status,
            C::Quiet,
            C::Shown,
            C::RemovedAt,
        ]);
        Ok(query
            .filter(C::RunId.eq(run_id))
            .order_by_asc(C::CreatedAt)
            .into_model()
            .all(&self.db)
            .await?)
    }

    /// The run of a snapshot, and when its bytes went, if they did.
    pub async fn snapshot_place(&self, id: Uuid) -> Result<Option<(Uuid, Option<Time>)>> {
        use snapshot::Column as C;
        let query = snapshot::Entity::find_by_id(id).select_only();
        let columns = query.columns([C::RunId, C::RemovedAt]);
        Ok(columns.into_tuple().one(&self.db).await?)
    }

    /// A snapshot with its bytes; nothing if they went.
    pub async fn snapshot(&self, id: Uuid) -> Result<Option<StoredSnapshot>> {
        use snapshot::Column as C;
        let columns = C::iter().filter(|column| !matches!(column, C::Body));
        let query = snapshot::Entity::find_by_id(id)
            .filter(C::RemovedAt.is_null())
            .select_only()
            .columns(columns)
            .expr_as(bodies::first_part(), "body");
        let Some(mut found) = query.one(&self.db).await? else {
            return Ok(None);
        };
        self.read_rest("snapshots", id, &mut found.body).await?;
        Ok(Some(found))
    }

    /// Keeps the documents of one snapshot in one transaction; those kept before stay. With them the step ends that
    /// made them, if there is one.
    pub async fn keep_documents(
        &self,
        claim: Claim,
        mut documents: Vec<Document>,
        step: Option<&EndedStep<'_>>,
    ) -> Result<()> {
        let mut rests = Vec::with_capacity(documents.len());
        for one in &mut documents {
            rests.push((one.id, self.take_out(&mut one.body).await?));
        }
        let lost = StoreError::LeaseLost(claim.run);
        let bytes: usize = documents.iter().map(|one| one.body.len()).sum();
        let at_once = if bytes > kept::MOST_BYTES {
            1
        } else {
            kept::AT_ONCE
        };
        if documents.len() <= at_once && rests.iter().all(|(_, rest)| rest.is_none()) {
            let kept = kept::keep(&self.db, kept::claimed(claim), &documents, step).await?;
            return kept.map(drop).ok_or(lost);
        }
        let transaction = self.db.begin().await?;
        let mut all = BTreeSet::new();
        let mut step = step;
        for some in documents.chunks(at_once) {
            match kept::keep(&transaction, kept::claimed(claim), some, step.take()).await? {
                Some(kept) => all.extend(kept),
                None => return Err(lost),
            }
        }
        for (id, rest) in rests {
            if all.contains(&id) {
                rest.write(&transaction, "documents", id).await?;
            }
        }
        Ok(transaction.commit().await?)
    }

    pub async fn document_heads(&self, run_id: Uuid) -> Result<Vec<DocumentHead>> {
        use document::Column as C;
        let query = document::Entity::find().select_only().columns([
            C::Id,
            C::SnapshotId,
            C::Variant,
            C::Format,
            C::FileName,
            C::MediaType,
            C::Sha256,
            C::Size,
            C::RemovedAt,
        ]);
        Ok(query
            .filter(C::RunId.eq(run_id))
            .order_by_desc(C::Format)
            .order_by_asc(C::FileName)
            // The report's own number format comes before those of recipients.
            .order_by_asc(C::Variant)
            .into_model()
            .all(&self.db)
            .await?)
    }

    pub async fn document(&self, id: Uuid) -> Result<Option<Document>> {
        Ok(self
            .opened_documents(document::Entity::find_by_id(id))
            .await?
            .pop())
    }

    /// The first document kept with this SHA-256, of a run that somebody sees.
    pub async fn document_with(&self, sha256: &str, sight: &Sight) -> Result<Option<Document>> {
        let mut query = document::Entity::find().filter(document::Column::Sha256.eq(sha256));
        if let Some(teams) = sight.restriction() {
            let seen = Query::select()
                .column(run::Column::Id)
                .from(run::Entity)
                .and_where(run::Column::Team.is_in(teams))
                .to_owned();
            query = query.filter(document::Column::RunId.in_subquery(seen));
        }
        let query = query.order_by_asc(document::Column::CreatedAt).limit(1);
        Ok(self.opened_documents(query).await?.pop())
    }

    /// The documents of a snapshot as somebody reads them who reads them like `variant`.
    pub async fn documents_of_snapshot(
        &self,
        snapshot_id: Uuid,
        variant: &str,
    ) -> Result<Vec<Document>> {
        let query = document::Entity::find()
            .filter(document::Column::SnapshotId.eq(snapshot_id))
            .filter(document::Column::Variant.eq(variant))
            .order_by_desc(document::Column::Format)
            .order_by_asc(document::Column::FileName);
        self.opened_documents(query).await
    }

    async fn opened_documents(&self, query: Select<document::Entity>) -> Result<Vec<Document>> {
        use document::Column as C;
        let columns = C::iter().filter(|column| !matches!(column, C::Body));
        let mut found = query
            .select_only()
            .columns(columns)
            .expr_as(bodies::first_part(), "body")
            .all(&self.db)
            .await?;
        for one in &mut found {
            self.read_rest("documents", one.id, &mut one.body).await?;
        }
        Ok(found)
    }
}
