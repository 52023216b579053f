//! The outbox: deliveries, their attempts, and when a run has nothing left to deliver.

use std::collections::BTreeSet;

use chrono::TimeDelta;
use sea_orm::{
    ActiveModelTrait, ColumnTrait, ConnectionTrait, DatabaseTransaction, EntityTrait,
    FromQueryResult, QueryFilter, QueryOrder, TransactionTrait,
};
use serde_json::{Value as Json, json};
use uuid::Uuid;

use maple_lark_api::{AttemptOutcome, ChannelType, DeliveryState, RecipientRole, RunState};

use crate::{
    Result, Store, Stored,
    claims::{ABANDONED, AttemptClaim, Claim},
    entity::{Time, delivery, delivery_attempt},
    kept,
    stored::words,
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
    /// Nobody could be reached on its channel. Try again at the given instant, or as soon as
    /// another delivery gets through.
    HeldUp {
        answer: String,
        again: Time,
    },
    Refused {
        answer: String,
    },
    /// Handed over, but not confirmed: it may have arrived. Tried again under the same
    /// Message-ID at the given instant.
    Unconfirmed {
        answer: String,
        again: Time,
    },
}

/// A copy that somebody asks for of what was sent.
#[derive(Debug, Clone)]
pub struct Copy {
    pub audience: String,
    pub channel: ChannelType,
    pub via: String,
    pub recipient: String,
    pub snapshot_id: Uuid,
    pub variant: String,
}

/// Deliveries that a channel has waiting: how many, and since when the oldest.
#[derive(Debug, Clone, sea_orm::FromQueryResult)]
pub struct Queue {
    pub channel: Stored<ChannelType>,
    pub via: String,
    pub waiting: i64,
    pub oldest: Option<Time>,
}

/// One attempt that has ended.
#[derive(Debug, Clone)]
pub struct Ended {
    pub claim: AttemptClaim,
    pub ending: Ending,
}

impl Ended {
    fn row(&self) -> Json {
        use maple_lark_api::{AttemptOutcome as Outcome, DeliveryState as State};
        let (outcome, state, answer, again) = match &self.ending {
            Ending::Accepted { answer } => (Outcome::Accepted, State::Accepted, answer, None),
            Ending::Postponed { answer, again } | Ending::HeldUp { answer, again } => {
                (Outcome::Postponed, State::Waiting, answer, Some(*again))
            }
            Ending::Refused { answer } => (Outcome::Refused, State::Refused, answer, None),
            Ending::Unconfirmed { answer, again } => {
                (Outcome::Unknown, State::Waiting, answer, Some(*again))
            }
        };
        // What a server said must not keep the others' endings from being written.
        let answer = answer.replace('\0', "\u{fffd}");
        json!({ "id": self.claim.delivery, "attempt": self.claim.attempt, "token": self.claim.token, "outcome": outcome, "state": state, "answer": answer, "again": again, "held_up": matches!(self.ending, Ending::HeldUp { .. }) })
    }
}

/// Ends a run if nothing of it waits any more.
async fn settle(transaction: &DatabaseTransaction, run: Uuid, now: Time) -> Result<()> {
    // The row of the run serialises the last two deliveries of it, whoever makes them. Asked for a list of runs at once,
    // the server would plan it anew each time, which takes longer than to settle one.
    transaction
        .execute_raw(Store::sql(
            "select from runs where id = $1 for update",
            [run.into()],
        ))
        .await?;
    // Whether any waits is asked first, as a value: counting them all for each of thousands would take longer than to
    // send them.
    transaction
        .execute_raw(Store::sql(
            "update runs set finished_at = $2, problem = case when s.refused > 0 then s.refused || ' of ' || s.everyone || ' deliveries were refused' else problem end, \
               state = case when s.refused = 0 then 'delivered' when s.refused < s.everyone then 'partly-delivered' else 'failed' end \
             from (select count(*) as everyone, count(*) filter (where state = 'refused') as refused from deliveries where run_id = $1 and copy = 0) s \
             where id = $1 and state = 'delivering' and not (select exists (select from deliveries where run_id = $1 and state = 'waiting' and copy = 0))",
            [run.into(), now.into()],
        ))
        .await?;
    Ok(())
}

