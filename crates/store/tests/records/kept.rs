//! What is kept beside runs: users and their tokens, samples, links, secrets, definitions.

use maple_lark_api::{Role, TokenScope};
use maple_lark_store::{
    passkeys::{AddedPasskey, Challenge, StoredPasskey},
    people::{ApiToken, Session, User},
    recipients::SharedLink,
    users::{Changed, UserChange},
    views::PublishedView,
};

use super::*;

fn user(name: &str) -> User {
    User {
        password_hash: "$argon2id$".into(),
        ..User::new(name.into(), Role::Author, at(0))
    }
}

#[tokio::test]
async fn a_name_is_one_user_and_a_session_ends_when_it_says() {
    let place = Place::new().await;
    let ops = user("ops");
    assert!(place.add_user(ops.clone()).await.unwrap());
    assert!(
        !place.add_user(user("ops")).await.unwrap(),
        "the name is taken"
    );
    assert_eq!(place.user_count().await.unwrap(), 1);
    assert_eq!(place.user_by_name("ops").await.unwrap().unwrap().id, ops.id);
    assert!(place.user_by_name("OPS").await.unwrap().is_none());
    let session = |hash: &str, from: i64| Session {
        token_hash: hash.into(),
        user_id: ops.id,
        created_at: at(from),
        expires_at: at(from + 100),
        id: Uuid::now_v7(),
        address: None,
        used_with: None,
    };
    place.add_session(session("one", 0)).await.unwrap();
    let who = async |hash: &str, now: i64| {
        place
            .user_of_session(hash, at(now))
            .await
            .unwrap()
            .map(|(user, _)| user.name)
    };
    assert_eq!(who("one", 99).await.as_deref(), Some("ops"));
    assert_eq!(who("one", 100).await, None, "its end is no part of it");
    assert_eq!(who("other", 1).await, None);
    // What is over goes when somebody signs in; what is not, stays until it is ended.
    place.add_session(session("two", 50)).await.unwrap();
    assert_eq!(who("one", 60).await.as_deref(), Some("ops"));
    place.add_session(session("three", 120)).await.unwrap();
    assert_eq!(who("one", 60).await, None, "it was removed");
    place.remove_session("two").await.unwrap();
    assert_eq!(
        (who("two", 121).await, who("three", 121).await.as_deref()),
        (None, Some("ops"))
    );
}

#[tokio::test]
async fn a_token_is_its_users_alone_and_its_use_is_kept_to_the_minute() {
    let place = Place::new().await;
    let (ops, guest) = (user("ops"), user("guest"));
    place.add_user(ops.clone()).await.unwrap();
    place.add_user(guest.clone()).await.unwrap();
    let token = ApiToken {
        id: Uuid::now_v7(),
        user_id: ops.id,
        name: "laptop".into(),
        token_hash: "hash".into(),
        created_at: at(0),
        last_used_at: None,
        scope: TokenScope::Run.into(),
        expires_at: None,
    };
    place.add_token(token.clone()).await.unwrap();
    let known = async |hash, now| place.user_of_token(hash, at(now)).await.unwrap();
    let used = async || place.tokens(ops.id).await.unwrap()[0].last_used_at;
    assert_eq!(used().await, None);
    for (now, kept) in [(10, 10), (40, 10), (70, 10), (71, 71), (200, 200)] {
        let (user, _, scope) = known("hash", now).await.unwrap();
        assert_eq!((user.name.as_str(), scope), ("ops", TokenScope::Run));
        assert_eq!(used().await, Some(at(kept)), "at {now}");
    }
    assert!(known("another", 0).await.is_none());
    assert!(
        !place.remove_token(guest.id, token.id).await.unwrap(),
        "it is not theirs"
    );
    assert!(place.tokens(guest.id).await.unwrap().is_empty());
    assert!(place.remove_token(ops.id, token.id).await.unwrap());
    assert!(known("hash", 300).await.is_none());
    let ends = ApiToken {
        id: Uuid::now_v7(),
        token_hash: "ends".into(),
        expires_at: Some(at(400)),
        ..token
    };
    place.add_token(ends).await.unwrap();
    assert!(known("ends", 399).await.is_some());
    assert!(
        known("ends", 400).await.is_none(),
        "its end is no part of it"
    );
}

