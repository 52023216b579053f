//! Users who sign in by the organisation's directory or its identity provider.

use maple_lark_api::{Role, SignsInBy, TokenScope};
use maple_lark_store::{
    directory::{DirectoryUser, Entered},
    people::{ApiToken, Session, User},
    users::UserChange,
};
use uuid::Uuid;

use super::{Place, at};

fn runa(role: Role, teams: &[&str]) -> DirectoryUser {
    DirectoryUser {
        name: "runa".to_owned(),
        entry: "uid=runa,ou=people".to_owned(),
        email: Some("runa@orrin-sound.example".to_owned()),
        role,
        teams: teams.iter().map(|team| (*team).to_owned()).collect(),
    }
}

impl Place {
    async fn enters(&self, person: &DirectoryUser) -> Entered {
        let led_to = ["harbour".to_owned(), "night".to_owned()];
        let entered = self.enter_from_directory(person, &led_to, at(1)).await;
        entered.unwrap()
    }

    async fn in_teams(&self, user: Uuid) -> Vec<(String, bool)> {
        self.teams_of(user).await.unwrap()
    }
}

fn user(entered: Entered) -> User {
    match entered {
        Entered::User(user) => *user,
        other => panic!("{other:?}"),
    }
}

#[tokio::test]
async fn who_enters_is_one_user_and_follows_the_directory() {
    let place = Place::new().await;
    for team in ["harbour", "night", "own"] {
        place.add_team(team, team, &[], at(0)).await.unwrap();
    }
    let first = user(place.enters(&runa(Role::Viewer, &["harbour"])).await);
    assert_eq!(*first.role, Role::Viewer);
    assert_eq!(
        place.in_teams(first.id).await,
        [("harbour".to_owned(), false)]
    );
    // What was decided here stays: that she owns a team, and that she is in one no group leads to.
    place.put_member("harbour", "runa", true).await.unwrap();
    place.put_member("own", "runa", false).await.unwrap();
    let again = user(
        place
            .enters(&runa(Role::Author, &["harbour", "night"]))
            .await,
    );
    assert_eq!((again.id, *again.role), (first.id, Role::Author));
    let mine = |team: &str, owner| (team.to_owned(), owner);
    assert_eq!(
        place.in_teams(first.id).await,
        [
            mine("harbour", true),
            mine("night", false),
            mine("own", false)
        ]
    );
    user(place.enters(&runa(Role::Author, &["night"])).await);
    assert_eq!(
        place.in_teams(first.id).await,
        [mine("night", false), mine("own", false)]
    );
    assert_eq!(place.user_count().await.unwrap(), 1);
}

#[tokio::test]
async fn nobody_of_the_directory_takes_the_name_of_somebody_here() {
    let place = Place::new().await;
    let own = User {
        password_hash: "hash".into(),
        ..User::new("runa".into(), Role::Viewer, at(0))
    };
    place.add_user(own.clone()).await.unwrap();
    let entered = place.enters(&runa(Role::Administrator, &[])).await;
    assert_eq!(entered, Entered::NameTaken);
    assert_eq!(place.user_by_name("runa").await.unwrap(), Some(own));
}

#[tokio::test]
async fn who_has_left_is_out_at_once_and_may_come_back() {
    let place = Place::new().await;
    let one = user(place.enters(&runa(Role::Author, &[])).await);
    let session = Session {
        token_hash: "session".into(),
        user_id: one.id,
        created_at: at(1),
        expires_at: at(10_000),
        id: Uuid::now_v7(),
        address: None,
        used_with: None,
    };
    place.add_session(session).await.unwrap();
    let token = ApiToken {
        id: Uuid::now_v7(),
        user_id: one.id,
        name: "desk".into(),
        token_hash: "token".into(),
        created_at: at(1),
        last_used_at: None,
        scope: TokenScope::All.into(),
        expires_at: None,
    };
    place.add_token(token).await.unwrap();
    assert!(
        place
            .user_of_session("session", at(2))
            .await
            .unwrap()
            .is_some()
    );
    assert_eq!(place.directory_users().await.unwrap().len(), 1);
    assert!(place.leave_directory(one.id, at(3)).await.unwrap());
    assert!(!place.leave_directory(one.id, at(4)).await.unwrap(), "once");
    assert!(
        place
            .user_of_session("session", at(5))
            .await
            .unwrap()
            .is_none()
    );
    assert!(place.user_of_token("token", at(5)).await.unwrap().is_none());
    assert!(place.directory_users().await.unwrap().is_empty());
    let left = place.user_by_name("runa").await.unwrap().unwrap();
    assert_eq!(left.directory_left_at, Some(at(3)));
    let back = user(place.enters(&runa(Role::Author, &[])).await);
    assert_eq!((back.id, back.directory_left_at), (one.id, None));
}

