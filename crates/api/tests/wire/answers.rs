//! What the service answers.

use maple_lark_api::*;
use serde_json::{Value, json};

use super::{answer, answer_with};

const ID: &str = "0193c1b5-2f0a-7c44-8a51-2a4c5b0f9d10";
const AT: &str = "2026-10-25T05:45:00Z";

fn page(items: Value) -> Value {
    json!({ "items": items, "total": 1, "page": 1, "size": 50 })
}

fn window() -> Value {
    json!({
        "from": "2026-10-24T23:00:00Z",
        "to": "2026-10-26T00:00:00Z",
        "time_zone": "Atlantic/Faroe",
        "label": "Sunday 25 October 2026, 25 h",
        "in_words": "25 Oct 2026, 00:00 to 24:00 (UTC+1 to UTC+0, Atlantic/Faroe)",
        "exact": "2026-10-25T00:00:00+01:00[Atlantic/Faroe]/2026-10-26T00:00:00+00:00[Atlantic/Faroe]",
    })
}

fn run() -> Value {
    json!({
        "id": ID,
        "report": "estate-daily",
        "title": "Estate",
        "scheduled_for": AT,
        "cause": "schedule",
        "requested_by": "runa",
        "state": "awaiting-approval",
        "status": "warning",
        "settled": false,
        "good": false,
        "problem": "the source harbour did not answer",
        "incomplete": "2 of 3 sources were ready",
        "window": window(),
        "created_at": AT,
        "started_at": AT,
        "finished_at": AT,
        "skipped": 2,
        "approval_deadline": AT,
        "released_by": "runa",
    })
}

fn document() -> Value {
    json!({
        "id": ID,
        "snapshot_id": ID,
        "format": "pdf",
        "file_name": "estate-2026-10-25.pdf",
        "variant": "fo",
        "media_type": "application/pdf",
        "size": 123_456,
        "sha256": "00ff",
        "removed_at": AT,
    })
}

fn attempt() -> Value {
    json!({ "started_at": AT, "ended_at": AT, "outcome": "postponed", "answer": "451 later" })
}

fn delivery() -> Value {
    json!({
        "id": ID,
        "audience": "ports",
        "channel": "mail",
        "via": "",
        "recipient": "duty@orrin-sound.example",
        "role": "bcc",
        "variant": "",
        "copy": 1,
        "note": "Once more.",
        "requested_by": "runa",
        "state": "waiting",
        "problem": "the server is busy",
        "message_id": "<1@orrin-sound.example>",
        "next_attempt_at": AT,
        "settled_at": AT,
        "attempts": [attempt()],
    })
}

fn kept() -> Value {
    json!({ "run": ID, "report": "estate-daily", "at": AT, "by": "runa", "because": "Asked for." })
}

#[test]
fn runs() {
    answer::<WindowView>(window());
    answer::<RunSummary>(run());
    answer::<RunPage>(page(json!([run()])));
    answer::<DocumentView>(document());
    answer::<AttemptView>(attempt());
    answer::<DeliveryView>(delivery());
    answer::<KeptRun>(kept());
    let step = json!({
        "kind": "collect",
        "subject": "estate: cpu",
        "state": "done",
        "detail": "24 rows",
        "started_at": AT,
        "ended_at": AT,
    });
    answer::<StepView>(step.clone());
    let snapshot = json!({ "id": ID, "sha256": "00ff", "audiences": ["ports"], "removed_at": AT });
    answer::<SnapshotView>(snapshot.clone());
    let link = json!({
        "recipient": "duty@orrin-sound.example",
        "expires_at": AT,
        "revoked_at": AT,
        "opened": 3,
        "last_opened_at": AT,
    });
    answer::<LinkView>(link.clone());
    let mut whole = run();
    whole["steps"] = json!([step]);
    whole["documents"] = json!([document()]);
    whole["deliveries"] = json!([delivery()]);
    whole["snapshots"] = json!([snapshot]);
    whole["links"] = json!([link]);
    whole["kept"] = kept();
    answer_with::<RunView, RunSummary>(whole);
    answer::<RunDefinition>(json!({
        "kind": "dashboard",
        "name": "estate",
        "version": 4,
        "saved_at": AT,
        "saved_by": "runa",
    }));
    answer::<RunLog>(
        json!({ "items": [{ "at": AT, "level": "warn", "text": "slow" }], "total": 1, "page": 1, "size": 100 }),
    );
    answer::<FailedPage>(json!({ "subject": "board", "at": AT, "picture": "" }));
}

