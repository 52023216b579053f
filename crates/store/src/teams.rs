//! Teams: their members, the addresses that their reports may go to, and what somebody sees.

use sea_orm::{ConnectionTrait, FromQueryResult, Value};
use uuid::Uuid;

use crate::{Result, Store, bounds::Bounds, entity::Time};

/// What somebody sees of runs and of all that comes of them.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Sight {
    /// Everything: administrators.
    All,
    /// What belongs to these teams, and what belongs to all.
    Teams(Vec<String>),
    /// The same, and of it what is within parameter values.
    Within { teams: Vec<String>, bounds: Bounds },
}

impl Sight {
    /// The teams whose things somebody sees beside those of all; nothing where they see everything.
    #[must_use]
    pub fn teams(&self) -> Option<&Vec<String>> {
        match self {
            Self::All => None,
            Self::Teams(own) | Self::Within { teams: own, .. } => Some(own),
        }
    }

    /// Whether somebody sees what belongs to a team; the empty name means all.
    #[must_use]
    pub fn sees(&self, team: &str) -> bool {
        self.teams()
            .is_none_or(|own| team.is_empty() || own.iter().any(|one| one == team))
    }

    /// The teams that somebody is restricted to, with the empty name of what belongs to all; nothing
    /// where they see everything.
    #[must_use]
    pub fn restriction(&self) -> Option<Vec<String>> {
        let own = self.teams()?.iter().cloned();
        Some(own.chain([String::new()]).collect())
    }

    /// What somebody is held to, for statements; `null` if they are not.
    pub(crate) fn bounds(&self) -> Value {
        match self {
            Self::Within { bounds, .. } => bounds.value(),
            Self::All | Self::Teams(_) => Value::Json(None),
        }
    }

    pub(crate) fn value(&self) -> Value {
        self.restriction().into()
    }
}

/// A team with how many are in it.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct Team {
    pub name: String,
    pub title: String,
    pub addresses: Vec<String>,
    pub members: i64,
}

/// Somebody in a team.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct Member {
    pub team: String,
    pub name: String,
    pub owner: bool,
}

/// What changes of a team; what is `None` stays as it is.
#[derive(Debug, Clone, Default)]
pub struct TeamChange {
    pub title: Option<String>,
    pub addresses: Option<Vec<String>>,
}

impl Store {
    /// Whether somebody sees a snapshot, as far as values go.
    pub async fn is_within(&self, snapshot: Uuid, sight: &Sight) -> Result<bool> {
        let asked = Self::sql(
            "select $2::jsonb is null or within_bounds(chosen, $2) as within from snapshots where id = $1",
            [snapshot.into(), sight.bounds()],
        );
        let found = self.db.query_one_raw(asked).await?;
        Ok(found.is_some_and(|row| row.try_get("", "within").unwrap_or(false)))
    }

    /// All teams, by name.
    pub async fn teams(&self) -> Result<Vec<Team>> {
        let asked = Self::sql(
            "select t.name, t.title, t.addresses, (select count(*) from team_members m where m.team = t.name) as members from teams t order by t.name",
            [],
        );
        Ok(Team::find_by_statement(asked).all(&self.db).await?)
    }

    /// One team.
    pub async fn team(&self, name: &str) -> Result<Option<Team>> {
        let all = self.teams().await?;
        Ok(all.into_iter().find(|team| team.name == name))
    }

    /// Who is in which team, by team and name.
    pub async fn members(&self) -> Result<Vec<Member>> {
        let asked = Self::sql(
            "select m.team, u.name, m.owner from team_members m join users u on u.id = m.user_id order by m.team, u.name",
            [],
        );
        Ok(Member::find_by_statement(asked).all(&self.db).await?)
    }

    /// The teams that a user is in, and whether as an owner.
    pub async fn teams_of(&self, user: Uuid) -> Result<Vec<(String, bool)>> {
        let asked = Self::sql(
            "select team, owner from team_members where user_id = $1 order by team",
            [user.into()],
        );
        let rows = self.db.query_all_raw(asked).await?;
        let pairs = rows
            .into_iter()
            .map(|row| Ok((row.try_get("", "team")?, row.try_get("", "owner")?)));
        pairs.collect()
    }

    /// Adds a team; answers whether the name was free.
    pub async fn add_team(
        &self,
        name: &str,
        title: &str,
        addresses: &[String],
        now: Time,
    ) -> Result<bool> {
        let added = Self::sql(
            "insert into teams (name, title, addresses, created_at) values ($1, $2, $3, $4) on conflict do nothing",
            [
                name.into(),
                title.into(),
                addresses.to_vec().into(),
                now.into(),
            ],
        );
        Ok(self.db.execute_raw(added).await?.rows_affected() > 0)
    }

    /// Changes a team; answers whether there is one.
    pub async fn change_team(&self, name: &str, change: &TeamChange) -> Result<bool> {
        let changed = Self::sql(
            "update teams set title = coalesce($2, title), addresses = coalesce($3, addresses) where name = $1",
            [
                name.into(),
                change.title.clone().into(),
                change.addresses.clone().into(),
            ],
        );
        Ok(self.db.execute_raw(changed).await?.rows_affected() > 0)
    }

    /// Removes a team with its memberships; answers whether there was one. Runs that belong to it are
    /// seen by administrators alone from then on.
    pub async fn remove_team(&self, name: &str) -> Result<bool> {
        let removed = Self::sql("delete from teams where name = $1", [name.into()]);
        Ok(self.db.execute_raw(removed).await?.rows_affected() > 0)
    }

    /// Puts a user into a team, or changes whether they own it; answers whether both are there.
    pub async fn put_member(&self, team: &str, user: &str, owner: bool) -> Result<bool> {
        let put = Self::sql(
            "insert into team_members (team, user_id, owner) select t.name, u.id, $3 from teams t, users u where t.name = $1 and u.name = $2 \
             on conflict (team, user_id) do update set owner = $3",
            [team.into(), user.into(), owner.into()],
        );
        Ok(self.db.execute_raw(put).await?.rows_affected() > 0)
    }

    /// Takes a user out of a team; answers whether they were in it.
    pub async fn remove_member(&self, team: &str, user: &str) -> Result<bool> {
        let removed = Self::sql(
            "delete from team_members where team = $1 and user_id = (select id from users where name = $2)",
            [team.into(), user.into()],
        );
        Ok(self.db.execute_raw(removed).await?.rows_affected() > 0)
    }
}
