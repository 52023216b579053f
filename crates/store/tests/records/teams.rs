//! What belongs to a team is seen by whoever is in it, and is not there for others.

use maple_lark_api::{NoticeKind, Role, RunState};
use maple_lark_store::{
    people::User,
    pictures::Pictures,
    runs::RunFilter,
    teams::{Sight, TeamChange},
    users::Changed,
};
use uuid::Uuid;

use super::{LEASE, Place, at, document, run, snapshot};

fn user(name: &str) -> User {
    User {
        password_hash: "hash".into(),
        ..User::new(name.into(), Role::Author, at(0))
    }
}

fn of(teams: &[&str]) -> Sight {
    Sight::Teams(teams.iter().map(|team| (*team).to_owned()).collect())
}

impl Place {
    async fn run_of(&self, report: &str, team: &str, seconds: i64) -> Uuid {
        let mut new = run(Uuid::now_v7(), report, seconds);
        new.team = team.to_owned();
        self.add_run(&new).await.unwrap();
        new.id
    }
}

#[tokio::test]
async fn users_are_in_teams_until_they_are_taken_out_or_removed() {
    let place = Place::new().await;
    let (ann, bo) = (user("ann"), user("bo"));
    for one in [&ann, &bo] {
        place.add_user(one.clone()).await.unwrap();
    }
    let patterns = ["*@port.example".to_owned()];
    assert!(
        place
            .add_team("port", "Port", &patterns, at(0))
            .await
            .unwrap()
    );
    assert!(!place.add_team("port", "Other", &[], at(1)).await.unwrap());
    assert!(place.add_team("crew", "Crew", &[], at(1)).await.unwrap());
    assert!(place.put_member("port", "ann", false).await.unwrap());
    assert!(place.put_member("crew", "ann", false).await.unwrap());
    assert!(place.put_member("port", "bo", false).await.unwrap());
    assert!(
        place.put_member("port", "bo", true).await.unwrap(),
        "now as an owner"
    );
    assert!(!place.put_member("port", "nobody", false).await.unwrap());
    assert!(!place.put_member("none", "ann", false).await.unwrap());
    let teams = place.teams_of(ann.id).await.unwrap();
    assert_eq!(
        teams,
        [("crew".to_owned(), false), ("port".to_owned(), false)]
    );
    assert_eq!(
        place.teams_of(bo.id).await.unwrap(),
        [("port".to_owned(), true)]
    );
    let (_, now) = place.user_now(ann.id).await.unwrap().unwrap();
    assert_eq!(now.len(), 2);
    let change = TeamChange {
        title: Some("Port operations".to_owned()),
        addresses: None,
    };
    assert!(place.change_team("port", &change).await.unwrap());
    let port = place.team("port").await.unwrap().unwrap();
    assert_eq!((port.title.as_str(), port.members), ("Port operations", 2));
    assert_eq!(port.addresses, patterns, "what is not named stays");
    assert!(!place.change_team("none", &change).await.unwrap());

    assert!(place.remove_member("port", "ann").await.unwrap());
    assert!(!place.remove_member("port", "ann").await.unwrap());
    assert_eq!(place.remove_user("bo").await.unwrap(), Changed::Done);
    assert_eq!(place.team("port").await.unwrap().unwrap().members, 0);
    assert!(place.remove_team("crew").await.unwrap());
    assert!(!place.remove_team("crew").await.unwrap());
    assert!(place.teams_of(ann.id).await.unwrap().is_empty());
    assert!(place.user_now(bo.id).await.unwrap().is_none());
}