#[test]
fn reports_and_their_times() {
    let audience = json!({
        "name": "ports",
        "recipients": ["duty@orrin-sound.example"],
        "channels": ["share"],
        "values": ["Port: Havnes"],
    });
    answer::<AudienceView>(audience.clone());
    let report = json!({
        "name": "estate-daily",
        "title": "Estate",
        "file": "reports/estate-daily.toml",
        "time_zone": "Atlantic/Faroe",
        "owner": "runa",
        "tags": ["daily"],
        "dashboards": ["estate"],
        "formats": ["pdf"],
        "window": "the previous day",
        "schedule": "every day at 05:45",
        "paused": false,
        "next": AT,
        "next_window": "Sunday 25 October 2026, 25 h",
        "audiences": [audience],
        "audiences_from": ["ports"],
        "last_run": run(),
        "run_count": 12,
        "run_limit": 100,
    });
    answer::<ReportView>(report.clone());
    let mut reports = page(json!([report]));
    reports["all"] = json!(16);
    reports["tags"] = json!(["daily"]);
    answer::<ReportPage>(reports);
    answer::<ReportName>(json!({ "name": "a", "title": "A", "time_zone": "UTC" }));
    answer::<Backfill>(json!({ "instants": [AT], "runs": [ID] }));
    let instant = json!({
        "at": AT,
        "local": "Sunday 25 October 2026, 05:45",
        "reader": "Sunday 25 October 2026, 05:45",
        "window": "2026-10-25/2026-10-26",
        "window_label": "Sunday 25 October 2026, 25 h",
        "window_seconds": 90_000,
        "compared_with": "2026-10-18/2026-10-19",
        "compared_with_label": "Sunday 18 October 2026",
        "step": "1 h",
        "parts": ["08:00 to 18:00"],
    });
    answer::<ExplainedInstant>(instant.clone());
    let left_out = json!({ "local": "Friday", "day": "Flag day", "moved_to": "Monday" });
    answer::<ExplainedLeftOut>(left_out.clone());
    let explained = json!({
        "schedule": "every day at 05:45",
        "window": "the previous day",
        "instants": [instant],
        "left_out": [left_out],
    });
    answer::<Explained>(explained.clone());
    let answered = json!({ "explained": explained, "error": "no such zone" });
    answer::<QuestionAnswer>(answered.clone());
    answer::<Answers>(json!({ "answers": [answered] }));
}

/// A long list of instants is made of these, so it says no more than there is.
#[test]
fn what_an_explained_instant_does_not_have_is_left_out() {
    let bare = json!({ "at": AT, "local": "2026-10-25T05:45:00+00:00" });
    let read: ExplainedInstant = serde_json::from_value(bare.clone()).unwrap();
    assert_eq!(serde_json::to_value(read).unwrap(), bare);
}

#[test]
fn the_overview_and_the_agenda() {
    let outcome = json!({ "state": "delivered", "count": 4 });
    answer::<Outcome>(outcome.clone());
    let next = json!({
        "report": "estate-daily",
        "title": "Estate",
        "at": AT,
        "time_zone": "Atlantic/Faroe",
        "schedule": "every day at 05:45",
    });
    answer::<NextRun>(next.clone());
    answer::<Overview>(json!({
        "sentence": "4 runs were delivered.",
        "status": "ok",
        "outcomes": [outcome],
        "next": [next],
        "attention": [run()],
        "recent": [run()],
    }));
    let entry = json!({
        "report": "estate-daily",
        "title": "Estate",
        "state": "left-out",
        "count": 1,
        "first": AT,
        "last": AT,
        "run": ID,
        "status": "critical",
        "note": "Flag day",
    });
    answer::<AgendaEntry>(entry.clone());
    let day = json!({ "date": "2026-04-25", "named": ["Flag day"], "entries": [entry] });
    answer::<AgendaDay>(day.clone());
    answer::<Agenda>(json!({ "time_zone": "Atlantic/Faroe", "days": [day] }));
    answer::<AgendaFeed>(json!({ "id": ID, "address": "http://127.0.0.1/agenda/t.ics" }));
    let named = json!({ "date": "2026-04-25", "name": "Flag day" });
    answer::<NamedDay>(named.clone());
    answer::<CalendarView>(json!({
        "name": "holidays",
        "title": "Holidays",
        "file": "calendars/holidays.toml",
        "events": 12,
        "next_days": [named],
        "used_by": ["estate-daily"],
    }));
    let rules = json!({ "version": "2026a", "bundled": true, "old": false });
    answer::<ZoneRulesView>(rules.clone());
    let finding =
        json!({ "what": "database", "stands": "warning", "words": "slow", "remedy": "Ask." });
    answer::<Finding>(finding.clone());
    answer::<Condition>(json!({ "looked_at": AT, "findings": [finding] }));
    answer::<About>(json!({ "version": "0.1.0", "zone_rules": rules, "clock": "an hour behind" }));
}

