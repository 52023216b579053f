//! Users who sign in by the organisation's directory.

use maple_lark_api::{Role, Words};
use sea_orm::{
    ColumnTrait, ConnectionTrait, DatabaseTransaction, EntityTrait, FromQueryResult, QueryFilter,
    QueryOrder, TransactionTrait,
};
use uuid::Uuid;

use crate::{
    Result, Store,
    entity::{Time, user},
    people::User,
};

/// Somebody as the directory knows them, with what the configuration makes of their groups.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DirectoryUser {
    /// What they sign in with.
    pub name: String,
    /// The name of their entry.
    pub entry: String,
    pub email: Option<String>,
    pub role: Role,
    /// The teams that their groups put them into.
    pub teams: Vec<String>,
}

/// What came of putting somebody of the directory among the users.
#[derive(Debug, Clone, PartialEq)]
pub enum Entered {
    /// As they are now.
    User(User),
    /// They would be as they were, but an administrator has disabled them.
    Disabled,
    /// Somebody who does not come from the directory has the name.
    NameTaken,
}

impl Store {
    /// Makes a user of somebody whom the directory knows, or brings them up to date: their role,
    /// their address, and of the teams that groups lead to (`led_to`) those they are in. Other teams
    /// are left alone, and whether they own one.
    pub async fn enter_from_directory(
        &self,
        person: &DirectoryUser,
        led_to: &[String],
        now: Time,
    ) -> Result<Entered> {
        let transaction = self.db.begin().await?;
        let added = Self::sql(
            "insert into users (id, name, password_hash, role, created_at, directory_entry) values ($1, $2, '', $3, $4, $5) on conflict (name) do nothing",
            [
                Uuid::now_v7().into(),
                person.name.clone().into(),
                person.role.word().into(),
                now.into(),
                person.entry.clone().into(),
            ],
        );
        transaction.execute_raw(added).await?;
        let changed = Self::sql(
            "update users set role = $2, email = $3, directory_entry = $4, directory_left_at = null where name = $1 and directory_entry is not null returning *",
            [
                person.name.clone().into(),
                person.role.word().into(),
                person.email.clone().into(),
                person.entry.clone().into(),
            ],
        );
        let Some(row) = transaction.query_one_raw(changed).await? else {
            return Ok(Entered::NameTaken);
        };
        let user = User::from_query_result(&row, "")?;
        let left: Vec<String> = led_to
            .iter()
            .filter(|team| !person.teams.contains(team))
            .cloned()
            .collect();
        let out = Self::sql(
            "delete from team_members where user_id = $1 and team = any($2)",
            [user.id.into(), left.into()],
        );
        transaction.execute_raw(out).await?;
        let into = Self::sql(
            "insert into team_members (team, user_id, owner) select name, $1, false from teams where name = any($2) on conflict do nothing",
            [user.id.into(), person.teams.clone().into()],
        );
        transaction.execute_raw(into).await?;
        transaction.commit().await?;
        Ok(match user.disabled_at {
            Some(_) => Entered::Disabled,
            None => Entered::User(user),
        })
    }

    /// The users whom the directory still lets in, as far as is known, by name.
    pub async fn directory_users(&self) -> Result<Vec<User>> {
        Ok(user::Entity::find()
            .filter(user::Column::DirectoryEntry.is_not_null())
            .filter(user::Column::DirectoryLeftAt.is_null())
            .order_by_asc(user::Column::Name)
            .all(&self.db)
            .await?)
    }

    /// Puts it on record that the directory does not let somebody in any more: their sessions end and
    /// their tokens are good for nothing. Answers whether they were let in until now.
    pub async fn leave_directory(&self, user: Uuid, now: Time) -> Result<bool> {
        let transaction = self.db.begin().await?;
        let left = Self::sql(
            "update users set directory_left_at = $2 where id = $1 and directory_entry is not null and directory_left_at is null",
            [user.into(), now.into()],
        );
        let is_new = transaction.execute_raw(left).await?.rows_affected() > 0;
        if is_new {
            end_all(&transaction, user).await?;
        }
        transaction.commit().await?;
        Ok(is_new)
    }
}

async fn end_all(transaction: &DatabaseTransaction, user: Uuid) -> Result<()> {
    for table in ["sessions", "api_tokens", "invitations"] {
        let ended = format!("delete from {table} where user_id = $1");
        transaction
            .execute_raw(Store::sql(&ended, [user.into()]))
            .await?;
    }
    Ok(())
}
