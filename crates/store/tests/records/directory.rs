//! Users who sign in by the organisation's directory.

use maple_lark_api::{Role, TokenScope};
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
        Entered::User(user) => user,
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
        id: Uuid::now_v7(),
        name: "runa".into(),
        password_hash: "hash".into(),
        role: Role::Viewer.into(),
        created_at: at(0),
        email: None,
        disabled_at: None,
        second_factor: None,
        second_factor_at: None,
        directory_entry: None,
        directory_left_at: None,
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