#[test]
fn definitions() {
    let change = json!({
        "action": "alter",
        "kind": "report",
        "name": "estate-daily",
        "file": "reports/estate-daily.toml",
        "diff": "-a\n+b\n",
        "schedule": "every day at 05:45",
        "next": ["Sunday 25 October 2026, 05:45"],
        "lets_go": "3 documents go at once.",
    });
    answer::<Change>(change.clone());
    answer::<Plan>(json!({ "changes": [change], "unchanged": 3 }));
    answer::<Applied>(json!({ "changes": [change], "unchanged": 3 }));
    let version = json!({
        "version": 2,
        "file": "reports/estate-daily.toml",
        "saved_at": AT,
        "saved_by": "runa",
        "saved_from": "command-line",
        "message": "Earlier.",
        "removed": false,
        "diff": "-a\n+b\n",
        "text": "title = \"Estate\"\n",
    });
    answer::<DefinitionVersion>(version.clone());
    answer::<DefinitionVersions>(json!({ "items": [version], "page": 1, "size": 50 }));
    answer::<DefinitionKeys>(json!({
        "kind": "report",
        "name": "estate-daily",
        "file": "reports/estate-daily.toml",
        "keys": { "title": "Estate" },
        "based_on": "a1",
    }));
    answer::<DefinitionName>(json!({
        "kind": "report",
        "name": "estate-daily",
        "title": "Estate",
        "file": "reports/estate-daily.toml",
        "saved_at": AT,
        "saved_by": "runa",
    }));
    let missing = json!({ "key": "source.kind", "one_of": ["postgresql", "sqlite"] });
    answer::<MissingKey>(missing.clone());
    let problem = json!({
        "file": "sources/shop.toml",
        "line": 3,
        "column": 1,
        "key": "source",
        "message": "the key \"kind\" is missing here",
        "missing": missing,
    });
    answer::<FileProblem>(problem.clone());
    answer::<Draft>(json!({ "text": "", "keys": { "title": "Estate" }, "problems": [problem] }));
    answer::<ProblemDetails>(json!({
        "title": "Definitions are not valid",
        "status": 422,
        "detail": "2 problems; nothing was changed",
        "needs_code": true,
        "problems": [problem],
    }));
}

#[test]
fn what_is_looked_at() {
    let column = json!({ "name": "host", "kind": "text", "numeric": false });
    answer::<AnswerColumn>(column.clone());
    answer::<QueryAnswer>(json!({
        "columns": [column],
        "rows": [["db-1"], [null]],
        "row_count": 2,
        "truncated": false,
        "milliseconds": 12,
        "sent": "SELECT host FROM hosts",
        "note": "Cut at 50 rows.",
        "by_hand": "The lines cannot be told apart.",
        "fields": "host = \"host\"",
        "window": "Sunday 25 October 2026, 25 h",
    }));
    let item = json!({ "name": "host", "kind": "text", "description": "", "values": ["db-1"] });
    answer::<CatalogueItem>(item.clone());
    answer::<CatalogueEntry>(json!({
        "name": "hosts",
        "kind": "table",
        "unit": "",
        "description": "",
        "items": [item],
    }));
    let choice = json!({ "value": "havnes", "title": "Havnes" });
    answer::<Choice>(choice.clone());
    answer::<ParameterChoices>(json!({
        "name": "port",
        "title": "Port",
        "kind": "choice",
        "default": "havnes",
        "depends_on": ["country"],
        "choices": [choice],
        "problem": "the source did not answer",
    }));
    answer::<SourceView>(json!({
        "name": "harbour",
        "title": "Harbour",
        "file": "sources/harbour.toml",
        "kind": "postgresql",
        "address": "127.0.0.1:5432",
        "timeout_seconds": 30,
        "row_limit": 10_000,
        "used_by": ["estate"],
    }));
    answer::<SourceTest>(json!({
        "works": true,
        "detail": "12 tables",
        "milliseconds": 4,
        "warning": "The account may write.",
    }));
    answer::<SamplerView>(json!({
        "name": "up",
        "title": "Up",
        "source": "checks",
        "every_seconds": 60,
        "keep_days": 30.0,
        "last_at": AT,
        "works": true,
        "detail": "0.2 s",
        "samples": 1440,
        "since": AT,
    }));
    let block = json!({ "title": "Load", "place": { "section": 1, "block": 1 }, "twelfths": 6 });
    answer::<DashboardBlock>(block.clone());
    let section = json!({ "title": "Hosts", "blocks": [block] });
    answer::<DashboardSection>(section.clone());
    let layout = json!({ "dashboard": "estate", "title": "Estate", "sections": [section] });
    answer::<DashboardLayout>(layout);
    answer::<DashboardView>(json!({
        "name": "estate",
        "title": "Estate",
        "file": "dashboards/estate.toml",
        "summary": "All of it.",
        "sections": 2,
        "blocks": 7,
        "block_titles": ["Load"],
        "parameters": ["port"],
        "sources": ["harbour"],
        "used_by": ["estate-daily"],
        "layout": [section],
    }));
}

