//! What clients ask for.

use maple_lark_api::*;
use serde_json::json;

use super::order;

#[test]
fn runs_and_reports() {
    order::<RunOrder>(json!({
        "scheduled_for": "2026-03-29T00:30:00Z",
        "deliver": false,
        "to": ["me", "duty@orrin-sound.example"],
        "audience": "ports",
        "note": "As you asked.",
    }));
    order::<BackfillOrder>(json!({
        "from": "2026-03-01T00:00:00Z",
        "to": "2026-03-08T00:00:00Z",
        "deliver": true,
        "check": true,
    }));
    order::<CopyOrder>(json!({ "name": "estate-weekly", "title": "Estate, by week" }));
    order::<NewSchedule>(json!({
        "time_zone": "Atlantic/Faroe",
        "window": { "last": "previous-day" },
        "schedule": { "every": "weekday", "at": "07:45" },
    }));
    order::<ResendOrder>(json!({
        "deliveries": ["0193c1b5-2f0a-7c44-8a51-2a4c5b0f9d10"],
        "to": ["harbour-office"],
        "audience": "havnes",
        "note": "Once more.",
    }));
}

/// What is left out means what the description says, and never that something is sent.
#[test]
fn what_an_order_leaves_out() {
    let run: RunOrder = serde_json::from_value(json!({})).unwrap();
    assert!(run.deliver && run.to.is_empty() && run.scheduled_for.is_none());
    let backfill: BackfillOrder = serde_json::from_value(json!({
        "from": "2026-03-01T00:00:00Z",
        "to": "2026-03-08T00:00:00Z",
    }))
    .unwrap();
    assert!(!backfill.deliver && !backfill.check);
    let files: Files = serde_json::from_value(json!({ "files": [] })).unwrap();
    assert!(!files.remove_others, "nothing goes that was not named");
    let view: NewView = serde_json::from_value(json!({ "dashboard": "estate" })).unwrap();
    assert!(view.days.is_none() && view.password.is_none() && !view.signed_in);
    let membership: Membership = serde_json::from_value(json!({})).unwrap();
    assert!(!membership.owner);
}

/// Definitions write `time-zone`, the API `time_zone`: both are understood where a definition's keys
/// are sent on.
#[test]
fn keys_of_definitions_are_understood_where_they_are_sent_on() {
    let schedule: NewSchedule =
        serde_json::from_value(json!({ "time-zone": "Atlantic/Faroe", "window": {} })).unwrap();
    assert_eq!(schedule.time_zone, "Atlantic/Faroe");
    let question: Question =
        serde_json::from_value(json!({ "time-zone": "UTC", "reader-zone": "Atlantic/Faroe" }))
            .unwrap();
    assert_eq!(question.time_zone, "UTC");
    assert_eq!(question.reader_time_zone.as_deref(), Some("Atlantic/Faroe"));
}

#[test]
fn definitions_and_templates() {
    order::<Files>(json!({
        "files": [{ "file": "reports/estate.toml", "text": "title = \"Estate\"\n", "based_on": "a1" }],
        "message": "The estate is looked at again.",
        "remove_others": true,
    }));
    order::<DefinitionFile>(json!({ "file": "a.toml", "text": "", "based_on": "b2" }));
    order::<NewDefinition>(json!({ "keys": { "title": "Estate" }, "message": "New." }));
    order::<DefinitionPatch>(json!({
        "keys": { "title": null },
        "based_on": "c3",
        "message": "Without a title.",
    }));
    order::<DraftOrder>(json!({ "text": "title = 1\n", "keys": { "title": "Estate" } }));
    order::<ThemeText>(json!({ "text": "accent = \"#0b5fff\"\n" }));
    order::<TemplateOrder>(json!({
        "source": "harbour",
        "values": { "table": "calls" },
        "name": "harbour-calls",
        "title": "Calls",
        "report": {
            "title": "Calls of the day",
            "time_zone": "Atlantic/Faroe",
            "window": { "last": "previous-day" },
            "schedule": { "every": "day", "at": "06:00" },
            "formats": ["pdf", "csv"],
            "to": ["duty@orrin-sound.example"],
        },
    }));
    order::<TemplateReport>(json!({
        "title": "Calls",
        "time_zone": "UTC",
        "window": { "last": "previous-week" },
        "schedule": { "every": "week" },
        "formats": [],
        "to": [],
    }));
    order::<NewTemplate>(json!({
        "name": "calls",
        "title": "Calls at a quay",
        "question": "Which ships called, and for how long?",
        "purpose": "unit",
        "inputs": { "quay": "Havnes 2" },
    }));
}

