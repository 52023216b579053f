//! Users who sign in by the organisation's directory or its identity provider.

use maple_lark_api::{Role, Words};
use sea_orm::{
    ColumnTrait, ConnectionTrait, DatabaseTransaction, EntityTrait, FromQueryResult, QueryFilter,
    QueryOrder, Statement, TransactionTrait,
};
use uuid::Uuid;

use crate::{
    Result, Store,
    entity::{Time, user},
    people::User,
};

/// Somebody as the organisation knows them, with what the configuration makes of their groups.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DirectoryUser {
    /// What they sign in with.
    pub name: String,
    /// The name of their entry, or what the provider calls them for good.
    pub entry: String,
    pub email: Option<String>,
    pub role: Role,
    /// The teams that their groups put them into.
    pub teams: Vec<String>,
}

/// What came of putting somebody of the organisation among the users.
#[derive(Debug, Clone, PartialEq)]
pub enum Entered {
    /// As they are now.
    User(Box<User>),
    /// They would be as they were, but an administrator has disabled them.
    Disabled,
    /// Somebody who does not come from there has the name.
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
        entered(transaction, changed, person, led_to).await
    }

    /// Makes a user of somebody whom the identity provider knows, or brings them up to date, as
    /// [`Store::enter_from_directory`] does. Who it is follows from what the provider calls them
    /// for good; the name that they came with first stays theirs. `grant` is kept in place of the one
    /// before.
    pub async fn enter_from_provider(
        &self,
        person: &DirectoryUser,
        led_to: &[String],
        grant: Option<Vec<u8>>,
        now: Time,
    ) -> Result<Entered> {
        let transaction = self.db.begin().await?;
        // Another of this name, or who is here already, is left as they are.
        let added = Self::sql(
            "insert into users (id, name, password_hash, role, created_at, provider_subject) values ($1, $2, '', $3, $4, $5) on conflict do nothing",
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
            "update users set role = $2, email = $3, provider_grant = $4, provider_looked_at = $5, directory_left_at = null where provider_subject = $1 returning *",
            [
                person.entry.clone().into(),
                person.role.word().into(),
                person.email.clone().into(),
                grant.into(),
                now.into(),
            ],
        );
        entered(transaction, changed, person, led_to).await
    }

    /// Takes one user of the identity provider who was not looked at since, to look whether they are
    /// still let in. Nobody else gets the same one: what it is looked by is good once.
    pub async fn take_provider_user(&self, since: Time, now: Time) -> Result<Option<User>> {
        let taken = Self::sql(
            "update users set provider_looked_at = $2 where id = (select id from users where provider_grant is not null and directory_left_at is null and provider_looked_at < $1 order by provider_looked_at limit 1 for update skip locked) returning *",
            [since.into(), now.into()],
        );
        let row = self.db.query_one_raw(taken).await?;
        Ok(row
            .map(|row| User::from_query_result(&row, ""))
            .transpose()?)
    }

    /// Keeps what a user of the identity provider can be looked at by next.
    pub async fn keep_grant(&self, user: Uuid, grant: Vec<u8>) -> Result<()> {
        let kept = Self::sql(
            "update users set provider_grant = $2 where id = $1 and directory_left_at is null",
            [user.into(), grant.into()],
        );
        self.db.execute_raw(kept).await?;
        Ok(())
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

    /// Puts it on record that the directory or the provider does not let somebody in any more: their sessions end and
    /// their tokens are good for nothing. Answers whether they were let in until now.
    pub async fn leave_directory(&self, user: Uuid, now: Time) -> Result<bool> {
        let transaction = self.db.begin().await?;
        let left = Self::sql(
            "update users set directory_left_at = $2, provider_grant = null where id = $1 and (directory_entry is not null or provider_subject is not null) and directory_left_at is null",
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

/// Brings somebody up to date by a statement that answers with their row, and their teams with it.
async fn entered(
    transaction: DatabaseTransaction,
    changed: Statement,
    person: &DirectoryUser,
    led_to: &[String],
) -> Result<Entered> {
    let Some(row) = transaction.query_one_raw(changed).await? else {
        return Ok(Entered::NameTaken);
    };
    let user = User::from_query_result(&row, "")?;
    put_into_teams(&transaction, user.id, &person.teams, led_to).await?;
    transaction.commit().await?;
    Ok(match user.disabled_at {
        Some(_) => Entered::Disabled,
        None => Entered::User(Box::new(user)),
    })
}

/// Of the teams that groups lead to, somebody is in these. Other teams are left alone.
async fn put_into_teams(
    transaction: &DatabaseTransaction,
    user: Uuid,
    teams: &[String],
    led_to: &[String],
) -> Result<()> {
    let left: Vec<String> = led_to
        .iter()
        .filter(|team| !teams.contains(team))
        .cloned()
        .collect();
    let out = Store::sql(
        "delete from team_members where user_id = $1 and team = any($2)",
        [user.into(), left.into()],
    );
    transaction.execute_raw(out).await?;
    let into = Store::sql(
        "insert into team_members (team, user_id, owner) select name, $1, false from teams where name = any($2) on conflict do nothing",
        [user.into(), teams.to_vec().into()],
    );
    transaction.execute_raw(into).await?;
    Ok(())
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