#[tokio::test]
async fn who_is_disabled_here_stays_so_whatever_the_directory_says() {
    let place = Place::new().await;
    user(place.enters(&runa(Role::Author, &[])).await);
    let disable = UserChange {
        disabled: Some(true),
        ..UserChange::default()
    };
    place.change_user("runa", &disable, at(2)).await.unwrap();
    let entered = place.enters(&runa(Role::Author, &[])).await;
    assert_eq!(entered, Entered::Disabled);
}

fn known(name: &str, subject: &str) -> DirectoryUser {
    DirectoryUser {
        name: name.to_owned(),
        entry: subject.to_owned(),
        ..runa(Role::Viewer, &["harbour"])
    }
}

impl Place {
    async fn comes(&self, person: &DirectoryUser, grant: &[u8], minute: i64) -> Entered {
        let led_to = ["harbour".to_owned()];
        let grant = Some(grant.to_vec());
        let entered = self.enter_from_provider(person, &led_to, grant, at(minute));
        entered.await.unwrap()
    }
}

#[tokio::test]
async fn who_comes_by_the_provider_is_who_it_says_whatever_their_name() {
    let place = Place::new().await;
    place
        .add_team("harbour", "harbour", &[], at(0))
        .await
        .unwrap();
    let first = user(place.comes(&known("runa", "id 7"), b"one", 1).await);
    assert_eq!(first.signs_in_by(), SignsInBy::Provider);
    assert_eq!(place.in_teams(first.id).await.len(), 1);
    // She is called otherwise now, and is the same.
    let married = user(place.comes(&known("runa.bui", "id 7"), b"two", 2).await);
    assert_eq!((married.id, married.name.as_str()), (first.id, "runa"));
    assert_eq!(married.provider_grant.as_deref(), Some(&b"two"[..]));
    // Another of her name is not her; nor is who has a password here, or comes by the directory.
    let taken = place.comes(&known("runa", "id 8"), b"three", 3).await;
    assert_eq!(taken, Entered::NameTaken);
    assert_eq!(
        place.enters(&runa(Role::Administrator, &[])).await,
        Entered::NameTaken
    );
    let own = User::new("bui".to_owned(), Role::Author, at(0));
    assert!(place.add_user(own).await.unwrap());
    let taken = place.comes(&known("bui", "id 9"), b"four", 3).await;
    assert_eq!(taken, Entered::NameTaken);
    let stays = place.user_by_name("runa").await.unwrap().unwrap();
    assert_eq!(
        (*stays.role, stays.provider_grant),
        (Role::Viewer, married.provider_grant)
    );
}

#[tokio::test]
async fn each_user_of_the_provider_is_looked_at_by_one_alone() {
    let place = Place::new().await;
    let runa = user(place.comes(&known("runa", "id 7"), b"one", 1).await);
    let bui = user(place.comes(&known("bui", "id 8"), b"two", 2).await);
    place
        .enter_from_provider(&known("ebba", "id 9"), &[], None, at(1))
        .await
        .unwrap();
    let take = async |since, now| {
        let taken = place.take_provider_user(at(since), at(now)).await.unwrap();
        taken.map(|user| user.id)
    };
    // Nobody was looked at longer ago than the first minute.
    assert_eq!(take(1, 10).await, None);
    assert_eq!(take(5, 10).await, Some(runa.id));
    assert_eq!(take(5, 10).await, Some(bui.id));
    // Without a grant nobody can be looked at.
    assert_eq!(take(5, 10).await, None);
    assert!(place.leave_directory(runa.id, at(11)).await.unwrap());
    assert!(!place.leave_directory(runa.id, at(12)).await.unwrap());
    let left = place.user_by_name("runa").await.unwrap().unwrap();
    assert_eq!(
        (left.directory_left_at, left.provider_grant),
        (Some(at(11)), None)
    );
    assert_eq!(take(20, 21).await, Some(bui.id));
    assert_eq!(take(20, 21).await, None);
    // Whoever is let in again is back as they were.
    let back = user(place.comes(&known("runa", "id 7"), b"five", 30).await);
    assert_eq!((back.id, back.directory_left_at), (runa.id, None));
}