#[test]
fn what_is_looked_at_before_it_is_kept() {
    order::<QueryOrder>(json!({
        "definition": "title = \"Estate\"\n",
        "dashboard": "estate",
        "query": "cpu",
        "steps": 2,
        "from": "2026-10-25T00:00:00Z",
        "to": "2026-10-26T00:00:00Z",
        "window": { "last": "previous-day" },
        "time_zone": "Atlantic/Faroe",
        "values": { "port": "havnes", "limit": 10.0, "hosts": ["db-1", "db-2"] },
        "rows": 50,
    }));
    order::<PageOrder>(json!({
        "keys": { "address": "/board" },
        "steps": 3,
        "window": { "last": "previous-week" },
        "time_zone": "UTC",
        "values": { "port": "skarvoy" },
    }));
    order::<PreviewOrder>(json!({
        "report": "estate-daily",
        "dashboard": "estate",
        "definition": "title = \"Estate\"\n",
        "block": { "section": 0, "block": 2 },
        "beside": ["title = \"Board\"\n"],
        "audience": "ports",
        "at": "2026-10-26T05:45:00Z",
        "time_zone": "Atlantic/Faroe",
        "window": { "last": "previous-day" },
        "theme": "night",
        "values": { "port": "havnes" },
        "format": "html",
    }));
    order::<BlockPlace>(json!({ "section": 1, "block": 0 }));
    order::<ChoicesOrder>(json!({ "values": { "port": "havnes" } }));
    order::<Question>(json!({
        "time_zone": "Atlantic/Faroe",
        "schedule": { "every": "day" },
        "window": { "last": "previous-day" },
        "after": "2026-10-25T00:00:00Z",
        "count": 3,
        "reader_time_zone": "UTC",
        "calendars": { "holidays": "BEGIN:VCALENDAR\r\nEND:VCALENDAR\r\n" },
    }));
    order::<Questions>(json!({ "questions": [] }));
    order::<MessageDraft>(json!({
        "subject": "Estate: {{ status }}",
        "text": "Good morning.",
        "template": "short",
        "body": "summary",
    }));
    order::<TestOrder>(json!({ "to": "duty@orrin-sound.example" }));
}

#[test]
fn users_teams_and_how_they_sign_in() {
    order::<Credentials>(json!({ "name": "runa", "password": "p", "code": "123456" }));
    order::<TokenRequest>(json!({
        "name": "runa",
        "password": "p",
        "code": "123456",
        "label": "night desk",
        "scope": "read",
        "days": 30,
    }));
    order::<TokenOrder>(json!({ "label": "night desk", "scope": "run", "days": 1 }));
    order::<NewUser>(json!({
        "name": "runa",
        "role": "author",
        "email": "runa@orrin-sound.example",
    }));
    order::<UserChange>(json!({
        "role": "viewer",
        "email": "runa@orrin-sound.example",
        "disabled": true,
        "held_to": { "port": ["havnes"] },
    }));
    order::<InvitationToken>(json!({ "token": "t" }));
    order::<Acceptance>(json!({ "token": "t", "password": "p", "code": "123456" }));
    order::<ForgottenPassword>(json!({ "name": "runa" }));
    order::<PasswordChange>(json!({ "current": "p", "new": "q" }));
    order::<PasswordAgain>(json!({ "password": "p" }));
    order::<NewPasskey>(
        json!({ "challenge": "0198f1c2-3b4d-7e5f-8a6b-7c8d9e0f1a2b", "title": "phone", "answer": {} }),
    );
    order::<PasskeyAnswer>(
        json!({ "challenge": "0198f1c2-3b4d-7e5f-8a6b-7c8d9e0f1a2b", "answer": {} }),
    );
    order::<HandOver>(json!({ "to": "ada.berg" }));
    order::<Code>(json!({ "code": "123456" }));
    order::<NewSecret>(json!({ "value": "s" }));
    order::<NewTeam>(json!({
        "name": "harbour",
        "title": "Harbour",
        "addresses": ["*@orrin-sound.example"],
    }));
    order::<TeamChange>(json!({ "title": "Harbours", "addresses": [] }));
    order::<Membership>(json!({ "owner": true }));
}

#[test]
fn what_is_published_and_kept() {
    order::<NewView>(json!({
        "dashboard": "estate",
        "snapshot": "0193c1b5-2f0a-7c44-8a51-2a4c5b0f9d10",
        "title": "Estate",
        "time_zone": "Atlantic/Faroe",
        "window": { "last": "previous-day" },
        "values": { "port": "havnes" },
        "choices": { "port": ["havnes", "skarvoy"] },
        "signed_in": true,
        "days": 7,
        "password": "p",
    }));
    order::<KeepPolicy>(json!({
        "documents": "2 years",
        "snapshots": "90 days",
        "records": "5 years",
        "most_runs": 1000,
        "most_megabytes": 2048,
        "at_least": "30 days",
    }));
    order::<KeepOrder>(json!({ "because": "The inquiry of March." }));
}
