//! What is known of addresses: those that bounce, those that left, and the links they got.

use std::collections::BTreeMap;

use sea_orm::{
    ActiveModelTrait, ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter, QueryOrder,
    QuerySelect, sea_query::OnConflict,
};
use uuid::Uuid;

use crate::{
    Result, Store,
    entity::{Time, bounced_address, shared_link, unsubscribe},
};

pub use bounced_address::Model as BouncedAddress;
pub use shared_link::Model as SharedLink;
pub use unsubscribe::Model as Unsubscribe;

impl Store {
    /// Counts a hard bounce. Answers whether the address is suppressed by this one.
    pub async fn count_bounce(
        &self,
        address: &str,
        words: &str,
        limit: i32,
        now: Time,
    ) -> Result<bool> {
        let statement = Store::sql(
            "insert into bounced_addresses (address, hard_bounces, words, last_at, suppressed_at) values (lower($1), 1, $2, $3, case when $4 <= 1 then $3 end) \
             on conflict (address) do update set hard_bounces = bounced_addresses.hard_bounces + 1, words = $2, last_at = $3, \
               suppressed_at = coalesce(bounced_addresses.suppressed_at, case when bounced_addresses.hard_bounces + 1 >= $4 then $3 end) \
             returning suppressed_at = $3 as now_aside",
            [address.into(), words.into(), now.into(), limit.into()],
        );
        let row = self.db.query_one_raw(statement).await?;
        Ok(row
            .map(|row| row.try_get::<Option<bool>>("", "now_aside"))
            .transpose()?
            .flatten()
            .unwrap_or(false))
    }

    pub async fn bounced_addresses(&self) -> Result<Vec<BouncedAddress>> {
        Ok(bounced_address::Entity::find()
            .order_by_desc(bounced_address::Column::LastAt)
            .limit(1000)
            .all(&self.db)
            .await?)
    }

    /// Those of these addresses, in small letters, that get no mail of a report, each with why:
    /// they have unsubscribed, or mail to them came back.
    pub async fn passed_over(
        &self,
        report: &str,
        addresses: &[String],
    ) -> Result<BTreeMap<String, String>> {
        let asked = Self::sql(
            "select address, hard_bounces, words from bounced_addresses where address = any($2) and suppressed_at is not null \
             union all select address, null, null from unsubscribes where report = $1 and address = any($2)",
            [report.into(), addresses.to_vec().into()],
        );
        let mut found = BTreeMap::new();
        for row in self.db.query_all_raw(asked).await? {
            let address: String = row.try_get("", "address")?;
            let bounces: Option<i32> = row.try_get("", "hard_bounces")?;
            let said: Option<String> = row.try_get("", "words")?;
            let words = match (bounces, said) {
                (Some(bounces), Some(said)) => {
                    format!("{address} is suppressed after {bounces} bounces: {said}")
                }
                _ => format!("{address} has unsubscribed from this report"),
            };
            found.insert(address, words);
        }
        Ok(found)
    }

    /// Forgets the bounces of an address, so that mail goes there again. Answers whether
    /// there were any.
    pub async fn forget_bounces(&self, address: &str) -> Result<bool> {
        Ok(
            bounced_address::Entity::delete_by_id(address.to_lowercase())
                .exec(&self.db)
                .await?
                .rows_affected
                > 0,
        )
    }

    /// Takes an address off a report.
    pub async fn unsubscribe(&self, report: &str, address: &str, now: Time) -> Result<()> {
        let row: unsubscribe::ActiveModel = Unsubscribe {
            report: report.to_owned(),
            address: address.to_lowercase(),
            unsubscribed_at: now,
        }
        .into();
        let once = OnConflict::columns([unsubscribe::Column::Report, unsubscribe::Column::Address])
            .do_nothing()
            .to_owned();
        unsubscribe::Entity::insert(row.reset_all())
            .on_conflict(once)
            .exec_without_returning(&self.db)
            .await?;
        Ok(())
    }

    /// Who has left a report; of all reports if none is named.
    pub async fn unsubscribes(&self, report: Option<&str>) -> Result<Vec<Unsubscribe>> {
        let query = unsubscribe::Entity::find()
            .order_by_asc(unsubscribe::Column::Report)
            .order_by_asc(unsubscribe::Column::Address);
        Ok(match report {
            Some(report) => query.filter(unsubscribe::Column::Report.eq(report)),
            None => query.limit(1000),
        }
        .all(&self.db)
        .await?)
    }

    /// Puts an address back on a report. Answers whether it had left.
    pub async fn remove_unsubscribe(&self, report: &str, address: &str) -> Result<bool> {
        Ok(
            unsubscribe::Entity::delete_by_id((report.to_owned(), address.to_lowercase()))
                .exec(&self.db)
                .await?
                .rows_affected
                > 0,
        )
    }

    /// Keeps a link before it is sent; one that is there stays as it is.
    pub async fn keep_link(&self, link: SharedLink) -> Result<()> {
        let row: shared_link::ActiveModel = link.into();
        let once = OnConflict::column(shared_link::Column::Id)
            .do_nothing()
            .to_owned();
        shared_link::Entity::insert(row.reset_all())
            .on_conflict(once)
            .exec_without_returning(&self.db)
            .await?;
        Ok(())
    }

    pub async fn link(&self, id: Uuid) -> Result<Option<SharedLink>> {
        Ok(shared_link::Entity::find_by_id(id).one(&self.db).await?)
    }

    pub async fn links(&self, run_id: Uuid) -> Result<Vec<SharedLink>> {
        Ok(shared_link::Entity::find()
            .filter(shared_link::Column::RunId.eq(run_id))
            .order_by_asc(shared_link::Column::Recipient)
            .all(&self.db)
            .await?)
    }

    pub async fn count_opening(&self, id: Uuid, now: Time) -> Result<()> {
        let statement = Store::sql(
            "update shared_links set opened = opened + 1, last_opened_at = $2 where id = $1",
            [id.into(), now.into()],
        );
        self.db
            .execute_raw(statement)
            .await
            .map(drop)
            .map_err(Into::into)
    }

    /// Ends the links of a run before their time. Answers how many there were.
    pub async fn revoke_links(&self, run_id: Uuid, now: Time) -> Result<u64> {
        let statement = Store::sql(
            "update shared_links set revoked_at = $2 where run_id = $1 and revoked_at is null",
            [run_id.into(), now.into()],
        );
        Ok(self.db.execute_raw(statement).await?.rows_affected())
    }
}