impl Store {
    /// Puts deliveries into the outbox and moves the run on, in one transaction: either all
    /// of them wait or none does. Those that are there already stay as they are.
    pub async fn enqueue(&self, claim: Claim, deliveries: &[Delivery]) -> Result<()> {
        let moved = || {
            let condition = "update runs set state = 'delivering', lease_owner = null, lease_until = null where id = $1 and lease_owner = $2 and state = any($3) returning id";
            let before = words(RunState::Delivering.previous());
            let values = vec![claim.run.into(), claim.token.into(), before.into()];
            (condition, values)
        };
        let (first, others) = deliveries.split_at(deliveries.len().min(kept::AT_ONCE));
        if others.is_empty() {
            let kept = kept::keep(&self.db, moved(), first, None).await?;
            return match kept {
                Some(_) => Ok(()),
                None => Err(self.why_not_moved(claim, RunState::Delivering).await?),
            };
        }
        let transaction = self.db.begin().await?;
        if kept::keep(&transaction, moved(), first, None)
            .await?
            .is_none()
        {
            transaction.rollback().await?;
            return Err(self.why_not_moved(claim, RunState::Delivering).await?);
        }
        for some in others.chunks(kept::AT_ONCE) {
            kept::keep(&transaction, ("select", Vec::new()), some, None).await?;
        }
        Ok(transaction.commit().await?)
    }

