//! What was there instead of live pages that could not be captured.

use sea_orm::{ConnectionTrait, FromQueryResult};
use uuid::Uuid;

use crate::{Result, Store, claims::Claim, entity::Time};

/// So many pictures of one run are given back; the latest.
const MOST: u64 = 50;

/// What was there instead of a live page.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct FailedPage {
    /// The step of the run that it belongs to.
    pub subject: String,
    /// PNG, with blank fields.
    pub picture: Vec<u8>,
    pub created_at: Time,
}

impl Store {
    /// Keeps a picture of a page that could not be captured.
    ///
    /// # Errors
    /// If the run is somebody else's by now.
    pub async fn keep_failed_page(
        &self,
        claim: Claim,
        subject: &str,
        picture: &[u8],
        now: Time,
    ) -> Result<()> {
        let statement = Self::sql(
            "insert into failed_pages (run_id, subject, picture, created_at) \
             select id, $3, $4, $5 from runs where id = $1 and lease_owner = $2 for share",
            [
                claim.run.into(),
                claim.token.into(),
                subject.into(),
                picture.into(),
                now.into(),
            ],
        );
        self.one_row(statement, claim.run).await
    }

    /// The pictures of a run, the oldest first.
    pub async fn failed_pages(&self, run: Uuid) -> Result<Vec<FailedPage>> {
        let statement = Self::sql(
            "select subject, picture, created_at from (\
               select * from failed_pages where run_id = $1 order by id desc limit $2\
             ) latest order by id",
            [run.into(), MOST.into()],
        );
        let rows = self.db.query_all_raw(statement).await?;
        rows.iter()
            .map(|row| Ok(FailedPage::from_query_result(row, "")?))
            .collect()
    }
}
