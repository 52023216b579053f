//! Values that somebody is held to: one rule, in this crate and in the database.

use std::collections::BTreeSet;

use maple_lark_api::Role;
use maple_lark_store::{
    archive::{ArchiveFilter, ArchiveOrder},
    bounds::Chosen,
    people::User,
    pictures::Pictures,
    teams::Sight,
    users::{Changed, UserChange},
};
use serde_json::json;
use uuid::Uuid;

use super::{LEASE, Place, at, document, snapshot};

/// `port=havnes,skarvoy ship=7`, as values.
fn chosen(text: &str) -> Chosen {
    let pairs = text.split_whitespace().map(|pair| {
        let (name, values) = pair.split_once('=').unwrap();
        let values = values.split(',').filter(|value| !value.is_empty());
        (name.to_owned(), values.map(str::to_owned).collect())
    });
    pairs.collect()
}

impl Place {
    /// A run with a document of a snapshot that was asked with these values. Answers with both.
    async fn asked_with(&self, values: Option<&str>) -> (Uuid, Uuid) {
        let owner = Uuid::now_v7();
        // Each is of a report of its own, so that none waits for another.
        let id = self.new_run(&format!("harbours-{owner}"), 0).await;
        let run = self.claim_run(owner, at(10_000), LEASE, &[], None);
        let run = run.await.unwrap();
        let claim = run.unwrap().claim();
        let mut one = snapshot(id, b"{}".to_vec());
        one.chosen = values.map(|values| json!(chosen(values)));
        let snapshot = one.id;
        self.keep_snapshot(claim, one, &Pictures::new(), None)
            .await
            .unwrap();
        let made = document(id, snapshot, "harbours.csv", b"a,b".to_vec());
        let found = made.id;
        self.keep_documents(claim, vec![made], None).await.unwrap();
        // Whatever works on it is done with it.
        let mut records = self.cluster.connect("maple_lark").await.unwrap();
        sqlx::query("update runs set state = 'completed', lease_owner = null, lease_until = null where id = $1")
            .bind(id)
            .execute(&mut records)
            .await
            .unwrap();
        (snapshot, found)
    }

    pub async fn held_to(&self, name: &str, values: &str) -> User {
        if self.user_by_name(name).await.unwrap().is_none() {
            let mut one = User::new(name.to_owned(), Role::Viewer, at(0));
            one.email = Some(format!("{name}@Orrin-Sound.example"));
            assert!(self.add_user(one).await.unwrap());
        }
        let change = UserChange {
            held_to: Some(chosen(values)),
            ..UserChange::default()
        };
        let changed = self.change_user(name, &change, at(1)).await.unwrap();
        assert_eq!(changed, Changed::Done);
        self.user_by_name(name).await.unwrap().unwrap()
    }

    async fn documents_of(&self, sight: &Sight) -> BTreeSet<Uuid> {
        let filter = ArchiveFilter::default();
        let found = self.archive(&filter, sight, ArchiveOrder::Newest, 1, 50);
        let found = found.await.unwrap();
        assert_eq!(found.total, found.items.len() as u64);
        found.items.into_iter().map(|one| one.id).collect()
    }
}

fn sight(user: &User) -> Sight {
    Sight::Within {
        teams: Vec::new(),
        bounds: user.held_to().unwrap(),
    }
}

#[tokio::test]
async fn the_rule_of_the_database_is_the_rule_of_the_program() {
    let place = Place::new().await;
    let all = [
        "",
        "port=",
        "port=havnes",
        "port=skarvoy",
        "port=havnes,skarvoy",
        "port=havnes ship=7",
        "port=HAVNES",
        "ship=7",
        "ship=7,8 port=skarvoy",
        "ship= port=havnes",
    ];
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    let mut seen = 0;
    for held in all.into_iter().filter(|held| !held.is_empty()) {
        let user = place.held_to("office", held).await;
        let bounds = user.held_to().unwrap();
        assert_eq!(bounds.values(), chosen(held));
        for values in all {
            let asked = "select within_bounds($1, $2)";
            let said: bool = sqlx::query_scalar(asked)
                .bind(json!(chosen(values)))
                .bind(json!(chosen(held)))
                .fetch_one(&mut records)
                .await
                .unwrap();
            assert_eq!(bounds.allow(&chosen(values)), said, "{values} by {held}");
            seen += usize::from(said);
        }
    }
    assert!((10..60).contains(&seen), "{seen}");
}