#[tokio::test]
async fn a_published_view_is_good_until_it_ends_or_is_revoked() {
    let place = Place::new().await;
    let view = |ends: Option<i64>, signed_in: bool| PublishedView {
        id: Uuid::now_v7(),
        dashboard: Some("board".into()),
        snapshot_id: None,
        title: "Board".into(),
        team: String::new(),
        look: serde_json::json!({}),
        signed_in,
        password_hash: None,
        expires_at: ends.map(at),
        revoked_at: None,
        opened: 0,
        last_opened_at: None,
        made_by: "ops".into(),
        made_at: at(0),
    };
    let (by_link, for_all) = (view(Some(100), false), view(None, true));
    for one in [&by_link, &for_all] {
        place.add_view(one).await.unwrap();
    }
    let good = async |id: Uuid, now: i64| {
        let found = place.view(id).await.unwrap().unwrap();
        found.is_good(at(now))
    };
    assert!(good(by_link.id, 99).await && !good(by_link.id, 100).await);
    assert!(good(for_all.id, 1_000_000).await);
    // Without an end nobody gets an address that whoever has it may open.
    assert!(place.add_view(&view(None, false)).await.is_err());
    assert!(place.revoke_view(for_all.id, at(50)).await.unwrap());
    assert!(!good(for_all.id, 51).await);
    assert!(
        !place.revoke_view(for_all.id, at(60)).await.unwrap(),
        "once"
    );
}

#[tokio::test]
async fn failed_sign_ins_are_counted_until_there_is_a_pause() {
    let place = Place::new().await;
    let pause = TimeDelta::minutes(5);
    let mut counted = Vec::new();
    for now in [0, 10, 300, 311] {
        counted.push(
            place
                .count_failure("name:ops", at(now), pause, 50)
                .await
                .unwrap(),
        );
    }
    assert_eq!(
        counted,
        [1, 2, 3, 4],
        "each is less than a pause after the one before"
    );
    assert_eq!(
        place
            .count_failure("name:ops", at(700), pause, 50)
            .await
            .unwrap(),
        1
    );
    // Many at once are all counted.
    let mut tries = tokio::task::JoinSet::new();
    for _ in 0..20 {
        let store = place.store.clone();
        tries.spawn(async move {
            store
                .count_failure("address:127.0.0.1", at(800), TimeDelta::minutes(5), 50)
                .await
                .unwrap()
        });
    }
    let mut seen: Vec<i32> = tries.join_all().await;
    seen.sort_unstable();
    assert_eq!(seen, (1..=20).collect::<Vec<_>>());
    let again = async |seconds| {
        place
            .count_failure("address:127.0.0.1", at(seconds), pause, 50)
            .await
            .unwrap()
    };
    // One that was none after all is taken back; all of them can be.
    place.forgive_failure("address:127.0.0.1").await.unwrap();
    assert_eq!(again(801).await, 20);
    place.forget_failures("address:127.0.0.1").await.unwrap();
    assert_eq!(again(802).await, 1);
    // Past the limit it is the same pause, however often somebody tries.
    let past = async |seconds| {
        place
            .count_failure("name:late", at(seconds), pause, 2)
            .await
            .unwrap()
    };
    let mut counted = Vec::new();
    for seconds in [0, 1, 2, 100, 200, 300, 303] {
        counted.push(past(seconds).await);
    }
    assert_eq!(counted, [1, 2, 3, 3, 3, 3, 1]);
    // What is old goes by itself.
    let old = at(803);
    place.forget_old_failures(old, old).await.unwrap();
    assert_eq!(again(804).await, 1);
}

