//! The tables, one numbered step for each change of their shape.
//!
//! The words that a column may hold come from the enums of the API; a step names them in braces.

use maple_lark_api::{
    AttemptOutcome, AuditOutcome, Cause, ChannelType, DeliveryState, KeepStage, NoticeKind,
    RecipientRole, Role, RunState, StepKind, StepState, TokenScope, Words,
};
use sea_orm_migration::prelude::*;

use crate::stored::sql_list;

/// Brings the tables up to date, step by step.
pub struct Migrator;

impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        STEPS
            .iter()
            .map(|step| Box::new(*step) as Box<dyn MigrationTrait>)
            .collect()
    }
}

#[derive(Clone, Copy)]
struct Step {
    name: &'static str,
    sql: &'static str,
}

/// All steps, one for each file of `migrations/`, in the order of their numbers.
const STEPS: &[Step] = include!(concat!(env!("OUT_DIR"), "/steps.rs"));

impl MigrationName for Step {
    fn name(&self) -> &str {
        self.name
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Step {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager
            .get_connection()
            .execute_unprepared(&with_words(self.sql))
            .await
            .map(drop)
    }
}

fn all<T: Words>() -> String {
    sql_list(T::ALL.iter().copied())
}

/// The step with the words of each enum in place of its name in braces.
fn with_words(sql: &str) -> String {
    let lists = [
        ("{roles}", all::<Role>()),
        ("{token_scopes}", all::<TokenScope>()),
        ("{audit_outcomes}", all::<AuditOutcome>()),
        ("{causes}", all::<Cause>()),
        ("{run_states}", all::<RunState>()),
        (
            "{work_states}",
            sql_list(RunState::which(RunState::is_work)),
        ),
        (
            "{told_states}",
            sql_list(RunState::which(|state| NoticeKind::of_run(state).is_some())),
        ),
        (
            "{under_way_states}",
            sql_list(RunState::which(RunState::is_under_way)),
        ),
        ("{step_kinds}", all::<StepKind>()),
        ("{notice_kinds}", all::<NoticeKind>()),
        ("{step_states}", all::<StepState>()),
        ("{delivery_states}", all::<DeliveryState>()),
        ("{channel_types}", all::<ChannelType>()),
        ("{attempt_outcomes}", all::<AttemptOutcome>()),
        ("{recipient_roles}", all::<RecipientRole>()),
        ("{keep_stages}", all::<KeepStage>()),
    ];
    lists
        .iter()
        .fold(sql.to_owned(), |sql, (name, list)| sql.replace(name, list))
}

/// The names of all steps that this program knows, in their order.
pub fn names() -> impl Iterator<Item = &'static str> {
    STEPS.iter().map(|step| step.name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_list_of_words_is_filled_in() {
        for step in STEPS {
            let sql = with_words(step.sql);
            assert!(!sql.contains(['{', '}']), "{}", step.name);
        }
        assert!(
            with_words(STEPS[0].sql)
                .contains("check (role in ('viewer', 'author', 'administrator'))")
        );
    }
}