#[test]
fn live_pages() {
    let piece = json!({
        "selector": "#load",
        "title": "Load",
        "is_table": false,
        "x": 0,
        "y": 10,
        "width": 640,
        "height": 320,
    });
    answer::<PagePiece>(piece.clone());
    let step = json!({ "what": "open /board", "seconds": 0.4 });
    answer::<PageStepTime>(step.clone());
    answer::<PageLook>(json!({
        "title": "Board",
        "address": "http://127.0.0.1/board",
        "picture": "",
        "width": 1280,
        "height": 2400,
        "parts": [piece],
        "steps": [step],
        "note": "The page is longer.",
        "problem": "\"#load\" did not come within 10 s",
    }));
}

#[test]
fn channels_recipients_and_messages() {
    answer::<ChannelView>(json!({
        "name": "share",
        "title": "Share",
        "file": "channels/share.toml",
        "kind": "folder",
        "place": "out",
        "used_by": ["estate-daily"],
        "waiting": 1,
        "oldest": AT,
    }));
    let step = json!({ "name": "sign in", "works": false, "words": "535 no", "remedy": "Ask." });
    answer::<TestStep>(step.clone());
    answer::<ChannelTest>(json!({ "works": false, "steps": [step] }));
    let person = json!({
        "name": "runa",
        "title": "Runa",
        "address": "runa@orrin-sound.example",
        "file": "people/runa.toml",
        "time_zone": "Atlantic/Faroe",
        "number_format": "fo",
        "active": true,
        "user": "runa",
        "reports": ["estate-daily"],
    });
    answer::<PersonView>(person.clone());
    let group = json!({
        "name": "duty",
        "title": "Duty",
        "file": "groups/duty.toml",
        "members": ["runa"],
        "recipients": ["runa@orrin-sound.example"],
    });
    answer::<GroupView>(group.clone());
    let bounced = json!({
        "address": "gone@orrin-sound.example",
        "hard_bounces": 3,
        "words": "550 no such user",
        "last_at": AT,
        "suppressed_at": AT,
    });
    answer::<BouncedView>(bounced.clone());
    let unsubscribe = json!({
        "report": "estate-daily",
        "address": "gone@orrin-sound.example",
        "unsubscribed_at": AT,
    });
    answer::<UnsubscribeView>(unsubscribe.clone());
    answer::<AddressBook>(json!({
        "people": [person],
        "groups": [group],
        "bounced": [bounced],
        "unsubscribes": [unsubscribe],
    }));
    answer::<NoticeView>(json!({
        "kind": "source-down",
        "subject": "harbour",
        "run": ID,
        "recipient": "duty@orrin-sound.example",
        "text": "It has failed three times.",
        "created_at": AT,
        "told_at": AT,
    }));
    answer::<MessagePreview>(json!({
        "subject": "Estate: ok",
        "text": "Good morning.",
        "html": "<p>Good morning.</p>",
        "run": ID,
        "window": "Sunday 25 October 2026, 25 h",
        "figures": { "status": "ok" },
    }));
    let head = json!({
        "id": "1",
        "from": "reports@orrin-sound.example",
        "to": "duty@orrin-sound.example",
        "subject": "Estate",
        "received_at": AT,
        "size": 1024,
        "attachments": 1,
    });
    answer::<ReceivedHead>(head.clone());
    let mut message = head;
    message["message_id"] = json!("<1@orrin-sound.example>");
    message["text"] = json!("Good morning.");
    message["files"] = json!(["estate.pdf"]);
    answer_with::<ReceivedMessage, ReceivedHead>(message);
}