#[tokio::test]
async fn a_place_is_known_to_who_has_signed_in_there_until_long_after() {
    let place = Place::new().await;
    let known = async |name: &str, address: &str| place.knows_place(name, address).await.unwrap();
    assert!(!known("ops", "192.0.2.1").await);
    for seconds in [0, 100] {
        place
            .know_place("ops", "192.0.2.1", at(seconds))
            .await
            .unwrap();
    }
    assert!(known("ops", "192.0.2.1").await);
    assert!(!known("ops", "192.0.2.2").await && !known("guest", "192.0.2.1").await);
    place.forget_old_failures(at(0), at(100)).await.unwrap();
    assert!(known("ops", "192.0.2.1").await, "it was used again");
    place.forget_old_failures(at(0), at(101)).await.unwrap();
    assert!(!known("ops", "192.0.2.1").await);
}

#[tokio::test]
async fn a_sampler_has_one_turn_for_each_instant_and_a_history_that_is_whole_or_replaced() {
    let place = Place::new().await;
    let turn = async |now: i64, next: i64| {
        place
            .take_sampler("disks", at(now), at(next))
            .await
            .unwrap()
    };
    // Two processes look at the same moment.
    let (one, other) = tokio::join!(turn(0, 60), turn(0, 60));
    assert!(one != other, "one of them has it");
    assert!(!turn(30, 60).await);
    assert!(turn(60, 120).await);
    // One that is asked more often from now on does not wait for its old turn.
    assert!(turn(61, 70).await);

    for n in 0..6 {
        place
            .keep_sample("disks", at(n * 60), serde_json::json!({ "n": n }))
            .await
            .unwrap();
    }
    place
        .keep_sample("disks", at(60), serde_json::json!({ "n": "again" }))
        .await
        .unwrap();
    let seen = async |from: i64, to: i64, before: bool, most: u64| {
        let found = place
            .samples("disks", at(from), at(to), before, most)
            .await
            .unwrap();
        found
            .into_iter()
            .map(|sample| sample.body["n"].to_string())
            .collect::<Vec<_>>()
    };
    assert_eq!(
        seen(60, 180, false, 10).await,
        ["1", "2"],
        "the first answer stays, the end is no part"
    );
    assert_eq!(
        seen(61, 180, true, 10).await,
        ["1", "2"],
        "with the one before"
    );
    assert_eq!(
        seen(0, 120, true, 10).await,
        ["0", "1"],
        "there is none before"
    );
    assert_eq!(seen(0, 1000, false, 3).await, ["0", "1", "2"]);

    place
        .replace_samples(
            "disks",
            at(0),
            at(180),
            at(0),
            serde_json::json!({ "n": "mean" }),
        )
        .await
        .unwrap();
    assert_eq!(seen(0, 1000, false, 10).await, ["\"mean\"", "3", "4", "5"]);
    assert_eq!(place.forget_samples("disks", at(240)).await.unwrap(), 2);
    let (one, other) = tokio::join!(
        place.tidy_sampler("disks", at(500), at(400)),
        place.tidy_sampler("disks", at(500), at(400))
    );
    assert!(one.unwrap() != other.unwrap(), "one of them tidies");
    place
        .note_sampler("disks", at(300), false, "no answer")
        .await
        .unwrap();
    let states = place.sampler_states().await.unwrap();
    let [state] = &states[..] else {
        panic!("{states:?}")
    };
    assert_eq!(
        (
            state.samples,
            state.since,
            state.works,
            state.detail.as_deref()
        ),
        (2, Some(at(240)), false, Some("no answer"))
    );
    place.remove_sampler("disks").await.unwrap();
    assert!(
        place.sampler_states().await.unwrap().is_empty()
            && seen(0, 1000, true, 10).await.is_empty()
    );
}

