//! Everyone sees their own: random teams, users, values and data. Whatever one user can reach by any
//! operation, view, stream, mail and file is searched for what only others may see.
//!
//! `MAPLE_LARK_WORLDS` says how many worlds are made (one if nothing is said), `MAPLE_LARK_WORLD` which
//! one is made again: the number that a failure tells.

mod walk;
mod worlds;

use futures::{StreamExt, stream};
use maple_lark_data::digest::sha256;
use maple_lark_demo::{MailServer, mail_server::Behaviour};
use maple_lark_fixtures::readable_mail;
use proptest::{
    strategy::{Strategy, ValueTree},
    test_runner::{Config, RngAlgorithm, TestRng, TestRunner},
};
use reqwest::Method;
use serde_json::json;
use tempfile::TempDir;

use super::{Place, teams::User};
use walk::Walk;
use worlds::{Of, PORTS, World, world};

/// What is there to be asked for, and which board it is of.
#[derive(Default)]
struct There {
    /// Runs, snapshots, documents, deliveries and views.
    ids: Vec<(String, usize)>,
    /// Definitions.
    names: Vec<(String, usize)>,
    views: Vec<String>,
    digests: Vec<String>,
}

/// A world that has come into being, with everybody in it.
struct Made<'p> {
    place: &'p Place,
    world: World,
    people: Vec<User<'p>>,
    there: There,
    mail: MailServer,
}

async fn made(place: &Place, world: World, mail: MailServer) -> Made<'_> {
    let admin = place.admin().await;
    place.with_report(&admin.client, &admin.token).await;
    let mut data = place.cluster.connect("plain").await.unwrap();
    let table = "create table birds (board text, port text, word text, n int); grant select on birds to public";
    for statement in table.split("; ") {
        sqlx::query(statement).execute(&mut data).await.unwrap();
    }
    for (place, board) in world.boards.iter().enumerate() {
        for port in world.shown(place) {
            sqlx::query("insert into birds values ($1, $2, $3, $4)")
                .bind(place.to_string())
                .bind(&world.ports[port])
                .bind(&board.rows[port])
                .bind(i32::try_from(port).unwrap() + 3)
                .execute(&mut data)
                .await
                .unwrap();
        }
    }
    for team in &world.teams {
        let order = json!({ "name": team, "title": format!("Team {team}"), "addresses": ["*@orrin-sound.example"] });
        admin.done(Method::POST, "/teams", order).await;
    }
    let mut people = Vec::new();
    for (number, one) in world.people.iter().enumerate() {
        let role = if one.author { "author" } else { "viewer" };
        let name = format!("person{number}");
        let user = place.user(&admin, &name, role, &[]).await;
        for (team, _) in world
            .teams
            .iter()
            .zip(&one.teams)
            .filter(|(_, is_in)| **is_in)
        {
            let path = format!("/teams/{team}/members/{name}");
            admin
                .done(Method::PUT, &path, json!({ "owner": number % 2 == 0 }))
                .await;
        }
        let mut change = json!({ "email": world.mail_of(number) });
        if let Some(held) = &one.held {
            let values = world.ports.iter().zip(held).filter(|(_, may)| **may);
            let values: Vec<&String> = values.map(|(port, _)| port).collect();
            change["held_to"] = json!({ "port": values });
        }
        admin
            .done(Method::PATCH, &format!("/users/{name}"), change)
            .await;
        people.push(user);
    }
    let files = json!({ "files": world.definitions() });
    admin.done(Method::POST, "/definitions/apply", files).await;
    let there = there(&admin, &world).await;
    Made {
        place,
        world,
        people,
        there,
        mail,
    }
}

/// Runs every report, publishes of every board what can be published, and says what there is.
async fn there(admin: &User<'_>, world: &World) -> There {
    let mut there = There::default();
    for (place, board) in world.boards.iter().enumerate() {
        let (word, inner) = (&board.word, &board.inner);
        for name in ["d", "r"] {
            there.names.push((world.name_of(board, word, name), place));
        }
        for name in ["s", "p", "g", "t", "m"] {
            there.names.push((world.name_of(board, inner, name), place));
        }
        let (d, r) = (
            world.name_of(board, word, "d"),
            world.name_of(board, word, "r"),
        );
        let run = admin.ran(&r, true).await;
        let sent = run["deliveries"]
            .as_array()
            .is_some_and(|all| !all.is_empty());
        assert_eq!(sent, !board.broken, "{run:#}");
        let mut ids = vec![run["id"].clone()];
        for list in ["snapshots", "documents", "deliveries"] {
            let all = run[list].as_array().into_iter().flatten();
            ids.extend(all.map(|one| one["id"].clone()));
        }
        let digests = run["documents"].as_array().into_iter().flatten();
        there
            .digests
            .extend(digests.filter_map(|one| one["sha256"].as_str().map(str::to_owned)));
        let mut orders = Vec::new();
        let ports: Vec<&String> = world.shown(place).map(|port| &world.ports[port]).collect();
        for port in &ports {
            orders.push(json!({ "dashboard": d, "signed_in": true, "values": { "port": port } }));
        }
        orders.push(json!({ "dashboard": d, "signed_in": true, "choices": { "port": ports } }));
        for snapshot in run["snapshots"].as_array().into_iter().flatten() {
            orders.push(json!({ "snapshot": snapshot["id"], "signed_in": true }));
        }
        for order in orders {
            let view = admin.done(Method::POST, "/views", order).await;
            ids.push(view["id"].clone());
            there.views.push(view["id"].as_str().unwrap().to_owned());
        }
        let ids = ids
            .iter()
            .map(|id| (id.as_str().unwrap().to_owned(), place));
        there.ids.extend(ids);
    }
    there
}

