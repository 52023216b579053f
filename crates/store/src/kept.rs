//! Rows that are kept under a condition, in one statement: most of what a run keeps is small, and each statement costs more
//! than what it writes.

use std::collections::BTreeSet;

use sea_orm::{ConnectionTrait, EntityName, EntityTrait, IdenStatic, Iterable, ModelTrait, Value};
use uuid::Uuid;

use maple_lark_api::{StepKind, StepState};

use crate::{Result, Store, Stored, claims::Claim, entity::Time};

/// So many rows go into one statement, which takes 65,535 values at most.
pub const AT_ONCE: usize = 500;
/// Rows of more bytes than this go one by one: a statement is held several times until it is written.
pub const MOST_BYTES: usize = 4 << 20;

/// The condition that a run is claimed, which stays so until the rows are kept, and its values.
pub fn claimed(claim: Claim) -> (&'static str, Vec<Value>) {
    let condition = "select id from runs where id = $1 and lease_owner = $2 for no key update";
    (condition, vec![claim.run.into(), claim.token.into()])
}

/// How a step of a run has ended.
#[derive(Debug, Clone)]
pub struct EndedStep<'a> {
    pub kind: StepKind,
    pub subject: &'a str,
    pub state: StepState,
    pub detail: Option<String>,
    /// When it began; nothing if that was written down when it did.
    pub started_at: Option<Time>,
    pub ended_at: Time,
}

impl EndedStep<'_> {
    /// What writes it down, as parts of a statement whose part `held` finds the run; its values join those of the
    /// statement. A step that has ended is a sign of life: the run is not given up. Only a run that was claimed
    /// more than once has to be changed for that.
    fn parts(&self, values: &mut Vec<Value>) -> String {
        let first = values.len() + 1;
        values.extend([
            Stored(self.kind).into(),
            self.subject.into(),
            Stored(self.state).into(),
            self.detail.clone().into(),
            self.started_at.into(),
            self.ended_at.into(),
        ]);
        let [kind, subject, state, detail, started, ended] =
            std::array::from_fn(|place| format!("${}", first + place));
        format!(
            ", alive as (update runs set claims = 1 from held where runs.id = held.id and claims > 1), \
             ended as (insert into run_steps (run_id, kind, subject, state, detail, started_at, ended_at) \
               select id, {kind}, {subject}, {state}, {detail}, coalesce({started}::timestamptz, {ended}), {ended} from held \
               on conflict (run_id, kind, subject) do update set state = excluded.state, detail = excluded.detail, \
                 started_at = coalesce({started}::timestamptz, run_steps.started_at), ended_at = excluded.ended_at)"
        )
    }
}

/// Keeps rows with an `id` if a statement, given with its values, finds or changes a row; those that are there already
/// stay as they are. Answers which were not there before, or with nothing if the condition does not hold: none is
/// kept then. A step of the run that the condition finds may end with it.
pub async fn keep<M: ModelTrait>(
    on: &impl ConnectionTrait,
    (condition, mut values): (&str, Vec<Value>),
    rows: &[M],
    step: Option<&EndedStep<'_>>,
) -> Result<Option<BTreeSet<Uuid>>> {
    let step = step.map(|step| step.parts(&mut values));
    let step = step.unwrap_or_default();
    if rows.is_empty() {
        let asked = format!("with held as materialized ({condition}){step} select from held");
        let held = on.query_one_raw(Store::sql(&asked, values)).await?;
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
        "with held as materialized ({condition}){step}, \
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