#[tokio::test]
async fn a_link_is_kept_once_counted_and_ended_with_its_run() {
    let place = Place::new().await;
    let owner = Uuid::now_v7();
    let (run, snapshot_id) = place.delivering(owner, 1).await;
    let link = |recipient: &str| SharedLink {
        id: Uuid::now_v7(),
        run_id: run.id,
        snapshot_id,
        variant: String::new(),
        recipient: recipient.into(),
        expires_at: at(1000),
        revoked_at: None,
        opened: 0,
        last_opened_at: None,
    };
    let (ada, ben) = (
        link("ada@orrin-sound.example"),
        link("ben@orrin-sound.example"),
    );
    place.keep_link(ada.clone()).await.unwrap();
    place
        .keep_link(SharedLink {
            expires_at: at(9),
            ..ada.clone()
        })
        .await
        .unwrap();
    place.keep_link(ben.clone()).await.unwrap();
    assert_eq!(
        place.link(ada.id).await.unwrap().unwrap().expires_at,
        at(1000),
        "a second try changes nothing"
    );
    place.count_opening(ada.id, at(20)).await.unwrap();
    place.count_opening(ada.id, at(30)).await.unwrap();
    let links = place.links(run.id).await.unwrap();
    assert_eq!(
        links
            .iter()
            .map(|link| (link.opened, link.last_opened_at))
            .collect::<Vec<_>>(),
        [(2, Some(at(30))), (0, None)]
    );
    assert_eq!(place.revoke_links(run.id, at(40)).await.unwrap(), 2);
    assert_eq!(place.revoke_links(run.id, at(50)).await.unwrap(), 0);
    assert_eq!(
        place.link(ben.id).await.unwrap().unwrap().revoked_at,
        Some(at(40))
    );
}

#[tokio::test]
async fn who_has_left_a_report_stays_away_from_it_alone() {
    let place = Place::new().await;
    place
        .unsubscribe("daily", "Ada@Orrin-Sound.example", at(1))
        .await
        .unwrap();
    place
        .unsubscribe("daily", "ada@orrin-sound.example", at(2))
        .await
        .unwrap();
    place
        .unsubscribe("weekly", "ben@orrin-sound.example", at(3))
        .await
        .unwrap();
    let left = place.unsubscribes(Some("daily")).await.unwrap();
    assert_eq!(
        left.iter()
            .map(|one| (one.address.as_str(), one.unsubscribed_at))
            .collect::<Vec<_>>(),
        [("ada@orrin-sound.example", at(1))]
    );
    assert_eq!(place.unsubscribes(None).await.unwrap().len(), 2);
    assert!(
        !place
            .remove_unsubscribe("weekly", "ada@orrin-sound.example")
            .await
            .unwrap()
    );
    assert!(
        place
            .remove_unsubscribe("daily", "ADA@orrin-sound.example")
            .await
            .unwrap()
    );
    assert!(place.unsubscribes(Some("daily")).await.unwrap().is_empty());
}

#[tokio::test]
async fn a_secret_is_replaced_whole_and_gone_when_removed() {
    let place = Place::new().await;
    place
        .put_secret("reader", vec![1, 2, 3], "ops", at(1), None)
        .await
        .unwrap();
    place
        .put_secret("reader", vec![4], "ada", at(2), None)
        .await
        .unwrap();
    place
        .put_secret("mail", vec![5], "ops", at(3), None)
        .await
        .unwrap();
    let names = place.secret_names().await.unwrap();
    let seen: Vec<_> = names
        .iter()
        .map(|one| (one.name.as_str(), one.updated_by.as_str(), one.updated_at))
        .collect();
    assert_eq!(seen, [("mail", "ops", at(3)), ("reader", "ada", at(2))]);
    assert_eq!(place.sealed_secret("reader").await.unwrap(), Some(vec![4]));
    assert!(
        place.remove_secret("reader", None).await.unwrap()
            && !place.remove_secret("reader", None).await.unwrap()
    );
    assert_eq!(place.sealed_secret("reader").await.unwrap(), None);
}