/// What mails say that their recipients may not see.
fn leaks_by_mail(made: &Made<'_>) -> Vec<String> {
    let mut found = Vec::new();
    let world = &made.world;
    let mails = made.mail.messages();
    let mut of_reports = 0;
    for mail in &mails {
        let text = readable_mail(mail);
        let to = text
            .lines()
            .find_map(|line| line.strip_prefix("X-Envelope-To: "))
            .unwrap()
            .trim()
            .to_owned();
        let to_local = to.split('@').next().unwrap();
        let person = (0..world.people.len()).find(|one| world.mail_of(*one) == to);
        let own = world.words().get(to_local).copied();
        for (word, of) in world.words() {
            let may = match (own, person, of) {
                // Whoever owns a report hears of its trouble.
                (Some(Of::Board(own)), _, Of::Team(team)) => world.boards[own].team == Some(team),
                (Some(Of::Board(own)), _, _) => {
                    matches!(of, Of::Board(board) | Of::Inner(board) if board == own)
                }
                (Some(Of::Address(own, _)), _, Of::Board(board)) => board == own,
                (
                    Some(Of::Address(own, port)),
                    _,
                    Of::Rows(board, shown) | Of::Address(board, shown),
                ) => (own, port) == (board, shown),
                (Some(Of::Address(_, port)), _, Of::Port(shown)) => port == shown,
                // A report's name begins with its team's.
                (Some(Of::Address(board, _)), _, Of::Team(team)) => {
                    world.boards[board].team == Some(team)
                }
                (None, Some(person), Of::Team(team)) => {
                    let of_team = |board: &usize| world.boards[*board].team == Some(team);
                    let mut boards = (0..world.boards.len()).filter(of_team);
                    boards.any(|board| (0..PORTS).any(|port| world.gets(person, board, port)))
                }
                (None, Some(person), Of::Board(board)) => {
                    (0..PORTS).any(|port| world.gets(person, board, port))
                }
                (None, Some(person), Of::Rows(board, port)) => world.gets(person, board, port),
                (None, Some(person), Of::Port(port)) => {
                    (0..world.boards.len()).any(|board| world.gets(person, board, port))
                }
                _ => false,
            };
            of_reports += usize::from(matches!(of, Of::Rows(..)) && text.contains(word));
            if text.contains(word) && !may {
                found.push(format!("a mail to {to}: {of:?} {word}"));
            }
        }
    }
    let sent: usize = (0..world.boards.len())
        .filter(|board| !world.boards[*board].broken)
        .map(|board| world.shown(board).count())
        .sum();
    assert!(
        of_reports >= sent,
        "{of_reports} of {sent} in {} mails",
        mails.len()
    );
    found
}

/// So many of them look around at the same time.
const AT_ONCE: usize = 3;

/// What one of them finds that is not theirs.
async fn walked(made: &Made<'_>, person: usize, number: &str) -> Vec<String> {
    let mut walk = Walk::new(made, person);
    walk.every_question().await;
    walk.every_operation().await;
    walk.every_text().await;
    assert!(walk.asked > 1_000, "{}", walk.asked);
    let missing = walk.missing();
    assert!(
        missing.is_empty(),
        "world {number}: {:?} does not find {missing:?}",
        made.world.people[person]
    );
    let found = walk.found.iter();
    found.map(|one| format!("person{person}: {one}")).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn everyone_sees_their_own_and_nothing_of_others() {
    let again = std::env::var("MAPLE_LARK_WORLD").ok();
    let count = std::env::var("MAPLE_LARK_WORLDS").map_or(1, |count| count.parse().unwrap());
    for _ in 0..count {
        let number = again
            .clone()
            .unwrap_or_else(|| hex::encode(uuid::Uuid::new_v4()));
        // Told beside whatever fails.
        eprintln!("world {number}");
        let rng = TestRng::from_seed(
            RngAlgorithm::ChaCha,
            &sha256(number.as_bytes()).as_bytes()[..32],
        );
        let mut runner = TestRunner::new_with_rng(Config::default(), rng);
        let drawn = world().new_tree(&mut runner).unwrap().current();
        let folder = TempDir::new().unwrap();
        let mail = MailServer::start(
            "127.0.0.1:0",
            folder.path().to_owned(),
            Behaviour::default(),
        )
        .await
        .unwrap();
        let port = mail.address.port();
        let place = Place::with(&format!("[mail]\nhost = \"127.0.0.1\"\nport = {port}\ntls = \"off\"\nfrom = \"reports@orrin-sound.example\""), &[]).await;
        let made = made(&place, drawn, mail).await;
        let all = stream::iter(0..made.people.len()).map(|person| walked(&made, person, &number));
        let found: Vec<Vec<String>> = all.buffered(AT_ONCE).collect().await;
        let mut found = found.concat();
        found.extend(leaks_by_mail(&made));
        assert!(
            found.is_empty(),
            "world {number}: {} leaks:\n{}\nto {:?}",
            found.len(),
            found[..found.len().min(20)].join("\n"),
            made.world.people
        );
    }
}
