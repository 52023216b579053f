//! The outbox: deliveries, their attempts, and when a run has nothing left to deliver.

use chrono::TimeDelta;
use sea_orm::{
    ActiveModelTrait,
    ActiveValue::{NotSet, Set},
    ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter, QueryOrder, TransactionTrait,
    sea_query::OnConflict,
};
use uuid::Uuid;

use crate::{
    Result, Store, StoreError,
    entity::{Time, delivery, delivery_attempt},
};

pub use delivery::Model as Delivery;
pub use delivery_attempt::Model as Attempt;

/// How an attempt ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Ending {
    Accepted {
        answer: String,
    },
    /// Try again at the given instant.
    Postponed {
        answer: String,
        again: Time,
    },
    Refused {
        answer: String,
    },
}

impl Store {
    /// Puts deliveries into the outbox and moves the run on, in one transaction: either all
    /// of them wait or none does. Those that are there already stay as they are.
    pub async fn enqueue(&self, run_id: Uuid, owner: Uuid, deliveries: Vec<Delivery>) -> Result<()> {
        let transaction = self.db.begin().await?;
        for one in deliveries {
            let row: delivery::ActiveModel = one.into();
            let once = OnConflict::new().do_nothing().to_owned();
            delivery::Entity::insert(row.reset_all()).on_conflict(once).exec_without_returning(&transaction).await?;
        }
        let moved = transaction
            .execute_raw(Store::sql(
                "update runs set state = 'delivering', lease_owner = null, lease_until = null where id = $1 and lease_owner = $2",
                [run_id.into(), owner.into()],
            ))
            .await?;
        if moved.rows_affected() != 1 {
            return Err(StoreError::LeaseLost(run_id));
        }
        Ok(transaction.commit().await?)
    }

    /// Takes the delivery that waits longest, of a run that was not cancelled meanwhile, and writes down that an attempt begins. An
    /// attempt of a process that died stays in the record as one whose end is not known.
    pub async fn claim_delivery(&self, owner: Uuid, now: Time, lease: TimeDelta) -> Result<Option<(Delivery, i64)>> {
        let transaction = self.db.begin().await?;
        let statement = Store::sql(
            "update deliveries set lease_owner = $1, lease_until = $3 where id = ( \
               select id from deliveries where state = 'waiting' and next_attempt_at <= $2 and (lease_until is null or lease_until < $2) \
               and exists (select from runs where runs.id = run_id and runs.state = 'delivering') \
               order by next_attempt_at for update skip locked limit 1) returning *",
            [owner.into(), now.into(), (now + lease).into()],
        );
        let Some(found) = delivery::Entity::find().from_raw_sql(statement).one(&transaction).await? else {
            // Nothing was done, but an idle service should not look like one that rolls back.
            transaction.commit().await?;
            return Ok(None);
        };
        transaction
            .execute_raw(Store::sql(
                "update delivery_attempts set ended_at = $2, outcome = 'unknown', answer = 'the service ended while this attempt was under way' \
                 where delivery_id = $1 and ended_at is null",
                [found.id.into(), now.into()],
            ))
            .await?;
        let attempt = delivery_attempt::ActiveModel {
            id: NotSet,
            delivery_id: Set(found.id),
            started_at: Set(now),
            ended_at: Set(None),
            outcome: Set(None),
            answer: Set(None),
        }
        .insert(&transaction)
        .await?;
        transaction.commit().await?;
        Ok(Some((found, attempt.id)))
    }

    pub async fn renew_delivery(&self, id: Uuid, owner: Uuid, until: Time) -> Result<()> {
        self.one_row(Store::sql("update deliveries set lease_until = $3 where id = $1 and lease_owner = $2", [id.into(), owner.into(), until.into()]), id).await
    }

    /// Writes down how an attempt ended, and settles the run if it was the last delivery.
    pub async fn end_attempt(&self, delivery: &Delivery, owner: Uuid, attempt: i64, ending: &Ending, now: Time) -> Result<()> {
        let (outcome, state, answer, again) = match ending {
            Ending::Accepted { answer } => ("accepted", "accepted", answer, None),
            Ending::Postponed { answer, again } => ("postponed", "waiting", answer, Some(*again)),
            Ending::Refused { answer } => ("refused", "refused", answer, None),
        };
        let transaction = self.db.begin().await?;
        transaction
            .execute_raw(Store::sql(
                "update delivery_attempts set ended_at = $2, outcome = $3, answer = $4 where id = $1",
                [attempt.into(), now.into(), outcome.into(), answer.clone().into()],
            ))
            .await?;
        let problem = (state != "accepted").then(|| answer.clone());
        let settled = (state != "waiting").then_some(now);
        let moved = transaction
            .execute_raw(Store::sql(
                "update deliveries set state = $3, problem = $4, settled_at = $5, next_attempt_at = coalesce($6, next_attempt_at), \
                   lease_owner = null, lease_until = null where id = $1 and lease_owner = $2",
                [delivery.id.into(), owner.into(), state.into(), problem.into(), settled.into(), again.into()],
            ))
            .await?;
        if moved.rows_affected() != 1 {
            return Err(StoreError::LeaseLost(delivery.id));
        }
        // The row of the run serialises the last two deliveries of it, whoever makes them.
        transaction.execute_raw(Store::sql("select from runs where id = $1 for update", [delivery.run_id.into()])).await?;
        transaction
            .execute_raw(Store::sql(
                "update runs set finished_at = $2, problem = case when s.refused > 0 then s.refused || ' of ' || s.everyone || ' deliveries were refused' else problem end, \
                   state = case when s.refused = 0 then 'delivered' when s.refused < s.everyone then 'partly-delivered' else 'failed' end \
                 from (select count(*) as everyone, count(*) filter (where state = 'refused') as refused, count(*) filter (where state = 'waiting') as waiting \
                       from deliveries where run_id = $1) s \
                 where id = $1 and state = 'delivering' and s.waiting = 0",
                [delivery.run_id.into(), now.into()],
            ))
            .await?;
        Ok(transaction.commit().await?)
    }

    pub async fn deliveries(&self, run_id: Uuid) -> Result<Vec<Delivery>> {
        Ok(delivery::Entity::find()
            .filter(delivery::Column::RunId.eq(run_id))
            .order_by_asc(delivery::Column::Audience)
            .order_by_asc(delivery::Column::Recipient)
            .all(&self.db)
            .await?)
    }

    pub async fn attempts(&self, deliveries: &[Delivery]) -> Result<Vec<Attempt>> {
        let ids: Vec<Uuid> = deliveries.iter().map(|one| one.id).collect();
        Ok(delivery_attempt::Entity::find()
            .filter(delivery_attempt::Column::DeliveryId.is_in(ids))
            .order_by_asc(delivery_attempt::Column::Id)
            .all(&self.db)
            .await?)
    }
}