#[test]
fn the_archive_and_what_is_kept() {
    let found = json!({ "text": "db-2", "hit": true });
    answer::<FoundPiece>(found.clone());
    let entry = json!({
        "document": document(),
        "run": ID,
        "sees_run": true,
        "state": "delivered",
        "report": "estate-daily",
        "title": "Estate",
        "window": "Sunday 25 October 2026, 25 h",
        "made_at": AT,
        "status": "critical",
        "sent": 3,
        "found": [found],
    });
    answer::<ArchiveEntry>(entry.clone());
    let mut archive = page(json!([entry]));
    archive["more"] = json!(false);
    answer::<ArchivePage>(archive);
    answer::<Match>(json!({
        "document": document(),
        "run": ID,
        "report": "estate-daily",
        "window": "Sunday 25 October 2026, 25 h",
        "made_at": AT,
        "snapshot_unaltered": true,
        "reproducible": true,
        "snapshot_removed_at": AT,
    }));
    let day = json!({
        "day": "2026-10-25",
        "documents": 12,
        "sha256": "00ff",
        "sealed_at": AT,
        "intact": true,
    });
    answer::<ArchiveDayView>(day.clone());
    answer::<ArchiveDayPage>(page(json!([day])));
    let fault = json!({ "document": ID, "run": ID, "file_name": "estate.pdf" });
    answer::<ArchiveFault>(fault.clone());
    answer::<ArchiveDayProof>(json!({
        "day": day,
        "intact": false,
        "altered": [fault],
        "missing": [fault],
        "added": [fault],
        "let_go": 2,
    }));
    let keeping = json!({ "report": "estate-daily", "title": "Estate", "words": "for 2 years" });
    answer::<ReportKeeping>(keeping.clone());
    answer::<Keeping>(json!({
        "policy": { "documents": "2 years" },
        "set_at": AT,
        "set_by": "runa",
        "reports": [keeping],
        "runs": 12,
        "with_documents": 10,
        "kept": 1,
        "document_bytes": 1_000_000,
        "snapshot_bytes": 2_000_000,
    }));
    let going = json!({
        "run": ID,
        "report": "estate-daily",
        "ended_at": AT,
        "what": "snapshots",
        "why": "size",
        "bytes": 2048,
    });
    answer::<GoingView>(going.clone());
    answer::<GoingList>(json!({ "items": [going], "until": AT, "more": true, "bytes": 2048 }));
    let file = json!({ "name": "estate.pdf", "sha256": "00ff", "size": 2048 });
    answer::<RemovedFile>(file.clone());
    let removal = json!({
        "at": AT,
        "what": "documents",
        "why": "older than 2 years",
        "run": ID,
        "report": "estate-daily",
        "title": "Estate",
        "ended_at": AT,
        "window_from": AT,
        "window_to": AT,
        "bytes": 2048,
        "files": [file],
    });
    answer::<RemovalView>(removal.clone());
    answer::<RemovalPage>(page(json!([removal])));
    answer::<KeptPage>(page(json!([kept()])));
}

