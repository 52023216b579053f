//! The audit trail: who did what.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::words::words;

words!(
    /// What came of what somebody did.
    AuditOutcome, "outcome of an entry of the audit trail", {
    Done = "done",
    /// Their role, their token or their team does not allow it.
    Refused = "refused",
    /// A name or a password was wrong, or a link was not good any more.
    Failed = "failed",
});

/// What is put on record, by operation, in words; `shared_…` and `unsubscribe` are of people who do
/// not sign in, and `left_directory` is found by the service itself.
pub const AUDITED: [(&str, &str); 66] = [
    ("accept_invitation", "chose a password by a link"),
    ("add_passkey", "added a passkey"),
    ("add_team", "made a team"),
    ("apply_definitions", "applied definitions"),
    ("backfill_report", "asked for runs of the past"),
    ("begin_passkey", "began a passkey"),
    ("begin_second_factor", "began a second factor"),
    ("cancel_run", "cancelled a run"),
    ("change_definition", "changed a definition"),
    ("change_password", "changed their password"),
    ("change_team", "changed a team"),
    ("change_user", "changed a user"),
    ("confirm_second_factor", "is asked for a second factor"),
    ("copy_definition", "copied a definition"),
    ("copy_report", "copied a report"),
    ("download_archive", "downloaded documents of the archive"),
    ("end_session", "signed a browser out"),
    ("forget_bounces", "forgot the bounces of an address"),
    ("forgotten_password", "asked for a link for a new password"),
    ("get_document", "opened a document"),
    ("hand_over_reports", "handed over the reports of somebody"),
    ("invite_user", "invited a user"),
    ("issue_token", "made a token"),
    ("keep_run", "keeps a run for good"),
    ("keep_run_no_longer", "keeps a run no longer than others"),
    (
        "left_directory",
        "may not sign in any more: the organisation says so",
    ),
    ("make_definition", "made a definition"),
    ("make_template", "made a template"),
    ("make_token", "signed in with a program"),
    ("opened_view", "opened a published view"),
    ("pause_report", "paused a report"),
    ("publish_view", "published a view"),
    ("put_team_member", "put somebody into a team"),
    ("release_run", "approved or released a run"),
    ("remove_definition", "removed a definition"),
    ("remove_passkey", "removed a passkey"),
    ("remove_secret", "removed a secret"),
    ("remove_team", "removed a team"),
    ("remove_team_member", "took somebody out of a team"),
    ("remove_unsubscribe", "let an address get a report again"),
    ("remove_user", "removed a user"),
    ("renew_invitation", "made a link for a password"),
    ("reschedule_report", "changed a schedule"),
    ("resend_run", "sent a run again"),
    (
        "reset_second_factor",
        "reset the second factor and the passkeys of a user",
    ),
    ("restore_version", "restored a version"),
    ("resume_report", "resumed a report"),
    ("revoke_links", "revoked the links of a run"),
    ("revoke_token", "revoked a token"),
    ("revoke_view", "ended a published view"),
    ("run_report", "asked for a run"),
    ("set_keeping", "set how long things are kept"),
    ("set_secret", "stored a secret"),
    ("shared_documents", "opened a link"),
    ("shared_file", "opened a document by a link"),
    ("sign_in", "signed in"),
    ("sign_in_with_passkey", "signed in"),
    ("sign_out", "signed out"),
    ("subscribe_agenda", "made an address for the agenda"),
    ("test_channel", "tested a channel"),
    ("test_mail", "tested the mail server"),
    ("test_source", "tested a source"),
    (
        "turn_off_second_factor",
        "is asked for no second factor any more",
    ),
    ("unsubscribe", "unsubscribed"),
    ("use_template", "used a template"),
    ("write_again", "made a document again"),
];

/// What an operation is called in the audit trail, if it is put on record.
#[must_use]
pub fn audited_as(operation: &str) -> Option<&'static str> {
    let found = AUDITED.iter().find(|(name, _)| *name == operation);
    found.map(|(_, words)| *words)
}

/// Something that somebody did, or tried to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AuditEntry {
    /// From 1, without gaps.
    pub id: i64,
    pub at: DateTime<Utc>,
    /// The user; nothing for somebody who did not sign in.
    pub user: Option<String>,
    /// Where they did it from.
    pub address: Option<String>,
    /// The operation.
    pub action: String,
    /// The operation in words.
    pub words: String,
    /// What it was done to.
    pub subject: String,
    pub detail: Option<String>,
    pub outcome: AuditOutcome,
    /// Over this entry and the digest of the one before it.
    pub sha256: String,
}

/// A page of the audit trail, the latest entries first.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AuditPage {
    pub items: Vec<AuditEntry>,
    pub total: u64,
    pub page: u64,
    pub size: u64,
}

/// Whether the audit trail is what was kept.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AuditProof {
    pub intact: bool,
    pub entries: i64,
    /// The digest of the last entry. Who has noted an earlier one finds it in the trail, or knows that
    /// it was written anew.
    pub head: String,
    /// The first entries that were altered, or before which one is missing; at most ten.
    pub broken: Vec<i64>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::RIGHTS;

    #[test]
    fn what_is_on_record_is_an_operation_once() {
        let mut names: Vec<&str> = AUDITED.iter().map(|(name, _)| *name).collect();
        let sorted = names.clone();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names, sorted);
        let outside = [
            "left_directory",
            "opened_view",
            "shared_documents",
            "shared_file",
            "unsubscribe",
        ];
        for name in names {
            let known = RIGHTS.iter().any(|right| right.operations.contains(&name));
            assert!(known || outside.contains(&name), "{name}");
        }
        assert_eq!(audited_as("sign_in"), Some("signed in"));
        assert_eq!(audited_as("list_runs"), None);
    }
}