#[tokio::test]
async fn runs_of_others_are_neither_listed_nor_counted() {
    let place = Place::new().await;
    for (n, team) in ["", "port", "crew", "port", ""].into_iter().enumerate() {
        place.run_of("daily", team, n as i64 * 100).await;
    }
    let seen = async |sight: Sight, size: u64, page: u64| {
        let filter = RunFilter {
            report: None,
            state: None,
            sight,
        };
        let found = place.runs(&filter, page, size).await.unwrap();
        let instants: Vec<i64> = found
            .items
            .iter()
            .map(|run| (run.created_at - at(0)).num_seconds())
            .collect();
        (found.total, instants)
    };
    assert_eq!(
        seen(Sight::All, 10, 1).await,
        (5, vec![400, 300, 200, 100, 0])
    );
    assert_eq!(seen(of(&[]), 10, 1).await, (2, vec![400, 0]));
    assert_eq!(
        seen(of(&["port"]), 10, 1).await,
        (4, vec![400, 300, 100, 0])
    );
    assert_eq!(seen(of(&["crew", "port"]), 2, 2).await, (5, vec![200, 100]));
    assert_eq!(seen(of(&["none"]), 1, 2).await, (2, vec![0]));
    let days = [at(-1), at(86_400)];
    for (sight, count) in [(Sight::All, 5), (of(&[]), 2), (of(&["crew"]), 3)] {
        let found = place.run_days(Some("daily"), &days, &sight).await.unwrap();
        assert_eq!(found.iter().map(|day| day.count).sum::<i64>(), count);
        let outcomes = place.outcomes_since(at(-1), &sight).await.unwrap();
        assert_eq!(outcomes, [(RunState::Due, count)]);
        let counts = place.counts(&sight).await.unwrap();
        assert_eq!(counts, [("run".to_owned(), "due".to_owned(), count)]);
    }
    // What has gathered in the list of changes is added up, each team for itself.
    place.fold_counts().await.unwrap();
    assert_eq!(seen(of(&["port"]), 10, 1).await.0, 4);
}

#[tokio::test]
async fn what_comes_of_a_run_belongs_to_its_team() {
    let place = Place::new().await;
    // A name may have been another team's before.
    let theirs = place.run_of("daily", "crew", 0).await;
    let claimed = place
        .claim_run(Uuid::now_v7(), at(10), LEASE, &[], None)
        .await;
    let claim = claimed.unwrap().unwrap().claim();
    let kept = snapshot(theirs, b"secret".to_vec());
    place
        .keep_snapshot(claim, kept.clone(), &Pictures::new(), None)
        .await
        .unwrap();
    place
        .keep_documents(
            claim,
            vec![document(theirs, kept.id, "a.csv", b"x".to_vec())],
            None,
        )
        .await
        .unwrap();
    place
        .judge_snapshot(claim, kept.id, "critical", None)
        .await
        .unwrap();
    let now = (at(1000), at(1000));
    for (n, (team, found)) in [("crew", 1), ("port", 0), ("", 0)].into_iter().enumerate() {
        let before = place.snapshots_before(("daily", team), "k", now, 10).await;
        assert_eq!(before.unwrap().len(), found, "{team}");
        let later = place.run_of("daily", team, 500 + n as i64).await;
        let later = place.run(later).await.unwrap().unwrap();
        let status = place.status_before(&later, "k").await.unwrap();
        assert_eq!(status.is_some(), found == 1, "{team}");
    }
    for (sight, sees) in [
        (Sight::All, true),
        (of(&["crew"]), true),
        (of(&["port"]), false),
    ] {
        let document = place.document_with("of a.csv", &sight).await.unwrap();
        assert_eq!(document.is_some(), sees, "{sight:?}");
        assert_eq!(sight.sees("crew"), sees);
        assert!(sight.sees(""));
    }
    for (run, subject) in [(Some(theirs), "daily"), (None, "source")] {
        let kind = NoticeKind::Failed;
        place
            .add_notice(kind, subject, run, &[], "text", at(20))
            .await
            .unwrap();
    }
    let told = async |sight| place.notices(10, &sight).await.unwrap().len();
    assert_eq!(told(Sight::All).await, 2);
    assert_eq!(told(of(&["crew"])).await, 2);
    assert_eq!(told(of(&["port"])).await, 1);
}

/// A report's name may have been another team's before: its runs are not counted for this one.
#[tokio::test]
async fn runs_of_a_report_are_counted_for_those_who_see_them() {
    let place = Place::new().await;
    for (report, team, seconds) in [
        ("daily", "port", 0),
        ("daily", "port", 60),
        ("daily", "crew", 120),
        ("weekly", "", 180),
    ] {
        place.run_of(report, team, seconds).await;
    }
    let names = ["daily", "weekly", "never"].map(str::to_owned);
    let counted = async |sight: Sight| {
        let counts = place.runs_of_each(&names, &sight).await.unwrap();
        names
            .clone()
            .map(|name| counts.get(&name).copied().unwrap_or_default())
    };
    assert_eq!(counted(Sight::All).await, [3, 1, 0]);
    assert_eq!(counted(of(&["port"])).await, [2, 1, 0]);
    assert_eq!(counted(of(&["crew"])).await, [1, 1, 0]);
    // Counts that were folded together are the same.
    place.fold_counts().await.unwrap();
    assert_eq!(counted(of(&["port"])).await, [2, 1, 0]);
}
