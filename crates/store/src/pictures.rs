//! The pictures that snapshots show. Equal ones of one run are kept once.

use std::{collections::BTreeMap, sync::Arc};

use sea_orm::{ConnectionTrait, DatabaseTransaction};
use uuid::Uuid;

use crate::{Result, Store, bodies, entity::snapshot, outside::Rest};

/// Pictures by the SHA-256 of their bytes, in lower-case hexadecimal.
pub type Pictures = BTreeMap<String, Arc<[u8]>>;

/// A snapshot with the pictures that it shows.
#[derive(Debug, Clone)]
pub struct WholeSnapshot {
    pub stored: snapshot::Model,
    pub pictures: Pictures,
}

/// A picture that is about to be kept.
pub(crate) struct Taken {
    sha256: String,
    /// What of it goes into its row at once.
    body: Vec<u8>,
    rest: Rest,
}

/// Keeps the pictures of a snapshot that is being kept, those of its run's others only once.
pub(crate) async fn keep(
    transaction: &DatabaseTransaction,
    (run, snapshot): (Uuid, Uuid),
    pictures: Vec<Taken>,
) -> Result<()> {
    for Taken { sha256, body, rest } in pictures {
        let id = Uuid::now_v7();
        let inserted = Store::sql(
            "insert into pictures (id, run_id, sha256, body) values ($1, $2, $3, $4) on conflict (run_id, sha256) do nothing",
            [id.into(), run.into(), sha256.as_str().into(), body.into()],
        );
        let inserted = transaction.execute_raw(inserted).await?.rows_affected();
        if inserted == 1 {
            rest.write(transaction, "pictures", id).await?;
        }
        let shown = Store::sql(
            "insert into snapshot_pictures (snapshot_id, picture_id) select $1, id from pictures where run_id = $2 and sha256 = $3",
            [snapshot.into(), run.into(), sha256.into()],
        );
        transaction.execute_raw(shown).await?;
    }
    Ok(())
}

impl Store {
    /// Makes pictures ready to be kept.
    pub(crate) async fn take_out_pictures(&self, pictures: &Pictures) -> Result<Vec<Taken>> {
        let mut taken = Vec::with_capacity(pictures.len());
        for (sha256, bytes) in pictures {
            let mut body = bytes.to_vec();
            let rest = self.take_out(&mut body).await?;
            let sha256 = sha256.clone();
            taken.push(Taken { sha256, body, rest });
        }
        Ok(taken)
    }

    /// A snapshot with its pictures.
    pub async fn whole_snapshot(&self, id: Uuid) -> Result<Option<WholeSnapshot>> {
        let Some(stored) = self.snapshot(id).await? else {
            return Ok(None);
        };
        let asked = format!(
            "select p.id, p.sha256, {} as body from snapshot_pictures s join pictures p on p.id = s.picture_id where s.snapshot_id = $1",
            bodies::first_part_sql()
        );
        let mut pictures = Pictures::new();
        for row in self
            .db
            .query_all_raw(Self::sql(&asked, [id.into()]))
            .await?
        {
            let mut body: Vec<u8> = row.try_get("", "body")?;
            let picture = row.try_get("", "id")?;
            self.read_rest("pictures", picture, &mut body).await?;
            pictures.insert(row.try_get("", "sha256")?, body.into());
        }
        Ok(Some(WholeSnapshot { stored, pictures }))
    }
}
