//! The words that a column may hold, where its table was made by a version that knew fewer.

use maple_lark_api::{
    AttemptOutcome, AuditOutcome, Cause, ChannelType, DeliveryState, KeepStage, NoticeKind,
    RecipientRole, Role, RunState, StepKind, StepState, TokenScope, Words,
};
use sea_orm::{ConnectionTrait, DbErr};

use crate::Store;

/// A column whose check constraint lists the words of an enum.
struct List {
    table: &'static str,
    column: &'static str,
    words: fn() -> Vec<&'static str>,
}

const fn list(table: &'static str, column: &'static str, words: fn() -> Vec<&'static str>) -> List {
    List {
        table,
        column,
        words,
    }
}

impl List {
    fn constraint(&self) -> String {
        format!("{}_{}_check", self.table, self.column)
    }
}

fn words_of<T: Words>() -> Vec<&'static str> {
    T::ALL.iter().map(|one| one.word()).collect()
}

const LISTS: [List; 14] = [
    list("users", "role", words_of::<Role>),
    list("api_tokens", "scope", words_of::<TokenScope>),
    list("audit_entries", "outcome", words_of::<AuditOutcome>),
    list("runs", "cause", words_of::<Cause>),
    list("runs", "state", words_of::<RunState>),
    list("run_steps", "kind", words_of::<StepKind>),
    list("run_steps", "state", words_of::<StepState>),
    list("notices", "kind", words_of::<NoticeKind>),
    list("deliveries", "channel", words_of::<ChannelType>),
    list("deliveries", "state", words_of::<DeliveryState>),
    list("deliveries", "role", words_of::<RecipientRole>),
    list("delivery_attempts", "outcome", words_of::<AttemptOutcome>),
    list("holdings", "stage", words_of::<KeepStage>),
    list("removals", "what", words_of::<KeepStage>),
];

/// Lets each column hold all the words that this program knows. A word that it does not know and the
/// column may hold stays, for a newer program may have put it there. Rows are not looked at again:
/// what there is was checked by a narrower list.
///
/// # Errors
/// If the database cannot be used, or a column of the list has no such constraint.
pub async fn widen(db: &impl ConnectionTrait) -> Result<(), DbErr> {
    for list in LISTS {
        let held = held(db, &list).await?;
        let List { table, column, .. } = list;
        let name = list.constraint();
        let mut all = (list.words)();
        if all.iter().all(|word| held.iter().any(|one| one == word)) {
            continue;
        }
        all.extend(held.iter().map(String::as_str));
        all.sort_unstable();
        all.dedup();
        let all = all.join("', '");
        db.execute_unprepared(&format!(
            "alter table {table} drop constraint {name}, \
             add constraint {name} check ({column} in ('{all}')) not valid"
        ))
        .await?;
    }
    Ok(())
}

/// The words that a column may hold now.
async fn held(db: &impl ConnectionTrait, list: &List) -> Result<Vec<String>, DbErr> {
    let name = list.constraint();
    let statement = Store::sql(
        "select (regexp_matches(pg_get_constraintdef(oid), '''([a-z0-9-]+)''', 'g'))[1] as word
         from pg_constraint where conrelid = $1::regclass and conname = $2",
        [list.table.into(), name.as_str().into()],
    );
    let rows = db.query_all_raw(statement).await?;
    if rows.is_empty() {
        return Err(DbErr::RecordNotFound(format!(
            "the constraint {name}, which says what {}.{} may hold",
            list.table, list.column
        )));
    }
    rows.iter().map(|row| row.try_get("", "word")).collect()
}