    /// Takes up to `most` deliveries that wait longest, of runs that were not cancelled
    /// meanwhile, and writes down that their attempts begin. Channels (`via`) in `busy` are
    /// passed over, and so are the deliveries `in_hand`: a process whose lease on one ran out
    /// goes on with it, as long as no other has taken it over. An attempt of a process that
    /// died stays in the record as one whose end is not known.
    #[expect(
        clippy::too_many_arguments,
        reason = "who takes what, when, for how long"
    )]
    pub async fn claim_deliveries(
        &self,
        process: Uuid,
        now: Time,
        lease: TimeDelta,
        most: usize,
        busy: &[String],
        in_hand: &[Uuid],
    ) -> Result<Vec<(Delivery, AttemptClaim)>> {
        // The state of a run is asked for as a value: of those few that are taken, and not of all that there are.
        // So are those that were taken, so that the attempts are looked up one by one, however many there are.
        let statement = format!(
            "with due as materialized ( \
               select id from deliveries where state = 'waiting' and next_attempt_at <= $2 and (lease_until is null or lease_until < $2) \
               and not (via = any($5)) and not (id = any($6)) and (select is_same_database()) and (copy > 0 or (select state from runs where runs.id = run_id) = 'delivering') \
               order by next_attempt_at for update skip locked limit $4), \
             taken as (update deliveries set lease_owner = gen_random_uuid(), lease_process = $1, lease_until = $3 from due where deliveries.id = due.id returning deliveries.*), \
             abandoned as (update delivery_attempts set ended_at = $2, {ABANDONED} where delivery_id = any(array(select id from taken)) and ended_at is null), \
             begun as (insert into delivery_attempts (delivery_id, started_at) select id, $2 from taken returning id, delivery_id) \
             select taken.*, begun.id as attempt from taken join begun on begun.delivery_id = taken.id order by next_attempt_at"
        );
        let statement = Store::sql(
            &statement,
            [
                process.into(),
                now.into(),
                (now + lease).into(),
                (most as i64).into(),
                busy.to_vec().into(),
                in_hand.to_vec().into(),
            ],
        );
        let mut claimed = Vec::new();
        for row in self.db.query_all_raw(statement).await? {
            let delivery = Delivery::from_query_result(&row, "")?;
            let Some(token) = delivery.lease_owner else {
                continue;
            };
            let claim = AttemptClaim {
                delivery: delivery.id,
                attempt: row.try_get("", "attempt")?,
                token,
            };
            claimed.push((delivery, claim));
        }
        Ok(claimed)
    }

    /// Writes an end under every attempt that nobody works on any more, and cancels what waits
    /// of cancelled runs. Answers how many of both there were.
    pub async fn close_abandoned(&self, now: Time) -> Result<u64> {
        let attempts = Store::sql(
            &format!(
                "update delivery_attempts a set ended_at = $1, {ABANDONED} from deliveries d \
                 where a.ended_at is null and d.id = a.delivery_id and (d.lease_owner is null or d.lease_until < $1)"
            ),
            [now.into()],
        );
        let closed = self.db.execute_raw(attempts).await?.rows_affected();
        let deliveries = Store::sql(
            "update deliveries d set state = 'cancelled', settled_at = $1, lease_owner = null, lease_until = null from runs r \
             where d.state = 'waiting' and d.copy = 0 and d.next_attempt_at <= $1 and (d.lease_until is null or d.lease_until < $1) \
             and r.id = d.run_id and r.state = 'cancelled'",
            [now.into()],
        );
        Ok(closed + self.db.execute_raw(deliveries).await?.rows_affected())
    }

    /// When the next delivery on a channel is tried, but for one and those under way.
    pub async fn next_on(&self, via: &str, but: Uuid) -> Result<Option<Time>> {
        let statement = Store::sql(
            "select next_attempt_at as at from deliveries where state = 'waiting' and via = $1 and id <> $2 and lease_owner is null order by next_attempt_at limit 1",
            [via.into(), but.into()],
        );
        let row = self.db.query_one_raw(statement).await?;
        Ok(row.map(|row| row.try_get("", "at")).transpose()?)
    }

    /// A channel works again: what waits because nobody could be reached on it is tried now.
    /// Answers how many deliveries that are.
    pub async fn hurry(&self, via: &str, now: Time) -> Result<u64> {
        let statement = Store::sql(
            "update deliveries set next_attempt_at = $2, held_up = false where state = 'waiting' and via = $1 and held_up and next_attempt_at > $2 \
             and (lease_until is null or lease_until < $2)",
            [via.into(), now.into()],
        );
        Ok(self.db.execute_raw(statement).await?.rows_affected())
    }

    /// How many attempts on a channel began since an instant, by all processes.
    pub async fn attempts_since(&self, via: &str, since: Time) -> Result<i64> {
        let statement = Store::sql(
            "select count(*) as count from delivery_attempts a join deliveries d on d.id = a.delivery_id where a.started_at > $2 and d.via = $1",
            [via.into(), since.into()],
        );
        Ok(self
            .db
            .query_one_raw(statement)
            .await?
            .map(|row| row.try_get::<i64>("", "count"))
            .transpose()?
            .unwrap_or_default())
    }

    /// How often one delivery was attempted.
    pub async fn attempt_count(&self, delivery: Uuid) -> Result<u64> {
        use sea_orm::PaginatorTrait;
        Ok(delivery_attempt::Entity::find()
            .filter(delivery_attempt::Column::DeliveryId.eq(delivery))
            .count(&self.db)
            .await?)
    }

    /// What waits on each channel.
    pub async fn queues(&self) -> Result<Vec<Queue>> {
        use sea_orm::FromQueryResult;
        let statement = Store::sql(
            "select channel, via, count(*) as waiting, min(created_at) as oldest from deliveries where state = 'waiting' group by channel, via order by channel, via",
            [],
        );
        Ok(Queue::find_by_statement(statement).all(&self.db).await?)
    }

    /// How many attempts ended without anybody knowing whether the other side has it.
    pub async fn unconfirmed_attempts(&self) -> Result<u64> {
        use sea_orm::PaginatorTrait;
        Ok(delivery_attempt::Entity::find()
            .filter(delivery_attempt::Column::Outcome.eq(Stored(AttemptOutcome::Unknown)))
            .count(&self.db)
            .await?)
    }

    /// Puts copies into the outbox; the run stays as it is.
    #[expect(
        clippy::too_many_arguments,
        reason = "the columns that copies do not share with their original"
    )]
    pub async fn add_copies(
        &self,
        run_id: Uuid,
        copies: &[Copy],
        host: &str,
        note: Option<&str>,
        by: &str,
        now: Time,
    ) -> Result<Vec<Delivery>> {
        let transaction = self.db.begin().await?;
        transaction
            .execute_raw(Store::sql(
                "select from runs where id = $1 for update",
                [run_id.into()],
            ))
            .await?;
        crate::keeping::has_documents(&transaction, run_id).await?;
        let last = transaction
            .query_one_raw(Store::sql(
                "select coalesce(max(copy), 0) as last from deliveries where run_id = $1",
                [run_id.into()],
            ))
            .await?;
        let copy = last
            .map(|row| row.try_get::<i32>("", "last"))
            .transpose()?
            .unwrap_or_default()
            + 1;
        let mut added = Vec::new();
        for one in copies {
            let id = Uuid::now_v7();
            let row = Delivery {
                id,
                run_id,
                snapshot_id: one.snapshot_id,
                audience: one.audience.clone(),
                channel: one.channel.into(),
                recipient: one.recipient.clone(),
                state: DeliveryState::Waiting.into(),
                message_id: format!("{id}@{host}"),
                next_attempt_at: now,
                problem: None,
                lease_owner: None,
                lease_until: None,
                lease_process: None,
                created_at: now,
                settled_at: None,
                via: one.via.clone(),
                role: RecipientRole::To.into(),
                variant: one.variant.clone(),
                copy,
                note: note.map(str::to_owned),
                requested_by: Some(by.to_owned()),
                held_up: false,
            };
            let active: delivery::ActiveModel = row.clone().into();
            delivery::Entity::insert(active.reset_all())
                .exec_without_returning(&transaction)
                .await?;
            added.push(row);
        }
        transaction.commit().await?;
        Ok(added)
    }

    /// Deliveries of one report and audience on a channel that were accepted, or are of the run
    /// `also`: those whose window ends last first.
    pub async fn accepted_on(
        &self,
        report: &str,
        audience: &str,
        via: &str,
        also: Uuid,
    ) -> Result<Vec<Delivery>> {
        let statement = Store::sql(
            "select d.* from deliveries d join runs r on r.id = d.run_id where r.report = $1 and d.audience = $2 and d.via = $3 and (d.state = 'accepted' or r.id = $4) \
             order by r.window_to desc, r.scheduled_for desc, d.created_at desc limit 1000",
            [report.into(), audience.into(), via.into(), also.into()],
        );
        Ok(delivery::Entity::find()
            .from_raw_sql(statement)
            .all(&self.db)
            .await?)
    }

    /// The deliveries that had this Message-ID.
    pub async fn deliveries_with(&self, message_id: &str) -> Result<Vec<Delivery>> {
        Ok(delivery::Entity::find()
            .filter(delivery::Column::MessageId.eq(message_id))
            .all(&self.db)
            .await?)
    }

    /// Marks a delivery that was accepted as returned.
    pub async fn mark_bounced(&self, id: Uuid, words: &str) -> Result<()> {
        let statement = Store::sql(
            "update deliveries set state = 'bounced', problem = $2 where id = $1 and state = 'accepted'",
            [id.into(), words.into()],
        );
        self.db
            .execute_raw(statement)
            .await
            .map(drop)
            .map_err(Into::into)
    }

    pub async fn renew_delivery(&self, claim: AttemptClaim, until: Time) -> Result<()> {
        self.one_row(
            Store::sql(
                "update deliveries set lease_until = $3 where id = $1 and lease_owner = $2",
                [claim.delivery.into(), claim.token.into(), until.into()],
            ),
            claim.delivery,
        )
        .await
    }

    /// Writes down how attempts ended, all together, and settles the runs whose last delivery
    /// was among them. Answers with the deliveries whose claims still held. Of the others the
    /// attempt alone is written, and that the other side has it if it does: whoever has taken
    /// the delivery over meanwhile finds it settled.
    pub async fn end_attempts(&self, ended: &[Ended], now: Time) -> Result<BTreeSet<Uuid>> {
        let given: Vec<Json> = ended.iter().map(Ended::row).collect();
        let deliveries: Vec<Uuid> = ended.iter().map(|one| one.claim.delivery).collect();
        let attempts: Vec<i64> = ended.iter().map(|one| one.claim.attempt).collect();
        let transaction = self.db.begin().await?;
        // The rows are named by themselves as well: how many are given is not seen in the JSON, and for many the
        // whole tables would be gone through.
        let moved = transaction
            .query_all_raw(Store::sql(
                "with given as (select * from jsonb_to_recordset($1) as g(id uuid, attempt bigint, token uuid, outcome text, state text, answer text, again timestamptz, held_up boolean)), \
                 moved as (update deliveries d set state = g.state, problem = case when g.state = 'accepted' then null else g.answer end, \
                     settled_at = case when g.state = 'waiting' then null else $2 end, next_attempt_at = coalesce(g.again, d.next_attempt_at), held_up = g.held_up, \
                     lease_owner = null, lease_until = null from given g where d.id = any($3) and d.id = g.id and d.lease_owner = g.token and d.state = 'waiting' \
                   returning d.id, d.run_id, d.copy = 0 and d.state <> 'waiting' as settles), \
                 late as (update deliveries d set state = 'accepted', problem = null, settled_at = $2, lease_owner = null, lease_until = null \
                   from given g where d.id = any($3) and d.id = g.id and d.lease_owner is distinct from g.token and d.state = 'waiting' and g.state = 'accepted' \
                   returning d.id, d.run_id, d.copy = 0 as settles), \
                 noted as (update delivery_attempts a set ended_at = $2, outcome = g.outcome, answer = g.answer \
                   from given g where a.id = any($4) and a.id = g.attempt and a.delivery_id = g.id) \
                 select id, run_id, settles, true as held from moved union all select id, run_id, settles, false from late",
                [
                    Json::from(given).into(),
                    now.into(),
                    deliveries.into(),
                    attempts.into(),
                ],
            ))
            .await?;
        let (mut written, mut runs) = (BTreeSet::new(), BTreeSet::new());
        for row in moved {
            if row.try_get::<bool>("", "held")? {
                written.insert(row.try_get::<Uuid>("", "id")?);
            }
            if row.try_get::<bool>("", "settles")? {
                runs.insert(row.try_get::<Uuid>("", "run_id")?);
            }
        }
        // In their order, so that two processes never wait for one another.
        for run in runs {
            settle(&transaction, run, now).await?;
        }
        transaction.commit().await?;
        Ok(written)
    }

    pub async fn delivery(&self, id: Uuid) -> Result<Option<Delivery>> {
        Ok(delivery::Entity::find_by_id(id).one(&self.db).await?)
    }

    pub async fn deliveries(&self, run_id: Uuid) -> Result<Vec<Delivery>> {
        Ok(delivery::Entity::find()
            .filter(delivery::Column::RunId.eq(run_id))
            .order_by_asc(delivery::Column::Copy)
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
