//! Users, their sessions and tokens (kept as hashes), and failed sign-ins.

use maple_lark_api::{Role, SignsInBy, TokenScope};
use sea_orm::{
    ActiveModelTrait, ColumnTrait, ConnectionTrait, EntityTrait, FromQueryResult, PaginatorTrait,
    QueryFilter, QueryOrder, sea_query::OnConflict,
};
use uuid::Uuid;

use crate::{
    Result, Store, Stored,
    entity::{Time, api_token, session, user},
};

pub use api_token::Model as ApiToken;
pub use session::Model as Session;
pub use user::Model as User;

impl User {
    /// Somebody new, who cannot sign in yet.
    #[must_use]
    pub fn new(name: String, role: Role, created_at: Time) -> Self {
        Self {
            id: Uuid::now_v7(),
            name,
            // Fits nothing.
            password_hash: String::new(),
            role: role.into(),
            created_at,
            email: None,
            disabled_at: None,
            second_factor: None,
            second_factor_at: None,
            directory_entry: None,
            directory_left_at: None,
            provider_subject: None,
            provider_grant: None,
            provider_looked_at: None,
            bounds: None,
        }
    }

    /// Who says that it is them.
    #[must_use]
    pub fn signs_in_by(&self) -> SignsInBy {
        if self.provider_subject.is_some() {
            SignsInBy::Provider
        } else if self.directory_entry.is_some() {
            SignsInBy::Directory
        } else {
            SignsInBy::Password
        }
    }
}

impl Store {
    pub async fn user_count(&self) -> Result<u64> {
        Ok(user::Entity::find().count(&self.db).await?)
    }

    /// Adds a user; answers whether the name was free.
    pub async fn add_user(&self, one: User) -> Result<bool> {
        let row: user::ActiveModel = one.into();
        let once = OnConflict::column(user::Column::Name)
            .do_nothing()
            .to_owned();
        Ok(user::Entity::insert(row.reset_all())
            .on_conflict(once)
            .exec_without_returning(&self.db)
            .await?
            > 0)
    }

    pub async fn user_by_name(&self, name: &str) -> Result<Option<User>> {
        Ok(user::Entity::find()
            .filter(user::Column::Name.eq(name))
            .one(&self.db)
            .await?)
    }

    pub async fn add_session(&self, one: Session) -> Result<()> {
        session::Entity::delete_many()
            .filter(session::Column::ExpiresAt.lt(one.created_at))
            .exec(&self.db)
            .await?;
        let row: session::ActiveModel = one.into();
        session::Entity::insert(row.reset_all())
            .exec_without_returning(&self.db)
            .await?;
        Ok(())
    }

    pub async fn remove_session(&self, token_hash: &str) -> Result<()> {
        session::Entity::delete_by_id(token_hash)
            .exec(&self.db)
            .await?;
        Ok(())
    }

    /// The user of a session that has not ended, with the teams that they are in.
    pub async fn user_of_session(
        &self,
        token_hash: &str,
        now: Time,
    ) -> Result<Option<(User, Vec<String>)>> {
        let statement = Store::sql(
            "select u.*, array(select team from team_members m where m.user_id = u.id order by team) as teams from sessions s join users u on u.id = s.user_id \
             where s.token_hash = $1 and s.expires_at > $2 and u.disabled_at is null",
            [token_hash.into(), now.into()],
        );
        let Some(row) = self.db.query_one_raw(statement).await? else {
            return Ok(None);
        };
        let teams = row.try_get("", "teams")?;
        Ok(Some((User::from_query_result(&row, "")?, teams)))
    }

    /// A user as they are now, with the teams that they are in; nothing if they may not sign in.
    pub async fn user_now(&self, id: Uuid) -> Result<Option<(User, Vec<String>)>> {
        let statement = Store::sql(
            "select u.*, array(select team from team_members m where m.user_id = u.id order by team) as teams from users u where u.id = $1 and u.disabled_at is null",
            [id.into()],
        );
        let Some(row) = self.db.query_one_raw(statement).await? else {
            return Ok(None);
        };
        let teams = row.try_get("", "teams")?;
        Ok(Some((User::from_query_result(&row, "")?, teams)))
    }

    pub async fn add_token(&self, one: ApiToken) -> Result<()> {
        let row: api_token::ActiveModel = one.into();
        api_token::Entity::insert(row.reset_all())
            .exec_without_returning(&self.db)
            .await?;
        Ok(())
    }

    pub async fn tokens(&self, user_id: Uuid) -> Result<Vec<ApiToken>> {
        Ok(api_token::Entity::find()
            .filter(api_token::Column::UserId.eq(user_id))
            .order_by_desc(api_token::Column::CreatedAt)
            .all(&self.db)
            .await?)
    }

