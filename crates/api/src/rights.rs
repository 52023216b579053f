//! Who may do what: every operation of the interface with the least role and the scope of a token
//! that it needs. `maple-lark roles` prints it, `docs/users.md` shows it, and the tests of the
//! service ask every operation as everybody.

use crate::{Role, TokenScope};

/// Something that somebody may do.
#[derive(Debug, Clone, Copy)]
pub struct Right {
    /// What it is, for people.
    pub what: &'static str,
    /// The least role that may; nothing where nobody has to be signed in.
    pub least: Option<Role>,
    /// The least scope of a token that may.
    pub scope: TokenScope,
    /// The operations that it consists of, by the names that `openapi.json` has for them.
    pub operations: &'static [&'static str],
}

impl Right {
    /// Whether a token of this scope is good for it.
    #[must_use]
    pub fn allows(&self, scope: TokenScope) -> bool {
        self.scope.is_within(scope)
    }
}

/// What somebody may do who is held to values (those of [`crate::UserEntry::held_to`]): beside what nobody
/// needs to be signed in for, this and nothing else. What these answer is within their values.
pub const WITHIN_VALUES: [&str; 23] = [
    "about",
    "add_passkey",
    "begin_passkey",
    "begin_second_factor",
    "change_password",
    "confirm_second_factor",
    "download_archive",
    "end_session",
    "front_page",
    "get_document",
    "get_second_factor",
    "get_session",
    "issue_token",
    "list_passkeys",
    "list_sessions",
    "list_tokens",
    "list_views",
    "remove_passkey",
    "revoke_token",
    "search_archive",
    "sign_out",
    "turn_off_second_factor",
    "write_again",
];

/// Every right once, those of everybody first.
pub const RIGHTS: [Right; 27] = [
    Right {
        what: "sign in, accept an invitation, ask for a link for a new password, ask whether the service is well",
        least: None,
        scope: TokenScope::Read,
        operations: &[
            "begin_passkey_sign_in",
            "sign_in",
            "sign_in_ways",
            "sign_in_with_passkey",
            "make_token",
            "health",
            "ready",
            "get_invitation",
            "accept_invitation",
            "forgotten_password",
        ],
    },
    Right {
        what: "read the agenda in a calendar program, by its private address",
        least: None,
        scope: TokenScope::Agenda,
        operations: &["agenda_feed"],
    },
    Right {
        what: "see reports, dashboards, runs and the agenda",
        least: Some(Role::Viewer),
        scope: TokenScope::Read,
        operations: &[
            "about",
            "agenda",
            "explain_schedule",
            "explain_schedules",
            "follow_run",
            "get_overview",
            "get_second_factor",
            "list_passkeys",
            "get_report",
            "get_report_layout",
            "get_run",
            "get_schedule",
            "list_calendars",
            "list_dashboards",
            "list_notices",
            "list_reports",
            "report_names",
            "list_runs",
            "parameter_choices",
        ],
    },
    Right {
        what: "find documents in the archive, open them, and make them again in another format",
        least: Some(Role::Viewer),
        scope: TokenScope::Read,
        operations: &[
            "download_archive",
            "front_page",
            "get_document",
            "match_document",
            "search_archive",
            "write_again",
        ],
    },
    Right {
        what: "see which sources, samplers, channels and templates there are, and the service's measures",
        least: Some(Role::Viewer),
        scope: TokenScope::Read,
        operations: &[
            "get_template",
            "list_channels",
            "list_samplers",
            "list_sources",
            "list_templates",
            "metrics",
        ],
    },
    Right {
        what: "see who is signed in, one's own browsers and tokens",
        least: Some(Role::Viewer),
        scope: TokenScope::Read,
        operations: &["get_session", "list_sessions", "list_tokens"],
    },
    Right {
        what: "see one's teams and who is in them",
        least: Some(Role::Viewer),
        scope: TokenScope::Read,
        operations: &["list_teams"],
    },
    Right {
        what: "add and remove members of teams that one owns",
        least: Some(Role::Viewer),
        scope: TokenScope::All,
        operations: &["put_team_member", "remove_team_member"],
    },
    Right {
        what: "change one's password, second factor and passkeys, sign out, revoke tokens, subscribe to the agenda",
        least: Some(Role::Viewer),
        scope: TokenScope::All,
        operations: &[
            "add_passkey",
            "begin_passkey",
            "begin_second_factor",
            "change_password",
            "confirm_second_factor",
            "turn_off_second_factor",
            "end_session",
            "issue_token",
            "remove_passkey",
            "revoke_token",
            "sign_out",
            "subscribe_agenda",
        ],
    },
    Right {
        what: "see what is published, and open it",
        least: Some(Role::Viewer),
        scope: TokenScope::Read,
        operations: &["list_views"],
    },
    Right {
        what: "see definitions, their versions and the address book",
        least: Some(Role::Author),
        scope: TokenScope::Read,
        operations: &[
            "address_book",
            "get_definition",
            "get_definition_keys",
            "get_version",
            "list_definition_names",
            "list_definitions",
            "list_template_updates",
            "list_versions",
            "run_definitions",
            "run_log",
        ],
    },
    Right {
        what: "browse what sources offer, see pages of live dashboards that could not be captured",
        least: Some(Role::Author),
        scope: TokenScope::Read,
        operations: &["failed_pages", "source_catalogue"],
    },
    Right {
        what: "run reports, now or for the past; cancel, release and send runs again",
        least: Some(Role::Author),
        scope: TokenScope::Run,
        operations: &[
            "backfill_report",
            "cancel_run",
            "release_run",
            "resend_run",
            "run_report",
        ],
    },
    Right {
        what: "pause and resume reports",
        least: Some(Role::Author),
        scope: TokenScope::Run,
        operations: &["pause_report", "resume_report"],
    },
    Right {
        what: "make, change, copy, restore and remove definitions, but for sources and channels",
        least: Some(Role::Author),
        scope: TokenScope::All,
        operations: &[
            "apply_definitions",
            "change_definition",
            "copy_definition",
            "copy_report",
            "draft_definition",
            "fill_template",
            "make_definition",
            "make_template",
            "plan_definition_change",
            "plan_definitions",
            "remove_definition",
            "reschedule_report",
            "restore_version",
            "use_template",
        ],
    },
    Right {
        what: "try queries, look at pages, preview documents and messages",
        least: Some(Role::Author),
        scope: TokenScope::All,
        operations: &[
            "look_at_page",
            "preview",
            "preview_message",
            "preview_theme",
            "try_query",
        ],
    },
    Right {
        what: "test sources, channels and mail servers; forget bounces, revoke links",
        least: Some(Role::Author),
        scope: TokenScope::All,
        operations: &[
            "forget_bounces",
            "revoke_links",
            "test_channel",
            "test_mail",
            "test_source",
        ],
    },
    Right {
        what: "publish dashboards and views of runs, and end that",
        least: Some(Role::Author),
        scope: TokenScope::All,
        operations: &["publish_view", "revoke_view"],
    },
    Right {
        what: "keep runs for good, and let go those that one keeps",
        least: Some(Role::Author),
        scope: TokenScope::All,
        operations: &["keep_run", "keep_run_no_longer"],
    },
    Right {
        what: "see how long things are kept, what goes and what went",
        least: Some(Role::Administrator),
        scope: TokenScope::Read,
        operations: &["get_keeping", "list_going", "list_gone", "list_kept"],
    },
    Right {
        what: "set how long things are kept",
        least: Some(Role::Administrator),
        scope: TokenScope::All,
        operations: &["plan_keeping", "set_keeping"],
    },
    Right {
        what: "read all mail that the demo has sent",
        least: Some(Role::Administrator),
        scope: TokenScope::Read,
        operations: &[
            "get_message",
            "get_message_file",
            "get_message_html",
            "list_messages",
        ],
    },
    Right {
        what: "see whether everything that the service needs is as it should be",
        least: Some(Role::Administrator),
        scope: TokenScope::Read,
        operations: &["get_condition"],
    },
    Right {
        what: "read the audit trail, prove it and the archive",
        least: Some(Role::Administrator),
        scope: TokenScope::Read,
        operations: &[
            "export_audit",
            "list_archive_days",
            "list_audit",
            "prove_archive_day",
            "prove_audit",
        ],
    },
    Right {
        what: "see who may sign in, and what secrets are called",
        least: Some(Role::Administrator),
        scope: TokenScope::Read,
        operations: &["list_secrets", "list_users", "owned_reports"],
    },
    Right {
        what: "change sources and channels, store secrets, let somebody be written to again",
        least: Some(Role::Administrator),
        scope: TokenScope::All,
        operations: &["remove_secret", "remove_unsubscribe", "set_secret"],
    },
    Right {
        what: "invite, change and remove users; make, change and remove teams",
        least: Some(Role::Administrator),
        scope: TokenScope::All,
        operations: &[
            "add_team",
            "change_team",
            "change_user",
            "hand_over_reports",
            "invite_user",
            "remove_team",
            "remove_user",
            "renew_invitation",
            "reset_second_factor",
        ],
    },
];

