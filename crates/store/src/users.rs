//! Users as an administrator sees them, their invitations, and their sessions as they see them.

use maple_lark_api::{Role, Words};
use sea_orm::{
    ColumnTrait, ConnectionTrait, DatabaseTransaction, EntityTrait, FromQueryResult, QueryFilter,
    QueryOrder, TransactionTrait,
};
use serde_json::json;
use uuid::Uuid;

use crate::{
    Page, Result, Store,
    bounds::Chosen,
    entity::{Time, session, user},
    offset,
    people::{Session, User},
};

/// What changes of a user; what is `None` stays as it is.
#[derive(Debug, Clone, Default)]
pub struct UserChange {
    pub role: Option<Role>,
    pub email: Option<String>,
    pub disabled: Option<bool>,
    /// What they are held to; to nothing where it has no names.
    pub held_to: Option<Chosen>,
}

/// What came of a change of a user.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Changed {
    Done,
    /// There is no such user.
    Unknown,
    /// Nobody would be left who may sign in and run the place.
    LastAdministrator,
}

/// A user with what their administrator wants to know.
#[derive(Debug, Clone)]
pub struct UserRow {
    pub user: User,
    /// When a program or a browser of theirs was heard of last; to the minute for tokens.
    pub last_seen: Option<Time>,
    /// Until when an invitation is good, if one is open.
    pub invited_until: Option<Time>,
    /// How many devices they can sign in with.
    pub passkeys: i64,
}

async fn named(transaction: &DatabaseTransaction, name: &str) -> Result<Option<User>> {
    Ok(user::Entity::find()
        .filter(user::Column::Name.eq(name))
        .one(transaction)
        .await?)
}

/// Whether somebody is an administrator who can sign in: one who has not accepted an invitation
/// yet is nobody to rely on.
fn runs_the_place(user: &User) -> bool {
    *user.role == Role::Administrator
        && user.disabled_at.is_none()
        && !user.password_hash.is_empty()
}

/// Whether an administrator would be left if this user were none.
async fn another_administrator(transaction: &DatabaseTransaction, name: &str) -> Result<bool> {
    let asked = Store::sql(
        "select 1 from users where role = $1 and disabled_at is null and password_hash <> '' and name <> $2 limit 1",
        [Role::Administrator.word().into(), name.into()],
    );
    Ok(transaction.query_one_raw(asked).await?.is_some())
}

impl Store {
    /// A page of users by name.
    pub async fn users(&self, now: Time, page: u64, size: u64) -> Result<Page<UserRow>> {
        let total = self.user_count().await?;
        let asked = Self::sql(
            "select u.*, \
               greatest((select max(s.created_at) from sessions s where s.user_id = u.id), (select max(coalesce(t.last_used_at, t.created_at)) from api_tokens t where t.user_id = u.id)) as last_seen, \
               (select max(i.expires_at) from invitations i where i.user_id = u.id and i.expires_at > $3) as invited_until, \
               (select count(*) from passkeys p where p.user_id = u.id) as passkeys \
             from users u order by u.name limit $1 offset $2",
            [(size as i64).into(), offset(page, size).into(), now.into()],
        );
        let mut items = Vec::new();
        for row in self.db.query_all_raw(asked).await? {
            items.push(UserRow {
                user: User::from_query_result(&row, "")?,
                last_seen: row.try_get("", "last_seen")?,
                invited_until: row.try_get("", "invited_until")?,
                passkeys: row.try_get("", "passkeys")?,
            });
        }
        Ok(Page { items, total })
    }

    /// Changes a user. Who is disabled has no sessions any more; tokens are refused as long as it
    /// is so. The last administrator stays one.
    pub async fn change_user(&self, name: &str, change: &UserChange, now: Time) -> Result<Changed> {
        let transaction = self.db.begin().await?;
        // Two administrators who take the role from each other at once are one after the other.
        transaction
            .execute_unprepared("lock table users in share row exclusive mode")
            .await?;
        let Some(user) = named(&transaction, name).await? else {
            return Ok(Changed::Unknown);
        };
        let loses = change.disabled == Some(true)
            || change.role.is_some_and(|role| role != Role::Administrator);
        if loses && runs_the_place(&user) && !another_administrator(&transaction, name).await? {
            return Ok(Changed::LastAdministrator);
        }
        let changed = Self::sql(
            "update users set role = coalesce($2, role), email = coalesce($3, email), \
               disabled_at = case when $4::boolean is null then disabled_at when $4 then coalesce(disabled_at, $5) end, \
               bounds = case when $6::jsonb is null then bounds when $6 = '{}' then null else $6 end \
             where name = $1",
            [
                name.into(),
                change.role.map(|role| role.word().to_owned()).into(),
                change.email.clone().into(),
                change.disabled.into(),
                now.into(),
                change.held_to.as_ref().map(|held| json!(held)).into(),
            ],
        );
        transaction.execute_raw(changed).await?;
        if change.disabled == Some(true) {
            for table in ["sessions", "invitations"] {
                let ended = format!(
                    "delete from {table} where user_id = (select id from users where name = $1)"
                );
                transaction
                    .execute_raw(Self::sql(&ended, [name.into()]))
                    .await?;
            }
        }
        transaction.commit().await?;
        Ok(Changed::Done)
    }

