//! Documents are found by what they say, by what they are of and by who got them.

use chrono::TimeDelta;
use maple_lark_api::{DeliveryState, Format};
use maple_lark_store::{
    archive::{ArchiveFilter, ArchiveOrder, Reader},
    pictures::Pictures,
    teams::Sight,
};
use uuid::Uuid;

use super::{LEASE, Place, at, document, run, snapshot};

impl Place {
    /// A run with one snapshot and a document of each name; answers with the snapshot.
    async fn archived(
        &self,
        report: &str,
        team: &str,
        seconds: i64,
        files: &[&str],
    ) -> (Uuid, Uuid) {
        let mut new = run(Uuid::now_v7(), report, seconds);
        new.team = team.to_owned();
        self.add_run(&new).await.unwrap();
        let claimed = self
            .claim_run(Uuid::now_v7(), at(10_000 + seconds), LEASE, &[], None)
            .await;
        let claim = claimed.unwrap().unwrap().claim();
        let kept = snapshot(new.id, b"{}".to_vec());
        self.keep_snapshot(claim, kept.clone(), &Pictures::new(), None)
            .await
            .unwrap();
        let documents = files.iter().map(|name| {
            let mut one = document(new.id, kept.id, name, name.as_bytes().to_vec());
            one.created_at = at(seconds);
            one
        });
        self.keep_documents(claim, documents.collect(), None)
            .await
            .unwrap();
        self.judge_snapshot(
            claim,
            kept.id,
            if seconds > 100 { "critical" } else { "ok" },
            None,
        )
        .await
        .unwrap();
        // Whatever works on it is done with it.
        let mut records = self.cluster.connect("maple_lark").await.unwrap();
        sqlx::query("update runs set state = 'completed', lease_owner = null, lease_until = null where id = $1")
            .bind(new.id)
            .execute(&mut records)
            .await
            .unwrap();
        (new.id, kept.id)
    }

    /// A mail with a snapshot, and what came of it.
    async fn sent(&self, snapshot: Uuid, recipient: &str, state: DeliveryState) {
        let (id, key) = (Uuid::now_v7(), Uuid::now_v7().to_string());
        let mut records = self.cluster.connect("maple_lark").await.unwrap();
        sqlx::query("insert into deliveries (id, run_id, snapshot_id, audience, channel, recipient, state, message_id, next_attempt_at, created_at) \
             select $1, run_id, id, 'all', 'mail', $2, $3, $4, created_at, created_at from snapshots where id = $5")
            .bind(id)
            .bind(recipient)
            .bind(maple_lark_api::Words::word(state))
            .bind(key)
            .bind(snapshot)
            .execute(&mut records)
            .await
            .unwrap();
    }

    async fn names(
        &self,
        filter: &ArchiveFilter,
        sight: &Sight,
        order: ArchiveOrder,
    ) -> Vec<String> {
        let found = self.archive(filter, sight, order, 1, 50).await.unwrap();
        assert_eq!(found.total, found.items.len() as u64);
        found.items.into_iter().map(|one| one.file_name).collect()
    }
}

