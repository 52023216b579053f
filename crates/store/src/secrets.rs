//! Secrets, as they were sealed: nothing here can read them.

use sea_orm::{ConnectionTrait, FromQueryResult};

use crate::{Result, Store, entity::Time};

#[derive(Debug, Clone, FromQueryResult)]
pub struct SecretName {
    pub name: String,
    pub updated_at: Time,
    pub updated_by: String,
}

impl Store {
    pub async fn secret_names(&self) -> Result<Vec<SecretName>> {
        Ok(SecretName::find_by_statement(Store::sql(
            "select name, updated_at, updated_by from secrets order by name",
            [],
        ))
        .all(&self.db)
        .await?)
    }

    /// Keeps a secret. With `instead_of` it only takes the place of one that was set at that
    /// instant; answers with whether it did.
    pub async fn put_secret(
        &self,
        name: &str,
        sealed: Vec<u8>,
        by: &str,
        now: Time,
        instead_of: Option<Time>,
    ) -> Result<bool> {
        let values = [name.into(), sealed.into(), now.into(), by.into()];
        let statement = match instead_of {
            None => Store::sql(
                "insert into secrets (name, sealed, updated_at, updated_by) \
                 values ($1, $2, $3, $4) on conflict (name) do update \
                 set sealed = $2, updated_at = $3, updated_by = $4",
                values,
            ),
            Some(known) => Store::sql(
                "update secrets set sealed = $2, updated_at = $3, updated_by = $4 \
                 where name = $1 and updated_at = $5",
                values.into_iter().chain([known.into()]),
            ),
        };
        let changed = self.db.execute_raw(statement).await?;
        Ok(changed.rows_affected() == 1)
    }

    pub async fn sealed_secret(&self, name: &str) -> Result<Option<Vec<u8>>> {
        let row = self
            .db
            .query_one_raw(Store::sql(
                "select sealed from secrets where name = $1",
                [name.into()],
            ))
            .await?;
        Ok(row.map(|row| row.try_get("", "sealed")).transpose()?)
    }

    /// Removes a secret, with `known` only one that was set at that instant; answers with whether
    /// it did.
    pub async fn remove_secret(&self, name: &str, known: Option<Time>) -> Result<bool> {
        Ok(self
            .db
            .execute_raw(Store::sql(
                "delete from secrets where name = $1 and updated_at = coalesce($2, updated_at)",
                [name.into(), known.into()],
            ))
            .await?
            .rows_affected()
            == 1)
    }
}