#[tokio::test]
async fn definitions_change_together_and_a_rule_that_stays_keeps_its_instant() {
    let place = Place::new().await;
    let definition = |kind: &str, name: &str, text: &str, seconds: i64| StoredDefinition {
        kind: kind.into(),
        name: name.into(),
        title: name.into(),
        file: format!("{name}.toml"),
        text: text.into(),
        updated_at: at(seconds),
        updated_by: "ops".into(),
    };
    let rule = |text: &str, first: i64, most_runs| Rule {
        report: "daily".into(),
        rule: text.into(),
        first: Some(at(first)),
        most_runs,
    };
    let first = place.definitions_version().await.unwrap();
    let put = vec![
        definition("report", "daily", "a", 1),
        definition("source", "daily", "b", 1),
    ];
    place
        .change_definitions(Change {
            based_on: place.definitions_version().await.unwrap(),
            paused: Vec::new(),
            put,
            remove: Vec::new(),
            schedules: vec![rule("every day", 100, None)],
            saved: saved(),
        })
        .await
        .unwrap();
    let second = place.definitions_version().await.unwrap();
    assert!(second > first);
    // What was checked against the version before is not written over this one.
    let late = place.change_definitions(Change {
        based_on: first,
        remove: vec![("source".into(), "daily".into())],
        ..change()
    });
    assert!(matches!(late.await, Err(StoreError::DefinitionsChanged)));
    assert_eq!(place.definitions().await.unwrap().len(), 2);
    // A kind and a name are one definition; another kind may have the same name.
    assert_eq!(
        place
            .definition("source", "daily")
            .await
            .unwrap()
            .unwrap()
            .text,
        "b"
    );
    place
        .change_definitions(Change {
            based_on: place.definitions_version().await.unwrap(),
            paused: Vec::new(),
            put: vec![definition("report", "daily", "c", 2)],
            remove: Vec::new(),
            schedules: vec![rule("every day", 500, None)],
            saved: saved(),
        })
        .await
        .unwrap();
    assert_ne!(second, place.definitions_version().await.unwrap());
    assert_eq!(
        place.first_due().await.unwrap(),
        Some(at(100)),
        "the rule is the same, so its next instant is"
    );
    place
        .change_definitions(Change {
            based_on: place.definitions_version().await.unwrap(),
            paused: Vec::new(),
            put: Vec::new(),
            remove: Vec::new(),
            schedules: vec![rule("every hour", 500, None)],
            saved: saved(),
        })
        .await
        .unwrap();
    assert_eq!(place.first_due().await.unwrap(), Some(at(500)));
    // One text that cannot be kept leaves everything as it was.
    let half = vec![
        definition("dashboard", "new", "fine", 3),
        definition("dashboard", "bad", "a\0b", 3),
    ];
    let refused = place
        .change_definitions(Change {
            based_on: place.definitions_version().await.unwrap(),
            paused: Vec::new(),
            put: half,
            remove: vec![("source".into(), "daily".into())],
            schedules: Vec::new(),
            saved: saved(),
        })
        .await;
    assert!(
        matches!(refused, Err(StoreError::NulCharacter)),
        "{refused:?}"
    );
    let names: Vec<_> = place
        .definitions()
        .await
        .unwrap()
        .into_iter()
        .map(|one| (one.kind, one.text))
        .collect();
    assert_eq!(
        names,
        [
            ("report".to_owned(), "c".to_owned()),
            ("source".to_owned(), "b".to_owned())
        ]
    );
    assert_eq!(place.first_due().await.unwrap(), Some(at(500)));
    // A report without a schedule is due never.
    place
        .change_definitions(Change {
            based_on: place.definitions_version().await.unwrap(),
            paused: Vec::new(),
            put: Vec::new(),
            remove: vec![("source".into(), "daily".into())],
            schedules: Vec::new(),
            saved: saved(),
        })
        .await
        .unwrap();
    assert_eq!(
        (
            place.first_due().await.unwrap(),
            place.definitions().await.unwrap().len()
        ),
        (None, 1)
    );
    // Whatever it was, it can be looked at, and its end is on record.
    let all = place.versions("report", "daily", 1, 10).await.unwrap();
    let texts: Vec<Option<&str>> = all.iter().map(|one| one.text.as_deref()).collect();
    assert_eq!(all.len() as i32, all[0].version);
    assert_eq!(texts.last(), Some(&Some("a")));
    assert!(
        all.windows(2)
            .all(|two| two[0].before == two[1].text && two[0].version == two[1].version + 1),
        "{texts:?}"
    );
    let first = place.version("report", "daily", 1).await.unwrap().unwrap();
    assert_eq!((first.text.as_deref(), first.before), (Some("a"), None));
    assert!(
        place
            .version("report", "daily", 99)
            .await
            .unwrap()
            .is_none()
    );
    let further = place.versions("report", "daily", 2, 10).await.unwrap();
    assert!(further.is_empty());
    let gone = place.definition("report", "daily").await.unwrap().is_none();
    assert_eq!(gone, texts[0].is_none(), "{texts:?}");
}

