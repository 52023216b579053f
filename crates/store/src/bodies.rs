//! The bodies of snapshots and documents in their rows. What lies between a body and its row copies it several
//! times over, so one of many megabytes goes in parts, on its way in and on its way out.

use sea_orm::{ConnectionTrait, DatabaseTransaction, DbErr, sea_query::SimpleExpr};
use uuid::Uuid;

use crate::{Result, Store};

/// Bytes of a body that travel in one statement.
pub const PART: usize = 1 << 20;

/// What of a body goes into its row at once; the rest is put there with [`write`].
///
/// Answers with the long body, whose row is to be inserted with an empty one.
pub(crate) fn taken_out(body: &mut Vec<u8>) -> Option<Vec<u8>> {
    (body.len() > PART).then(|| std::mem::take(body))
}

/// Puts a long body into its row. Nobody sees the row before the transaction has ended.
pub(crate) async fn write(
    transaction: &DatabaseTransaction,
    table: &str,
    id: Uuid,
    body: &[u8],
) -> Result<()> {
    for (position, part) in body.chunks(PART).enumerate() {
        let statement = Store::sql(
            "insert into body_parts (id, position, part) values ($1, $2, $3)",
            [id.into(), (position as i32).into(), part.to_vec().into()],
        );
        transaction.execute_raw(statement).await?;
    }
    let joined = format!(
        "update {table} set body = (select string_agg(part, ''::bytea order by position) from body_parts where id = $1) where id = $1"
    );
    transaction
        .execute_raw(Store::sql(&joined, [id.into()]))
        .await?;
    transaction
        .execute_raw(Store::sql(
            "delete from body_parts where id = $1",
            [id.into()],
        ))
        .await?;
    Ok(())
}

/// The first part of a body, to be selected in place of it.
pub(crate) fn first_part() -> SimpleExpr {
    SimpleExpr::Custom(first_part_sql().into())
}

/// The same as SQL.
pub(crate) fn first_part_sql() -> String {
    format!("substring(body for {PART})")
}

/// Where a body was found.
pub(crate) enum Read {
    /// All of it is read.
    All,
    /// Its row says now that it lies elsewhere.
    Elsewhere,
}

/// Reads what follows the first part of a body that its row has. Bodies never change once they are
/// kept, but they may be moved or go while they are read.
pub(crate) async fn read_rest(
    db: &impl ConnectionTrait,
    table: &str,
    id: Uuid,
    body: &mut Vec<u8>,
) -> Result<Read> {
    let gone = || DbErr::RecordNotFound(format!("{table} {id} was removed while it was read"));
    let asked = Store::sql(
        &format!(
            "select octet_length(body) as length, outside is not null as elsewhere from {table} where id = $1"
        ),
        [id.into()],
    );
    let row = db.query_one_raw(asked).await?.ok_or_else(gone)?;
    if row.try_get::<bool>("", "elsewhere")? {
        return Ok(Read::Elsewhere);
    }
    let length = row.try_get::<i32>("", "length")? as usize;
    if length < body.len() {
        return Err(gone().into());
    }
    body.reserve_exact(length - body.len());
    while body.len() < length {
        let from = body.len() as i32 + 1;
        let asked = format!(
            "select substring(body from $2 for {PART}) as part, outside is not null as elsewhere from {table} where id = $1"
        );
        let row = db
            .query_one_raw(Store::sql(&asked, [id.into(), from.into()]))
            .await?
            .ok_or_else(gone)?;
        if row.try_get::<bool>("", "elsewhere")? {
            return Ok(Read::Elsewhere);
        }
        let part: Vec<u8> = row.try_get("", "part")?;
        if part.is_empty() {
            return Err(gone().into());
        }
        body.extend_from_slice(&part);
    }
    Ok(Read::All)
}