#[test]
fn users_teams_and_the_audit_trail() {
    let user = json!({
        "name": "runa",
        "role": "author",
        "teams": ["harbour"],
        "may_change": ["harbour"],
        "signs_in_by": "password",
        "held_to": { "port": ["havnes"] },
        "second_factor": true,
        "demo": false,
    });
    answer::<UserView>(user.clone());
    answer::<NewToken>(json!({ "id": ID, "expires_at": AT, "token": "t", "user": user }));
    answer::<Token>(json!({
        "id": ID,
        "label": "night desk",
        "created_at": AT,
        "last_used_at": AT,
        "scope": "read",
        "expires_at": AT,
    }));
    let entry = json!({
        "name": "runa",
        "role": "author",
        "email": "runa@orrin-sound.example",
        "created_at": AT,
        "last_seen_at": AT,
        "disabled_at": AT,
        "signs_in_by": "provider",
        "held_to": { "port": ["havnes"] },
        "left_at": AT,
        "has_password": true,
        "second_factor": false,
        "passkeys": 2,
        "invited_until": AT,
    });
    answer::<UserEntry>(entry.clone());
    answer::<UserPage>(page(json!([entry])));
    answer::<OwnedReports>(json!({ "owner": "runa@orrin-sound.example", "reports": ["daily"] }));
    answer::<Passkey>(json!({ "id": ID, "title": "phone", "created_at": AT, "last_used_at": AT }));
    answer::<PasskeyChallenge>(json!({ "challenge": ID, "options": { "publicKey": {} } }));
    answer::<Invitation>(json!({
        "name": "runa",
        "expires_at": AT,
        "mailed_to": "runa@orrin-sound.example",
        "link": "http://127.0.0.1/invited#t",
        "reason": "There is no mail server.",
    }));
    answer::<InvitationView>(json!({ "name": "runa", "role": "viewer", "expires_at": AT }));
    answer::<SessionView>(json!({
        "id": ID,
        "created_at": AT,
        "expires_at": AT,
        "address": "127.0.0.1",
        "used_with": "a browser",
        "current": true,
    }));
    answer::<SignInWays>(json!({ "provider": "Orrin Sound account", "passkeys": true }));
    answer::<SignedOut>(json!({ "then": "https://id.orrin-sound.example/sign-out" }));
    answer::<SecondFactor>(json!({ "since": AT, "recovery_codes": 8 }));
    answer::<NewSecondFactor>(json!({ "key": "ABCD", "uri": "otpauth://totp/a", "svg": "<svg/>" }));
    answer::<RecoveryCodes>(json!({ "codes": ["abcd-efgh"] }));
    answer::<SecretView>(json!({
        "name": "harbour",
        "updated_at": AT,
        "updated_by": "runa",
        "version": "3",
    }));
    let member = json!({ "name": "runa", "owner": true });
    answer::<TeamMember>(member.clone());
    answer::<TeamView>(json!({
        "name": "harbour",
        "title": "Harbour",
        "addresses": ["*@orrin-sound.example"],
        "members": [member],
        "definitions": 4,
        "own": true,
    }));
    let audit = json!({
        "id": 7,
        "at": AT,
        "user": "runa",
        "address": "127.0.0.1",
        "action": "run_report",
        "words": "asked for a run",
        "subject": "estate-daily",
        "detail": "3 audiences",
        "outcome": "done",
        "sha256": "00ff",
    });
    answer::<AuditEntry>(audit.clone());
    answer::<AuditPage>(page(json!([audit])));
    answer::<AuditProof>(json!({ "intact": false, "entries": 9, "head": "00ff", "broken": [4] }));
}

#[test]
fn templates_and_published_views() {
    let input = json!({
        "name": "table",
        "title": "Table",
        "kind": "choice",
        "of": "schema",
        "choices": ["calls"],
        "default": "calls",
        "example": "calls",
        "note": "One with a time.",
    });
    answer::<TemplateInput>(input.clone());
    let block = json!({ "show": "line", "title": "Calls", "twelfths": 6 });
    answer::<TemplateBlock>(block.clone());
    answer::<TemplateView>(json!({
        "name": "calls",
        "title": "Calls",
        "question": "Which ships called?",
        "purpose": "unit",
        "purpose_title": "One unit",
        "version": 2,
        "source_kind": "postgresql",
        "needs": "A table with times.",
        "instructions": "Choose a table.",
        "inputs": [input],
        "blocks": [block],
        "samplers": 1,
        "own": false,
        "used_by": ["harbour-calls"],
    }));
    let file = json!({ "file": "dashboards/calls.toml", "text": "title = \"Calls\"\n" });
    answer::<FilledTemplate>(json!({
        "dashboard": "harbour-calls",
        "report": "harbour-calls",
        "schedule": "every day at 06:00",
        "files": [file],
    }));
    answer::<TemplateUpdate>(json!({
        "dashboard": "harbour-calls",
        "title": "Calls",
        "template": "calls",
        "version": 1,
        "latest": 2,
        "diff": "-a\n+b\n",
        "file": file,
    }));
    let view = json!({
        "id": ID,
        "title": "Estate",
        "dashboard": "estate",
        "snapshot": ID,
        "address": "http://127.0.0.1/views/t",
        "signed_in": false,
        "has_password": true,
        "expires_at": AT,
        "revoked_at": AT,
        "opened": 3,
        "last_opened_at": AT,
        "made_by": "runa",
        "made_at": AT,
    });
    answer::<ViewView>(view.clone());
    answer::<ViewPage>(page(json!([view])));
}