#[tokio::test]
async fn invitations_are_good_once_and_until_they_end() {
    let place = Place::new().await;
    let ops = user("ops");
    place.add_user(ops.clone()).await.unwrap();
    let invite = async |hash: &str| place.add_invitation(ops.id, hash, at(0), at(100)).await;
    invite("first").await.unwrap();
    invite("second").await.unwrap();
    let invited = async |hash: &str, now: i64| place.invited(hash, at(now)).await.unwrap();
    assert!(
        invited("first", 1).await.is_none(),
        "the next takes its place"
    );
    assert!(
        invited("second", 100).await.is_none(),
        "its end is no part of it"
    );
    let (found, until) = invited("second", 99).await.unwrap();
    assert_eq!((found.name.as_str(), until), ("ops", at(100)));
    let session = Session {
        token_hash: "cookie".into(),
        user_id: ops.id,
        created_at: at(0),
        expires_at: at(1000),
        id: Uuid::now_v7(),
        address: None,
        used_with: None,
    };
    place.add_session(session).await.unwrap();
    let accept = async |now: i64| {
        place
            .accept_invitation("second", "new", at(now))
            .await
            .unwrap()
    };
    assert!(accept(100).await.is_none());
    assert_eq!(accept(99).await.unwrap().password_hash, "new");
    assert!(accept(99).await.is_none(), "once");
    assert!(place.sessions(ops.id, at(99)).await.unwrap().is_empty());
}

#[tokio::test]
async fn there_is_always_an_administrator_whoever_goes_at_once() {
    let place = Place::new().await;
    for name in ["a", "b", "c"] {
        let one = User {
            role: Role::Administrator.into(),
            ..user(name)
        };
        place.add_user(one).await.unwrap();
    }
    let invited = User {
        role: Role::Administrator.into(),
        password_hash: String::new(),
        ..user("invited")
    };
    place.add_user(invited).await.unwrap();
    let demoted = UserChange {
        role: Some(Role::Viewer),
        ..UserChange::default()
    };
    let disabled = UserChange {
        disabled: Some(true),
        ..UserChange::default()
    };
    let (a, b, c) = tokio::join!(
        place.change_user("a", &demoted, at(1)),
        place.change_user("b", &disabled, at(1)),
        place.remove_user("c"),
    );
    let came = [a.unwrap(), b.unwrap(), c.unwrap()];
    let kept = came
        .iter()
        .filter(|one| **one == Changed::LastAdministrator);
    assert_eq!(kept.count(), 1, "{came:?}");
    assert_eq!(place.remove_user("nobody").await.unwrap(), Changed::Unknown);
    // One who has not accepted yet is nobody to rely on, and can go.
    assert_eq!(place.remove_user("invited").await.unwrap(), Changed::Done);
    let page = place.users(at(2), 1, 10).await.unwrap();
    assert_eq!(page.total as usize, page.items.len());
}

