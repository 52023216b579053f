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

const STEPS: [Step; 43] = [
    Step {
        name: "0001_initial",
        sql: include_str!("migrations/0001_initial.sql"),
    },
    Step {
        name: "0002_readiness",
        sql: include_str!("migrations/0002_readiness.sql"),
    },
    Step {
        name: "0003_samplers",
        sql: include_str!("migrations/0003_samplers.sql"),
    },
    Step {
        name: "0004_document_digests",
        sql: include_str!("migrations/0004_document_digests.sql"),
    },
    Step {
        name: "0005_delivery",
        sql: include_str!("migrations/0005_delivery.sql"),
    },
    Step {
        name: "0006_body_parts",
        sql: include_str!("migrations/0006_body_parts.sql"),
    },
    Step {
        name: "0007_claims",
        sql: include_str!("migrations/0007_claims.sql"),
    },
    Step {
        name: "0008_definitions_version",
        sql: include_str!("migrations/0008_definitions_version.sql"),
    },
    Step {
        name: "0009_fences",
        sql: include_str!("migrations/0009_fences.sql"),
    },
    Step {
        name: "0010_history",
        sql: include_str!("migrations/0010_history.sql"),
    },
    Step {
        name: "0011_held_up",
        sql: include_str!("migrations/0011_held_up.sql"),
    },
    Step {
        name: "0012_known_places",
        sql: include_str!("migrations/0012_known_places.sql"),
    },
    Step {
        name: "0013_days",
        sql: include_str!("migrations/0013_days.sql"),
    },
    Step {
        name: "0014_orders",
        sql: include_str!("migrations/0014_orders.sql"),
    },
    Step {
        name: "0015_versions",
        sql: include_str!("migrations/0015_versions.sql"),
    },
    Step {
        name: "0016_used_versions",
        sql: include_str!("migrations/0016_used_versions.sql"),
    },
    Step {
        name: "0017_token_scopes",
        sql: include_str!("migrations/0017_token_scopes.sql"),
    },
    Step {
        name: "0018_failed_pages",
        sql: include_str!("migrations/0018_failed_pages.sql"),
    },
    Step {
        name: "0019_pictures",
        sql: include_str!("migrations/0019_pictures.sql"),
    },
    Step {
        name: "0020_users",
        sql: include_str!("migrations/0020_users.sql"),
    },
    Step {
        name: "0021_scopes",
        sql: include_str!("migrations/0021_scopes.sql"),
    },
    Step {
        name: "0022_teams",
        sql: include_str!("migrations/0022_teams.sql"),
    },
    Step {
        name: "0023_audit",
        sql: include_str!("migrations/0023_audit.sql"),
    },
    Step {
        name: "0024_archive",
        sql: include_str!("migrations/0024_archive.sql"),
    },
    Step {
        name: "0025_keeping",
        sql: include_str!("migrations/0025_keeping.sql"),
    },
    Step {
        name: "0026_second_factor",
        sql: include_str!("migrations/0026_second_factor.sql"),
    },
    Step {
        name: "0027_views",
        sql: include_str!("migrations/0027_views.sql"),
    },
    Step {
        name: "0028_archive_chain",
        sql: include_str!("migrations/0028_archive_chain.sql"),
    },
    Step {
        name: "0029_audit_forwarded",
        sql: include_str!("migrations/0029_audit_forwarded.sql"),
    },
    Step {
        name: "0030_directory",
        sql: include_str!("migrations/0030_directory.sql"),
    },
    Step {
        name: "0031_run_status",
        sql: include_str!("migrations/0031_run_status.sql"),
    },
    Step {
        name: "0032_identity_provider",
        sql: include_str!("migrations/0032_identity_provider.sql"),
    },
    Step {
        name: "0033_bounds",
        sql: include_str!("migrations/0033_bounds.sql"),
    },
    Step {
        name: "0034_archive_told",
        sql: include_str!("migrations/0034_archive_told.sql"),
    },
    Step {
        name: "0035_bodies_outside",
        sql: include_str!("migrations/0035_bodies_outside.sql"),
    },
    Step {
        name: "0036_passkeys",
        sql: include_str!("migrations/0036_passkeys.sql"),
    },
    Step {
        name: "0037_restores",
        sql: include_str!("migrations/0037_restores.sql"),
    },
    Step {
        name: "0038_days_of_teams",
        sql: include_str!("migrations/0038_days_of_teams.sql"),
    },
    Step {
        name: "0039_telemetry",
        sql: include_str!("migrations/0039_telemetry.sql"),
    },
    Step {
        name: "0040_run_lines",
        sql: include_str!("migrations/0040_run_lines.sql"),
    },
    Step {
        name: "0041_channels",
        sql: include_str!("migrations/0041_channels.sql"),
    },
    Step {
        name: "0042_lighter_writes",
        sql: include_str!("migrations/0042_lighter_writes.sql"),
    },
    Step {
        name: "0043_quick_checks",
        sql: include_str!("migrations/0043_quick_checks.sql"),
    },
];

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
