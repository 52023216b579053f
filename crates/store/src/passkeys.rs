//! Passkeys: the public halves of keys that people's devices keep, and what was asked of devices.

use sea_orm::{ConnectionTrait, FromQueryResult, TransactionTrait};
use serde_json::Value as Json;
use uuid::Uuid;

use crate::{Result, Store, entity::Time};

/// A passkey of a user.
#[derive(Debug, Clone, PartialEq, FromQueryResult)]
pub struct StoredPasskey {
    pub id: Uuid,
    pub user_id: Uuid,
    /// What its user calls it.
    pub title: String,
    /// What the device calls it, in base64url.
    pub credential: String,
    /// The public key with all that belongs to it.
    pub passkey: Json,
    pub created_at: Time,
    pub last_used_at: Option<Time>,
}

/// What became of a passkey that was to be kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AddedPasskey {
    Kept,
    /// Somebody has it already.
    Known,
    /// Its user has as many as there may be.
    TooMany,
}

/// What was asked of a device.
#[derive(Debug, Clone, PartialEq)]
pub struct Challenge {
    pub id: Uuid,
    /// Whose device is to be added; nobody's if somebody signs in.
    pub user_id: Option<Uuid>,
    pub state: Json,
    pub expires_at: Time,
}

const COLUMNS: &str = "id, user_id, title, credential, passkey, created_at, last_used_at";

impl Store {
    /// Keeps what was asked of a device, and forgets what was asked too long ago.
    pub async fn keep_challenge(&self, one: &Challenge, now: Time) -> Result<()> {
        let over = Self::sql(
            "delete from passkey_challenges where expires_at <= $1",
            [now.into()],
        );
        self.db.execute_raw(over).await?;
        let kept = Self::sql(
            "insert into passkey_challenges (id, user_id, state, expires_at) values ($1, $2, $3, $4)",
            [
                one.id.into(),
                one.user_id.into(),
                one.state.clone().into(),
                one.expires_at.into(),
            ],
        );
        self.db.execute_raw(kept).await?;
        Ok(())
    }

    /// Takes what was asked of a device of a user, or of anybody's; it is good once, and for so long only.
    pub async fn take_challenge(
        &self,
        id: Uuid,
        user: Option<Uuid>,
        now: Time,
    ) -> Result<Option<Json>> {
        let taken = Self::sql(
            "delete from passkey_challenges where id = $1 and user_id is not distinct from $2 and expires_at > $3 returning state",
            [id.into(), user.into(), now.into()],
        );
        match self.db.query_one_raw(taken).await? {
            Some(row) => Ok(Some(row.try_get("", "state")?)),
            None => Ok(None),
        }
    }

    /// The passkeys of a user, the oldest first.
    pub async fn passkeys(&self, user: Uuid) -> Result<Vec<StoredPasskey>> {
        let asked = format!("select {COLUMNS} from passkeys where user_id = $1 order by id");
        let asked = Self::sql(&asked, [user.into()]);
        Ok(StoredPasskey::find_by_statement(asked)
            .all(&self.db)
            .await?)
    }

    /// The passkey that a device calls so.
    pub async fn passkey(&self, credential: &str) -> Result<Option<StoredPasskey>> {
        let asked = format!("select {COLUMNS} from passkeys where credential = $1");
        let asked = Self::sql(&asked, [credential.into()]);
        Ok(StoredPasskey::find_by_statement(asked)
            .one(&self.db)
            .await?)
    }

    /// Keeps a passkey of a user who has fewer than `most`, also where several are added at a time.
    pub async fn add_passkey(&self, one: &StoredPasskey, most: i64) -> Result<AddedPasskey> {
        let transaction = self.db.begin().await?;
        let owner = Self::sql(
            "select 1 from users where id = $1 for update",
            [one.user_id.into()],
        );
        transaction.execute_raw(owner).await?;
        let counted = Self::sql(
            "select count(*) as passkeys from passkeys where user_id = $1",
            [one.user_id.into()],
        );
        let counted = transaction.query_one_raw(counted).await?;
        let counted = counted.map_or(Ok(0), |row| row.try_get::<i64>("", "passkeys"))?;
        if counted >= most {
            return Ok(AddedPasskey::TooMany);
        }
        let added = Self::sql(
            "insert into passkeys (id, user_id, title, credential, passkey, created_at) values ($1, $2, $3, $4, $5, $6) on conflict (credential) do nothing",
            [
                one.id.into(),
                one.user_id.into(),
                one.title.as_str().into(),
                one.credential.as_str().into(),
                one.passkey.clone().into(),
                one.created_at.into(),
            ],
        );
        let added = transaction.execute_raw(added).await?.rows_affected();
        transaction.commit().await?;
        Ok(if added == 1 {
            AddedPasskey::Kept
        } else {
            AddedPasskey::Known
        })
    }

    /// Notes that somebody signed in with a passkey, with what it says of itself now, if that has changed.
    /// Answers whether it is still there.
    pub async fn used_passkey(&self, id: Uuid, passkey: Option<Json>, now: Time) -> Result<bool> {
        let used = Self::sql(
            "update passkeys set last_used_at = $2, passkey = coalesce($3, passkey) where id = $1",
            [id.into(), now.into(), passkey.into()],
        );
        Ok(self.db.execute_raw(used).await?.rows_affected() == 1)
    }

    /// Removes a passkey of a user. Answers whether there was one.
    pub async fn remove_passkey(&self, user: Uuid, id: Uuid) -> Result<bool> {
        let removed = Self::sql(
            "delete from passkeys where user_id = $1 and id = $2",
            [user.into(), id.into()],
        );
        Ok(self.db.execute_raw(removed).await?.rows_affected() == 1)
    }

    /// Removes all passkeys of a user. Answers how many there were.
    pub async fn remove_passkeys(&self, user: Uuid) -> Result<u64> {
        let removed = Self::sql("delete from passkeys where user_id = $1", [user.into()]);
        Ok(self.db.execute_raw(removed).await?.rows_affected())
    }
}
