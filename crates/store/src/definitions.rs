//! Definition files as they were applied.

use maple_lark_api::{SavedFrom, Words};
use sea_orm::{
    ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, FromQueryResult, QueryFilter,
    QueryOrder, TransactionTrait,
};
use uuid::Uuid;

use crate::{
    Result, Store, StoreError, Stored,
    entity::{Time, definition, schedule_state},
    offset,
};

pub use definition::Model as StoredDefinition;

/// What applying changes, all of it or nothing.
#[derive(Debug)]
pub struct Change {
    /// The version of the definitions that it was checked against.
    pub based_on: i64,
    /// Reports that are paused from the beginning, if they are new.
    pub paused: Vec<String>,
    pub put: Vec<StoredDefinition>,
    pub remove: Vec<(String, String)>,
    /// The schedule of each report after the change: report, rule in words and as a key, and
    /// the first instant if the rule is new.
    pub schedules: Vec<Rule>,
    pub saved: Saved,
}

/// Who saves, with what, and what they say of it.
#[derive(Debug, Clone)]
pub struct Saved {
    pub at: Time,
    pub by: String,
    pub from: SavedFrom,
    pub message: Option<String>,
}

/// A text that a definition had, or its end.
#[derive(Debug, Clone, sea_orm::FromQueryResult)]
pub struct Version {
    /// From 1, for each definition.
    pub version: i32,
    pub file: String,
    /// Nothing: it was removed.
    pub text: Option<String>,
    /// The text of the version before; nothing if there was none.
    pub before: Option<String>,
    pub saved_at: Time,
    pub saved_by: String,
    pub saved_from: Stored<SavedFrom>,
    pub message: Option<String>,
}

#[derive(Debug, Clone)]
pub struct Rule {
    pub report: String,
    pub rule: String,
    pub first: Option<Time>,
    /// After how many runs the schedule is over.
    pub most_runs: Option<u32>,
}

/// Keeps what a definition is from now on: its file and text, or that it is gone.
async fn keep_version(
    connection: &impl ConnectionTrait,
    saved: &Saved,
    (kind, name): (&str, &str),
    now: Option<(&str, &str)>,
) -> Result<()> {
    let statement = Store::sql(
        "insert into definition_versions (kind, name, version, file, text, saved_at, saved_by, saved_from, message) \
         select $1, $2, coalesce(max(version), 0) + 1, \
           coalesce($3, (select file from definitions where kind = $1 and name = $2), ''), $4, $5, $6, $7, $8 \
         from definition_versions where kind = $1 and name = $2",
        [
            kind.into(),
            name.into(),
            now.map(|(file, _)| file.to_owned()).into(),
            now.map(|(_, text)| text.to_owned()).into(),
            saved.at.into(),
            saved.by.clone().into(),
            saved.from.word().into(),
            saved.message.clone().into(),
        ],
    );
    connection.execute_raw(statement).await?;
    Ok(())
}

/// The version, read with what the statement ends with.
async fn version(connection: &impl ConnectionTrait, ending: &str) -> Result<i64> {
    let text = format!("select version from definitions_version{ending}");
    let row = connection.query_one_raw(Store::sql(&text, [])).await?;
    Ok(match row {
        Some(row) => row.try_get("", "version")?,
        None => 0,
    })
}

/// A version of a definition that a run was made with.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct UsedVersion {
    pub kind: String,
    pub name: String,
    pub version: i32,
    pub saved_at: Time,
    pub saved_by: String,
}

impl Store {
    pub async fn definitions(&self) -> Result<Vec<StoredDefinition>> {
        Ok(definition::Entity::find()
            .order_by_asc(definition::Column::Kind)
            .order_by_asc(definition::Column::Name)
            .all(&self.db)
            .await?)
    }

    /// A number that grows with every change of the definitions.
    pub async fn definitions_version(&self) -> Result<i64> {
        version(&self.db, "").await
    }

    pub async fn definition(&self, kind: &str, name: &str) -> Result<Option<StoredDefinition>> {
        Ok(
            definition::Entity::find_by_id((kind.to_owned(), name.to_owned()))
                .one(&self.db)
                .await?,
        )
    }

    /// The versions of a definition, the latest first, each with the one before it.
    pub async fn versions(
        &self,
        kind: &str,
        name: &str,
        page: u64,
        size: u64,
    ) -> Result<Vec<Version>> {
        let statement = Store::sql(
            "select version, file, text, saved_at, saved_by, saved_from, message, \
               (select text from definition_versions earlier where earlier.kind = v.kind and earlier.name = v.name \
                  and earlier.version = v.version - 1) as before \
             from definition_versions v where kind = $1 and name = $2 order by version desc limit $3 offset $4",
            [
                kind.into(),
                name.into(),
                (size as i64).into(),
                offset(page, size).into(),
            ],
        );
        Ok(Version::find_by_statement(statement).all(&self.db).await?)
    }