#[tokio::test]
async fn documents_are_found_by_what_they_say_and_by_who_got_them() {
    let place = Place::new().await;
    let (_, first) = place.archived("daily", "", 0, &["a.csv"]).await;
    let (_, second) = place
        .archived("disks", "", 200, &["b.csv", "longer.csv"])
        .await;
    let (_, third) = place.archived("crew", "crew", 300, &["c.csv"]).await;
    // They are read once; of what says nothing nothing is kept.
    let unread = place.unread_snapshots(10).await.unwrap();
    let ids: Vec<Uuid> = unread.iter().map(|one| one.id).collect();
    assert_eq!(ids, [first, second, third]);
    assert!(unread.iter().all(|one| one.has_documents));
    place
        .keep_text(first, Some("Kiosks of Havnes\nhavnes-kiosk-3 failed"))
        .await
        .unwrap();
    place
        .keep_text(second, Some("disk of db-2 is 92.6 % full\0, db-1 is not"))
        .await
        .unwrap();
    place.keep_text(third, None).await.unwrap();
    assert!(place.unread_snapshots(10).await.unwrap().is_empty());

    let all = &Sight::All;
    let words = async |words: &str| {
        let filter = ArchiveFilter {
            words: Some(words.to_owned()),
            ..ArchiveFilter::default()
        };
        place.names(&filter, all, ArchiveOrder::Oldest).await
    };
    assert_eq!(words("db-2").await, ["b.csv", "longer.csv"]);
    assert_eq!(
        words("KIOSKS failed").await,
        ["a.csv"],
        "all of the words, however they are written"
    );
    assert_eq!(words("\"of havnes\"").await, ["a.csv"]);
    assert_eq!(words("\"failed kiosks\"").await, Vec::<String>::new());
    assert_eq!(words("disk -full").await, Vec::<String>::new());
    assert_eq!(
        words("db-2 or kiosk-3").await.len(),
        2 + usize::from(words("kiosk-3").await.len() == 1)
    );
    assert_eq!(
        words("'); drop table documents; --").await,
        Vec::<String>::new()
    );
    let filter = ArchiveFilter {
        words: Some("db-2".to_owned()),
        ..ArchiveFilter::default()
    };
    let found = place
        .archive(&filter, all, ArchiveOrder::Newest, 1, 1)
        .await
        .unwrap();
    assert_eq!((found.total, found.items.len(), found.more), (2, 1, false));
    let text = found.items[0].found.clone().unwrap();
    assert!(text.contains("disk of ⟦db⟧⟦-2⟧ is"), "{text}");

    let none = ArchiveFilter::default();
    assert_eq!(
        place.names(&none, all, ArchiveOrder::Largest).await,
        ["longer.csv", "c.csv", "b.csv", "a.csv"].map(str::to_owned)
    );
    assert_eq!(
        place.names(&none, all, ArchiveOrder::Report).await[0],
        "c.csv"
    );
    let port = Sight::Teams(vec!["port".to_owned()]);
    assert_eq!(
        place.names(&none, &port, ArchiveOrder::Newest).await.len(),
        3,
        "none of the crew's"
    );
    for (filter, count) in [
        (
            ArchiveFilter {
                reports: Some(vec!["disks".to_owned()]),
                ..none.clone()
            },
            2,
        ),
        (
            ArchiveFilter {
                reports: Some(Vec::new()),
                ..none.clone()
            },
            0,
        ),
        (
            ArchiveFilter {
                from: Some(at(200)),
                ..none.clone()
            },
            3,
        ),
        (
            ArchiveFilter {
                to: Some(at(200)),
                ..none.clone()
            },
            1,
        ),
        (
            ArchiveFilter {
                about: Some(at(-1800)),
                ..none.clone()
            },
            4,
        ),
        (
            ArchiveFilter {
                about: Some(at(250)),
                ..none.clone()
            },
            1,
        ),
        (
            ArchiveFilter {
                format: Some(Format::Pdf),
                ..none.clone()
            },
            0,
        ),
        (
            ArchiveFilter {
                status: Some("critical".to_owned()),
                ..none.clone()
            },
            3,
        ),
        (
            ArchiveFilter {
                at_least: Some(6),
                ..none.clone()
            },
            1,
        ),
    ] {
        assert_eq!(
            place.names(&filter, all, ArchiveOrder::Newest).await.len(),
            count,
            "{filter:?}"
        );
    }

    // What was accepted for an address is what was sent to it.
    for (snapshot, recipient, state) in [
        (
            first,
            "Runa Holm <Runa@Orrin-Sound.example>",
            DeliveryState::Accepted,
        ),
        (second, "runa@orrin-sound.example", DeliveryState::Refused),
        (
            second,
            "desk_1@orrin-sound.example",
            DeliveryState::Accepted,
        ),
    ] {
        place.sent(snapshot, recipient, state).await;
    }
    let sent = async |to: &str| {
        let filter = ArchiveFilter {
            recipient: Some(to.to_owned()),
            ..ArchiveFilter::default()
        };
        place.names(&filter, all, ArchiveOrder::Oldest).await
    };
    assert_eq!(sent("runa@orrin-sound.example").await, ["a.csv"]);
    assert_eq!(
        sent("una@orrin-sound.example").await,
        Vec::<String>::new(),
        "an address is a whole one"
    );
    assert_eq!(sent("desk_1").await, ["b.csv", "longer.csv"]);
    assert_eq!(
        sent("deskX1").await,
        Vec::<String>::new(),
        "a sign is itself"
    );
    assert_eq!(sent("@orrin-sound").await.len(), 3);
    let found = place
        .archive(&none, all, ArchiveOrder::Oldest, 1, 1)
        .await
        .unwrap();
    assert_eq!(found.items[0].sent, 1);

    // What was sent to somebody is theirs to find, whichever team it is of; what was refused is not.
    place
        .sent(
            third,
            "Lead <Lead@Orrin-Sound.example>",
            DeliveryState::Accepted,
        )
        .await;
    place
        .sent(third, "other@orrin-sound.example", DeliveryState::Refused)
        .await;
    let nobodys = Sight::Teams(Vec::new());
    for (address, count) in [
        (Some("lead@orrin-sound.example"), 4),
        (Some("LEAD@orrin-sound.example"), 4),
        (Some("other@orrin-sound.example"), 3),
        (Some("%"), 3),
        (None, 3),
    ] {
        let reader = Reader {
            sight: &nobodys,
            address,
        };
        let found = place.archive(&none, reader, ArchiveOrder::Oldest, 1, 50);
        let found = found.await.unwrap();
        assert_eq!(found.items.len(), count, "{address:?}");
        let was = place.was_sent_to(third, reader).await.unwrap();
        assert_eq!(was, count == 4, "{address:?}");
        assert!(!place.was_sent_to(first, reader).await.unwrap());
    }
}

