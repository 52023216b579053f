//! Mail servers that are slow, hang up, are limited or have full mailboxes.

use std::time::Duration;

use maple_lark_demo::{RealMailServer, mail_server::HangUp};
use serde_json::Value;

use crate::{
    channels::notices,
    place::{
        Place, applied, mails, message_ids, ran, ready, small_report, small_report_for, until,
        wait_for,
    },
};

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_hangs_up_gets_the_same_message_again_and_what_is_unsure_is_counted() {
    let (place, _service) = ready().await;
    let one = small_report_for("a@orrin-sound.example");
    place.apply_small(&one);
    for (points, mails_then, outcomes) in [
        (vec![HangUp::BeforeData], 1, vec!["postponed", "accepted"]),
        (vec![HangUp::AfterData], 2, vec!["unknown", "accepted"]),
    ] {
        let before = place.mail.messages().len();
        place
            .mail
            .behave(|behaviour| behaviour.hang_up = points.clone());
        let run = ran(&place, "small");
        assert_eq!(run["state"], "delivered", "{run:#}");
        let attempts = run["deliveries"][0]["attempts"].as_array().unwrap();
        assert_eq!(
            attempts
                .iter()
                .map(|attempt| attempt["outcome"].as_str().unwrap())
                .collect::<Vec<_>>(),
            outcomes
        );
        let mut ids = message_ids(&place).split_off(before);
        assert_eq!(ids.len(), mails_then);
        ids.dedup();
        assert_eq!(ids.len(), 1, "a mailbox that sees both knows them as one");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_takes_longer_than_a_lease_gets_each_message_once() {
    let (place, _service) = ready().await;
    let _other = place.serve_another();
    // The lease is two seconds here.
    place
        .mail
        .behave(|behaviour| behaviour.slow = Duration::from_secs(5));
    place.apply_small(&small_report());
    let run = ran(&place, "small");
    assert_eq!(run["state"], "delivered");
    for delivery in run["deliveries"].as_array().unwrap() {
        assert_eq!(
            delivery["attempts"].as_array().unwrap().len(),
            1,
            "{delivery:#}"
        );
    }
    assert!(
        mails(&place, 2)
            .values()
            .all(|messages| messages.len() == 1)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_mailbox_is_tried_again_while_the_others_have_their_mail_and_lateness_is_told() {
    let server = RealMailServer::start().unwrap();
    let place = Place::new().await;
    place.mail_goes_to(server.port);
    place.add_to_configuration("[notices]\nto = \"desk@orrin-sound.example\"\ngather = \"PT1S\"\n");
    let _service = place.serve();
    place.sign_in();
    let report = small_report()
        .instead_of("[[audience]]", "")
        .to(
            "everyone",
            &["a@orrin-sound.example", "full@orrin-sound.example"],
        )
        .table("[deliver]\nlate-after = \"PT1M\"");
    place.apply_small(&report);
    let id = place.json(&["run", "small", "--detach"])["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let run = wait_for(&place, &id, "a second attempt", |run| {
        let list = run["deliveries"].as_array().unwrap();
        list.len() == 2
            && list[0]["state"] == "accepted"
            && list[1]["attempts"].as_array().unwrap().len() >= 2
    });
    assert_eq!(run["state"], "delivering");
    let attempts = run["deliveries"][1]["attempts"].as_array().unwrap();
    assert!(
        attempts
            .iter()
            .all(|attempt| attempt["outcome"] != "accepted" && attempt["outcome"] != "refused"),
        "{attempts:#?}"
    );
    assert!(
        attempts[0]["answer"]
            .as_str()
            .unwrap()
            .contains("the disk is full"),
        "{attempts:#?}"
    );
    assert_eq!(server.messages().len(), 1);
    // As if it had been due some time ago.
    assert!(notices(&place, "late").is_empty());
    let mut records = place.records().await;
    sqlx::query("update runs set cause = 'schedule', scheduled_for = now() - interval '3 minutes'")
        .execute(&mut records)
        .await
        .unwrap();
    let late = until("the notice", || notices(&place, "late").pop());
    assert!(
        late["text"]
            .as_str()
            .unwrap()
            .contains("is late: 3 min after its instant it is still delivering"),
        "{late:#}"
    );
    assert!(place.lark(&["cancel", &id]).status.success());
    assert_eq!(place.settled(&id)["state"], "cancelled");
    assert_eq!(notices(&place, "late").len(), 1, "it is told once");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_limit_of_messages_a_minute_is_kept() {
    let (place, _service) = ready().await;
    let server = format!(
        "[channel]\nname = \"limited\"\nkind = \"mail-server\"\nhost = \"127.0.0.1\"\nport = {}\ntls = \"off\"\nfrom = \"x@orrin-sound.example\"\nrate-per-minute = 3\n",
        place.mail.address.port()
    );
    applied(&place, &[("limited.toml", &server)]);
    let many: Vec<String> = (0..8)
        .map(|n| format!("p{n}@orrin-sound.example"))
        .collect();
    let limited = small_report()
        .key("name", "many")
        .instead_of("[[audience]]", "")
        .to(
            "everyone",
            &many.iter().map(String::as_str).collect::<Vec<_>>(),
        )
        .table("[deliver]\nmail-server = \"limited\"");
    place.apply_small(&small_report());
    applied(&place, &[("many.toml", &limited)]);
    let id = place.json(&["run", "many", "--detach"])["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let accepted = |run: &Value| {
        run["deliveries"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|one| one["state"] == "accepted")
            .count()
    };
    wait_for(&place, &id, "the first three", |run| accepted(run) == 3);
    // Others go their way meanwhile, and the limit holds.
    for _ in 0..3 {
        assert_eq!(ran(&place, "small")["state"], "delivered");
    }
    let run = place.json(&["show", &id]);
    assert_eq!(
        (accepted(&run), run["state"].as_str()),
        (3, Some("delivering"))
    );
    // A minute later the next three may go.
    let mut records = place.records().await;
    sqlx::query("update delivery_attempts set started_at = started_at - interval '2 minutes'")
        .execute(&mut records)
        .await
        .unwrap();
    wait_for(&place, &id, "the next three", |run| accepted(run) == 6);
    assert!(place.lark(&["cancel", &id]).status.success());
}
