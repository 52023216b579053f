//! Orders that are carried out once, however often they come.

use sea_orm::ConnectionTrait;
use serde_json::Value as Json;
use uuid::Uuid;

use crate::{Result, Store, entity::Time};

/// So long an order is known again.
const KEPT: chrono::TimeDelta = chrono::TimeDelta::hours(24);

/// What is known of an order.
#[derive(Debug, Clone, PartialEq)]
pub enum Ordered {
    /// It came for the first time; whoever asked carries it out.
    New,
    /// Another order has its key.
    Other,
    /// It came before and is being carried out, unless its process has ended.
    UnderWay,
    /// It came before; this was the answer.
    Answered(Json),
}

impl Store {
    /// Notes that an order has come.
    pub async fn begin_order(
        &self,
        user: Uuid,
        key: &str,
        digest: &str,
        now: Time,
    ) -> Result<Ordered> {
        let statement = Store::sql(
            "with gone as (delete from orders where created_at < $5) \
             insert into orders (user_id, key, digest, created_at) values ($1, $2, $3, $4) on conflict do nothing",
            [
                user.into(),
                key.into(),
                digest.into(),
                now.into(),
                (now - KEPT).into(),
            ],
        );
        if self.db.execute_raw(statement).await?.rows_affected() == 1 {
            return Ok(Ordered::New);
        }
        let statement = Store::sql(
            "select digest, answer from orders where user_id = $1 and key = $2",
            [user.into(), key.into()],
        );
        // It may have been forgotten meanwhile, because it failed: then it can come again.
        let Some(row) = self.db.query_one_raw(statement).await? else {
            return Ok(Ordered::UnderWay);
        };
        if row.try_get::<String>("", "digest")? != digest {
            return Ok(Ordered::Other);
        }
        Ok(row
            .try_get::<Option<Json>>("", "answer")?
            .map_or(Ordered::UnderWay, Ordered::Answered))
    }

    /// Keeps what was answered to an order.
    pub async fn answer_order(&self, user: Uuid, key: &str, answer: Json) -> Result<()> {
        let statement = Store::sql(
            "update orders set answer = $3 where user_id = $1 and key = $2",
            [user.into(), key.into(), answer.into()],
        );
        self.db.execute_raw(statement).await?;
        Ok(())
    }

    /// Forgets an order that was not carried out.
    pub async fn forget_order(&self, user: Uuid, key: &str) -> Result<()> {
        let statement = Store::sql(
            "delete from orders where user_id = $1 and key = $2 and answer is null",
            [user.into(), key.into()],
        );
        self.db.execute_raw(statement).await?;
        Ok(())
    }
}
