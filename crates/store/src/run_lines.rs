//! What the log says of runs.

use sea_orm::{ConnectionTrait, FromQueryResult};
use uuid::Uuid;

use crate::{Page, Result, Store, entity::Time, offset};

/// So many lines of one run are kept; what comes after them is in the service's own log alone.
pub const MOST_LINES: u64 = 1_000;

/// A line of the log about a run.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct RunLine {
    pub run_id: Uuid,
    pub at: Time,
    /// `error`, `warn`, `info` …
    pub level: String,
    pub text: String,
}

impl Store {
    /// Keeps lines in their order, those of runs that there are, up to [`MOST_LINES`] of each run.
    ///
    /// # Errors
    /// If the database cannot be used.
    pub async fn add_run_lines(&self, lines: &[RunLine]) -> Result<()> {
        let texts = |of: fn(&RunLine) -> &String| lines.iter().map(of).cloned().collect::<Vec<_>>();
        let added = Self::sql(
            &format!(
                "insert into run_lines (run_id, at, level, text) \
                 select line.run_id, line.at, line.level, line.text \
                 from unnest($1::uuid[], $2::timestamptz[], $3::text[], $4::text[]) with ordinality as line(run_id, at, level, text, place) \
                 join runs on runs.id = line.run_id \
                 where (select count(*) from (select from run_lines known where known.run_id = line.run_id limit {MOST_LINES}) known) < {MOST_LINES} \
                 order by line.place"
            ),
            [
                lines
                    .iter()
                    .map(|line| line.run_id)
                    .collect::<Vec<_>>()
                    .into(),
                lines.iter().map(|line| line.at).collect::<Vec<_>>().into(),
                texts(|line| &line.level).into(),
                texts(|line| &line.text).into(),
            ],
        );
        self.db.execute_raw(added).await?;
        Ok(())
    }

    /// A page of the lines of a run, the first ones first.
    ///
    /// # Errors
    /// If the database cannot be used.
    pub async fn run_lines(&self, run: Uuid, page: u64, size: u64) -> Result<Page<RunLine>> {
        let counted = Self::sql(
            "select count(*) as total from run_lines where run_id = $1",
            [run.into()],
        );
        let total: i64 = match self.db.query_one_raw(counted).await? {
            Some(row) => row.try_get("", "total")?,
            None => 0,
        };
        let asked = Self::sql(
            "select run_id, at, level, text from run_lines where run_id = $1 order by id limit $2 offset $3",
            [run.into(), (size as i64).into(), offset(page, size).into()],
        );
        Ok(Page {
            items: RunLine::find_by_statement(asked).all(&self.db).await?,
            total: u64::try_from(total).unwrap_or_default(),
        })
    }
}