#[tokio::test]
async fn who_was_sent_a_document_does_not_learn_who_else_was() {
    let place = Place::new().await;
    let (_, crew) = place.archived("crew", "crew", 0, &["crew.csv"]).await;
    let (_, shared) = place.archived("daily", "", 200, &["daily.csv"]).await;
    for snapshot in [crew, shared] {
        for address in [
            "lead@orrin-sound.example",
            "Else <Else@Orrin-Sound.example>",
        ] {
            place.sent(snapshot, address, DeliveryState::Accepted).await;
        }
    }
    let lead = Some("lead@orrin-sound.example");
    let port = Sight::Teams(vec!["port".to_owned()]);
    let of_crew = Sight::Teams(vec!["crew".to_owned()]);
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    sqlx::query(r#"update snapshots set chosen = '{"ship": ["7"]}'"#)
        .execute(&mut records)
        .await
        .unwrap();
    let held = place.held_to("holm", "ship=7").await.held_to().unwrap();
    let within = Sight::Within {
        teams: vec!["crew".to_owned()],
        bounds: held,
    };
    // Documents by recipient, and the mails that are counted of each.
    let found = async |sight: &Sight, address, recipient: &str| {
        let filter = ArchiveFilter {
            recipient: (!recipient.is_empty()).then(|| recipient.to_owned()),
            ..ArchiveFilter::default()
        };
        let reader = Reader { sight, address };
        let page = place.archive(&filter, reader, ArchiveOrder::Oldest, 1, 50);
        let page = page.await.unwrap();
        assert_eq!(page.total, page.items.len() as u64);
        let found = page.items.into_iter();
        found
            .map(|one| format!("{} {}", one.file_name, one.sent))
            .collect::<Vec<_>>()
    };
    let both = ["crew.csv 2", "daily.csv 2"];
    for sight in [&Sight::All, &of_crew] {
        for recipient in ["", "else@orrin-sound.example", "orrin-sound", "lead"] {
            assert_eq!(found(sight, None, recipient).await, both, "{recipient}");
        }
    }
    for (recipient, names) in [
        ("", &["crew.csv 1", "daily.csv 2"][..]),
        ("lead@orrin-sound.example", &["crew.csv 1", "daily.csv 2"]),
        ("else@orrin-sound.example", &["daily.csv 2"]),
        ("else", &["daily.csv 2"]),
        ("orrin-sound", &["crew.csv 1", "daily.csv 2"]),
    ] {
        assert_eq!(found(&port, lead, recipient).await, names, "{recipient}");
    }
    // Who is held to values sees no run as a whole, so none of its recipients but themselves.
    for (recipient, names) in [
        ("", &["crew.csv 1", "daily.csv 1"][..]),
        ("lead", &["crew.csv 1", "daily.csv 1"]),
        ("else@orrin-sound.example", &[]),
    ] {
        assert_eq!(found(&within, lead, recipient).await, names, "{recipient}");
    }
    assert_eq!(
        found(&within, None, "").await,
        ["crew.csv 0", "daily.csv 0"]
    );
    assert!(found(&within, None, "lead").await.is_empty());
}

#[tokio::test]
async fn a_long_text_is_found_by_its_beginning_and_a_run_under_way_is_not_read() {
    let place = Place::new().await;
    let (_, long) = place.archived("daily", "", 0, &["a.csv"]).await;
    let text = "first ".to_owned() + &"word ".repeat(100_000) + "last";
    place.keep_text(long, Some(&text)).await.unwrap();
    for (words, count) in [("first", 1), ("last", 0)] {
        let filter = ArchiveFilter {
            words: Some(words.to_owned()),
            ..ArchiveFilter::default()
        };
        let found = place
            .names(&filter, &Sight::All, ArchiveOrder::Newest)
            .await;
        assert_eq!(found.len(), count, "{words}");
    }
    let id = place.new_run("weekly", 1).await;
    let claimed = place
        .claim_run(Uuid::now_v7(), at(10), TimeDelta::seconds(60), &[], None)
        .await;
    let claim = claimed.unwrap().unwrap().claim();
    place
        .keep_snapshot(claim, snapshot(id, b"{}".to_vec()), &Pictures::new(), None)
        .await
        .unwrap();
    assert!(place.unread_snapshots(10).await.unwrap().is_empty());
}