/// The right that an operation belongs to.
#[must_use]
pub fn right_to(operation: &str) -> Option<&'static Right> {
    RIGHTS
        .iter()
        .find(|right| right.operations.contains(&operation))
}

/// The rights as a table in Markdown, a row each.
#[must_use]
pub fn in_markdown() -> String {
    let mut text = String::from(
        "| who may … | viewer | author | administrator | token |\n|---|:-:|:-:|:-:|---|\n",
    );
    for right in &RIGHTS {
        let [viewer, author, administrator] = [Role::Viewer, Role::Author, Role::Administrator]
            .map(|role| match right.least {
                Some(least) if role < least => "–",
                _ => "●",
            });
        let token = match right.least {
            None => "none needed".to_owned(),
            Some(_) => right.scope.to_string(),
        };
        text += &format!(
            "| {} | {viewer} | {author} | {administrator} | {token} |\n",
            right.what
        );
    }
    text
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;
    use crate::Words;

    #[test]
    fn every_operation_belongs_to_one_right() {
        let all = RIGHTS.iter().flat_map(|right| right.operations);
        let mut seen = BTreeSet::new();
        for operation in all {
            assert!(seen.insert(operation), "{operation} stands twice");
        }
        assert_eq!(right_to("run_report").unwrap().scope, TokenScope::Run);
        assert!(right_to("fly").is_none());
    }

    #[test]
    fn a_wider_scope_holds_the_narrower_ones_and_an_agenda_is_good_for_nothing_else() {
        use TokenScope as S;
        let within = |one: S| -> Vec<S> {
            let all = S::ALL.iter().copied();
            all.filter(|wider| one.is_within(*wider)).collect()
        };
        assert_eq!(within(S::Read), [S::All, S::Run, S::Read]);
        assert_eq!(within(S::Run), [S::All, S::Run]);
        assert_eq!(within(S::All), [S::All]);
        assert_eq!(within(S::Agenda), [S::Agenda]);
    }

    #[test]
    fn the_documentation_shows_this_table() {
        let documented = include_str!("../../../docs/users.md");
        assert!(
            documented.contains(&in_markdown()),
            "docs/users.md lacks the table of \"maple-lark roles --markdown\":\n{}",
            in_markdown()
        );
    }
}
