//! What somebody sends by hand: to one address, again, later, and what awaits approval.

use mail_parser::{Message, MessageParser, MimeHeaders};
use serde_json::json;

use crate::place::{mails, ran, ready, small_report, text, wait_for};

#[tokio::test(flavor = "multi_thread")]
async fn who_left_is_not_written_to_again_and_what_was_only_made_can_be_sent_later() {
    let (place, _service) = ready().await;
    // A report that is for nobody yet can be sent to somebody.
    let nobody = small_report()
        .key("name", "nobodys")
        .instead_of("[[audience]]", "");
    let output = place.apply(&[("nobodys.toml", &nobody)]);
    assert!(!output.status.success(), "its dashboard is not there yet");
    place.apply_small(&small_report());
    let output = place.apply(&[("nobodys.toml", &nobody)]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    let sent = place.json(&["send", "nobodys", "--to", "me@orrin-sound.example"]);
    assert_eq!(sent["state"], "delivered", "{sent:#}");

    // Only made first, sent later, as it was.
    let made = place.json(&["run", "small", "--no-delivery"]);
    assert_eq!(made["state"], "completed", "{made:#}");
    let id = made["id"].as_str().unwrap();
    let output = place.lark(&["release", id]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    let after = wait_for(&place, id, "the mails", |run| run["state"] == "delivered");
    assert_eq!(after["documents"], made["documents"]);
    // What is made for nobody does not take its place as the outcome of the report.
    place.json(&["run", "small", "--no-delivery"]);
    let reports = place.json(&["reports"]);
    let small = reports
        .as_array()
        .unwrap()
        .iter()
        .find(|one| one["name"] == "small");
    assert_eq!(small.unwrap()["last_run"]["id"], id);

    let mut records = place.records().await;
    sqlx::query("insert into unsubscribes (report, address, unsubscribed_at) values ('small', 'b@orrin-sound.example', now())")
        .execute(&mut records)
        .await
        .unwrap();
    for named in [
        ["--recipient", "b@orrin-sound.example"],
        ["--to", "B@orrin-sound.example"],
    ] {
        let output = place.lark(&["resend", id, named[0], named[1]]);
        let said = text(&output.stderr);
        assert!(
            !output.status.success()
                && said.contains(
                    "b@orrin-sound.example has unsubscribed from this report; nothing was sent"
                ),
            "{said}"
        );
    }
    // Of all, the others get theirs.
    place.json(&["resend", id]);
    wait_for(&place, id, "the copy", |run| {
        let copies = run["deliveries"].as_array().unwrap().iter();
        copies
            .filter(|one| one["copy"] == 1 && one["state"] == "accepted")
            .count()
            == 1
    });
    let mails = mails(&place, 4);
    assert_eq!(mails["a@orrin-sound.example"].len(), 2);
    assert_eq!(mails["b@orrin-sound.example"].len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_goes_to_one_address_alone_and_past_ones_are_sent_again_as_copies() {
    let (place, _service) = ready().await;
    place.apply_small(&small_report());
    let sent = place.json(&[
        "send",
        "small",
        "--to",
        "me@orrin-sound.example",
        "--note",
        "Just to look",
    ]);
    assert_eq!(sent["state"], "delivered");
    assert_eq!(
        mails(&place, 1).keys().collect::<Vec<_>>(),
        ["me@orrin-sound.example"]
    );
    let first = place.mail.messages().remove(0);
    let message = MessageParser::default().parse(&first).unwrap();
    let body = message.body_text(0).unwrap().replace("\r\n", "\n");
    assert!(
        body.starts_with(
            "Sent at the request of admin, outside the schedule of this report.\nJust to look\n"
        ),
        "{body}"
    );

    let run = ran(&place, "small");
    let id = run["id"].as_str().unwrap();
    let copies = place.json(&[
        "resend",
        id,
        "--recipient",
        "b@orrin-sound.example",
        "--to",
        "auditor@orrin-sound.example",
        "--note",
        "For the audit",
    ]);
    assert_eq!(copies["state"], "delivered", "the run stays what it was");
    let after = wait_for(&place, id, "the copies", |run| {
        run["deliveries"]
            .as_array()
            .unwrap()
            .iter()
            .all(|one| one["state"] == "accepted")
    });
    let deliveries = after["deliveries"].as_array().unwrap();
    assert_eq!(
        deliveries
            .iter()
            .map(|one| one["copy"].as_i64().unwrap())
            .collect::<Vec<_>>(),
        [0, 0, 1, 1]
    );
    let mails = mails(&place, 5);
    let copy = MessageParser::default()
        .parse(&mails["auditor@orrin-sound.example"][0])
        .unwrap();
    let original = MessageParser::default()
        .parse(&mails["a@orrin-sound.example"][0])
        .unwrap();
    assert!(
        copy.body_text(0)
            .unwrap()
            .contains("This is a copy, sent again by admin.")
            && copy.body_text(0).unwrap().contains("For the audit")
    );
    assert_ne!(copy.message_id(), original.message_id());
    let files = |message: &Message<'_>| {
        message
            .attachments()
            .filter_map(|part| Some((part.attachment_name()?.to_owned(), part.contents().to_vec())))
            .collect::<Vec<_>>()
    };
    assert_eq!(
        files(&copy),
        files(&original),
        "the same documents, byte by byte"
    );
    assert_eq!(mails["b@orrin-sound.example"].len(), 2);

    for (arguments, words) in [
        (
            vec!["resend", id, "--recipient", "nobody@orrin-sound.example"],
            "nobody@orrin-sound.example got nothing of this run",
        ),
        (
            vec!["resend", id, "--to", "nonsense"],
            "\"nonsense\" is not a mail address",
        ),
        (
            vec!["send", "small", "--to", "nonsense"],
            "\"nonsense\" is not a mail address",
        ),
        (vec!["release", id], "the run is delivered"),
    ] {
        let output = place.lark(&arguments);
        assert!(
            !output.status.success() && text(&output.stderr).contains(words),
            "{arguments:?}: {}",
            text(&output.stderr)
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_waits_for_a_look_and_goes_out_when_released_or_not_at_all() {
    let (place, _service) = ready().await;
    let approval = |end: &str| small_report().table(&format!("[approval]\n{end}"));
    place.apply_small(&approval("deadline = \"PT1H\""));
    let run = place.json(&["run", "small"]);
    assert_eq!(
        (&run["state"], &run["settled"]),
        (&json!("awaiting-approval"), &json!(false))
    );
    let id = run["id"].as_str().unwrap();
    assert!(place.mail.messages().is_empty(), "nobody has it yet");
    assert_eq!(place.json(&["release", id])["released_by"], "admin");
    assert_eq!(place.settled(id)["state"], "delivered");
    assert_eq!(mails(&place, 2).len(), 2);

    let mut records = place.records().await;
    for (end, state) in [
        ("at-deadline = \"cancel\"", "cancelled"),
        ("at-deadline = \"send\"", "delivered"),
    ] {
        place.apply_small(&approval(&format!("deadline = \"PT1H\"\n{end}")));
        let id = place.json(&["run", "small"])["id"]
            .as_str()
            .unwrap()
            .to_owned();
        sqlx::query("update runs set approval_deadline = now() - interval '1 second' where state = 'awaiting-approval'").execute(&mut records).await.unwrap();
        let run = place.settled(&id);
        assert_eq!(run["state"], state, "{run:#}");
    }
    assert_eq!(place.mail.messages().len(), 4);
}