    /// Revokes a token of a user; answers whether there was one.
    pub async fn remove_token(&self, user_id: Uuid, id: Uuid) -> Result<bool> {
        Ok(api_token::Entity::delete_by_id(id)
            .filter(api_token::Column::UserId.eq(user_id))
            .exec(&self.db)
            .await?
            .rows_affected
            > 0)
    }

    /// The user behind a token, with their teams and what the token is good for. Its last use is kept to the minute,
    /// so that a busy client does not write at every call.
    pub async fn user_of_token(
        &self,
        token_hash: &str,
        now: Time,
    ) -> Result<Option<(User, Vec<String>, TokenScope)>> {
        // Every request asks this: one statement, and another at most once a minute.
        let statement = Store::sql(
            "select u.*, array(select team from team_members m where m.user_id = u.id order by team) as teams, t.scope, t.last_used_at is null or t.last_used_at < $2 as stale \
             from api_tokens t join users u on u.id = t.user_id where t.token_hash = $1 and u.disabled_at is null and (t.expires_at is null or t.expires_at > $3)",
            [
                token_hash.into(),
                (now - chrono::TimeDelta::minutes(1)).into(),
                now.into(),
            ],
        );
        let Some(row) = self.db.query_one_raw(statement).await? else {
            return Ok(None);
        };
        if row.try_get("", "stale")? {
            let used = Store::sql(
                "update api_tokens set last_used_at = $2 where token_hash = $1",
                [token_hash.into(), now.into()],
            );
            self.db.execute_raw(used).await?;
        }
        let scope: Stored<TokenScope> = row.try_get("", "scope")?;
        let teams = row.try_get("", "teams")?;
        Ok(Some((User::from_query_result(&row, "")?, teams, *scope)))
    }

    /// Counts a failed sign-in of a subject (a name or an address) and answers how many
    /// there have been since the last pause of `forget`. Past the `limit` none is counted any
    /// more, so that whoever goes on trying does not put off the end of the pause.
    pub async fn count_failure(
        &self,
        subject: &str,
        now: Time,
        forget: chrono::TimeDelta,
        limit: i32,
    ) -> Result<i32> {
        let statement = Store::sql(
            "insert into sign_in_failures (subject, failures, last_at) values ($1, 1, $2) on conflict (subject) do update set \
               failures = case when sign_in_failures.last_at < $3 then 1 else least(sign_in_failures.failures, $4) + 1 end, \
               last_at = case when sign_in_failures.last_at >= $3 and sign_in_failures.failures > $4 then sign_in_failures.last_at else $2 end returning failures",
            [
                subject.into(),
                now.into(),
                (now - forget).into(),
                limit.into(),
            ],
        );
        let row = self.db.query_one_raw(statement).await?;
        Ok(row
            .map(|row| row.try_get("", "failures"))
            .transpose()?
            .unwrap_or(1))
    }

    /// Forgets what nobody has tried since an instant, and places that nobody has signed in from
    /// since another.
    pub async fn forget_old_failures(&self, tried: Time, signed_in: Time) -> Result<()> {
        for (sql, before) in [
            ("delete from sign_in_failures where last_at < $1", tried),
            ("delete from known_places where last_at < $1", signed_in),
        ] {
            self.db
                .execute_raw(Store::sql(sql, [before.into()]))
                .await?;
        }
        Ok(())
    }

    /// Notes that a user has signed in from an address.
    pub async fn know_place(&self, name: &str, address: &str, now: Time) -> Result<()> {
        let statement = Store::sql(
            "insert into known_places (name, address, last_at) values ($1, $2, $3) on conflict (name, address) do update set last_at = $3",
            [name.into(), address.into(), now.into()],
        );
        self.db.execute_raw(statement).await?;
        Ok(())
    }

    /// Whether a user has signed in from an address before.
    pub async fn knows_place(&self, name: &str, address: &str) -> Result<bool> {
        let statement = Store::sql(
            "select 1 from known_places where name = $1 and address = $2",
            [name.into(), address.into()],
        );
        Ok(self.db.query_one_raw(statement).await?.is_some())
    }

    /// Takes one attempt back: it was none of those that are counted.
    pub async fn forgive_failure(&self, subject: &str) -> Result<()> {
        let statement = Store::sql(
            "update sign_in_failures set failures = greatest(failures - 1, 0) where subject = $1",
            [subject.into()],
        );
        self.db.execute_raw(statement).await?;
        Ok(())
    }

    pub async fn forget_failures(&self, subject: &str) -> Result<()> {
        self.db
            .execute_raw(Store::sql(
                "delete from sign_in_failures where subject = $1",
                [subject.into()],
            ))
            .await?;
        Ok(())
    }
}