    /// One version of a definition, with the one before it.
    pub async fn version(&self, kind: &str, name: &str, version: i32) -> Result<Option<Version>> {
        let statement = Store::sql(
            "select version, file, text, saved_at, saved_by, saved_from, message, \
               (select text from definition_versions earlier where earlier.kind = $1 and earlier.name = $2 \
                  and earlier.version = $3 - 1) as before \
             from definition_versions where kind = $1 and name = $2 and version = $3",
            [kind.into(), name.into(), version.into()],
        );
        Ok(Version::find_by_statement(statement).one(&self.db).await?)
    }

    /// The versions of definitions that a run was made with: of each text that was frozen for
    /// it the latest that had been saved by then. A run that there is not has none.
    pub async fn versions_of_run(&self, run: Uuid) -> Result<Vec<UsedVersion>> {
        let statement = Store::sql(
            "select distinct on (v.kind, v.name) v.kind, v.name, v.version, v.saved_at, v.saved_by \
             from runs r cross join lateral jsonb_array_elements(r.definitions) frozen \
             join definition_versions v on md5(v.text) = md5(frozen->>'text') and v.text = frozen->>'text' \
               and v.saved_at <= r.created_at \
             where r.id = $1 and jsonb_typeof(r.definitions) = 'array' \
             order by v.kind, v.name, v.version desc",
            [run.into()],
        );
        Ok(UsedVersion::find_by_statement(statement)
            .all(&self.db)
            .await?)
    }

    /// Makes a change in one transaction. A report whose rule stays the same keeps its next
    /// instant and its pause; one that has no schedule any more is forgotten.
    #[expect(
        clippy::too_many_lines,
        reason = "one transaction: what belongs together"
    )]
    ///
    /// # Errors
    /// If the definitions are not any more of the version that the change was checked against.
    /// Nothing is changed then.
    pub async fn change_definitions(&self, change: Change) -> Result<()> {
        let transaction = self.db.begin().await?;
        // The row is held to the end: one writer at a time.
        if version(&transaction, " for update").await? != change.based_on {
            return Err(StoreError::DefinitionsChanged);
        }
        for (kind, name) in change.remove {
            keep_version(&transaction, &change.saved, (&kind, &name), None).await?;
            definition::Entity::delete_by_id((kind, name))
                .exec(&transaction)
                .await?;
        }
        for one in change.put {
            let kept = Some((one.file.as_str(), one.text.as_str()));
            keep_version(&transaction, &change.saved, (&one.kind, &one.name), kept).await?;
            definition::Entity::delete_by_id((one.kind.clone(), one.name.clone()))
                .exec(&transaction)
                .await?;
            definition::Entity::insert(definition::ActiveModel {
                kind: Set(one.kind),
                name: Set(one.name),
                title: Set(one.title),
                file: Set(one.file),
                text: Set(one.text),
                updated_at: Set(one.updated_at),
                updated_by: Set(one.updated_by),
            })
            .exec(&transaction)
            .await?;
        }
        let reports: Vec<String> = change
            .schedules
            .iter()
            .map(|rule| rule.report.clone())
            .collect();
        schedule_state::Entity::delete_many()
            .filter(schedule_state::Column::Report.is_not_in(reports))
            .exec(&transaction)
            .await?;
        for rule in change.schedules {
            let known = schedule_state::Entity::find_by_id(rule.report.clone())
                .one(&transaction)
                .await?;
            match known {
                Some(known) if known.rule == rule.rule => {}
                Some(known) => {
                    let over = rule
                        .most_runs
                        .is_some_and(|most| known.runs_made >= most as i32);
                    let mut row: schedule_state::ActiveModel = known.into();
                    row.rule = Set(rule.rule);
                    row.next_instant = Set(rule.first.filter(|_| !over));
                    schedule_state::Entity::update(row)
                        .exec(&transaction)
                        .await?;
                }
                None => {
                    let row = schedule_state::ActiveModel {
                        paused: Set(change.paused.contains(&rule.report)),
                        report: Set(rule.report),
                        rule: Set(rule.rule),
                        next_instant: Set(rule.first),
                        runs_made: Set(0),
                    };
                    schedule_state::Entity::insert(row)
                        .exec(&transaction)
                        .await?;
                }
            }
        }
        transaction.commit().await?;
        Ok(())
    }
}
