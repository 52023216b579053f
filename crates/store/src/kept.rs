//! Rows that are kept under a condition, in one statement: most of what a run keeps is small, and each statement costs more
//! than what it writes.

use std::collections::BTreeSet;

use sea_orm::{ConnectionTrait, EntityName, EntityTrait, IdenStatic, Iterable, ModelTrait, Value};
use uuid::Uuid;

use crate::{Result, Store, claims::Claim};

/// So many rows go into one statement, which takes 65,535 values at most.
pub const AT_ONCE: usize = 500;
/// Rows of more bytes than this go one by one: a statement is held several times until it is written.
pub const MOST_BYTES: usize = 4 << 20;

/// The condition that a run is claimed, which stays so until the rows are kept, and its values.
pub fn claimed(claim: Claim) -> (&'static str, Vec<Value>) {
    let condition = "select id from runs where id = $1 and lease_owner = $2 for share";
    (condition, vec![claim.run.into(), claim.token.into()])
}

/// Keeps rows with an `id` if a statement, given with its values, finds or changes a row; those that are there already
/// stay as they are. Answers which were not there before, or with nothing if the condition does not hold: none is
/// kept then.
pub async fn keep<M: ModelTrait>(
    on: &impl ConnectionTrait,
    (condition, mut values): (&str, Vec<Value>),
    rows: &[M],
) -> Result<Option<BTreeSet<Uuid>>> {
    if rows.is_empty() {
        let asked = Store::sql(
            &format!("with held as materialized ({condition}) select from held"),
            values,
        );
        let held = on.query_one_raw(asked).await?;
        return Ok(held.map(|_| BTreeSet::new()));
    }
    let table = M::Entity::default().table_name().to_owned();
    let columns: Vec<_> = <M::Entity as EntityTrait>::Column::iter().collect();
    let mut listed = Vec::new();
    for row in rows {
        let mut places = Vec::with_capacity(columns.len());
        for column in &columns {
            values.push(row.get(*column));
            places.push(format!("${}", values.len()));
        }
        listed.push(format!("({})", places.join(", ")));
    }
    let names = columns.iter().map(IdenStatic::as_str);
    let names = names.collect::<Vec<_>>().join(", ");
    let listed = listed.join(", ");
    let statement = format!(
        "with held as materialized ({condition}), \
         kept as (insert into {table} ({names}) select given.* from held, (values {listed}) given on conflict do nothing returning id) \
         select exists (select from held) as held, array(select id from kept) as kept"
    );
    let Some(answer) = on.query_one_raw(Store::sql(&statement, values)).await? else {
        return Ok(None);
    };
    if !answer.try_get::<bool>("", "held")? {
        return Ok(None);
    }
    let kept: Vec<Uuid> = answer.try_get("", "kept")?;
    Ok(Some(kept.into_iter().collect()))
}
