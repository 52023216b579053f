//! The steps of runs: what each did, when and how it ended.

use sea_orm::{ColumnTrait, EntityTrait, QueryFilter, QueryOrder};
use uuid::Uuid;

use maple_lark_api::{StepKind, StepState};

use crate::{
    Result, Store, StoreError, Stored,
    claims::Claim,
    entity::{Time, run_step},
    kept,
};

pub use kept::EndedStep;
pub use run_step::Model as Step;

impl Store {
    /// Records that a step begins; beginning again after a crash starts it over.
    pub async fn begin_step(
        &self,
        claim: Claim,
        kind: StepKind,
        subject: &str,
        now: Time,
    ) -> Result<()> {
        let statement = Store::sql(
            "insert into run_steps (run_id, kind, subject, state, started_at) \
             select id, $3, $4, $5, $6 from runs where id = $1 and lease_owner = $2 for share \
             on conflict (run_id, kind, subject) do update set \
               state = excluded.state, detail = null, started_at = excluded.started_at, ended_at = null",
            [
                claim.run.into(),
                claim.token.into(),
                Stored(kind).into(),
                subject.into(),
                Stored(StepState::Running).into(),
                now.into(),
            ],
        );
        self.one_row(statement, claim.run).await
    }

    /// Says how a step that is still under way stands.
    pub async fn note_step(
        &self,
        claim: Claim,
        kind: StepKind,
        subject: &str,
        detail: String,
    ) -> Result<()> {
        let statement = Store::sql(
            "with mine as (select id from runs where id = $1 and lease_owner = $2 for share) \
             update run_steps set detail = $5 from mine \
             where run_id = mine.id and kind = $3 and subject = $4",
            [
                claim.run.into(),
                claim.token.into(),
                Stored(kind).into(),
                subject.into(),
                detail.into(),
            ],
        );
        self.one_row(statement, claim.run).await
    }

    /// Keeps how a step has ended, whether it was written down that it began or not.
    pub async fn end_step(&self, claim: Claim, step: &EndedStep<'_>) -> Result<()> {
        let none: &[run_step::Model] = &[];
        let kept = kept::keep(&self.db, kept::claimed(claim), none, Some(step)).await?;
        kept.map(drop).ok_or(StoreError::LeaseLost(claim.run))
    }

    /// The steps of a run, in the order in which they began.
    pub async fn steps(&self, run_id: Uuid) -> Result<Vec<Step>> {
        Ok(run_step::Entity::find()
            .filter(run_step::Column::RunId.eq(run_id))
            .order_by_asc(run_step::Column::StartedAt)
            .order_by_asc(run_step::Column::Id)
            .all(&self.db)
            .await?)
    }
}