#[tokio::test]
async fn what_a_device_is_asked_is_good_once_for_whom_it_was_asked_and_for_a_while() {
    let place = Place::new().await;
    let (ann, bob) = (user("ann"), user("bob"));
    for one in [&ann, &bob] {
        place.add_user(one.clone()).await.unwrap();
    }
    let ask = async |user_id: Option<Uuid>, now: i64| {
        let one = Challenge {
            id: Uuid::new_v4(),
            user_id,
            state: serde_json::json!({ "asked": now }),
            expires_at: at(now + 300),
        };
        place.keep_challenge(&one, at(now)).await.unwrap();
        one.id
    };
    let take = async |id: Uuid, user: Option<Uuid>, now: i64| {
        place.take_challenge(id, user, at(now)).await.unwrap()
    };
    let of_ann = ask(Some(ann.id), 0).await;
    for (user, now) in [(Some(bob.id), 1), (None, 1), (Some(ann.id), 300)] {
        assert!(take(of_ann, user, now).await.is_none());
    }
    assert!(take(of_ann, Some(ann.id), 299).await.is_some());
    assert!(take(of_ann, Some(ann.id), 299).await.is_none());
    let of_anybody = ask(None, 0).await;
    assert!(take(of_anybody, Some(ann.id), 1).await.is_none());
    assert_eq!(take(of_anybody, None, 1).await.unwrap()["asked"], 0);
    // What nobody answered goes with the next question.
    ask(None, 0).await;
    ask(None, 400).await;
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    let left: i64 = sqlx::query_scalar("select count(*) from passkey_challenges")
        .fetch_one(&mut records)
        .await
        .unwrap();
    assert_eq!(left, 1);

    let key = |owner: &User, credential: &str| StoredPasskey {
        id: Uuid::now_v7(),
        user_id: owner.id,
        title: "Phone".to_owned(),
        credential: credential.to_owned(),
        passkey: serde_json::json!({ "count": 1 }),
        created_at: at(0),
        last_used_at: None,
    };
    let first = key(&ann, "one");
    let add = async |one: &StoredPasskey, most| place.add_passkey(one, most).await.unwrap();
    assert_eq!(add(&first, 20).await, AddedPasskey::Kept);
    assert_eq!(add(&key(&bob, "one"), 20).await, AddedPasskey::Known);
    // Of many at a time, no more than there may be.
    let many: Vec<StoredPasskey> = (0..8).map(|n| key(&bob, &format!("of-bob-{n}"))).collect();
    let added = futures::future::join_all(many.iter().map(|one| add(one, 3))).await;
    let kept = added.iter().filter(|one| **one == AddedPasskey::Kept);
    assert_eq!(kept.count(), 3, "{added:?}");
    assert_eq!(place.passkeys(bob.id).await.unwrap().len(), 3);
    assert_eq!(add(&key(&ann, "two"), 20).await, AddedPasskey::Kept);
    assert_eq!(place.passkey("one").await.unwrap().unwrap(), first);
    let used = place.used_passkey(first.id, Some(serde_json::json!({ "count": 2 })), at(9));
    assert!(used.await.unwrap());
    let kept = place.passkey("one").await.unwrap().unwrap();
    assert_eq!(
        (kept.passkey["count"].as_i64(), kept.last_used_at),
        (Some(2), Some(at(9)))
    );
    assert_eq!(place.passkeys(ann.id).await.unwrap().len(), 2);
    assert!(!place.remove_passkey(bob.id, first.id).await.unwrap());
    assert!(place.remove_passkey(ann.id, first.id).await.unwrap());
    assert!(!place.used_passkey(first.id, None, at(10)).await.unwrap());
    assert_eq!(place.remove_passkeys(ann.id).await.unwrap(), 1);
}
