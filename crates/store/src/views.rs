//! Published views: what may be opened without an editor around it, by whom, and how often it was.

use sea_orm::{ConnectionTrait, FromQueryResult};
use uuid::Uuid;

use crate::{Page, Result, Store, entity::Time, offset, teams::Sight};

/// A published view. Of `dashboard` and `snapshot_id` one is there.
#[derive(Debug, Clone, FromQueryResult)]
pub struct PublishedView {
    pub id: Uuid,
    pub dashboard: Option<String>,
    pub snapshot_id: Option<Uuid>,
    pub title: String,
    /// Whose it is; empty if it is for all.
    pub team: String,
    /// How a dashboard is looked at.
    pub look: serde_json::Value,
    /// Whether it is for those who sign in; else for whoever has the address.
    pub signed_in: bool,
    pub password_hash: Option<String>,
    pub expires_at: Option<Time>,
    pub revoked_at: Option<Time>,
    pub opened: i64,
    pub last_opened_at: Option<Time>,
    pub made_by: String,
    pub made_at: Time,
}

impl PublishedView {
    /// Whether it can be opened at an instant.
    #[must_use]
    pub fn is_good(&self, now: Time) -> bool {
        self.revoked_at.is_none() && self.expires_at.is_none_or(|at| at > now)
    }
}

const COLUMNS: &str = "id, dashboard, snapshot_id, title, team, look, signed_in, password_hash, expires_at, revoked_at, opened, last_opened_at, made_by, made_at";

impl Store {
    pub async fn add_view(&self, view: &PublishedView) -> Result<()> {
        let added = Self::sql(
            &format!(
                "insert into published_views ({COLUMNS}) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, null, 0, null, $10, $11)"
            ),
            [
                view.id.into(),
                view.dashboard.clone().into(),
                view.snapshot_id.into(),
                view.title.clone().into(),
                view.team.clone().into(),
                view.look.clone().into(),
                view.signed_in.into(),
                view.password_hash.clone().into(),
                view.expires_at.into(),
                view.made_by.clone().into(),
                view.made_at.into(),
            ],
        );
        self.db.execute_raw(added).await?;
        Ok(())
    }

    pub async fn view(&self, id: Uuid) -> Result<Option<PublishedView>> {
        let asked = Self::sql(
            &format!("select {COLUMNS} from published_views where id = $1"),
            [id.into()],
        );
        Ok(PublishedView::find_by_statement(asked)
            .one(&self.db)
            .await?)
    }

    /// A page of the views that somebody sees, the latest first. With `good_at` only those that can be
    /// opened at that instant by whoever signs in.
    pub async fn views(
        &self,
        sight: &Sight,
        good_at: Option<Time>,
        page: u64,
        size: u64,
    ) -> Result<Page<PublishedView>> {
        const WANTED: &str = "from published_views where ($1::text[] is null or team = any($1)) \
             and ($2::timestamptz is null or (signed_in and revoked_at is null and (expires_at is null or expires_at > $2)))";
        let counted = Self::sql(
            &format!("select count(*) as total {WANTED}"),
            [sight.value(), good_at.into()],
        );
        let total: i64 = match self.db.query_one_raw(counted).await? {
            Some(row) => row.try_get("", "total")?,
            None => 0,
        };
        let asked = Self::sql(
            &format!("select {COLUMNS} {WANTED} order by made_at desc, id desc limit $3 offset $4"),
            [
                sight.value(),
                good_at.into(),
                (size as i64).into(),
                offset(page, size).into(),
            ],
        );
        Ok(Page {
            total: u64::try_from(total).unwrap_or_default(),
            items: PublishedView::find_by_statement(asked)
                .all(&self.db)
                .await?,
        })
    }

    pub async fn count_view(&self, id: Uuid, now: Time) -> Result<()> {
        let counted = Self::sql(
            "update published_views set opened = opened + 1, last_opened_at = $2 where id = $1",
            [id.into(), now.into()],
        );
        self.db.execute_raw(counted).await?;
        Ok(())
    }

    /// Ends a view before its time. Answers whether it was good.
    pub async fn revoke_view(&self, id: Uuid, now: Time) -> Result<bool> {
        let revoked = Self::sql(
            "update published_views set revoked_at = $2 where id = $1 and revoked_at is null",
            [id.into(), now.into()],
        );
        Ok(self.db.execute_raw(revoked).await?.rows_affected() > 0)
    }
}