    /// Removes a user with their sessions and tokens. What they have made stays, under their name.
    pub async fn remove_user(&self, name: &str) -> Result<Changed> {
        let transaction = self.db.begin().await?;
        transaction
            .execute_unprepared("lock table users in share row exclusive mode")
            .await?;
        let Some(user) = named(&transaction, name).await? else {
            return Ok(Changed::Unknown);
        };
        if runs_the_place(&user) && !another_administrator(&transaction, name).await? {
            return Ok(Changed::LastAdministrator);
        }
        let removed = Self::sql("delete from users where name = $1", [name.into()]);
        transaction.execute_raw(removed).await?;
        transaction.commit().await?;
        Ok(Changed::Done)
    }

    /// Keeps an invitation; the user's others are good for nothing any more.
    pub async fn add_invitation(
        &self,
        user: Uuid,
        token_hash: &str,
        now: Time,
        until: Time,
    ) -> Result<()> {
        let transaction = self.db.begin().await?;
        let others = Self::sql(
            "delete from invitations where user_id = $1 or expires_at <= $2",
            [user.into(), now.into()],
        );
        transaction.execute_raw(others).await?;
        let added = Self::sql(
            "insert into invitations (token_hash, user_id, created_at, expires_at) values ($1, $2, $3, $4)",
            [token_hash.into(), user.into(), now.into(), until.into()],
        );
        transaction.execute_raw(added).await?;
        Ok(transaction.commit().await?)
    }

    /// Who an invitation is for, with when it ends, if it is good.
    pub async fn invited(&self, token_hash: &str, now: Time) -> Result<Option<(User, Time)>> {
        let asked = Self::sql(
            "select u.*, i.expires_at from invitations i join users u on u.id = i.user_id where i.token_hash = $1 and i.expires_at > $2 and u.disabled_at is null",
            [token_hash.into(), now.into()],
        );
        let Some(row) = self.db.query_one_raw(asked).await? else {
            return Ok(None);
        };
        let until = row.try_get("", "expires_at")?;
        Ok(Some((User::from_query_result(&row, "")?, until)))
    }

    /// Takes an invitation: it is good once. The password is the new one, and whoever was signed
    /// in by the old one is not any more. Answers with the user, if the invitation was good.
    pub async fn accept_invitation(
        &self,
        token_hash: &str,
        password_hash: &str,
        now: Time,
    ) -> Result<Option<User>> {
        let transaction = self.db.begin().await?;
        let taken = Self::sql(
            "delete from invitations i using users u where i.token_hash = $1 and i.expires_at > $2 and u.id = i.user_id and u.disabled_at is null returning u.id",
            [token_hash.into(), now.into()],
        );
        let Some(row) = transaction.query_one_raw(taken).await? else {
            return Ok(None);
        };
        let id: Uuid = row.try_get("", "id")?;
        let user = set_password(&transaction, id, password_hash, None).await?;
        let others = Self::sql("delete from invitations where user_id = $1", [id.into()]);
        transaction.execute_raw(others).await?;
        transaction.commit().await?;
        Ok(user)
    }

    /// Gives a user another password. Their sessions end but the one with this digest.
    pub async fn change_password(
        &self,
        user: Uuid,
        password_hash: &str,
        stays: Option<&str>,
    ) -> Result<()> {
        let transaction = self.db.begin().await?;
        set_password(&transaction, user, password_hash, stays).await?;
        Ok(transaction.commit().await?)
    }

    /// The sessions of a user that have not ended, the newest first.
    pub async fn sessions(&self, user: Uuid, now: Time) -> Result<Vec<Session>> {
        Ok(session::Entity::find()
            .filter(session::Column::UserId.eq(user))
            .filter(session::Column::ExpiresAt.gt(now))
            .order_by_desc(session::Column::CreatedAt)
            .all(&self.db)
            .await?)
    }

    /// Ends a session of a user; answers whether there was one.
    pub async fn end_session(&self, user: Uuid, id: Uuid) -> Result<bool> {
        let ended = session::Entity::delete_many()
            .filter(session::Column::UserId.eq(user))
            .filter(session::Column::Id.eq(id))
            .exec(&self.db)
            .await?;
        Ok(ended.rows_affected > 0)
    }
}

async fn set_password(
    transaction: &DatabaseTransaction,
    user: Uuid,
    password_hash: &str,
    stays: Option<&str>,
) -> Result<Option<User>> {
    let set = Store::sql(
        "update users set password_hash = $2 where id = $1 returning *",
        [user.into(), password_hash.into()],
    );
    let found = transaction.query_one_raw(set).await?;
    let others = Store::sql(
        "delete from sessions where user_id = $1 and ($2::text is null or token_hash <> $2)",
        [user.into(), stays.map(str::to_owned).into()],
    );
    transaction.execute_raw(others).await?;
    Ok(found
        .map(|row| User::from_query_result(&row, ""))
        .transpose()?)
}