#[tokio::test]
async fn who_is_held_to_values_finds_what_was_asked_with_them_alone() {
    let place = Place::new().await;
    let (havnes, of_havnes) = place.asked_with(Some("port=havnes day=monday")).await;
    let (both, of_both) = place.asked_with(Some("port=havnes,skarvoy")).await;
    let (other, of_other) = place.asked_with(Some("port=skarvoy")).await;
    let (without, of_all) = place.asked_with(Some("ship=7")).await;
    // From before the values were kept.
    let (unknown, of_unknown) = place.asked_with(None).await;
    let everything = BTreeSet::from([of_havnes, of_both, of_other, of_all, of_unknown]);
    assert_eq!(
        place.documents_of(&Sight::Teams(Vec::new())).await,
        everything
    );

    let office = place.held_to("office", "port=havnes").await;
    assert_eq!(
        place.documents_of(&sight(&office)).await,
        BTreeSet::from([of_havnes])
    );
    for (snapshot, expected) in [
        (havnes, true),
        (both, false),
        (other, false),
        (without, false),
        (unknown, false),
    ] {
        let within = place.is_within(snapshot, &sight(&office)).await.unwrap();
        assert_eq!(within, expected);
        assert!(place.is_within(snapshot, &Sight::All).await.unwrap());
    }
    assert!(!place.is_within(Uuid::now_v7(), &Sight::All).await.unwrap());
    let two = place.held_to("office", "port=havnes,skarvoy").await;
    assert_eq!(
        place.documents_of(&sight(&two)).await,
        BTreeSet::from([of_havnes, of_both, of_other])
    );
    // To several parameters: all of them must fit.
    let strict = place
        .held_to("office", "port=havnes day=monday ship=7")
        .await;
    assert!(place.documents_of(&sight(&strict)).await.is_empty());
    // Without names they are held to nothing.
    let free = place.held_to("office", "").await;
    assert_eq!((free.bounds.clone(), free.held_to()), (None, None));
    // What cannot be read lets nothing through.
    let broken = User {
        bounds: Some(json!(["port"])),
        ..free
    };
    assert!(!broken.held_to().unwrap().allow(&chosen("port=havnes")));
    assert!(place.documents_of(&sight(&broken)).await.is_empty());
}

#[tokio::test]
async fn mail_goes_by_the_same_rule() {
    let place = Place::new().await;
    let (havnes, _) = place.asked_with(Some("port=havnes")).await;
    let (skarvoy, _) = place.asked_with(Some("port=skarvoy")).await;
    place.held_to("office", "port=havnes").await;
    let free = User {
        email: Some("free@orrin-sound.example".to_owned()),
        ..User::new("free".to_owned(), Role::Viewer, at(0))
    };
    assert!(place.add_user(free).await.unwrap());
    let mails: Vec<(String, Uuid)> = ["office", "free", "nobody"]
        .iter()
        .flat_map(|name| [havnes, skarvoy].map(|one| (format!("{name}@orrin-sound.example"), one)))
        .collect();
    let held = place.held_to_others(&mails).await.unwrap();
    assert_eq!(
        held,
        BTreeSet::from([("office@orrin-sound.example".to_owned(), skarvoy)])
    );
    assert!(place.held_to_others(&[]).await.unwrap().is_empty());
}

#[test]
fn of_what_can_be_chosen_is_left_what_is_allowed() {
    let mut office = User::new("office".to_owned(), Role::Viewer, at(0));
    office.bounds = Some(json!({ "port": ["havnes", "skarvoy"] }));
    let bounds = office.held_to().unwrap();
    let of = |name: &str, values: &[&str]| {
        let values: Vec<String> = values.iter().map(|value| (*value).to_owned()).collect();
        bounds.among(name, &values)
    };
    assert_eq!(
        of("port", &["orrin", "skarvoy", "havnes"]),
        ["skarvoy", "havnes"]
    );
    assert!(of("port", &["orrin"]).is_empty());
    // Nobody is held to anything in another parameter.
    assert_eq!(of("day", &["monday"]), ["monday"]);
}
