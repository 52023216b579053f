//! Second factors: keys as they were sealed, and recovery codes by their digests.

use sea_orm::{ConnectionTrait, TransactionTrait};
use uuid::Uuid;

use crate::{Result, Store, entity::Time};

impl Store {
    /// Keeps the key of a second factor that is to be confirmed. Answers whether it may be: one that
    /// is asked for already stays as it is.
    pub async fn propose_second_factor(&self, user: Uuid, sealed: Vec<u8>) -> Result<bool> {
        let proposed = Self::sql(
            "update users set second_factor = $2 where id = $1 and second_factor_at is null",
            [user.into(), sealed.into()],
        );
        Ok(self.db.execute_raw(proposed).await?.rows_affected() > 0)
    }

    /// Asks for a second factor from now on, with the digests of new recovery codes. Answers whether
    /// one was proposed.
    pub async fn confirm_second_factor(
        &self,
        user: Uuid,
        step: i64,
        codes: &[String],
        now: Time,
    ) -> Result<bool> {
        let transaction = self.db.begin().await?;
        let confirmed = Self::sql(
            "update users set second_factor_at = $2, second_factor_step = $3 where id = $1 and second_factor is not null and second_factor_at is null",
            [user.into(), now.into(), step.into()],
        );
        if transaction.execute_raw(confirmed).await?.rows_affected() == 0 {
            return Ok(false);
        }
        for statement in [
            Self::sql(
                "delete from recovery_codes where user_id = $1",
                [user.into()],
            ),
            Self::sql(
                "insert into recovery_codes (user_id, code_hash) select $1, unnest($2::text[])",
                [user.into(), codes.to_vec().into()],
            ),
        ] {
            transaction.execute_raw(statement).await?;
        }
        transaction.commit().await?;
        Ok(true)
    }

    /// Takes a code of a step of time. Answers whether none of this step, or of a later one, was taken.
    pub async fn take_second_factor_step(&self, user: Uuid, step: i64) -> Result<bool> {
        let taken = Self::sql(
            "update users set second_factor_step = $2 where id = $1 and second_factor_step < $2",
            [user.into(), step.into()],
        );
        Ok(self.db.execute_raw(taken).await?.rows_affected() > 0)
    }

    /// Takes a recovery code by its digest. Answers whether it was one.
    pub async fn take_recovery_code(&self, user: Uuid, code_hash: &str) -> Result<bool> {
        let taken = Self::sql(
            "delete from recovery_codes where user_id = $1 and code_hash = $2",
            [user.into(), code_hash.into()],
        );
        Ok(self.db.execute_raw(taken).await?.rows_affected() > 0)
    }

    /// How many recovery codes of a user are left.
    pub async fn recovery_codes_left(&self, user: Uuid) -> Result<i64> {
        let asked = Self::sql(
            "select count(*) as left from recovery_codes where user_id = $1",
            [user.into()],
        );
        match self.db.query_one_raw(asked).await? {
            Some(row) => Ok(row.try_get("", "left")?),
            None => Ok(0),
        }
    }

    /// Asks for no second factor of a user any more. Answers whether one was asked for.
    pub async fn remove_second_factor(&self, user: Uuid) -> Result<bool> {
        let transaction = self.db.begin().await?;
        let removed = Self::sql(
            "with was as (select second_factor_at from users where id = $1 for update) \
             update users set second_factor = null, second_factor_at = null from was where id = $1 and was.second_factor_at is not null",
            [user.into()],
        );
        let was_on = transaction.execute_raw(removed).await?.rows_affected() > 0;
        let codes = Self::sql(
            "delete from recovery_codes where user_id = $1",
            [user.into()],
        );
        transaction.execute_raw(codes).await?;
        transaction.commit().await?;
        Ok(was_on)
    }
}
